"""MariaDB and MySQL.

Rows are read in the text protocol and written with ``LOAD DATA LOCAL`` where the server takes it,
else with INSERT. Two connections: one for statements (utf8mb4), one for rows (binary, so that no
character set is converted). Foreign keys, triggers and views carry names that are unique in the
database, so they are attachments: off before, on after the swap.
"""

from __future__ import annotations

import contextlib
import re
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from typing import Any

import pymysql

from ..condition import Instead, Where
from ..contract import (
    BATCH_BYTES,
    HIDDEN,
    Adapted,
    Attachment,
    Batch,
    Column,
    Database,
    DatabaseError,
    DatabaseUnreachable,
    Exchange,
    Facts,
    Hashing,
    Patch,
    RowsDiffer,
    Table,
    must_be_hidden,
    pending,
)
from ..editing import HiddenEditing
from ..pages import JOIN, NULL, KeyRange
from ..query import Dialect
from ..records import cells_of
from .accounts import NEAR, Credentials, creating_statements, may_create, may_make_routines, told
from .adapt import Server, adapt_attachment, adapt_schema
from .columns import WIDE_CHARSETS, quote, read_column
from .literals import LOAD_OPTIONS, insert_statements, load_block
from .wire import Wire

_NO_DATABASE = (1049, 1044)
_NO_ACCOUNT = 1045
_LACKING = (1054, 1146, 1305, 1356)
_INSECURE = (3159, 1045)  # TLS is asked for by the server, or (among other things) by the account
_MODE = "NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES"
_INSERT_BYTES = 1 << 20
_DIALECT = Dialect(lambda name: quote(name).replace("%", "%%"), "%s")
# Quoted as the mode wants it that a text was made under.
_DEFINER = re.compile(
    r"""\s+DEFINER\s*=\s*(?:`(?:[^`]|``)*`|"(?:[^"]|"")*")@(?:`(?:[^`]|``)*`|"(?:[^"]|"")*")""",
    re.IGNORECASE,
)
_ROUTINE = re.compile(r"CREATE (PROCEDURE|FUNCTION) ")
_FOREIGN_KEY = re.compile(r"^  (CONSTRAINT (`(?:[^`]|``)*`) FOREIGN KEY .*?),?$", re.MULTILINE)


@contextlib.contextmanager
def _said(about: str) -> Iterator[None]:
    try:
        yield
    except pymysql.Error as error:
        code, *rest = error.args or (0,)
        message = rest[0] if rest else str(error)
        raise DatabaseError(f"{about}: {message} (error {code})") from error


# What connects to a server by other means than this machine's network: name, port, socket.
Dial = Callable[[str, int, str | None], Any]


def _remedy(code: int, credentials: Credentials) -> str:
    if code == 1045:
        return "check user and password in the site's own configuration"
    if code == 1049:
        return f"create the database {credentials.name}, or correct its name"
    if code == 1044:
        return f"let {credentials.user} use the database {credentials.name}"
    return f"check that the server runs and listens at {credentials.where}"


