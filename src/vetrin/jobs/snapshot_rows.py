"""Storing the rows of an environment. Of tables that the store has, only what the server says has changed is read."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from ..database import (
    BATCH_BYTES,
    PAGE_ROWS,
    UNTOLD,
    KeyRange,
    Page,
    PageMaker,
    Part,
    Reader,
    RowsAside,
    Table,
    WantedDigests,
    WantedRows,
    can_copy_in_ranges,
    joint_digest,
)
from ..database.digests import NO_ROWS, digest_of_records, digest_of_sums, rows_in
from ..database.engines import engine_of
from ..database.row_codec import RecordForm
from ..site import Site
from ..store import Hands, Store, StoredTable
from .changed_parts import with_records
from .events import Checking, Listener, Moved, TableDone, TableStarted
from .kept_rows import KeptRows
from .kept_tables import KeptTable, KeptTables, form_of
from .last_copy import KnownTable, claims_of, ranges_of
from .pieces import Pieces, forget_what_is_gone

# Less than what waits in a connection, so that the server goes on while a stretch is cut and stored.
_STRETCH = 64 << 10
_PAGES = 64  # that are read together
_SPREAD = (
    20_000  # rows: so many are always read by pages, however large a part of their table they are
)
_BEYOND = 32 << 20  # bytes of rows behind all that are known


@dataclass(frozen=True)
class _Looked:
    """A table that is stored, with the digests that its pages have ``now``, and the numbers of those that differ."""

    table: Table
    known: KnownTable
    now: Sequence[str]
    differ: Sequence[int]
    aside: RowsAside

    @property
    def too_much(self) -> bool:
        """Whether the table is better read as a whole."""
        if not can_copy_in_ranges(self.table):
            return bool(self.differ)
        table, claims = self.table, claims_of(self.known)
        rows = sum(max(rows_in(self.now[n]), rows_in(claims[n][0])) for n in self.differ)
        beyond = rows_in(self.now[-1]) if len(self.now) - 1 in self.differ else 0
        each = table.size // max(1, table.rows)
        return rows > max(self.known.rows // 2, _SPREAD) or beyond * each > _BEYOND


class SnapshotRows:
    """Stores the rows of one environment's tables."""

    def __init__(
        self, site: Site, store: Store, hands: Hands, listener: Listener, state: Path | None
    ) -> None:
        """``state`` is the project's folder, in which is kept what is known of the tables; without one, all rows are
        read."""
        database = site.database
        self._store = store
        self._tell = listener
        self._state = state
        self._facts = database.facts()
        self._rows = KeptRows(store, hands, mixed=engine_of(database.engine).any_type)
        self._old = store.newest_tables(site.environment.name)
        self._memory = KeptTables(state, site.environment.name)
        # Beside the time that rows take over a line that of digests is short; here all rows are as quickly read.
        self._goes_by_digests = site.environment.host is not None or not self._facts.one_moment
        self._before = self._memory.read() if self._goes_by_digests else {}
        self._known: dict[str, KnownTable] = {}
        self._new: set[str] = set()  # of which more is known than before

    @property
    def added(self) -> int:
        """How many bytes all of it took in the store."""
        return self._rows.added

    def take(self, reader: Reader, tables: Sequence[Table]) -> list[Table]:
        """Store the rows of some tables as they are in the view of a reader; the tables that are not as they were
        stored before.

        Raises:
            DatabaseError, StoreError: something cannot be read, or not be stored.
        """
        for table in tables:
            self._recall(table)
        changed = [table for table in tables if table.name not in self._known]
        whole = changed.copy()
        with contextlib.ExitStack() as stack:
            known = [table for table in tables if table.name in self._known]
            for item in self._look(reader, known, stack):
                renewed = None if item.too_much else self._renew(reader, item)
                if renewed is None:
                    whole.append(item.table)
                if renewed is not False:
                    changed.append(item.table)
        reader.expect([WantedRows(table) for table in whole])
        for table in whole:
            self._whole(reader, table)
        return changed

    def stored(self, table: Table, schema: str) -> StoredTable:
        """A table whose rows are stored. Raises StoreError."""
        return self._rows.stored(table, schema)

    def remember(self) -> None:
        """Keep what is known of the tables, now that a snapshot holds them."""
        self._memory.put(
            {
                name: KeptTable(self._known[name], tuple(self._rows.tables[name]))
                for name in self._new
            }
        )

    # -- tables that are stored ---------------------------------------------------------------------------------

    def _recall(self, table: Table) -> None:
        """Go on with what was stored of a table before."""
        kept = self._before.pop(table.name, None)
        if kept is None or kept.known.signature != form_of(table, self._facts):
            return
        pieces = Pieces()
        for piece in kept.pieces:
            pieces.add(piece)
        forget_what_is_gone(self._store, [pieces])
        if next(pieces.gaps(), None) is None:
            self._rows.carry(table.name, pieces)
            self._known[table.name] = kept.known

    def _look(
        self, reader: Reader, tables: Sequence[Table], stack: contextlib.ExitStack
    ) -> list[_Looked]:
        """Have the server tell what of some tables has changed."""
        if not tables:
            return []
        wanted = []
        for table in tables:
            known = self._known[table.name]
            claims = [claim for claim, _ in claims_of(known)]
            aside = stack.enter_context(RowsAside(self._state))
            wanted.append(WantedDigests(table, ranges_of(known), known=claims, aside=aside))
        found = []
        with contextlib.closing(reader.digests_of(wanted)) as digests:
            for one in wanted:
                name = one.table.name
                self._tell(TableStarted(name, one.table.rows))
                self._tell(Checking(name))
                now = next(digests)
                differ = [
                    number
                    for number, (digest, claim) in enumerate(zip(now, one.known, strict=True))
                    if digest != claim or digest == UNTOLD
                ]
                assert one.aside is not None
                found.append(
                    _Looked(
                        table=one.table,
                        known=self._known[name],
                        now=now,
                        differ=differ,
                        aside=one.aside,
                    )
                )
        return found

    def _renew(self, reader: Reader, item: _Looked) -> bool | None:
        """Exchange the pages of a table that differ; whether any row does. None where the table has to be read as a
        whole: what is stored is not what it should be."""
        table, known, key = item.table, item.known, self._form(item.table).key
        ranges, claims = ranges_of(known), claims_of(known)
        pages, beyond, changed = [*known.pages], list[Page](), False
        if item.differ:
            self._rows.expect(table, [ranges[number] for number in item.differ])
        for at in range(0, len(item.differ), _PAGES):
            parts: dict[int, list[Part]] = {}
            for number in item.differ[at : at + _PAGES]:
                digests = claims[number][0], item.now[number]
                some = item.aside.take(number) if UNTOLD not in digests else []
                parts[number] = some or [Part(ranges[number], digests)]
            for number, some in with_records(reader, WantedRows(table), parts, key).items():
                found = self._rows.exchange(table, some)
                if found is None:
                    return None
                changed = changed or bool(found.gone or found.came)
                records = [record for part in some for record in part.records or ()]
                if number == len(pages):
                    beyond, rest = self._pages(reader, table, [records])
                    if not beyond and rest != NO_ROWS:
                        return None
                else:
                    now = item.now[number] or digest_of_records(records)
                    pages[number] = Page(pages[number].upto, rows_in(now), now)
        self._rows.settle(table)
        if item.differ:
            every = [*pages, *beyond]
            self._know(table, every, joint_digest(page.digest for page in every))
        rows = sum(page.rows for piece in self._rows.tables[table.name] for page in piece.pages)
        self._tell(Moved(table.name, rows, 0))
        self._tell(TableDone(table.name, rows))
        return changed

    # -- all others ---------------------------------------------------------------------------------------------

    def _whole(self, reader: Reader, table: Table) -> None:
        """Store all rows of a table."""
        self._tell(TableStarted(table.name, table.rows))
        self._known.pop(table.name, None)
        self._rows.drop(table.name, KeyRange())
        old = self._store.pages_if_whole(self._old.get(table.name))
        coming = self._rows.coming(table, KeyRange(), old)

        def read() -> Iterator[list[bytes]]:
            rows = size = 0
            for records in reader.records(table, _STRETCH):
                if coming.add(records):
                    self._tell(Moved(table.name, coming.rows - rows, coming.size - size))
                    rows, size = coming.rows, coming.size
                yield records
            coming.finish()
            self._tell(Moved(table.name, coming.rows - rows, coming.size - size))

        if self._goes_by_digests:
            self._know(table, *self._pages(reader, table, read()))
        else:
            for _ in read():
                pass
        self._tell(TableDone(table.name, coming.rows))

    def _form(self, table: Table) -> RecordForm:
        return RecordForm(table, mixed=self._rows.mixed)

    def _pages(
        self, reader: Reader, table: Table, stretches: Iterable[list[bytes]]
    ) -> tuple[list[Page], str]:
        """The pages that rows make, as they come, none where one of them has a key that is no whole number; and the
        digest of all rows."""
        maker = PageMaker(table, reader.prints, mixed=self._rows.mixed)
        pages, digests, fit = list[Page](), list[str](), True
        for records in _together(stretches):
            made, sums = maker.of(records, sum(map(len, records)))
            pages += made
            digests.append(digest_of_sums(sums))
            fit = fit and bool(made)
        maker.end()
        return pages if fit else [], joint_digest(digests)

    def _know(self, table: Table, pages: Sequence[Page], digest: str) -> None:
        """These are all pages of a table, and this is the digest of all its rows."""
        signature = form_of(table, self._facts)
        known = KnownTable(signature, "", rows_in(digest), source=digest)
        if can_copy_in_ranges(table) and pages:
            rows = sum(page.rows for page in pages)
            known = KnownTable(signature, "", rows, tuple(_joined(pages)))
        self._known[table.name] = known
        self._new.add(table.name)


def _together(stretches: Iterable[list[bytes]]) -> Iterator[list[bytes]]:
    """Rows in stretches that are worth being made pages of."""
    waiting: list[bytes] = []
    size = 0
    for records in stretches:
        waiting += records
        size += sum(map(len, records))
        if size >= BATCH_BYTES:
            yield waiting
            waiting, size = [], 0
    if waiting:
        yield waiting


def _joined(pages: Iterable[Page]) -> Iterator[Page]:
    """The same pages, neighbours of which are small as one: of rows that are added day by day there would be more and
    more."""
    last: Page | None = None
    for page in pages:
        if last is not None and last.rows + page.rows <= PAGE_ROWS // 2:
            digest = joint_digest([last.digest, page.digest])
            last = Page(page.upto, last.rows + page.rows, digest)
            continue
        if last is not None:
            yield last
        last = page
    if last is not None:
        yield last
