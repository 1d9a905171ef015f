"""The choices on the command line: what is left out, kept and set, and what they make of a project's own."""

from __future__ import annotations

import argparse

from msgspec.structs import replace

from ..config import (
    ARRIVAL_WORDS,
    Arrival,
    Environment,
    Keep,
    Leave,
    Project,
    Route,
    merged,
    must_be_programs,
    nearest,
    read_arrival,
)
from ..errors import ProjectError, UsageError
from ..jobs import (
    PARTS,
    Choices,
    Part,
    Run,
)
from ..site import ReadableSite
from .parser import parsed


def add_leave(parser: argparse.ArgumentParser) -> None:
    """The options that choose what is left, beside what vetrin.toml says."""
    leave = parser.add_argument_group("what is left out, beside [leave] of vetrin.toml")
    for name, metavar, text in (
        ("--leave-tables", "TABLE,…", "tables that are not taken along; names may hold *"),
        ("--only-tables", "TABLE,…", "the inverse: no other tables are taken along"),
        ("--empty-tables", "TABLE,…", "tables that arrive without rows"),
        ("--leave-rows", "KIND,…", "kinds of rows, such as spam-comments or entries:TYPE"),
    ):
        leave.add_argument(name, metavar=metavar, action="append", default=[], help=text)
    leave.add_argument(
        "--leave-where", metavar="TABLE:SQL", action="append", default=[],
        help="rows of a table for which this SQL condition holds",
    )  # fmt: skip
    leave.add_argument(
        "--leave-files", metavar="PATTERN", action="append", default=[],
        help="files, by a pattern as in .gitignore",
    )  # fmt: skip
    leave.add_argument(
        "--leave-inactive", metavar="GROUP,…", action="append", default=[],
        help="extensions that are not active, such as plugins,themes",
    )  # fmt: skip
    leave.add_argument(
        "--leave-programs", metavar="KIND,…", action="append", default=[],
        help="what a database runs by itself: triggers, views, routines",
    )  # fmt: skip
    leave.add_argument("--leave-nothing", action="store_true", help="ignore [leave] of vetrin.toml")


def add_set(group: argparse._ArgumentGroup) -> None:
    """The option that chooses how a copy is settled."""
    group.add_argument(
        "--set", metavar="KEY=VALUE", action="append", default=[], dest="settings",
        help="a setting to set on arrival; search-engines, mail, marker and closed have names",
    )  # fmt: skip


def add_choices(parser: argparse.ArgumentParser) -> None:
    """The options that choose what is left, kept and set, beside what vetrin.toml says."""
    add_leave(parser)
    parser.add_argument(
        "--mirror", action="store_true",
        help="remove what only the target has of the files of these parts",
    )  # fmt: skip
    keep = parser.add_argument_group("what the target keeps and how it is settled")
    for name, metavar, text in (
        ("--keep-settings", "NAME,…", "settings of the target, such as active-plugins or a key"),
        ("--keep-tables", "TABLE,…", "tables of the target"),
        ("--keep-files", "PATTERN", "files of the target, by a pattern as in .gitignore"),
    ):
        keep.add_argument(name, metavar=metavar, action="append", default=[], help=text)
    add_set(keep)


def listed(texts: list[str]) -> tuple[str, ...]:
    """Names given with commas, or by an option given several times."""
    return tuple(part.strip() for text in texts for part in text.split(",") if part.strip())


def leave_of(args: argparse.Namespace) -> Leave:
    """Raises ProjectError where an option is not well formed."""
    where: dict[str, str] = {}
    for text in args.leave_where:
        table, colon, clause = text.partition(":")
        if not colon or not table or not clause.strip():
            raise ProjectError(f"--leave-where: {text!r}: write TABLE:SQL")
        where[table] = f"({where[table]}) OR ({clause})" if table in where else clause
    programs = listed(args.leave_programs)
    must_be_programs(programs, "--leave-programs:")
    return Leave(
        programs=programs,
        tables=listed(args.leave_tables),
        only=listed(args.only_tables),
        empty=listed(args.empty_tables),
        rows=listed(args.leave_rows),
        where=where,
        files=tuple(args.leave_files),
        inactive=listed(args.leave_inactive),
    )


