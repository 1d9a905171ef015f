"""What changed in an environment, as a person reads it."""

from __future__ import annotations

from rich.text import Text

from ..files import printable
from ..jobs import Changes
from .common import moment
from .console import Out, lead, number, plural
from .grid import grid

MARKS = {"added": "+", "changed": "~", "removed": "-"}
_STATES = {
    "columns": "it has other columns now",
    "gone": "the table is gone",
    "whole": "it changed; its rows have no key to tell them apart",
}
FEW = 12
_SHORT = 4


def show_changes(out: Out, found: Changes, *, every: bool) -> None:
    """What changed, with at most a few of each kind unless ``every`` one is to be named."""
    out.show(lead("Changes ", "bold").append(_heading(found), style=""))
    if found.nothing:
        out.show(lead("✓ ", "good").append("nothing has changed since then", style=""))
        return
    if found.tables:
        _show_tables(out, found)
    most = None if every else FEW
    listed(out, "Entries", _entries(found), most)
    listed(out, "Settings", _settings(found), most)
    listed(out, "Rows", _rows(found), most)
    files = [f"{MARKS[item.state]} {printable(item.path)}" for item in found.files]
    listed(out, "Media", files, most)
    if found.role == "target":
        out.show(
            f"Next: vetrin backup {found.environment} keeps this; a pull overwrites what it brings"
        )
    elif found.role == "source":
        out.show(f"Next: vetrin pull {found.environment} --to {found.other} brings this")


def _heading(found: Changes) -> str:
    then = moment(found.since)
    if found.role == "target":
        return f"in {found.environment} since run {found.run} brought it from {found.other}, {then}"
    if found.role == "source":
        return f"in {found.environment} since run {found.run} took it to {found.other}, {then}"
    return f"in {found.environment} since its snapshot of {then}"


def _show_tables(out: Out, found: Changes) -> None:
    table = grid("table", ">added", ">changed", ">removed", "")
    for item in sorted(found.tables, key=lambda item: item.name):
        counts = [number(n) if n else "" for n in (item.added, item.changed, item.removed)]
        table.add_row(item.name, *counts, _STATES.get(item.state, ""))
    out.show(table)


def _entries(found: Changes) -> list[str]:
    order = {state: at for at, state in enumerate(MARKS)}
    return [
        f"{MARKS[item.state]} {printable(item.title or item.id)}"
        + (f" ({printable(item.kind)})" if item.kind else "")
        for item in sorted(found.entries, key=lambda item: (order[item.state], item.title))
    ]


def _settings(found: Changes) -> list[str]:
    lines = []
    for item in found.settings:
        name = printable(item.name + "".join(f"[{part}]" for part in item.path))
        lines.append(f"{_mark(item.old, item.new)} {name}: {_from_to(item.old, item.new)}")
    return lines


def _rows(found: Changes) -> list[str]:
    return [
        f"{MARKS[item.state]} {printable(item.key or 'a row')}: "
        + "; ".join(f"{name} {_from_to(old, new)}" for name, old, new in item.columns)
        for item in found.rows
    ]


def _mark(old: str | None, new: str | None) -> str:
    return "+" if old is None else "-" if new is None else "~"


def _from_to(old: str | None, new: str | None) -> str:
    if old == new:  # neither is shown
        return printable(old or "")
    if old is None or new is None:
        return printable((new if old is None else old) or "")
    return f"{printable(old)} → {printable(new)}"


def listed(out: Out, what: str, lines: list[str], most: int | None) -> None:
    """Lines that begin with a mark, at most so many of them."""
    if not lines:
        return
    out.show(lead(f"{what}:", "bold"))
    for line in lines[:most]:
        style = {"+": "good", "-": "bad", "~": "warning"}[line[0]]
        out.show(lead(f"  {line[0]}", style).append(line[1:], style=""))
    if most is not None and len(lines) > most:
        out.show(f"  … and {number(len(lines) - most)} more; --list names them")


def waiting(found: Changes) -> Text:
    """In a line, what of a source a transfer would bring."""
    since = f"new in {found.environment} since run {found.run}, {moment(found.since)}"
    text = f"{since}: {_in_short(found)}" if found.tables else f"nothing {since}"
    return lead("Waiting: ", "bold").append(text, style="")


def overwritten(found: Changes, *, every: bool = False) -> Text | None:
    """In a line, what of a target's own changes a transfer overwrites; None for nothing. ``every``: all of it by
    name."""
    if not found.tables:
        return None
    then = f"run {found.run}" if found.run is not None else f"the snapshot, {moment(found.since)}"
    short = _in_short(found, None if every else _SHORT)
    text = f"what changed in {found.environment} since {then}: {short}"
    return lead("Overwritten: ", "bold").append(text, style="")


def _in_short(found: Changes, most: int | None = _SHORT) -> str:
    """Entries and settings by name, at most so many, and how many rows of which tables."""
    rows = sum(item.added + item.changed + item.removed for item in found.tables)
    parts = []
    if found.entries:
        parts.append(
            _some("entry", "entries", [printable(item.title) for item in found.entries], most)
        )
    if found.settings:
        names = [line[2:].partition(": ")[0] for line in _settings(found)]
        parts.append(_some("setting", "settings", names, most))
    names = [item.name for item in found.tables]
    if most is not None and len(names) > FEW:
        names[FEW:] = ["…"]
    # Of some tables it is known only that they differ.
    count = plural(rows, "row") + " in all, of" if rows else "rows of"
    parts.append(f"{count} {', '.join(names)}")
    return "; ".join(parts)


def _some(one: str, many: str, names: list[str], most: int | None) -> str:
    more = " …" if most is not None and len(names) > most else ""
    return f"{len(names)} {one if len(names) == 1 else many} ({', '.join(names[:most])}{more})"
