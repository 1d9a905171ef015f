"""Showing a plan, a preview of its rewriting, and the report of a run."""

from __future__ import annotations

import json
import socket
from collections.abc import Sequence
from typing import Any

from rich.text import Text

from ..config import Environment
from ..files import Difference, printable, some_of
from ..jobs import BuildChange, FolderChange, Leaving, LeftKind, Plan, Report, Run
from ..site import PrefixedValues, Rewriting
from .common import ago, moment
from .console import Out, lead, number, plural, size
from .grid import grid
from .progress import clock

_MOST_TABLES = 14
_MOST_FOLDERS = 8
_MOST_COMMITS = 12
_MOST_PROGRAMS = 6


def show_plan(out: Out, plan: Plan, *, every_file: bool = False, last: Run | None = None) -> None:
    """The plan for a person: what moves where, what becomes what, what is lost and what stays. With
    ``every_file``, all files by name. What is as it was in the ``last`` run is told in one line."""
    same = _as_last(plan, last)
    out.show(_head(plan))
    if plan.pushed is not None:
        _build(out, plan.pushed)
    if last is not None and "data" in same:
        text = f"the same counts and newest entry on both sides as after run {last.number}, {moment(last.ended)}"
        out.show(lead("Data: ", "bold").append(text, style=""))
    elif "data" in plan.parts:
        _standings(out, plan)
    if plan.tables and "tables" in same:
        text = f"{plural(len(plan.tables), 'table')} with {plural(plan.rows, 'row')}, {size(plan.table_bytes)}"
        out.show(lead("Tables: ", "bold").append(text, style=""))
    elif plan.tables:
        _tables(out, plan)
    if plan.programs and "programs" not in same:
        _programs(out, plan, every=every_file)
    if plan.files is not None:
        _files(out, plan, plan.files)
        if every_file:
            _every_file(out, plan.files)
    pairs = grid("rewritten", "becomes")
    for pair in plan.mapping.pairs:
        if pair.old != pair.new:
            pairs.add_row(pair.old_text, pair.new_text)
    if plan.names is not None and plan.names.old != plan.names.new:
        pairs.add_row(f"{plan.names.old}… (tables and keys)", f"{plan.names.new}…")
    if (
        pairs.row_count
        and "pairs" not in same
        and ("data" in plan.parts or (plan.files is not None and plan.files.texts))
    ):
        out.show(pairs)
    _choices(out, plan, settled="settled" not in same)
    if same:
        told = [_SECTIONS[name] for name in _SECTIONS if name in same]
        out.show(
            lead("As last time: ", "bold").append(
                f"{', '.join(told)} (--verbose shows them)", style=""
            )
        )
    kept = lead("Kept: ", "bold").append("; ".join(plan.kept))
    if plan.staying:
        kept.append(f"; {plural(len(plan.staying), 'table')} that only {plan.target.name} has: ")
        kept.append(", ".join(plan.staying[:5]) + (" …" if len(plan.staying) > 5 else ""))
    if plan.kept or plan.staying:
        out.show(kept)
    for note in plan.notes:
        out.show(lead("· ", "dim").append(note))
    for risk in plan.risks:
        out.show(lead("! ", "warning").append(risk))


def _head(plan: Plan) -> Text:
    head = lead("Plan: ", "bold")
    if plan.build is not None:
        head.append("push build ").append(plan.build.short, style="name")
        if plan.build.commit is not None:
            head.append(f" (commit {plan.build.commit.short})")
    else:
        head.append(plan.source.name, style="name").append(f" ({plan.source.address})")
    head.append(" → ").append(plan.target.name, style="name")
    return head.append(f" ({plan.target.address})")


