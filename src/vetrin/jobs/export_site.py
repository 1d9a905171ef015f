"""Packing a site into an archive that anyone can open, with the addresses of where it goes."""

from __future__ import annotations

import dataclasses
import json
import tempfile
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from functools import cached_property
from pathlib import Path
from typing import IO, Any, cast

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ..archive.writer import FILES, MANIFEST, Archive, archive_into, text_into
from ..config import Arrival, Environment, Keep, Leave
from ..database import Attachment, Exchange, Facts, Reader, Table, hidden_name, schemas_of
from ..database.engines import engine_of
from ..database.mysql.dependents import in_order
from ..database.mysql.dump import writer
from ..database.mysql.incoming_sql import unfit_table
from ..database.mysql.schema.translate import what_lacks, without_places
from ..database.sqlite.database import SqliteDatabase
from ..errors import FilesError, JobError, Refused
from ..files import (
    UNREADABLE,
    DigestCache,
    Entry,
    Patterns,
    Terms,
    changed_since,
    selection,
    some_of,
)
from ..rewrite import Mapping, Rewriter, Tally
from ..site import (
    Names,
    PrefixedValues,
    ReadableSite,
    Rewriting,
    RowPipeline,
    TableRows,
    file_scope,
    lies_loose,
    signed_between,
    stays_with,
)
from ..store import Contents, FolderBackend, SnapshotDatabase, SnapshotPath, SnapshotTree
from ..store.objects import together
from .arrival import Settling, settling
from .arrival_steps import SettledRows, Tables
from .events import FileMoved, Listener, Moved, Phase, Started, TableDone, TableStarted, silent
from .exclusions import (
    Leaving,
    can_hang,
    dropped,
    left_files,
    routines_with,
    views_without,
    work_out,
)
from .generated_files import Placed, address_rules, copy_file
from .passwords import must_hold_none, passwords_of
from .plan import PARTS, Part

SQL = "data/all-tables.sql"
_TABLES = "data/tables"
_HANGING = "data/views-and-triggers.sql"
_VERSION = 1
_ROUNDS = 3  # times that a file is read anew
_SPOOLED = (
    8 << 20
)  # bytes of a file that are held in memory before it is packed; more of it go onto the disk


class Packing(Struct, frozen=True):
    """What is packed and how. ``arrival`` is how it is settled, None for as it is. ``size`` is the most bytes of
    one file of the archive; ``statement`` of one INSERT. ``prefix`` is that of the tables where it goes, None for
    the site's own."""

    parts: tuple[Part, ...] = PARTS
    leave: Leave = msgspec.field(default_factory=Leave)
    mapping: Mapping = msgspec.field(default_factory=lambda: Mapping.build())
    goal: Environment | None = None
    arrival: Arrival | None = None
    size: int | None = None
    statement: int = writer.STATEMENT
    password: str | None = None
    sql_only: bool = False
    per_table: bool = False
    prefix: str | None = None


class Packed(Struct, frozen=True):
    """What came of it: the files that were written, and what is in them."""

    paths: tuple[Path, ...]
    rows: dict[str, int]
    files: int
    file_bytes: int
    rewriting: Rewriting
    file_places: int
    left: Leaving
    settled: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()


def export(
    site: ReadableSite,
    path: Path,
    packing: Packing,
    everywhere: Sequence[Environment] = (),
    listener: Listener = silent,
    *,
    only_look: bool = False,
) -> Packed:
    """Write a site, or its data alone, into a file. Nothing has its name before all of it is written.

    With ``only_look``, nothing is written, and the numbers of rows are estimates.

    Raises:
        Refused: this engine's data cannot be written as an SQL file.
        StoreError, DatabaseError, FilesError: something cannot be read or written.
    """
    sql = packing.sql_only or packing.per_table
    if sql and "data" in packing.parts and not engine_of(site.database.engine).writes_sql:
        raise Refused(
            f"{site.environment.name} keeps its data in {site.database.engine}: an SQL file for MariaDB "
            "and MySQL cannot be made of that",
            "without --sql-only, the archive holds the database as the file that it is",
        )
    work = _Export(site=site, path=path, packing=packing, everywhere=everywhere, listener=listener)
    return work.look() if only_look else work.run()


