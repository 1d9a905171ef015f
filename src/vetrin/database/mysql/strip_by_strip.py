"""A page that changed, gone through strip by strip: which strips are as they were, and what the others are now."""

from __future__ import annotations

from collections.abc import Sequence

from ..digests import sums_of_records
from ..page_prints import PagePrints
from ..rows_aside import Part, RowsAside
from ..strips import Print, Strip, digest_of_strips
from .asked_pages import AskedPages


class StripByStrip:
    """One page, by its number among those that are asked for, and what is known of its strips. Of each it is told in
    turn that it is as it was, or else its rows."""

    def __init__(self, pages: AskedPages, number: int, strips: Sequence[Strip]) -> None:
        self._pages = pages
        self._number = number
        self._strips = strips
        self._now: list[Strip] = []
        self._parts: list[Part] = []

    def as_it_was(self, strip: Strip) -> None:
        """The next strip, which is this one still."""
        self._now.append(strip)

    def became(self, strip: Strip, seen: Print, records: list[bytes]) -> bool:
        """The next strip, which was this one, has as many rows as before, and looks so; False where they do not lie
        where it does."""
        key = self._pages.form.key
        mine = self._pages.part(self._number, self._strips, len(self._now))
        if records and not (mine.holds(key(records[0])) and mine.holds(key(records[-1]))):
            return False
        found = strip._replace(total=sum(sums_of_records(records)), seen=seen)
        if found.total != strip.total:
            self._parts.append(Part(mine, (strip.digest, found.digest), records))
        self._now.append(found)
        return True

    def end(self, prints: PagePrints, whole: Print, aside: RowsAside | None) -> str:
        """The page's digest. What it looks like, as a whole and strip by strip, is remembered; the parts that differ
        are put aside."""
        digest = digest_of_strips(self._now)
        prints.learn(digest, whole, self._now, self._pages.places)
        if aside is not None and digest != self._pages.known[self._number]:
            aside.put(self._number, self._parts)
        return digest