def _build(out: Out, pushed: BuildChange) -> None:
    """Which build it is, and what it adds to the one that is there."""
    build, before = pushed.build, pushed.before
    where = f"{plural(build.files, 'file')}, {size(build.size)}, made in {build.environment} "
    text = lead("Build: ", "bold").append(where + ago(build.made), style="")
    if build.commit is not None:
        state = "clean" if not build.commit.changes else "with changes of its own"
        branch = f" on {build.commit.branch}" if build.commit.branch else ""
        text.append(f"; commit {build.commit.short}{branch}, {state}: {build.commit.subject}")
    out.show(text)
    if before is None:
        out.show(lead("There now: ", "bold").append("no build on record", style=""))
        return
    if before.fingerprint == build.fingerprint:
        out.show(lead("There now: ", "bold").append("the same build", style=""))
        return
    there = lead("There now: ", "bold").append(f"build {before.short}", style="")
    if before.commit is not None:
        there.append(f" (commit {before.commit.short}: {before.commit.subject})")
    out.show(there)
    for mark, commits, style in (("+", pushed.commits, "good"), ("-", pushed.back, "bad")):
        for commit in commits[:_MOST_COMMITS]:
            out.show(lead(f"  {mark} {commit.short} ", style).append(commit.subject, style=""))
        if len(commits) > _MOST_COMMITS:
            out.show(f"  {mark} {plural(len(commits) - _MOST_COMMITS, 'commit')} more")


def _programs(out: Out, plan: Plan, *, every: bool) -> None:
    """What the database will run by itself, with what it does; it runs with the rights of the target's account."""
    most = (
        len(plan.programs) if every or len(plan.programs) <= _MOST_PROGRAMS + 1 else _MOST_PROGRAMS
    )
    table = grid("runs in the database", "what it does")
    for item in plan.programs[:most]:
        table.add_row(printable(f"{item.kind} {item.name}"), printable(item.does or "—"))
    rest = len(plan.programs) - most
    if rest:
        table.add_row(f"… {rest} more", "--list names them all")
    out.show(table)


def _every_file(out: Out, files: Difference) -> None:
    """All files by name, one on a line: + new, ~ changed, - gone, = left as it is by itself, with why."""
    lines: list[tuple[str, str, str]] = []
    for mark, style, entries in (
        ("+", "good", files.new),
        ("~", "warning", files.changed),
        ("-", "bad", files.gone),
    ):
        lines += [(e.path, mark, style) for e in entries if e.kind != "folder"]
    lines += [(f"{path} ({reason})", "=", "dim") for path, reason in files.passed]
    for path, mark, style in sorted(lines):
        out.show(lead(f"{mark} ", style).append(printable(path), style=""))


def _files(out: Out, plan: Plan, files: Difference) -> None:
    """What is new, changed and gone, by part and folder."""
    label = "Media: " if plan.file_parts == ("media",) else "Files: "
    if files.nothing:
        out.show(lead(label, "bold").append(f"all {number(files.same)} as they are", style=""))
        return
    table = grid("part", "folder", ">new", ">changed", ">gone", ">to send")
    largest = sorted(plan.folders, key=lambda item: (-item.size, -item.changed - item.gone))
    rows = [
        (item.part, printable(item.folder), item.new, item.changed, item.gone, item.size)
        for item in largest[:_MOST_FOLDERS]
    ]
    rest = largest[_MOST_FOLDERS:]
    if rest:
        rows.append(("", f"… {len(rest)} more", *_sums(rest)))
    for part, folder, *counts, count in rows:
        sent = size(count) if counts[0] or counts[1] else ""
        table.add_row(part, folder, *(number(n) if n else "" for n in counts), sent)
    if len(rows) > 1:
        table.add_section()
        *counts, count = _sums(plan.folders)
        table.add_row(
            "files", f"{number(files.same)} stay as they are",
            *(number(n) if n else "" for n in counts), size(count), style="bold",
        )  # fmt: skip
    out.show(table)
    whole = [unit.path for unit in files.units]
    if whole:
        out.show(lead("Switch as a whole: ", "bold").append(some_of(whole, 6), style=""))
    if files.reused:
        paths = [(new, old) for new, old in files.reused.items() if new != old]
        shown = ", ".join(f"{printable(old)} → {printable(new)}" for new, old in paths[:3])
        more = " …" if len(paths) > 3 else ""
        if paths:
            out.show(lead("Moved there: ", "bold").append(shown + more, style=""))
    for what, found in (("Rewritten: ", files.texts), ("By changed pieces: ", files.pieced)):
        if found:
            out.show(lead(what, "bold").append(some_of(sorted(found)), style=""))
    if plan.holds is not None:
        text = "visitors are held off while the code switches, for a moment"
        out.show(lead("Maintenance: ", "bold").append(text, style=""))


def _sums(folders: Sequence[FolderChange]) -> tuple[int, int, int, int]:
    return (
        sum(item.new for item in folders),
        sum(item.changed for item in folders),
        sum(item.gone for item in folders),
        sum(item.size for item in folders),
    )


