"""SQLite: the embedded engine.

Statements that change the schema are transactional here, so the swap with its indexes, triggers
and views is one transaction. Text is carried as the bytes that are stored, valid UTF-8 or not.
"""

from __future__ import annotations

import contextlib
import hashlib
import re
import sqlite3
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from pathlib import Path, PurePosixPath
from typing import Any, Protocol

from ...errors import DatabaseError, DatabaseUnreachable, RowsDiffer, RowsMoved, Unsuitable
from ...spot import Spot, spot_here
from ..base import (
    HIDDEN,
    Adapted,
    Attachment,
    Column,
    DigestsOf,
    Exchange,
    Facts,
    ForeignKey,
    Patch,
    ReadableDatabase,
    Recount,
    Script,
    Table,
    WantedDigests,
    must_be_hidden,
    pending,
)
from ..batch import BATCH_BYTES, Batch, Cell
from ..conditions import Replacement, Where
from ..key_ranges import KeyRange, KeyRanges
from ..pages import digests_by_reading
from ..questions import Question
from ..row_codec import ReaderOfCells, Text
from ..rows_aside import RowsAside
from ..sql import Statement
from ..staging_edits import HiddenEditing
from ..statements import SQLITE, doing
from .asking import DIALECT, Asking, about_index, about_table, several
from .declared_keys import keys_of, questions_of_keys
from .incoming_sql import fit, forbid, unfit_table
from .names import quote

_NAME = r'(?:"(?:[^"]|"")*"|`(?:[^`]|``)*`|\[[^\]]*\]|\'(?:[^\']|\'\')*\'|[^\s(]+)'
_CREATE = re.compile(rf"\s*CREATE\s+TABLE\s+(?:IF\s+NOT\s+EXISTS\s+)?{_NAME}", re.IGNORECASE)
# Full-text tables that keep their own rows are read, filled and renamed as any table is.
_CREATE_FULLTEXT = re.compile(
    rf"\s*CREATE\s+VIRTUAL\s+TABLE\s+(?:IF\s+NOT\s+EXISTS\s+)?{_NAME}(?=\s+USING\s+fts[345]\b(?!.*\bcontent\s*=))",
    re.IGNORECASE | re.DOTALL,
)
_ROWID = "rowid"
# A virtual table for full-text search that takes its words from an ordinary table.
_SEARCH = re.compile(
    r"\s*CREATE\s+VIRTUAL\s+TABLE\s.*\bUSING\s+fts[345]\s*\(.*\bcontent\s*=\s*(?P<q>['\"`]?)(?P<table>[^'\"`,)]+)(?P=q)",
    re.IGNORECASE | re.DOTALL,
)


# Renaming a table must not edit the text of triggers, views and foreign keys: they speak of the live names,
# and those stay.
_SESSION = ("PRAGMA foreign_keys = OFF", "PRAGMA legacy_alter_table = ON")


_MASTER = "SELECT name, tbl_name, coalesce(sql, ''), type FROM sqlite_master ORDER BY rowid"
_FACTS = ("SELECT sqlite_version()", "PRAGMA encoding", "PRAGMA journal_mode")
_PAGES = ("PRAGMA page_count", "PRAGMA page_size")
_TOGETHER = 200  # digests that are asked for at once


