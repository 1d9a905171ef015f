"""What a run takes of its source is kept in the store as it goes by: the third side of a later merge.

The source is read once, for the target and for the store. Built to survive what a run survives: each stretch
of a table that is stored is written to ``baseline.jsonl`` of the run, with the keys that it covers; whoever
goes on drops what has changed since, and reads again only what is then missing. A run never fails over its
baseline: where it cannot be kept, the report says why, and nothing of it stays.
"""

from __future__ import annotations

import contextlib
from bisect import bisect_left, bisect_right
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from itertools import islice
from types import TracebackType

from msgspec.structs import replace

from ..append_log import AppendLog
from ..database import Attachment, Batch, KeyRange, Table, can_copy_in_ranges
from ..database.engines import engine_of
from ..database.row_codec import records_of
from ..errors import DamagedObject, NewerLog, Stopped, StoreError
from ..site import ReadableSite
from ..store import (
    Chunk,
    Hands,
    Manifest,
    Store,
    StoredData,
    StoredFile,
    StoredFiles,
    StoredTable,
    TableWriter,
    keep_files,
    lease,
    manifest_of,
    written,
)
from .baseline_edits import BaselineEdits, Exchanged, Piece
from .journal import Journals, Run
from .plan import Plan, TablePlan

_VERSION = 1  # of the notes
_ENDS = ("after", "upto")
_KEPT = 2  # baselines from one environment to another: the last run may be undone
SWEPT = 10  # runs after which what no snapshot needs is removed


class Pieces:
    """What is kept of one table by now: stretches that do not overlap. A table may have many thousands of them."""

    def __init__(self) -> None:
        self._pieces: list[Piece] = []  # in the order of their keys
        self._starts: list[tuple[int, ...]] = []

    def __iter__(self) -> Iterator[Piece]:
        yield from self._pieces.copy()

    def add(self, piece: Piece) -> None:
        start = piece.key_range.after or ()
        at = bisect_right(self._starts, start)
        self._starts.insert(at, start)
        self._pieces.insert(at, piece)

    def drop(self, key_range: KeyRange) -> None:
        """Forget the stretches that reach into a range."""
        there = self._reaching(key_range)
        del self._starts[there], self._pieces[there]

    def within(self, key_range: KeyRange) -> list[Piece]:
        """The stretches that reach into a range."""
        return self._pieces[self._reaching(key_range)]

    def _reaching(self, key_range: KeyRange) -> slice:
        first, last = 0, len(self._pieces)
        if key_range.after is not None:
            first = max(0, bisect_right(self._starts, key_range.after) - 1)
            if first < last and not self._pieces[first].key_range.meets(key_range):
                first += 1
        if key_range.upto is not None:
            last = bisect_left(self._starts, key_range.upto)
        return slice(first, max(first, last))

    def gaps(self) -> Iterator[KeyRange]:
        """The ranges of which nothing is kept."""
        at: tuple[int, ...] | None = None
        for piece in self:
            if (piece.key_range.after or ()) > (at or ()):
                yield KeyRange(at, piece.key_range.after)
            at = piece.key_range.upto
            if at is None:
                return
        yield KeyRange(at)


class Notes:
    """``baseline.jsonl``: which stretches are kept, one line for each step."""

    def __init__(self, run: Run) -> None:
        self._log = AppendLog(run.folder / "baseline.jsonl", "baseline", _VERSION)
        self.there = self._log.there

    def read(self) -> defaultdict[str, Pieces]:
        """What is kept; nothing where a line cannot be read, for later ones may build on it."""
        tables: defaultdict[str, Pieces] = defaultdict(Pieces)
        try:
            events = self._log.read()
            if not events.sound or events.version != _VERSION:
                return defaultdict(Pieces)
            for line in events.items:
                key_range = KeyRange(*(tuple(line[end]) if line[end] else None for end in _ENDS))
                pieces = tables[line["table"]]
                if "pages" in line:
                    pages = tuple(Chunk.of_list(page) for page in line["pages"])
                    pieces.add(Piece(key_range, pages))
                else:
                    pieces.drop(key_range)
        except (NewerLog, ValueError, KeyError, TypeError, IndexError):
            return defaultdict(Pieces)
        return tables

    def begin(self, tables: Mapping[str, Pieces]) -> None:
        """Begin anew, or go on, with what is kept by now."""
        self._log.remove()
        self._log.begin()
        for table, pieces in tables.items():
            self.keep(table, pieces)

    def keep(self, table: str, pieces: Iterable[Piece]) -> None:
        """Note what is kept by now. A stretch whose note is lost is read once more."""
        lines = (
            _line(table, piece.key_range, pages=[page.as_list() for page in piece.pages])
            for piece in pieces
        )
        self._log.append_all(lines, durable=False)

    def drop(self, table: str, ranges: Iterable[KeyRange]) -> None:
        """Note of which ranges nothing is kept any longer, which must not be lost."""
        self._log.append_all(_line(table, key_range) for key_range in ranges)

    def remove(self) -> None:
        self._log.remove()


