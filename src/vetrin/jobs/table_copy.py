"""The table half of a run: rows go into hidden tables, and what arrived is known for good.

Built to survive an end at any point. A table whose key is made of whole numbers is taken in stretches; when
one is stored at the target, the pages that it is made of (up to which key, how many rows, which digest) are
written to ``taken.jsonl`` of the run. Whoever goes on later opens a new view of the source, has the source
digest these pages again, takes anew those that differ, and goes on behind the last of them. So in the end
all tables are of one moment: that of the last view.
"""

from __future__ import annotations

import contextlib
import time
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property
from pathlib import Path
from typing import Any

from msgspec.structs import asdict, replace

from ..append_log import AppendLog
from ..database import (
    NO_ROWS,
    UNTOLD,
    Batch,
    Exchange,
    KeyRange,
    Page,
    PagesAfter,
    Patch,
    Reader,
    WantedDigests,
    can_copy_in_ranges,
    hidden_name,
    joint_digest,
    spans,
)
from ..database.page_worker import PageWorker, can_go_elsewhere
from ..database.side_process import WORTH
from ..errors import NewerLog
from ..heap import give_back
from ..site import RowPipeline
from .arrival_steps import Step, tables_of
from .baseline import Baseline
from .differing_rows import Update
from .events import Checking, Moved, TableDone, TableStarted
from .journal import Run
from .last_copy import KnownTable, LastCopy, Signatures
from .plan import Plan, TablePlan
from .run_context import RunContext
from .table_update import TableUpdater

_VERSION = 2  # of the record; pages of version 1 had digests that different rows may share
INDEXES_LATER = 8 << 20  # bytes of a table that gets its indexes once its rows are there
STRETCH = 32_000_000  # bytes that are stored together
_FREED = 16 << 20  # bytes of rows after which freed memory is given back
SECONDS = 8.0  # or what comes in so long
_LOOKS = 6  # at a source of which no view lasts, until what changes all the time is taken as it is
VIEW = 900.0  # seconds after which another table is taken from a view of its own


@dataclass
class Taken:
    """What of one table lies in its hidden table. ``digest`` is that of all rows, where it does not go by
    key, and ``became`` that of what they became; ``done`` says that nothing was missing in the view that it was
    taken from."""

    index: int
    schema: str
    pages: list[Page] = field(default_factory=list)
    rows: int = 0
    digest: str = ""
    became: str = ""
    done: bool = False
    settled: bool = False  # something was set in it on top of what was taken


class Record:
    """``taken.jsonl``: what has arrived, one line for each step.

    Where a line of it cannot be read, or its digests are of an older form, nothing counts as taken.
    """

    def __init__(self, folder: Path) -> None:
        self._log = AppendLog(folder / "taken.jsonl", "taken", _VERSION)
        self.tables: dict[str, Taken] = {}
        if not self._log.there:
            return
        try:
            events = self._log.read()
            good = events.sound and events.version == _VERSION
            for line in events.items if good else ():
                self._apply(line)
        except (NewerLog, KeyError, TypeError, ValueError, IndexError):
            good = False
        if not good:
            self.tables = {}
            self._log.remove()

    def write(self, **line: Any) -> None:
        self._log.append(line)
        self._apply(line)

    def begin(self, table: str, index: int, schema: str) -> Taken:
        self.write(table=table, index=index, schema=schema)
        return self.tables[table]

    def next_index(self) -> int:
        return max((taken.index for taken in self.tables.values()), default=-1) + 1

    def _apply(self, line: dict[str, Any]) -> None:
        name = line["table"]
        if "index" in line:
            self.tables[name] = Taken(line["index"], line["schema"])
        taken = self.tables[name]
        if "keep" in line:  # pages that stay, by their numbers
            taken.pages = [taken.pages[number] for number in line["keep"]]
        for page in line.get("pages", ()):
            digests = page["digest"], page.get("became", UNTOLD)
            taken.pages.append(Page(tuple(page["upto"]), page["rows"], *digests))
        taken.pages.sort(key=lambda page: page.upto)
        taken.rows = line.get("rows", taken.rows)
        taken.digest = line.get("digest", taken.digest)
        taken.became = line.get("became", taken.became)
        taken.done = line.get("done", taken.done)
        taken.settled = line.get("settled", taken.settled)


