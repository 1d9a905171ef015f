"""Taking in archives and dumps: they become a snapshot, from which everything else can be done.

All files are stored as they come by; then the site's root is looked for among them by the markers of its CMS,
and the dump that holds its tables among the SQL files. Whose addresses it speaks is read from its own settings.
"""

from __future__ import annotations

import hashlib
import json
import re
import tempfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import Literal

import xxhash
from msgspec import Struct
from msgspec.structs import replace

from ..cms import Definition, SiteConfiguration, read_configuration
from ..database.engines import engine_of
from ..database.mysql.charsets import Between, between
from ..database.sqlite.database import SqliteDatabase
from ..errors import BadArchive, ConfigurationError, DatabaseError, NeedsPassphrase, Unclear
from ..files import Entry, some_of, stays_inside
from ..site import UNKNOWN, ReadableSite
from ..store.manifest import Manifest, StoredData, StoredFile, StoredFiles, StoredTable
from ..store.objects import Contents, Hands, in_blocks
from ..store.snapshot_files import SnapshotPath, SnapshotTree, keep_files
from ..store.snapshot_site import open_snapshot
from ..store.store import Store
from ..store.table_chunks import TableWriter
from .dump_intake import DumpIntake, TakenDump
from .openpgp import ENDING, is_sealed, unseal
from .reader import Watch, blocks_of, kind_of, members, most_of, packing_of, unpacked, watching
from .site_data import database_of_site, marked, with_prefix
from .site_root import below, proved, roots_in
from .writer import FILES, MANIFEST

_SQL = re.compile(r"\.sql(?:\.(?:gz|bz2|xz|zst))?$", re.IGNORECASE)


class _Layout(Struct, frozen=True):
    """Where an export of ours has what: its list, the folder of the site, and its SQL files, of which those of tables
    come first by their names."""

    list: str
    site: str
    sql: re.Pattern[str]


_LAYOUTS = (
    _Layout(MANIFEST, FILES, re.compile(r"^data/.+\.sql$")),
    # Until 0.1.
    _Layout("vetrin-export.json", "files", re.compile(r"^database(?:/.+)?\.sql$")),
)
Kind = Literal["database", "prefix", "folder"]


class Given(Struct, frozen=True):
    """What was said about an archive beside its files: which database, prefix and folder, the old address,
    and its passphrase."""

    database: str = ""
    prefix: str | None = None
    folder: str | None = None
    password: str | None = None
    address: str = ""


def take_in(
    paths: Sequence[Path],
    store: Store,
    definition: Definition,
    given: Given | None = None,
    tell: Callable[[str, int], None] = lambda what, size: None,
    conversions: Between = between,
) -> Manifest:
    """Store what archives and dumps hold of one site; the snapshot, which is part of the store then.
    ``conversions`` are those between character sets, best by the server that it is to come to.

    Raises:
        Unclear: several databases, sites or prefixes are in them.
        BadArchive: they cannot or must not be read, or hold nothing of a site.
        DatabaseError: a dump cannot be understood.
    """
    given = given or Given()
    with store.writing(), Hands(store.backend.writers) as hands:
        watch = watching(paths)
        work = _Intake(
            contents=store.contents,
            hands=hands,
            definition=definition,
            given=given,
            tell=tell,
            conversions=conversions,
            watch=watch,
        )
        for path in paths:
            work.take(path)
        manifest = work.finish(paths)
        if given.address:
            manifest = replace(manifest, address=given.address)
        manifest = replace(manifest, id=store.id_for(manifest))
        known = next((one for one in store.snapshots() if one.id == manifest.id), None)
        if known is not None:  # the same was taken in before, as by a run that was stopped
            return known
        with open_snapshot(store, manifest, definition) as site:
            complete = _with_addresses(manifest, site, given.address)
        store.add(complete)
    return complete


