"""Reading rows and their digests, as they were at one moment."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import islice
from typing import Any

from ..base import DigestsOf, Table, WantedDigests, WantedRows
from ..batch import BATCH_BYTES, Batch
from ..conditions import Replacement, Where
from ..key_ranges import KeyRange, KeyRanges
from ..page_prints import PagePrints, PrintsThere
from ..rows_aside import RowsAside
from .answers import Wires, rows_by_answers
from .asked_pages import AskedPages
from .columns import quote
from .connect import said
from .page_digests import Pace, PageDigests
from .read_digests import Elsewhere, read_digests
from .row_query import DIALECT, rows_of
from .side_by_side import Work, side_by_side
from .told_digests import told_digests
from .wire import Wire

_EXPECTED = 16  # queries that are asked before the rows of another one are through
# Bytes of their tables, which are read for nothing where something else is asked for meanwhile.
_EXPECTED_BYTES = 4 << 20


class MysqlReader:
    """Implements ``Reader`` over a connection in a transaction that sees one moment."""

    def __init__(
        self,
        wire: Wire,
        wires: Wires | None = None,
        prints: PagePrints | None = None,
        elsewhere: Elsewhere | None = None,
    ) -> None:
        """``wires`` where the server answers one request at a time, and may cut its answers. With ``prints``, for a
        server on this machine, pages are read for their digests, which costs it less than to make these; those
        of large tables perhaps ``elsewhere``."""
        self._wire = wire
        self.prints = prints
        self._wires = wires
        self._elsewhere = elsewhere
        self._pace = Pace.at(wire)
        self._expected: deque[tuple[str, int]] = deque()  # queries, and the bytes of their tables

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
                yield Batch(width, None, sum(map(len, records)), records=records)

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

    def expect(self, wanted: Sequence[WantedRows]) -> None:
        if self._wires is None and not self._wire.one_by_one:
            self._expected = deque(
                (
                    self._query(one.table, one.leave, one.replacements, one.key_range),
                    one.table.size,
                )
                for one in wanted
            )

    def _behind(self) -> list[str]:
        """What is asked for before what is read now is through: many small tables, or one large."""
        found: list[str] = []
        size = 0
        for sql, more in islice(self._expected, _EXPECTED):
            size += more
            if found and size > _EXPECTED_BYTES:
                break
            found.append(sql)
        return found

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
            if self._expected and self._expected[0][0] == sql:
                self._expected.popleft()
            yield from self._wire.records(sql, stretch_bytes, self._behind())
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
        wanted = WantedDigests(
            table, ranges, leave=leave, replacements=replacements, known=known, aside=aside
        )
        (found,) = self.digests_of([wanted])
        return found

    def digests_of(self, wanted: Iterable[WantedDigests]) -> DigestsOf:
        # A server on this machine answers at once, and one that is asked by requests one after the other.
        together = self._wires is None and not self._wire.one_by_one and not self._reads_here
        works = map(self._work, wanted)
        return side_by_side(self._wire, works, **({} if together else {"most": 1}))

    @property
    def _reads_here(self) -> bool:
        return self.prints is not None and not isinstance(self.prints, PrintsThere)

    def _work(self, wanted: WantedDigests) -> Work[list[str]]:
        with said(wanted.table.name):
            return (yield from self._digesting(wanted))

    def _digesting(self, wanted: WantedDigests) -> Work[list[str]]:
        table, leave, replacements = wanted.table, wanted.leave, wanted.replacements
        asking = PageDigests(
            self._wire, table, leave=leave, replacements=replacements, pace=self._pace
        )
        if not wanted.known:
            return (yield from asking.of(wanted.ranges))
        prints, there = self.prints, isinstance(self.prints, PrintsThere)
        if prints is None or self._wire.one_by_one or (there and not self._wire.tells_prints):
            return (yield from asking.of_known(wanted.ranges, wanted.known))

        def query(one: KeyRange) -> str:
            return self._query(table, leave, replacements, one)

        pages = AskedPages(table, wanted.ranges, wanted.known, query)
        if isinstance(prints, PrintsThere):
            return (yield from told_digests(pages, prints, asking.of, wanted.aside))
        return (
            yield from read_digests(
                self._wire, pages, prints, asking.of, wanted.aside, self._elsewhere
            )
        )

    def count(self, table: str, where: Where | None = None) -> int:
        return count_rows(self._wire, table, where)


def count_rows(connection: Any, table: str, where: Where | None) -> int:
    sql, values = DIALECT.count(table, where)
    with said(table), connection.cursor() as cursor:
        cursor.execute(sql, values)
        return int(cursor.fetchone()[0])
