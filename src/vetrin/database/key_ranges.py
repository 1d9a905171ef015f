"""Stretches of a table by its key, and digests by which they are told to be as they were.

A page is some rows that lie together in key order. Its digest is how many rows they are and the sum of
64 bits (the first eight bytes, big-endian) of the SHA-256 (FIPS 180-4) of each one's record. A record has
before each cell its length (``row_codec.py``), so no two rows have the same one; sums of a cryptographic digest
do not cancel out as those of CRC-32 do. Servers make it themselves with what SQL has, so that a table that
was taken once need not be sent again to be checked: a changed page passes for unchanged with a chance of
2**-64. A row that is too long for the server to digest makes its page one that cannot be told.
"""

from __future__ import annotations

import contextlib
import hashlib
import struct
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace

from .base import Batch, Table
from .page_prints import Packets, PagePrints
from .row_codec import records_of
from .rows_aside import PageRows, RowsAside

NO_ROWS = "0-0"
UNTOLD = ""
PAGE_ROWS = 500  # of small rows: fewer cost the server more, more make a change concern more rows
_PAGE_BYTES = 128 << 10  # or so many, of larger ones
_BEYOND = 10**30  # in a sum, what a server puts in for a row that is too long
_WHOLE = ("int", "integer", "bigint", "mediumint", "smallint", "tinyint")


@dataclass(frozen=True)
class KeyRange:
    """Rows whose key is beyond ``after`` and not beyond ``upto``; None is no border."""

    after: tuple[int, ...] | None = None
    upto: tuple[int, ...] | None = None

    def holds(self, key: tuple[int, ...]) -> bool:
        """True for a key in the range."""
        return (self.after is None or key > self.after) and (self.upto is None or key <= self.upto)

    def meets(self, other: KeyRange) -> bool:
        """True where a key can be in both ranges."""
        return not any(
            a.upto is not None and b.after is not None and a.upto <= b.after
            for a, b in ((self, other), (other, self))
        )

    def sql(self, names: Sequence[str]) -> str:
        """A condition on key columns, whose names are quoted already; empty for all rows."""
        parts = []
        if self.after is not None:
            parts.append(_beyond(names, self.after, ">"))
        if self.upto is not None:
            parts.append(f"NOT {_beyond(names, self.upto, '>')}")
        return " AND ".join(parts)


@dataclass(frozen=True)
class KeyRanges:
    """Rows whose key is in one of some ranges, or that have one of some ``keys``."""

    ranges: tuple[KeyRange, ...] = ()
    keys: frozenset[tuple[int, ...]] = frozenset()

    def holds(self, key: tuple[int, ...]) -> bool:
        """True for a key that is wanted."""
        return key in self.keys or any(one.holds(key) for one in self.ranges)

    def sql(self, names: Sequence[str]) -> str:
        """A condition on key columns, whose names are quoted already."""
        parts = [f"({one.sql(names) or '1 = 1'})" for one in self.ranges]
        keys = sorted(self.keys)
        if len(names) == 1 and keys:
            parts.append(f"{names[0]} IN ({', '.join(str(int(key[0])) for key in keys)})")
        else:
            parts += [f"({_equal(names, key)})" for key in keys]
        return f"({' OR '.join(parts) or '1 = 0'})"


def _equal(names: Sequence[str], values: Sequence[int]) -> str:
    return " AND ".join(f"{name} = {int(value)}" for name, value in zip(names, values, strict=True))


def _beyond(names: Sequence[str], values: Sequence[int], sign: str) -> str:
    name, value = names[0], int(values[0])
    if len(names) == 1:
        return f"({name} {sign} {value})"
    rest = _beyond(names[1:], values[1:], sign)
    return f"({name} {sign} {value} OR ({name} = {value} AND {rest}))"


@dataclass(frozen=True)
class Page:
    """Some rows that were taken: up to which key, how many, their digest, and that of what they ``became``."""

    upto: tuple[int, ...]
    rows: int
    digest: str
    became: str = UNTOLD


def can_copy_in_ranges(table: Table) -> bool:
    """True for a table that can be taken stretch by stretch: its key is made of whole numbers."""
    types = {
        column.name: column.type.split("(")[0].split(" ")[0].lower() for column in table.columns
    }
    return (
        table.consistent
        and bool(table.key)
        and all(types.get(name) in _WHOLE for name in table.key)
    )


def digest_of_records(records: Iterable[bytes]) -> str:
    """The digest of rows, in any order: ``COUNT-SUM``."""
    sums = sums_of_records(records)
    return f"{len(sums)}-{sum(sums)}"


def sums_of_records(records: Iterable[bytes]) -> tuple[int, ...]:
    """What each of some rows adds to a digest."""
    sha256 = hashlib.sha256
    digests = [sha256(record).digest() for record in records]
    # All at once: this is done for every row that there is.
    return struct.unpack(">" + "Q24x" * len(digests), b"".join(digests))


def digest_of_sum(count: int, total: int | None) -> str:
    """The digest as a server gives it, ``UNTOLD`` where a row was too long for it."""
    if (total or 0) >= _BEYOND:
        return UNTOLD
    return f"{count}-{total or 0}"


