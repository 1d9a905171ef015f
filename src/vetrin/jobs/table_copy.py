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
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import Any

from ..append_log import AppendLog
from ..database import (
    NO_ROWS,
    UNTOLD,
    Batch,
    Exchange,
    KeyRange,
    Page,
    Reader,
    can_copy_in_ranges,
    hidden_name,
    joint_digest,
    spans,
)
from ..errors import NewerLog
from ..site import RowPipeline
from .baseline import Baseline
from .events import Checking, Moved, TableDone, TableStarted
from .journal import Run
from .plan import Plan, TablePlan
from .run_context import RunContext

_VERSION = 2  # of the record; pages of version 1 had digests that different rows may share
_STRETCH = 32_000_000  # bytes that are stored together
_SECONDS = 8.0  # or what comes in so long
_VIEW = 900.0  # seconds after which another table is taken from a view of its own


@dataclass
class Taken:
    """What of one table lies in its hidden table. ``digest`` is that of all rows, where it does not go by
    key; ``done`` says that nothing was missing in the view that it was taken from."""

    index: int
    schema: str
    pages: list[Page] = field(default_factory=list)
    rows: int = 0
    digest: str = ""
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
            taken.pages.append(Page(tuple(page["upto"]), page["rows"], page["digest"]))
        taken.pages.sort(key=lambda page: page.upto)
        taken.rows = line.get("rows", taken.rows)
        taken.digest = line.get("digest", taken.digest)
        taken.done = line.get("done", taken.done)
        taken.settled = line.get("settled", taken.settled)


class TableCopier:
    """Fills the hidden tables of a plan.

    ``since`` is the moment that they belong to; ``again`` names tables that had been taken before from an
    earlier view, ``renewed`` those of them of which something had changed meanwhile, with how many pages.
    """

    def __init__(
        self, plan: Plan, context: RunContext, run: Run, pipeline: RowPipeline, baseline: Baseline
    ) -> None:
        self._plan = plan
        self._source = context.source
        self._target = context.target
        self._token = run.token
        self._record = Record(run.folder)
        self._pipeline = replace(pipeline, keep=baseline.through)
        self._baseline = baseline
        self._tell = context.listener
        self.rows: dict[str, int] = {}
        self.since = ""
        self.again: set[str] = set()
        self.renewed: dict[str, int] = {}
        self._comparing: set[str] = set()  # tables whose rows are compared as they are stored
        self._warned: set[str] = set()  # what the server said of the table that is taken now

    def take(self) -> list[Exchange]:
        """Take all tables of the plan; the exchanges that bring them in.

        Raises:
            DatabaseError: something failed; what has arrived is on record.
        """
        if not self._plan.tables:
            return []
        self._drop_unknown()
        # A view that is held for long keeps a live server from clearing away old rows.
        waiting, views = list(self._plan.tables), 0
        while waiting:
            views += 1
            with self._viewing() as reader:
                begun = time.monotonic()
                self._table(reader, waiting.pop(0))
                while waiting and time.monotonic() - begun < _VIEW:
                    self._table(reader, waiting.pop(0))
        if views > 1:
            with self._viewing() as reader:
                for item in self._plan.tables:
                    self._table(reader, item)
        return [
            Exchange(
                item.target,
                hidden_name("arriving", self._token, taken.index),
                None
                if item.target_rows is None
                else hidden_name("parked", self._token, taken.index),
            )
            for item in self._plan.tables
            for taken in (self._record.tables[item.table.name],)
        ]

    @contextlib.contextmanager
    def _viewing(self) -> Iterator[Reader]:
        with self._source.database.reading() as reader:
            self.since = datetime.now().astimezone().isoformat(timespec="milliseconds")
            self._baseline.since = self.since
            yield reader

    def to_settle(self, table: str) -> str | None:
        """The hidden table in which something will be set; it is then good for this run only."""
        taken = self._record.tables.get(table)
        if taken is None:
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
            target.lay_out(hidden, item.table, item.schema)
            renewing = False
        else:
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
        target.finish(hidden, self._source.database, item.table)
        self.rows[name] = taken.rows
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
        rows = self._pipeline.read(reader, item, KeyRange(after=last))
        for pages, count in self._stored(hidden, item, rows):
            self._pages(table.name, pages, taken.rows + count)
        record.write(table=table.name, done=True)

    def _pages(self, table: str, pages: Sequence[Page], rows: int) -> None:
        """Put on record that some pages are stored, and how many rows that makes."""
        self._record.write(table=table, pages=[vars(page) for page in pages], rows=rows)

    def _renew(self, reader: Reader, item: TablePlan, hidden: str, taken: Taken) -> None:
        """Bring pages that were taken before up to date with this view."""
        table, target = item.table, self._target.database
        ranges = spans(taken.pages)
        self._tell(Checking(table.name))
        digests = reader.digests(table, ranges, leave=item.leave, replacements=item.replacements)
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
            found = list(self._stored(hidden, item, rows))
            pages = [page for some, _ in found for page in some]
            # The range reaches as far as it did, also where its last row is gone.
            if pages:
                pages[-1] = replace(pages[-1], upto=old[number].upto)
            else:
                pages = [Page(old[number].upto, 0, NO_ROWS)]
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
            self._record.write(table=table.name, rows=0, digest="", done=False)
            self._target.database.lay_out(hidden, table, item.schema)
            self._baseline.drop(table, KeyRange())
        rows = self._pipeline.read(reader, item)
        found = list(self._stored(hidden, item, rows, at_once=True))
        count = sum(count for _, count in found)
        digest = joint_digest(page.digest for pages, _ in found for page in pages)
        self._record.write(table=table.name, rows=count, digest=digest, done=True)

    def _stored(
        self, hidden: str, item: TablePlan, batches: Iterable[Batch], *, at_once: bool = False
    ) -> Iterator[tuple[list[Page], int]]:
        """Store rows stretch by stretch; after each one its pages and how many rows it has."""
        table, name = item.table, item.table.name
        with self._pipeline.prefetched(item, batches, depth=1) as coming:
            waiting = Waiting(coming)
            while waiting:
                stretch = _Stretch(waiting, at_once)
                stored = self._target.database.fill(
                    hidden,
                    table,
                    stretch,
                    lambda count, size: self._tell(Moved(name, count, size)),
                    warned=None if name in self._comparing else self._warned.add,
                )
                yield stretch.pages if stretch.paged else [], stored


class _Stretch:
    """Batches that are stored together, taken off those that are ``waiting``: some that end with a page, or with
    ``at_once`` all. ``pages`` are those of the batches that were taken by now, ``paged`` is False where one of them
    ended in a page."""

    def __init__(self, waiting: Waiting, at_once: bool) -> None:
        self._waiting = waiting
        self._at_once = at_once
        self.pages: list[Page] = []
        self.paged = True

    def __iter__(self) -> Iterator[Batch]:
        size, begun = 0, time.monotonic()
        for batch in self._waiting:
            if batch.page is not None:
                self.pages.append(batch.page)
            else:
                self.paged = False
            size += batch.size
            yield batch
            late = size >= _STRETCH or time.monotonic() - begun >= _SECONDS
            if late and not self._at_once and self.paged:
                return


class Waiting:
    """Batches that can be taken some now and some later; false when there are none left."""

    def __init__(self, batches: Iterator[Batch]) -> None:
        self._batches = batches
        self._next = next(batches, None)

    def __bool__(self) -> bool:
        return self._next is not None

    def __iter__(self) -> Iterator[Batch]:
        while self._next is not None:
            batch, self._next = self._next, next(self._batches, None)
            yield batch