def _line(table: str, key_range: KeyRange, **more: object) -> dict[str, object]:
    return {"table": table, "after": key_range.after, "upto": key_range.upto, **more}


class Baseline:
    """Keeps the source of one run, while it is used as a context.

    ``store`` None: nothing is kept, and every method does nothing. ``earlier`` is the run whose baseline can be
    carried on where nothing changed. ``since`` is the moment that the rows are of; ``lost`` says why nothing is kept
    where it should be.
    """

    def __init__(
        self,
        store: Store | None,
        plan: Plan,
        source: ReadableSite,
        run: Run,
        earlier: Run | None = None,
    ) -> None:
        between = plan.kind in ("pull", "push") and {"data", "media"} & set(plan.parts)
        self._store = store if between else None
        self._plan = plan
        self._source = source
        self._run = run
        self._notes = Notes(run)
        self._tables: defaultdict[str, Pieces] = defaultdict(Pieces)
        self._earlier = earlier
        self._before: dict[str, Pieces] = {}  # what the earlier run kept
        self._old: dict[str, StoredTable] = {}
        self._attachments: tuple[Attachment, ...] = ()
        self._stack = contextlib.ExitStack()
        self._edits: BaselineEdits | None = None
        self._added = 0
        self.since = datetime.now().astimezone().isoformat(timespec="milliseconds")
        self.lost = ""

    @property
    def kept(self) -> bool:
        """True while it is worth going on."""
        return self._store is not None and not self.lost

    def __enter__(self) -> Baseline:
        if self._store is not None:
            with self.trying() as store:
                if self._run.resumed and not self._notes.there:
                    self.lose("the run began without one")
                    return self
                self._stack.enter_context(lease(store.backend, "write"))
                self._stack.callback(self._give_way)
                self._hands = self._stack.enter_context(Hands())
                self._old = store.newest_tables(self._source.environment.name)
                self._tables = self._notes.read()
                self._forget_what_is_gone(store, self._tables)
                if self._earlier is not None:
                    self._before = Notes(self._earlier).read()
                    self._forget_what_is_gone(store, self._before)
                self._notes.begin(self._tables)
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        at: TracebackType | None,
    ) -> None:
        if self._store is not None:
            with self.trying() as store:
                if isinstance(error, Stopped):
                    store.backend.settle()
                elif error is not None:
                    self.lose("")
        self._stack.close()

    @staticmethod
    def _forget_what_is_gone(store: Store, tables: Mapping[str, Pieces]) -> None:
        """Contents that a killed process did not get settled, or that were swept since."""
        for pieces in tables.values():
            for piece in pieces:
                needs = {digest for page in piece.pages for digest in page.needs}
                if not all(map(store.contents.has, needs)):
                    pieces.drop(piece.key_range)

    @contextlib.contextmanager
    def trying(self) -> Iterator[Store]:
        """Do something with the store, or the notes; what goes wrong there ends the baseline, and nothing else."""
        assert self._store is not None
        try:
            yield self._store
        except StoreError as error:
            self.lose(str(error))
        except OSError as error:
            self.lose(error.strerror or str(error))

    def lose(self, reason: str) -> None:
        """Keep nothing; the room that it took is free again."""
        self.lost = self.lost or reason or "the run failed"
        self._give_way()

    def _give_way(self) -> None:
        if self._store is not None and self.lost:
            self._notes.remove()
            with contextlib.suppress(StoreError):
                self._store.backend.give_up()
            self._store.contents.forget()

    # -- rows -------------------------------------------------------------------------------------------

    def begin(self, table: Table) -> None:
        """Nothing of a table is taken yet."""
        if self.kept:
            self.drop(table, KeyRange())

    def carries(self, table: Table) -> bool:
        """Go on with what the run before kept of a table; False where that is not all of it. True where nothing is
        kept."""
        if self.kept:
            pieces = self._before.get(table.name)
            if pieces is None or next(pieces.gaps(), None) is not None:
                return False
            with self.trying():
                self._edits = None
                self._notes.drop(table.name, [KeyRange()])
                self._tables[table.name] = Pieces()
                for piece in pieces:
                    self._tables[table.name].add(piece)
                self._notes.keep(table.name, pieces)
        return True

    def drop(self, table: Table, key_range: KeyRange) -> None:
        """What was taken of a range is not what the source has now."""
        if self.kept:
            self._tables[table.name].drop(key_range)
            with self.trying():
                self._notes.drop(table.name, [key_range])

    def _edits_of(self, store: Store, table: Table) -> BaselineEdits:
        if self._edits is None or self._edits.table != table.name:
            self._edits = BaselineEdits(
                store.contents,
                self._hands,
                table,
                self._tables[table.name],
                mixed=engine_of(self._source.database.engine).any_type,
            )
        return self._edits

    def expect(self, table: Table, ranges: Sequence[KeyRange]) -> None:
        """These will be exchanged next, or most of them: what is kept of them is read meanwhile."""
        if self.kept:
            with self.trying() as store:
                self._edits_of(store, table).expect(ranges)

    def exchange(
        self,
        table: Table,
        key_range: KeyRange,
        records: Sequence[bytes],
        digests: tuple[str, str] | None = None,
    ) -> Exchanged | None:
        """Put all rows that a range has now, in the order of the key, in the place of those that were kept; which of
        them differ, None where that is not known. ``digests`` are those of both, where they are known. The ranges
        of a table come in order, until ``settle``."""
        if not self.kept:
            return None
        found = None
        with self.trying() as store:
            try:
                found = self._edits_of(store, table).exchange(key_range, records, digests)
            except DamagedObject as error:
                store.contents.set_aside(error.digest)
            except ValueError:  # some engines take texts for numbers
                pass
        if found is None:
            self._edits = None
            self.drop(table, KeyRange())
        return found

    def settle(self, table: Table) -> None:
        """Have what was exchanged in a table's ranges stand there."""
        edits, self._edits = self._edits, None
        if edits is None or edits.table != table.name or not self.kept:
            return
        with self.trying():
            found, kept = edits.finish(), self._tables[table.name]
            self._notes.drop(table.name, [key_range for key_range, _ in found])
            for key_range, _ in found:
                kept.drop(key_range)
            pieces = [piece for _, some in found for piece in some]
            for piece in pieces:
                kept.add(piece)
            self._notes.keep(table.name, pieces)
            self._added += edits.added

    def gaps(self, table: Table) -> list[KeyRange]:
        """The ranges of which the source has to be read once more."""
        return list(self._tables[table.name].gaps()) if self.kept else []

    def through(
        self, table: Table, key_range: KeyRange, batches: Iterable[Batch]
    ) -> Iterator[Batch]:
        """Pass batches on, all rows of a range in the order of the key, and keep what they hold."""
        if not self.kept:
            yield from batches
            return
        assert self._store is not None
        old = self._likely(self._store, table, key_range)
        writer = TableWriter(self._store.contents, self._hands, old)
        stretch = _Stretch(table, key_range)
        noted = 0

        def note(pages: Sequence[Chunk], *, last: bool = False) -> int:
            pieces = [*stretch.pieces(pages, last=last)]
            for piece in pieces:
                self._tables[table.name].add(piece)
            self._notes.keep(table.name, pieces)
            return len(pages)

        for batch in batches:
            if self.kept:
                with self.trying():
                    records = batch.records if batch.records is not None else records_of(batch)
                    stretch.passed(batch, writer.add(records))
                    noted += note(writer.settled(noted))
            batch.records = None
            yield batch
        if self.kept:
            with self.trying():
                note(writer.finish()[noted:], last=True)
                self._added += writer.added

    def _likely(self, store: Store, table: Table, key_range: KeyRange) -> list[Chunk]:
        """The pages of an earlier snapshot that those of a range may be like."""
        before = self._before.get(table.name)
        if before is not None and key_range != KeyRange():
            return [page for piece in before.within(key_range) for page in piece.pages]
        return store.pages_if_whole(self._old.get(table.name))

    # -- the rest ---------------------------------------------------------------------------------------

    def hang(self, attachments: Sequence[Attachment]) -> None:
        """What hangs on the source's tables."""
        self._attachments = tuple(attachments)

    def finish(self, journals: Journals) -> str:
        """Let the baseline exist, now that the run is done; its ID, empty where there is none."""
        if not self.kept:
            return ""
        with self.trying() as store:
            before = self._holding(store, journals)
            manifest = self._manifest(store, before)
            store.add(manifest)
            self._run.write("baseline", snapshot=manifest.id)
            self._clear(store, journals)
            return manifest.id
        return ""

    def _holding(self, store: Store, journals: Journals) -> Manifest | None:
        """The baseline between the same two environments that holds until this one does."""
        named = journals.baseline(self._plan.source.name, self._plan.target.name)
        return next((item for item in store.snapshots() if item.id == named), None)

    def _manifest(self, store: Store, before: Manifest | None) -> Manifest:
        plan, source = self._plan, self._source
        arriving = plan.arriving
        data = self._data(store, before)
        newest = arriving.newest
        listed = before.listed if before else None
        if plan.files is not None and "media" in plan.parts:
            listed = self._listed(store)
        return replace(
            manifest_of(source, store.new_id(), self.since, "baseline"),
            parts=("data",) if data is not None else (),
            target=plan.target.name,
            title=arriving.title or "",
            cms_version=arriving.cms_version or "",
            addresses=tuple(str(address) for _, address in source.recorded_addresses()),
            counts=arriving.counts or None,
            newest=(newest.title, newest.changed) if newest is not None else None,
            data=data,
            listed=listed,
            added=self._added,
        )

    def _data(self, store: Store, before: Manifest | None) -> StoredData | None:
        """The tables that came, and those of the baseline before that did not."""
        source, database = self._source, self._source.database
        old = before.data if before is not None else None
        if not self._plan.tables:
            return old
        tables = [self._table(store, item) for item in self._plan.tables]
        if before is not None and old is not None and old.prefix == source.prefix:
            came = {item.table.name for item in tables}
            tables += [
                replace(item, taken=item.taken or before.taken)
                for item in old.tables
                if item.table.name not in came
            ]
        return StoredData(
            engine=database.engine,
            facts=database.facts().kept(),
            prefix=source.prefix,
            charset=source.configuration.charset,
            tables=tuple(tables),
            attachments=self._attachments,
            views=self._plan.views,
            size=sum(item.table.size for item in tables),
        )

    def _table(self, store: Store, item: TablePlan) -> StoredTable:
        pages = [page for piece in self._tables[item.table.name] for page in piece.pages]
        lists, added = store.contents.keep_blocks([written(pages)])
        self._added += added
        rows, size = sum(page.rows for page in pages), sum(page.size for page in pages)
        return StoredTable(
            replace(item.table, rows=rows, size=size),
            item.original,
            tuple(lists),
            mixed=engine_of(self._source.database.engine).any_type,
        )

    def _listed(self, store: Store) -> StoredFiles:
        assert self._plan.files is not None
        entries = [StoredFile(entry) for entry in self._plan.files.listed]
        listed, added = keep_files(store.contents, entries, {})
        self._added += added
        return listed

    def _clear(self, store: Store, journals: Journals) -> None:
        """Remove baselines that this one takes the place of, and every so often what nothing needs."""
        pair = self._plan.source.name, self._plan.target.name
        standing = (run for run in journals.standing(pair[1]) if run.source == pair[0])
        needed = {run.baseline for run in islice(standing, _KEPT)}
        mine = [
            item
            for item in store.snapshots()
            if item.purpose == "baseline" and (item.environment, item.target) == pair
        ]
        for item in mine[:-_KEPT]:
            if item.id not in needed:
                store.remove(item)
        if self._run.number % SWEPT == 0:
            self._stack.close()  # a sweep wants the store for itself
            with contextlib.suppress(StoreError), lease(store.backend, "thin"):
                store.sweep()