def must_name_tables(
    args: argparse.Namespace, source: ReadableSite, target: ReadableSite | None = None
) -> None:
    """Raises ProjectError for a table of the options that is not there; a pattern may fit none."""
    options = [("--leave-tables", args.leave_tables, source), ("--only-tables", args.only_tables, source),
               ("--empty-tables", args.empty_tables, source)]  # fmt: skip
    if target is not None:
        options.append(("--keep-tables", args.keep_tables, target))
    for option, texts, site in options:
        for name in listed(texts):
            lacking = "" if "*" in name else site.unnamed(name)
            if lacking:
                raise ProjectError(f"{option}: {lacking}")


def keep_of(args: argparse.Namespace) -> Keep:
    return Keep(listed(args.keep_settings), listed(args.keep_tables), tuple(args.keep_files))


_WORDS = {"true": True, "false": False}


def arrival_of(args: argparse.Namespace) -> Arrival:
    """Raises ProjectError where an option is not well formed."""
    data: dict[str, object] = {}
    settings: dict[str, object] = {}
    for text in args.settings:
        key, equals, value = text.partition("=")
        if not equals or not key:
            raise ProjectError(f"--set: {text!r}: write KEY=VALUE")
        if key in ARRIVAL_WORDS:
            data[key] = _WORDS.get(value, value) if key in ("marker", "closed") else value
        else:
            settings[key] = value
    if settings:
        data["settings"] = settings
    return read_arrival(data, "--set")


def parts_of(names: tuple[str, ...], where: str) -> tuple[Part, ...]:
    """The parts in their order.

    Raises:
        ProjectError: a name is none of them.
    """
    for name in names:
        if name not in PARTS:
            raise ProjectError(
                f"{where}: {name!r} is none of {', '.join(PARTS)}{nearest(name, PARTS)}"
            )
    if not names:
        raise ProjectError(f"{where}: name at least one of {', '.join(PARTS)}")
    return tuple(part for part in PARTS if part in names)


def add_full(parser: argparse.ArgumentParser) -> None:
    """The option that has all rows come, also those that a transfer before left as they are."""
    parser.add_argument(
        "--full", action="store_true",
        help="take all rows, also those that are there already from the last transfer",
    )  # fmt: skip


def choices_of(
    project: Project, route: Route, *, all_of_it: bool = False, full: bool = False
) -> Choices:
    """What the project, the target and the route choose together."""
    target = project.environment(route.target)
    return Choices(
        leave=route.leave if all_of_it else project.leave_for(target, route.leave),
        keep=project.keep_for(target, route.keep),
        arrival=project.arrival_for(target, route.arrival),
        mirror=route.mirror,
        full=full,
    )


def chosen_by(project: Project, run: Run) -> Choices:
    """What a transfer left, kept and set, by the words that it was given and what the project says now."""
    route = Route("", run.source, run.target)
    try:
        given = parsed(run.command)
    except UsageError:  # of an older version
        return choices_of(project, route)
    route = project.routes.get(getattr(given, "route", None) or "", route)
    if hasattr(given, "leave_rows"):
        route = with_choices(route, given)
    return choices_of(project, route, all_of_it=getattr(given, "leave_nothing", False))


def others_of(project: Project, route: Route) -> list[Environment]:
    return [
        environment
        for environment in project.environments.values()
        if environment.name not in (route.source, route.target)
    ]


def with_choices(route: Route, args: argparse.Namespace) -> Route:
    """A route with what the command line chooses on top of it."""
    return replace(
        route,
        leave=merged(route.leave, leave_of(args)),
        keep=merged(route.keep, keep_of(args)),
        arrival=merged(route.arrival, arrival_of(args)),
        mirror=route.mirror or args.mirror,
    )