class TableCopier:
    """Fills the hidden tables of a plan.

    ``last`` is what the last transfer left, where only what differs from that has to be taken; None where all is.
    ``since`` is the moment that the tables belong to; ``again`` names tables that had been taken before from an
    earlier view, ``renewed`` those of them of which something had changed meanwhile, with how many pages,
    ``restless`` those that changed whenever they were looked at, so that they are of different moments. ``rows``
    is how many each table has, ``written`` how many of them were written.
    """

    def __init__(
        self,
        plan: Plan,
        context: RunContext,
        run: Run,
        pipeline: RowPipeline,
        baseline: Baseline,
        last: LastCopy | None = None,
    ) -> None:
        self._plan = plan
        self._source = context.source
        self._target = context.target
        self._token = run.token
        self._record = Record(run.folder)
        self._pipeline = self._paged = replace(pipeline, keep=baseline.through)
        self._baseline = baseline
        self._tell = context.listener
        self._last = last
        self._updater = (
            TableUpdater(
                plan=plan,
                context=context,
                token=run.token,
                pipeline=self._pipeline,
                baseline=baseline,
                last=last,
                signatures=self._signatures,
                folder=run.folder,
            )
            if last is not None and plan.tables
            else None
        )
        self._laid: set[str] = set()  # tables that lie in hidden ones
        self._settled: dict[str, str] = {}  # digests of tables in which something was set
        self.rows: dict[str, int] = {}
        self.written: dict[str, int] = {}
        self.since = ""
        self.again: set[str] = set()
        self.renewed: dict[str, int] = {}
        self.restless: set[str] = set()
        self._comparing: set[str] = set()  # tables whose rows are compared as they are stored
        self._warned: set[str] = set()  # what the server said of the table that is taken now

    @property
    def since_run(self) -> int | None:
        """The run whose copy told what need not be moved; None where it told that of no table."""
        told = self._updater is not None and self._updater.knows_any
        return self._last.run if self._last is not None and told else None

    @cached_property
    def _steps(self) -> list[frozenset[str]]:
        """The tables in which something is set, step by step."""
        prefix, definition = self._source.prefix, self._source.definition
        return [
            frozenset(prefix + name for name in tables_of(step, definition))
            for step in self._plan.settling.steps
        ]

    @cached_property
    def _signatures(self) -> Signatures:
        sides = self._source.database.facts(), self._target.database.facts()
        return Signatures(self._plan, sides, frozenset[str]().union(*self._steps))

    def take(self) -> None:
        """Lay all tables of the plan ready, or what differs in them.

        Raises:
            DatabaseError: something failed; what has arrived is on record.
        """
        items = list(self._plan.tables)
        if not items:
            return
        self._drop_unknown()
        with PageWorker() as worker:
            self._paged = replace(self._pipeline, worker=worker)
            self._take(items)

    def _take(self, items: list[TablePlan]) -> None:
        # A view that is held for long keeps a live server from clearing away old rows.
        waiting, views = items, 0
        while waiting:
            views += 1
            with self._viewing() as reader:
                begun = time.monotonic()
                if views == 1:
                    waiting = self._longest_first(self._differing(reader, items))
                self._expect(reader, waiting)
                while waiting:
                    self._table(reader, waiting.pop(0))
                    if time.monotonic() - begun >= VIEW:
                        break
        if not self._source.database.facts().one_moment:
            self._until_unchanged(items)
        elif views > 1:
            self._again(items)
        self._target.database.indexed()

    def _longest_first(self, items: Iterable[TablePlan]) -> list[TablePlan]:
        """The same tables; those that get indexes once their rows are there come before all others, as these can be
        filled meanwhile."""
        return sorted(items, key=lambda item: -item.table.size if self._later(item) else 0)

    def _later(self, item: TablePlan) -> bool:
        """Whether a table's indexes are made once its rows are there. Over a line the server has the time to keep
        them in between."""
        return self._target.environment.host is None and item.table.size > INDEXES_LATER

    def _expect(self, reader: Reader, waiting: Sequence[TablePlan]) -> None:
        """Say which rows will be read, of tables of which nothing was taken yet."""
        if not any(item.table.name in self._record.tables for item in waiting):
            reader.expect([self._pipeline.wanted(item, _all_of(item)) for item in waiting])

    def _again(self, items: Sequence[TablePlan]) -> None:
        """Bring all that was taken up to date with one view."""
        with self._viewing() as reader:
            for item in self._differing(reader, items):
                self._table(reader, item)

    def _until_unchanged(self, items: Sequence[TablePlan]) -> None:
        """Where no view lasts from one question to the next: look again until all is as it was when it was looked at
        before, which is then how it was at the moment in between."""
        known, after = set(self.again), self._contents()
        for _ in range(_LOOKS):
            before = after
            self._again(items)
            after = self._contents()
            self.again = known | self.renewed.keys()
            self.restless = {name for name, digests in after.items() if before.get(name) != digests}
            if not self.restless:
                return

    def _contents(self) -> dict[str, tuple[str, ...]]:
        """What was taken of each table, in digests."""
        found: dict[str, tuple[str, ...]] = {}
        for name, taken in self._record.tables.items():
            found[name] = (taken.digest, *(page.digest for page in taken.pages))
        for name, update in self._updater.updates.items() if self._updater is not None else ():
            found[name] = (
                str(update.rows),
                *(page.digest for page in update.pages),
                update.known.source,
            )
        return found

    def _differing(self, reader: Reader, items: Sequence[TablePlan]) -> list[TablePlan]:
        """Lay ready what differs in tables that the last transfer brought; those that are taken as a whole."""
        updater = self._updater
        if updater is None:
            return list(items)
        begun = {name for name, taken in self._record.tables.items() if not taken.settled}
        found = updater.look(reader, [item for item in items if item.table.name not in begun])
        whole = begun | {item.table.name for item in found}
        # What is set in several tables is set in none of them, or in all.
        whole |= updater.give_up(_tied(whole, self._steps) - whole)
        coming = [item for item in items if item.table.name in whole]
        if not all(map(self._can_be_compared, coming)) or not updater.can_patch():
            for update in [one for one in updater.updates.values() if one.written]:
                self._copy(update, reader)
        return coming

    def _can_be_compared(self, item: TablePlan) -> bool:
        """Whether a table that comes as a whole only because something is set in it may be changed in place."""
        settled = any(item.table.name in tables for tables in self._steps)
        return settled and self._updater is not None and self._updater.can_compare(item)

    def stays(self, step: Step) -> bool:
        """True for a step that was done in its tables by the last transfer, and need not be done again."""
        if self._updater is None:
            return False
        prefix = self._source.prefix
        tables = (prefix + name for name in tables_of(step, self._source.definition))
        return any(name in self._updater.updates for name in tables)

    def _copy(self, update: Update, reader: Reader | None) -> None:
        """Have a table that differs from the one that is there lie in a hidden one."""
        assert self._updater is not None
        name, index = update.item.table.name, self._record.next_index()
        self._updater.copied(update, hidden_name("arriving", self._token, index), reader)
        taken = self._record.begin(name, index, update.item.schema)
        self._pages(name, update.pages, update.rows)
        self._record.write(table=name, done=True)
        self._laid.add(name)
        self.rows[name], self.written[name] = taken.rows, update.written
        self._updater.give_up([name])

    def staged(self) -> tuple[list[Exchange], list[Patch]]:
        """Once all is set in them: the tables that are exchanged, and those of which rows are changed.

        Raises:
            DatabaseError: something failed; what has arrived is on record.
            JobError: somebody wrote to a table meanwhile.
        """
        patches: list[Patch] = []
        if self._plan.tables:
            self._digest_settled()
        if self._updater is not None:
            patches = self._patches(self._updater)
            for name, update in self._updater.updates.items():
                self.rows[name] = update.rows
                self.written[name] = update.written
        there = set(self._target.database.hidden_tables())
        exchanges = []
        for item in self._plan.tables:
            taken = self._record.tables.get(item.table.name)
            if taken is None:
                continue
            hidden = hidden_name("arriving", self._token, taken.index)
            if item.table.name not in self._laid:
                if hidden in there:
                    self._target.database.drop([hidden])
                continue
            parked = hidden_name("parked", self._token, taken.index)
            exchanges.append(
                Exchange(item.target, hidden, None if item.target_rows is None else parked)
            )
        return exchanges, patches

    def _patches(self, updater: TableUpdater) -> list[Patch]:
        """What is changed in place; nothing where some table has to be exchanged, for all change at one moment."""
        for item in self._plan.tables:
            name = item.table.name
            if name in self._laid and self._can_be_compared(item):
                index = self._record.tables[name].index
                hidden = hidden_name("arriving", self._token, index)
                if not updater.against(item, hidden).written:
                    self._laid.discard(name)
        changed = [update for update in updater.updates.values() if update.written]
        names = {update.item.table.name for update in changed}
        if self._laid <= names and updater.can_patch():
            self._laid.clear()
            return [update.patch for update in changed]
        updater.give_up(self._laid)
        for update in changed:
            if update.item.table.name not in self._laid:
                self._copy(update, None)
        return []

    def _digest_settled(self) -> None:
        """Make digests of the tables in which something was set."""
        hidden = {
            item.table.name: replace(
                item.table,
                name=hidden_name(
                    "arriving", self._token, self._record.tables[item.table.name].index
                ),
            )
            for item in self._plan.tables
            if item.table.name in self._laid and self._record.tables[item.table.name].settled
        }
        with self._target.database.reading() as reader:
            wanted = [WantedDigests(table, [KeyRange()]) for table in hidden.values()]
            for name, (digest,) in zip(hidden, reader.digests_of(wanted), strict=True):
                self._settled[name] = digest

    def left(self, definitions: Mapping[str, str]) -> dict[str, KnownTable]:
        """What is known now of the tables, for the next transfer; ``definitions`` are those at the target."""
        found = {}
        for item in self._plan.tables:
            name, taken = item.table.name, self._record.tables.get(item.table.name)
            update = self._updater.updates.get(name) if self._updater is not None else None
            signature, definition = self._signatures.of(item), definitions.get(item.target, "")
            if name in self._settled and taken is not None:
                source = (
                    joint_digest(page.digest for page in taken.pages)
                    if can_copy_in_ranges(item.table)
                    else taken.digest
                )
                known = KnownTable(signature, definition, self.rows[name])
                found[name] = replace(known, source=source, target=self._settled[name])
            elif update is not None:
                known = replace(update.known, rows=update.rows, pages=tuple(update.pages))
                found[name] = _empty_or(replace(known, definition=definition))
            elif taken is not None and can_copy_in_ranges(item.table):
                pages = tuple(taken.pages)
                found[name] = _empty_or(KnownTable(signature, definition, taken.rows, pages))
            elif taken is not None:
                known = KnownTable(signature, definition, taken.rows)
                found[name] = replace(known, source=taken.digest, target=taken.became)
        return found

    @contextlib.contextmanager
    def _viewing(self) -> Iterator[Reader]:
        with self._source.database.reading() as reader:
            self.since = datetime.now().astimezone().isoformat(timespec="milliseconds")
            self._baseline.since = self.since
            yield reader

    def to_settle(self, table: str) -> str | None:
        """The hidden table in which something will be set; it is then good for this run only."""
        taken = self._record.tables.get(table)
        if taken is None or table not in self._laid:
            return None
        if not taken.settled:
            self._record.write(table=table, settled=True)
        return hidden_name("arriving", self._token, taken.index)

    def _drop_unknown(self) -> None:
        """Drop staging tables left by an earlier plan of this run."""
        known = {
            hidden_name("arriving", self._token, taken.index): name
            for name, taken in self._record.tables.items()
        }
        wanted = {item.table.name for item in self._plan.tables}
        start = hidden_name("arriving", self._token, 0)[:-1]
        for name in self._target.database.hidden_tables():
            if name.startswith(start) and known.get(name) not in wanted:
                self._target.database.drop([name])

    def _table(self, reader: Reader, item: TablePlan) -> None:
        name, target = item.table.name, self._target.database
        taken = self._record.tables.get(name)
        there = set(target.hidden_tables()) if taken is not None else set()
        usable = (
            taken is not None
            and taken.schema == item.schema
            and not taken.settled
            and hidden_name("arriving", self._token, taken.index) in there
        )
        if not usable:
            index = taken.index if taken is not None else self._record.next_index()
            hidden = hidden_name("arriving", self._token, index)
            taken = self._record.begin(name, index, item.schema)
            self._baseline.begin(item.table)
            target.lay_out(hidden, item.table, item.schema, indexes_later=self._later(item))
            renewing = False
        else:
            target.indexed()  # nothing is to be changed under it
            assert taken is not None
            hidden = hidden_name("arriving", self._token, taken.index)
            renewing = True
            self.again.add(name)
        self._tell(TableStarted(name, item.rows))
        self._warned.clear()
        work = self._by_key if can_copy_in_ranges(item.table) else self._whole
        work(reader, item, hidden, taken, renewing)
        if self._warned:
            # The server had something to say, which need not mean that it changed a value: once more, comparing.
            self._comparing.add(name)
            taken = self._record.begin(name, taken.index, item.schema)
            self._baseline.begin(item.table)
            work(reader, item, hidden, taken, True)
        for key_range in self._baseline.gaps(item.table):
            for _ in self._pipeline.read(reader, item, key_range):
                pass
        target.finish(hidden, self._source.database, item.table, item.schema if renewing else "")
        self._laid.add(name)
        self.rows[name] = self.written[name] = taken.rows
        self._tell(TableDone(name, taken.rows))

    def _by_key(
        self, reader: Reader, item: TablePlan, hidden: str, taken: Taken, renewing: bool
    ) -> None:
        record, table, target = self._record, item.table, self._target.database
        if renewing:
            self._renew(reader, item, hidden, taken)
        last = taken.pages[-1].upto if taken.pages else None
        if renewing:
            # What was stored and never recorded is taken anew.
            beyond = KeyRange(after=last)
            if last is None:
                record.write(table=table.name, rows=0)
                target.lay_out(hidden, table, item.schema)
            else:
                target.remove_range(hidden, table, beyond)
            self._baseline.drop(table, beyond)
        rows = self._from(reader, item, KeyRange(after=last))
        for pages, count in self._stored(reader, hidden, item, rows):
            self._pages(table.name, pages, taken.rows + count)
        record.write(table=table.name, done=True)

    def _from(self, reader: Reader, item: TablePlan, key_range: KeyRange | None) -> Iterator[Batch]:
        """All rows of a table, or those that are left of it."""
        large = item.table.size >= WORTH and can_go_elsewhere(reader.prints)
        return (self._paged if large else self._pipeline).read(reader, item, key_range)

    def _pages(self, table: str, pages: Sequence[Page], rows: int) -> None:
        """Put on record that some pages are stored, and how many rows that makes."""
        self._record.write(table=table, pages=[asdict(page) for page in pages], rows=rows)

    def _renew(self, reader: Reader, item: TablePlan, hidden: str, taken: Taken) -> None:
        """Bring pages that were taken before up to date with this view."""
        table, target = item.table, self._target.database
        ranges = spans(taken.pages)
        self._tell(Checking(table.name))
        digests = reader.digests(
            table,
            ranges,
            leave=item.leave,
            replacements=item.replacements,
            known=[page.digest for page in taken.pages],
        )
        same = [
            number
            for number, page in enumerate(taken.pages)
            if digests[number] == page.digest != UNTOLD
        ]
        for number in same:
            self._tell(Moved(table.name, taken.pages[number].rows, 0))
        differ = sorted(set(range(len(ranges))) - set(same))
        if not differ:
            return
        self.renewed[table.name] = len(differ)
        # From here on those pages count as not there, however this ends.
        gone = sum(taken.pages[number].rows for number in differ)
        old = taken.pages
        self._record.write(table=table.name, keep=same, rows=taken.rows - gone, done=False)
        for number in differ:
            key_range = ranges[number]
            target.remove_range(hidden, table, key_range)
            self._baseline.drop(table, key_range)
            rows = self._pipeline.read(reader, item, key_range)
            found = list(self._stored(reader, hidden, item, rows))
            pages = [page for some, _ in found for page in some]
            # The range reaches as far as it did, also where its last row is gone.
            if pages:
                pages[-1] = replace(pages[-1], upto=old[number].upto)
            else:
                pages = [Page(old[number].upto, 0, NO_ROWS, NO_ROWS)]
            count = sum(count for _, count in found)
            self._pages(table.name, pages, taken.rows + count)

    def _whole(
        self, reader: Reader, item: TablePlan, hidden: str, taken: Taken, renewing: bool
    ) -> None:
        table = item.table
        if renewing and taken.done:
            self._tell(Checking(table.name))
            (now,) = reader.digests(
                table, [KeyRange()], leave=item.leave, replacements=item.replacements
            )
            if now == taken.digest != UNTOLD:
                self._tell(Moved(table.name, taken.rows, 0))
                return
            self.renewed[table.name] = 1
        if renewing:
            self._record.write(table=table.name, rows=0, digest="", became="", done=False)
            self._target.database.lay_out(hidden, table, item.schema)
            self._baseline.drop(table, KeyRange())
        rows = self._from(reader, item, _all_of(item))
        found = list(self._stored(reader, hidden, item, rows, at_once=True))
        count = sum(count for _, count in found)
        pages = [page for some, _ in found for page in some]
        digest = joint_digest(page.digest for page in pages)
        became = joint_digest(page.became for page in pages)
        self._record.write(table=table.name, rows=count, digest=digest, became=became, done=True)

    def _stored(
        self,
        reader: Reader,
        hidden: str,
        item: TablePlan,
        batches: Iterable[Batch],
        *,
        at_once: bool = False,
    ) -> Iterator[tuple[list[Page], int]]:
        """Store rows stretch by stretch; after each one its pages and how many rows it has."""
        table, name = item.table, item.table.name
        after = PagesAfter(table, self._target.database.prints, reader.prints)
        with self._pipeline.prefetched(item, batches, depth=1) as coming:
            waiting = Waiting(coming)
            while waiting:
                stretch = _Stretch(waiting, after, at_once)
                stored = self._target.database.fill(
                    hidden,
                    table,
                    stretch,
                    lambda count, size: self._tell(Moved(name, count, size)),
                    warned=None if name in self._comparing else self._warned.add,
                )
                yield stretch.pages if stretch.paged else [], stored
        after.end()


