"""Changing values of an environment in place: rewriting and healing without moving anything.

Only rows that change are written. What they become and what they were is put into two hidden tables
first; then one transaction changes all of them, leaving alone rows that the site changed meanwhile.
A table without a key, or of an engine without transactions, is copied and exchanged as a whole.
Built to survive the same as a transfer: until that transaction nothing is touched, the journal names
the hidden tables, and ``recover`` takes back from them.
"""

from __future__ import annotations

import fnmatch
import struct
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol

from msgspec import Struct

from ..database import (
    BATCH_BYTES,
    Batch,
    Exchange,
    Patch,
    Table,
    WantedRows,
    hidden_name,
    row_key,
)
from ..database.base import Reader
from ..database.row_codec import batches_of, records_of
from ..errors import JobError, Refused
from ..site import Changed, ReadableSite, RowPipeline, Site, TableRows, ValueWork
from . import switching
from .events import Listener, Moved, Phase, Started, TableDone, TableStarted, silent
from .identity import where
from .journal import DONE, Journals, Run
from .lock import only_run
from .plan import can_be_written, may_write
from .recovery import close, recover, taken_back_on_failure
from .switch import Switch, own_again

_SAMPLES = 8
_LENGTH = struct.Struct(">Q")


class Work(ValueWork, Protocol):
    """What is done to values in place, and the counts of it."""

    def again(self) -> Work:
        """The same work with counts of its own, for values that are read a second time."""

    def as_json(self) -> dict[str, Any]:
        """The counts, for a document."""


class Sample(Struct, frozen=True):
    """One change, for a person to look at before it is made."""

    table: str
    column: str
    key: str
    before: bytes
    after: bytes


@dataclass
class Survey:
    """What a look over an environment found to change, by table."""

    rows: Counter[str] = field(default_factory=Counter)
    samples: list[Sample] = field(default_factory=list)
    whole: list[str] = field(default_factory=list)


class Selection(Struct, frozen=True):
    """The columns that are looked at. Names may hold ``*``; tables with or without the prefix."""

    tables: tuple[str, ...] = ()
    columns: tuple[str, ...] = ()

    def indexes(self, site: ReadableSite, table: Table) -> list[int]:
        if self.tables and not any(site.named(table.name, name) for name in self.tables):
            return []
        return [
            index
            for index in site.rewritable(table)
            if not self.columns
            or any(
                fnmatch.fnmatchcase(name, pattern)
                for name in _spellings(site, table.name, table.columns[index].name)
                for pattern in self.columns
            )
        ]

    def check(self, site: ReadableSite) -> None:
        """Raises Refused for a name that fits nothing."""
        for pattern in self.tables:
            if not any(site.named(table.name, pattern) for table in site.tables):
                raise Refused(
                    f"no table of {site.environment.name} is called {pattern!r}",
                    "`vetrin status` and the plan of a pull name the tables",
                )
        for pattern in self.columns:
            if not any(
                fnmatch.fnmatchcase(name, pattern)
                for table in site.tables
                for column in table.columns
                for name in _spellings(site, table.name, column.name)
            ):
                raise Refused(f"no column of {site.environment.name} is called {pattern!r}", "")


def _spellings(site: ReadableSite, table: str, column: str) -> tuple[str, ...]:
    return column, f"{table}.{column}", f"{table.removeprefix(site.prefix)}.{column}"


def survey(site: Site, work: Work, selection: Selection, listener: Listener = silent) -> Survey:
    """Look through everything and count, writing nothing."""
    may_write(site.environment)
    can_be_written(site)
    selection.check(site)
    found = Survey()
    tables = [(table, selection.indexes(site, table)) for table in site.tables]
    listener(Started(0, sum(table.size for table, indexes in tables if indexes), 0, 0))
    listener(Phase("look"))
    with site.database.reading() as reader:
        reader.expect([WantedRows(table) for table, indexes in tables if indexes])
        for table, indexes in tables:
            if not indexes:
                continue
            listener(TableStarted(table.name, table.rows))
            rows = TableRows(table, indexes)
            for changed in RowPipeline(work).changes(reader, rows, _telling(listener, table)):
                found.rows[table.name] += changed.before.rows
                _take_samples(found, table, changed)
            if found.rows[table.name] and not _can_patch(table):
                found.whole.append(table.name)
            listener(TableDone(table.name, table.rows))
    found.rows = +found.rows
    return found


def _telling(listener: Listener, table: Table) -> Callable[[Batch], None]:
    return lambda batch: listener(Moved(table.name, batch.rows, batch.size))


def _take_samples(found: Survey, table: Table, changed: Changed) -> None:
    before, after, width = changed.before, changed.after, changed.before.width
    # A few of each table, so that one large table does not fill the whole list.
    mine = sum(sample.table == table.name for sample in found.samples)
    for row, indexes in enumerate(changed.places):
        for index in indexes:
            if mine >= 2 or len(found.samples) >= _SAMPLES:
                return
            old, new = before.cells[row * width + index], after.cells[row * width + index]
            assert isinstance(old, bytes) and isinstance(new, bytes)
            found.samples.append(
                Sample(
                    table=table.name,
                    column=table.columns[index].name,
                    key=row_key(table, before, row),
                    before=old,
                    after=new,
                )
            )
            mine += 1


def _can_patch(table: Table) -> bool:
    return bool(table.key) and table.consistent


