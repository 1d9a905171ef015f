"""Everything that rows can be read from, each with a way to put something into it: for the contract of reading."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from msgspec.structs import replace

from connected import hosts
from vetrin.config import Host
from vetrin.database import ReadableDatabase
from vetrin.database.engines import engine_of
from vetrin.database.mysql import digest_worker
from vetrin.database.mysql.accounts import Credentials
from vetrin.database.mysql.database import MysqlDatabase
from vetrin.database.page_prints import PagePrints, PrintsThere
from vetrin.database.sqlite.database import SqliteDatabase
from vetrin.database.strips import Print
from vetrin.remote.helper_machine import HelperMachine
from vetrin.remote.ssh.connection import Lines
from vetrin.remote.ssh.helper_client import Helpers
from vetrin.remote.ssh.sqlite import HelperOpener
from vetrin.store import (
    FolderBackend,
    Hands,
    SnapshotDatabase,
    Store,
    StoredTable,
    TableWriter,
    written,
)

KINDS = (
    "sqlite", "sqlite by helper", "sqlite by php", "sqlite by copy", "sqlite stored",
    "mariadb", "mariadb by reading", "mariadb by reading elsewhere", "mariadb by ssh", "mariadb by ssh, read there", "mariadb by relay", "mariadb stored",
    "mysql", "mysql by relay", "mysql by relay's library", "mysql stored",
)  # fmt: skip
_PASSWORD = "p'a\\ss#$"


@dataclass
class Source:
    """A database to be filled with ``run``, and to be read with ``opened``."""

    kind: str
    run: Callable[..., list[Any]]
    _open: Callable[[], ReadableDatabase]

    @contextlib.contextmanager
    def opened(self, *statements: str) -> Iterator[ReadableDatabase]:
        if statements:
            self.run(*statements)
        database = self._open()
        try:
            yield database
        finally:
            database.close()


def stored(live: ReadableDatabase, folder: Path) -> SnapshotDatabase:
    """The rows of a database as a snapshot has them, with what hangs on them."""
    store = Store(FolderBackend(folder))
    tables = []
    for table in live.tables():
        with live.reading() as reader, Hands() as hands:
            writer = TableWriter(store.contents, hands)
            for records in reader.records(table):
                writer.add(records)
            lists, _ = store.contents.keep_blocks([written(writer.finish())])
        known = replace(table, rows=writer.rows)
        mixed = engine_of(live.engine).any_type
        last = live.last_given(table.name)
        tables.append(StoredTable(known, live.schema(table.name), tuple(lists), mixed, last))
    names, views = [table.name for table in live.tables()], live.views()

    def stretches(item: StoredTable) -> Iterator[bytes]:
        return (records for _, records in store.records(item))

    facts = replace(live.facts(), identity="stored")
    return SnapshotDatabase(facts, tables, live.attachments(names, views), views, stretches)


def _sqlite(
    request: pytest.FixtureRequest, kind: str, folder: Path
) -> tuple[Callable[..., list[Any]], Callable[[], ReadableDatabase]]:
    path = folder / "source.sqlite"

    def run(*statements: str) -> list[Any]:
        rows: list[Any] = []
        with contextlib.closing(sqlite3.connect(path, isolation_level=None)) as connection:
            for statement in statements:
                rows = connection.execute(statement).fetchall()
        return rows

    run("PRAGMA journal_mode = WAL", "CREATE TABLE start (a)", "DROP TABLE start")
    opener: Callable[[], Any] = lambda: None  # noqa: E731
    if " by " in kind:
        server = request.getfixturevalue("sftp_alone" if kind.endswith("copy") else "ssh")
        request.getfixturevalue("monkeypatch").setenv("HOME", str(server.home))
        request.addfinalizer(hosts.close)
        opener = hosts.at(Host(server.name), "source").sqlite_opener
        if kind.endswith("php"):
            lines = Lines()
            request.addfinalizer(lines.close)
            helpers = Helpers(lines.to(Host(server.name)), forms=["helper.php"])
            opener = lambda: HelperOpener(helpers, HelperMachine(helpers))  # noqa: E731
    return run, lambda: SqliteDatabase(path, read_only=True, opener=opener())


def _server(
    request: pytest.FixtureRequest, kind: str, folder: Path
) -> tuple[Callable[..., list[Any]], Callable[[], ReadableDatabase]]:
    server = request.getfixturevalue(f"{kind.partition(' ')[0]}_server")
    server.run("DROP DATABASE IF EXISTS read_it")
    server.create("read_it", "reader", _PASSWORD)
    credentials = Credentials("read_it", "reader", _PASSWORD, "127.0.0.1", server.port)
    dial = None
    if kind.endswith("library"):
        dial = request.getfixturevalue("relay_by_library").connect().dial
    if kind.endswith("relay"):
        dial = request.getfixturevalue("relay").connect().dial
    prints = PagePrints() if kind.endswith("reading") else None
    if kind.endswith("elsewhere"):
        prints = PagePrints(folder / "pages.sqlite")
        patched = request.getfixturevalue("monkeypatch")
        patched.setattr(digest_worker, "WORTH", 0)
        patched.setattr(digest_worker, "processors", lambda: 2)
        patched.setattr(digest_worker.DigestWorker, "_pays", True)
    if kind.endswith("there"):
        prints = PrintsThere()
        prints.learn("1-1", Print(1, b""))  # what is empty is not used
    if "ssh" in kind:
        ssh = request.getfixturevalue("ssh")
        request.getfixturevalue("monkeypatch").setenv("HOME", str(ssh.home))
        request.addfinalizer(hosts.close)
        dial = hosts.at(Host(ssh.name), "source").dial
    return (
        lambda *statements: list(server.run(*statements, database="read_it")),
        lambda: MysqlDatabase(credentials, read_only=True, dial=dial, prints=prints),
    )


def source_of(request: pytest.FixtureRequest, kind: str, folder: Path) -> Source:
    """One of ``KINDS``, empty."""
    run, open_it = (
        _sqlite(request, kind, folder)
        if kind.startswith("sqlite")
        else _server(request, kind, folder)
    )
    if not kind.endswith("stored"):
        return Source(kind, run, open_it)

    def open_stored() -> ReadableDatabase:
        live = open_it()
        try:
            return stored(live, folder / "store")
        finally:
            live.close()

    return Source(kind, run, open_stored)


def table_of(database: ReadableDatabase, name: str) -> Any:
    return next(table for table in database.tables() if table.name == name)


def rows_of(database: ReadableDatabase, name: str, **choice: Any) -> list[list[Any]]:
    """A table's rows as Python values: texts, whole numbers, None. What an engine numbers rows by is left out."""
    table = table_of(database, name)
    places = [at for at, column in enumerate(table.columns) if column.name != "rowid"]
    with database.reading() as reader:
        batches = reader.rows(table, **choice)
        return [[_plain(row[at]) for at in places] for batch in batches for row in batch.each()]


def _plain(cell: Any) -> Any:
    if not isinstance(cell, bytes):
        return cell
    text = cell.decode()
    return int(text) if text.lstrip("-").isdigit() else text


def by_hand(rows: Sequence[Sequence[Any]]) -> str:
    """Rows as the values of an INSERT, for any engine."""

    def written_down(value: Any) -> str:
        if value is None:
            return "NULL"
        return str(value) if isinstance(value, int) else "'" + value.replace("'", "''") + "'"

    return ", ".join(f"({', '.join(map(written_down, row))})" for row in rows)
