"""Reading rows and their digests, as they were at one moment."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from ..base import BATCH_BYTES, Batch, Table
from ..conditions import Replacement, Where
from ..key_ranges import KeyRange, KeyRanges
from ..page_prints import PagePrints, PrintsThere
from ..row_codec import cells_of
from ..rows_aside import RowsAside
from .answers import Wires, rows_by_answers
from .asked_pages import AskedPages
from .columns import quote
from .connect import said
from .page_digests import Pace, PageDigests
from .read_digests import read_digests
from .row_query import DIALECT, rows_of
from .told_digests import told_digests
from .wire import Wire

# That a statement for digests should take where an answer has to come soon.
SECONDS = 2.0


class MysqlReader:
    """Implements ``Reader`` over a connection in a transaction that sees one moment."""

    def __init__(
        self, wire: Wire, wires: Wires | None = None, prints: PagePrints | None = None
    ) -> None:
        """``wires`` where the server answers one request at a time, and may cut its answers. With ``prints``, for a
        server on this machine, pages are read for their digests, which costs it less than to make these."""
        self._wire = wire
        self.prints = prints
        self._wires = wires
        self._pace = Pace(None if wires is None else SECONDS)

    def rows(
        self,
        table: Table,
        batch_bytes: int = BATCH_BYTES,
        *,
        leave: Where | None = None,
        replacements: Mapping[str, Replacement] | None = None,
        key_range: KeyRange | KeyRanges | None = None,
    ) -> Iterator[Batch]:
        width = len(table.columns)
        with said(table.name):
            for records in self._records(table, batch_bytes, leave, replacements, key_range):
                # All at once: a call for each row would cost more than the copy.
                joined = b"".join(records)
                yield Batch(width, cells_of(joined, mixed=False), len(joined), records=records)

    def _query(
        self,
        table: Table,
        leave: Where | None,
        replacements: Mapping[str, Replacement] | None,
        key_range: KeyRange | KeyRanges | None,
    ) -> str:
        sql, values = rows_of(table, leave, replacements, key_range)
        # Other engines than InnoDB would sort, and forbid nothing by their order.
        if table.consistent and table.key:
            sql += f" ORDER BY {', '.join(map(quote, table.key))}".replace("%", "%%")
        with self._wire.cursor() as cursor:
            return str(cursor.mogrify(sql, values))

    def records(
        self,
        table: Table,
        stretch_bytes: int = BATCH_BYTES,
        *,
        leave: Where | None = None,
        replacements: Mapping[str, Replacement] | None = None,
        key_range: KeyRange | KeyRanges | None = None,
    ) -> Iterator[list[bytes]]:
        with said(table.name):
            yield from self._records(table, stretch_bytes, leave, replacements, key_range)

    def _records(
        self,
        table: Table,
        stretch_bytes: int,
        leave: Where | None,
        replacements: Mapping[str, Replacement] | None,
        key_range: KeyRange | KeyRanges | None,
    ) -> Iterator[list[bytes]]:
        if self._wires is None:
            sql = self._query(table, leave, replacements, key_range)
            yield from self._wire.records(sql, stretch_bytes)
            return

        def query(key_range: KeyRange | KeyRanges | None) -> str:
            return self._query(table, leave, replacements, key_range)

        yield from rows_by_answers(self._wires, query, table, key_range, stretch_bytes)

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
        with said(table.name), self._wire.cursor() as cursor:
            asking = PageDigests(
                cursor, table, pace=self._pace, leave=leave, replacements=replacements
            )
            if not known:
                return asking.of(ranges)
            prints, there = self.prints, isinstance(self.prints, PrintsThere)
            if prints is None or self._wire.one_by_one or (there and not self._wire.tells_prints):
                return asking.of_known(ranges, known)

            def query(one: KeyRange) -> str:
                return self._query(table, leave, replacements, one)

            pages = AskedPages(table, ranges, known, query)
            if isinstance(prints, PrintsThere):
                return told_digests(self._wire, pages, prints, asking.of, aside)
            return read_digests(self._wire, pages, prints, asking.of, aside)

    def count(self, table: str, where: Where | None = None) -> int:
        return count_rows(self._wire, table, where)


def count_rows(connection: Any, table: str, where: Where | None) -> int:
    sql, values = DIALECT.count(table, where)
    with said(table), connection.cursor() as cursor:
        cursor.execute(sql, values)
        return int(cursor.fetchone()[0])
