"""Which rows of an environment are not what the last transfer took of it, or left in it.

The servers are asked first: a page whose digest is what it was has not changed. Of the others the rows are read and
put beside those of the baseline; for the target of a transfer as the transfer would write them there.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass
from functools import cached_property

from msgspec import Struct
from msgspec.structs import replace

from ..database import (
    BATCH_BYTES,
    UNTOLD,
    Batch,
    Condition,
    KeyRange,
    Reader,
    Replacement,
    Table,
    WantedDigests,
    WantedRows,
    can_copy_in_ranges,
    joint_digest,
    joint_ranges,
    with_pages,
)
from ..database.engines import engine_of
from ..database.row_codec import batches_of, cells_of, records_of
from ..merge import Changed, Key
from ..merge.references import Row
from ..site import ReadableSite, RowPipeline, TableRows
from ..store import Store
from .last_copy import KnownTable, claims_of, ranges_of
from .pieces import Pieces

_TOGETHER = 32 << 20  # bytes of a table without a usable key that is compared row by row
_PAGES = 64  # that are compared at once


class Earlier(Struct, frozen=True):
    """A copy that an environment is compared with: the ``site`` as it is in the ``store``, and what is known of its
    tables. ``pieces`` say in which stretches of the key a table's pages lie. ``pipeline`` makes its rows those of the
    target, None for the source itself."""

    site: ReadableSite
    store: Store
    tables: Mapping[str, KnownTable] = {}
    pieces: Mapping[str, Pieces] = {}
    pipeline: RowPipeline | None = None


class Left(Struct, frozen=True):
    """What of an environment's tables does not count, as it does not travel."""

    leave: Mapping[str, Condition] = {}
    replacements: Mapping[str, Mapping[str, Replacement]] = {}


class TooLarge(Exception):
    """A table without a usable key has changed, and is too large to be compared row by row."""


@dataclass(frozen=True)
class _Compared:
    """A table with its copy, as it is ``stored``."""

    earlier: Earlier
    stored: Table
    table: Table
    left: Left

    @cached_property
    def _there(self) -> Table:
        """The table, with the copy's columns."""
        stored, table = self.stored, self.table
        return Table(
            name=table.name,
            columns=stored.columns,
            key=stored.key,
            fixed=stored.fixed,
            rows=table.rows,
            size=table.size,
        )

    @property
    def _leave(self) -> Condition | None:
        return self.left.leave.get(self.table.name)

    @property
    def _replacements(self) -> Mapping[str, Replacement] | None:
        """What the source replaces on its way, which is in the baseline already."""
        source = self.earlier.pipeline is None
        return self.left.replacements.get(self.table.name, {}) if source else None

    @cached_property
    def _known(self) -> KnownTable:
        return self.earlier.tables.get(self.stored.name) or _as_known(self.earlier, self.stored)

    @cached_property
    def wanted(self) -> WantedDigests:
        source = self.earlier.pipeline is None
        claims = claims_of(self._known)
        return WantedDigests(
            self._there,
            ranges_of(self._known),
            leave=self._leave if source else None,
            replacements=self._replacements,
            known=[at_source if source else became for at_source, became in claims],
        )

    def differing(self, now: Sequence[str]) -> list[KeyRange]:
        """The ranges of which the digests are not what they were."""
        wanted = self.wanted
        return [
            one
            for one, digest, claim in zip(wanted.ranges, now, wanted.known, strict=True)
            if digest != claim or digest == UNTOLD
        ]

    @property
    def _too_large(self) -> bool:
        large = max(self.table.size, self.stored.size) > _TOGETHER
        return large and not can_copy_in_ranges(self.stored)

    def reads(self, ranges: Sequence[KeyRange]) -> list[tuple[KeyRange, WantedRows]]:
        """The rows that ``changes`` reads, range by range."""
        if self._too_large:
            return []
        by_key = can_copy_in_ranges(self.stored)
        return [
            (
                one,
                WantedRows(self._there, self._leave, self._replacements, one if by_key else None),
            )
            for one in joint_ranges(ranges, _PAGES)
        ]

    def changes(self, ranges: Sequence[KeyRange], reader: Reader) -> Iterator[Changed]:
        stored, earlier = self.stored, self.earlier
        if self._too_large:
            raise TooLarge
        mixed = engine_of(earlier.site.database.engine).any_type
        for key_range, wanted in self.reads(ranges):
            rows = wanted.by(reader)
            before = _earlier_rows(earlier, stored, key_range)
            if earlier.pipeline is not None:
                chosen = TableRows(stored, earlier.site.rewritable(stored))
                before = earlier.pipeline.change(chosen, before)
            yield from _side_by_side(stored, before, rows, mixed=mixed)


