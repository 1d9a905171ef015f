"""Which rows of a table differ from what a transfer left, found page by page, and laid ready to be changed."""

from __future__ import annotations

import contextlib
from bisect import bisect_right
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from operator import itemgetter

from msgspec import Struct
from msgspec.structs import replace

from ..database import (
    NO_ROWS,
    PAGE_ROWS,
    UNTOLD,
    Batch,
    Database,
    KeyRange,
    KeyRanges,
    Page,
    PagesAfter,
    Part,
    Patch,
    Reader,
    RowsAside,
    Table,
    WantedRows,
    digest_with,
    with_pages,
)
from ..database.digests import rows_in
from ..database.page_worker import can_go_elsewhere
from ..database.row_codec import RecordForm, cells_of, current_records, records_of
from ..database.strips import changed_strips
from ..errors import DatabaseUnreachable
from ..site import RowPipeline
from .baseline import Baseline
from .baseline_edits import Exchanged, between
from .changed_parts import RANGES, with_records
from .last_copy import KnownTable, claims_of, ranges_of
from .plan import TablePlan
from .staged_rows import stage_rows

_TOGETHER = 32 << 20  # bytes of a side that are compared at once
_AT_ONCE = 8 << 20  # bytes of the source that are compared with the baseline at once
_KEYS = 500  # keys that one question asks for: servers look up no more than that
_LAID = 8 << 20  # bytes of rows that differ, after which they are laid into their tables
_SPREAD = 20_000  # rows: so many are always compared, however large a part of their table they are


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


class Means(Struct, frozen=True):
    """What the rows of a run are compared and laid ready with: ``target`` is the database that they go to, ``mixed``
    whether columns hold other values than bytes."""

    pipeline: RowPipeline
    baseline: Baseline
    target: Database
    mixed: bool

    def batch(self, table: Table, records: Sequence[bytes]) -> Batch:
        """A batch of rows out of their records."""
        joined = b"".join(records)
        return Batch(len(table.columns), cells_of(joined, self.mixed), len(joined), self.mixed)

    def lay(self, update: Update, before: list[Batch], after: list[Batch], *, first: bool) -> None:
        """Put rows into the two hidden tables of an update, which are made ``first``."""
        item = update.item
        for hidden, batches in zip(update.helpers, (before, after), strict=True):
            if first:
                stage_rows(self.target, hidden, item.table, item.schema, batches)
            elif batches:
                self.target.fill(hidden, item.table, batches)


class Apart:
    """Another reader of the target, once somebody asks for it; none where a server has connections to spare for no
    more, or the way to it is a long one."""

    def __init__(self, target: Database, ours: Reader, closing: contextlib.ExitStack) -> None:
        self._target = target
        self._closing = closing
        self._near = ours.prints is not None and can_go_elsewhere(ours.prints)

    @cached_property
    def reader(self) -> Reader | None:
        with contextlib.suppress(DatabaseUnreachable):
            if self._near:
                return self._closing.enter_context(self._target.reading())
        return None


