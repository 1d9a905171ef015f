"""Making a build: the project's own commands are run, its checks must pass, the result is kept."""

from __future__ import annotations

import os
import subprocess
from collections import deque
from collections.abc import Callable, Sequence
from pathlib import Path

from ..config import BuildRule, Command, Environment, Project
from ..errors import JobError, ProjectError
from ..files import Patterns, Terms, selection, some_of
from ..site import Site, file_scope, lies_loose, stays_with
from ..store import Build, Builds, Commit, commit_of
from .plan import Part

_SHOWN = 15  # lines of a failing command


def run_build(
    project: Project, root: Path, say: Callable[[str], None], show: Callable[[str], None]
) -> None:
    """Run the commands and checks of [build]; ``say`` hears of each, ``show`` gets their output.

    Raises:
        JobError: a command failed, or did not produce what it should.
    """
    rule: BuildRule = project.build
    for command in rule.commands:
        say(f"build: {command.line}")
        _run(project, command, "the build", show)
    for path in rule.produces:
        place = root / path
        if not place.exists() or (place.is_dir() and not any(place.iterdir())):
            raise JobError(
                f"the build did not produce {path}",
                f"[build] produces expects it in {root}; nothing was sent",
            )
    for command in rule.checks:
        say(f"check: {command.line}")
        _run(project, command, "a check of the build", show)


def _run(project: Project, command: Command, what: str, show: Callable[[str], None]) -> None:
    folder = project.folder / command.folder
    if not folder.is_dir():
        raise ProjectError(f"[build]: there is no folder {folder} to run {command.line!r} in")
    last: deque[str] = deque(maxlen=_SHOWN)
    # What passwords Vetrin was given are no business of anything else.
    environment = {name: text for name, text in os.environ.items() if not _secret(name)}
    with subprocess.Popen(
        command.line,
        shell=True,
        cwd=folder,
        env=environment,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
    ) as process:
        assert process.stdout is not None
        for line in process.stdout:
            text = line.decode("utf-8", "replace").rstrip("\r\n")
            last.append(text)
            show(text)
    if process.returncode:
        said = "".join(f"\n    {line}" for line in last)
        raise JobError(
            f"{what} failed: {command.line!r} ended with {process.returncode}{said}",
            "mend it and push again; nothing was sent",
        )


def _secret(name: str) -> bool:
    return name.startswith("VETRIN_") and name.endswith("_PASSWORD")


def _commit(site: Site, aside: Sequence[str]) -> Commit | None:
    return commit_of(site.environment.root, aside) if site.remote_host is None else None


def make_build(
    project: Project,
    site: Site,
    parts: Sequence[Part],
    builds: Builds,
    everywhere: Sequence[Environment],
    say: Callable[[str], None] = lambda text: None,
) -> Build:
    """Keep the files of ``parts`` of an environment as a build; ``say`` hears what does not go into it by itself.

    Raises:
        FilesError, StoreError: something could not be read or kept.
    """
    scope = file_scope(site, site, parts, everywhere)
    try:
        leave = Patterns(project.leave.files)
    except ValueError as error:
        raise ProjectError(f"leave files: {error}") from error
    terms = Terms(skip=scope.skip, leave=leave, loose=lambda path: lies_loose(site, path),
                  withheld=stays_with(site))  # fmt: skip
    entries, passed = selection(site.files, scope.folders, terms)
    for reason in dict.fromkeys(passed.values()):
        say(
            f"left out by itself: {reason} ({some_of([p for p, why in passed.items() if why == reason])})"
        )
    return builds.keep(
        site, entries, parts, commit=_commit(site, sorted(scope.skip[0])), passed=passed
    )
