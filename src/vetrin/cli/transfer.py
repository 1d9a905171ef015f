"""What `pull`, `push` and `run` share: the choices on the command line, the plan, the question, the run."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from dataclasses import replace

from ..config import (
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
from ..errors import ExitStatus, ProjectError
from ..jobs import (
    PARTS,
    Choices,
    Keeping,
    Part,
    Plan,
    agreed,
    build_plan,
    must_be_whole,
    preview,
    run_plan,
    usual_parts,
)
from ..site import Site, open_site, root_of
from ..store import Store
from .common import journals_of, words_of
from .console import Out
from .plan_view import show_plan, show_preview, show_report
from .progress import listener
from .stored import baselines_of, show_way_back, store_of


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
    leave.add_argument(
        "--leave-nothing", action="store_true", help="do not heed [leave] of vetrin.toml"
    )


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
        known = (
            "search-engines",
            "address-rules",
            "caches",
            "mail",
            "marker",
            "closed",
            "configuration",
        )
        if key in known:
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


def transfer(
    args: argparse.Namespace, out: Out, project: Project, route: Route, *, all_of_it: bool = False
) -> int:
    """Plan, ask and run; the exit code. ``all_of_it``: [leave] of vetrin.toml does not count."""
    source_environment = project.environment(route.source)
    target_environment = project.environment(route.target)
    parts = (
        parts_of(route.parts, "parts")
        if route.parts
        else usual_parts("pull", root_of(target_environment))
    )
    choices = choices_of(project, route, all_of_it=all_of_it)
    data = "data" in parts
    with (
        open_site(project, source_environment, data=data) as source,
        open_site(
            project,
            target_environment,
            read_only=False,
            like=source.configuration,
            data=data,
            source=source_environment,
        ) as target,
    ):
        return carry_out_plan(
            args, out, project,
            lambda: build_plan(source, target, parts, others_of(project, route), choices),
            source, target, f"Replace this in {target_environment.name}?", words_of(args),
        )  # fmt: skip


def carry_out_plan(
    args: argparse.Namespace,
    out: Out,
    project: Project,
    make: Callable[[], Plan],
    source: Site,
    target: Site,
    question: str,
    command: list[str],
    **more: str,
) -> int:
    """Make a plan, show it, ask and run it, or with --dry-run say what it would rewrite; the exit code.

    ``command`` are the words to go on with; ``more`` is put into the document of --json.
    """
    keeping = keeping_of(
        args, project, target, lambda: store_of(project, out, writing=not args.dry_run)
    )
    if args.dry_run:
        must_be_whole(source)
        must_be_whole(target)
        plan = make()
        show_plan(out, plan, every_file=args.every_file)
        show_way_back(out, keeping)
        with listener(out) as listen:
            rewriting = preview(plan, source, listen)
        show_preview(out, plan, rewriting)
        out.document("plan", {**more, **plan.as_json(), "rewriting": rewriting.as_json()})
        out.say("dry run: nothing was changed")
        return ExitStatus.DONE

    def carry_out(plan: Plan) -> int:
        baselines = baselines_of(project, out, plan)
        with listener(out) as listen:
            report = run_plan(
                plan, source, target, journals_of(project), listen, command=command,
                keeping=keeping, baselines=baselines,
            )  # fmt: skip
        show_report(out, plan, report)
        out.document("report", {**more, "plan": plan.as_json(), **report.as_json()})
        return ExitStatus.DONE

    return agreed_to(
        args, out, project, source, target, make, question, carry_out,
        lambda: show_way_back(out, keeping),
    )  # fmt: skip


def keeping_of(
    args: argparse.Namespace, project: Project, target: Site, opened: Callable[[], Store]
) -> Keeping | None:
    """Where a snapshot of what is replaced goes; None where none is taken, and no store has to be ``opened``."""
    production = target.environment.role == "production"
    if not production or getattr(args, "skip_backup", False) or not project.store.before:
        return None
    return Keeping(opened(), list(project.environments.values()))


def agreed_to(
    args: argparse.Namespace,
    out: Out,
    project: Project,
    source: Site,
    target: Site,
    make: Callable[[], Plan],
    question: str,
    carry_out: Callable[[Plan], int],
    show_more: Callable[[], None],
) -> int:
    """Show a plan, ask, and carry out what still is as it was agreed to; the exit code."""
    environment = target.environment
    production = environment.role == "production"

    def ask(plan: Plan, again: bool) -> None:
        if again:
            out.warn(
                f"{source.environment.name} or {environment.name} has changed since the plan was made; "
                "this is the plan now"
            )
        show_plan(out, plan, every_file=args.every_file)
        show_more()
        out.confirm(question, given=args.yes, target=environment.name, production=production)

    return agreed(
        source, target, journals_of(project), make, ask, carry_out,
        beforehand=out.given(args.yes, target=environment.name, production=production),
    )  # fmt: skip


def choices_of(project: Project, route: Route, *, all_of_it: bool = False) -> Choices:
    """What the project, the target and the route choose together."""
    target = project.environment(route.target)
    return Choices(
        route.leave if all_of_it else project.leave_for(target, route.leave),
        project.keep_for(target, route.keep),
        project.arrival_for(target, route.arrival),
        route.mirror,
    )


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