_SECTIONS = {
    "tables": "tables and their rows",
    "programs": "what runs in the database",
    "pairs": "what is rewritten",
    "settled": "what is kept and set",
}


def _as_last(plan: Plan, last: Run | None) -> set[str]:
    """The sections of a plan that are as they were in the last run."""
    if last is None or "data" not in plan.parts:
        return set()
    same = {
        name
        for name, value in _as_read(plan.gist()).items()
        if value and last.gist.get(name) == value
    }
    # What would be lost is always shown.
    ours, theirs = plan.overwritten, plan.arriving
    return same if (ours.counts, ours.newest) == (theirs.counts, theirs.newest) else same - {"data"}


def _as_read(value: dict[str, Any]) -> dict[str, Any]:
    """A value as a journal gives it back: what is JSON of it."""
    found: dict[str, Any] = json.loads(json.dumps(value))
    return found


def _choices(out: Out, plan: Plan, *, settled: bool = True) -> None:
    """What is left out, kept of settings, set on arrival, and written beside the data."""
    left = left_in_words(plan.leaving)
    left += plan.left_programs
    hanging = sum(item.left for item in plan.tables) - sum(k.rows for k in _summed(plan.leaving))
    if hanging > 0:
        left.append(f"what hangs on them ({plural(hanging, 'row')})")
    if plan.files is not None and plan.files.left:
        left.append(plural(plan.files.left, "file"))
    kept = [step.says() for step in plan.settling.kept]
    if plan.files is not None and plan.files.kept:
        kept.append(plural(plan.files.kept, "file"))
    arrival = [step.says() for step in plan.settling.set]
    arrival += [f"{item.path} ({item.why})" for item in plan.placed]
    dropped = sum(move.goes == "file" for move in plan.cached)
    if dropped:
        arrival.append(f"{plural(dropped, 'cached file')} dropped")
    if plan.creates:
        out.show(lead("Made: ", "bold").append(f"the database {plan.creates}", style=""))
    if not settled:
        kept, arrival = [], []
    for label, items in (("Left out: ", left), ("Settings kept: ", kept), ("Arrival: ", arrival)):
        if items:
            out.show(lead(label, "bold").append("; ".join(items), style=""))


def left_in_words(leaving: Leaving) -> list[str]:
    """The tables and kinds of rows that are left out."""
    tables = [f"tables {', '.join(sorted(leaving.tables))}"] if leaving.tables else []
    return tables + [
        f"{kind.name} ({plural(kind.rows, 'row')}"
        + (f" of {kind.table})" if kind.name in ("where", "empty tables") else ")")
        for kind in _summed(leaving)
    ]


def _summed(leaving: Leaving) -> list[LeftKind]:
    """The kinds that leave something out; one of several tables is one."""
    rows: dict[tuple[str, str], int] = {}
    for kind in leaving.kinds:
        own = kind.table if kind.name in ("where", "empty tables") else ""
        rows[kind.name, own] = rows.get((kind.name, own), 0) + kind.rows
    return [LeftKind(name, table, count) for (name, table), count in rows.items() if count]


def _standings(out: Out, plan: Plan) -> None:
    table = grid("", "overwritten in " + plan.target.name, "arriving from " + plan.source.name)
    ours, theirs = plan.overwritten, plan.arriving
    for name in dict.fromkeys([*theirs.counts, *ours.counts]):
        table.add_row(
            lead(name, "dim"),
            number(ours.counts[name]) if name in ours.counts else "—",
            number(theirs.counts[name]) if name in theirs.counts else "—",
        )
    table.add_row(
        lead("newest entry", "dim"),
        f"{ours.newest.title}, {ours.newest.changed}" if ours.newest else "—",
        f"{theirs.newest.title}, {theirs.newest.changed}" if theirs.newest else "—",
    )
    out.show(table)