class _Reader:
    def __init__(self, wire: Wire) -> None:
        self._wire = wire

    @cached_property
    def hashing(self) -> Hashing:
        with self._wire.cursor() as cursor:
            try:
                cursor.execute("SELECT MD5('')")
            except pymysql.Error:
                return "sha256"
            return "md5"

    def _hashed(self, text: str) -> str:
        return f"MD5({text})" if self.hashing == "md5" else f"SHA2({text}, 256)"

    def rows(
        self,
        table: Table,
        batch_bytes: int = BATCH_BYTES,
        *,
        leave: Where | None = None,
        instead: Mapping[str, Instead] | None = None,
        among: KeyRange | None = None,
    ) -> Iterator[Batch]:
        sql = self._query(table, leave, instead, among)
        width = len(table.columns)
        with _said(table.name):
            for records in self._wire.records(sql, batch_bytes):
                # All at once: a call for each row would cost more than the copy.
                joined = b"".join(records)
                yield Batch(width, cells_of(joined, mixed=False), len(joined), records=records)

    def _query(
        self,
        table: Table,
        leave: Where | None,
        instead: Mapping[str, Instead] | None,
        among: KeyRange | None,
    ) -> str:
        reads = {column.name: column.read.replace("%", "%%") for column in table.columns}
        sql, values = _DIALECT.rows(table.name, reads, leave, instead, _range(table, among))
        # Other engines than InnoDB would sort, and forbid nothing by their order.
        if table.consistent and table.key:
            sql += f" ORDER BY {', '.join(map(quote, table.key))}".replace("%", "%%")
        with self._wire.cursor() as cursor:
            return str(cursor.mogrify(sql, values))

    def records(self, table: Table, stretch_bytes: int = BATCH_BYTES) -> Iterator[list[bytes]]:
        sql = self._query(table, None, None, None)
        with _said(table.name):
            yield from self._wire.records(sql, stretch_bytes)

    def digests(
        self,
        table: Table,
        ranges: Sequence[KeyRange],
        *,
        leave: Where | None = None,
        instead: Mapping[str, Instead] | None = None,
    ) -> list[str]:
        names = [column.name for column in table.columns]
        reads = {column.name: column.read.replace("%", "%%") for column in table.columns}
        cells = ", ".join(
            f"IFNULL(CAST({quote(name)} AS BINARY), 0x{NULL.hex()})" for name in names
        ).replace("%", "%%")
        row = f"CONCAT_WS(0x{JOIN.hex()}, {cells})"
        found: list[str] = []
        with _said(table.name), self._wire.cursor() as cursor:
            cursor.execute("SET SESSION group_concat_max_len = 1073741824")
            for at in range(0, len(ranges), _PAGES):
                parts, values = [], []
                for among in ranges[at : at + _PAGES]:
                    sql, more = _DIALECT.rows(
                        table.name, reads, leave, instead, _range(table, among), named=True
                    )
                    if among == KeyRange():
                        half = f"CONV(LEFT({self._hashed(row)}, 15), 16, 10)"
                        made = f"CONCAT_WS('-', COUNT(*), SUM(CAST({half} AS UNSIGNED)))"
                    else:
                        order = ", ".join(map(quote, table.key)).replace("%", "%%")
                        made = self._hashed(
                            f"GROUP_CONCAT({row} ORDER BY {order} SEPARATOR 0x{JOIN.hex()})"
                        )
                    parts.append(f"(SELECT {made} FROM ({sql}) _vetrin_p)")
                    values += more
                cursor.execute(" UNION ALL ".join(parts), values)
                found += [_digest_text(row[0]) for row in cursor.fetchall()]
        return found

    def count(self, table: str, where: Where | None = None) -> int:
        return _count(self._wire, table, where)


_PAGES = 32  # digests in one statement


def _range(table: Table, among: KeyRange | None) -> str:
    names = [quote(name).replace("%", "%%") for name in table.key]
    return among.sql(names) if among is not None else ""


def _digest_text(value: Any) -> str:
    return value.decode("ascii") if isinstance(value, bytes) else str(value or "")


def _count(connection: Any, table: str, where: Where | None) -> int:
    sql, values = _DIALECT.count(table, where)
    with _said(table), connection.cursor() as cursor:
        cursor.execute(sql, values)
        return int(cursor.fetchone()[0])


