"""[build]: how the code that is pushed comes about, and what must hold before it goes anywhere."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from msgspec import Struct

from ..errors import ProjectError
from .known_names import known_keys


class Command(Struct, frozen=True):
    """A line for the shell, and the folder it runs in, relative to the project's."""

    line: str
    folder: str = "."


class BuildRule(Struct, frozen=True):
    """``commands`` are run in their order; ``produces`` are paths in the root of the environment that
    is built, which must be there afterwards; each of ``checks`` must end with code 0."""

    commands: tuple[Command, ...] = ()
    produces: tuple[str, ...] = ()
    checks: tuple[Command, ...] = ()

    def __bool__(self) -> bool:
        return bool(self.commands or self.produces or self.checks)


def read_build(data: object) -> BuildRule:
    """Raises ProjectError where it is not well formed."""
    if not isinstance(data, Mapping):
        raise ProjectError("[build]: write it as a table")
    known_keys(data, ("folder", "commands", "produces", "checks"), "[build]")
    folder = data.get("folder", ".")
    if not isinstance(folder, str) or not folder:
        raise ProjectError("[build] folder: write the path of a folder")
    produces = data.get("produces", [])
    if not isinstance(produces, list) or not all(isinstance(p, str) and p for p in produces):
        raise ProjectError("[build] produces: write a list of paths in the site's root")
    return BuildRule(
        _commands(data, "commands", folder),
        tuple(path.strip("/") for path in produces),
        _commands(data, "checks", folder),
    )


def _commands(data: Mapping[str, Any], key: str, folder: str) -> tuple[Command, ...]:
    items = data.get(key, [])
    if not isinstance(items, list):
        raise ProjectError(f"[build] {key}: write a list of commands")
    found = []
    for item in items:
        if isinstance(item, str) and item.strip():
            found.append(Command(item, folder))
            continue
        if not isinstance(item, Mapping) or not isinstance(item.get("run"), str):
            raise ProjectError(
                f'[build] {key}: write each as a text, or as {{ run = "…", folder = "…" }}'
            )
        known_keys(item, ("run", "folder"), f"[build] {key}")
        found.append(Command(item["run"], str(item.get("folder", folder))))
    return tuple(found)
