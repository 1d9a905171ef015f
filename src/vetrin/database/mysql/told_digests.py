"""Digests of pages whose rows a helper reads where they are, and tells what they look like."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence

from ..digests import NO_ROWS, UNTOLD, joint_digest, rows_in
from ..page_prints import PrintsThere
from ..rows_aside import LARGEST, Part, RowsAside
from ..strips import NO_STRIPS, Print, Strip, Strips
from .asked_pages import Ask, AskedPages
from .side_by_side import AskedPrints, AskedStrips, Work
from .strip_by_strip import StripByStrip
from .wire import ToldStrips

_AT_ONCE = 64  # pages whose strips are asked for together
_GROUPS = 2  # such groups, before the first is answered
_FEW = 3  # of the strips at most this part comes as rows: of a table in which more changed all may have


def told_digests(
    pages: AskedPages, prints: PrintsThere, ask: Ask, aside: RowsAside | None = None
) -> Work[list[str]]:
    """The digests of some pages, of whose rows somebody on the way tells prints. Of those that look otherwise than
    before he tells those of their strips, and sends the rows of strips that look otherwise. The server is asked for
    what then is not known, strip by strip where these are known. What is known of pages that are not as they were is
    put ``aside``.
    """
    return (yield from _Telling(pages, prints, aside).found(ask))


class _Telling:
    def __init__(self, pages: AskedPages, prints: PrintsThere, aside: RowsAside | None) -> None:
        self._pages = pages
        self._prints = prints
        self._aside = aside
        self._found = [*pages.known]

    def found(self, ask: Ask) -> Work[list[str]]:
        known = self._pages.known
        self._prints.know(known)
        others = yield from self._others()
        places = self._pages.places
        strips_of = self._prints.strips_of([known[number] for number in others], places)
        strips = {number: strips_of(known[number]) if places else NO_STRIPS for number in others}
        for number in (yield from self._told(others, strips)):
            del others[number]
        yield from self._ask(ask, others, strips)
        self._prints.keep()
        return self._found

    def _others(self) -> Work[dict[int, Print]]:
        """The pages that look otherwise than before, and what they look like."""
        pages, prints = self._pages, self._prints
        before = [prints.of(claim) for claim in pages.known]
        queries = [pages.query(one) for one in pages.ranges]
        seen = [self._seen(claim, was) for claim, was in zip(pages.known, before, strict=True)]
        now = yield [AskedPrints(queries, prints.key, seen)]
        return {
            number: seen
            for number, (claim, was, seen) in enumerate(zip(pages.known, before, now, strict=True))
            if (seen.size if claim == NO_ROWS else seen != was)
        }

    def _seen(self, claim: str, whole: Print | None) -> list[Print]:
        """What a page looked like: a large one by its stretches, if they are known."""
        if whole is None:
            return []
        large = whole.size > LARGEST
        stretches = self._prints.strips_of([claim], ())(claim) if large else NO_STRIPS
        return [one.seen for one in stretches] or [whole]

    def _told(self, others: dict[int, Print], strips: dict[int, Strips]) -> Work[list[int]]:
        """The pages whose digests are known by their strips."""
        numbers = [
            number
            for number, some in strips.items()
            if some.sizes.count(0) * _FEW < len(some) and others[number].size <= LARGEST
        ]
        groups = deque(numbers[at : at + _AT_ONCE] for at in range(0, len(numbers), _AT_ONCE))
        asked = deque[list[int]]()
        found: list[int] = []
        looked = came = 0
        while groups or asked:
            # The next are asked for before these are through, so that nobody waits for the way there and back.
            more = [groups.popleft() for _ in range(min(len(groups), _GROUPS - len(asked)))]
            asked += more
            told = yield [self._strips(some, strips) for some in more]
            for number, one in zip(asked.popleft(), told, strict=True):
                looked += len(strips[number])
                came += len(strips[number]) if one is None else sum(map(bool, one.others))
                if one is not None and self._by_strips(number, strips[number], one):
                    found.append(number)
            if came * _FEW > looked:
                groups.clear()
        return found

    def _strips(self, numbers: Sequence[int], strips: dict[int, Strips]) -> AskedStrips:
        pages = self._pages
        return AskedStrips(
            [pages.query(pages.ranges[number]) for number in numbers],
            self._prints.key,
            [strips[number] for number in numbers],
        )

    def _by_strips(self, number: int, strips: Strips, told: ToldStrips) -> bool:
        """Find the digest of a page by its strips; False where rows lie in others than they did."""
        page = StripByStrip(self._pages, number, strips)
        for at, other in enumerate(told.others):
            if other is not None and not page.became(at, *other):
                return False
        self._found[number] = page.end(self._prints, told.whole, self._aside)
        return True

    def _put(self, number: int, parts: Sequence[Part]) -> None:
        if self._aside is not None and parts and self._found[number] != self._pages.known[number]:
            self._aside.put(number, parts)

    def _ask(self, ask: Ask, others: dict[int, Print], strips: dict[int, Strips]) -> Work[None]:
        """Have the server digest some pages, which look so."""
        pages = self._pages
        ranges = {
            number: [pages.part(number, strips[number], at) for at in range(len(strips[number]))]
            or [pages.ranges[number]]
            for number in others
        }
        asked = [one for some in ranges.values() for one in some]
        digests = iter((yield from ask(asked)) if asked else ())
        for number, some in ranges.items():
            before = strips[number]
            now = [next(digests) for _ in some]
            self._found[number] = joint_digest(now)
            if self._found[number] == UNTOLD:
                continue
            changed = [
                (at, one, strip, digest)
                for at, (one, strip, digest) in enumerate(zip(some, before, now, strict=False))
                if digest != strip.digest
            ]
            after = before.with_others(
                {
                    at: Strip(strip.upto, rows_in(digest), int(digest.partition("-")[2]))
                    for at, _, strip, digest in changed
                }
            )
            self._prints.learn(self._found[number], others[number], after, pages.places)
            self._put(
                number, [Part(one, (strip.digest, digest)) for _, one, strip, digest in changed]
            )
