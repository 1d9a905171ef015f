"""vetrin compare"""

from __future__ import annotations

import argparse

from ...config import Environment, Project, nearest
from ...errors import ExitStatus, NoSnapshot, ProjectError
from ...files import printable
from ...inspect.compare import Comparison, TableDifference, compare
from ...jobs import PARTS, expected_between, may_read
from ...site import ReadableSite
from ...store import open_snapshot
from ..choices import chosen_by, listed, parts_of
from ..common import journals_of, opened, project_of
from ..consent import without_foreign_commands
from ..console import Out, lead, number, plural
from ..grid import grid
from ..progress import told
from ..stored import store_of

_MOST = 40
_FEW = 6


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Put two environments side by side: versions, settings, plugins and themes, counts and\n"
        "newest entries, files, and the tables whose content differs once the addresses of the\n"
        "first are rewritten into those of the second."
    )
    parser.add_argument("a", metavar="A", help="an environment")
    parser.add_argument(
        "b", metavar="B", help="another one, or a snapshot: its ID, label or newest"
    )
    parser.add_argument(
        "--parts", metavar="PART,…", help="only these: data, media, code, core (all of them)"
    )
    parser.add_argument(
        "--list", action="store_true", help="name all files and settings that differ"
    )
    parser.add_argument("--entries", action="store_true", help="list entries that differ, by title")
    parser.add_argument("--all", action="store_true", help="list also what is the same")
    parser.epilog = """exit code 4 says that they differ

examples:
  vetrin compare production local
  vetrin compare production staging --entries
  vetrin compare production local --parts data,media --list
  vetrin compare production newest       what changed since its last snapshot
  vetrin compare staging local --json"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    a = project.environment(args.a)
    may_read(a)
    other, parts = _other(args, out, project, a)
    if args.parts:
        wanted = parts_of(listed([args.parts]), "--parts")
        parts = tuple(part for part in wanted if part in parts)
    with opened(out, project, a) as one, other as two, told(out) as tell:
        for site in (one, two):
            without_foreign_commands(out, project, site)
        found = compare(
            one,
            two,
            list(project.environments.values()),
            parts=parts,
            entries=args.entries,
            expected=expected_between(
                one, two, journals_of(project), parts, lambda run: chosen_by(project, run)
            ),
            tell=tell,
        )
    out.document("comparison", found.as_json())
    if len(parts) < len(PARTS):
        only = ", ".join(parts) + ("" if args.parts else ", as the snapshot holds nothing else")
        out.show(lead("Compared: ", "bold").append(only, style=""))
    _show(out, found, data="data" in parts, everything=args.all, every_name=args.list)
    return ExitStatus.DIFFERENT if found.differences else ExitStatus.DONE


def _other(
    args: argparse.Namespace, out: Out, project: Project, a: Environment
) -> tuple[ReadableSite, tuple[str, ...]]:
    """What the first environment is compared with, another one or a snapshot, and the parts that it holds."""
    if args.b in project.environments:
        b = project.environment(args.b)
        if a is b:
            raise ProjectError(f"{a.name} cannot be compared with itself; name two environments")
        may_read(b)
        return opened(out, project, b), PARTS
    store = store_of(project, out)
    try:
        manifest = store.get(args.b, a.name)
    except NoSnapshot as error:
        raise ProjectError(
            f"{args.b!r} is no environment{nearest(args.b, list(project.environments))}; and {error}"
        ) from error
    return open_snapshot(store, manifest, project.definition), manifest.parts


def _show(out: Out, found: Comparison, *, data: bool, everything: bool, every_name: bool) -> None:
    table = grid("", found.a, found.b, "")
    topic = ""
    for line in found.lines:
        if line.same and line.topic in ("plugins", "themes", "files") and not everything:
            continue
        if line.topic != topic:
            if topic:
                table.add_section()
            topic = line.topic
        mark = lead("≠", "warning") if line.same is False else ""
        style = "" if line.same is False else "dim"
        name = (
            line.label
            if line.topic in ("versions", "settings", "counts")
            else f"{line.topic}: {line.label}"
        )
        table.add_row(name, line.a, line.b, mark, style=style)
    if table.row_count:
        out.show(table)
    if data:
        same = plural(found.same_tables, "table") if found.same_tables else "no table"
        out.show(lead("Tables: ", "bold").append(f"{same} with the same content", style=""))
    if found.tables:
        _tables(out, found)
    _names(out, found, None if every_name else _FEW)
    if found.entries is not None:
        _entries(out, found, everything=everything)
    if found.expected:
        out.show(lead("As expected: ", "bold").append("; ".join(found.expected), style=""))
    if found.differences:
        out.show(lead(f"≠ {plural(found.differences, 'difference')}", "warning"))
    else:
        but = "the address and what is meant to differ" if found.expected else "the address"
        out.show(lead("✓ ", "good").append(f"nothing differs but {but}", style=""))


def _names(out: Out, found: Comparison, most: int | None) -> None:
    """Which settings and files differ: + only in the first, - only in the second, ~ in both."""
    lists = [("Settings: ", item.names) for item in found.tables]
    lists += [(f"{line.label[0].upper()}{line.label[1:]}: ", line.names) for line in found.lines]
    for label, names in lists:
        if names:
            shown = [printable(name) for name in names[:most]]
            rest = (
                f" … and {number(len(names) - len(shown))} more; --list names them"
                if len(shown) < len(names)
                else ""
            )
            out.show(lead(label, "bold").append(", ".join(shown) + rest, style=""))


def _tables(out: Out, found: Comparison) -> None:
    table = grid("table", f">rows in {found.a}", f">rows in {found.b}", "what differs")
    for item in found.tables:
        table.add_row(
            item.name,
            "—" if item.rows_a is None else number(item.rows_a),
            "—" if item.rows_b is None else number(item.rows_b),
            _said(item, found),
        )
    out.show(table)


def _said(item: TableDifference, found: Comparison) -> str:
    if item.state == "columns":
        return "they have other columns"
    if item.state != "content" or item.changed is None:
        return item.state
    parts = [
        f"{number(count)} {what}"
        for count, what in (
            (item.changed, "changed"),
            (item.only_a, f"only in {found.a}"),
            (item.only_b, f"only in {found.b}"),
        )
        if count
    ]
    return ", ".join(parts)


def _entries(out: Out, found: Comparison, *, everything: bool) -> None:
    entries = found.entries or []
    if not entries:
        out.show(lead("Entries: ", "bold").append("all the same", style=""))
        return
    table = grid("entry", "type", "", "where")
    shown = entries if everything else entries[:_MOST]
    for item in shown:
        table.add_row(item.title, item.kind, item.state, item.where)
    out.show(table)
    if len(shown) < len(entries):
        out.show(f"… {number(len(entries) - len(shown))} more; --all lists them")