def change(
    site: Site,
    kind: str,
    work: Work,
    selection: Selection,
    journals: Journals,
    listener: Listener = silent,
) -> tuple[Run, Counter[str]]:
    """Make the changes; the run, and the rows changed by table.

    Raises:
        Refused: a guard forbids it, or another run writes to the environment.
        JobError: something failed, or the site changed the same rows meanwhile; nothing changed.
    """
    may_write(site.environment)
    can_be_written(site)
    selection.check(site)
    name = site.environment.name
    with only_run(site):
        recover(site, journals)
        run = journals.begin(kind, name, name, **where(site))
        with taken_back_on_failure(site, run, journals):
            rows = _change(site, work, selection, run, listener)
        close(site, run, listener, journals=journals)
        return run, rows


def _change(
    site: Site, work: Work, selection: Selection, run: Run, listener: Listener
) -> Counter[str]:
    rows: Counter[str] = Counter()
    patches: list[Patch] = []
    exchanges: list[Exchange] = []
    tables = [(table, selection.indexes(site, table)) for table in site.tables]
    listener(Started(0, sum(table.size for table, indexes in tables if indexes), 0, 0))
    listener(Phase("tables"))
    with site.database.reading() as reader:
        # Others are read twice.
        if all(_can_patch(table) for table, indexes in tables if indexes):
            reader.expect([WantedRows(table) for table, indexes in tables if indexes])
        for number, (table, indexes) in enumerate(tables):
            if not indexes:
                continue
            listener(TableStarted(table.name, table.rows))
            spool = _Spool(run.folder, table)
            pipeline, chosen = RowPipeline(work), TableRows(table, indexes)
            try:
                seen = _telling(listener, table)
                rows[table.name] = spool.write(pipeline.changes(reader, chosen, seen))
                if rows[table.name] and _can_patch(table):
                    patches.append(_staged(site, table, indexes, spool, run.token, 2 * number))
                elif rows[table.name]:
                    anew = RowPipeline(work.again())
                    exchanges.append(_copied(site, anew, reader, chosen, run.token, 2 * number))
            finally:
                spool.remove()
    listener(Phase("swap"))
    names = [exchange.live for exchange in exchanges]
    hanging = own_again(site.database.attachments(names, ())) if names else []
    switch = Switch(tuple(exchanges), tuple(hanging), tuple(hanging), patches=tuple(patches))
    _, changed = switching.perform(site, run, switch)
    wanted = sum(rows[patch.table] for patch in patches)
    if changed != wanted:
        raise JobError(
            f"the site changed {wanted - changed} of these rows at the same time",
            f"{site.environment.name} is as it was before; run the command again",
        )
    run.write(DONE, report={"rows": rows.total(), "tables": dict(+rows), **work.as_json()})
    return +rows


class _Spool:
    """Rows that change, as they are and as they will be, in two files of a run's folder: they are needed twice.

    A file holds stretches of records (``row_codec``), each behind its length in eight bytes, big-endian.
    """

    def __init__(self, folder: Path, table: Table) -> None:
        self._table = table
        self._mixed = False
        self._files = [folder / f"{side}.rows" for side in ("before", "after")]

    def write(self, changes: Iterable[Changed]) -> int:
        """Keep all of them; how many rows they are."""
        count = 0
        with self._files[0].open("wb") as before, self._files[1].open("wb") as after:
            for changed in changes:
                self._mixed = changed.before.mixed
                count += changed.before.rows
                for file, batch in ((before, changed.before), (after, changed.after)):
                    stretch = b"".join(records_of(batch))
                    file.write(_LENGTH.pack(len(stretch)) + stretch)
        return count

    def sides(self) -> Iterator[Iterator[Batch]]:
        """The rows as they are, and the rows as they will be."""
        for file in self._files:
            yield batches_of(
                _stretches(file), len(self._table.columns), BATCH_BYTES, mixed=self._mixed
            )

    def remove(self) -> None:
        for file in self._files:
            file.unlink(missing_ok=True)


def _stretches(path: Path) -> Iterator[bytes]:
    with path.open("rb") as file:
        while head := file.read(_LENGTH.size):
            yield file.read(_LENGTH.unpack(head)[0])


def _staged(
    site: Site, table: Table, indexes: list[int], spool: _Spool, token: str, number: int
) -> Patch:
    schema = site.database.schema(table.name)
    names = [hidden_name("parked", token, number), hidden_name("parked", token, number + 1)]
    for hidden, rows in zip(names, spool.sides(), strict=True):
        site.database.lay_out(hidden, table, schema)
        site.database.fill(hidden, table, rows)
    return Patch(
        table.name,
        names[0],
        names[1],
        list(table.key),
        [column.name for column in table.columns if column.name not in table.key],
        [table.columns[index].name for index in indexes],
    )


def _copied(
    site: Site, pipeline: RowPipeline, reader: Reader, rows: TableRows, token: str, number: int
) -> Exchange:
    hidden, table = hidden_name("arriving", token, number), rows.table
    site.database.lay_out(hidden, table, site.database.schema(table.name))
    with pipeline.prefetched(rows, pipeline.read(reader, rows)) as batches:
        site.database.fill(hidden, table, batches)
    site.database.finish(hidden, site.database, table)
    return Exchange(table.name, hidden, hidden_name("parked", token, number))
