"""What the commands that change values in place share: choosing columns, and showing samples."""

from __future__ import annotations

import argparse

from rich.text import Text

from ..jobs import (
    Journals,
    Run,
    Selection,
    Survey,
    Work,
    change,
    may_write,
    must_be_whole,
    only_run,
    put_right,
)
from ..site import Site
from .console import Out, lead, plural
from .progress import listener

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


def get_ready(args: argparse.Namespace, out: Out, site: Site, journals: Journals) -> None:
    """Before the look: what a dead run left in its switch is put right; a dry run refuses instead.

    Raises:
        Refused: a guard forbids it, or another run writes to the environment.
    """
    may_write(site.environment)
    for sentence in site.unsure:
        out.warn(sentence)
    if args.dry_run:
        must_be_whole(site)
        return
    with only_run(site):
        put_right(site, journals)


def make(
    args: argparse.Namespace,
    out: Out,
    journals: Journals,
    site: Site,
    kind: str,
    work: Work,
    found: Survey,
    question: str,
    verb: str,
) -> Run | None:
    """Confirm the changes that a look found, and make them.

    None where a dry run, or that there is nothing to do, ends the command here.
    """
    name = site.environment.name
    plan = {"environment": name, "rows": dict(found.rows), **work.as_json()}
    if args.dry_run or not found.rows:
        out.document(kind, {"done": False, **plan})
        out.say("dry run: nothing was changed" if found.rows else "nothing to change")
        return None
    out.confirm(question, args, target=name, production=site.environment.role == "production")
    with listener(out) as listen:
        done, rows = change(site, kind, work.again(), selection_of(args), journals, listen)
    out.show(
        lead("✓ ", "good").append(
            f"Run {done.number}: {plural(rows.total(), 'row')} {verb} in {name}"
        )
    )
    out.show(f"Back: vetrin undo {name}")
    out.document(kind, {"done": True, "run": done.number, **plan})
    return done


def show_samples(out: Out, found: Survey) -> None:
    """A few of the changes, each as the place where the two values part."""
    for sample in found.samples:
        out.show(lead(f"{sample.table}.{sample.column}", "bold").append(f" where {sample.key}"))
        start = _parting(sample.before, sample.after)
        tail = _parting(sample.before[start:][::-1], sample.after[start:][::-1])
        for mark, value, style in (("−", sample.before, "bad"), ("+", sample.after, "good")):
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