def row_changes(
    earlier: Earlier,
    tables: Iterable[tuple[Table, Table]],
    reader: Reader,
    left: Left,
    tell: Callable[[str], None] = lambda name: None,
) -> Iterator[tuple[tuple[Table, Table], Iterator[Changed]]]:
    """Of some tables, each as it is stored and as it is there, those that are not as they were, with their rows that
    differ, stretch by stretch of the key, in the order of the columns of the stored one. The digests of all are asked
    for first.

    Raises:
        TooLarge: the rows of a table cannot be told one by one.
        DatabaseError, StoreError: something could not be read.
    """
    pairs = list(tables)
    compared = [_Compared(earlier, stored, table, left) for stored, table in pairs]
    ranges: list[list[KeyRange]] = []
    with closing(reader.digests_of(one.wanted for one in compared)) as digests:
        for one in compared:
            tell(one.table.name)
            ranges.append(one.differing(next(digests)))
    reader.expect(
        [
            wanted
            for one, differing in zip(compared, ranges, strict=True)
            for _, wanted in one.reads(differing)
        ]
    )
    for pair, one, differing in zip(pairs, compared, ranges, strict=True):
        if differing:
            yield pair, one.changes(differing, reader)


def by_key(table: Table, changes: Iterable[Changed]) -> dict[Key, Changed]:
    """The changes of a table's rows by their keys."""
    names = [column.name for column in table.columns]
    places = [names.index(name) for name in table.key]
    return {
        tuple((one.after or one.before or ())[place] for place in places): one for one in changes
    }


def _as_known(earlier: Earlier, table: Table) -> KnownTable:
    """What is known of a table by reading it where it is stored."""
    with earlier.site.database.reading() as reader:
        rows = reader.rows(table)
        if earlier.pipeline is not None:
            rows = earlier.pipeline.change(TableRows(table, earlier.site.rewritable(table)), rows)
        pages = [page for batch in with_pages(table, rows) for page in batch.pages]
    if can_copy_in_ranges(table) and pages:
        return KnownTable("", "", 0, tuple(replace(page, became=page.digest) for page in pages))
    digest = joint_digest(page.digest for page in pages)
    return KnownTable(signature="", definition="", rows=0, pages=(), source=digest, target=digest)


def _earlier_rows(earlier: Earlier, table: Table, key_range: KeyRange) -> Iterator[Batch]:
    """The rows of the copy in a range."""
    pieces = earlier.pieces.get(table.name)
    if pieces is None or not can_copy_in_ranges(table):
        with earlier.site.database.reading() as reader:
            yield from reader.rows(table, key_range=key_range)
        return
    pages = [page for piece in pieces.within(key_range) for page in piece.pages]
    mixed = engine_of(earlier.site.database.engine).any_type
    stretches = (records for _, records in earlier.store.records_of_pages(pages))
    names = [column.name for column in table.columns]
    places = [names.index(name) for name in table.key]
    for batch in batches_of(stretches, len(names), BATCH_BYTES, mixed=mixed):
        inside = [
            cell
            for row in batch.each()
            if key_range.holds(tuple(int(row[place]) for place in places))  # type: ignore[arg-type]
            for cell in row
        ]
        if inside:
            yield Batch(batch.width, inside, 0, mixed)


def _side_by_side(
    table: Table, before: Iterable[Batch], after: Iterable[Batch], *, mixed: bool
) -> Iterator[Changed]:
    """Rows that one of two sides lacks, those of the same key together."""
    old, new = _counted(before), _counted(after)
    sides = [_rows(table, records, mixed=mixed) for records in (old - new, new - old)]
    names = [column.name for column in table.columns]
    places = [names.index(name) for name in table.key]
    if not places:
        yield from (Changed(row, None) for row in sides[0])
        yield from (Changed(None, row) for row in sides[1])
        return
    was, now = ({tuple(row[place] for place in places): row for row in side} for side in sides)
    for key in sorted({*was, *now}, key=_order):
        yield Changed(was.get(key), now.get(key))


def _order(key: Row) -> list[tuple[int, object]]:
    return [
        (1, int(cell)) if isinstance(cell, int) or (isinstance(cell, bytes) and cell.isdigit())
        else (2, bytes(cell) if isinstance(cell, bytes) else str(cell).encode())
        for cell in key
    ]  # fmt: skip


def _counted(batches: Iterable[Batch]) -> Counter[bytes]:
    found: Counter[bytes] = Counter()
    for batch in batches:
        found.update(records_of(batch))
    return found


def _rows(table: Table, records: Counter[bytes], *, mixed: bool) -> list[Row]:
    width = len(table.columns)
    cells = cells_of(b"".join(records.elements()), mixed)
    return [cells[at : at + width] for at in range(0, len(cells), width)]
