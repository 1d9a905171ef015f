"""Writing into vetrin.toml what was composed on the command line; all else in it stays as it is."""

from __future__ import annotations

import re
from typing import Any

import tomlkit
from msgspec.structs import asdict
from tomlkit.exceptions import TOMLKitError

from ..atomic import write_whole
from ..errors import ProjectError
from .project import FILE_NAME, Project, parse_project
from .selection import Arrival, Keep, Leave, Route
from .template import EnvironmentDraft, environment_lines

_NAME = re.compile(r"[a-z0-9][a-z0-9-]*$")


def save_route(project: Project, route: Route) -> None:
    """Add a route to vetrin.toml, or write it anew, in one atomic rename.

    Raises:
        ProjectError: the name is not fit, or the file cannot be written.
    """
    if not _NAME.match(route.name):
        raise ProjectError(
            f"{route.name!r}: a route's name is made of lower-case letters, digits and dashes"
        )
    path = project.folder / FILE_NAME
    try:
        document: Any = tomlkit.parse(path.read_text(encoding="utf-8-sig"))
        routes = document.setdefault("route", tomlkit.table(is_super_table=True))
        routes[route.name] = _table(route)
        write_whole(path, tomlkit.dumps(document).encode(), path.stat().st_mode & 0o777)
    except (OSError, TOMLKitError) as error:
        raise ProjectError(f"{path} could not be written: {error}") from error


def set_relay(project: Project, name: str, url: str) -> None:
    """Write the address of its relay into an environment of vetrin.toml.

    Raises:
        ProjectError: it would make no sense there, or the file cannot be written.
    """
    path = project.folder / FILE_NAME
    try:
        document: Any = tomlkit.parse(path.read_text(encoding="utf-8-sig"))
        table = document["environment"][name]
        if "relay" not in table and "root" in table:
            del table["root"]  # it was a folder here, or is one that the relay knows
        table["relay"] = url
        text = tomlkit.dumps(document)
        parse_project(text, project.folder)
        write_whole(path, text.encode(), path.stat().st_mode & 0o777)
    except (OSError, TOMLKitError) as error:
        raise ProjectError(f"{path} could not be written: {error}") from error


def add_environment(project: Project, draft: EnvironmentDraft) -> None:
    """Add an environment to vetrin.toml; all else in it stays as it is.

    Raises:
        ProjectError: there is one of that name or place, the name is not fit, or the file cannot be written.
    """
    path = project.folder / FILE_NAME
    if draft.name in project.environments:
        raise ProjectError(f"there is an environment {draft.name!r} in {path} already")
    try:
        text = path.read_text(encoding="utf-8").rstrip("\n")
        text += "\n\n" + "\n".join(environment_lines(draft)) + "\n"
        parse_project(text.removeprefix("\ufeff"), project.folder)
        write_whole(path, text.encode(), path.stat().st_mode & 0o777)
    except OSError as error:
        raise ProjectError(f"{path} could not be written: {error}") from error


def _table(route: Route) -> Any:
    table = tomlkit.table()
    table["from"] = route.source
    table["to"] = route.target
    if route.parts:
        table["parts"] = list(route.parts)
    if route.mirror:
        table["mirror"] = True
    for name, choice in (("leave", route.leave), ("keep", route.keep), ("arrival", route.arrival)):
        values = _plain(choice)
        if values:
            table[name] = values
    return table


_WORDS = {
    "address_rules": ("rebuilt", "unchanged"),
    "caches": ("dropped", "unchanged"),
    "mail": ("on", "off"),
    "correct_configuration": ("corrected", "unchanged"),
}


def _plain(choice: Leave | Keep | Arrival) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for name, value in asdict(choice).items():
        key = "configuration" if name == "correct_configuration" else name
        key = key.replace("_", "-")
        if isinstance(value, tuple):
            if value:
                found[key] = list(value)
        elif name in _WORDS and value is not None:
            found[key] = _WORDS[name][0 if value else 1]
        elif value is not None and value != {}:
            found[key] = dict(value) if isinstance(value, dict) else value
    return found