def digest_with(digest: str, gone: Iterable[bytes], came: Iterable[bytes]) -> str:
    """The digest of rows of which some went, and others came, by their records."""
    count, total = map(int, digest.split("-"))
    for sign, records in ((-1, gone), (1, came)):
        some, part = map(int, digest_of_records(records).split("-"))
        count, total = count + sign * some, total + sign * part
    return f"{count}-{total}"


def joint_digest(digests: Iterable[str]) -> str:
    """The digest of all rows of which these are the digests of parts; ``UNTOLD`` where one of them is."""
    count = total = 0
    for digest in digests:
        if digest == UNTOLD:
            return UNTOLD
        some, _, part = digest.partition("-")
        count, total = count + int(some), total + int(part)
    return f"{count}-{total}"


def digest_of_rows(batches: Iterable[Batch]) -> str:
    """The digest of all rows of some batches."""
    return joint_digest(digest_of_records(_records(batch)) for batch in batches)


def _records(batch: Batch) -> list[bytes]:
    if batch.records is None:
        batch.records = records_of(batch)
    return batch.records


def digests_by_reading(
    rows: Callable[[KeyRange], Iterable[Batch]],
    ranges: Sequence[KeyRange],
    known: Sequence[str] = (),
    aside: RowsAside | None = None,
) -> list[str]:
    """What ``Reader.digests`` gives, where no server makes it; ``rows`` reads a range."""
    if aside is None or not known:
        return [digest_of_rows(rows(key_range)) for key_range in ranges]
    found = []
    for number, (key_range, before) in enumerate(zip(ranges, known, strict=True)):
        parts = []
        there = PageRows(aside, number)
        for batch in rows(key_range):
            records = _records(batch)
            there.add(records)
            parts.append(digest_of_records(records))
        found.append(joint_digest(parts))
        if found[-1] != before:
            there.put()
    return found


def with_pages(
    table: Table, batches: Iterable[Batch], prints: PagePrints | None = None
) -> Iterator[Batch]:
    """Pass batches on, each with the pages that its rows make; their cells may be changed thereafter. The pages of a
    table that does not go by key have no key. ``prints`` remember what they look like, or all of them together."""
    names = [column.name for column in table.columns]
    places = [names.index(name) for name in table.key] if can_copy_in_ranges(table) else []
    whole = Packets(prints, len(names)) if prints is not None and not places else None
    digests: list[str] = []
    for batch in batches:
        records = _records(batch)
        with contextlib.suppress(ValueError, TypeError):  # some engines take texts for numbers
            batch.pages = tuple(_pages(batch, places, prints if places else None))
        if whole is not None:
            whole.add(records)
            digests += [page.digest for page in batch.pages]
        yield batch
    if prints is not None:
        if whole is not None:
            prints.learn(joint_digest(digests), whole.seen())
        prints.keep()


def _pages(batch: Batch, places: Sequence[int], prints: PagePrints | None) -> Iterator[Page]:
    records, width = batch.records or [], batch.width
    sums = batch.sums = sums_of_records(records)
    rows = max(1, min(PAGE_ROWS, _PAGE_BYTES * len(records) // max(1, batch.size)))
    for at in range(0, len(records), rows):
        part = records[at : at + rows]
        last = (at + len(part) - 1) * width
        key = tuple(int(batch.cells[last + place]) for place in places)  # type: ignore[arg-type]
        digest = f"{len(part)}-{sum(sums[at : at + rows])}"
        if prints is not None and prints.of(digest) is None:
            packets = Packets(prints, width)
            packets.add(part)
            prints.learn(digest, packets.seen())
        yield Page(key, len(part), digest)


def pages_as_they_became(batch: Batch) -> list[Page]:
    """The pages of a batch, each with the digest of its rows as they are now."""
    found, begin = [], 0
    altered = sorted(batch.altered)
    at = 0
    for page in batch.pages:
        end = begin + page.rows
        rows = []
        while at < len(altered) and altered[at] < end:
            rows.append(altered[at])
            at += 1
        found.append(replace(page, became=_became(batch, rows, page.digest)))
        begin = end
    return found


def _became(batch: Batch, rows: Sequence[int], digest: str) -> str:
    """The digest of a page of which some rows got other values."""
    if not rows:
        return digest
    width = batch.width
    cells = [cell for row in rows for cell in batch.cells[row * width : (row + 1) * width]]
    came = sum(sums_of_records(records_of(Batch(width, cells, 0, batch.mixed))))
    count, _, total = digest.partition("-")
    return f"{count}-{int(total) - sum(batch.sums[row] for row in rows) + came}"


def joint_ranges(ranges: Iterable[KeyRange], most: int) -> list[KeyRange]:
    """Ranges in their order, of neighbours at most so many as one."""
    found: list[KeyRange] = []
    joined = 0
    for one in ranges:
        joined += 1
        if joined <= most and found and found[-1].upto == one.after is not None:
            found[-1] = KeyRange(found[-1].after, one.upto)
        else:
            found.append(one)
            joined = 1
    return found


def spans(pages: Sequence[Page]) -> list[KeyRange]:
    """The range of each of some pages that follow one another from the table's beginning."""
    found, after = [], None
    for page in pages:
        found.append(KeyRange(after, page.upto))
        after = page.upto
    return found
