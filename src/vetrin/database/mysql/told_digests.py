"""Digests of pages whose rows a helper reads where they are, and tells what they look like."""

from __future__ import annotations

from ..digests import NO_ROWS, UNTOLD, joint_digest, rows_in
from ..page_prints import PrintsThere
from ..rows_aside import Part, RowsAside
from ..strips import Print
from .asked_pages import Ask, AskedPages
from .wire import Wire


def told_digests(
    wire: Wire, pages: AskedPages, prints: PrintsThere, ask: Ask, aside: RowsAside | None = None
) -> list[str]:
    """The digests of some pages, of whose rows somebody on the way tells prints; the server is asked for those that
    look otherwise than before, strip by strip where these are known. What is known of those that are not as they were
    is put ``aside``.

    Raises:
        pymysql.Error: the server said so, or the connection broke.
    """
    found = [*pages.known]
    others: dict[int, Print] = {}
    prints.know(pages.known)
    queries = [pages.query(one) for one in pages.ranges]
    before = [prints.of(claim) for claim in pages.known]
    now = wire.prints(queries, prints.key, before)
    for number, (claim, was, seen) in enumerate(zip(pages.known, before, now, strict=True)):
        if seen.size if claim == NO_ROWS else seen != was:
            others[number] = seen
    strips_of = prints.strips_of([pages.known[number] for number in others], pages.places)
    strips = {number: strips_of(pages.known[number]) for number in others}
    parts = {
        number: [pages.part(number, some, place) for place in range(len(some))]
        or [pages.ranges[number]]
        for number, some in strips.items()
    }
    asked = [one for some in parts.values() for one in some]
    digests = iter(ask(asked) if asked else ())
    for number, ranges in parts.items():
        are = [next(digests) for _ in ranges]
        found[number] = joint_digest(are)
        if found[number] == UNTOLD:
            continue
        some = [
            strip._replace(rows=rows_in(digest), total=int(digest.partition("-")[2]))
            for strip, digest in zip(strips[number], are, strict=False)
        ]
        prints.learn(found[number], others[number], some, pages.places)
        if aside is not None and some and found[number] != pages.known[number]:
            aside.put(
                number,
                [
                    Part(one, (strip.digest, digest))
                    for one, strip, digest in zip(ranges, strips[number], are, strict=True)
                    if digest != strip.digest
                ],
            )
    prints.keep()
    return found