class _Reader(ReaderOfCells):
    def __init__(self, connection: Any) -> None:
        self._connection = connection

    def rows(
        self,
        table: Table,
        batch_bytes: int = BATCH_BYTES,
        *,
        leave: Where | None = None,
        replacements: Mapping[str, Replacement] | None = None,
        key_range: KeyRange | KeyRanges | None = None,
    ) -> Iterator[Batch]:
        sql, values = _rows_of(table, leave, replacements, key_range)
        order = ", ".join(quote(name) if name != _ROWID else _ROWID for name in table.key)
        if order:
            sql += f" ORDER BY {order}"
        width = len(table.columns)
        cells: list[Cell] = []
        size = 0
        with _said(table.name):
            cursor = self._connection.execute(sql, values)
            try:
                for row in cursor:
                    cells += row
                    size += sum(len(c) if isinstance(c, bytes) else 8 for c in row)
                    if size >= batch_bytes:
                        yield Batch(width, cells, size, mixed=True)
                        cells, size = [], 0
            finally:
                cursor.close()
        if cells:
            yield Batch(width, cells, size, mixed=True)

    def digests(
        self,
        table: Table,
        ranges: Sequence[KeyRange],
        *,
        leave: Where | None = None,
        replacements: Mapping[str, Replacement] | None = None,
        known: Sequence[str] = (),
        aside: RowsAside | None = None,
    ) -> list[str]:
        if self._makes_digests:
            wanted = WantedDigests(table, ranges, leave, replacements)
            return self._made([wanted])[0]
        return digests_by_reading(
            lambda key_range: self.rows(
                table, leave=leave, replacements=replacements, key_range=key_range
            ),
            ranges,
            known,
            aside,
        )

    def digests_of(self, wanted: Iterable[WantedDigests]) -> DigestsOf:
        if not self._makes_digests:
            yield from super().digests_of(wanted)
            return
        # Asked together until they are many: each question takes its way there and back.
        group: list[WantedDigests] = []
        for one in wanted:
            group.append(one)
            if sum(len(item.ranges) for item in group) >= _TOGETHER:
                yield from self._made(group)
                group = []
        if group:
            yield from self._made(group)

    @property
    def _makes_digests(self) -> bool:
        return getattr(self._connection, "makes_digests", False)

    def _made(self, wanted: Sequence[WantedDigests]) -> list[list[str]]:
        """The digests that whoever opened the file where it is makes there."""
        asked = [
            _rows_of(one.table, one.leave, one.replacements, key_range)
            for one in wanted
            for key_range in one.ranges
        ]
        with _said(wanted[0].table.name if len(wanted) == 1 else "several tables"):
            made = iter(self._connection.digests(asked))
        return [[next(made) for _ in one.ranges] for one in wanted]

    def count(self, table: str, where: Where | None = None) -> int:
        sql, values = DIALECT.count(table, where)
        with _said(table):
            return int(self._connection.execute(sql, values).fetchone()[0])


def _rows_of(
    table: Table,
    leave: Where | None,
    replacements: Mapping[str, Replacement] | None,
    key_range: KeyRange | KeyRanges | None,
) -> Statement:
    reads = {c.name: quote(c.name) if c.name != _ROWID else _ROWID for c in table.columns}
    return DIALECT.rows(table.name, reads, leave, replacements, _range(table, key_range))


def _range(table: Table, key_range: KeyRange | KeyRanges | None) -> str:
    names = [name if name == _ROWID else quote(name) for name in table.key]
    return key_range.sql(names) if key_range is not None else ""


# How an opener whose file lies elsewhere begins its message once it cannot be reached any more.
CONNECTION_LOST = "the connection to the database was lost"


def was_lost(error: BaseException) -> bool:
    """True for an error that says that the way to a file on another machine is lost."""
    return isinstance(error, sqlite3.OperationalError) and CONNECTION_LOST in str(error)


@contextlib.contextmanager
def _said(about: str) -> Iterator[None]:
    try:
        yield
    except sqlite3.Error as error:
        raise DatabaseError(f"{about}: {error}") from error


class Opener(Protocol):
    """How a database's file is got at; paths are absolute."""

    def exists(self, path: str) -> bool:
        """True where there is such a file."""

    def identity(self, path: str) -> str:
        """The same for two names of one file."""

    def spot(self, path: str) -> Spot | None:
        """Where the file really is; None where there is none."""

    def connect(self, path: str, mode: str, *, bulk: bool = False) -> Any:
        """A connection as sqlite3 makes it; ``mode`` is ``ro``, ``rw`` or ``rwc``, ``bulk`` says that many rows will
        come or go.

        Raises:
            sqlite3.Error: it could not be opened.
        """

    def absolute(self, path: str) -> str:
        """The path as a process on the machine of the file finds it."""

    def make_folder(self, path: str) -> None:
        """Make the folder that the file will lie in."""

    @property
    def unwritable(self) -> str:
        """Why nothing can be written through it; empty where it can."""


