"""A page that changed, gone through strip by strip: which strips are as they were, and what the others are now."""

from __future__ import annotations

from ..digests import sums_of_records
from ..page_prints import PagePrints
from ..rows_aside import Part, RowsAside
from ..strips import Print, Strip, Strips
from .asked_pages import AskedPages


class StripByStrip:
    """One page, by its number among those that are asked for, and what is known of its strips. All of them are as
    they were but those that it is told of, in their order."""

    def __init__(self, pages: AskedPages, number: int, strips: Strips) -> None:
        self._pages = pages
        self._number = number
        self._strips = strips
        self._others: dict[int, Strip] = {}
        self._parts: list[Part] = []

    def became(self, at: int, seen: Print, records: list[bytes]) -> bool:
        """One of the strips has these rows, as many as before, and looks so; False where they do not lie where it
        does."""
        key = self._pages.form.key
        mine = self._pages.part(self._number, self._strips, at)
        if records and not (mine.holds(key(records[0])) and mine.holds(key(records[-1]))):
            return False
        was = self._strips[at]
        now = was._replace(total=sum(sums_of_records(records)), seen=seen)
        if now.total != was.total:
            self._parts.append(Part(mine, (was.digest, now.digest), records))
        self._others[at] = now
        return True

    def end(self, prints: PagePrints, whole: Print, aside: RowsAside | None) -> str:
        """The page's digest. What it looks like, as a whole and strip by strip, is remembered; the parts that differ
        are put aside."""
        strips = self._strips.with_others(self._others)
        digest = strips.digest
        prints.learn(digest, whole, strips, self._pages.places)
        if aside is not None and digest != self._pages.known[self._number]:
            aside.put(self._number, self._parts)
        return digest
