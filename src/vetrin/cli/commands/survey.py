"""vetrin survey"""

from __future__ import annotations

import argparse
from pathlib import Path

from ...errors import ExitStatus, UsageError, described
from ...inspect.survey import Survey, leave_table, survey
from ...jobs import may_read
from ...report.plot import must_be_drawable, plot_survey
from ..archives import add_given, is_file, looked_into
from ..common import opened, project_of
from ..consent import without_foreign_commands
from ..console import Out, lead, number, plural, size
from ..grid import grid

_MOST = 12
_BAR = 24


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Show what an environment consists of: tables by size, files by folder, kinds of rows,\n"
        "plugins and themes, versions; and what a transfer could leave out, with what that saves."
    )
    parser.add_argument(
        "environment", metavar="ENV", help="the environment; or a file: an archive or an SQL dump"
    )
    add_given(parser)
    parser.add_argument(
        "--plot", metavar="FILE", help="draw where the bytes are (.png, .svg or .pdf)"
    )
    parser.add_argument("--all", action="store_true", help="list all tables and folders")
    parser.epilog = """examples:
  vetrin survey production
  vetrin survey production --plot bytes.png
  vetrin survey staging --json
  vetrin survey dump.sql.gz"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    if args.plot:
        must_be_drawable(Path(args.plot))
    if is_file(args.environment, project):
        with looked_into(args, out, project, [args.environment]) as (site, _):
            found = survey(site)
    else:
        environment = project.environment(args.environment)
        may_read(environment)
        with opened(out, project, environment) as site:
            without_foreign_commands(out, project, site)
            found = survey(site)
    if args.plot:
        try:
            plot_survey(found, Path(args.plot))
        except OSError as error:
            raise UsageError(f"the picture could not be drawn: {described(error)}") from error
        out.say(f"drawn: {args.plot}")
    out.document("survey", found.as_json())
    _show(out, found, project.definition.title, None if args.all else _MOST)
    return ExitStatus.DONE


def _show(out: Out, found: Survey, cms: str, most: int | None) -> None:
    stands = found.standing
    head = lead(f"{stands.title or stands.environment}", "bold")
    versions = [f"{cms} {stands.cms_version or ''}".strip(), stands.database_version]
    if found.runtime:
        versions.append(found.runtime)
    out.show(head.append(f" · {stands.environment} · {' · '.join(versions)}", style=""))
    _tables(out, found, most)
    _folders(out, found, most)
    _rows(out, found)
    _extensions(out, found)
    _suggestions(out, found)


def bar(part: int, whole: int, width: int = _BAR) -> str:
    """A bar as long as ``part`` is of ``whole``, in eighths of a character."""
    if whole <= 0 or part <= 0:
        return ""
    eighths = max(1, round(part * width * 8 / whole))
    return "█" * (eighths // 8) + " ▏▎▍▌▋▊▉"[eighths % 8].strip()


def _tables(out: Out, found: Survey, most: int | None) -> None:
    items = [
        (item.name, item.rows, item.size, "" if item.role == "content" else item.role)
        for item in found.tables
    ]
    _bars(out, ("table", "rows", "role"), items, most, "name")


def _folders(out: Out, found: Survey, most: int | None) -> None:
    items = [(item.path, item.files, item.size, item.part) for item in found.folders]
    _bars(out, ("folder", "files", "part"), items, most, "good")


def _bars(
    out: Out,
    names: tuple[str, str, str],
    items: list[tuple[str, int, int, str]],
    most: int | None,
    colour: str,
) -> None:
    """Names with a count, a size and a bar for it; those beyond ``most`` in one line."""
    table = grid(names[0], f">{names[1]}", ">size", "", names[2])
    largest = max((size for _, _, size, _ in items), default=0)
    shown, rest = items[:most], items[len(items[:most]) :]
    if rest:
        counts, sizes = sum(item[1] for item in rest), sum(item[2] for item in rest)
        shown = [*shown, (f"… {len(rest)} smaller ones", counts, sizes, "")]
    for name, count, bytes_, what in shown:
        mark = lead(bar(bytes_, largest), colour)
        table.add_row(name, number(count), size(bytes_), mark, what)
    table.add_section()
    total = sum(item[1] for item in items), sum(item[2] for item in items)
    table.add_row(
        plural(len(items), names[0]), number(total[0]), size(total[1]), "", "", style="bold"
    )
    out.show(table)


def _rows(out: Out, found: Survey) -> None:
    kinds: dict[str, list[str]] = {}
    for kind, state, count in found.entries:
        kinds.setdefault(kind, []).append(f"{number(count)} {state}")
    if kinds:
        text = lead("Entries: ", "bold")
        text.append("; ".join(f"{kind} {', '.join(states)}" for kind, states in kinds.items()))
        out.show(text)
    counts = found.standing.counts
    if counts:
        text = lead("Counts: ", "bold")
        text.append(", ".join(f"{number(count)} {name}" for name, count in counts.items()))
        out.show(text)
    there = [item for item in found.kinds if item.rows]
    if there:
        text = lead("Kinds of rows: ", "bold")
        text.append(", ".join(f"{item.name} {number(item.rows)}" for item in there))
        out.show(text)


def _extensions(out: Out, found: Survey) -> None:
    groups = dict.fromkeys(item.group for item in found.extensions)
    for group in groups:
        items = [item for item in found.extensions if item.group == group]
        text = lead(f"{group[0].upper()}{group[1:]}: ", "bold")
        for at, item in enumerate(items):
            text.append(", " if at else "")
            text.append(f"{item.title} {item.version}".strip(), style="" if item.active else "dim")
            if not item.active:
                text.append(" (inactive)", style="dim")
        out.show(text)


def _suggestions(out: Out, found: Survey) -> None:
    if not found.suggestions:
        return
    total = sum(item.size for item in found.suggestions)
    out.show(lead(f"\nA copy could do without (about {size(total)}):", "bold"))
    table = grid("leave", "", ">saves about", "")
    for item in found.suggestions:
        table.add_row(item.key, item.value, size(item.size), lead(item.why, "dim"))
    out.show(table)
    out.show("In vetrin.toml:")
    for line in leave_table(found.suggestions).splitlines():
        out.show(lead(f"  {line}", "name"))
