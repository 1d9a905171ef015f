"""What several commands need: the project, its environments, and a few ways of showing them."""

from __future__ import annotations

import argparse
from datetime import datetime
from pathlib import Path

from ..cms import SiteConfiguration
from ..config import Environment, Project, find_project, load_project
from ..errors import ProjectError
from ..jobs import Journals, Run, half_switched
from ..site import Site, open_site
from .console import Out
from .parser import COMMON, COMMON_WITH_VALUE


def project_of(args: argparse.Namespace) -> Project:
    """The project that --project names, or the nearest one at or above the current folder."""
    if args.project:
        return load_project(Path(args.project))
    return load_project(find_project(Path.cwd()))


_WITH_VALUE = (*COMMON_WITH_VALUE, "--confirm")
_OF_ONE_CALL = (*COMMON, "--yes", "--confirm")


def words_of(args: argparse.Namespace) -> list[str]:
    """The words that a command was given with, as they are put on record to go on with."""
    found: list[str] = []
    words = iter(getattr(args, "words", ()))
    for word in words:
        option = word.partition("=")[0]
        if option not in _OF_ONE_CALL:
            found.append(word)
        elif option in _WITH_VALUE and option == word:
            next(words, None)
    return found


def opened(out: Out, project: Project, environment: Environment) -> Site:
    """An environment to look at; where a run was stopped in its switch, that is told.

    Raises:
        ReachError, DatabaseUnreachable: as ``open_site``.
    """
    site = open_site(out.hosts, project, environment)
    tell_if_half(out, site)
    return site


def open_to_write(
    out: Out,
    project: Project,
    environment: Environment,
    *,
    like: SiteConfiguration | None = None,
    anyway: bool = False,
    data: bool = True,
    source: Environment | None = None,
) -> Site:
    """An environment to write to.

    Raises:
        ReachError, DatabaseUnreachable, Protected: as ``open_site``.
    """
    site = open_site(
        out.hosts, project, environment,
        read_only=False, like=like, anyway=anyway, data=data, source=source,
    )  # fmt: skip
    site.takes_over = out.takes_over
    return site


def tell_if_half(out: Out, site: Site) -> None:
    """Say so where an environment is half old and half new."""
    problem = half_switched(site)
    if problem:
        name = site.environment.name
        out.half_switched.append(name)
        out.warn(problem)
        out.say(f"  → vetrin resume {name} finishes the switch, vetrin undo {name} takes it back")


def journals_of(project: Project) -> Journals:
    return Journals(project.state)


def target_of(project: Project, name: str | None) -> Environment:
    """The environment to write to: the named one, else the only local one.

    Raises:
        ProjectError: there is none, or more than one that could be meant.
    """
    if name is not None:
        return project.environment(name)
    local = [e for e in project.environments.values() if e.role == "local"]
    if len(local) == 1:
        return local[0]
    raise ProjectError(
        "which environment is to be written to? Say --to with one of "
        + ", ".join(project.environments)
    )


def source_of(project: Project, name: str | None, target: Environment) -> Environment:
    """The environment to read from: the named one, else production."""
    if name is not None:
        found = project.environment(name)
    else:
        production = [e for e in project.environments.values() if e.role == "production"]
        if len(production) != 1:
            raise ProjectError(
                "which environment is to be read? Name one of " + ", ".join(project.environments)
            )
        found = production[0]
    if found.name == target.name:
        raise ProjectError(f"{found.name} cannot be pulled into itself; name two environments")
    return found


def ago(moment: str) -> str:
    """A time of the journal for a person: “5 minutes ago”, “3 days ago”."""
    try:
        seconds = (datetime.now().astimezone() - datetime.fromisoformat(moment)).total_seconds()
    except ValueError:
        return moment
    for length, name in ((86400, "day"), (3600, "hour"), (60, "minute")):
        count = int(seconds // length)
        if count:
            return f"{count} {name}{'s' if count != 1 else ''} ago"
    return "just now"


def moment(text: str) -> str:
    """A time of the journal as a person writes it: “3 Nov 09:12”, with the year where it is another one."""
    try:
        found = datetime.fromisoformat(text).astimezone()
    except ValueError:
        return text
    year = "" if found.year == datetime.now().year else f" {found.year}"
    return f"{found.day} {found:%b}{year} {found:%H:%M}"


def last_transfer(run: Run | None) -> str:
    return "none yet" if run is None else f"from {run.source}, {ago(run.ended)}"