def _tables(out: Out, plan: Plan) -> None:
    table = grid("table", ">rows", ">size", ">rows there now")
    largest = sorted(plan.tables, key=lambda item: -item.table.size)
    for item in largest[:_MOST_TABLES]:
        table.add_row(
            item.table.name,
            (number(item.rows) if item.exact else f"about {number(item.rows)}")
            + (f" of {number(item.rows + item.left)}" if item.left else ""),
            size(item.table.size),
            "new" if item.target_rows is None else number(item.target_rows),
        )
    rest = largest[_MOST_TABLES:]
    if rest:
        table.add_row(
            f"… {len(rest)} smaller ones",
            number(sum(item.rows for item in rest)),
            size(sum(item.table.size for item in rest)),
            number(sum(item.target_rows or 0 for item in rest)),
        )
    table.add_section()
    beside = [
        plural(len(items), what)
        for items, what in (
            (plan.views, "view"),
            ([item for item in plan.routines if item.kind == "routine"], "stored routine"),
            ([item for item in plan.routines if item.kind == "sequence"], "sequence"),
        )
        if items
    ]
    table.add_row(
        ", ".join([plural(len(plan.tables), "table"), *beside]),
        number(plan.rows),
        size(plan.table_bytes),
        number(sum(item.target_rows or 0 for item in plan.tables)),
        style="bold",
    )
    out.show(table)


def show_preview(out: Out, plan: Plan, rewriting: Rewriting) -> None:
    """Exact counts of what a run would rewrite."""
    out.show(
        lead("Would be rewritten: ", "bold").append(
            f"{plural(rewriting.total, 'place')} in {plural(sum(rewriting.values.values()), 'value')}",
            style="",
        )
    )
    show_counts(out, rewriting)
    show_left(out, rewriting)


def show_report(out: Out, plan: Plan, report: Report, last: Run | None = None) -> None:
    """What a run did; where it rewrote what the ``last`` one did, that is told in one line."""
    as_last = last is not None and last.report.get("rewriting") == _as_read(
        report.rewriting.as_json()
    )
    if report.recovered:
        runs = ", ".join(str(item) for item in report.recovered)
        out.show(Text(f"First taken back: what run {runs}, stopped in between, had left."))
    out.show(_what_was_done(plan, report))
    _show_files_beside(out, report)
    if report.kept is not None:
        out.show(
            lead("Kept: ", "bold").append(
                f"what {plan.target.name} had, as build {report.kept.short}", style=""
            )
        )
    if report.since is not None:
        _show_differing(out, report)
    if plan.tables and (report.since is None or report.rewriting.total):
        among = ", among the rows that were read" if report.since is not None else ""
        out.show(
            lead("Rewritten: ", "bold").append(
                f"{plural(report.rewriting.total, 'place')} in "
                f"{plural(sum(report.rewriting.values.values()), 'value')}"
                + (", as last time" if as_last else among),
                style="",
            )
        )
    if not as_last:
        show_counts(out, report.rewriting)
    show_left(out, report.rewriting)
    _show_prefixed(out, report.prefixed)
    settled = [step.says() for step in report.settled]
    if settled:
        out.show(lead("Settled: ", "bold").append("; ".join(settled), style=""))
    for remark in report.remarks:
        out.show(lead("! ", "warning").append(remark))
    if plan.build is not None:
        return
    name = plan.target.name
    serve = f"vetrin serve {name}   ·   " if _can_be_served(plan.target) else ""
    back = f"   ·   back: vetrin undo {name}" if report.run.changed else ""
    out.show(f"Next: {serve}vetrin check {name}{back}")


def _can_be_served(environment: Environment) -> bool:
    """True for a copy on this machine that nothing serves."""
    if environment.host is not None or environment.role != "local":
        return False
    with socket.socket() as probe:
        probe.settimeout(1)
        return probe.connect_ex(("127.0.0.1", environment.address.port or 80)) != 0


def _show_prefixed(out: Out, prefixed: PrefixedValues) -> None:
    if prefixed.changed:
        out.show(
            lead("Prefix: ", "bold").append(
                f"{plural(prefixed.changed.total(), 'key')} now begin with {prefixed.new}",
                style="",
            )
        )
    for (table, value), count in prefixed.left.most_common(8):
        out.show(
            lead("· ", "dim").append(
                f"{table}: {value} ({number(count)}) begins alike and was left; "
                "[rewrite] prefixed would have it follow"
            )
        )


