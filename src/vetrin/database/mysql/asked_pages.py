"""Pages of a table whose digests are asked for, and their strips."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

from ..base import Table
from ..key_ranges import KeyRange
from ..pages import can_copy_in_ranges
from ..row_codec import RecordForm
from ..strips import Strips
from .side_by_side import Work

Query = Callable[[KeyRange], str]
# The server, for the digests of some ranges.
Ask = Callable[[Sequence[KeyRange]], Work[list[str]]]


@dataclass(frozen=True)
class KnownPages:
    """Some ranges of a table, in order, of which ``known`` is what their digests were once."""

    table: Table
    ranges: Sequence[KeyRange]
    known: Sequence[str]

    @cached_property
    def form(self) -> RecordForm:
        return RecordForm(self.table, mixed=False)

    @cached_property
    def places(self) -> Sequence[int]:
        """Where the columns of the key are; none where rows are not read in its order, or it is not made of whole
        numbers."""
        return self.form.places if can_copy_in_ranges(self.table) else ()

    def part(self, number: int, strips: Strips, place: int) -> KeyRange:
        """The range of one of a page's strips."""
        mine = self.ranges[number]
        after = strips.upto(place - 1) if place else mine.after
        return KeyRange(after, strips.upto(place) if place < len(strips) - 1 else mine.upto)


@dataclass(frozen=True)
class AskedPages(KnownPages):
    """The same, asked for: ``query`` reads one range, or several that follow one another."""

    query: Query
