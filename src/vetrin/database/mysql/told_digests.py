"""Digests of pages whose rows a helper reads where they are, and tells what they look like."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Sequence
from itertools import islice

from ..digests import NO_ROWS, UNTOLD, joint_digest, rows_in
from ..page_prints import PrintsThere
from ..rows_aside import LARGEST, Part, RowsAside
from ..strips import NO_STRIPS, Print, Strip, Strips
from .asked_pages import Ask, AskedPages
from .side_by_side import AskedPrints, AskedStrips, Work
from .strip_by_strip import StripByStrip
from .wire import ToldStrips

_AT_ONCE = 32  # pages that are asked for together
_GROUPS = 3  # such groups, before the first is told
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
        self._others: dict[int, Print] = {}  # pages that look otherwise than before
        self._strips: dict[int, Strips] = {}  # of these, as they were
        self._looked = self._came = 0  # strips that were told of, and those whose rows came

    def found(self, ask: Ask) -> Work[list[str]]:
        known = self._pages.known
        self._prints.know(known)
        yield from self._look()
        yield from self._ask(ask)
        self._prints.keep()
        return self._found

    def _look(self) -> Work[None]:
        """Have told what the pages look like, some at a time, and the strips of those that look otherwise, whose rows
        whoever tells it still has at hand then."""
        count = len(self._pages.known)
        groups = (range(at, min(at + _AT_ONCE, count)) for at in range(0, count, _AT_ONCE))
        # Whether their strips are asked for, and of which pages.
        then: list[tuple[bool, Sequence[int]]] = [(False, one) for one in islice(groups, _GROUPS)]
        asked = deque(then)
        while asked:
            told = yield [
                self._of_strips(some) if strips else self._whole(some) for strips, some in then
            ]
            strips, numbers = asked.popleft()
            if strips:
                self._take_strips(numbers, told)
                then = []
            else:
                others = self._take_whole(numbers, told)
                then = [(True, others)] if others else []
                then += [(False, one) for one in islice(groups, 1)]
            asked += then

    def _whole(self, numbers: Sequence[int]) -> AskedPrints:
        pages, prints = self._pages, self._prints
        return AskedPrints(
            [pages.query(pages.ranges[number]) for number in numbers],
            prints.key,
            [self._seen(pages.known[number], prints.of(pages.known[number])) for number in numbers],
        )

    def _take_whole(self, numbers: Sequence[int], now: Sequence[Print]) -> list[int]:
        """Note the pages that look otherwise than before; those of them whose strips are asked for."""
        pages, prints = self._pages, self._prints
        others = {
            number: seen
            for number, seen in zip(numbers, now, strict=True)
            if (
                seen.size
                if pages.known[number] == NO_ROWS
                else seen != prints.of(pages.known[number])
            )
        }
        self._others |= others
        if pages.places:
            strips_of = prints.strips_of([pages.known[number] for number in others], pages.places)
            self._strips |= {number: strips_of(pages.known[number]) for number in others}
        if self._came * _FEW > self._looked:
            return []
        return [
            number
            for number, seen in others.items()
            if (some := self._strips.get(number, NO_STRIPS))
            and some.sizes.count(0) * _FEW < len(some)
            and seen.size <= LARGEST
        ]

    def _take_strips(self, numbers: Sequence[int], told: Iterable[ToldStrips | None]) -> None:
        """Find the digests of pages by what is told of their strips."""
        for number, one in zip(numbers, told, strict=True):
            strips = self._strips[number]
            self._looked += len(strips)
            self._came += len(strips) if one is None else sum(map(bool, one.others))
            if one is not None and self._by_strips(number, strips, one):
                del self._others[number]

    def _seen(self, claim: str, whole: Print | None) -> list[Print]:
        """What a page looked like: a large one by its stretches, if they are known."""
        if whole is None:
            return []
        large = whole.size > LARGEST
        stretches = self._prints.strips_of([claim], ())(claim) if large else NO_STRIPS
        return [one.seen for one in stretches] or [whole]

    def _of_strips(self, numbers: Sequence[int]) -> AskedStrips:
        pages = self._pages
        return AskedStrips(
            [pages.query(pages.ranges[number]) for number in numbers],
            self._prints.key,
            [self._strips[number] for number in numbers],
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

    def _ask(self, ask: Ask) -> Work[None]:
        """Have the server digest the pages that are left."""
        pages, others = self._pages, self._others
        strips = {number: self._strips.get(number, NO_STRIPS) for number in others}
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
