"""Strips: a few rows of a page, so that of one that differs not all rows have to be looked at. Those of a table that
does not go by key are the stretches in which it came.

Kept as bytes: the CRC-32 of the rest; how many columns the key has, and which of the table's they are (16 bits
each); then for each strip the last key in it (signed 64 bits a column), the sum of its digest (80 bits), how many
rows it has, how many bytes these had as the server sent them, and their tag.
"""

from __future__ import annotations

import struct
from bisect import bisect_left
from collections.abc import Callable, Sequence
from typing import NamedTuple
from zlib import crc32

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


def digest_of_strips(strips: Sequence[Strip]) -> str:
    """The digest of all their rows."""
    return f"{sum([strip.rows for strip in strips])}-{sum([strip.total for strip in strips])}"


def changed_strips(
    strips: Sequence[Strip],
    gone: Sequence[bytes],
    came: Sequence[bytes],
    key: Callable[[bytes], tuple[int, ...]],
) -> list[Strip]:
    """The strips of a page, if they are known, from which some rows went, and into which others came, by their
    records; nobody has seen those that this concerns."""
    if not strips:
        return []
    borders = [strip.upto for strip in strips[:-1]]
    rows, totals = [strip.rows for strip in strips], [strip.total for strip in strips]
    for sign, records in ((-1, gone), (1, came)):
        for record, number in zip(records, sums_of_records(records), strict=True):
            at = bisect_left(borders, key(record))
            rows[at] += sign
            totals[at] += sign * number
    return [
        strip if (count, total) == (strip.rows, strip.total) else Strip(strip.upto, count, total)
        for strip, count, total in zip(strips, rows, totals, strict=True)
    ]


def strip_rows(count: int) -> int:
    """How many of a page's rows make a strip; 0 where they are too few for several."""
    return max(_FEWEST, -(-count // _STRIPS)) if count > _FEWEST else 0


def packed(strips: Sequence[Strip], places: Sequence[int]) -> bytes:
    """Some strips as bytes, none where they cannot be kept so. ``places`` are those of the key's columns."""
    if not strips:
        return b""
    form = _form(len(places))
    parts = [_head(places)]
    try:
        for strip in strips:
            low, high = strip.total & _LOW, strip.total >> 64
            parts.append(form.pack(*strip.upto, low, high, strip.rows, *strip.seen))
    except (struct.error, ValueError):  # a key of more than 63 bits
        return b""
    content = b"".join(parts)
    return crc32(content).to_bytes(4, "little") + content


def unpacked(content: bytes, digest: str, places: Sequence[int]) -> list[Strip]:
    """The strips in some bytes; none where they are not those of a page with this digest and such a key."""
    head, body, width = _head(places), content[4:], len(places)
    if not body.startswith(head) or crc32(body) != int.from_bytes(content[:4], "little"):
        return []
    try:
        fields = [*_form(width).iter_unpack(body[len(head) :])]
    except struct.error:
        return []
    found = [
        Strip(one[:width], one[-3], one[-5] | one[-4] << 64, Print(one[-2], one[-1]) if one[-2] else UNSEEN)
        for one in fields  # of every page that changed
    ]  # fmt: skip
    return found if digest_of_strips(found) == digest else []


def _head(places: Sequence[int]) -> bytes:
    return struct.pack(f"<B{len(places)}H", len(places), *places)


def _form(width: int) -> struct.Struct:
    return struct.Struct(f"<{width}qQHII16s")