def _all_of(item: TablePlan) -> KeyRange | None:
    """The range in which all rows of a table are read, where nothing of it is there yet."""
    return KeyRange() if can_copy_in_ranges(item.table) else None


class _Stretch:
    """Batches that are stored together, taken off those that are ``waiting``: some that end with a page, or with
    ``at_once`` all. ``pages`` are those of the batches that were taken by now, ``paged`` is False where one of them
    ended in a page."""

    def __init__(self, waiting: Waiting, after: PagesAfter, at_once: bool) -> None:
        self._waiting = waiting
        self._after = after
        self._at_once = at_once
        self.pages: list[Page] = []
        self.paged = True

    def __iter__(self) -> Iterator[Batch]:
        size, begun = 0, time.monotonic()
        for batch in self._waiting:
            if batch.pages:
                self.pages += self._after.of(batch)
            else:
                self.paged = False
            size += batch.size
            yield batch
            late = size >= STRETCH or time.monotonic() - begun >= SECONDS
            if late and not self._at_once and self.paged:
                return


def _tied(names: Collection[str], steps: Sequence[frozenset[str]]) -> set[str]:
    """Some tables, and those that have a step in common with them."""
    found, before = set(names), -1
    while len(found) != before:
        before = len(found)
        found |= frozenset[str]().union(*(tables for tables in steps if tables & found))
    return found


def _empty_or(known: KnownTable) -> KnownTable:
    """A table that goes by key: one without rows has no pages, and is known to be empty."""
    if known.pages or known.target:
        return known
    return replace(known, source=NO_ROWS, target=NO_ROWS)


class Waiting:
    """Batches that can be taken some now and some later; false when there are none left."""

    def __init__(self, batches: Iterator[Batch]) -> None:
        self._batches = batches
        self._next = next(batches, None)
        self._freed = 0  # bytes of those that were taken since memory was given back

    def __bool__(self) -> bool:
        return self._next is not None

    def __iter__(self) -> Iterator[Batch]:
        while self._next is not None:
            batch, self._next = self._next, next(self._batches, None)
            self._freed += batch.size
            yield batch
            if self._freed >= _FREED:
                self._freed = 0
                give_back()
