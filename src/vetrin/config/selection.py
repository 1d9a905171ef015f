"""What a transfer leaves out, what its target keeps, and how the target is settled on arrival.

Each can be written for the whole project, for an environment (as the target) and for a route, and
given on the command line; ``merged`` puts two together.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any, TypeVar

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ..errors import ProjectError
from .known_names import known_keys, nearest

Choice = TypeVar("Choice", "Leave", "Keep", "Arrival")

PROGRAMS = ("triggers", "views", "routines")
SEARCH_ENGINES = ("hidden", "visible", "unchanged")


class Leave(Struct, frozen=True):
    """What is not taken along. Names may hold ``*``; tables with or without the prefix.

    ``tables`` stay away as a whole, ``only`` is the inverse, ``empty`` ones arrive without rows;
    ``rows`` are kinds of the CMS's definition, or ``entries:TYPE``; ``where`` holds, by table, SQL
    for rows that are left; ``files`` are patterns as in .gitignore; ``inactive`` names groups of
    extensions (plugins, themes) of which only the active ones travel; ``programs`` are kinds of what a database
    runs by itself.
    """

    tables: tuple[str, ...] = ()
    only: tuple[str, ...] = ()
    empty: tuple[str, ...] = ()
    rows: tuple[str, ...] = ()
    where: Mapping[str, str] = {}
    files: tuple[str, ...] = ()
    inactive: tuple[str, ...] = ()
    programs: tuple[str, ...] = ()


class Keep(Struct, frozen=True):
    """What the target keeps of its own.

    ``settings`` are names of the definition, keys (also with ``*``), or ``key[part][part]`` for a
    part of a serialised or JSON value; ``files`` are patterns as in .gitignore.
    """

    settings: tuple[str, ...] = ()
    tables: tuple[str, ...] = ()
    files: tuple[str, ...] = ()


class Arrival(Struct, frozen=True):
    """What is set on the target after a transfer; None where nothing was said."""

    search_engines: str | None = None
    address_rules: bool | None = None
    caches: bool | None = None
    mail: bool | None = None
    marker: bool | str | None = None
    closed: bool | None = None
    correct_configuration: bool | None = None
    activate: tuple[str, ...] = ()
    deactivate: tuple[str, ...] = ()
    settings: Mapping[str, str | int | bool] = {}


def defaults(role: str) -> Arrival:
    """What is set where nobody says otherwise: a copy is hidden, marked, and sends no mail."""
    live = role == "production"
    return Arrival(
        search_engines="visible" if live else "hidden",
        address_rules=True,
        caches=True,
        mail=live,
        marker=not live,
        closed=False,
        correct_configuration=False,
    )


class Route(Struct, frozen=True):
    """A transfer saved under a name; ``parts`` is empty for the usual ones. ``mirror``: of the files
    of these parts the target shall hold nothing else."""

    name: str
    source: str
    target: str
    parts: tuple[str, ...] = ()
    leave: Leave = msgspec.field(default_factory=Leave)
    keep: Keep = msgspec.field(default_factory=Keep)
    arrival: Arrival = msgspec.field(default_factory=Arrival)
    mirror: bool = False


def merged(general: Choice, special: Choice) -> Choice:
    """Both together: lists are joined, single values of ``special`` win; so does its ``only``."""
    changes: dict[str, Any] = {}
    for name in general.__struct_fields__:
        ours: Any = getattr(general, name)
        theirs: Any = getattr(special, name)
        if name == "only":
            changes[name] = theirs or ours
        elif isinstance(ours, tuple):
            changes[name] = tuple(dict.fromkeys([*ours, *theirs]))
        elif isinstance(ours, Mapping):
            changes[name] = {**ours, **theirs}
        else:
            changes[name] = ours if theirs is None else theirs
    return replace(general, **changes)


def read_leave(data: object, where: str) -> Leave:
    """Raises ProjectError where it is not well formed."""
    table = _table(data, where)
    lists = ("tables", "only", "empty", "rows", "files", "inactive", "programs")
    known_keys(table, (*lists, "where"), where)
    values: dict[str, Any] = {key: _texts(table, key, where) for key in lists if key in table}
    must_be_programs(values.get("programs", ()), where)
    if "where" in table:
        clauses = _table(table["where"], f"{where} where")
        for name, text in clauses.items():
            if not isinstance(text, str) or not text.strip():
                raise ProjectError(f"{where} where.{name}: write a condition in quotes")
        values["where"] = dict(clauses)
    return Leave(**values)


def must_be_programs(kinds: Iterable[str], where: str) -> None:
    """Raises ProjectError for what is no kind of program."""
    for kind in kinds:
        if kind not in PROGRAMS:
            near = nearest(kind, PROGRAMS)
            raise ProjectError(f"{where} programs: {kind!r} is none of {', '.join(PROGRAMS)}{near}")


def read_keep(data: object, where: str) -> Keep:
    """Raises ProjectError where it is not well formed."""
    table = _table(data, where)
    lists = ("settings", "tables", "files")
    known_keys(table, lists, where)
    return Keep(**{key: _texts(table, key, where) for key in lists if key in table})


_WORDS: Mapping[str, tuple[str, Mapping[str, bool]]] = {
    "address-rules": ("address_rules", {"rebuilt": True, "unchanged": False}),
    "caches": ("caches", {"dropped": True, "unchanged": False}),
    "mail": ("mail", {"on": True, "off": False}),
    "configuration": ("correct_configuration", {"corrected": True, "unchanged": False}),
}


# What of arrival has a name and a value.
ARRIVAL_WORDS = ("search-engines", *_WORDS, "marker", "closed")


def read_arrival(data: object, where: str) -> Arrival:
    """Raises ProjectError where it is not well formed."""
    table = _table(data, where)
    known_keys(
        table,
        (*ARRIVAL_WORDS, "activate", "deactivate", "settings"),
        where,
    )
    values: dict[str, Any] = {}
    for key, (name, words) in _WORDS.items():
        if key in table:
            if table[key] not in words:
                raise ProjectError(f"{where} {key}: {table[key]!r} is none of {', '.join(words)}")
            values[name] = words[table[key]]
    if "search-engines" in table:
        if table["search-engines"] not in SEARCH_ENGINES:
            raise ProjectError(
                f"{where} search-engines: {table['search-engines']!r} is none of "
                + ", ".join(SEARCH_ENGINES)
            )
        values["search_engines"] = table["search-engines"]
    for key, kinds, expected in (
        ("marker", (bool, str), "true, false or a text"), ("closed", (bool,), "true or false"),
    ):  # fmt: skip
        if key in table:
            if not isinstance(table[key], kinds):
                raise ProjectError(f"{where} {key}: write {expected}")
            values[key] = table[key]
    for key in ("activate", "deactivate"):
        if key in table:
            values[key] = _texts(table, key, where)
    if "settings" in table:
        settings = _table(table["settings"], f"{where} settings")
        for name, value in settings.items():
            if not isinstance(value, (str, int, bool)):
                raise ProjectError(
                    f"{where} settings.{name}: write a text, a number, true or false"
                )
        values["settings"] = dict(settings)
    return Arrival(**values)


def read_route(name: str, data: object, environments: Sequence[str]) -> Route:
    """Raises ProjectError where it is not well formed or names an unknown environment."""
    where = f"[route.{name}]"
    table = _table(data, where)
    known_keys(table, ("from", "to", "parts", "leave", "keep", "arrival", "mirror"), where)
    if not isinstance(table.get("mirror", False), bool):
        raise ProjectError(f"{where} mirror: write true or false")
    for key in ("from", "to"):
        if table.get(key) not in environments:
            raise ProjectError(
                f"{where} {key}: {table.get(key)!r} is none of {', '.join(environments)}"
            )
    return Route(
        name=name,
        source=table["from"],
        target=table["to"],
        parts=_texts(table, "parts", where) if "parts" in table else (),
        leave=read_leave(table.get("leave", {}), f"{where} leave"),
        keep=read_keep(table.get("keep", {}), f"{where} keep"),
        arrival=read_arrival(table.get("arrival", {}), f"{where} arrival"),
        mirror=table.get("mirror", False),
    )


def _table(data: object, where: str) -> dict[str, Any]:
    if not isinstance(data, dict):
        raise ProjectError(f"{where}: write it as a table")
    return data


def _texts(table: Mapping[str, Any], key: str, where: str) -> tuple[str, ...]:
    value = table[key]
    if not isinstance(value, list) or not all(isinstance(item, str) and item for item in value):
        raise ProjectError(f"{where} {key}: write a list of texts")
    return tuple(value)