class LocalOpener:
    """Files on this machine."""

    unwritable = ""

    def exists(self, path: str) -> bool:
        return Path(path).is_file()

    def identity(self, path: str) -> str:
        return str(Path(path).resolve())

    def spot(self, path: str) -> Spot | None:
        return spot_here(path)

    def absolute(self, path: str) -> str:
        return str(Path(path).resolve())

    def connect(self, path: str, mode: str, *, bulk: bool = False) -> Any:
        found = sqlite3.connect(
            f"{Path(path).resolve().as_uri()}?mode={mode}",
            uri=True, isolation_level=None, timeout=30, check_same_thread=False,
        )  # fmt: skip
        forbid(found)
        return found

    def make_folder(self, path: str) -> None:
        Path(path).parent.mkdir(parents=True, exist_ok=True)


class SqliteDatabase(HiddenEditing):
    """A SQLite file, here or behind another ``opener``; opened for writing unless ``read_only``. What is known to be
    asked of one on a host goes there together.

    With ``may_be_missing``, a file that is not there is an empty database until ``create``.

    Raises:
        DatabaseUnreachable: there is no such file, or it is no database.
    """

    engine = "sqlite"
    prints = None
    _dialect = DIALECT

    def __init__(
        self,
        path: str | Path,
        *,
        read_only: bool = False,
        may_be_missing: bool = False,
        opener: Opener | None = None,
    ) -> None:
        self._path = PurePosixPath(path)
        self._asking = Asking(self._path.name, lambda: self._connection)
        self._asked = self._asking.asked
        self._opener = opener or LocalOpener()
        self.missing = not self._opener.exists(str(path))
        if self.missing and not may_be_missing:
            raise DatabaseUnreachable(
                f"there is no database file {path}", "check the file's name in the site's settings"
            )
        self._mode = "ro" if read_only else "rw"
        self._connection = self._connect()
        try:
            self._connection.execute("SELECT count(*) FROM sqlite_master").fetchone()
        except sqlite3.Error as error:
            raise DatabaseUnreachable(f"{path} is no readable database: {error}") from error

    @property
    def unwritable(self) -> str:
        return self._opener.unwritable

    def _connect(self, *, bulk: bool = False) -> Any:
        try:
            if self.missing:
                connection = sqlite3.connect(
                    ":memory:", isolation_level=None, check_same_thread=False
                )
            else:
                # What is filled goes through the connection that asks.
                bulk = bulk or self._mode != "ro"
                connection = self._opener.connect(str(self._path), self._mode, bulk=bulk)
        except sqlite3.Error as error:
            raise DatabaseUnreachable(f"{self._path}: {error}") from error
        connection.text_factory = Text
        for answer in several(connection, [(sql, []) for sql in _SESSION]):
            if isinstance(answer, sqlite3.Error):
                raise answer
        return connection

    def create(self) -> None:
        self._opener.make_folder(str(self._path))
        self._connection.close()
        self._mode, self.missing = "rwc", False
        self._connection = self._connect()
        with _said(self._path.name):
            # A file comes into being with its first table.
            self._connection.execute("VACUUM")

    def close(self) -> None:
        self._connection.close()

    def looking(self) -> AbstractContextManager[None]:
        return self._asking.looking()

    def ahead(self, questions: Iterable[Question]) -> None:
        self._asking.ahead(questions)

    def _one(self, sql: str) -> Any:
        value = self._asked(sql)[0][0]
        return value.decode("utf-8", "replace") if isinstance(value, bytes) else value

    def is_same(self, other: ReadableDatabase) -> bool:
        if not isinstance(other, SqliteDatabase):
            return False
        mine, theirs = self._opener.spot(str(self._path)), other._opener.spot(str(other._path))
        return mine is not None and theirs is not None and mine.is_same(theirs)

    def quote(self, name: str) -> str:
        return quote(name)

    def facts(self) -> Facts:
        with self.looking(), _said(self._path.name):
            self._asking.together((sql, []) for sql in _FACTS)
            return Facts(
                engine=self.engine,
                product="SQLite",
                version=self._one(_FACTS[0]),
                charset=self._one(_FACTS[1]),
                max_statement=None,
                bulk_load=None,
                where=str(self._path),
                identity=self._opener.identity(str(self._path)),
                details={"journal mode": self._one(_FACTS[2])},
            )

    def _master(self, kind: str) -> list[tuple[str, str, str]]:
        rows = ([bytes(cell).decode() for cell in row] for row in self._asked(_MASTER))
        return [(name, table, sql) for name, table, sql, what in rows if what == kind]

    def tables(self) -> list[Table]:
        with self.looking(), _said(self._path.name):
            shadows = self._shadows()
            found = {
                name: sql
                for name, _, sql in self._master("table")
                if not name.startswith(("sqlite_", HIDDEN))
                and name not in shadows
                and (_CREATE.match(sql) or _CREATE_FULLTEXT.match(sql))
            }
            self._asking.together((sql, []) for name in found for sql in about_table(name))
            if self._asking.remembers:
                indexes = (row for name in found for row in self._asked(about_table(name)[1]))
                self._asking.together((about_index(row), []) for row in indexes if row[2])
            return [self._table(name, sql) for name, sql in found.items()]

    def broken_views(self) -> dict[str, str]:
        return {}

    def foreign_keys(self) -> list[ForeignKey]:
        with self.looking(), _said(self._path.name):
            names = [name for name, _, _ in self._master("table")]
            names = [name for name in names if not name.startswith(("sqlite_", HIDDEN))]
            self._asking.together((sql, []) for name in names for sql in questions_of_keys(name))
            return [key for name in names for key in keys_of(self._asked, name)]

    def broken(self) -> dict[str, str]:
        return {}

    def _shadows(self) -> set[str]:
        """The tables in which virtual tables keep what is theirs."""
        names = [name for name, _, _ in self._master("table")]
        virtual = [
            name
            for name, _, sql in self._master("table")
            if sql.lstrip()[:14].upper() == "CREATE VIRTUAL"
        ]
        return {
            name for name in names for one in virtual if name.startswith(f"{one}_") and name != one
        }

    def _table(self, name: str, sql: str) -> Table:
        columns: list[Column] = []
        keyed: list[tuple[int, str]] = []
        of_columns, of_indexes, of_rows, of_size = about_table(name)
        for _, raw, kind, _, _, key, hidden in self._asked(of_columns):
            column = bytes(raw).decode()
            if key:
                keyed.append((key, column))
            if hidden == 0:
                columns.append(Column(column, bytes(kind).decode().lower(), True))
        keyed.sort()
        key_columns = tuple(column for _, column in keyed)
        fixed = set(key_columns)
        for index in self._asked(of_indexes):
            if index[2]:  # unique
                info = self._asked(about_index(index))
                fixed |= {bytes(row[2]).decode() for row in info if row[2] is not None}
        without_rowid = re.search(r"\)[^()]*\bWITHOUT\s+ROWID\b[^()]*$", sql, re.IGNORECASE)
        names = {column.name.lower() for column in columns}
        if not key_columns and not without_rowid and _ROWID not in names:
            columns.insert(0, Column(_ROWID, "integer", False))
            key_columns = (_ROWID,)
        rows = self._one(of_rows)
        try:
            size = self._one(of_size)
        except sqlite3.Error:  # dbstat is an option of the library's build
            size = 0
        return Table(
            name=name,
            columns=tuple(columns),
            key=key_columns,
            fixed=frozenset(fixed),
            rows=rows,
            size=size,
        )

    def size(self) -> int:
        with self.looking(), _said(self._path.name):
            self._asking.together((sql, []) for sql in _PAGES)
            return int(self._one(_PAGES[0])) * int(self._one(_PAGES[1]))

    @contextlib.contextmanager
    def reading(self) -> Iterator[_Reader]:
        connection = self._connect(bulk=True)
        try:
            with _said(self._path.name):
                connection.execute("BEGIN")
                connection.execute("SELECT count(*) FROM sqlite_master").fetchone()
            yield _Reader(connection)
        finally:
            connection.close()

    def count(self, table: str, where: Where | None = None) -> int:
        ((rows,),) = self._rows(table, *DIALECT.count(table, where))
        return int(rows)

    def select(
        self,
        table: str,
        columns: Sequence[str],
        *,
        where: Where | None = None,
        order: Sequence[str] = (),
        descending: bool = False,
        limit: int | None = None,
    ) -> list[tuple[Any, ...]]:
        return self._rows(table, *DIALECT.select(table, columns, where, order, descending, limit))

    def groups(
        self, table: str, columns: Sequence[str], where: Where | None = None
    ) -> list[tuple[Any, ...]]:
        return self._rows(table, *DIALECT.groups(table, columns, where))

    def _rows(self, about: str, sql: str, values: Sequence[object]) -> list[tuple[Any, ...]]:
        with _said(about):
            return [
                tuple(c.decode("utf-8", "replace") if isinstance(c, Text) else c for c in row)
                for row in self._asked(sql, values)
            ]

    def longest(self, table: Table) -> tuple[str, int]:
        names = [column.name for column in table.columns]
        most = ", ".join(f"coalesce(max(length(CAST({quote(n)} AS BLOB))), 0)" for n in names)
        (row,) = self._rows(table.name, f"SELECT {most} FROM {quote(table.name)}", ())
        size = max(row)
        return names[row.index(size)], int(size)

    def adapt(self, table: Table, schema: str, source: Facts) -> Adapted:
        if why := unfit_table(schema):
            raise Unsuitable(why)
        return Adapted(schema)

    def adapt_attachment(self, item: Attachment, source: Facts) -> Attachment:
        return fit(item)

    def doing(self, item: Attachment) -> str:
        return doing(item, SQLITE)

    def schema(self, table: str) -> str:
        with _said(table):
            for name, _, sql in self._master("table"):
                if name == table:
                    return sql
        raise DatabaseError(f"there is no table {table}")

    def events(self) -> list[str]:
        return []

    def views(self) -> list[str]:
        with _said(self._path.name):
            return [name for name, _, _ in self._master("view")]

    def attachments(self, tables: Iterable[str], views: Iterable[str]) -> list[Attachment]:
        wanted, wanted_views = set(tables), set(views)
        found: list[Attachment] = []
        with _said(self._path.name):
            for name, table, sql in self._master("index"):
                if table in wanted and sql:
                    found.append(Attachment("index", name, table, sql))
            for name, _, sql in self._master("table"):
                match = _SEARCH.match(sql)
                if match and match["table"] in wanted:
                    found.append(Attachment("search", name, match["table"], sql))
            for name, _, sql in self._master("view"):
                if name in wanted_views:
                    found.append(Attachment("view", name, name, sql))
            for name, table, sql in self._master("trigger"):
                if table in wanted or table in wanted_views:
                    found.append(Attachment("trigger", name, table, sql))
        return found

    def routines(self) -> list[Attachment]:
        return []

    takes_routines = False

    def hidden_tables(self) -> list[str]:
        with _said(self._path.name):
            shadows = self._shadows()
            return [
                name
                for name, _, _ in self._master("table")
                if name.startswith(HIDDEN) and name not in shadows
            ]

    def lay_out(
        self, hidden: str, table: Table, schema: str, *, indexes_later: bool = False
    ) -> None:
        if _CREATE_FULLTEXT.match(schema):
            sql = _CREATE_FULLTEXT.sub(
                lambda _: f"CREATE VIRTUAL TABLE {quote(hidden)}", schema, count=1
            )
        else:
            sql = _CREATE.sub(lambda _: f"CREATE TABLE {quote(hidden)}", schema, count=1)
        if why := unfit_table(schema):
            raise Unsuitable(f"{table.name}: {why}")
        with _said(table.name):
            self._connection.execute(f"DROP TABLE IF EXISTS {quote(hidden)}")
            self._connection.execute(sql)

    def fill(
        self,
        hidden: str,
        table: Table,
        batches: Iterable[Batch],
        moved: Callable[[int, int], None] | None = None,
        *,
        warned: Callable[[str], None] | None = None,
    ) -> int:
        names = ", ".join(quote(c.name) if c.name != _ROWID else _ROWID for c in table.columns)
        sql = f"INSERT INTO {quote(hidden)} ({names}) VALUES ({{}})"
        plain = sql.format(", ".join("?" * len(table.columns)))
        sent = 0
        with _said(table.name):
            before = self._one(f"SELECT count(*) FROM {quote(hidden)}")
            for batch in batches:
                self._connection.execute("BEGIN IMMEDIATE")
                try:
                    self._write(batch, sql, plain)
                except BaseException:
                    self._connection.execute("ROLLBACK")
                    raise
                self._connection.execute("COMMIT")
                sent += batch.rows
                if moved is not None:
                    moved(batch.rows, batch.size)
            there = self._one(f"SELECT count(*) FROM {quote(hidden)}") - before
        if there != sent:
            raise RowsDiffer(f"{table.name}: {sent} rows were sent, {there} arrived")
        return sent

    def _write(self, batch: Batch, sql: str, plain: str) -> None:
        try:
            bound = [
                [str(c, "utf-8") if isinstance(c, Text) else c for c in row] for row in batch.each()
            ]
        except UnicodeDecodeError:
            # Text that is no UTF-8 can only be bound as bytes and turned into text by the engine.
            for row in batch.each():
                marks = ", ".join("CAST(? AS TEXT)" if isinstance(c, Text) else "?" for c in row)
                values = [bytes(c) if isinstance(c, bytes) else c for c in row]
                self._connection.execute(sql.format(marks), values)
        else:
            self._connection.executemany(plain, bound)

    def indexed(self) -> None:
        """Nothing: indexes are attachments here."""

    def finish(self, hidden: str, source: ReadableDatabase, table: Table, schema: str = "") -> None:
        if "AUTOINCREMENT" not in source.schema(table.name).upper():
            return
        given = source.last_given(table.name)
        with _said(table.name):
            self._set_given(hidden, given)

    def _set_given(self, table: str, given: int | None) -> None:
        self._connection.execute("DELETE FROM sqlite_sequence WHERE name = ?", (table,))
        if given is not None:
            self._connection.execute("INSERT INTO sqlite_sequence VALUES (?, ?)", (table, given))

    def last_given(self, table: str) -> int | None:
        with _said(table):
            if not self._one("SELECT count(*) FROM sqlite_master WHERE name = 'sqlite_sequence'"):
                return None
            row = self._connection.execute(
                "SELECT seq FROM sqlite_sequence WHERE name = ?", (table,)
            ).fetchone()
            return None if row is None else int(row[0])

    def swap(
        self,
        exchanges: Sequence[Exchange],
        detach: Sequence[Attachment],
        attach: Sequence[Attachment],
    ) -> list[str]:
        execute = self._connection.execute
        with _said("the swap of the tables"):
            execute("BEGIN IMMEDIATE")
            try:
                there = {name for name, _, _ in self._master("table")}
                for sql in _swapping(exchanges, detach, attach, there):
                    execute(sql)
            except BaseException:
                execute("ROLLBACK")
                raise
            execute("COMMIT")
        return []

    def script(
        self,
        exchanges: Sequence[Exchange],
        detach: Sequence[Attachment],
        attach: Sequence[Attachment],
    ) -> Script | None:
        with _said(self._path.name):
            there = {name for name, _, _ in self._master("table")}
        back = [Exchange(e.live, e.outgoing, e.incoming) for e in exchanges]
        then = (there | {e.outgoing for e in exchanges if e.outgoing}) - {
            e.incoming for e in exchanges
        }
        then |= {e.live for e in exchanges if e.incoming is not None}
        forth = _swapping(exchanges, detach, attach, there)
        undone = _swapping(back, attach, detach, {str(name) for name in then})
        return Script(
            {
                "do": "sqlite",
                "path": self._opener.absolute(str(self._path)),
                "forth": [*_SESSION, "BEGIN IMMEDIATE", *forth, "COMMIT"],
                "back": [*_SESSION, "BEGIN IMMEDIATE", *undone, "COMMIT"],
            }
        )

    def patch(
        self,
        patches: Sequence[Patch],
        recounts: Sequence[Recount] = (),
        *,
        expected: int | None = None,
    ) -> int:
        changed = 0
        with _said("the change of the rows"):
            self._connection.execute("BEGIN IMMEDIATE")
            try:
                for patch in patches:
                    for sql in _patching(patch):
                        changed += self._connection.execute(sql).rowcount
                    if patch.given is not None:
                        self._set_given(patch.table, patch.given)
                if expected is not None and changed != expected:
                    raise RowsMoved(expected - changed)
                for recount in recounts:
                    self._connection.execute(*self._dialect.recount(recount))
            except BaseException:
                self._connection.execute("ROLLBACK")
                raise
            self._connection.execute("COMMIT")
        return changed

    def definitions(self, tables: Iterable[str]) -> dict[str, str]:
        wanted = set(tables)
        found: dict[str, Any] = {}
        with _said(self._path.name):
            for kind in ("table", "index"):
                for name, table, sql in self._master(kind):
                    if table in wanted:
                        # A table is renamed in its text, too.
                        text = _CREATE.sub("", sql) if kind == "table" else f"{name} {sql}"
                        found.setdefault(table, hashlib.sha256()).update(text.encode())
        return {table: digest.hexdigest() for table, digest in found.items()}

    def remove_range(self, hidden: str, table: Table, key_range: KeyRange) -> int:
        must_be_hidden(hidden)
        where = _range(table, key_range)
        return self._execute(hidden, f"DELETE FROM {quote(hidden)} WHERE {where}", ())

    def _execute(self, about: str, sql: str, values: Sequence[object]) -> int:
        with _said(about):
            return int(self._connection.execute(sql, values).rowcount)

    def drop(self, hidden: Iterable[str]) -> None:
        for name in hidden:
            must_be_hidden(name)
            with _said(name):
                self._connection.execute(f"DROP TABLE IF EXISTS {quote(name)}")