class _Export:
    def __init__(
        self,
        site: ReadableSite,
        path: Path,
        packing: Packing,
        everywhere: Sequence[Environment],
        listener: Listener,
    ) -> None:
        self._site = site
        self._path = path
        self._packing = packing
        self._everywhere = everywhere
        self._tell = listener
        self._rewriting = Rewriting(
            packing.mapping, encoded=site.encoded, signed=signed_between(site, None)
        )
        self._rewriter = Rewriter(packing.mapping)
        goal = _to_be(site, packing.goal or site.environment, packing.prefix)
        self._renamed = Names.between(site, goal, False)
        self._pipeline = RowPipeline(self._rewriting, PrefixedValues.between(site, goal))
        self._file_tally = Tally()
        self._rows: dict[str, int] = {}
        self._digests: dict[str, str] = {}
        self._files = self._file_bytes = 0
        self._notes: list[str] = []
        self._made = datetime.now().astimezone().isoformat(timespec="seconds")
        self._leaving = Leaving()
        self._settling = Settling([], [], [], [])
        self._placed: dict[str, Placed] = {}
        self._views: tuple[str, ...] = ()
        leave = packing.leave
        if packing.arrival is not None:
            rows = [*leave.rows, *dropped(site.definition, packing.arrival)]
            leave = replace(leave, rows=tuple(dict.fromkeys(rows)))
            self._arrive(packing.arrival)
        self._settled = SettledRows(site, self._settling.steps)
        if "data" in packing.parts:
            self._leaving = work_out(site, leave)
            self._notes += self._leaving.warnings
            if not self._facts.one_moment:
                self._notes.append(
                    "its tables are read one after the other, so that what is written to meanwhile is of several "
                    "moments; `vetrin backup` takes one that is of one moment, and can be packed"
                )
            self._views, lost = views_without(site, self._leaving.tables)
            if "views" in leave.programs:
                self._views, lost = (), []
            self._notes += [
                f"the view {view} is left out, for it needs a table or routine that is"
                for view in lost
            ]

    def _arrive(self, arrival: Arrival) -> None:
        """Work out how the copy is settled where it goes, which is taken to be empty."""
        site, packing = self._site, self._packing
        goal = _to_be(site, packing.goal or site.environment, packing.prefix)
        placed: list[Placed | None] = []
        if "data" in packing.parts:
            self._settling = settling(site, goal, Keep(), arrival, code=True)
            self._notes += self._settling.warnings
            placed.append(copy_file(goal, arrival))
        if arrival.address_rules and packing.goal is not None:
            placed.append(address_rules(site, goal, packing.mapping))
        self._placed = {item.path: item for item in placed if item is not None}
        if packing.sql_only:
            self._notes += [
                f"{item.path} ({item.why}) cannot be in an SQL file: put it there yourself"
                for item in self._placed.values()
            ]

    def look(self) -> Packed:
        """What would come of it, by the numbers of rows that the server takes for likely."""
        entries, tables = self._coming()
        files = [entry for entry in entries if entry.kind != "folder"]
        return Packed(
            paths=(),
            rows={table.name: table.rows for table in tables},
            files=len(files) + len(self._placed),
            file_bytes=sum(entry.size for entry in files),
            rewriting=self._rewriting,
            file_places=0,
            left=self._leaving,
            settled=self._says(),
            notes=tuple(self._notes),
        )

    def _coming(self) -> tuple[list[Entry], list[Table]]:
        packing = self._packing
        entries = self._entries() if not packing.sql_only else []
        tables = [t for t in self._site.tables if t.name not in self._leaving.tables]
        return entries, tables if "data" in packing.parts else []

    def run(self) -> Packed:
        packing = self._packing
        entries, tables = self._coming()
        sizes = sum(entry.size for entry in entries)
        self._tell(
            Started(sum(t.rows for t in tables), sum(t.size for t in tables), len(entries), sizes)
        )
        if packing.sql_only:
            with text_into(self._path, packing.size, packing.password) as (file, parts):
                for block in self._sql():
                    file.write(block)
        else:
            with archive_into(self._path, packing.size, packing.password) as (archive, parts):
                self._fill(archive, entries)
        paths = parts.finish()
        return Packed(
            paths=tuple(paths),
            rows=self._rows,
            files=self._files,
            file_bytes=self._file_bytes,
            rewriting=self._rewriting,
            file_places=self._file_tally.total,
            left=self._leaving,
            settled=self._says(),
            notes=(*self._notes, *self._settled.remarks),
        )

    def _fill(self, archive: Archive, entries: Sequence[Entry]) -> None:
        now = int(datetime.now().timestamp() * 1e9)
        self._put(archive, "README.txt", self._readme().encode())
        if "data" in self._packing.parts:
            self._tell(Phase("pack tables"))
            with tempfile.TemporaryDirectory(prefix="vetrin-") as folder:
                if self._embedded:
                    name = f"{FILES}/{self._site.configuration.database}"
                    path = self._database_file(Path(folder))
                    with path.open("rb") as source:
                        entry = Entry(name, "file", path.stat().st_size, now)
                        self._digests[name] = archive.add(entry, _read(source))
                for name, blocks in self._sql_files() if not self._embedded else ():
                    # Its size has to be known before it goes into a tar.
                    spool = Path(folder, "spool.sql")
                    with spool.open("wb") as file:
                        for block in blocks:
                            file.write(block)
                    entry = Entry(name, "file", spool.stat().st_size, now)
                    with spool.open("rb") as source:
                        self._digests[name] = archive.add(entry, _read(source))
        self._tell(Phase("pack files"))
        for entry in entries:
            if entry.kind != "file":
                archive.add(_below(entry), ())
                self._files += entry.kind == "link"
        for item in self._placed.values():
            self._digests[f"{FILES}/{item.path}"] = archive.add(
                _below(item.entry), [item.content or b""]
            )
            self._files += 1
        texts = self._texts()
        plain = [entry for entry in entries if entry.kind == "file"]
        for entry, held in self._at_rest(plain):
            content: Iterable[bytes | memoryview] = _read(held)
            size = entry.size
            if texts.matches_file(entry):
                changed = self._rewriter.rewrite(b"".join(content), self._file_tally)
                content, size = [changed], len(changed)
            packed = _below(entry)._replace(size=size)
            self._digests[packed.path] = archive.add(packed, content)
            self._files += 1
            self._file_bytes += size
            self._tell(FileMoved(entry.path, size, 1))
        self._put(archive, MANIFEST, json.dumps(self._manifest(), indent=1).encode())

    def _at_rest(self, entries: Sequence[Entry]) -> Iterator[tuple[Entry, IO[bytes]]]:
        """The contents of files, each of one edition: what is written to while it is read is read again. What
        cannot be read is noted."""
        files = self._site.files
        for some in together(entries, lambda entry: entry.size):
            spools: dict[str, tuple[Entry, IO[bytes]]] = {}
            waiting, rounds = list(some), 0
            while waiting and rounds <= _ROUNDS:
                rounds += 1
                for entry, came in files.read_all(waiting):
                    spool = cast(IO[bytes], tempfile.SpooledTemporaryFile(_SPOOLED))  # noqa: SIM115
                    try:
                        for block in came:
                            spool.write(block)
                    except FilesError as error:
                        gone = isinstance(error.__cause__, FileNotFoundError)
                        if not gone and not error.denied:
                            raise
                        why = "removed meanwhile" if gone else UNREADABLE
                        self._notes.append(f"{entry.path} is left out: {why}")
                        continue
                    spools[entry.path] = entry._replace(size=spool.tell()), spool
                waiting = changed_since(files, [e for e in waiting if e.path in spools])
            for entry in waiting:
                self._notes.append(
                    f"{entry.path} was written to whenever it was read, and is perhaps not whole"
                )
            for entry, held in spools.values():
                with held:
                    held.seek(0)
                    yield entry, held

    def _put(self, archive: Archive, name: str, content: bytes) -> None:
        now = int(datetime.now().timestamp() * 1e9)
        archive.add(Entry(name, "file", len(content), now), [content])

    @property
    def _embedded(self) -> bool:
        return engine_of(self._site.database.engine).in_file

    def _database_file(self, folder: Path) -> Path:
        """An embedded database's tables, as they go out, in a file of their own."""
        site, leaving = self._site, self._leaving
        path = folder / "site.sqlite"
        made = SqliteDatabase(path, may_be_missing=True)
        try:
            made.create()
            names, exchanges = [], []
            columns: dict[str, Table] = {}
            schemas = self._schemas
            with site.database.reading() as reader:
                self._expect(reader)
                for number, table in enumerate(site.tables):
                    if table.name in leaving.tables:
                        continue
                    self._tell(TableStarted(table.name, table.rows))
                    hidden = hidden_name("arriving", "export", number)
                    made.lay_out(hidden, table, schemas[table.name])
                    changed = self._pipeline.stream(reader, self._chosen(table))
                    self._rows[table.name] = made.fill(hidden, table, changed)
                    made.finish(hidden, site.database, table)
                    columns[table.name[len(site.prefix) :]] = table
                    self._tell(TableDone(table.name, self._rows[table.name]))
                    names.append(table.name)
                    exchanges.append(Exchange(table.name, hidden, None))
            places = {exchange.live: exchange.incoming for exchange in exchanges}
            tables = Tables(
                dataclasses.replace(site, database=made),
                made,
                lambda name: places.get(site.prefix + name),
                columns,
            )
            self._notes += filter(None, [step.do(tables) for step in self._settling.steps])
            made.swap(exchanges, [], self._attachments())
        finally:
            made.close()
        return path

    # -- files ------------------------------------------------------------------------------------------

    def _entries(self) -> list[Entry]:
        scope = file_scope(self._site, self._site, self._packing.parts, self._everywhere)
        if not scope.folders:
            return []
        site = self._site
        terms = Terms(
            skip=scope.skip,
            leave=left_files(site, self._packing.leave),
            loose=lambda path: lies_loose(site, path),
            withheld=stays_with(site),
        )
        found, passed = selection(site.files, scope.folders, terms)
        if passed:
            self._notes.append(f"left out by themselves: {some_of(sorted(passed))}")
        going = [entry for entry in found if not self._gives_way(entry.path)]
        if site.remote_host is None:
            leave = left_files(site, self._packing.leave)
            asked = [entry for entry in going if not (leave and leave.asks_for(entry))]
            must_hold_none(site.files, asked, passwords_of(site))
        return going

    def _gives_way(self, path: str) -> bool:
        """True for what arrival puts in its place, or takes away."""
        arrival, definition = self._packing.arrival, self._site.definition
        if arrival is None:
            return False
        if path in self._placed or (definition.copy is not None and path == definition.copy.file):
            return True
        folders = definition.arrival.cache_folders if arrival.caches else ()
        return any(path.startswith(f"{folder}/") for folder in folders)

    def _texts(self) -> Patterns:
        return Patterns(self._site.definition.text_files)

    # -- data -------------------------------------------------------------------------------------------

    def _sql_files(self) -> Iterator[tuple[str, Iterator[bytes]]]:
        if not self._packing.per_table:
            yield SQL, self._sql()
            return
        site = self._site
        with site.database.reading() as reader:
            for table in site.tables:
                if table.name not in self._leaving.tables:
                    yield (
                        f"{_TABLES}/{table.name}.sql",
                        self._framed(self._table(reader, table.name)),
                    )
        if self._hanging:
            yield _HANGING, self._framed(iter([self._hanging]))

    def _framed(self, blocks: Iterator[bytes]) -> Iterator[bytes]:
        yield writer.header(self._about())
        yield from blocks
        yield writer.footer()

    def _sql(self) -> Iterator[bytes]:
        site = self._site
        yield writer.header(self._about())
        with site.database.reading() as reader:
            self._expect(reader)
            for table in site.tables:
                if table.name not in self._leaving.tables:
                    yield from self._table(reader, table.name)
        yield self._hanging
        yield writer.footer()

    def _table(self, reader: Reader, name: str) -> Iterator[bytes]:
        site = self._site
        table = next(one for one in site.tables if one.name == name)
        self._tell(TableStarted(name, table.rows))
        schema = without_places(self._schemas[name])
        if why := unfit_table(schema):
            raise JobError(f"{name} cannot be packed: {why}", "leave it out with --leave-tables")
        product = self._facts.product
        other = "MySQL" if product == "MariaDB" else "MariaDB"
        lacking = what_lacks(name, schema, other)
        if lacking:
            self._notes.append(f"{lacking}: this table loads on {product} only")
        called = replace(table, name=self._renamed.table(name))
        old, new = (site.database.quote(one) for one in (name, called.name))
        text = writer.TableText(
            called,
            schema.replace(f"CREATE TABLE {old}", f"CREATE TABLE {new}", 1),
            product,
            self._packing.statement,
        )
        yield text.begin()
        pipeline = replace(
            self._pipeline, arrive=lambda table, rows: self._settled.through(table, schema, rows)
        )
        rows, count = self._chosen(table), 0
        with pipeline.prefetched(rows, pipeline.read(reader, rows)) as batches:

            def counted() -> Iterator[Any]:
                nonlocal count
                for batch in batches:
                    count += batch.rows
                    self._tell(Moved(name, batch.rows, batch.size))
                    yield batch

            yield from text.rows(counted())
        self._rows[name] = count
        self._tell(TableDone(name, count))

    def _expect(self, reader: Reader) -> None:
        leaving = self._leaving.tables
        going = [table for table in self._site.tables if table.name not in leaving]
        reader.expect([self._pipeline.wanted(self._chosen(table)) for table in going])

    @cached_property
    def _schemas(self) -> dict[str, str]:
        """The definitions of the tables that go out."""
        names = [table.name for table in self._site.tables]
        return schemas_of(
            self._site.database, (name for name in names if name not in self._leaving.tables)
        )

    def _chosen(self, table: Table) -> TableRows:
        """The rows of a table that go out."""
        name, leaving = table.name, self._leaving
        return TableRows(
            table,
            self._site.rewritable(table),
            leaving.leave.get(name),
            leaving.replacements.get(name, {}),
        )

    @cached_property
    def _hanging(self) -> bytes:
        """Foreign keys, stored routines, views and triggers of the tables that come along."""
        return b"".join(self._written_beside())

    def _written_beside(self) -> Iterator[bytes]:
        items = self._attachments()
        partly = bool(self._packing.leave.only)
        routines = routines_with(self._site, self._names, self._views, partly=partly)
        sequences = [item for item in items if item.kind == "sequence"]
        broken = self._site.database.broken_views()
        marked = {self._renamed.table(name): said for name, said in broken.items()}
        called = self._renamed.routines([*routines, *sequences])
        items += [item for item in routines if item.kind == "sequence"]
        for item in (self._renamed.attachment(item, called) for item in self._fit(routines)):
            if item.kind == "sequence":
                continue
            if item.sql:
                yield writer.routine(item)
            else:
                self._notes.append(
                    f"the stored routine {item.name} is not shown to this account, and left out"
                )
        items = [self._renamed.attachment(item, called) for item in items]
        views = in_order(item for item in items if item.kind == "view")
        self._notes += [
            f"the view {name} is broken in {self._site.environment.name} itself, and only written down: {said}"
            for name, said in broken.items()
            if name in self._views
        ]
        yield from (writer.sequence(item) for item in items if item.kind == "sequence")
        yield from (writer.default(item) for item in items if item.kind == "default")
        yield from (writer.constraint(item) for item in items if item.kind == "constraint")
        yield from (writer.view(item, marked.get(item.name, "")) for item in views)
        yield from (writer.trigger(item) for item in items if item.kind == "trigger")

    @property
    def _names(self) -> list[str]:
        """The tables that come along."""
        left = self._leaving.tables
        return [table.name for table in self._site.tables if table.name not in left]

    def _attachments(self) -> list[Attachment]:
        """What hangs on the tables that come along, and can do so without the others."""
        names = self._names
        found = [
            item
            for item in self._site.database.attachments(names, self._views)
            if (item.kind == "view" or item.table in names) and can_hang(item, names)
        ]
        return self._fit(found)

    def _fit(self, found: Iterable[Attachment]) -> list[Attachment]:
        """Those that may come along: chosen, and doing nothing that no text from outside may; these are named."""
        left = {kind.removesuffix("s") for kind in self._packing.leave.programs}
        fit = engine_of(self._site.database.engine).fit
        items = [fit(item) for item in found if item.kind not in left]
        self._notes += [f"the {i.kind} {i.name} is left out: {i.lost}" for i in items if i.lost]
        return [item for item in items if not item.lost]

    # -- what is said of it -----------------------------------------------------------------------------

    def _says(self) -> tuple[str, ...]:
        """How it is settled, in words."""
        found = [step.says() for step in self._settling.steps]
        if not self._packing.sql_only:
            found += [item.why for item in self._placed.values()]
        return tuple(dict.fromkeys(found))

    @cached_property
    def _facts(self) -> Facts:
        return self._site.database.facts()

    def _about(self) -> list[str]:
        site, goal = self._site, self._packing.goal
        facts = self._facts
        return [
            f"{site.title or site.environment.name}: {site.environment.name} ({site.environment.address})",
            *([f"with the addresses of {goal.name} ({goal.address})"] if goal else []),
            f"from {facts.product} {facts.version}, {self._made}",
        ]

    def _manifest(self) -> dict[str, Any]:
        site, goal = self._site, self._packing.goal
        return {
            "version": _VERSION,
            "made": self._made,
            "title": site.title,
            "cms": site.definition.name,
            "environment": site.environment.name,
            "for": goal.name if goal else None,
            "address": str(goal.address if goal else site.environment.address),
            "prefix": site.prefix,
            "parts": list(self._packing.parts),
            "tables": self._rows,
            "embedded": site.configuration.database if self._embedded else None,
            "sha256": self._digests,
        }

    def _readme(self) -> str:
        site, goal = self._site, self._packing.goal
        address = goal.address if goal else site.environment.address
        files = [part for part in self._packing.parts if part != "data"]
        lines = [
            f"{site.title or site.environment.name}",
            "",
            f"Packed {self._made[:16].replace('T', ' ')} from {site.environment.name}, for {address}",
            "",
        ]
        if self._says():
            lines += [f"It is settled for there: {'; '.join(self._says())}.", ""]
        number = 1
        if files:
            lines += [
                f"{number}. Copy what is in “{FILES}” into the folder that the web server serves. Hidden files, "
                "too.",
            ]
            number += 1
        if "data" in self._packing.parts and self._embedded:
            lines += [
                f"{number}. The database lies among the files, as {self._site.configuration.database}; name it "
                "in the site's own configuration."
            ]
        elif "data" in self._packing.parts:
            load = "mariadb --user=USER --password DATABASE"
            if self._packing.per_table:
                beside = f" {_HANGING}" if self._hanging else ""
                last = f" and then {_HANGING}" if beside else ""
                what = f"the files in “{_TABLES}” in any order{last}"
                load = f"cat {_TABLES}/*.sql{beside} | {load}"
            else:
                what, load = SQL, f"{load} < {SQL}"
            lines += [
                f"{number}. Make an empty database, and load {what} into it: with",
                f"     {load}",
                "   (or mysql), or in a web console, by “import”, as UTF-8.",
                f"{number + 1}. Name that database, its user and password in the site's own configuration, with "
                f"the table prefix “{site.prefix}”." if site.prefix else
                f"{number + 1}. Name that database, its user and password in the site's own configuration.",
            ]  # fmt: skip
        lines += [
            "",
            f"{MANIFEST} lists all files with their SHA-256. The configuration with its passwords is not in "
            "here.",
        ]
        return "\n".join(lines) + "\n"


