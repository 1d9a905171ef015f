"""MariaDB and MySQL.

Rows are read in the text protocol and written with ``LOAD DATA LOCAL`` where the server takes it,
else with INSERT. Two connections: one for statements (utf8mb4), one for rows (binary, so that no
character set is converted). Foreign keys, triggers and views carry names that are unique in the
database, so they are attachments: off before, on after the swap.
"""

from __future__ import annotations

import contextlib
import dataclasses
import re
import secrets
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any

import pymysql
from msgspec.structs import replace

from ...errors import DatabaseError, DatabaseUnreachable, RowsMoved, Unsuitable
from ..base import (
    HIDDEN,
    Adapted,
    Attachment,
    Exchange,
    Facts,
    ForeignKey,
    Patch,
    ReadableDatabase,
    Recount,
    Script,
    Table,
    must_be_hidden,
    pending,
)
from ..batch import Batch
from ..conditions import Where
from ..key_ranges import KeyRange
from ..page_prints import PagePrints, PrintsThere
from ..questions import Question
from ..staging_edits import HiddenEditing
from ..statements import doing
from .accounts import Credentials, creating_statements, may_create, may_make_routines, told
from .answers import Wires
from .asking import Asking
from .catalog import Catalog
from .columns import quote
from .connect import SCANS, WORKS, Dial, connect, error_code, said
from .dependents import (
    EVENTS,
    FOREIGN_KEY,
    LACKING,
    Hanging,
    Item,
    create_text,
    settling,
)
from .digest_worker import DigestWorker
from .filling import Filling
from .incoming_sql import fit, unfit_table
from .later_indexes import LaterIndexes, without_indexes
from .page_digests import PageDigests
from .patching import patching
from .reader import MysqlReader
from .row_query import DIALECT, range_condition
from .schema.translate import Server, adapt_attachment, adapt_schema
from .sequences import without_draws
from .side_by_side import side_by_side
from .wire import Wire

