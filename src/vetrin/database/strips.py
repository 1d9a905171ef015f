"""Strips: a few rows of a page, so that of one that differs not all rows have to be looked at. Those of a table that
does not go by key are the stretches in which it came.

Kept as bytes: the CRC-32 of the rest; how many columns the key has, and which of the table's they are (16 bits
each); then, each for all strips in a row, the last keys in them (signed 64 bits a column), the sums of their digests
(64 bits below, then 32 above), how many rows they have, how many bytes these had as the server sent them, and their
tags.
"""

from __future__ import annotations

import struct
from bisect import bisect_left
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import lru_cache
from typing import NamedTuple
from zlib import crc32

from msgspec import Struct

from .digests import sums_of_records

_STRIPS = 32  # of a page
_FEWEST = 2  # rows of a strip
_LOW = (1 << 64) - 1


class Print(NamedTuple):
    """How many bytes some rows had, and their tag."""

    size: int
    tag: bytes


UNSEEN = Print(0, b"")


class Strip(NamedTuple):
    """The rows of a page behind those of the strip before, up to a key: their digest (``rows`` and ``total``), and
    what they looked like."""

    upto: tuple[int, ...]
    rows: int
    total: int
    seen: Print = UNSEEN

    @property
    def digest(self) -> str:
        return f"{self.rows}-{self.total}"


class Strips(Struct, frozen=True):
    """All strips of a page, column by column, as every page that changed is gone through by them: ``ends`` has
    ``width`` numbers for each, ``sizes`` and ``tags`` are what they looked like, of one that nobody has seen 0 and
    nothing."""

    width: int = 0
    ends: tuple[int, ...] = ()
    rows: tuple[int, ...] = ()
    totals: tuple[int, ...] = ()
    sizes: tuple[int, ...] = ()
    tags: tuple[bytes, ...] = ()

    @classmethod
    def of(cls, strips: Iterable[Strip]) -> Strips:
        """The same strips, by columns."""
        every = [*strips]
        return cls(
            width=len(every[0].upto) if every else 0,
            ends=tuple([number for strip in every for number in strip.upto]),
            rows=tuple([strip.rows for strip in every]),
            totals=tuple([strip.total for strip in every]),
            sizes=tuple([strip.seen.size for strip in every]),
            tags=tuple([strip.seen.tag for strip in every]),
        )

    def __len__(self) -> int:
        return len(self.rows)

    def __iter__(self) -> Iterator[Strip]:
        return map(self.__getitem__, range(len(self.rows)))

    def __getitem__(self, at: int) -> Strip:
        seen = Print(self.sizes[at], self.tags[at])
        return Strip(self.upto(at), self.rows[at], self.totals[at], seen)

    def upto(self, at: int) -> tuple[int, ...]:
        """The last key of a strip."""
        return self.ends[at * self.width : (at + 1) * self.width]

    @property
    def digest(self) -> str:
        """The digest of all their rows."""
        return f"{sum(self.rows)}-{sum(self.totals)}"

    def with_others(self, others: Mapping[int, Strip]) -> Strips:
        """The same strips, but for some of them, by their numbers."""
        rows, totals, sizes, tags = [*self.rows], [*self.totals], [*self.sizes], [*self.tags]
        for at, strip in others.items():
            rows[at], totals[at] = strip.rows, strip.total
            sizes[at], tags[at] = strip.seen
        return self.with_columns(rows, totals, sizes, tags)

    def with_columns(
        self,
        rows: Iterable[int],
        totals: Iterable[int],
        sizes: Iterable[int],
        tags: Iterable[bytes],
    ) -> Strips:
        """Strips that end where these do, and are otherwise as told."""
        return Strips(
            width=self.width,
            ends=self.ends,
            rows=tuple(rows),
            totals=tuple(totals),
            sizes=tuple(sizes),
            tags=tuple(tags),
        )


NO_STRIPS = Strips()


def changed_strips(
    strips: Strips,
    gone: Sequence[bytes],
    came: Sequence[bytes],
    key: Callable[[bytes], tuple[int, ...]],
) -> Strips:
    """The strips of a page, if they are known, from which some rows went, and into which others came, by their
    records; nobody has seen those that this concerns."""
    if not strips:
        return strips
    borders = [*zip(*[iter(strips.ends)] * strips.width, strict=True)][:-1]
    rows, totals = [*strips.rows], [*strips.totals]
    sizes, tags = [*strips.sizes], [*strips.tags]
    touched: set[int] = set()
    for sign, records in ((-1, gone), (1, came)):
        for record, number in zip(records, sums_of_records(records), strict=True):
            at = bisect_left(borders, key(record))
            rows[at] += sign
            totals[at] += sign * number
            touched.add(at)
    for at in touched:
        if (rows[at], totals[at]) != (strips.rows[at], strips.totals[at]):
            sizes[at], tags[at] = UNSEEN
    return strips.with_columns(rows, totals, sizes, tags)


def strip_rows(count: int) -> int:
    """How many of a page's rows make a strip; 0 where they are too few for several."""
    return max(_FEWEST, -(-count // _STRIPS)) if count > _FEWEST else 0


def packed(strips: Strips, places: Sequence[int]) -> bytes:
    """Some strips as bytes, none where they cannot be kept so. ``places`` are those of the key's columns."""
    if not strips:
        return b""
    low = [total & _LOW for total in strips.totals]
    high = [total >> 64 for total in strips.totals]
    try:
        columns = _form(len(places), len(strips)).pack(
            *strips.ends, *low, *high, *strips.rows, *strips.sizes, *strips.tags
        )
    except (struct.error, ValueError):  # a key of more than 63 bits
        return b""
    content = _head(places) + columns
    return crc32(content).to_bytes(4, "little") + content


def unpacked(content: bytes, digest: str, places: Sequence[int]) -> Strips:
    """The strips in some bytes; none where they are not those of a page with this digest and such a key."""
    head, body, width = _head(places), memoryview(content)[4:], len(places)
    if bytes(body[: len(head)]) != head or crc32(body) != int.from_bytes(content[:4], "little"):
        return NO_STRIPS
    count, rest = divmod(len(body) - len(head), _form(width, 1).size)
    if rest:
        return NO_STRIPS
    fields = _form(width, count).unpack(body[len(head) :])
    ends, low, high, rows, sizes = [
        fields[first * count : last * count] for first, last in _columns(width)
    ]
    tags = fields[-count:]
    if 0 in sizes:
        tags = tuple([tag if size else b"" for tag, size in zip(tags, sizes, strict=True)])
    found = Strips(
        width=width,
        ends=ends,
        rows=rows,
        totals=tuple([below | above << 64 for below, above in zip(low, high, strict=True)]),
        sizes=sizes,
        tags=tags,
    )
    return found if found.digest == digest else NO_STRIPS


def _columns(width: int) -> list[tuple[int, int]]:
    return [(0, width), *((width + at, width + at + 1) for at in range(4))]


def _head(places: Sequence[int]) -> bytes:
    return struct.pack(f"<B{len(places)}H", len(places), *places)


@lru_cache
def _form(width: int, count: int) -> struct.Struct:
    return struct.Struct(f"<{width * count}q{count}Q{count}I{count}I{count}I" + "16s" * count)
