"""MariaDB and MySQL.

Rows are read in the text protocol and written with ``LOAD DATA LOCAL`` where the server takes it,
else with INSERT. Two connections: one for statements (utf8mb4), one for rows (binary, so that no
character set is converted). Foreign keys, triggers and views carry names that are unique in the
database, so they are attachments: off before, on after the swap.
"""

from __future__ import annotations

import contextlib
import hashlib
import re
import secrets
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from typing import Any

import pymysql

from ...errors import DatabaseError, DatabaseUnreachable, RowsDiffer, Unsuitable
from ..base import (
    HIDDEN,
    Adapted,
    Attachment,
    Batch,
    Column,
    Exchange,
    Facts,
    ForeignKey,
    Patch,
    ReadableDatabase,
    Script,
    Table,
    must_be_hidden,
    pending,
)
from ..conditions import Where
from ..key_ranges import NO_ROWS, KeyRange, digest_of_rows, joint_digest
from ..questions import Counting, Defining, Question
from ..staging_edits import HiddenEditing
from ..statements import doing
from .accounts import Credentials, creating_statements, may_create, may_make_routines, told
from .columns import WIDE_CHARSETS, quote, read_column
from .connect import SCANS, WORKS, Dial, connect, error_code, said
from .dependents import (
    EVENTS,
    FOREIGN_KEY,
    LACKING,
    VIEWS,
    Hanging,
    Item,
    create_text,
    settling,
    showing,
)
from .incoming_sql import fit, unfit_table
from .reader import DIALECT, MysqlReader, range_condition
from .row_text import LOAD_OPTIONS, insert_statements, load_block
from .schema.translate import Server, adapt_attachment, adapt_schema
from .sequences import without_draws
from .wire import Wire

_NO_DATABASE = (1049, 1044)
_NO_ACCOUNT = 1045
_INSERT_BYTES = 1 << 20
_CLIENT_ERRORS = 2000  # from here on, errors are those of the connection
_IN_USE, _STATEMENTS_LOGGED = 1205, 1665
# All that makes two tables alike but for their rows, in an order that holds.
DEFINITIONS = (
    "SELECT table_name, 0, ordinal_position, column_name, column_type, is_nullable, column_default,"
    " collation_name, extra, column_comment, generation_expression"
    " FROM information_schema.columns WHERE table_schema = DATABASE()"
    " UNION ALL SELECT table_name, 1, seq_in_index, index_name, column_name, non_unique, sub_part, collation,"
    " index_type, index_comment, NULL FROM information_schema.statistics WHERE table_schema = DATABASE()"
    " UNION ALL SELECT table_name, 2, 0, engine, row_format, table_collation, table_comment, create_options,"
    " NULL, NULL, NULL FROM information_schema.tables WHERE table_schema = DATABASE()"
    " ORDER BY 1, 2, 4, 3"
)
# For so many seconds a swap waits for a table in use, while all others wait for it.
_PATIENT = {"sql": "SET lock_wait_timeout = 30"}


_MINE = "WHERE table_schema = DATABASE()"
_COLUMNS = (
    "SELECT table_name, column_name, data_type, column_type, extra, character_set_name"
    f" FROM information_schema.columns {_MINE} ORDER BY table_name, ordinal_position"
)
_KEYS = (
    "SELECT table_name, index_name, column_name, non_unique"
    f" FROM information_schema.statistics {_MINE} ORDER BY table_name, index_name, seq_in_index"
)
_TABLES = (
    "SELECT table_name, table_type, engine, table_rows, data_length + index_length"
    f" FROM information_schema.tables {_MINE} AND table_type <> 'VIEW' ORDER BY table_name"
)
_BROKEN = (
    "SELECT table_name, table_comment FROM information_schema.tables"
    # It opens them where their rows are asked for, and only then.
    " WHERE table_schema = DATABASE() AND table_type = 'BASE TABLE' AND engine IS NULL"
    " AND table_rows IS NULL ORDER BY table_name"
)
_FACTS = (
    "SELECT @@version, @@version_comment, @@max_allowed_packet, @@local_infile,"
    " @@lower_case_table_names, @@character_set_database, @@collation_database, CURRENT_USER(),"
    " CONCAT_WS('|', @@hostname, @@port, @@datadir, DATABASE())"
)
_ENGINES = "SELECT engine FROM information_schema.engines WHERE support IN ('YES', 'DEFAULT')"
_COLLATIONS = "SELECT collation_name FROM information_schema.collations"
_WHOLE_COLLATIONS = (
    "SELECT full_collation_name FROM information_schema.collation_character_set_applicability"
)