def _swapping(
    exchanges: Sequence[Exchange],
    detach: Sequence[Attachment],
    attach: Sequence[Attachment],
    there: set[str],
) -> list[str]:
    """The statements of a swap, all within one transaction."""
    found: list[str] = []
    # Triggers first: they may write into an index for words.
    for item in sorted((*detach, *attach), key=lambda item: item.kind != "trigger"):
        if item.kind != "constraint":
            kind = "TABLE" if item.kind == "search" else item.kind.upper()
            found.append(f"DROP {kind} IF EXISTS {quote(item.name)}")
    for exchange in pending(exchanges, there):
        live = quote(exchange.live)
        if exchange.outgoing is not None and exchange.live in there:
            found.append(f"ALTER TABLE {live} RENAME TO {quote(exchange.outgoing)}")
        if exchange.incoming is not None:
            found.append(f"ALTER TABLE {quote(exchange.incoming)} RENAME TO {live}")
    for item in attach:
        found.append(item.sql)
        if item.kind == "search":
            name = quote(item.name)
            found.append(f"INSERT INTO {name} ({name}) VALUES ('rebuild')")
    return found


def _patching(patch: Patch) -> list[str]:
    """The statements of a patch: what goes makes room for what comes."""

    def name(column: str) -> str:
        return column if column == _ROWID else quote(column)

    def there(column: str) -> str:
        return "_vetrin_r" if column == _ROWID else quote(column)

    def rows(table: str) -> str:
        # What UPDATE joins with has no rowid but one that is selected under another name.
        return f"(SELECT rowid AS _vetrin_r, * FROM {quote(table)})" if by_rowid else quote(table)

    def same(one: str, other: str) -> str:
        columns = (there if side.startswith("_vetrin_") else name for side in (one, other))
        first, second = columns
        return " AND ".join(f"{one}.{first(key)} = {other}.{second(key)}" for key in patch.key)

    by_rowid = _ROWID in patch.key
    live, before, after = quote(patch.table), rows(patch.before), rows(patch.after)
    unchanged = "".join(f" AND {live}.{name(c)} IS _vetrin_b.{there(c)}" for c in patch.compared)
    update = (
        f"UPDATE {live} SET {', '.join(f'{name(c)} = _vetrin_a.{there(c)}' for c in patch.columns)}"
        f" FROM {after} _vetrin_a, {before} _vetrin_b"
        f" WHERE {same(live, '_vetrin_a')} AND {same(live, '_vetrin_b')}{unchanged}"
    )
    if not patch.whole:
        return [update]
    names = [*patch.key, *patch.columns]
    return [
        f"DELETE FROM {live} WHERE ({', '.join(map(name, patch.key))}) IN"
        f" (SELECT {', '.join(f'{live}.{name(key)}' for key in patch.key)} FROM {before} _vetrin_b"
        f" JOIN {live} ON {same(live, '_vetrin_b')} WHERE NOT EXISTS"
        f" (SELECT 1 FROM {after} _vetrin_a WHERE {same('_vetrin_a', '_vetrin_b')}){unchanged})",
        update,
        f"INSERT INTO {live} ({', '.join(map(name, names))})"
        f" SELECT {', '.join(f'_vetrin_a.{there(n)}' for n in names)} FROM {after} _vetrin_a"
        f" WHERE NOT EXISTS (SELECT 1 FROM {before} _vetrin_b WHERE {same('_vetrin_a', '_vetrin_b')})"
        f" AND NOT EXISTS (SELECT 1 FROM {live} WHERE {same(live, '_vetrin_a')})"
        + (" ON CONFLICT DO NOTHING" if patch.yields else ""),
    ]
