"""The data of a snapshot, read as any database is."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

from ..database import (
    BATCH_BYTES,
    Attachment,
    Batch,
    Condition,
    Facts,
    ForeignKey,
    KeyRange,
    KeyRanges,
    OneOf,
    ReadableDatabase,
    Replacement,
    RowsAside,
    Table,
    condition,
    digests_by_reading,
)
from ..database.batch import Cell
from ..database.conditions import Lowered, Where
from ..database.engines import engine_of
from ..database.questions import AskedOneByOne
from ..database.row_codec import ReaderOfCells, batches_of, cells_of
from ..errors import DatabaseError
from .manifest import StoredTable
from .row_index import DIALECT, RowIndex, Wanted, quote, wanted_by


class SnapshotDatabase(AskedOneByOne, ReaderOfCells):
    """Implements ``ReadableDatabase``. ``stored`` gives a table's records, stretch by stretch.

    Raises StoreError wherever contents are damaged.
    """

    missing = False

    def __init__(
        self,
        facts: Facts,
        tables: Sequence[StoredTable],
        attachments: Sequence[Attachment],
        views: Sequence[str],
        stored: Any,
    ) -> None:
        self.engine = facts.engine
        self._facts = facts
        self._tables = {item.table.name: item for item in tables}
        self._attachments = tuple(attachments)
        self._views = tuple(views)
        self._stored = stored
        self._index: RowIndex | None = None

    # -- what there is ----------------------------------------------------------------------------------

    def facts(self) -> Facts:
        return self._facts

    def doing(self, item: Attachment) -> str:
        return ""

    def is_same(self, other: ReadableDatabase) -> bool:
        return self is other

    def quote(self, name: str) -> str:
        return engine_of(self.engine).quote(name)

    def tables(self) -> list[Table]:
        return [item.table for item in self._tables.values()]

    def size(self) -> int:
        return sum(item.table.size for item in self._tables.values())

    def events(self) -> list[str]:
        return []

    def views(self) -> list[str]:
        return list(self._views)

    def schema(self, table: str) -> str:
        return self._table(table).schema

    def attachments(self, tables: Iterable[str], views: Iterable[str]) -> list[Attachment]:
        wanted, wanted_views = set(tables), set(views)
        return [
            item
            for item in self._attachments
            if (
                item.name in wanted_views
                if item.kind == "view"
                else item.table in wanted | wanted_views
            )
        ]

    def routines(self) -> list[Attachment]:
        return [
            item
            for item in self._attachments
            if item.kind == "routine" or (item.kind == "sequence" and not item.table)
        ]

    def last_given(self, table: str) -> int | None:
        return self._table(table).last_given

    def _table(self, name: str) -> StoredTable:
        if name not in self._tables:
            raise DatabaseError(f"there is no table {name}")
        return self._tables[name]

    # -- rows -------------------------------------------------------------------------------------------

    @contextlib.contextmanager
    def reading(self) -> Iterator[SnapshotDatabase]:
        yield self

    def rows(
        self,
        table: Table,
        batch_bytes: int = BATCH_BYTES,
        *,
        leave: Where | None = None,
        replacements: Mapping[str, Replacement] | None = None,
        key_range: KeyRange | KeyRanges | None = None,
    ) -> Iterator[Batch]:
        item = self._table(table.name)
        width = len(table.columns)
        stretches: Iterator[bytes] = self._stored(item)
        if leave is None and not replacements and (key_range is None or key_range == KeyRange()):
            yield from batches_of(stretches, width, batch_bytes, mixed=item.mixed)
            return
        cells: list[Cell] = []
        size = 0
        for row in self._chosen(item, stretches, leave, replacements or {}, key_range):
            cells += row
            size += sum(len(cell) if isinstance(cell, bytes) else 8 for cell in row)
            if size >= batch_bytes:
                yield Batch(width, cells, size, item.mixed)
                cells, size = [], 0
        if cells:
            yield Batch(width, cells, size, item.mixed)

    def _chosen(
        self,
        item: StoredTable,
        stretches: Iterator[bytes],
        leave: Where | None,
        replacements: Mapping[str, Replacement],
        key_range: KeyRange | KeyRanges | None,
    ) -> Iterator[list[Cell]]:
        """The rows that are not left out, with what stands in their columns' place."""
        table = item.table
        width = len(table.columns)
        names = [column.name for column in table.columns]
        keys = [names.index(name) for name in table.key]
        wanted: Wanted = {}
        if leave is not None:
            wanted[table.name] = set()  # also where all rows are left out, whatever is in them
            wanted_by(condition(leave), table.name, wanted)
        for name, part in replacements.items():
            wanted_by(part, table.name, wanted)
            wanted_by(OneOf(name, ()), table.name, wanted)
        if wanted:  # all of it before the first question is asked: a table that is being read stays
            self._opened().lay_open(wanted)
        left = self._numbers(table.name, condition(leave)) if leave is not None else iter(())
        next_left = next(left, None)
        put = [
            (names.index(name), self._in_place(table.name, name, part))
            for name, part in replacements.items()
        ]
        number = -1
        for stretch in stretches:
            cells = cells_of(stretch, item.mixed)
            for at in range(0, len(cells), width):
                number += 1
                row = cells[at : at + width]
                answers = [next(answers) for _, answers in put]
                if next_left == number:
                    next_left = next(left, None)
                    continue
                if key_range is not None and not _inside(key_range, [row[key] for key in keys]):
                    continue
                for (index, _), (differs, value) in zip(put, answers, strict=True):
                    if differs:
                        row[index] = _as_cell(value, row[index], item.mixed)
                yield row

    def _numbers(self, table: str, part: Condition) -> Iterator[int]:
        sql, values = DIALECT.condition(part)
        asked = f"SELECT rowid - 1 FROM {quote(table)} WHERE {sql} ORDER BY rowid"
        for row in self._opened().ask(asked, values, {}):
            yield int(row[0])

    def _in_place(self, table: str, column: str, part: Replacement) -> Iterator[tuple[Any, ...]]:
        """Of each row, whether another value stands in the column's place, and that value."""
        sql, values = DIALECT.replacement(table, column, part)
        if isinstance(part, Lowered):
            self._opened().index(part.table, part.column)
        asked = f"SELECT {sql} IS NOT {quote(column)}, {sql} FROM {quote(table)} ORDER BY rowid"
        return self._opened().ask(asked, [*values, *values], {})

    def digests(
        self,
        table: Table,
        ranges: Sequence[KeyRange],
        *,
        leave: Where | None = None,
        replacements: Mapping[str, Replacement] | None = None,
        known: Sequence[str] = (),
        aside: RowsAside | None = None,
    ) -> list[str]:
        return digests_by_reading(
            lambda key_range: self.rows(
                table, leave=leave, replacements=replacements, key_range=key_range
            ),
            ranges,
            known,
            aside,
        )

    # -- questions --------------------------------------------------------------------------------------

    def broken_views(self) -> dict[str, str]:
        return {}

    def foreign_keys(self) -> list[ForeignKey]:
        schemas = {name: item.schema for name, item in self._tables.items()}
        return engine_of(self.engine).declared_keys(schemas, self._attachments)

    def broken(self) -> dict[str, str]:
        return {}

    def count(self, table: str, where: Where | None = None) -> int:
        if where is None:
            return self._table(table).table.rows
        sql, values = DIALECT.count(table, where)
        wanted = wanted_by(condition(where), table, {table: set()})
        return int(next(self._ask(sql, values, wanted))[0])

    def select(
        self,
        table: str,
        columns: Sequence[str],
        *,
        where: Where | None = None,
        order: Sequence[str] = (),
        descending: bool = False,
        limit: int | None = None,
    ) -> list[tuple[Any, ...]]:
        wanted: Wanted = {table: {*columns, *order}}
        if where is not None:
            wanted_by(condition(where), table, wanted)
        statement = DIALECT.select(table, columns, where, order, descending, limit)
        return list(self._ask(*statement, wanted))

    def groups(
        self, table: str, columns: Sequence[str], where: Where | None = None
    ) -> list[tuple[Any, ...]]:
        wanted: Wanted = {table: set(columns)}
        if where is not None:
            wanted_by(condition(where), table, wanted)
        return list(self._ask(*DIALECT.groups(table, columns, where), wanted))

    def longest(self, table: Table) -> tuple[str, int]:
        most = [0] * len(table.columns)
        for batch in self.rows(table):
            for index in range(batch.width):
                texts = filter(None, batch.texts(index))
                most[index] = max(most[index], max(map(len, texts), default=0))
        size = max(most)
        return table.columns[most.index(size)].name, size

    def _opened(self) -> RowIndex:
        if self._index is None:
            self._index = RowIndex(self.tables(), self._each)
        return self._index

    def _ask(self, sql: str, values: Sequence[object], wanted: Wanted) -> Iterator[tuple[Any, ...]]:
        for name in wanted:
            self._table(name)
        return self._opened().ask(sql, values, wanted)

    def _each(self, name: str) -> Iterator[Sequence[Cell]]:
        item = self._table(name)
        width = len(item.table.columns)
        for stretch in self._stored(item):
            cells = cells_of(stretch, item.mixed)
            for at in range(0, len(cells), width):
                yield cells[at : at + width]

    def close(self) -> None:
        if self._index is not None:
            self._index.close()
            self._index = None


def _inside(key_range: KeyRange | KeyRanges, cells: Sequence[Cell]) -> bool:
    """True for a row whose cells of the key lie in a range; these are whole numbers."""
    return key_range.holds(tuple(int(cell) for cell in cells if cell is not None))


def _as_cell(value: Any, old: Cell, mixed: bool) -> Cell:
    if value is None or (mixed and not isinstance(value, str)):
        return value
    text = str(value).encode()
    return type(old)(text) if isinstance(old, bytes) else text
