"""Which rows of a table are stored in which pages, by stretches of the key."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator

from msgspec import Struct

from ..database import KeyRange
from ..store import Chunk, Store


class Piece(Struct, frozen=True):
    """All rows of a table that are in a range of its key, in pages."""

    key_range: KeyRange
    pages: tuple[Chunk, ...]


class Pieces:
    """What is kept of one table by now: stretches that do not overlap. A table may have many thousands of them."""

    def __init__(self) -> None:
        self._pieces: list[Piece] = []  # in the order of their keys
        self._starts: list[tuple[int, ...]] = []

    def __iter__(self) -> Iterator[Piece]:
        yield from self._pieces.copy()

    def add(self, piece: Piece) -> None:
        start = piece.key_range.after or ()
        at = bisect_right(self._starts, start)
        self._starts.insert(at, start)
        self._pieces.insert(at, piece)

    def drop(self, key_range: KeyRange) -> None:
        """Forget the stretches that reach into a range."""
        there = self._reaching(key_range)
        del self._starts[there], self._pieces[there]

    def within(self, key_range: KeyRange) -> list[Piece]:
        """The stretches that reach into a range."""
        return self._pieces[self._reaching(key_range)]

    def _reaching(self, key_range: KeyRange) -> slice:
        first, last = 0, len(self._pieces)
        if key_range.after is not None:
            first = max(0, bisect_right(self._starts, key_range.after) - 1)
            if first < last and not self._pieces[first].key_range.meets(key_range):
                first += 1
        if key_range.upto is not None:
            last = bisect_left(self._starts, key_range.upto)
        return slice(first, max(first, last))

    def gaps(self) -> Iterator[KeyRange]:
        """The ranges of which nothing is kept."""
        at: tuple[int, ...] | None = None
        for piece in self:
            if (piece.key_range.after or ()) > (at or ()):
                yield KeyRange(at, piece.key_range.after)
            at = piece.key_range.upto
            if at is None:
                return
        yield KeyRange(at)


def forget_what_is_gone(store: Store, tables: Iterable[Pieces]) -> None:
    """Drop pieces of which the store lacks something: that a killed process did not get settled, or that was swept
    since."""
    for pieces in tables:
        for piece in pieces:
            needs = {digest for page in piece.pages for digest in page.needs}
            if not all(map(store.contents.has, needs)):
                pieces.drop(piece.key_range)
