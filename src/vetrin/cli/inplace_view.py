"""What the commands that change values in place share: choosing columns, and showing samples."""

from __future__ import annotations

import argparse

from rich.text import Text

from ..sync import Selection, Survey
from .console import Out, lead

_AROUND = 34


def configure_selection(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--tables",
        default="",
        metavar="NAME,…",
        help="only these; with or without the prefix, * fits any",
    )
    parser.add_argument(
        "--columns", default="", metavar="NAME,…", help="only these, as COLUMN or TABLE.COLUMN"
    )


def selection_of(args: argparse.Namespace) -> Selection:
    def names(text: str) -> tuple[str, ...]:
        return tuple(filter(None, (name.strip() for name in text.split(","))))

    return Selection(names(args.tables), names(args.columns))


def show_samples(out: Out, found: Survey) -> None:
    """A few of the changes, each as the place where the two values part."""
    for sample in found.samples:
        out.show(lead(f"{sample.table}.{sample.column}", "bold").append(f" where {sample.key}"))
        start = _parting(sample.before, sample.after)
        tail = _parting(sample.before[start:][::-1], sample.after[start:][::-1])
        for mark, value, style in (("−", sample.before, "red"), ("+", sample.after, "green")):
            out.show(_line(mark, value, start, len(value) - tail, style))


def _parting(first: bytes, second: bytes) -> int:
    limit = min(len(first), len(second))
    at = 0
    while at < limit and first[at] == second[at]:
        at += 1
    return at


def _line(mark: str, value: bytes, start: int, end: int, style: str) -> Text:
    def shown(part: bytes) -> str:
        return "".join(
            character if character.isprintable() else "·"
            for character in part.decode("utf-8", "replace")
        )

    end = max(end, start)
    changed = value[start:end]
    if len(changed) > 2 * _AROUND:
        changed = changed[: 2 * _AROUND] + "…".encode()
    before, after = value[max(0, start - _AROUND) : start], value[end : end + _AROUND]
    return (
        Text("  ", no_wrap=True, overflow="ellipsis")
        .append(f"{mark} ", style=style)
        .append(("…" if start > _AROUND else "") + shown(before), style="dim")
        .append(shown(changed), style=style)
        .append(shown(after) + ("…" if end + _AROUND < len(value) else ""), style="dim")
    )
