"""Digests of pages that are made by reading their rows, of which most look as they did."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import closing

from ..key_ranges import NO_ROWS, UNTOLD, digest_of_records, joint_digest
from ..page_prints import PagePrints, Print
from .raw_rows import RawRows
from .wire import Wire

_HELD = 4 << 20  # bytes of a page that are looked at at once
_STRETCH = 1 << 20


def read_digests(
    wire: Wire, queries: Sequence[str], known: Sequence[str], prints: PagePrints
) -> list[str]:
    """The digests of the rows that some queries give, of which ``known`` is what they were once; ``UNTOLD`` for much
    that has changed, and costs the server less.

    Raises:
        pymysql.Error: the server said so, or the connection broke.
    """
    with closing(wire.answers(queries)) as answers:
        found = [_digest(rows, claim, prints) for rows, claim in zip(answers, known, strict=True)]
    prints.keep()
    return found


def _digest(rows: RawRows, claim: str, prints: PagePrints) -> str:
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
    now = Print(size, tag.finalize())
    if large:
        return claim if now == before else UNTOLD
    digest = joint_digest(parts)
    prints.learn(digest, now)
    return digest
