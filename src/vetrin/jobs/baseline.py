"""What a run takes of its source is kept in the store as it goes by: the third side of a later merge.

The source is read once, for the target and for the store. Built to survive what a run survives: each stretch
of a table that is stored is written to ``baseline.jsonl`` of the run, with the keys that it covers; whoever
goes on drops what has changed since, and reads again only what is then missing. A run never fails over its
baseline: where it cannot be kept, the report says why, and nothing of it stays.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from itertools import islice
from types import TracebackType

from msgspec.structs import replace

from ..database import Attachment, Batch, KeyRange, Part, Table
from ..database.engines import engine_of
from ..database.row_codec import records_of
from ..errors import Stopped, StoreError
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
    keep_files,
    lease,
    manifest_of,
)
from .baseline_edits import Exchanged
from .baseline_notes import Notes
from .journal import Journals, Run
from .kept_rows import KeptRows
from .pieces import Pieces, forget_what_is_gone
from .plan import Plan

_KEPT = 2  # baselines from one environment to another: the last run may be undone
SWEPT = 10  # runs after which what no snapshot needs is removed


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
        self._earlier = earlier
        self._before: dict[str, Pieces] = {}  # what the earlier run kept
        self._old: dict[str, StoredTable] = {}
        self._attachments: tuple[Attachment, ...] = ()
        self._stack = contextlib.ExitStack()
        self._rows: KeptRows | None = None
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
                hands = self._stack.enter_context(Hands())
                self._old = store.newest_tables(self._source.environment.name)
                mixed = engine_of(self._source.database.engine).any_type
                rows = KeptRows(store, hands, mixed=mixed, notes=self._notes)
                rows.tables = self._notes.read()
                forget_what_is_gone(store, rows.tables.values())
                if self._earlier is not None:
                    self._before = Notes(self._earlier).read()
                    forget_what_is_gone(store, self._before.values())
                self._notes.begin(rows.tables)
                self._rows = rows
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

    @contextlib.contextmanager
    def _keeping(self) -> Iterator[KeptRows]:
        with self.trying():
            assert self._rows is not None
            yield self._rows

    def begin(self, table: Table) -> None:
        """Nothing of a table is taken yet."""
        self.drop(table, KeyRange())

    def carries(self, table: Table) -> bool:
        """Go on with what the run before kept of a table; False where that is not all of it. True where nothing is
        kept."""
        if self.kept:
            pieces = self._before.get(table.name)
            if pieces is None or next(pieces.gaps(), None) is not None:
                return False
            with self._keeping() as rows:
                rows.carry(table.name, pieces)
        return True

    def drop(self, table: Table, key_range: KeyRange) -> None:
        """What was taken of a range is not what the source has now."""
        if self.kept:
            with self._keeping() as rows:
                rows.drop(table.name, key_range)

    def expect(self, table: Table, ranges: Sequence[KeyRange]) -> None:
        """These will be exchanged next, or most of them: what is kept of them is read meanwhile."""
        if self.kept:
            with self._keeping() as rows:
                rows.expect(table, ranges)

    def exchange(self, table: Table, parts: Iterable[Part]) -> Exchanged | None:
        """Put all rows that some ranges have now, in the order of the key, in the place of those that were kept;
        which of them differ, None where that is not known. The ranges of a table come in order, until ``settle``."""
        if self.kept:
            with self._keeping() as rows:
                return rows.exchange(table, parts)
        return None

    def settle(self, table: Table) -> None:
        """Have what was exchanged in a table's ranges stand there."""
        if self.kept:
            with self._keeping() as rows:
                rows.settle(table)

    def gaps(self, table: Table) -> list[KeyRange]:
        """The ranges of which the source has to be read once more."""
        return self._rows.gaps(table.name) if self.kept and self._rows is not None else []

    def pieces(self, table: Table) -> Pieces | None:
        """All that is kept of a table; None where that is not all of it."""
        if not self.kept or self._rows is None or self._rows.gaps(table.name):
            return None
        return self._rows.tables[table.name]

    def through(
        self, table: Table, key_range: KeyRange, batches: Iterable[Batch]
    ) -> Iterator[Batch]:
        """Pass batches on, all rows of a range in the order of the key, and keep what they hold."""
        if not self.kept or self._store is None or self._rows is None:
            yield from batches
            return
        old = self._likely(self._store, table, key_range)
        coming = self._rows.coming(table, key_range, old)
        for batch in batches:
            if self.kept:
                with self.trying():
                    records = batch.records if batch.records is not None else records_of(batch)
                    coming.add(records, batch.checks)
            yield batch
        if self.kept:
            with self.trying():
                coming.finish()

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
            added=self._added + (self._rows.added if self._rows is not None else 0),
        )

    def _data(self, store: Store, before: Manifest | None) -> StoredData | None:
        """The tables that came, and those of the baseline before that did not."""
        source, database = self._source, self._source.database
        old = before.data if before is not None else None
        if not self._plan.tables:
            return old
        assert self._rows is not None
        tables = [self._rows.stored(item.table, item.original) for item in self._plan.tables]
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