class MysqlDatabase(HiddenEditing):
    """A database on a MariaDB or MySQL server.

    Raises:
        DatabaseUnreachable: no server there, or it refuses the account or the name.
    """

    engine = "mysql"
    unwritable = ""
    _dialect = DIALECT

    def __init__(
        self,
        credentials: Credentials,
        *,
        read_only: bool = False,
        bulk_load: bool = True,
        may_be_missing: bool = False,
        creator: Credentials | None = None,
        dial: Dial | None = None,
    ) -> None:
        self._dial = dial
        self._credentials = credentials
        self._read_only = read_only
        self._bulk_load = bulk_load
        self._answers: dict[str, list[Any]] | None = None  # while it is looked at
        self._creator = creator
        self.missing = False
        try:
            self._control = self._connect("utf8mb4")
        except DatabaseUnreachable as error:
            if not may_be_missing or error.number not in (*_NO_DATABASE, _NO_ACCOUNT):
                raise
            self._look_around(error)
        self._wire: Wire | None = None

    def _look_around(self, error: DatabaseUnreachable) -> None:
        """Connect without a database, as the account that may make one."""
        account = self._creator or self._credentials
        if error.number == _NO_ACCOUNT and self._creator is None:
            raise DatabaseUnreachable(
                str(error),
                f"{error.remedy}; where both are still to be made:\n{told(self._credentials)}",
            ) from error
        self._control = self._connect("utf8mb4", replace(account, name=""))
        there = self._rows(
            account.where,
            "SELECT 1 FROM information_schema.schemata WHERE schema_name = %s",
            [self._credentials.name],
        )
        if there and error.number != _NO_ACCOUNT:
            raise error
        grants = self._rows(account.where, "SHOW GRANTS")
        if not may_create((str(row[0]) for row in grants), self._credentials.name):
            raise DatabaseUnreachable(
                f"{account.where}: there is no database {self._credentials.name}, and the account "
                f"{account.user} may not make it",
                f"give these statements to who may:\n{told(self._credentials)}",
            ) from error
        self.missing = True

    def create(self) -> None:
        c = self._credentials
        statements = creating_statements(c, c.password)
        for statement in statements if self._creator is not None else statements[:1]:
            try:
                with self._control.cursor() as cursor:
                    cursor.execute(statement)
            except pymysql.Error as error:
                # The server's message may quote the statement, and with it the password.
                raise DatabaseUnreachable(
                    f"the database {c.name} could not be made (error {error.args[0]})",
                    f"give these statements to who may:\n{told(self._credentials)}",
                ) from None
        self._control.close()
        self._control = self._connect("utf8mb4")
        self.missing = False

    def _connect(self, charset: str, credentials: Credentials | None = None, **more: Any) -> Wire:
        chosen = credentials or self._credentials
        return connect(chosen, charset, read_only=self._read_only, dial=self._dial, **more)

    def close(self) -> None:
        for wire in (self._control, self._wire):
            if wire is not None:
                with contextlib.suppress(pymysql.Error):
                    wire.close()

    @contextlib.contextmanager
    def looking(self) -> Iterator[None]:
        outermost = self._answers is None
        if outermost:
            self._answers = {}
        try:
            yield
        finally:
            if outermost:
                self._answers = None

    def ahead(self, questions: Iterable[Question]) -> None:
        self._together(map(self._statement, questions))

    def _statement(self, question: Question) -> str:
        if isinstance(question, Defining):
            return showing(question.table)
        if isinstance(question, Counting):
            asked = DIALECT.count(question.table, question.where)
        else:
            asked = DIALECT.select(
                question.table,
                question.columns,
                question.where,
                question.order,
                question.descending,
                question.limit,
            )
        return self._filled(*asked)

    def _filled(self, sql: str, values: Sequence[object] | None) -> str:
        """A statement with its values in it."""
        with self._control.cursor() as cursor:
            return str(cursor.mogrify(sql, values))

    def _together(self, statements: Iterable[str]) -> None:
        """Have the answers to some statements at hand; what cannot be answered is asked again where it is needed."""
        if self._answers is None:
            return
        wanted = [sql for sql in dict.fromkeys(statements) if sql not in self._answers]
        if len(wanted) < 2:
            return
        with said(self._credentials.name):
            found = self._control.several(wanted)
        for sql, answer in zip(wanted, found, strict=True):
            if not isinstance(answer, pymysql.Error):
                self._answers[sql] = answer

    def _rows(self, about: str, sql: str, values: Sequence[object] | None = None) -> list[Any]:
        """The rows that a question gives."""
        if self._answers is None:
            return self._asked(about, sql, values)
        filled = self._filled(sql, values)
        if filled not in self._answers:
            self._answers[filled] = self._asked(about, sql, values)
        return list(self._answers[filled])

    def _asked(self, about: str, sql: str, values: Sequence[object] | None = None) -> list[Any]:
        with said(about), self._control.cursor() as cursor:
            cursor.execute(sql, values)
            return list(cursor.fetchall())

    def remove_range(self, hidden: str, table: Table, key_range: KeyRange) -> int:
        must_be_hidden(hidden)
        return self._execute(
            hidden, f"DELETE FROM {quote(hidden)} WHERE {range_condition(table, key_range)}", ()
        )

    def ask(self, sql: str) -> list[Any]:
        """The rows that a statement gives back, which must change nothing."""
        return self._rows(self._credentials.name, sql)

    def _do(self, about: str, sql: str) -> None:
        # A connection that is gone is told before anything is asked of it that may have been done or not.
        with said(about):
            self._control.ping(reconnect=False)
        with self._control.patience(WORKS):
            self._asked(about, sql)

    def quote(self, name: str) -> str:
        return quote(name)

    def is_same(self, other: ReadableDatabase) -> bool:
        """Machines that were copied have the same name and folders: what tells is a lock that both see."""
        if not isinstance(other, MysqlDatabase) or self.missing or other.missing:
            return False
        if self.facts().identity != other.facts().identity:
            return False
        about, token = self._credentials.name, f"vetrin {secrets.token_hex(12)}"
        try:
            ((got,),) = self._asked(about, "SELECT GET_LOCK(%s, 0)", [token])
            if got != 1:
                return True
            try:
                ((seen,),) = other._asked(about, "SELECT IS_USED_LOCK(%s)", [token])
            finally:
                self._asked(about, "SELECT RELEASE_LOCK(%s)", [token])
        except DatabaseError:
            return True
        return seen is not None

    def facts(self) -> Facts:
        name = self._credentials.name
        ((version, comment, packet, infile, lower, charset, collation, user, server),) = self._rows(
            name, _FACTS
        )
        return Facts(
            engine=self.engine,
            product="MariaDB" if "mariadb" in f"{version} {comment}".lower() else "MySQL",
            version=str(version).split("-")[0],
            charset=str(charset),
            max_statement=int(packet),
            bulk_load=bool(infile),
            where=f"{name} on {self._credentials.where}",
            identity=str(server),
            details={
                "collation": str(collation),
                "account": str(user),
                "lower-case table names": str(lower),
            },
        )

    def tables(self) -> list[Table]:
        name = self._credentials.name
        self._together((_COLUMNS, _KEYS, _TABLES, _FACTS, VIEWS, _BROKEN))
        columns: dict[str, list[Column]] = {}
        notes: dict[str, list[str]] = {}
        for table, column, kind, whole, extra, charset in self._rows(name, _COLUMNS):
            if "GENERATED" in str(extra).upper().replace("DEFAULT_GENERATED", ""):
                continue
            columns.setdefault(table, []).append(read_column(column, str(kind).lower(), str(whole)))
            if charset in WIDE_CHARSETS:
                notes.setdefault(table, []).append(
                    f"column {column} is stored as {charset}: addresses in it are not rewritten"
                )
        keys: dict[str, list[str]] = {}
        fixed: dict[str, set[str]] = {}
        for table, index, column, unique in self._rows(name, _KEYS):
            if not int(unique) and column is not None:
                fixed.setdefault(table, set()).add(column)
                if index == "PRIMARY":
                    keys.setdefault(table, []).append(column)
        found: list[Table] = []
        for table, kind, engine, rows, size in self._rows(name, _TABLES):
            if table.startswith(HIDDEN) or kind == "SEQUENCE" or table not in columns:
                continue
            if engine is None:  # the server itself cannot open it
                continue
            consistent = str(engine).lower() == "innodb"
            if not consistent:
                notes.setdefault(table, []).append(
                    f"{engine} has no consistent view: rows may be of different moments"
                )
            if kind == "SYSTEM VERSIONED":
                notes.setdefault(table, []).append("its history of versions is not copied")
            found.append(
                Table(
                    table,
                    tuple(columns[table]),
                    tuple(keys.get(table, ())),
                    frozenset(fixed.get(table, ())),
                    int(rows or 0),
                    int(size or 0),
                    consistent,
                    tuple(notes.get(table, ())),
                )
            )
        return found

    def broken_views(self) -> dict[str, str]:
        found: dict[str, str] = {}
        for view in self.views():
            try:
                # Looked into without being carried out: what it calls may fail by itself.
                self._rows(view, f"SHOW COLUMNS FROM {quote(view)}")
            except DatabaseError as error:
                code = error_code(error)
                if not 0 < code < _CLIENT_ERRORS:
                    raise
                if (
                    code not in LACKING
                ):  # it calls what fails, as what writes does here; that is its own affair
                    continue
                found[view] = str(error.__cause__.args[1]) if error.__cause__ else str(error)
        return found

    def foreign_keys(self) -> list[ForeignKey]:
        return self._hanging.foreign_keys()

    def broken(self) -> dict[str, str]:
        rows = self._rows(self._credentials.name, _BROKEN)
        return {str(name): str(said) for name, said in rows if not str(name).startswith(HIDDEN)}

    def size(self) -> int:
        ((total,),) = self._rows(
            self._credentials.name,
            "SELECT COALESCE(SUM(data_length + index_length), 0) FROM information_schema.tables"
            " WHERE table_schema = DATABASE()",
        )
        return int(total)

    @contextlib.contextmanager
    def reading(self) -> Iterator[MysqlReader]:
        wire = self._connect("stored", bulk=True, view=True, silence=SCANS)
        try:
            yield MysqlReader(wire)
        finally:
            with contextlib.suppress(pymysql.Error):
                wire.close()

    def count(self, table: str, where: Where | None = None) -> int:
        ((rows,),) = self._rows(table, *DIALECT.count(table, where))
        return int(rows)

    def select(
        self,
        table: str,
        columns: Sequence[str],
        *,
        where: Where | None = None,
        order: str | None = None,
        descending: bool = False,
        limit: int | None = None,
    ) -> list[tuple[Any, ...]]:
        sql, values = DIALECT.select(table, columns, where, order, descending, limit)
        return [tuple(row) for row in self._rows(table, sql, values)]

    def groups(
        self, table: str, columns: Sequence[str], where: Where | None = None
    ) -> list[tuple[Any, ...]]:
        sql, values = DIALECT.groups(table, columns, where)
        return [tuple(row) for row in self._rows(table, sql, values)]

    def longest(self, table: Table) -> tuple[str, int]:
        names = [column.name for column in table.columns]
        most = ", ".join(f"COALESCE(MAX(OCTET_LENGTH({quote(name)})), 0)" for name in names)
        (row,) = self._rows(table.name, f"SELECT {most} FROM {quote(table.name)}")
        sizes = [int(size) for size in row]
        return names[sizes.index(max(sizes))], max(sizes)

    @cached_property
    def _server(self) -> Server:
        """What this server knows, for schemas that come from another one."""
        name = self._credentials.where
        self._together((_ENGINES, _COLLATIONS, _WHOLE_COLLATIONS))
        facts = self.facts()
        return Server(
            facts.product,
            facts.version,
            self._collations(),
            frozenset(str(row[0]).lower() for row in self._rows(name, _ENGINES)),
        )

    def _collations(self) -> frozenset[str]:
        where = self._credentials.where
        found = self._rows(where, _COLLATIONS)
        # MariaDB lists those of all character sets together without the set's name; their whole names are here.
        with contextlib.suppress(DatabaseError):
            found += self._rows(where, _WHOLE_COLLATIONS)
        return frozenset(str(row[0]).lower() for row in found)

    def adapt(self, table: Table, schema: str, source: Facts) -> Adapted:
        adapted = adapt_schema(table.name, schema, source, self._server)
        if why := unfit_table(adapted.sql):
            raise Unsuitable(why)
        return adapted

    def adapt_attachment(self, item: Attachment, source: Facts) -> Attachment:
        return fit(adapt_attachment(item, source, self._server), {self._credentials.name})

    def doing(self, item: Attachment) -> str:
        return doing(item)

    def schema(self, table: str) -> str:
        text = FOREIGN_KEY.sub("", create_text(self._rows, table))
        text = without_draws(text)
        # Without its last lines a definition may end with a comma, and hold empty lines.
        text = re.sub(r"\n(?:\s*\n)+", "\n", text)
        return re.sub(r",\s*\n\)", "\n)", text)

    @cached_property
    def _hanging(self) -> Hanging:
        sequences = self._server.product == "MariaDB"
        return Hanging(
            self._credentials.name,
            self._credentials.name,
            self._rows,
            self._together,
            sequences=sequences,
        )

    def events(self) -> list[str]:
        rows = self._rows(self._credentials.name, EVENTS)
        return [str(row[0]) for row in rows]

    def views(self) -> list[str]:
        return self._hanging.views()

    def routines(self) -> list[Attachment]:
        return self._hanging.routines()

    def attachments(self, tables: Iterable[str], views: Iterable[str]) -> list[Attachment]:
        return self._hanging.of_tables(tables, views)

    @property
    def takes_routines(self) -> bool:
        if self.missing:  # it will be this account's own
            return True
        grants = self._rows(self._credentials.name, "SHOW GRANTS")
        return may_make_routines((str(row[0]) for row in grants), self._credentials.name)

    def hidden_tables(self) -> list[str]:
        return [
            str(row[0])
            for row in self._rows(
                self._credentials.name,
                "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE()"
                " AND table_name LIKE %s ORDER BY table_name",
                [HIDDEN.replace("_", "\\_") + "%"],
            )
        ]

    def lay_out(self, hidden: str, table: Table, schema: str) -> None:
        head = f"CREATE TABLE {quote(table.name)}"
        if not schema.startswith(head):
            raise DatabaseError(f"{table.name}: its definition begins in an unknown way")
        if why := unfit_table(schema):
            raise Unsuitable(f"{table.name}: {why}")
        self._do(table.name, f"DROP TABLE IF EXISTS {quote(hidden)}")
        self._do(table.name, f"CREATE TABLE {quote(hidden)}" + schema[len(head) :])

    def fill(
        self,
        hidden: str,
        table: Table,
        batches: Iterable[Batch],
        moved: Callable[[int, int], None] | None = None,
        *,
        warned: Callable[[str], None] | None = None,
    ) -> int:
        comparing = warned is None
        before = self._digest(hidden, table) if comparing else NO_ROWS
        passed: list[str] = []
        wire = self._connect("binary", fills=True, bulk=True, silence=WORKS)
        # Kept where closing this database from another thread can cut a running load.
        self._wire = wire
        sent = empty = 0
        # An ENUM's empty value is one that the server never takes without a warning.
        enums = [i for i, c in enumerate(table.columns) if c.type.lower().startswith("enum")]

        def counted() -> Iterator[Batch]:
            nonlocal sent, empty
            for batch in batches:
                sent += batch.rows
                for index in enums:
                    empty += batch.cells[index :: batch.width].count(b"0")
                if comparing:
                    # What they were made of is not what they have become on their way.
                    made = Batch(batch.width, batch.cells, batch.size, batch.mixed)
                    passed.append(digest_of_rows([made]))
                yield batch
                if moved is not None:
                    moved(batch.rows, batch.size)

        try:
            with said(table.name):
                write = self._load if self._bulk_load and self._takes_loads() else self._insert
                stored, warnings = write(wire, hidden, table, counted())
                with wire.cursor() as cursor:
                    cursor.execute("SHOW WARNINGS LIMIT 1")
                    told = cursor.fetchone()
        finally:
            self._wire = None
            with contextlib.suppress(pymysql.Error):
                wire.close()
        if stored != sent:
            raise RowsDiffer(f"{table.name}: {sent} rows were sent, {stored} arrived")
        if warnings and warnings != empty:
            said_of_it = told[2].decode("latin1") if told else "something"
            if warned is not None:
                warned(said_of_it)
            elif self._digest(hidden, table) != joint_digest([before, *passed]):
                raise RowsDiffer(
                    f"{table.name}: the server changed values on arrival; it warned {warnings} times, "
                    f"for one: {said_of_it}"
                )
        return sent

    def _digest(self, hidden: str, table: Table) -> str:
        """The digest of all rows that lie in a hidden table."""
        with self.reading() as reader:
            return reader.digests(replace(table, name=hidden), [KeyRange()])[0]

    def _takes_loads(self) -> bool:
        return bool(int(self._rows("local_infile", "SELECT @@local_infile")[0][0]))

    @staticmethod
    def _load(wire: Wire, hidden: str, table: Table, batches: Iterator[Batch]) -> tuple[int, int]:
        """Write by bulk load; (rows stored, warnings), as the server counts them."""
        targets: list[str] = []
        settings: list[str] = []
        for number, column in enumerate(table.columns):
            if column.write == "{}":
                targets.append(quote(column.name))
            else:
                targets.append(f"@v{number}")
                settings.append(f"{quote(column.name)} = {column.write.format(f'@v{number}')}")
        sql = (
            f"LOAD DATA LOCAL INFILE 'rows' INTO TABLE {quote(hidden)} CHARACTER SET binary"
            f" {LOAD_OPTIONS} ({', '.join(targets)})"
        )
        if settings:
            sql += " SET " + ", ".join(settings)
        return wire.load(sql, map(load_block, batches))

    @staticmethod
    def _insert(wire: Wire, hidden: str, table: Table, batches: Iterator[Batch]) -> tuple[int, int]:
        """Write by INSERT in one transaction; (rows stored, warnings)."""
        names = ", ".join(quote(column.name) for column in table.columns)
        head = f"INSERT INTO {quote(hidden)} ({names}) VALUES ".encode()
        stored = warned = 0
        with wire.cursor() as cursor:
            cursor.execute("SELECT @@max_allowed_packet")
            most = int(cursor.fetchall()[0][0]) - 1024
        limit = min(_INSERT_BYTES, most)
        wire.begin()
        for batch in batches:
            for statement in insert_statements(head, table.columns, batch, limit, most):
                stored += wire.query(statement)
                warned += wire._result.warning_count  # type: ignore[attr-defined]
        wire.commit()
        return stored, warned

    def finish(self, hidden: str, source: ReadableDatabase, table: Table) -> None:
        """Nothing: the next number to give is part of the table's definition here."""

    def last_given(self, table: str) -> int | None:
        return None

    def swap(
        self,
        exchanges: Sequence[Exchange],
        detach: Sequence[Attachment],
        attach: Sequence[Attachment],
    ) -> list[str]:
        remarks = self._run([_PATIENT, *_renaming(exchanges, self._present())])
        items = settling(exchanges, detach, attach, self._hanging.constraints())
        return remarks + self._run(items)

    def script(
        self,
        exchanges: Sequence[Exchange],
        detach: Sequence[Attachment],
        attach: Sequence[Attachment],
    ) -> Script | None:
        there = self._present()
        back = [Exchange(e.live, e.outgoing, e.incoming) for e in exchanges]
        then = (there | {e.outgoing for e in exchanges if e.outgoing}) - {
            e.incoming for e in exchanges
        }
        then |= {e.live for e in exchanges if e.incoming is not None}
        undone = _renaming(back, {str(name) for name in then})
        # Where the exchange never came about, nothing that follows is to be done.
        for item in undone:
            item |= {"soft": [1050, 1146], "stop": True}
        return Script(
            {
                "do": "sql",
                "forth": [
                    _PATIENT,
                    *({**item, "exchange": True} for item in _renaming(exchanges, there)),
                    *settling(exchanges, detach, attach),
                ],
                "back": [*undone, *settling(back, attach, detach)],
            },
            {
                "name": self._credentials.host,
                "port": self._credentials.port or 3306,
                "socket": self._credentials.socket or "",
            },
            self._log_in,
        )

    def _log_in(self, socket: Any) -> bool:
        wire = connect(self._credentials, "utf8mb4", dial=lambda *where, bulk: socket)
        return not wire.speaks_tls

    def _present(self) -> set[str]:
        rows = self._rows(
            self._credentials.name,
            "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE()",
        )
        return {str(row[0]) for row in rows}

    def _run(self, items: Iterable[Item]) -> list[str]:
        """Carry out a script from here, as a process near the database does (``helper.py``)."""
        remarks: list[str] = []
        for item in items:
            if "views" in item:
                remarks += self._views(item)
                continue
            try:
                self._do(item.get("remark", "the swap of the tables"), item["sql"])
            except DatabaseError as error:
                if error_code(error) not in item.get("soft", ()):
                    raise
                if item.get("remark"):
                    remarks.append(f"{error}: it could not be made")
        return remarks

    def _views(self, item: Item) -> list[str]:
        """Views may need one another: go round as long as each round brings one in."""
        waiting = item["views"]
        while waiting:
            failed: list[tuple[str, str, DatabaseError]] = []
            for name, sql in waiting:
                try:
                    self._do(name, sql)
                except DatabaseError as error:
                    if error_code(error) not in item["soft"]:
                        raise
                    failed.append((name, sql, error))
            if len(failed) == len(waiting):
                return [f"{problem}: it could not be made" for _, _, problem in failed]
            waiting = [(name, sql) for name, sql, _ in failed]
        return []

    def patch(self, patches: Sequence[Patch]) -> int:
        changed = 0
        with (
            said("the change of the rows"),
            self._control.patience(WORKS),
            self._control.cursor() as cursor,
        ):
            self._control.begin()
            try:
                for patch in patches:
                    for sql in _patching(patch):
                        changed += cursor.execute(sql)
            except BaseException:
                self._control.rollback()
                raise
            self._control.commit()
        # Not part of any transaction here; a table that somebody keeps in use goes on from its highest number.
        for patch in patches:
            if patch.given is not None:
                sql = f"ALTER TABLE {quote(patch.table)} AUTO_INCREMENT = {patch.given + 1}"
                self._run([_PATIENT, {"sql": sql, "soft": [_IN_USE]}])
        return changed

    def definitions(self, tables: Iterable[str]) -> dict[str, str]:
        wanted = set(tables)
        found: dict[str, Any] = {}
        for table, *said_of_it in self._rows(self._credentials.name, DEFINITIONS):
            if table in wanted:
                digest = found.setdefault(str(table), hashlib.sha256())
                digest.update(repr([_plain(value) for value in said_of_it]).encode())
        return {table: digest.hexdigest() for table, digest in found.items()}

    def take_over(
        self,
        hidden: str,
        table: str,
        columns: Sequence[str],
        where: Where | None = None,
        fixed: Mapping[str, object] | None = None,
    ) -> int:
        # Under the usual isolation every row of the other table would be locked until the last one is copied, and
        # visitors would wait. A server that logs statements cannot do without.
        level = "SET SESSION TRANSACTION ISOLATION LEVEL"
        self._do(hidden, f"{level} READ COMMITTED")
        try:
            return super().take_over(hidden, table, columns, where, fixed)
        except DatabaseError as error:
            if error_code(error) != _STATEMENTS_LOGGED:
                raise
        finally:
            self._do(hidden, f"{level} REPEATABLE READ")
        return super().take_over(hidden, table, columns, where, fixed)

    def _execute(self, about: str, sql: str, values: Sequence[object]) -> int:
        with (
            said(about),
            self._control.patience(WORKS),
            self._control.cursor() as cursor,
        ):
            return int(cursor.execute(sql, values))

    def drop(self, hidden: Iterable[str]) -> None:
        for name in hidden:
            must_be_hidden(name)
            self._drop(name)

    def _drop(self, name: str) -> None:
        # The server needs a moment to let go of a table whose load was cut off.
        for _ in range(20):
            try:
                self._do(name, f"DROP TABLE IF EXISTS {quote(name)}")
                return
            except DatabaseError as error:
                if "1205" not in str(error) and "1213" not in str(error):
                    raise
                time.sleep(0.25)
        self._do(name, f"DROP TABLE IF EXISTS {quote(name)}")