def _what_was_done(plan: Plan, report: Report) -> Text:
    done = lead("✓ ", "good")
    done.append(f"Run {report.run.number}: ", style="bold")
    parts = []
    if plan.tables:
        parts.append(
            f"{plural(len(report.rows), 'table')} with {plural(sum(report.rows.values()), 'row')}"
        )
    if plan.files is not None:
        kind = "media file" if plan.file_parts == ("media",) else "file"
        parts.append(f"{plural(report.files, kind)}, {size(report.file_bytes)}")
    if plan.build is not None:
        done.append(f"build {plan.build.short} is on {plan.target.name}: ", style="")
        done.append(" and ".join(parts))
    else:
        done.append(
            f"{' and '.join(parts)} from {plan.source.name} are in {plan.target.name}", style=""
        )
    line = f"; {size(report.line_bytes)} over the line" if report.line_bytes is not None else ""
    took = clock(report.seconds) if report.seconds >= 1 else "less than a second"
    return done.append(f", in {took}{line}", style="")


def _show_differing(out: Out, report: Report) -> None:
    """Of a repeat transfer: the tables in which something differed, with how many rows were written."""
    found = sorted(((n, name) for name, n in report.written.items() if n), reverse=True)
    if not found:
        text = f"nothing differed from what run {report.since} left"
    else:
        shown = ", ".join(f"{name} ({number(n)})" for n, name in found[:_MOST_TABLES])
        more = f" and {plural(len(found) - _MOST_TABLES, 'other table')}"
        text = (
            f"{plural(sum(report.written.values()), 'row')} differed from what run {report.since} left: "
            f"{shown}{more if len(found) > _MOST_TABLES else ''}"
        )
    out.show(lead("Written: ", "bold").append(text, style=""))


def _show_files_beside(out: Out, report: Report) -> None:
    beside = []
    if report.files_gone:
        beside.append(f"{plural(report.files_gone, 'file')} removed")
    if report.files_moved:
        beside.append(f"{number(report.files_moved)} not sent, for their content was there")
    if report.file_places:
        beside.append(f"{plural(report.file_places, 'place')} rewritten in files")
    if beside:
        out.show(lead("Files: ", "bold").append("; ".join(beside), style=""))


def show_counts(out: Out, rewriting: Rewriting) -> None:
    """Places and values by column, and by pair."""
    if not rewriting.total:
        return
    table = grid("column", ">values", ">places", "forms")
    for (name, column), tally in sorted(rewriting.columns.items(), key=lambda item: -item[1].total)[
        :_MOST_TABLES
    ]:
        if tally.total:
            forms: dict[str, int] = {}
            for (_, form), count in tally.replaced.items():
                forms[form] = forms.get(form, 0) + count
            table.add_row(
                f"{name}.{column}",
                number(rewriting.values[name, column]),
                number(tally.total),
                ", ".join(f"{form} {count}" for form, count in sorted(forms.items())),
            )
    table.add_section()
    for index, pair in enumerate(rewriting.mapping.pairs):
        count = rewriting.by_pair()[index]
        if count:
            table.add_row(f"{pair.old_text} →", "", number(count), pair.new_text)
    out.show(table)


def show_left(out: Out, rewriting: Rewriting) -> None:
    """What stayed as it was: broken and signed values, and references to third environments."""
    signed = rewriting.signatures
    if signed.anew:
        out.show(
            lead("Signed anew: ", "bold").append(
                f"{plural(signed.anew, 'value')} that the site signs with its own secrets", style=""
            )
        )
    if signed.left:
        out.show(
            lead("! ", "warning").append(
                f"{plural(signed.left, 'value')} signed with the secrets of another site could not be signed "
                "anew: there they show nothing until they are saved again"
            )
        )
    if rewriting.broken:
        out.show(
            lead("! ", "warning").append(
                f"left byte for byte: {plural(rewriting.broken, 'serialised value')} with wrong lengths"
            )
        )
        for item in rewriting.left:
            out.show(f"  {item.table}.{item.column} where {item.key}")
        out.show(f"  `vetrin heal {rewriting.own or 'ENV'}` mends what can be read in one way")
    left = {key: tally.left for key, tally in rewriting.columns.items() if tally.left}
    if left:
        where = ", ".join(f"{'.'.join(key)} {number(count)}" for key, count in sorted(left.items()))
        out.show(
            lead("! ", "warning").append(
                f"{plural(sum(left.values()), 'place')} stayed, for changing them would do harm (a key "
                f"that would clash with another, a payload of a format of its own): {where}"
            )
        )
    if rewriting.strays:
        names = ", ".join(sorted({name for _, _, name in rewriting.strays}))
        out.show(
            lead("! ", "warning").append(
                f"still there: {plural(rewriting.strays.total(), 'reference')} to {names}; "
                f"`vetrin strays {rewriting.own}` lists them"
            )
        )