class _Stretch:
    """Tells of pages as they are stored which keys they cover."""

    def __init__(self, table: Table, key_range: KeyRange) -> None:
        names = [column.name for column in table.columns]
        self._places = (
            [names.index(name) for name in table.key] if can_copy_in_ranges(table) else []
        )
        self._after, self._upto = key_range.after, key_range.upto
        self._ends: list[tuple[int, ...] | None] = []  # of pages that were cut, their last keys
        self._waiting: list[Chunk] = []
        self._rows = 0
        self._last: tuple[int, ...] | None = None

    def passed(self, batch: Batch, ends: Sequence[int]) -> None:
        """A batch has been cut; ``ends`` say behind which of all rows."""
        for end in ends:
            self._ends.append(self._key(batch, end - self._rows - 1))
        self._last = self._key(batch, batch.rows - 1)
        self._rows += batch.rows

    def _key(self, batch: Batch, row: int) -> tuple[int, ...] | None:
        if not self._places:
            return None
        if row < 0:
            return self._last
        at = row * batch.width
        with contextlib.suppress(ValueError, TypeError):  # some engines take texts for numbers
            return tuple(int(batch.cells[at + place]) for place in self._places)  # type: ignore[arg-type]
        return None

    def pieces(self, pages: Sequence[Chunk], *, last: bool) -> Iterator[Piece]:
        """The pieces that some more pages make, in order; ``last``: there are no others."""
        for page in pages:
            self._waiting.append(page)
            end = self._ends.pop(0) if self._ends else None
            if end is not None:
                yield self._piece(end)
        if last:
            yield self._piece(self._upto)

    def _piece(self, upto: tuple[int, ...] | None) -> Piece:
        pages, self._waiting = tuple(self._waiting), []
        after, self._after = self._after, upto
        return Piece(KeyRange(after, upto), pages)
