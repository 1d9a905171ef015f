"""Digests of pages whose rows are read, here or by a helper where they are, and mostly look as they did."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import closing

from ..key_ranges import NO_ROWS, UNTOLD, digest_of_records, joint_digest
from ..page_prints import PagePrints, Print, PrintsThere
from ..rows_aside import PageRows, RowsAside
from .raw_rows import RawRows
from .wire import Wire

_HELD = 4 << 20  # bytes of a page that are looked at at once
_STRETCH = 1 << 20
Ask = Callable[
    [Sequence[int]], Sequence[str]
]  # the server, for the digests of some of the rows, by their numbers


def read_digests(
    wire: Wire,
    queries: Sequence[str],
    known: Sequence[str],
    prints: PagePrints,
    ask: Ask,
    aside: RowsAside | None = None,
) -> list[str]:
    """The digests of the rows that some queries give, of which ``known`` is what they were once; the server is
    asked for those of much that has changed. The rows of other pages than are known are put ``aside``.

    Raises:
        pymysql.Error: the server said so, or the connection broke.
    """
    with closing(wire.answers(queries)) as answers:
        found = [
            _digest(rows, claim, prints, PageRows(aside, number) if aside is not None else None)
            for number, (rows, claim) in enumerate(zip(answers, known, strict=True))
        ]
    prints.keep()
    late = [number for number, digest in enumerate(found) if digest == UNTOLD]
    for number, digest in zip(late, ask(late) if late else (), strict=True):
        found[number] = digest
    return found


def told_digests(
    wire: Wire,
    queries: Sequence[str],
    known: Sequence[str],
    prints: PrintsThere,
    ask: Ask,
) -> list[str]:
    """The same, where somebody on the way tells prints of the rows; the server is asked for the digests of those that
    look otherwise than before.

    Raises:
        pymysql.Error: the server said so, or the connection broke.
    """
    found = [*known]
    others: dict[int, Print] = {}
    for number, (claim, seen) in enumerate(
        zip(known, wire.prints(queries, prints.key), strict=True)
    ):
        if seen.size if claim == NO_ROWS else seen != prints.of(claim):
            others[number] = seen
    for number, digest in zip(others, ask([*others]) if others else (), strict=True):
        found[number] = digest
        if digest != UNTOLD:
            prints.learn(digest, others[number])
    prints.keep()
    return found


def _digest(rows: RawRows, claim: str, prints: PagePrints, aside: PageRows | None) -> str:
    before = Print(0, b"") if claim == NO_ROWS else prints.of(claim)
    if before is not None and before.size <= _HELD:
        seen = rows.exactly(before.size)
        if seen is not None and (not before.size or prints.tag_of(seen) == before.tag):
            rows.taken(before.size)
            return claim
    parts = []
    tag, size = prints.tag(), 0
    large = before is not None and before.size > _HELD
    for seen, records in rows.stretches(_STRETCH, apart=not large):
        tag.update(seen)
        size += len(seen)
        parts.append(digest_of_records(records))
        if aside is not None:
            aside.add(records)
    now = Print(size, tag.finalize())
    if large:
        return claim if now == before else UNTOLD
    digest = joint_digest(parts)
    prints.learn(digest, now)
    if aside is not None and digest != claim:
        aside.put()
    return digest
