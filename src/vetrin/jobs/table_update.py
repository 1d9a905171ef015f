"""Tables that the last transfer brought: what differs in them is found by digests, and only that is moved.

The source's server makes digests of the pages that came last time, the target's server of the same pages as they are
there; a page that is as it was on both sides is not read. Of all others the rows are read on both sides, and those
that differ laid into two hidden tables, as they are and as they will be. Then either one transaction changes these
rows where they stand, or the target's server makes a copy of the table, in which they are changed, to be swapped in.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field, replace

from ..database import (
    NO_ROWS,
    PAGE_ROWS,
    UNTOLD,
    Batch,
    KeyRange,
    KeyRanges,
    Page,
    Patch,
    Reader,
    Table,
    can_copy_in_ranges,
    digest_with,
    hidden_name,
    joint_ranges,
    pages_as_they_became,
    spans,
    with_pages,
)
from ..database.engines import engine_of
from ..database.row_codec import cells_of, records_of
from ..errors import JobError
from ..site import RowPipeline
from .baseline import Baseline
from .baseline_edits import Exchanged, between
from .events import Checking, Moved, TableDone, TableStarted
from .last_copy import KnownTable, LastCopy, Signatures, claims_of, ranges_of
from .plan import Plan, TablePlan
from .run_context import RunContext

_HELPERS = 1_000_000  # the numbers of hidden tables begin here, beyond those of tables that come as a whole
_TOGETHER = 32 << 20  # bytes of a side that are compared at once
_AT_ONCE = 8 << 20  # bytes of the source that are compared with the baseline at once
_KEYS = 500  # keys that one question asks for: servers look up no more than that
_RANGES = 64  # stretches that one question asks for
_LAID = 8 << 20  # bytes of rows that differ, after which they are laid into their tables
_NEXT_NUMBER = re.compile(r"\bAUTO_INCREMENT=(\d+)")
_SPREAD = 20_000  # rows: so many are always compared, however large a part of their table they are
_VISITED = 10_000  # rows: in an environment with visitors, a change of more would keep them waiting


@dataclass
class Update:
    """What differs in a table. ``pages`` are those that it will have; ``gone``, ``changed`` and ``came`` are rows.
    ``unfit``: they cannot be changed where they stand. ``given`` is the last number that the source gave to a row."""

    item: TablePlan
    known: KnownTable
    helpers: tuple[str, str]
    pages: list[Page] = field(default_factory=list)
    rows: int = 0
    gone: int = 0
    changed: int = 0
    came: int = 0
    unfit: bool = False
    given: int | None = None

    @property
    def written(self) -> int:
        return self.gone + self.changed + self.came

    @property
    def patch(self) -> Patch:
        """The patch that makes the table what it will be."""
        table = self.item.table
        rest = [column.name for column in table.columns if column.name not in table.key]
        before, after = self.helpers
        return Patch(
            self.item.target,
            before,
            after,
            list(table.key),
            rest,
            rest,
            whole=True,
            given=self.given,
        )


class TooMuch(Exception):
    """So much differs that the table is better taken anew."""


class TableUpdater:
    """Works out the updates of one run. ``updates`` holds those of tables that need not be taken as a whole."""

    def __init__(
        self,
        plan: Plan,
        context: RunContext,
        token: str,
        pipeline: RowPipeline,
        baseline: Baseline,
        last: LastCopy,
        signatures: Signatures,
    ) -> None:
        self._plan = plan
        self._source = context.source
        self._target = context.target
        self._token = token
        self.pipeline = pipeline
        self._baseline = baseline
        self._last = last
        self._signatures = signatures
        self._tell = context.listener
        self._numbers = {item.table.name: number for number, item in enumerate(plan.tables)}
        self.mixed = engine_of(context.source.database.engine).any_type
        self._known: dict[str, KnownTable] = {}
        self.updates: dict[str, Update] = {}

    @property
    def knows_any(self) -> bool:
        """False where all tables, or what becomes of them, are others than last time."""
        return bool(self._known)

    # -- looking ----------------------------------------------------------------------------------------------

    def look(self, reader: Reader, items: Iterable[TablePlan]) -> list[TablePlan]:
        """Find what differs, in the view of a reader; the tables that have to be taken as a whole.

        Raises:
            DatabaseError: as any reading and filling.
        """
        wanted = list(items)
        self.give_up(list(self.updates))
        definitions = self._target.database.definitions(item.target for item in wanted)
        self._known = known = {
            item.table.name: found
            for item in wanted
            if (found := self._recognised(item, definitions.get(item.target))) is not None
        }
        if not known:
            return wanted
        with self._target.database.reading() as ours, ThreadPoolExecutor(1, "digests") as aside:
            try:
                return self._differing(reader, ours, aside, wanted, known)
            finally:
                aside.shutdown(cancel_futures=True)

    def _recognised(self, item: TablePlan, definition: str | None) -> KnownTable | None:
        """What is known of a table, if it is still made, and would still come, in the same way."""
        found = self._last.tables.get(item.table.name)
        if found is None or definition != found.definition:
            return None
        return found if found.signature == self._signatures.of(item) else None

    def _differing(
        self,
        reader: Reader,
        ours: Reader,
        aside: ThreadPoolExecutor,
        wanted: Sequence[TablePlan],
        known: Mapping[str, KnownTable],
    ) -> list[TablePlan]:
        asked: dict[str, Future[list[str]]] = {}
        for item in wanted:
            if item.table.name in known:
                ranges = ranges_of(known[item.table.name])
                asked[item.table.name] = aside.submit(ours.digests, at_target(item), ranges)
        found: dict[str, list[tuple[str, str]]] = {}
        for item in wanted:
            name = item.table.name
            if name in known:
                self._tell(TableStarted(name, item.rows))
                self._tell(Checking(name))
                mine = reader.digests(
                    item.table,
                    ranges_of(known[name]),
                    leave=item.leave,
                    replacements=item.replacements,
                )
                found[name] = [*zip(mine, asked[name].result(), strict=True)]
        whole = []
        for item in wanted:
            name = item.table.name
            if name not in known or not self._update(reader, ours, item, known[name], found[name]):
                whole.append(item)
        return whole

    def _update(
        self,
        reader: Reader,
        ours: Reader,
        item: TablePlan,
        known: KnownTable,
        digests: Sequence[tuple[str, str]],
    ) -> bool:
        """Work out what differs in a table; False where it has to be taken as a whole."""
        name, claims = item.table.name, claims_of(known)
        differ = [
            number
            for number, (now, claimed) in enumerate(zip(digests, claims, strict=True))
            if now != claimed or UNTOLD in now
        ]
        by_page = bool(known.pages) or (
            known.source == known.target == NO_ROWS and can_copy_in_ranges(item.table)
        )
        if (differ and not by_page) or not self._baseline.carries(item.table):
            return False
        update = Update(item, known, self._helpers(item), list(known.pages), known.rows)
        if differ:
            try:
                self._read_differing(reader, ours, update, differ, digests)
            except TooMuch:
                self._target.database.drop(update.helpers)
                return False
        self._keep_the_rest(reader, item)
        self.updates[name] = update
        self._tell(Moved(name, update.rows, 0))
        self._tell(TableDone(name, update.rows))
        return True

    def _keep_the_rest(self, reader: Reader, item: TablePlan) -> None:
        """Read once more what the baseline lacks: its pages are others than these."""
        for key_range in self._baseline.gaps(item.table):
            for _ in self.pipeline.read(reader, item, key_range):
                pass

    def _read_differing(
        self,
        reader: Reader,
        ours: Reader,
        update: Update,
        differ: Sequence[int],
        digests: Sequence[tuple[str, str]],
    ) -> None:
        """Replace the pages that differ by those that there will be, and lay ready what changes with that."""
        work = _Differing(self, reader, ours, update, digests)
        rest = work.by_rows(differ)
        self._baseline.settle(update.item.table)
        work.whole_pages(rest)
        self._baseline.settle(update.item.table)
        work.end()
        update.given = self._given(update.item)
        update.rows += update.came - update.gone

    def source_records(self, reader: Reader, item: TablePlan, wanted: KeyRanges) -> list[bytes]:
        """The rows of some ranges as they are at the source, in the order of the key."""
        return _all(
            reader.records(
                item.table, leave=item.leave, replacements=item.replacements, key_range=wanted
            )
        )

    def exchange(
        self,
        table: Table,
        key_range: KeyRange,
        records: Sequence[bytes],
        digests: tuple[str, str] | None = None,
    ) -> Exchanged | None:
        """What differs between the rows of a range and the baseline, which has them from now on."""
        return self._baseline.exchange(table, key_range, records, digests)

    def _given(self, item: TablePlan) -> int | None:
        """The last number that the source gave to a row, where that is on record."""
        next_number = _NEXT_NUMBER.search(item.original.rpartition("\n)")[2])
        if next_number is not None:
            return int(next_number[1]) - 1
        return self._source.database.last_given(item.table.name)

    # -- tables in which something is set -------------------------------------------------------------------------

    def can_compare(self, item: TablePlan) -> bool:
        """Whether ``against`` can be asked about a table."""
        known = item.table.name in self._known
        return known and can_copy_in_ranges(item.table) and item.table.size <= _TOGETHER

    def against(self, item: TablePlan, hidden: str) -> Update:
        """What makes the table that is there the one that was laid ready as ``hidden``."""
        known = self._known[item.table.name]
        update = self.updates[item.table.name] = Update(item, known, self._helpers(item))
        laying = _Laying(self, update)
        with self._target.database.reading() as reader:
            there, coming = (
                _all(reader.records(replace(at_target(item), name=name)))
                for name in (item.target, hidden)
            )
        laying.differing(there, coming)
        laying.end()
        update.given = self._given(item)
        update.rows = len(coming)
        return update

    # -- what becomes of it -----------------------------------------------------------------------------------

    def can_patch(self) -> bool:
        """Whether one transaction can change all rows where they stand."""
        changed = [update for update in self.updates.values() if update.written]
        written = sum(update.written for update in changed)
        if any(update.unfit for update in changed):
            return False
        if self._target.environment.role != "local" and written > _VISITED:
            return False
        hanging = self._target.database.attachments([u.item.target for u in changed], ())
        return not any(item.kind in ("trigger", "search") for item in hanging)

    def copied(self, update: Update, hidden: str, reader: Reader | None) -> None:
        """Make the table as it will be out of the one that is there, as ``hidden``.

        Raises:
            JobError: somebody wrote to that meanwhile, and the source cannot be read again.
        """
        item, target = update.item, self._target.database
        target.lay_out(hidden, item.table, item.schema)
        target.take_over(hidden, item.target, [column.name for column in item.table.columns])
        if update.written:
            target.patch([replace(update.patch, table=hidden)])
        pages = update.pages
        ranges = [*spans(pages), KeyRange(pages[-1].upto if pages else None)]
        with target.reading() as ours:
            now = ours.digests(replace(at_target(item), name=hidden), ranges)
        for key_range, digest, wanted in zip(
            ranges, now, [*(page.became for page in pages), NO_ROWS], strict=True
        ):
            # What no server can tell is read once more where that can be done.
            if digest == wanted and (digest != UNTOLD or reader is None):
                continue
            if reader is None:
                raise JobError(
                    f"somebody wrote to {item.target} of {self._target.environment.name} while it was worked on",
                    "run the command again",
                )
            if key_range == KeyRange():
                target.lay_out(hidden, item.table, item.schema)
            else:
                target.remove_range(hidden, item.table, key_range)
            self._baseline.drop(item.table, key_range)
            rows = self.pipeline.change(item, self.pipeline.read(reader, item, key_range))
            target.fill(hidden, item.table, rows)
        if reader is not None:
            self._keep_the_rest(reader, item)
        target.finish(hidden, self._source.database, item.table)

    # -- hidden tables ------------------------------------------------------------------------------------------

    def lay(self, update: Update, before: list[Batch], after: list[Batch], *, first: bool) -> None:
        """Put rows into the two hidden tables of an update, which are made ``first``."""
        database, item = self._target.database, update.item
        for hidden, batches in zip(update.helpers, (before, after), strict=True):
            if first:
                database.lay_out(hidden, item.table, item.schema)
            if batches:
                database.fill(hidden, item.table, batches)

    def batch(self, table: Table, records: Sequence[bytes]) -> Batch:
        """A batch of rows out of their records."""
        joined = b"".join(records)
        return Batch(len(table.columns), cells_of(joined, self.mixed), len(joined), self.mixed)

    def _helpers(self, item: TablePlan) -> tuple[str, str]:
        number = _HELPERS + 2 * self._numbers[item.table.name]
        return hidden_name("parked", self._token, number), hidden_name(
            "parked", self._token, number + 1
        )

    def give_up(self, names: Iterable[str]) -> set[str]:
        """Forget the updates of some tables; the names of those that had one."""
        found = {name for name in names if name in self.updates}
        for name in found:
            self._target.database.drop(self.updates.pop(name).helpers)
        return found


class _Differing:
    """Reads the pages of one table that differ, and finds the rows in them that do."""

    def __init__(
        self,
        updater: TableUpdater,
        reader: Reader,
        ours: Reader,
        update: Update,
        digests: Sequence[tuple[str, str]],
    ) -> None:
        self._updater = updater
        self._reader = reader
        self._ours = ours
        self._update = update
        self._digests = digests
        self._counts = [[_count(digest) for digest in pair] for pair in digests]
        self._ranges = ranges_of(update.known)
        self._laying = _Laying(updater, update)
        self._new: dict[int, list[Page]] = {}
        self._row = max(1, update.item.table.size // max(1, update.item.rows))  # bytes
        table = update.item.table
        names = [column.name for column in table.columns]
        self._places = [names.index(name) for name in table.key]

    def by_rows(self, differ: Sequence[int]) -> list[int]:
        """Find in the baseline which rows changed at the source, of pages that the target has as they were left: only
        these are read there. The pages of which that cannot be known."""
        pages = self._update.known.pages
        rest = [
            number
            for number in differ
            if number >= len(pages)  # what is beyond them
            or self._digests[number][1] != pages[number].became
            or UNTOLD in self._digests[number]
            or self._counts[number][0] > 2 * PAGE_ROWS
        ]
        left, table = set(rest), self._update.item.table
        for numbers in _groups(
            [number for number in differ if number not in left],
            self._counts,
            _AT_ONCE // self._row,
            _RANGES,
        ):
            wanted = KeyRanges(
                tuple(joint_ranges((self._ranges[n] for n in numbers), len(numbers)))
            )
            records = self._updater.source_records(self._reader, self._update.item, wanted)
            gone: dict[int, list[bytes]] = {}
            came: dict[int, list[bytes]] = {}
            for number in numbers:
                there = between(records, self._ranges[number], self._key)
                both = pages[number].digest, self._digests[number][0]
                found = self._updater.exchange(table, self._ranges[number], records[there], both)
                if found is None:
                    rest.append(number)
                else:
                    gone[number], came[number] = found.gone, found.came
            self._replace(gone, came)
        return sorted(rest)

    def _replace(self, gone: dict[int, list[bytes]], came: dict[int, list[bytes]]) -> None:
        """Lay ready rows of some pages that went from the source, and came or changed there."""
        update, updater = self._update, self._updater
        item, known = update.item, update.known
        all_came = [record for records in came.values() for record in records]
        after: list[bytes] = []
        if all_came:
            for batch in updater.pipeline.change(item, [updater.batch(item.table, all_came)]):
                after += records_of(batch)
        keys = frozenset(
            self._key(record) for part in (*gone.values(), *came.values()) for record in part
        )
        before = self._there(keys)
        waiting = iter(after)
        for number in came:
            new = [next(waiting) for _ in came[number]]
            old = before[between(before, self._ranges[number], self._key)]
            became = digest_with(known.pages[number].became, old, new)
            page = known.pages[number]
            now = self._digests[number][0]
            self._new[number] = [Page(page.upto, _count(now), now, became)]
        self._lay(before, after)

    def _there(self, keys: frozenset[tuple[int, ...]]) -> list[bytes]:
        """The rows that have some keys at the target, in their order."""
        found: list[bytes] = []
        ordered = sorted(keys)
        for at in range(0, len(ordered), _KEYS):
            wanted = KeyRanges(keys=frozenset(ordered[at : at + _KEYS]))
            found += _all(self._ours.records(at_target(self._update.item), key_range=wanted))
        return found

    def _key(self, record: bytes) -> tuple[int, ...]:
        cells = cells_of(record, self._updater.mixed)
        return tuple(int(cells[place]) for place in self._places)  # type: ignore[arg-type]

    def _lay(self, there: Sequence[bytes], coming: Sequence[bytes]) -> None:
        """Raises TooMuch where so much is written that all might be."""
        self._laying.differing(there, coming)
        if self._update.written > max(self._update.known.rows // 3, 1000):
            raise TooMuch

    def whole_pages(self, differ: Sequence[int]) -> None:
        """Compare all rows of some pages as they are at the target with what they will be."""
        update, ranges = self._update, self._ranges
        item, updater = update.item, self._updater
        if sum(max(self._counts[number]) for number in differ) > max(
            update.known.rows // 2, _SPREAD
        ):
            raise TooMuch  # reading both sides would take longer
        for numbers in _groups(differ, self._counts, _TOGETHER // self._row, 1):
            key_range = KeyRange(ranges[numbers[0]].after, ranges[numbers[-1]].upto)
            there = _all(self._ours.records(at_target(item), key_range=key_range))
            pages: list[Page] = []
            are: list[bytes] = []
            coming: list[bytes] = []
            rows = self._reader.rows(
                item.table, leave=item.leave, replacements=item.replacements, key_range=key_range
            )

            def read(rows: Iterable[Batch] = rows, are: list[bytes] = are) -> Iterator[Batch]:
                for batch in with_pages(item.table, rows):
                    are += batch.records or ()
                    batch.records = None
                    yield batch

            for batch in updater.pipeline.change(item, read()):
                pages += pages_as_they_became(batch)
                coming += records_of(batch)
            updater.exchange(item.table, key_range, are)
            self._lay(there, coming)
            self._new |= {number: [] for number in numbers} | {
                numbers[0]: _reaching(pages, key_range)
            }

    def end(self) -> None:
        """Lay down what waits, and put the new pages in the place of the old."""
        self._laying.end()
        known = self._update.known
        self._update.pages = [
            page
            for number in range(len(self._ranges))
            for page in self._new.get(number, known.pages[number : number + 1])
        ]


class _Laying:
    """Sorts out which rows go, change and come, and lays them into the hidden tables of an update."""

    def __init__(self, updater: TableUpdater, update: Update) -> None:
        self._updater = updater
        self._update = update
        table = update.item.table
        names = [column.name for column in table.columns]
        self._key = [names.index(name) for name in table.key]
        self._unique = [names.index(name) for name in table.fixed - set(table.key)]
        self._sides: tuple[list[Batch], list[Batch]] = ([], [])
        self._size = 0
        self._begun = False

    def differing(self, there: Sequence[bytes], coming: Sequence[bytes]) -> None:
        """The records of all rows of a stretch of the key, as they are and as they will be."""
        are, will = set(there), set(coming)
        table, updater, update = self._update.item.table, self._updater, self._update
        sides = [
            updater.batch(table, [record for record in records if record not in same])
            for records, same in ((there, will), (coming, are))
        ]
        before, after = ({self._key_of(row): row for row in batch.each()} for batch in sides)
        both = before.keys() & after.keys()
        update.gone += len(before) - len(both)
        update.came += len(after) - len(both)
        update.changed += len(both)
        # In the course of one statement two rows would hold the same unique value.
        update.unfit = update.unfit or any(
            before[key][place] != after[key][place] for key in both for place in self._unique
        )
        for batches, batch in zip(self._sides, sides, strict=True):
            if batch.cells:
                batches.append(batch)
                self._size += batch.size
        if self._size > _LAID:
            self.end()

    def _key_of(self, row: Sequence[object]) -> tuple[int, ...]:
        return tuple(int(row[place]) for place in self._key)  # type: ignore[call-overload]

    def end(self) -> None:
        """Lay down what waits."""
        if self._size:
            self._updater.lay(self._update, *self._sides, first=not self._begun)
            self._begun = True
        self._sides, self._size = ([], []), 0


def _all(stretches: Iterable[list[bytes]]) -> list[bytes]:
    return [record for records in stretches for record in records]


def at_target(item: TablePlan) -> Table:
    """A table as it is read at the target."""
    return replace(item.table, name=item.target)


def _count(digest: str) -> int:
    return int(digest.partition("-")[0] or 0)


def _groups(
    numbers: Sequence[int], counts: Sequence[Sequence[int]], most: int, ranges: int
) -> Iterator[list[int]]:
    """Some pages in groups that are read together: in at most so many stretches, as far as no side has more rows than
    that.

    Raises:
        TooMuch: one alone has more.
    """
    group: list[int] = []
    rows = stretches = 0
    for number in numbers:
        mine = max(counts[number])
        if mine > max(most, 2 * PAGE_ROWS):
            raise TooMuch
        apart = bool(group) and number != group[-1] + 1
        if group and (rows + mine > most or stretches + apart > ranges):
            yield group
            group, rows, stretches, apart = [], 0, 0, False
        stretches += apart or not group
        group.append(number)
        rows += mine
    if group:
        yield group


def _reaching(pages: Sequence[Page], key_range: KeyRange) -> list[Page]:
    """Pages that reach to the end of the range that they were read in."""
    if key_range.upto is None:
        return list(pages)
    if not pages:
        return [Page(key_range.upto, 0, NO_ROWS, NO_ROWS)]
    return [*pages[:-1], replace(pages[-1], upto=key_range.upto)]
