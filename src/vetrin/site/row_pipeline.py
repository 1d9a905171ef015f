"""Rows on their way from where they are read to where they are written. All that is done to them has its place here:

reader → what keeps a copy of them → prefix → rewriting or healing → what the copy gets (arrival) → prefetching

A run, its preview, exports, changes in place and comparisons give the steps that they need.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple, Protocol

from msgspec import Struct

from ..database import Batch, KeyRange, Reader, Table, WantedRows, Where, with_pages
from ..database.conditions import Replacement
from ..database.page_worker import PageWorker
from ..prefetch import ahead
from .prefix import PrefixedValues


class RowSelection(Protocol):
    """Which rows of a table are taken, and which of its columns may change."""

    @property
    def table(self) -> Table:
        """The table whose rows are taken."""

    @property
    def rewritten(self) -> Sequence[int]:
        """The places of the columns whose values are worked on."""

    @property
    def leave(self) -> Where | None:
        """The rows that are left out."""

    @property
    def replacements(self) -> Mapping[str, Replacement]:
        """What is read in place of a column."""


class TableRows(Struct, frozen=True):
    """Implements ``RowSelection``."""

    table: Table
    rewritten: Sequence[int] = ()
    leave: Where | None = None
    replacements: Mapping[str, Replacement] = {}


class ValueWork(Protocol):
    """What is done to values: columns are worked on a batch at a time, and what was done is counted."""

    def column(self, table: Table, batch: Batch, index: int) -> dict[int, bytes]:
        """The new values of some of a column's rows; nothing is changed."""

    def through(
        self, table: Table, indexes: Sequence[int], batches: Iterable[Batch]
    ) -> Iterator[Batch]:
        """Pass batches on with the columns at ``indexes`` changed in place."""


class Changed(NamedTuple):
    """Rows that change, as they are and as they will be; for each of them the places of its columns that do."""

    before: Batch
    after: Batch
    places: list[list[int]]


# Keeps a copy of a table's rows in a range as they pass.
Keep = Callable[[Table, KeyRange, Iterable[Batch]], Iterator[Batch]]
# Sets in a table's rows what a copy gets; ``arrive(table, batches)``.
Arrive = Callable[[Table, Iterable[Batch]], Iterator[Batch]]


class RowPipeline(Struct, frozen=True):
    """The steps of one job; what is None is left out. With a ``worker``, that makes the pages of what is kept."""

    work: ValueWork
    prefixed: PrefixedValues | None = None
    keep: Keep | None = None
    arrive: Arrive | None = None
    worker: PageWorker | None = None

    def read(
        self, reader: Reader, rows: RowSelection, key_range: KeyRange | None = None
    ) -> Iterator[Batch]:
        """Rows as they are at the source, in the order of the key; where they are kept, with their pages."""
        found = self.wanted(rows, key_range).by(reader)
        if self.keep is None:
            return found
        make = with_pages if self.worker is None else self.worker.through
        pages = make(rows.table, found, reader.prints)
        return self.keep(rows.table, key_range or KeyRange(), pages)

    @staticmethod
    def wanted(rows: RowSelection, key_range: KeyRange | None = None) -> WantedRows:
        """What ``read`` asks a reader for."""
        return WantedRows(rows.table, rows.leave, rows.replacements, key_range)

    def change(self, rows: RowSelection, batches: Iterable[Batch]) -> Iterator[Batch]:
        """Rows that were read, as they will be at the target."""
        if self.prefixed is not None:
            batches = self.prefixed.through(rows.table, batches)
        batches = self.work.through(rows.table, rows.rewritten, batches)
        return batches if self.arrive is None else self.arrive(rows.table, batches)

    @contextlib.contextmanager
    def prefetched(
        self, rows: RowSelection, batches: Iterable[Batch], depth: int = 3
    ) -> Iterator[Iterator[Batch]]:
        """``change`` on a thread of its own, at most ``depth`` batches ahead of whoever takes them."""
        with ahead(self.change(rows, batches), depth) as found:
            yield found

    def stream(self, reader: Reader, rows: RowSelection) -> Iterator[Batch]:
        """Rows of the source as they will be at the target."""
        return self.change(rows, self.read(reader, rows))

    def changes(
        self, reader: Reader, rows: RowSelection, seen: Callable[[Batch], None]
    ) -> Iterator[Changed]:
        """Only the rows that the work changes, for changing them in place; ``seen`` is told of each batch."""
        table = rows.table
        for batch in self.read(reader, rows):
            values: dict[int, dict[int, bytes]] = {}
            for index in rows.rewritten:
                for row, value in self.work.column(table, batch, index).items():
                    values.setdefault(row, {})[index] = value
            seen(batch)
            if values:
                yield _changed(batch, values)


def _changed(batch: Batch, values: Mapping[int, Mapping[int, bytes]]) -> Changed:
    """The rows of a batch that get other values, by row and place."""
    width = batch.width
    before, after = (Batch(width, [], 0, batch.mixed) for _ in range(2))
    for row in sorted(values):
        cells = batch.cells[row * width : (row + 1) * width]
        before.cells += cells
        after.cells += cells
        for index, value in values[row].items():
            after.put(index, {after.rows - 1: value})
    return Changed(before, after, [sorted(values[row]) for row in sorted(values)])
