"""Tables that the last transfer brought: what differs in them is found by digests, and only that is moved.

The source's server makes digests of the pages that came last time, the target's server of the same pages as they are
there; a page that is as it was on both sides is not read. Of all others the rows are read on both sides, and those
that differ laid into two hidden tables, as they are and as they will be. Then either one transaction changes these
rows where they stand, or the target's server makes a copy of the table, in which they are changed, to be swapped in.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor, wait
from dataclasses import dataclass, field
from pathlib import Path
from typing import NamedTuple

from msgspec.structs import replace

from ..database import (
    NO_ROWS,
    UNTOLD,
    KeyRange,
    Reader,
    RowsAside,
    WantedDigests,
    can_copy_in_ranges,
    hidden_name,
    spans,
)
from ..database.engines import engine_of
from ..errors import JobError
from ..site import RowPipeline
from .baseline import Baseline
from .differing_rows import Apart, DifferingRows, Laying, Means, TooMuch, Update, all_of, at_target
from .events import Checking, Moved, TableDone, TableStarted
from .last_copy import KnownTable, LastCopy, Signatures, claims_of, given_in, ranges_of
from .plan import Plan, TablePlan
from .run_context import RunContext

_HELPERS = 1_000_000  # the numbers of hidden tables begin here, beyond those of tables that come as a whole
_COMPARED = 32 << 20  # bytes of a table of which all rows are compared as they are stored
_STRETCH = 512  # pages that are asked for together: what differs in them is worked on while the next are read
_HELD = 16 << 20  # bytes of rows of which it is known that they differ, while others are still read
VISITED = 10_000  # rows: in an environment with visitors, a change of more would keep them waiting


class _Sides(NamedTuple):
    """What reads both sides, with a thread for the target, and one for what is done with what was read. What is read
    of the target in that one comes by ``apart``."""

    reader: Reader
    ours: Reader
    apart: Apart
    meanwhile: ThreadPoolExecutor
    behind: ThreadPoolExecutor


class _Stretch(NamedTuple):
    """Pages of a table that follow one another, from a ``first`` one, and are asked for together; ``claims`` are the
    digests that they should have, at the source and at the target."""

    item: TablePlan
    known: KnownTable
    first: int
    ranges: Sequence[KeyRange]
    claims: Sequence[tuple[str, str]]
    aside: RowsAside

    def at_source(self) -> WantedDigests:
        """What is asked there; the rows that are read for it are put aside."""
        item = self.item
        return WantedDigests(
            table=item.table,
            ranges=self.ranges,
            leave=item.leave,
            replacements=item.replacements,
            known=[digest for digest, _ in self.claims],
            aside=self.aside,
        )

    def at_target(self) -> WantedDigests:
        return WantedDigests(
            table=at_target(self.item),
            ranges=self.ranges,
            known=[became for _, became in self.claims],
        )


@dataclass
class _Begun:
    """An update under way, and the pages that differ. ``whole``: its table has to be taken as a whole after all."""

    update: Update
    work: DifferingRows
    differ: list[int] = field(default_factory=list)
    whole: bool = False


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
        folder: Path,
    ) -> None:
        """``folder`` is for what need not last."""
        self._folder = folder
        self._plan = plan
        self._source = context.source
        self._target = context.target
        self._token = token
        self._pipeline = pipeline
        self._baseline = baseline
        self._last = last
        self._signatures = signatures
        self._tell = context.listener
        self._numbers = {item.table.name: number for number, item in enumerate(plan.tables)}
        self._means = Means(
            pipeline,
            baseline,
            context.target.database,
            engine_of(context.source.database.engine).any_type,
        )
        self._known: dict[str, KnownTable] = {}
        self._room = 0
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
        with (
            self._target.database.reading() as ours,
            ThreadPoolExecutor(1, "digests") as meanwhile,
            ThreadPoolExecutor(1, "baseline") as behind,
            contextlib.ExitStack() as closing,
        ):
            stretches = [
                stretch
                for item in self._in_turn(wanted, known)
                for stretch in _stretches(
                    item,
                    known[item.table.name],
                    closing.enter_context(RowsAside(self._folder)),
                )
            ]
            apart = Apart(self._target.database, ours, closing)
            sides = _Sides(
                reader=reader, ours=ours, apart=apart, meanwhile=meanwhile, behind=behind
            )
            try:
                begun = self._begun_with(sides, stretches)
                return [
                    item
                    for item in wanted
                    if not self._update(reader, item, begun.get(item.table.name))
                ]
            finally:
                behind.shutdown(cancel_futures=True)

    @staticmethod
    def _in_turn(wanted: Sequence[TablePlan], known: Mapping[str, KnownTable]) -> list[TablePlan]:
        """The largest first: what is left to do of the last one waits for its end."""
        return sorted(
            (item for item in wanted if item.table.name in known),
            key=lambda item: len(known[item.table.name].pages),
            reverse=True,
        )

    def _recognised(self, item: TablePlan, definition: str | None) -> KnownTable | None:
        """What is known of a table, if it is still made, and would still come, in the same way."""
        found = self._last.tables.get(item.table.name)
        if found is None or definition != found.definition:
            return None
        return found if found.signature == self._signatures.of(item) else None

    def _begun_with(self, sides: _Sides, stretches: Sequence[_Stretch]) -> dict[str, _Begun | None]:
        """What came of the tables by the time when all of both sides was read; None for those that have to be taken
        as a whole."""
        self._room = _HELD
        begun: dict[str, _Begun | None] = {}
        taken: list[Future[None]] = []
        with (
            contextlib.closing(
                sides.ours.digests_of(one.at_target() for one in stretches)
            ) as theirs,
            contextlib.closing(
                sides.reader.digests_of(one.at_source() for one in stretches)
            ) as ours,
        ):
            # One after the other, as there is one thread for it.
            asked = [sides.meanwhile.submit(next, theirs) for _ in stretches]
            try:
                for stretch, there in zip(stretches, asked, strict=True):
                    if not stretch.first:
                        self._tell(TableStarted(stretch.item.table.name, stretch.item.rows))
                        self._tell(Checking(stretch.item.table.name))
                    mine = next(ours)
                    taken.append(
                        sides.behind.submit(self._take, sides, stretch, mine, there, begun)
                    )
                wait(asked)
            finally:
                sides.meanwhile.shutdown(cancel_futures=True)
        # The baseline takes what comes from one thread at a time.
        for one in taken:
            one.result()
        return begun

    def _take(
        self,
        sides: _Sides,
        stretch: _Stretch,
        mine: Sequence[str],
        theirs: Future[list[str]],
        begun: dict[str, _Begun | None],
    ) -> None:
        """Do of an update what can be done while others are still read. ``mine`` are the digests at the source,
        ``theirs`` those at the target."""
        item, known = stretch.item, stretch.known
        name = item.table.name
        if not stretch.first:
            begun[name] = self._begin(sides, item, known)
        one = begun[name]
        if one is None or one.whole:
            return
        differ = one.work.take(zip(mine, theirs.result(), strict=True), stretch.aside)
        one.differ += differ
        by_page = bool(known.pages) or (
            known.source == known.target == NO_ROWS and can_copy_in_ranges(item.table)
        )
        if differ and not by_page:
            one.whole = True
        elif differ:
            try:
                self._room -= one.work.ahead(differ, self._room, sides.apart)
            except TooMuch:
                one.whole = True
        stretch.aside.lay_down()

    def _begin(self, sides: _Sides, item: TablePlan, known: KnownTable) -> _Begun | None:
        if not self._baseline.carries(item.table):
            return None
        update = Update(
            item=item,
            known=known,
            helpers=self._helpers(item),
            pages=list(known.pages),
            rows=known.rows,
        )
        return _Begun(update, DifferingRows(self._means, sides.reader, sides.ours, update))

    def _update(self, reader: Reader, item: TablePlan, begun: _Begun | None) -> bool:
        """Work out what differs in a table; False where it has to be taken as a whole."""
        if begun is None:
            return False
        update = begun.update
        if begun.differ and not begun.whole:
            try:
                self._read_differing(begun)
            except TooMuch:
                begun.whole = True
        if begun.whole:
            self._target.database.drop(update.helpers)
            return False
        self._keep_the_rest(reader, item)
        self.updates[item.table.name] = update
        self._tell(Moved(item.table.name, update.rows, 0))
        self._tell(TableDone(item.table.name, update.rows))
        return True

    def _keep_the_rest(self, reader: Reader, item: TablePlan) -> None:
        """Read once more what the baseline lacks: its pages are others than these."""
        for key_range in self._baseline.gaps(item.table):
            for _ in self._pipeline.read(reader, item, key_range):
                pass

    def _read_differing(self, begun: _Begun) -> None:
        """Replace the pages that differ by those that there will be, and lay ready what changes with that."""
        update, work = begun.update, begun.work
        rest = work.by_rows(begun.differ)
        self._baseline.settle(update.item.table)
        work.whole_pages(rest)
        self._baseline.settle(update.item.table)
        work.end()
        update.given = self._given(update.item)
        update.rows += update.came - update.gone

    def _given(self, item: TablePlan) -> int | None:
        """The last number that the source gave to a row, where that is on record."""
        given = given_in(item.original)
        return given if given is not None else self._source.database.last_given(item.table.name)

    # -- tables in which something is set -------------------------------------------------------------------------

    def can_compare(self, item: TablePlan) -> bool:
        """Whether ``against`` can be asked about a table."""
        known = item.table.name in self._known
        return known and can_copy_in_ranges(item.table) and item.table.size <= _COMPARED

    def against(self, item: TablePlan, hidden: str) -> Update:
        """What makes the table that is there the one that was laid ready as ``hidden``."""
        known = self._known[item.table.name]
        update = self.updates[item.table.name] = Update(item, known, self._helpers(item))
        laying = Laying(self._means, update)
        with self._target.database.reading() as reader:
            there, coming = (
                all_of(reader.records(replace(at_target(item), name=name)))
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
        if self._target.environment.role != "local" and written > VISITED:
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
        should = [*(page.became for page in pages), NO_ROWS]
        with target.reading() as ours:
            now = ours.digests(replace(at_target(item), name=hidden), ranges, known=should)
        for key_range, digest, wanted in zip(ranges, now, should, strict=True):
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
            rows = self._pipeline.change(item, self._pipeline.read(reader, item, key_range))
            target.fill(hidden, item.table, rows)
        if reader is not None:
            self._keep_the_rest(reader, item)
        target.finish(hidden, self._source.database, item.table)

    # -- hidden tables ------------------------------------------------------------------------------------------

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


def _stretches(item: TablePlan, known: KnownTable, aside: RowsAside) -> Iterator[_Stretch]:
    """All of a table; what is put aside lies in the file of ``aside``."""
    ranges, claims = ranges_of(known), claims_of(known)
    for first in range(0, len(ranges), _STRETCH):
        part = slice(first, first + _STRETCH)
        yield _Stretch(
            item=item,
            known=known,
            first=first,
            ranges=ranges[part],
            claims=claims[part],
            aside=aside.beside(),
        )
