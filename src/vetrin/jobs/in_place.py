"""Changing values of an environment in place: rewriting and healing without moving anything.

Only rows that change are written. What they become and what they were is put into two hidden tables
first; then one transaction changes all of them, leaving alone rows that the site changed meanwhile.
A table without a key, or of an engine without transactions, is copied and exchanged as a whole.
Built to survive the same as a transfer: until that transaction nothing is touched, the journal names
the hidden tables, and ``recover`` takes back from them.
"""

from __future__ import annotations

import fnmatch
import pickle
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Protocol

from ..database import Batch, Exchange, Patch, Table, hidden_name, row_key
from ..database.base import Reader
from ..errors import JobError, Refused
from ..site import Site
from . import switching
from .events import Listener, Moved, Phase, Started, TableDone, TableStarted, silent
from .identity import where
from .journal import DONE, Journals, Run
from .lock import only_run
from .plan import can_be_written, may_write
from .prefetch import ahead
from .recovery import drop_parked, recover, taken_back_on_failure
from .switch import Switch, own_again

_SAMPLES = 8


class Work(Protocol):
    """What is done to values: a column of a batch in, the new values of some of its rows out."""

    def column(self, table: Table, batch: Batch, index: int) -> dict[int, bytes]: ...

    def again(self) -> Work:
        """The same work with counts of its own, for values that are read a second time."""

    def as_json(self) -> dict[str, Any]: ...


@dataclass(frozen=True)
class Sample:
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


@dataclass(frozen=True)
class Selection:
    """The columns that are looked at. Names may hold ``*``; tables with or without the prefix."""

    tables: tuple[str, ...] = ()
    columns: tuple[str, ...] = ()

    def indexes(self, site: Site, table: Table) -> list[int]:
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

    def check(self, site: Site) -> None:
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


def _spellings(site: Site, table: str, column: str) -> tuple[str, ...]:
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
        for table, indexes in tables:
            if not indexes:
                continue
            listener(TableStarted(table.name, table.rows))
            for before, after, changed in _changes(work, reader, table, indexes, listener):
                found.rows[table.name] += before.rows
                _take_samples(found, table, before, after, changed)
            if found.rows[table.name] and not _can_patch(table):
                found.whole.append(table.name)
            listener(TableDone(table.name, table.rows))
    found.rows = +found.rows
    return found


def _take_samples(
    found: Survey, table: Table, before: Batch, after: Batch, changed: list[list[int]]
) -> None:
    width = before.width
    # A few of each table, so that one large table does not fill the whole list.
    mine = sum(sample.table == table.name for sample in found.samples)
    for row, indexes in enumerate(changed):
        for index in indexes:
            if mine >= 2 or len(found.samples) >= _SAMPLES:
                return
            old, new = before.cells[row * width + index], after.cells[row * width + index]
            assert isinstance(old, bytes) and isinstance(new, bytes)
            found.samples.append(
                Sample(table.name, table.columns[index].name, row_key(table, before, row), old, new)
            )
            mine += 1


def _can_patch(table: Table) -> bool:
    return bool(table.key) and table.consistent


def _changes(
    work: Work, reader: Reader, table: Table, indexes: list[int], listener: Listener
) -> Iterator[tuple[Batch, Batch, list[list[int]]]]:
    """Rows that change, as they are and as they will be, and which of their columns do."""
    for batch in reader.rows(table):
        rows: dict[int, dict[int, bytes]] = {}
        for index in indexes:
            for row, value in work.column(table, batch, index).items():
                rows.setdefault(row, {})[index] = value
        listener(Moved(table.name, batch.rows, batch.size))
        if not rows:
            continue
        width = batch.width
        before = Batch(width, [], 0, batch.mixed)
        after = Batch(width, [], 0, batch.mixed)
        for row in sorted(rows):
            cells = batch.cells[row * width : (row + 1) * width]
            before.cells += cells
            for index, value in rows[row].items():
                cells[index] = type(cells[index])(value)  # type: ignore[misc]
            after.cells += cells
        yield before, after, [sorted(rows[row]) for row in sorted(rows)]


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
        switching.end(site, run.token)
        drop_parked(site, journals, keep=run)
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
        for number, (table, indexes) in enumerate(tables):
            if not indexes:
                continue
            listener(TableStarted(table.name, table.rows))
            spool = run.folder / f"rows-{number}"
            try:
                rows[table.name] = _spooled(work, reader, table, indexes, spool, listener)
                if rows[table.name] and _can_patch(table):
                    patches.append(_staged(site, table, indexes, spool, run.token, 2 * number))
                elif rows[table.name]:
                    exchanges.append(
                        _copied(site, work.again(), reader, table, indexes, run.token, 2 * number)
                    )
            finally:
                spool.unlink(missing_ok=True)
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


def _spooled(
    work: Work, reader: Reader, table: Table, indexes: list[int], spool: Path, listener: Listener
) -> int:
    """Write the rows that change to a file, for they are needed twice; how many they are."""
    count = 0
    with spool.open("wb") as file:
        for before, after, _ in _changes(work, reader, table, indexes, listener):
            pickle.dump((before, after), file)
            count += before.rows
    return count


def _read(spool: Path, side: int) -> Iterator[Batch]:
    with spool.open("rb") as file:
        while True:
            try:
                yield pickle.load(file)[side]
            except EOFError:
                return


def _staged(
    site: Site, table: Table, indexes: list[int], spool: Path, token: str, number: int
) -> Patch:
    schema = site.database.schema(table.name)
    names = [hidden_name("old", token, number), hidden_name("old", token, number + 1)]
    for side, hidden in enumerate(names):
        site.database.lay_out(hidden, table, schema)
        site.database.fill(hidden, table, _read(spool, side))
    return Patch(
        table.name,
        names[0],
        names[1],
        list(table.key),
        [column.name for column in table.columns if column.name not in table.key],
        [table.columns[index].name for index in indexes],
    )


def _copied(
    site: Site,
    work: Work,
    reader: Reader,
    table: Table,
    indexes: list[int],
    token: str,
    number: int,
) -> Exchange:
    hidden = hidden_name("new", token, number)

    def rewritten() -> Iterator[Batch]:
        for batch in reader.rows(table):
            for index in indexes:
                batch.put(index, work.column(table, batch, index))
            yield batch

    site.database.lay_out(hidden, table, site.database.schema(table.name))
    with ahead(rewritten()) as batches:
        site.database.fill(hidden, table, batches)
    site.database.finish(hidden, site.database, table)
    return Exchange(table.name, hidden, hidden_name("old", token, number))
