"""A page that changed, gone through strip by strip: which strips are as they were, and what the others are now."""

from __future__ import annotations

from ..digests import sums_of_records
from ..page_prints import PagePrints
from ..rows_aside import Aside, Part
from ..strips import Print, Strips
from .asked_pages import KnownPages


class StripByStrip:
    """One page, by its number among those that are asked for, and what is known of its strips. All of them are as
    they were but those that it is told of, in their order."""

    def __init__(self, pages: KnownPages, number: int, strips: Strips) -> None:
        self._pages = pages
        self._number = number
        self._strips = strips
        self._totals = [*strips.totals]
        self._sizes = [*strips.sizes]
        self._tags = [*strips.tags]
        self._parts: list[Part] = []

    def became(self, at: int, seen: Print, records: list[bytes]) -> bool:
        """One of the strips has these rows, as many as before, and looks so; False where they do not lie where it
        does."""
        key = self._pages.form.key
        mine = self._pages.part(self._number, self._strips, at)
        if records and not (mine.holds(key(records[0])) and mine.holds(key(records[-1]))):
            return False
        rows, before = self._strips.rows[at], self._totals[at]
        now = self._totals[at] = sum(sums_of_records(records))
        if now != before:
            self._parts.append(Part(mine, (f"{rows}-{before}", f"{rows}-{now}"), records))
        self._sizes[at], self._tags[at] = seen
        return True

    def end(self, prints: PagePrints, whole: Print, aside: Aside | None) -> str:
        """The page's digest. What it looks like, as a whole and strip by strip, is remembered; the parts that differ
        are put aside."""
        strips = self._strips.with_columns(self._strips.rows, self._totals, self._sizes, self._tags)
        digest = strips.digest
        prints.learn(digest, whole, strips, self._pages.places)
        if aside is not None and digest != self._pages.known[self._number]:
            aside.put(self._number, self._parts)
        return digest