class MysqlDatabase(HiddenEditing):
    """A database on a MariaDB or MySQL server.

    Raises:
        DatabaseUnreachable: no server there, or it refuses the account or the name.
    """

    engine = "mysql"
    unwritable = ""
    _dialect = _DIALECT

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
        self._creator = creator
        self.missing = False
        try:
            self._control = self._connect("utf8mb4")
        except DatabaseUnreachable as error:
            if not may_be_missing or error.code not in (*_NO_DATABASE, _NO_ACCOUNT):
                raise
            self._look_around(error)
        self._wire: Wire | None = None

    def _look_around(self, error: DatabaseUnreachable) -> None:
        """Connect without a database, as the account that may make one."""
        account = self._creator or self._credentials
        if error.code == _NO_ACCOUNT and self._creator is None:
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
        if there and error.code != _NO_ACCOUNT:
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

    def _dialled(self, c: Credentials, charset: str) -> Wire:
        """A connection, with TLS where the server knows it and the way to it is more than this machine.

        On one machine, and behind an SSH connection to it, TLS would protect nothing and cost much; but
        where a server or an account insists on it, it gets it.
        """
        near = c.socket is not None or c.host in NEAR
        for tls in (False, True) if near else (True,):
            wire = Wire(
                host=c.host,
                port=c.port or 3306,
                unix_socket=c.socket,
                user=c.user,
                password=c.password,
                database=c.name or None,
                # PyMySQL knows no "binary": it would decode names and messages with it.
                charset="latin1" if charset == "binary" else "utf8mb4",
                connect_timeout=10,
                autocommit=True,
                local_infile=True,
                defer_connect=True,
                ssl_disabled=not tls,
            )
            try:
                wire.connect(self._dial(c.host, c.port or 3306, c.socket) if self._dial else None)
                return wire
            except pymysql.Error as error:
                code = error.args[0] if error.args else 0
                if tls or code not in _INSECURE or not wire.offers_tls:
                    raise
        raise AssertionError("the last way was tried")

    def _connect(self, charset: str, credentials: Credentials | None = None) -> Wire:
        c = credentials or self._credentials
        try:
            wire = self._dialled(c, charset)
            with wire.cursor() as cursor:
                if charset == "binary":
                    cursor.execute("SET NAMES binary")
                elif charset == "stored":
                    # What is asked is text, what comes back is bytes as they are stored.
                    cursor.execute("SET character_set_results = NULL")
                cursor.execute("SET time_zone = '+00:00', foreign_key_checks = 0")
                cursor.execute(f"SET sql_mode = '{_MODE}'")
                if self._read_only:
                    cursor.execute("SET SESSION TRANSACTION READ ONLY")
                cursor.execute("SET wait_timeout = 28800, net_write_timeout = 3600")
        except pymysql.Error as error:
            code, *rest = error.args or (0,)
            raise DatabaseUnreachable(
                f"{c.where}: {rest[0] if rest else error}",
                _remedy(int(code or 0), c),
                int(code or 0),
            ) from error
        return wire

    def close(self) -> None:
        for wire in (self._control, self._wire):
            if wire is not None:
                with contextlib.suppress(pymysql.Error):
                    wire.close()

    def _rows(self, about: str, sql: str, values: Sequence[object] | None = None) -> list[Any]:
        with _said(about):
            self._control.ping(reconnect=False)
            with self._control.cursor() as cursor:
                cursor.execute(sql, values)
                return list(cursor.fetchall())

    def remove_range(self, hidden: str, table: Table, among: KeyRange) -> int:
        must_be_hidden(hidden)
        return self._execute(
            hidden, f"DELETE FROM {quote(hidden)} WHERE {_range(table, among)}", ()
        )

    def _do(self, about: str, sql: str) -> None:
        self._rows(about, sql)

    def quote(self, name: str) -> str:
        return quote(name)

    def facts(self) -> Facts:
        name = self._credentials.name
        (version, comment, packet, infile, lower), *_ = self._rows(
            name,
            "SELECT @@version, @@version_comment, @@max_allowed_packet, @@local_infile,"
            " @@lower_case_table_names",
        )
        (charset, collation), *_ = self._rows(
            name, "SELECT @@character_set_database, @@collation_database"
        )
        (user,), *_ = self._rows(name, "SELECT CURRENT_USER()")
        (server,), *_ = self._rows(
            name, "SELECT CONCAT_WS('|', @@hostname, @@port, @@datadir, DATABASE())"
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
        schema = "WHERE table_schema = DATABASE()"
        columns: dict[str, list[Column]] = {}
        notes: dict[str, list[str]] = {}
        for table, column, kind, whole, extra, charset in self._rows(
            name,
            "SELECT table_name, column_name, data_type, column_type, extra, character_set_name"
            f" FROM information_schema.columns {schema} ORDER BY table_name, ordinal_position",
        ):
            if "GENERATED" in str(extra).upper().replace("DEFAULT_GENERATED", ""):
                continue
            columns.setdefault(table, []).append(read_column(column, str(kind).lower(), str(whole)))
            if charset in WIDE_CHARSETS:
                notes.setdefault(table, []).append(
                    f"column {column} is stored as {charset}: addresses in it are not rewritten"
                )
        keys: dict[str, list[str]] = {}
        fixed: dict[str, set[str]] = {}
        for table, index, column, unique in self._rows(
            name,
            "SELECT table_name, index_name, column_name, non_unique"
            f" FROM information_schema.statistics {schema} ORDER BY table_name, index_name, seq_in_index",
        ):
            if not int(unique) and column is not None:
                fixed.setdefault(table, set()).add(column)
                if index == "PRIMARY":
                    keys.setdefault(table, []).append(column)
        found: list[Table] = []
        for table, kind, engine, rows, size in self._rows(
            name,
            "SELECT table_name, table_type, engine, table_rows, data_length + index_length"
            f" FROM information_schema.tables {schema} AND table_type <> 'VIEW' ORDER BY table_name",
        ):
            if table.startswith(HIDDEN) or kind == "SEQUENCE" or table not in columns:
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

    def size(self) -> int:
        ((total,),) = self._rows(
            self._credentials.name,
            "SELECT COALESCE(SUM(data_length + index_length), 0) FROM information_schema.tables"
            " WHERE table_schema = DATABASE()",
        )
        return int(total)

    @contextlib.contextmanager
    def reading(self) -> Iterator[_Reader]:
        wire = self._connect("stored")
        try:
            with _said(self._credentials.name), wire.cursor() as cursor:
                cursor.execute("SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ")
                cursor.execute("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
            yield _Reader(wire)
        finally:
            with contextlib.suppress(pymysql.Error):
                wire.close()

    def count(self, table: str, where: Where | None = None) -> int:
        return _count(self._control, table, where)

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
        sql, values = _DIALECT.select(table, columns, where, order, descending, limit)
        return [tuple(row) for row in self._rows(table, sql, values)]

    def groups(
        self, table: str, columns: Sequence[str], where: Where | None = None
    ) -> list[tuple[Any, ...]]:
        sql, values = _DIALECT.groups(table, columns, where)
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
        facts = self.facts()
        return Server(
            facts.product,
            facts.version,
            frozenset(
                str(row[0]).lower()
                for row in self._rows(
                    name, "SELECT collation_name FROM information_schema.collations"
                )
            ),
            frozenset(
                str(row[0]).lower()
                for row in self._rows(
                    name,
                    "SELECT engine FROM information_schema.engines WHERE support IN ('YES', 'DEFAULT')",
                )
            ),
        )

    def adapt(self, table: Table, schema: str, source: Facts) -> Adapted:
        return adapt_schema(table.name, schema, source, self._server)

    def adapt_attachment(self, item: Attachment, source: Facts) -> Attachment:
        return adapt_attachment(item, source, self._server)

    def _create_text(self, table: str) -> str:
        return str(self._rows(table, f"SHOW CREATE TABLE {quote(table)}")[0][1])

    def schema(self, table: str) -> str:
        text = _FOREIGN_KEY.sub("", self._create_text(table))
        # Without its last lines a definition may end with a comma, and hold empty lines.
        text = re.sub(r"\n(?:\s*\n)+", "\n", text)
        return re.sub(r",\s*\n\)", "\n)", text)

    def views(self) -> list[str]:
        return [
            str(row[0])
            for row in self._rows(
                self._credentials.name,
                "SELECT table_name FROM information_schema.views"
                " WHERE table_schema = DATABASE() ORDER BY table_name",
            )
        ]

    def routines(self) -> list[Attachment]:
        found = []
        for kind, name, mode in self._rows(
            self._credentials.name,
            "SELECT routine_type, routine_name, sql_mode FROM information_schema.routines"
            " WHERE routine_schema = DATABASE() AND routine_type IN ('PROCEDURE', 'FUNCTION')"
            " ORDER BY routine_name, routine_type",
        ):
            text = ""
            # Where an account may not see it, some servers refuse, others show nothing.
            with contextlib.suppress(DatabaseError):
                text = self._rows(name, f"SHOW CREATE {kind} {quote(name)}")[0][2] or ""
            sql = _DEFINER.sub("", str(text), count=1)
            found.append(Attachment("routine", str(name), "", sql, str(mode)))
        return found

    @property
    def takes_routines(self) -> bool:
        if self.missing:  # it will be this account's own
            return True
        grants = self._rows(self._credentials.name, "SHOW GRANTS")
        return may_make_routines((str(row[0]) for row in grants), self._credentials.name)

    def attachments(self, tables: Iterable[str], views: Iterable[str]) -> list[Attachment]:
        wanted = set(tables)
        found: list[Attachment] = []
        # Foreign keys of other tables that point at these follow a renamed table; they are
        # attachments too, so that after the swap they point at the live name again.
        holders = {
            str(row[0])
            for row in self._rows(
                self._credentials.name,
                "SELECT table_name, referenced_table_name FROM information_schema.referential_constraints"
                " WHERE constraint_schema = DATABASE()",
            )
            if not str(row[0]).startswith(HIDDEN) and (row[0] in wanted or row[1] in wanted)
        }
        for table in sorted(holders):
            for match in _FOREIGN_KEY.finditer(self._create_text(table)):
                name = match[2][1:-1].replace("``", "`")
                found.append(Attachment("constraint", name, table, match[1]))
        for name, table, timing, event, action, mode in self._rows(
            self._credentials.name,
            "SELECT trigger_name, event_object_table, action_timing, event_manipulation,"
            " action_statement, sql_mode FROM information_schema.triggers"
            " WHERE trigger_schema = DATABASE() ORDER BY event_object_table, action_order",
        ):
            if table in wanted:
                sql = (
                    f"CREATE TRIGGER {quote(name)} {timing} {event} ON {quote(table)}"
                    f" FOR EACH ROW {action}"
                )
                found.append(Attachment("trigger", name, table, sql, str(mode)))
        for view in views:
            text = str(self._rows(view, f"SHOW CREATE VIEW {quote(view)}")[0][1])
            # The account that made the view may be unknown where it arrives; who brings it owns it.
            sql = _DEFINER.sub("", text, count=1).replace("CREATE ", "CREATE OR REPLACE ", 1)
            found.append(Attachment("view", view, view, sql))
        return found

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
        self._do(table.name, f"DROP TABLE IF EXISTS {quote(hidden)}")
        self._do(table.name, f"CREATE TABLE {quote(hidden)}" + schema[len(head) :])

    def fill(
        self,
        hidden: str,
        table: Table,
        batches: Iterable[Batch],
        moved: Callable[[int, int], None] | None = None,
    ) -> int:
        wire = self._connect("binary")
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
                yield batch
                if moved is not None:
                    moved(batch.rows, batch.size)

        try:
            with _said(table.name):
                write = self._load if self._bulk_load and self._takes_loads() else self._insert
                stored, warned = write(wire, hidden, table, counted())
                with wire.cursor() as cursor:
                    cursor.execute("SHOW WARNINGS LIMIT 1")
                    told = cursor.fetchone()
                if warned and warned != empty:
                    example = f", for one: {told[2].decode('latin1')}" if told else ""
                    raise RowsDiffer(
                        f"{table.name}: the server changed {warned} values on arrival{example}"
                    )
        finally:
            self._wire = None
            with contextlib.suppress(pymysql.Error):
                wire.close()
        if stored != sent:
            raise RowsDiffer(f"{table.name}: {sent} rows were sent, {stored} arrived")
        return sent

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

    def finish(self, hidden: str, source: Database, table: Table) -> None:
        """Nothing: the next number to give is part of the table's definition here."""

    def last_given(self, table: str) -> int | None:
        return None

    def swap(
        self,
        exchanges: Sequence[Exchange],
        detach: Sequence[Attachment],
        attach: Sequence[Attachment],
    ) -> list[str]:
        name = self._credentials.name
        there = {
            str(row[0])
            for row in self._rows(
                name,
                "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE()",
            )
        }
        renames: list[str] = []
        for exchange in pending(exchanges, there):
            if exchange.outgoing is not None and exchange.live in there:
                renames.append(f"{quote(exchange.live)} TO {quote(exchange.outgoing)}")
            if exchange.incoming is not None:
                renames.append(f"{quote(exchange.incoming)} TO {quote(exchange.live)}")
        if renames:
            self._do("the swap of the tables", "RENAME TABLE " + ", ".join(renames))
        # A view that comes again is replaced in one statement and never missing; a routine nearly so.
        again = {_named(item) for item in attach if item.kind in ("view", "routine")}
        self._detach(exchanges, [item for item in detach if _named(item) not in again])
        return self._attach(attach)

    def _constraints(self) -> set[tuple[str, str]]:
        return {
            (str(row[0]), str(row[1]))
            for row in self._rows(
                self._credentials.name,
                "SELECT table_name, constraint_name FROM information_schema.referential_constraints"
                " WHERE constraint_schema = DATABASE()",
            )
        }

    def _detach(self, exchanges: Sequence[Exchange], detach: Sequence[Attachment]) -> None:
        outgoing = {e.live: e.outgoing for e in exchanges}
        there = self._constraints()
        for item in detach:
            if item.kind in ("trigger", "view", "routine"):
                self._do(item.name, _dropping(item))
            elif item.kind == "constraint":
                table = outgoing.get(item.table, item.table)
                # InnoDB renames a constraint with its table where the name was made from it.
                for name in (item.name, item.name.replace(item.table, table or "", 1)):
                    if table is not None and (table, name) in there:
                        self._do(
                            table, f"ALTER TABLE {quote(table)} DROP FOREIGN KEY {quote(name)}"
                        )
                        there.discard((table, name))

    def _attach(self, attach: Sequence[Attachment]) -> list[str]:
        there = self._constraints()
        # Routines first, for views may call them.
        for item in sorted(attach, key=lambda item: item.kind != "routine"):
            if item.kind == "constraint" and (item.table, item.name) not in there:
                self._do(item.table, f"ALTER TABLE {quote(item.table)} ADD {item.sql}")
            elif item.kind in ("trigger", "routine"):
                self._do(item.name, _dropping(item))
                self._do(item.name, f"SET sql_mode = '{item.mode}'")
                try:
                    self._do(item.name, item.sql)
                finally:
                    self._do(item.name, f"SET sql_mode = '{_MODE}'")
        views = [item for item in attach if item.kind == "view"]
        # A view may need another one: go round as long as each round brings one in.
        while views:
            failed: dict[str, DatabaseError] = {}
            for item in views:
                try:
                    self._do(item.name, item.sql)
                except DatabaseError as error:
                    failed[item.name] = error
            if len(failed) == len(views):
                if not all(map(_lacks_something, failed.values())):
                    raise next(iter(failed.values()))
                return [f"the view {error}: it could not be made" for error in failed.values()]
            views = [item for item in views if item.name in failed]
        return []

    def patch(self, patches: Sequence[Patch]) -> int:
        changed = 0
        with _said("the change of the rows"), self._control.cursor() as cursor:
            self._control.begin()
            try:
                for patch in patches:
                    changed += cursor.execute(_update(patch))
            except BaseException:
                self._control.rollback()
                raise
            self._control.commit()
        return changed

    def _execute(self, about: str, sql: str, values: Sequence[object]) -> int:
        with _said(about), self._control.cursor() as cursor:
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


def _lacks_something(error: DatabaseError) -> bool:
    """True where a view needs a table, column or routine that is not there."""
    cause = error.__cause__
    return isinstance(cause, pymysql.Error) and bool(cause.args) and cause.args[0] in _LACKING


def _word(item: Attachment) -> str:
    """What a trigger, view or routine is called in SQL."""
    routine = _ROUTINE.match(item.sql) if item.kind == "routine" else None
    return routine[1] if routine else item.kind.upper()


def _named(item: Attachment) -> tuple[str, str]:
    """By what it is known: a procedure and a function may have one name."""
    return _word(item), item.name


def _dropping(item: Attachment) -> str:
    return f"DROP {_word(item)} IF EXISTS {quote(item.name)}"


def _update(patch: Patch) -> str:
    def same(first: str, second: str, columns: Sequence[str]) -> list[str]:
        return [f"{first}.{quote(c)} = {second}.{quote(c)}" for c in columns]

    # Compared as bytes: a collation would take two spellings of a text for equal. All columns are
    # set, so that none that keeps the time of the last change is touched by the server.
    unchanged = [
        f"CAST(l.{quote(c)} AS BINARY) <=> CAST(b.{quote(c)} AS BINARY)" for c in patch.compared
    ]
    return (
        f"UPDATE {quote(patch.table)} l JOIN {quote(patch.after)} a ON "
        + " AND ".join(same("l", "a", patch.key))
        + f" JOIN {quote(patch.before)} b ON "
        + " AND ".join(same("l", "b", patch.key))
        + " SET "
        + ", ".join(same("l", "a", patch.columns))
        + (" WHERE " + " AND ".join(unchanged) if unchanged else "")
    )