_NO_DATABASE = (1049, 1044)
_NO_ACCOUNT = 1045
_CLIENT_ERRORS = 2000  # from here on, errors are those of the connection
_IN_USE, _STATEMENTS_LOGGED = 1205, 1665
_HELD_UP = (_IN_USE, 1213)  # and a deadlock
_TRIES = 21
_AT_ONCE = 50  # statements that are sent before the first is answered
# For so many seconds a swap waits for a table in use, while all others wait for it.
PATIENT = {"sql": "SET lock_wait_timeout = 30"}


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
        prints: PagePrints | None = None,
    ) -> None:
        """``prints`` are what its pages looked like, for a server on this machine, or one at which a helper reads."""
        self._dial = dial
        self.prints = prints
        self._credentials = credentials
        self._read_only = read_only
        self._facts: tuple[Wire | None, Facts | None] = None, None  # and which connection told them
        self._asking = Asking(credentials.name, lambda: self._control)
        self._rows, self._asked = self._asking.rows, self._asking.asked
        self._catalog = Catalog(credentials.name, credentials.where, self._asking)
        self._creator = creator
        self.missing = False
        try:
            self._control = self._connect("utf8mb4")
        except DatabaseUnreachable as error:
            if not may_be_missing or error.number not in (*_NO_DATABASE, _NO_ACCOUNT):
                raise
            self._look_around(error)
        self._filling = Filling(
            connect=lambda: self._connect("binary", fills=True, bulk=True, silence=WORKS),
            takes_loads=self._takes_loads if bulk_load else lambda: False,
            may_prepare=self._may_prepare,
            most=lambda: self.facts().max_statement or 0,
            digest=self._digest,
        )
        self._lost_worker = threading.Event()
        self._later = LaterIndexes(lambda: self._connect("utf8mb4", silence=WORKS))

    def _look_around(self, error: DatabaseUnreachable) -> None:
        """Connect without a database, as the account that may make one."""
        account = self._creator or self._credentials
        if error.number == _NO_ACCOUNT and self._creator is None:
            raise DatabaseUnreachable(
                str(error),
                f"{error.remedy}; where both are still to be made:\n{told(self._credentials)}",
            ) from error
        self._control = self._connect("utf8mb4", dataclasses.replace(account, name=""))
        there = self._rows(
            account.where,
            "SELECT 1 FROM information_schema.schemata WHERE schema_name = %s",
            [self._credentials.name],
        )
        # Who may make it also gives an account the right to one that was left half made.
        if there and self._creator is None:
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
        self._later.close()
        for wire in (self._control, self._filling):
            with contextlib.suppress(pymysql.Error):
                wire.close()

    def looking(self) -> contextlib.AbstractContextManager[None]:
        return self._asking.looking()

    def ahead(self, questions: Iterable[Question]) -> None:
        self._asking.together(map(self._asking.statement, questions))

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
        if self._control.by_request is not None:
            # Nothing holds a lock there; what asks there sees those of others.
            return other._control.by_request is not None or other.is_same(self)
        about, token = self._credentials.name, f"vetrin {secrets.token_hex(12)}"
        try:
            ((got,),) = self._asked(about, "SELECT GET_LOCK(%s, 0)", [token])
            if got != 1:
                return True
            try:
                ((seen,),) = other._asking.asked(about, "SELECT IS_USED_LOCK(%s)", [token])
            finally:
                self._asked(about, "SELECT RELEASE_LOCK(%s)", [token])
        except DatabaseError:
            return True
        return seen is not None

    def facts(self) -> Facts:
        asked, facts = self._facts
        if asked is not self._control or facts is None:
            facts = self._catalog.facts(f"{self._credentials.name} on {self._credentials.where}")
            by_request = self._control.by_request
            if by_request is not None:
                loads = facts.bulk_load and by_request.loads
                facts = replace(facts, one_moment=False, bulk_load=loads)
            self._facts = self._control, facts
        return facts

    def tables(self) -> list[Table]:
        return self._catalog.tables()

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
        return self._catalog.broken()

    def size(self) -> int:
        return self._catalog.size()

    @contextlib.contextmanager
    def reading(self) -> Iterator[MysqlReader]:
        def connection() -> Wire:
            # The first time there is nothing that prints could be compared with.
            prints = isinstance(self.prints, PrintsThere) and not self.prints.empty
            return self._connect("stored", bulk=True, view=True, prints=prints, silence=SCANS)

        wire = connection()
        wires = Wires(wire, connection) if wire.by_request is not None else None
        try:
            with DigestWorker(wire, self._lost_worker) as elsewhere:
                yield MysqlReader(wire, wires, self.prints, elsewhere)
        finally:
            for one in (wire, wires):
                with contextlib.suppress(pymysql.Error):
                    if one is not None:
                        one.close()

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
        return self._catalog.server(self.facts())

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
            self._asking.together,
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
        with self.looking():
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

    def lay_out(
        self, hidden: str, table: Table, schema: str, *, indexes_later: bool = False
    ) -> None:
        head = f"CREATE TABLE {quote(table.name)}"
        if not schema.startswith(head):
            raise DatabaseError(f"{table.name}: its definition begins in an unknown way")
        if why := unfit_table(schema):
            raise Unsuitable(f"{table.name}: {why}")
        indexes: list[str] = []
        if indexes_later and self._control.by_request is None:
            schema, indexes = without_indexes(schema)
        self._later.lacks(hidden, indexes)
        making = f"CREATE TABLE {quote(hidden)}" + schema[len(head) :]
        with said(table.name), self._control.patience(WORKS):
            self._touched([_dropping(hidden), making])

    def fill(
        self,
        hidden: str,
        table: Table,
        batches: Iterable[Batch],
        moved: Callable[[int, int], None] | None = None,
        *,
        warned: Callable[[str], None] | None = None,
    ) -> int:
        return self._filling.fill(hidden, table, batches, moved, warned)

    def _digest(self, hidden: str, table: Table) -> str:
        """The digest of all rows that lie in a hidden table."""
        there = PageDigests(self._control, replace(table, name=hidden))
        with said(table.name), self._control.patience(SCANS):
            ((found,),) = side_by_side(self._control, [there.of([KeyRange()])])
        return found

    def _takes_loads(self) -> bool:
        if self._control.by_request is not None and not self._control.by_request.loads:
            return False
        return bool(int(self._rows("local_infile", "SELECT @@local_infile")[0][0]))

    def _may_prepare(self) -> bool:
        """Whether rows may go in by prepared statements: MySQL works out the types of values for itself, and over a
        line it takes as long as that does."""
        near = self.prints is not None and not isinstance(self.prints, PrintsThere)
        return near and self._server.product == "MariaDB" and self._control.by_request is None

    def finish(self, hidden: str, source: ReadableDatabase, table: Table, schema: str = "") -> None:
        """Begin to make indexes; the next number to give is part of the table's definition here."""
        if schema and without_indexes(schema)[1] and self._control.by_request is None:
            self._later.lacks_of(hidden, schema, self.definitions([hidden]).get(hidden, ""))
        self._later.begin(hidden)

    def indexed(self) -> None:
        self._later.wait()

    def last_given(self, table: str) -> int | None:
        return None

    def swap(
        self,
        exchanges: Sequence[Exchange],
        detach: Sequence[Attachment],
        attach: Sequence[Attachment],
    ) -> list[str]:
        remarks = self._run([PATIENT, *_renaming(exchanges, self._present())])
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
                    PATIENT,
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
        wire = connect(self._credentials, "utf8mb4", dial=self._dial, over=socket)
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

    def patch(
        self,
        patches: Sequence[Patch],
        recounts: Sequence[Recount] = (),
        *,
        expected: int | None = None,
    ) -> int:
        if self._control.by_request is not None:
            changed = self._patched_by_request(patches, recounts, expected)
        else:
            changed = self._patched(patches, recounts, expected)
        # Not part of any transaction here; a table that somebody keeps in use goes on from its highest number.
        for patch in patches:
            if patch.given is not None:
                sql = f"ALTER TABLE {quote(patch.table)} AUTO_INCREMENT = {patch.given + 1}"
                self._run([PATIENT, {"sql": sql, "soft": [_IN_USE]}])
        return changed

    def _patched_by_request(
        self, patches: Sequence[Patch], recounts: Sequence[Recount], expected: int | None
    ) -> int:
        """As ``_patched``, where one request is all that a transaction lasts."""
        statements = [sql for patch in patches for sql in patching(patch)]
        with said("the change of the rows"), self._control.cursor() as cursor:
            counts = [cursor.mogrify(*self._dialect.recount(recount)) for recount in recounts]
            texts = [_encoded(sql) for sql in (*statements, *counts)]
            changed = self._control.transaction(texts, len(statements), expected) or 0
        if expected is not None and changed != expected:
            raise RowsMoved(expected - changed)
        return changed

    def _patched(
        self, patches: Sequence[Patch], recounts: Sequence[Recount], expected: int | None
    ) -> int:
        with (
            said("the change of the rows"),
            self._control.patience(WORKS),
            self._control.cursor() as cursor,
        ):
            statements = [sql for patch in patches for sql in patching(patch)]
            counts = [cursor.mogrify(*self._dialect.recount(recount)) for recount in recounts]
            # Statements go together, for others wait until all is over. Where the server gives the transaction up,
            # those behind begin another one, for nothing is committed by itself.
            cursor.execute("SET autocommit = 0")
            try:
                changed = sum(self._touched([*statements, *counts])[: len(statements)])
                if expected is not None and changed != expected:
                    raise RowsMoved(expected - changed)
                self._control.commit()
            except BaseException:
                with contextlib.suppress(pymysql.Error):
                    self._control.rollback()
                    cursor.execute("SET autocommit = 1")
                raise
            cursor.execute("SET autocommit = 1")
        return changed

    def _touched(self, statements: Sequence[str]) -> list[int]:
        """How many rows each of some statements touched; raises what the server says of the first that it refuses."""
        found: list[int] = []
        for one in self._together(statements):
            if isinstance(one, pymysql.Error):
                raise one
            found.append(one)
        return found

    def _together(self, statements: Sequence[str]) -> Iterator[int | pymysql.Error]:
        """Carry out statements, some at a time: how many rows each touched, or what the server says of it."""
        for at in range(0, len(statements), _AT_ONCE):
            yield from self._control.touched(statements[at : at + _AT_ONCE])

    def definitions(self, tables: Iterable[str]) -> dict[str, str]:
        return self._catalog.definitions(tables)

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
        left = list(hidden)
        for name in left:
            must_be_hidden(name)
        # The server needs a moment to let go of a table whose load was cut off.
        for tries in reversed(range(_TRIES)):
            with said(self._credentials.name), self._control.patience(WORKS):
                answers = [*self._together([*map(_dropping, left)])]
            refused = {
                name: answer
                for name, answer in zip(left, answers, strict=True)
                if isinstance(answer, pymysql.Error)
            }
            for name, error in refused.items():
                if not tries or error.args[0] not in _HELD_UP:
                    with said(name):
                        raise error
            left = [*refused]
            if not left:
                return
            time.sleep(0.25)


def _dropping(hidden: str) -> str:
    return f"DROP TABLE IF EXISTS {quote(hidden)}"


def _encoded(sql: str | bytes) -> bytes:
    return sql if isinstance(sql, bytes) else sql.encode("utf-8", "surrogateescape")


def _renaming(exchanges: Sequence[Exchange], there: set[str]) -> list[Item]:
    """The one statement that exchanges all tables which still have to be, none where there are none."""
    renames: list[str] = []
    for exchange in pending(exchanges, there):
        if exchange.outgoing is not None and exchange.live in there:
            renames.append(f"{quote(exchange.live)} TO {quote(exchange.outgoing)}")
        if exchange.incoming is not None:
            renames.append(f"{quote(exchange.incoming)} TO {quote(exchange.live)}")
    return [{"sql": "RENAME TABLE " + ", ".join(renames)}] if renames else []
