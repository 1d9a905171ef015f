"""What a shell offers behind a word that is begun: commands, options, and the names of a project.

Names are taken from vetrin.toml, the store on this machine and what the last runs moved: nothing is connected to.
"""

from __future__ import annotations

import argparse
import os
import shlex
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from ..config import Project, find_project, load_project
from ..jobs import PARTS, Journals
from .parser import COMMANDS, PROJECT_VARIABLE, build_parser, command_at, command_parser

Names = Callable[[Project], Iterable[str]]


def complete() -> None:
    """Answer the shell that asks, and end."""
    # Loaded only where a shell asks.
    import argcomplete

    try:
        words = shlex.split(os.environ.get("COMP_LINE", ""))[1:]
    except ValueError:  # a quote that is still open
        words = os.environ.get("COMP_LINE", "").split()[1:]
    at = command_at(words)
    name = words[at] if at is not None and words[at] in COMMANDS else None
    parser = build_parser((name,) if name else ())
    if name:
        for action in command_parser(parser, name)._actions:
            names = _NAMES.get(str(action.metavar))
            if names is not None:
                action.completer = _Completer(names)  # type: ignore[attr-defined]
    argcomplete.autocomplete(parser, always_complete_options=False)


class _Completer:
    """Names of the project that is meant; of a list with commas, the last one is completed."""

    def __init__(self, names: Names) -> None:
        self._names = names

    def __call__(self, prefix: str, parsed_args: argparse.Namespace, **_: Any) -> list[str]:
        try:
            given = getattr(parsed_args, "project", None) or os.environ.get(PROJECT_VARIABLE)
            folder = Path(given) if given else find_project(Path.cwd())
            known = list(self._names(load_project(folder)))
        except Exception:  # a shell's line is no place for errors
            return []
        before, comma = prefix.rpartition(",")[:2]
        return [before + comma + one for one in known]


def _environments(project: Project) -> Iterable[str]:
    return project.environments


def _routes(project: Project) -> Iterable[str]:
    return project.routes


def _tables(project: Project) -> Iterable[str]:
    """The tables that the last runs moved."""
    found: dict[str, None] = {}
    for run in list(Journals(project.state).runs())[-20:]:
        found.update(dict.fromkeys(run.report.get("tables", {})))
    return found


def _kinds(project: Project) -> Iterable[str]:
    return dict.fromkeys(rule.name for rule in project.definition.rows)


def _snapshots(project: Project) -> Iterable[str]:
    """The snapshots of a store on this machine that has no passphrase."""
    # Loaded only where snapshots are asked for.
    from ..store import FolderBackend, Store

    folder = Path(project.store.place or project.state / "store").expanduser()
    known = [item for item in Store(FolderBackend(folder)).snapshots() if item.is_backup]
    return ["newest", *(item.id for item in known), *(item.label for item in known if item.label)]


def _either(project: Project) -> Iterable[str]:
    return [*_environments(project), *_snapshots(project)]


def _settings(project: Project) -> Iterable[str]:
    return project.definition.named


def _parts(project: Project) -> Iterable[str]:
    return PARTS


# By the metavar of an argument or option.
_NAMES: dict[str, Names] = {
    "ENV": _environments, "[ENV] [SNAPSHOT]": _either,
    "FROM": _environments, "TO": _environments, "A": _environments, "B": _either,
    "NAME": _environments, "ROUTE": _routes, "SNAPSHOT": _snapshots, "PART,…": _parts, "TABLE,…": _tables,
    "KIND,…": _kinds, "NAME,…": _settings,
}  # fmt: skip
