"""Taking a snapshot of an environment while it is in use: its data from one consistent view, its files."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import datetime
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from ..cms import read_version
from ..config import Environment
from ..database import Reader, Table, schemas_of
from ..errors import JobError
from ..files import UNREADABLE, Entry, some_of
from ..site import Looked, Site, counts_of, file_scope, is_empty, newest_of
from ..store import (
    FileKeeper,
    Hands,
    Manifest,
    Store,
    StoredData,
    StoredFile,
    StoredFiles,
    keep_files,
    manifest_of,
)
from .events import FileMoved, Listener, Phase, Started, silent
from .exclusions import routines_with
from .plan import PARTS, Plan
from .snapshot_rows import SnapshotRows

_LOOKS = 6  # at a site of which no view lasts, until what changes all the time is kept as it is


def take_snapshot(
    site: Site,
    store: Store,
    parts: Sequence[str] = PARTS,
    everywhere: Sequence[Environment] = (),
    *,
    label: str = "",
    purpose: str = "backup",
    listener: Listener = silent,
    state: Path | None = None,
) -> Manifest:
    """Store what a site holds of some parts. ``everywhere`` are all environments of the project; ``state`` is its
    folder, in which is remembered what the store has of the site's tables, so that not all is read again.

    Raises:
        StoreError: it cannot be stored; what was there is as it was.
        DatabaseError, FilesError: something cannot be read.
    """
    with store.writing():
        with Hands(store.backend.writers) as hands, site.looking():
            keeper = _Keeper(site=site, store=store, hands=hands, listener=listener, state=state)
            manifest = keeper.keep(tuple(parts), everywhere, label, purpose)
        store.add(manifest)
        keeper.remember()
    return manifest


class Keeping(Struct, frozen=True):
    """Where a run keeps what it replaces, and which environments the project has. ``state`` is that of
    ``take_snapshot``."""

    store: Store
    everywhere: Sequence[Environment] = ()
    state: Path | None = None

    def keep(self, target: Site, plan: Plan, run: int, listener: Listener = silent) -> str:
        """Take a snapshot of the parts of ``target`` that a plan replaces, and prove it; its ID.

        Raises:
            JobError: what was stored cannot be read again as it should be.
        """
        return self.keep_parts(target, plan.parts, run, listener)

    def keep_parts(
        self, target: Site, parts: Sequence[str], run: int, listener: Listener = silent
    ) -> str:
        """The same of some parts."""
        if target.database.missing or is_empty(target.root, target.definition):
            return ""
        manifest = take_snapshot(
            target,
            self.store,
            parts,
            self.everywhere,
            label=f"before run {run}",
            purpose="before",
            listener=listener,
            state=self.state,
        )
        harms = self.store.verify(manifest)
        if harms:
            raise JobError(
                f"the snapshot of {target.environment.name} cannot be read again: {harms[0].reason}",
                f"check the disk that the store is on ({self.store.where})",
            )
        return manifest.id


class _Keeper:
    def __init__(
        self, site: Site, store: Store, hands: Hands, listener: Listener, state: Path | None
    ) -> None:
        self._site = site
        self._store = store
        self._hands = hands
        self._tell = listener
        self._state = state
        self._added = 0
        self._notes: list[str] = []
        self._looked: Looked | None = None
        self._rows: SnapshotRows | None = None

    def keep(
        self,
        parts: tuple[str, ...],
        everywhere: Sequence[Environment],
        label: str,
        purpose: str,
    ) -> Manifest:
        site = self._site
        taken = datetime.now().astimezone().isoformat(timespec="milliseconds")
        entries, passed = self._scan(parts, everywhere)
        keeper = FileKeeper(
            store=self._store, hands=self._hands, tree=site.files, environment=site.environment.name,
            tell=lambda entry: self._tell(FileMoved(entry.path, entry.size, 1)),
        )  # fmt: skip
        known = keeper.known(entries)
        missing = [e for path, e in entries.items() if e.kind == "file" and path not in known]
        tables = site.tables if "data" in parts else ()
        self._tell(
            Started(
                sum(table.rows for table in tables),
                sum(table.size for table in tables),
                len(missing),
                sum(entry.size for entry in missing),
            )
        )
        data = self._data(tables) if "data" in parts else None
        self._tell(Phase("read files"))
        files = (
            self._files(keeper, entries, passed, known) if len(parts) > ("data" in parts) else None
        )
        looked = self._looked
        return replace(
            manifest_of(site, self._store.new_id(), taken, purpose),
            parts=parts,
            label=label,
            title=site.title or "",
            cms_version=read_version(site.root, site.definition) or "",
            addresses=tuple(str(address) for _, address in site.recorded_addresses()),
            counts=looked.counts if looked is not None else None,
            newest=looked.newest if looked is not None else None,
            data=data,
            files=files,
            added=self._added,
            notes=tuple(self._notes),
        )

    # -- data -------------------------------------------------------------------------------------------

    def _data(self, tables: Sequence[Table]) -> StoredData:
        site, database = self._site, self._site.database
        self._tell(Phase("read tables"))
        rows = self._rows = SnapshotRows(
            site=site,
            store=self._store,
            hands=self._hands,
            listener=self._tell,
            state=self._state,
        )
        with ThreadPoolExecutor(1, "counts") as aside, database.reading() as reader:
            # On a second connection, opened with the snapshot.
            looking = aside.submit(_look, site)
            rows.take(reader, tables)
            if not database.facts().one_moment:
                self._until_unchanged(rows, reader, tables)
            self._looked = looking.result()
        data = self._stored(tables, rows)
        self._added += rows.added
        return data

    def remember(self) -> None:
        """Remember what the store has now, that a snapshot needs it."""
        if self._rows is not None:
            self._rows.remember()

    def _stored(self, tables: Sequence[Table], rows: SnapshotRows) -> StoredData:
        """What was taken, with how it is made and what hangs on it."""
        site, database = self._site, self._site.database
        schemas = schemas_of(database, [table.name for table in tables])
        stored = [
            replace(
                rows.stored(table, schemas[table.name]),
                last_given=database.last_given(table.name),
            )
            for table in tables
        ]
        self._notes += [f"{table.name}: {note}" for table in tables for note in table.notes]
        names = [table.name for table in tables]
        routines = routines_with(site, names, site.views)
        self._notes += [
            f"the stored routine {item.name} is not shown to this account, and not kept"
            for item in routines
            if not item.sql
        ]
        return StoredData(
            engine=database.engine,
            facts=database.facts().kept(),
            prefix=site.prefix,
            charset=site.configuration.charset,
            tables=tuple(stored),
            attachments=(
                *database.attachments(names, site.views),
                *(item for item in routines if item.sql),
            ),
            views=site.views,
            size=sum(item.table.size for item in stored),
        )

    def _until_unchanged(self, rows: SnapshotRows, reader: Reader, tables: Sequence[Table]) -> None:
        """Where no view lasts from one question to the next: take again what has changed, until all is as it was."""
        for _ in range(_LOOKS):
            changed = rows.take(reader, tables)
            if not changed:
                return
        names = some_of(sorted(table.name for table in changed))
        self._notes.append(
            f"written to whenever they were looked at, so of different moments: {names}"
        )

    # -- files ------------------------------------------------------------------------------------------

    def _scan(
        self, parts: Sequence[str], everywhere: Sequence[Environment]
    ) -> tuple[dict[str, Entry], dict[str, str]]:
        site = self._site
        scope = file_scope(site, site, parts, everywhere)
        if not scope.folders:
            return {}, {}
        found = site.files.scan(scope.folders, scope.skip[0])
        return dict(found), {**found.passed, **dict.fromkeys(scope.nested, "another environment")}

    def _files(
        self,
        keeper: FileKeeper,
        entries: dict[str, Entry],
        passed: dict[str, str],
        known: dict[str, StoredFile],
    ) -> StoredFiles:
        stored = keeper.keep(entries.values(), known)
        for names, what in (
            (keeper.restless, "written to whenever they were read, perhaps not whole"),
            (keeper.vanished, "removed while the snapshot was taken"),
            (keeper.unread, "not readable for the account"),
        ):
            if names:
                self._notes.append(f"{what}: {some_of(sorted(names))}")
        passed = {**passed, **dict.fromkeys(keeper.unread, UNREADABLE)}
        files, added = keep_files(self._store.contents, stored, passed)
        self._added += keeper.added + added
        return files


def _look(site: Site) -> Looked:
    newest = newest_of(site)
    return Looked(counts_of(site), (newest.title, newest.changed) if newest is not None else None)
