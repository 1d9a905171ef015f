"""Stretches of a table by its key, and digests by which they are told to be as they were.

A page is a batch of rows that lie together in key order; its digest is MD5 (RFC 1321) over all cells, in
order, joined by a byte that separates, with another in place of NULL. Servers make it themselves with
what SQL has, so that a table that was taken once need not be sent again to be checked. It tells change,
it is no protection against forgery. MySQL has no MD5 from 9.6 on; there it is SHA-256 (FIPS 180-4).
"""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass

from .contract import Batch, Cell, Hashing, Table

JOIN = b"\x1f"
NULL = b"\x1a\x1f"
_WHOLE = ("int", "integer", "bigint", "mediumint", "smallint", "tinyint")


@dataclass(frozen=True)
class KeyRange:
    """Rows whose key is beyond ``after`` and not beyond ``upto``; None is no border."""

    after: tuple[int, ...] | None = None
    upto: tuple[int, ...] | None = None

    def sql(self, names: Sequence[str]) -> str:
        """A condition on key columns, whose names are quoted already; empty for all rows."""
        parts = []
        if self.after is not None:
            parts.append(_beyond(names, self.after, ">"))
        if self.upto is not None:
            parts.append(f"NOT {_beyond(names, self.upto, '>')}")
        return " AND ".join(parts)


def _beyond(names: Sequence[str], values: Sequence[int], sign: str) -> str:
    name, value = names[0], int(values[0])
    if len(names) == 1:
        return f"({name} {sign} {value})"
    rest = _beyond(names[1:], values[1:], sign)
    return f"({name} {sign} {value} OR ({name} = {value} AND {rest}))"


@dataclass(frozen=True)
class Page:
    """Some rows that were taken: up to which key, how many, and their digest."""

    upto: tuple[int, ...]
    rows: int
    digest: str


def goes_by_key(table: Table) -> bool:
    """True for a table that can be taken stretch by stretch: its key is made of whole numbers."""
    types = {
        column.name: column.type.split("(")[0].split(" ")[0].lower() for column in table.columns
    }
    return (
        table.consistent
        and bool(table.key)
        and all(types.get(name) in _WHOLE for name in table.key)
    )


def digest_of_cells(cells: Iterable[Cell], hashing: Hashing = "md5") -> str:
    """A digest over cells in order, as ``Reader.digests`` gives it."""
    return hashlib.new(hashing, joined(cells), usedforsecurity=False).hexdigest()


def joined(cells: Iterable[Cell]) -> bytes:
    return JOIN.join(
        [c if c.__class__ is bytes else NULL if c is None else _as_bytes(c) for c in cells]
    )


def _as_bytes(cell: Cell) -> bytes:
    return bytes(cell) if isinstance(cell, bytes) else repr(cell).encode()


def digest_of_rows(batches: Iterable[Batch], hashing: Hashing = "md5") -> str:
    """How many rows, and the sum of their halved digests: the same in any order."""
    count = total = 0
    for batch in batches:
        count += batch.rows
        for row in batch.each():
            total += int(digest_of_cells(row, hashing)[:15], 16)
    return f"{count}-{total}" if count else "0"


def digests_by_reading(
    rows: Callable[[KeyRange], Iterable[Batch]], ranges: Sequence[KeyRange]
) -> list[str]:
    """What ``Reader.digests`` gives, where no server makes it; ``rows`` reads a range."""
    found = []
    for among in ranges:
        batches = list(rows(among))
        cells = [cell for batch in batches for cell in batch.cells]
        whole = among == KeyRange()
        found.append(digest_of_rows(batches) if whole else digest_of_cells(cells) if cells else "")
    return found


def with_pages(table: Table, batches: Iterable[Batch], hashing: Hashing = "md5") -> Iterator[Batch]:
    """Pass batches on, each with the page that it is; their cells may be changed thereafter."""
    places = [[c.name for c in table.columns].index(name) for name in table.key]
    for batch in batches:
        last = batch.cells[-batch.width :]
        with contextlib.suppress(ValueError, TypeError):  # some engines take texts for numbers
            key = tuple(int(last[place]) for place in places)  # type: ignore[arg-type]
            batch.page = Page(key, batch.rows, digest_of_cells(batch.cells, hashing))
        yield batch


def spans(pages: Sequence[Page]) -> list[KeyRange]:
    """The range of each of some pages that follow one another from the table's beginning."""
    found, after = [], None
    for page in pages:
        found.append(KeyRange(after, page.upto))
        after = page.upto
    return found