class _Intake:
    def __init__(
        self,
        contents: Contents,
        hands: Hands,
        definition: Definition,
        given: Given,
        tell: Callable[[str, int], None],
        conversions: Between,
        watch: Watch,
    ) -> None:
        self._watch = watch
        self._dumps = DumpIntake(
            contents=contents,
            hands=hands,
            definition=definition,
            conversions=conversions,
            tell=tell,
        )
        self._contents = contents
        self._hands = hands
        self._definition = definition
        self._given = given
        self._tell = tell
        self._files: dict[str, StoredFile] = {}
        self._taken: list[TakenDump] = []
        self._notes: list[str] = []
        self._added = 0
        self._said_parts: tuple[str, ...] = ()  # of an export of ours
        self._said_embedded = ""
        self._layout: _Layout | None = None  # of an export of ours

    def take(self, path: Path) -> None:
        if is_sealed(path):
            if not self._given.password:
                raise NeedsPassphrase(path.name)
            with tempfile.TemporaryDirectory(prefix="vetrin-") as folder:
                # Proved as a whole before anything of it is looked at.
                plain = Path(folder, path.name.removesuffix(ENDING))
                unseal(path, plain, self._given.password, most_of(path.stat().st_size))
                self.take(plain)
            return
        kind, packing = kind_of(path)
        if kind == "sql":
            self._dump(path.name, blocks_of(path, packing, self._watch))
            return
        for member in members(path, kind, packing, self._watch, self._given.password):
            entry = member.entry
            if entry.kind == "file" and entry.size < 0:  # a second name
                first = self._files.get(entry.target)
                if first is None:
                    raise BadArchive(
                        f"{path.name}: {entry.path!r} is a second name of what is not there"
                    )
                self._watch.count(first.entry.size)
                self._files[entry.path] = StoredFile(
                    first.entry._replace(path=entry.path), first.blocks
                )
                continue
            self._files[entry.path] = self._stored(entry, member.blocks())
            self._tell(entry.path, max(0, entry.size))

    def _stored(self, entry: Entry, blocks: Iterator[bytes]) -> StoredFile:
        if entry.kind != "file":
            return StoredFile(entry)
        hasher, size, jobs = xxhash.xxh3_128(), 0, []
        for block in in_blocks(blocks):
            hasher.update(block)
            size += len(block)
            jobs.append(self._hands.do(self._contents.keep, block))
        done = [job.result() for job in jobs]
        self._added += sum(added for _, added in done)
        return StoredFile(
            entry._replace(size=size, digest=hasher.hexdigest()),
            tuple(digest for digest, _ in done),
        )

    def _dump(self, name: str, blocks: Iterable[bytes]) -> None:
        taken = self._dumps.read(name, blocks)
        self._added += taken.added
        if taken.databases:
            self._taken.append(taken)
            if taken.events:
                self._notes.append(f"events are not taken over: {some_of(taken.events)}")

    # -- what it is -----------------------------------------------------------------------------------

    def finish(self, paths: Sequence[Path]) -> Manifest:
        """Find the site in what was stored."""
        name = re.sub(r"\.(zip|tar|sql|gz|bz2|xz|zst|tgz|\d+)$", "", paths[0].name.lower())
        self._prove()
        proved(self._files)
        folder = self._site_folder()
        self._dumps_inside()
        inside, passed = ({}, {}) if folder is None else below(self._files, folder)
        self._tell_of_links(folder)
        configuration = self._configuration(inside) if inside else None
        data, root = self._data(configuration)
        embedded = self._said_embedded
        if configuration is not None and engine_of(configuration.engine).in_file:
            embedded = configuration.database
        if data is None and embedded in inside:
            data = self._embedded(inside, embedded)
        if data is None and not inside:
            raise BadArchive(
                f"{', '.join(path.name for path in paths)}: there is neither a site of "
                f"{self._definition.title} in it ({', '.join(self._definition.markers)}) nor a dump with its "
                "tables"
            )
        if data is None and not any(_SQL.search(path) for path in self._files):
            self._notes.append("no database dump is in it")
        files = self._stored_files(inside, passed) if inside else None
        parts = [*(["data"] if data else []), *(self._parts(inside) if inside else [])]
        return Manifest(
            id="",
            taken=datetime.now().astimezone().isoformat(timespec="milliseconds"),
            environment=re.sub(r"[^a-z0-9-]+", "-", name.split("/")[-1]).strip("-") or "archive",
            role="local",
            cms=self._definition.name,
            parts=tuple(parts),
            address=str(UNKNOWN),
            also=(),
            roots=(root,),
            label=paths[0].name,
            purpose="import",
            title=configuration.title if configuration else "",
            addresses=configuration.addresses if configuration else (),
            data=data,
            files=files,
            added=self._added,
            notes=tuple(self._notes),
        )

    def _tell_of_links(self, folder: str | None) -> None:
        """Name the links that lead out of the archive and are none of the site's."""
        beside = [
            path
            for path, file in self._files.items()
            if file.entry.kind == "link"
            and not stays_inside(path, file.entry.target)
            and (folder is None or not _is_below(path, folder))
        ]
        if beside:
            self._notes.append(
                f"links that lead out of the archive are left out: {some_of(beside)}"
            )

    def _configuration(self, inside: dict[str, StoredFile]) -> SiteConfiguration | None:
        """What the configuration of the site says; None where it cannot be read."""
        tree = SnapshotTree(self._contents, inside.values(), {})
        try:
            return read_configuration(SnapshotPath(tree, "", "/", "/"), self._definition, {}, {})
        except ConfigurationError as error:
            if not self._said_parts:  # an export of ours has none
                self._notes.append(f"its configuration is not read: {error}")
            return None

    def _data(self, configuration: SiteConfiguration | None) -> tuple[StoredData | None, str]:
        """The data of the site, with its prefix, and the path that its values speak of."""
        database = configuration.database if configuration else ""
        found = database_of_site(
            self._taken, self._definition, self._given.database, database,
            alone=not self._files,
        )  # fmt: skip
        if found is None:
            return None, ""
        prefix = configuration.prefix if configuration else ""
        data = with_prefix(found.data, self._definition.marks, self._given.prefix, prefix)
        self._files.pop(found.dump.name, None)
        return data, found.root

    def _marked(self, data: StoredData) -> bool:
        return bool(marked(data, self._definition.marks))

    def _prove(self) -> None:
        """Check an export of ours against its own list.

        Raises:
            BadArchive: a file in it is missing, or not as it was packed.
        """
        self._layout = next((one for one in _LAYOUTS if one.list in self._files), None)
        if self._layout is None:
            return
        manifest = self._files[self._layout.list]
        try:
            said = json.loads(b"".join(self._contents.blocks(manifest.blocks)))
            digests, self._said_parts = said["sha256"], tuple(map(str, said["parts"]))
            self._said_embedded = str(said.get("embedded") or "")
        except (ValueError, KeyError, TypeError) as error:
            raise BadArchive(f"{self._layout.list} cannot be read: {error}") from error
        for path, wanted in digests.items():
            file = self._files.get(path)
            if file is None:
                raise BadArchive(f"{path} is missing in the archive")
            hasher = hashlib.sha256()
            for block in self._contents.blocks(file.blocks):
                hasher.update(block)
            if hasher.hexdigest() != wanted:
                raise BadArchive(f"{path} is damaged in the archive")

    def _parts(self, inside: dict[str, StoredFile]) -> list[str]:
        """The parts of which there are files."""
        if self._said_parts:
            return [part for part in self._said_parts if part != "data"]
        found = []
        for part in ("media", "core"):
            folders = self._definition.parts.get(part, ())
            if any(path == f or path.startswith(f + "/") for f in folders for path in inside):
                found.append(part)
        return [part for part in ("media", "code", "core") if part == "code" or part in found]

    def _site_folder(self) -> str | None:
        """The folder of the archive that is the site's root; None where there is no site in it."""
        given, markers = self._given.folder, self._definition.markers
        if given is not None:
            return given.strip("/")
        if self._said_parts:
            site = self._layout.site if self._layout else FILES
            return site if any(path.startswith(f"{site}/") for path in self._files) else None
        if not markers:
            return "" if self._files else None
        nearest = roots_in(self._files.keys(), markers)
        if not nearest:
            return None
        if len(nearest) > 1:
            raise Unclear("there are several sites in it", nearest, "folder")
        return nearest[0]

    def _dumps_inside(self) -> None:
        """Read SQL files of the archive, the largest first, until one holds the tables of a site."""
        if any(self._marked(data) for taken in self._taken for data in taken.databases.values()):
            return
        sql = self._layout.sql if self._layout is not None else None
        ours = sorted(path for path in self._files if sql and sql.search(path))
        if ours:
            self._dump(ours[0], self._together(ours))
            for path in ours:
                self._files.pop(path)
            return
        candidates = [f for path, f in self._files.items() if _SQL.search(path) and f.entry.size]
        for file in sorted(candidates, key=lambda file: -file.entry.size):
            name = file.entry.path
            blocks = unpacked(self._contents.blocks(file.blocks), packing_of(name), name)
            try:
                self._dump(name, self._watch.passing(blocks))
            except DatabaseError as error:
                self._notes.append(f"{name} is not taken for the dump: {error}")
                continue
            if self._taken and any(map(self._marked, self._taken[-1].databases.values())):
                self._files.pop(name, None)
                return

    def _together(self, paths: Sequence[str]) -> Iterator[bytes]:
        for path in paths:
            yield from self._contents.blocks(self._files[path].blocks)
            yield b"\n"

    def _embedded(self, inside: dict[str, StoredFile], name: str) -> StoredData:
        """The data of a site whose database is a file among its own; that file is none of its files then.

        Raises:
            DatabaseError: it is no database.
        """
        with tempfile.TemporaryDirectory(prefix="vetrin-") as folder:
            for tail in ("", "-wal", "-journal"):
                file = inside.pop(name + tail, None)
                if file is not None:
                    with Path(folder, f"site.sqlite{tail}").open("wb") as copy:
                        copy.writelines(self._contents.blocks(file.blocks))
            inside.pop(f"{name}-shm", None)
            database = SqliteDatabase(Path(folder, "site.sqlite"))
            try:
                return self._of_database(database)
            finally:
                database.close()

    def _of_database(self, database: SqliteDatabase) -> StoredData:
        tables = []
        with database.reading() as reader:
            for table in database.tables():
                writer = TableWriter(self._contents, self._hands)
                for records in reader.records(table):
                    writer.add(records)
                lists = writer.finish_list()
                self._added += writer.added
                known = replace(table, rows=writer.rows, size=writer.size)
                given = database.last_given(table.name)
                tables.append(
                    StoredTable(
                        table=known,
                        schema=database.schema(table.name),
                        pages=lists,
                        mixed=True,
                        last_given=given,
                    )
                )
        facts = database.facts()
        names = [item.table.name for item in tables]
        return StoredData(
            engine=database.engine,
            facts={
                "product": facts.product,
                "version": facts.version,
                "charset": facts.charset,
                "details": {},
            },
            prefix="",
            charset="",
            tables=tuple(tables),
            attachments=tuple(database.attachments(names, database.views())),
            views=tuple(database.views()),
            size=sum(item.table.size for item in tables),
        )

    def _stored_files(self, inside: dict[str, StoredFile], passed: dict[str, str]) -> StoredFiles:
        files, added = keep_files(self._contents, list(inside.values()), passed)
        self._added += added
        return files


def _is_below(path: str, folder: str) -> bool:
    return not folder or path == folder or path.startswith(f"{folder}/")


def _with_addresses(manifest: Manifest, site: ReadableSite, given: str) -> Manifest:
    """Whose addresses it speaks: what was said, and what its own settings say."""
    known = [str(address) for _, address in site.recorded_addresses()]
    found = list(dict.fromkeys([*([given] if given else []), *known]))
    if not found:
        note = "no address is in its settings: nothing is rewritten, unless --address names the old one"
        return replace(manifest, notes=(*manifest.notes, note))
    return replace(
        manifest, address=found[0], also=tuple(found[1:]), title=site.title or manifest.title
    )