def _to_be(site: ReadableSite, environment: Environment, prefix: str | None = None) -> ReadableSite:
    """An environment that has nothing yet, and need not be reached."""
    root = str(environment.root)
    tree = SnapshotTree(Contents(FolderBackend(Path())), (), {})
    return ReadableSite(
        environment=environment,
        definition=site.definition,
        configuration=dataclasses.replace(
            site.configuration,
            file=None,
            title="",
            addresses=(),
            prefix=site.prefix if prefix is None else prefix,
        ),
        database=SnapshotDatabase(
            facts=site.database.facts(),
            tables=(),
            attachments=(),
            views=(),
            stored=lambda table: iter(()),
        ),
        files=tree,
        seen=DigestCache(),
        place=SnapshotPath(tree, "", root, root),
    )


def _read(file: IO[bytes]) -> Iterator[bytes]:
    while block := file.read(1 << 18):
        yield block


def _below(entry: Entry) -> Entry:
    return entry._replace(path=f"{FILES}/{entry.path}")


def mapping_to(site: ReadableSite, goal: Environment) -> Mapping:
    """All addresses and roots of a site onto those of an environment that need not be reached for it."""
    addresses = [a for a in site.environment.addresses if a not in goal.addresses]
    for _, recorded in site.recorded_addresses():
        known = any(one.covers(recorded) for one in (*addresses, *goal.addresses))
        if not known:
            addresses.append(recorded)
    if goal.host is not None and not str(goal.root).startswith("/"):
        raise JobError(
            f"the root of {goal.name} is relative to an account's home: paths cannot be rewritten for it",
            f"write it as an absolute path in [environment.{goal.name}]",
        )
    return Mapping.build(
        addresses=addresses,
        address=goal.address,
        roots=site.roots,
        root=str(goal.root),
        bare_host=site.environment.bare_host,
    )