def _plain(value: object) -> str | None:
    if isinstance(value, bytes):
        return value.decode("utf-8", "replace")
    return None if value is None else str(value)


def _renaming(exchanges: Sequence[Exchange], there: set[str]) -> list[Item]:
    """The one statement that exchanges all tables which still have to be, none where there are none."""
    renames: list[str] = []
    for exchange in pending(exchanges, there):
        if exchange.outgoing is not None and exchange.live in there:
            renames.append(f"{quote(exchange.live)} TO {quote(exchange.outgoing)}")
        if exchange.incoming is not None:
            renames.append(f"{quote(exchange.incoming)} TO {quote(exchange.live)}")
    return [{"sql": "RENAME TABLE " + ", ".join(renames)}] if renames else []


def _patching(patch: Patch) -> list[str]:
    """The statements of a patch: what goes makes room for what comes."""
    if not patch.whole:
        return [_update(patch)]
    live, before, after = map(quote, (patch.table, patch.before, patch.after))
    first = quote(patch.key[0])
    names = [quote(name) for name in (*patch.key, *patch.columns)]
    as_it_was = "".join(f" AND {text}" for text in _unchanged(patch))
    return [
        f"DELETE l FROM {live} l JOIN {before} b ON {_same('l', 'b', patch.key)}"
        f" LEFT JOIN {after} a ON {_same('a', 'b', patch.key)} WHERE a.{first} IS NULL{as_it_was}",
        _update(patch),
        f"INSERT INTO {live} ({', '.join(names)}) SELECT {', '.join(f'a.{name}' for name in names)} FROM {after} a"
        f" LEFT JOIN {before} b ON {_same('a', 'b', patch.key)} LEFT JOIN {live} l ON {_same('a', 'l', patch.key)}"
        f" WHERE b.{first} IS NULL AND l.{first} IS NULL",
    ]


def _same(first: str, second: str, columns: Sequence[str], between: str = " AND ") -> str:
    return between.join(f"{first}.{quote(c)} = {second}.{quote(c)}" for c in columns)


def _unchanged(patch: Patch) -> list[str]:
    """That a row is as it was. Compared as bytes: a collation would take two spellings of a text for equal."""
    return [
        f"CAST(l.{quote(c)} AS BINARY) <=> CAST(b.{quote(c)} AS BINARY)" for c in patch.compared
    ]


def _update(patch: Patch) -> str:
    # All columns are set, so that none that keeps the time of the last change is touched by the server.
    unchanged = _unchanged(patch)
    return (
        f"UPDATE {quote(patch.table)} l JOIN {quote(patch.after)} a ON {_same('l', 'a', patch.key)}"
        f" JOIN {quote(patch.before)} b ON {_same('l', 'b', patch.key)}"
        f" SET {_same('l', 'a', patch.columns, ', ')}"
        + (" WHERE " + " AND ".join(unchanged) if unchanged else "")
    )