class DifferingRows:
    """Reads the pages of one table that differ, and finds the rows in them that do."""

    def __init__(
        self,
        means: Means,
        reader: Reader,
        ours: Reader,
        update: Update,
    ) -> None:
        self._means = means
        self._aside: list[tuple[int, RowsAside]] = []  # behind so many pages
        self._reader = reader
        self._ours = ours
        self._update = update
        self._digests: list[tuple[str, str]] = []
        self._counts: list[list[int]] = []
        self._ranges = ranges_of(update.known)
        self._claims = claims_of(update.known)
        self._laying = Laying(means, update)
        self._new: dict[int, list[Page]] = {}
        self._exchanged: dict[int, Exchanged | None] = {}  # pages that are in the baseline already
        self._taken: dict[int, list[Part]] = {}  # what was aside of others
        self._row = max(1, update.item.table.size // max(1, update.item.rows))  # bytes
        form = RecordForm(update.item.table, mixed=means.mixed)
        self._key, self._places = form.key, form.places

    def take(self, digests: Iterable[tuple[str, str]], aside: RowsAside) -> list[int]:
        """The digests of the next pages on both sides; the pages that differ. ``aside`` holds rows that the source's
        took reading."""
        first, claims = len(self._digests), self._claims
        self._aside.append((first, aside))
        for pair in digests:
            self._digests.append(pair)
            self._counts.append([rows_in(digest) for digest in pair])
        return [
            number
            for number in range(first, len(self._digests))
            if self._digests[number] != claims[number] or UNTOLD in self._digests[number]
        ]

    def ahead(self, differ: Sequence[int], most: int, apart: Apart) -> int:
        """Begin with ``by_rows`` while the sides are still read, as far as it asks neither of them but ``apart``.
        Without that, until so many bytes of rows are held; how many are."""
        known, _ = self._by_digests(differ)
        table, held = self._update.item.table, 0
        self._means.baseline.expect(table, [self._ranges[number] for number in known])
        for numbers in _groups(known, self._counts, _AT_ONCE // self._row, RANGES):
            some: dict[int, Exchanged] = {}
            for number in numbers:
                if held >= most:
                    break
                parts = self._put_aside(number)
                if not parts or any(part.records is None for part in parts):
                    self._taken[number] = parts
                    break
                found = self._exchanged[number] = self._means.baseline.exchange(table, parts)
                if found is not None:
                    some[number] = found
                    held += sum(map(len, (*found.gone, *found.came)))
            if some and apart.reader is not None:
                self._replace(some, apart.reader)
                held = 0
                for number in some:
                    del self._exchanged[number]
            if numbers[-1] not in self._exchanged and numbers[-1] not in self._new:
                break
        self._means.baseline.settle(table)
        self._keep_prints()
        return held

    def _keep_prints(self) -> None:
        if self._ours.prints is not None:
            self._ours.prints.keep()

    def _put_aside(self, number: int) -> list[Part]:
        """What was put aside of a page."""
        first, aside = self._aside[bisect_right(self._aside, number, key=itemgetter(0)) - 1]
        return aside.take(number - first)

    def by_rows(self, differ: Sequence[int]) -> list[int]:
        """Find in the baseline which rows changed at the source, of pages that the target has as they were left: only
        these are read there. The pages of which that cannot be known."""
        known, rest = self._by_digests(number for number in differ if number not in self._new)
        table = self._update.item.table
        self._means.baseline.expect(
            table, [self._ranges[number] for number in known if number not in self._exchanged]
        )
        for numbers in _groups(known, self._counts, _AT_ONCE // self._row, RANGES):
            found = {n: self._exchanged.pop(n) for n in numbers if n in self._exchanged}
            lacking = [number for number in numbers if number not in found]
            for number, parts in self._parts(lacking).items():
                found[number] = self._means.baseline.exchange(table, parts)
            rest += [number for number, one in found.items() if one is None]
            self._replace({n: one for n, one in found.items() if one is not None}, self._ours)
        return sorted(rest)

    def _by_digests(self, differ: Iterable[int]) -> tuple[list[int], list[int]]:
        """Of pages that differ those that the target has as they were left, of a usual size, and the others."""
        pages, numbers = self._update.known.pages, [*differ]
        rest = [
            number
            for number in numbers
            if number >= len(pages)  # what is beyond them
            or self._digests[number][1] != pages[number].became
            or UNTOLD in self._digests[number]
            or self._counts[number][0] > 2 * PAGE_ROWS
        ]
        left = set(rest)
        return [number for number in numbers if number not in left], rest

    def _parts(self, numbers: Sequence[int]) -> dict[int, list[Part]]:
        """The parts in which some pages differ, with their rows as they are at the source, in the order of the
        key."""
        pages, ranges = self._update.known.pages, self._ranges
        found = {
            number: self._taken.pop(number, [])
            or self._put_aside(number)
            or [Part(ranges[number], (pages[number].digest, self._digests[number][0]))]
            for number in numbers
        }
        item = self._update.item
        wanted = WantedRows(item.table, item.leave, item.replacements)
        return with_records(self._reader, wanted, found, self._key)

    def _replace(self, found: Mapping[int, Exchanged], ours: Reader) -> None:
        """Lay ready rows of some pages that went from the source, and came or changed there. ``ours`` reads the
        target."""
        update, means = self._update, self._means
        item, known = update.item, update.known
        gone = {number: one.gone for number, one in found.items()}
        came = {number: one.came for number, one in found.items()}
        all_came = [record for records in came.values() for record in records]
        after: list[bytes] = []
        if all_came:
            for batch in means.pipeline.change(item, [means.batch(item.table, all_came)]):
                after += records_of(batch)
        keys = frozenset(
            self._key(record) for part in (*gone.values(), *came.values()) for record in part
        )
        before = self._there(keys, ours)
        waiting = iter(after)
        prints, strips_of = self._ours.prints, None
        if prints is not None:
            strips_of = prints.strips_of([known.pages[n].became for n in came], self._places)
        for number in came:
            new = [next(waiting) for _ in came[number]]
            old = before[between(before, self._ranges[number], self._key)]
            became = digest_with(known.pages[number].became, old, new)
            page = known.pages[number]
            if prints is not None and strips_of is not None and became != page.became:
                # Nobody has seen the page as it will be, but much of it is as it was.
                strips = changed_strips(strips_of(page.became), old, new, self._key)
                prints.learn(became, None, strips, self._places)
            now = self._digests[number][0]
            self._new[number] = [Page(page.upto, rows_in(now), now, became)]
        self._lay(before, after)

    def _there(self, keys: frozenset[tuple[int, ...]], ours: Reader) -> list[bytes]:
        """The rows that have some keys at the target, in their order."""
        found: list[bytes] = []
        ordered = sorted(keys)
        for at in range(0, len(ordered), _KEYS):
            wanted = KeyRanges(keys=frozenset(ordered[at : at + _KEYS]))
            found += all_of(ours.records(at_target(self._update.item), key_range=wanted))
        return found

    def _lay(self, there: Sequence[bytes], coming: Sequence[bytes]) -> None:
        """Raises TooMuch where so much is written that all might be."""
        self._laying.differing(there, coming)
        if self._update.written > max(self._update.known.rows // 3, 1000):
            raise TooMuch

    def whole_pages(self, differ: Sequence[int]) -> None:
        """Compare all rows of some pages as they are at the target with what they will be."""
        update, ranges = self._update, self._ranges
        item, means = update.item, self._means
        if sum(max(self._counts[number]) for number in differ) > max(
            update.known.rows // 2, _SPREAD
        ):
            raise TooMuch  # reading both sides would take longer
        for numbers in _groups(differ, self._counts, _TOGETHER // self._row, 1):
            key_range = KeyRange(ranges[numbers[0]].after, ranges[numbers[-1]].upto)
            there = all_of(self._ours.records(at_target(item), key_range=key_range))
            pages: list[Page] = []
            are: list[bytes] = []
            coming: list[bytes] = []
            rows = self._reader.rows(
                item.table, leave=item.leave, replacements=item.replacements, key_range=key_range
            )

            def read(rows: Iterable[Batch] = rows, are: list[bytes] = are) -> Iterator[Batch]:
                for batch in with_pages(item.table, rows, self._reader.prints):
                    are += batch.records or ()
                    yield batch

            after = PagesAfter(item.table, self._ours.prints, self._reader.prints)
            for batch in means.pipeline.change(item, read()):
                pages += after.of(batch)
                coming += current_records(batch)
            means.baseline.exchange(item.table, [Part(key_range, (UNTOLD, UNTOLD), are)])
            self._lay(there, coming)
            self._new |= {number: [] for number in numbers} | {
                numbers[0]: _reaching(pages, key_range)
            }

    def end(self) -> None:
        """Lay down what waits, and put the new pages in the place of the old."""
        self._laying.end()
        self._keep_prints()
        known = self._update.known
        self._update.pages = [
            page
            for number in range(len(self._ranges))
            for page in self._new.get(number, known.pages[number : number + 1])
        ]


class Laying:
    """Sorts out which rows go, change and come, and lays them into the hidden tables of an update."""

    def __init__(self, means: Means, update: Update) -> None:
        self._means = means
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
        table, means, update = self._update.item.table, self._means, self._update
        sides = [
            means.batch(table, [record for record in records if record not in same])
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
            self._means.lay(self._update, *self._sides, first=not self._begun)
            self._begun = True
        self._sides, self._size = ([], []), 0


def all_of(stretches: Iterable[list[bytes]]) -> list[bytes]:
    return [record for records in stretches for record in records]


def at_target(item: TablePlan) -> Table:
    """A table as it is read at the target."""
    return replace(item.table, name=item.target)


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
