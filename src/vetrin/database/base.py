"""What every database engine offers to a transfer. Rows travel in batches (``batch.py``)."""

from __future__ import annotations

from collections.abc import Callable, Generator, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from typing import TYPE_CHECKING, Any, Literal, Protocol

from msgspec import Struct
from msgspec.structs import replace

from .batch import BATCH_BYTES, Batch
from .conditions import Condition, Replacement, Where
from .page_prints import PagePrints
from .questions import Defining, Question
from .rows_aside import RowsAside

if TYPE_CHECKING:
    from .key_ranges import KeyRange, KeyRanges

HIDDEN = "_vetrin_"


def in_words(code: int, message: str) -> str:
    """What a server of MariaDB or MySQL said, in other words where its own would not help."""
    if code == 1205:
        return "a table stayed in use by somebody else for too long, as by a backup or a long query"
    return message


class Facts(Struct, frozen=True):
    """What matters about a server before rows are moved to it; ``max_statement`` is in bytes.

    ``where`` says for a person how the database is reached; ``identity`` is the same for two
    connections to one database, however they are made. ``one_moment``: what is read in one ``reading`` is of one
    moment.
    """

    engine: str
    product: str
    version: str
    charset: str
    max_statement: int | None
    bulk_load: bool | None
    where: str
    identity: str
    details: Mapping[str, str] = {}
    one_moment: bool = True

    def kept(self) -> dict[str, object]:
        """What may be kept with a snapshot: nothing that says who logs in where."""
        details = {key: text for key, text in self.details.items() if key != "account"}
        return {
            "product": self.product,
            "version": self.version,
            "charset": self.charset,
            "details": details,
        }


class Column(Struct, frozen=True):
    """``read`` and ``write`` are the engine's own affair: how to get the stored value out and in."""

    name: str
    type: str
    text: bool
    read: str = ""
    write: str = ""


class Table(Struct, frozen=True):
    """A base table. ``columns`` leaves out generated ones; ``rows`` and ``size`` are estimates.

    ``key`` is the primary key; ``fixed`` holds all columns of primary and unique keys. ``notes``
    say what a copy cannot promise for this table.
    """

    name: str
    columns: tuple[Column, ...]
    key: tuple[str, ...]
    fixed: frozenset[str]
    rows: int
    size: int
    consistent: bool = True
    notes: tuple[str, ...] = ()


class Attachment(Struct, frozen=True):
    """A thing that hangs on tables under a name unique in the whole database.

    Two copies of it cannot exist side by side, so it is taken off what leaves and put on what
    comes in, directly after (or in the same transaction as) the swap. ``sql`` makes it anew. A
    ``search`` is an index for words that is kept in tables of its own and filled from its table. A
    ``routine`` is a stored procedure or function; it has no table, and no ``sql`` where the server does
    not show it to this account. A ``sequence`` gives the numbers of a ``default`` of its table (or, without one, of
    what is outside of the database), whose ``name`` is
    the column's.

    ``mode`` is the SQL mode that a text was made under, of a sequence the number that it gives next;
    ``collation`` that of the literals in a text, where the server keeps it. ``lost`` says why it cannot come
    along.
    """

    kind: Literal[
        "index", "search", "trigger", "view", "constraint", "routine", "sequence", "default"
    ]
    name: str
    table: str
    sql: str
    mode: str = ""
    collation: str = ""
    lost: str = ""


class ForeignKey(Struct, frozen=True):
    """A declared foreign key. ``clears``: where a parent row goes, the columns become NULL, and the row stays; see
    ``clears_where``."""

    name: str
    table: str
    columns: tuple[str, ...]
    parent: str
    parent_columns: tuple[str, ...]
    clears: bool = False


def clears_where(on_delete: str, nullable: bool) -> bool:
    """Whether a row outlives what it refers to, by the ON DELETE rule of its foreign key. Where the rule takes no
    side, a row whose reference can be empty is one that can do without it."""
    rule = on_delete.upper()
    return rule == "SET NULL" or (rule != "CASCADE" and nullable)


class Exchange(Struct, frozen=True):
    """In a swap the table ``live`` goes out as ``outgoing`` and ``incoming`` takes its name.

    ``outgoing`` is None where there is no such table yet, ``incoming`` None where none follows.
    """

    live: str
    incoming: str | None
    outgoing: str | None


class Script(Struct, frozen=True):
    """Statements that exchange tables, as a step of a switch that is handed over (``remote/executor.py``).

    ``step`` is that step. ``server`` says which database server the process has to reach (``name`` and
    ``port``, or ``socket``), None for none; ``log_in`` then makes the connection ready through the socket that
    it is given, and says False where it cannot be handed over in that state.
    """

    step: dict[str, Any]
    server: dict[str, Any] | None = None
    log_in: Callable[[Any], bool] | None = None


class Patch(Struct, frozen=True):
    """Rows of ``table`` to change in place: from what ``before`` holds to what ``after`` holds.

    Both are hidden tables laid out like ``table``, with the same rows by ``key``; where the patch is ``whole``, those
    that only ``before`` has go, and those that only ``after`` has come. ``columns`` are all others than the key's;
    ``compared`` those that must still be as they were for a row to be changed or to go. ``given`` is the last number
    that the table is to have given to a row, None where that stays as it is. ``born`` are columns that only a row
    that comes gets: nothing else is done to them. ``yields``: a row that comes stays out where another one, made
    since, has what has to be unique.
    """

    table: str
    before: str
    after: str
    key: list[str]
    columns: list[str]
    compared: list[str]
    whole: bool = False
    given: int | None = None
    born: list[str] = []
    yields: bool = False

    def reversed(self) -> Patch:
        return replace(self, before=self.after, after=self.before, given=None, yields=True)


class Recount(Struct, frozen=True):
    """A column of ``table`` that is to hold how many rows of the table ``of`` belong to its row: those whose
    ``owner`` column has the row's ``key``, and that meet ``where``. In the rows of some ``keys`` only."""

    table: str
    column: str
    key: str
    of: str
    owner: str
    where: Condition
    keys: tuple[int, ...]


class Adapted(Struct, frozen=True):
    """A table's schema as this server understands it, and what had to be changed for that."""

    sql: str
    notes: tuple[str, ...] = ()


class WantedDigests(Struct, frozen=True):
    """What ``Reader.digests`` is asked of one table."""

    table: Table
    ranges: Sequence[KeyRange]
    leave: Where | None = None
    replacements: Mapping[str, Replacement] | None = None
    known: Sequence[str] = ()
    aside: RowsAside | None = None


class WantedRows(Struct, frozen=True):
    """What ``Reader.rows`` and ``records`` are asked."""

    table: Table
    leave: Where | None = None
    replacements: Mapping[str, Replacement] | None = None
    key_range: KeyRange | KeyRanges | None = None

    def by(self, reader: Reader) -> Iterator[Batch]:
        """The rows, as a reader reads them."""
        return reader.rows(
            self.table, leave=self.leave, replacements=self.replacements, key_range=self.key_range
        )

    def records_by(self, reader: Reader) -> Iterator[list[bytes]]:
        """The same rows as records."""
        return reader.records(
            self.table, leave=self.leave, replacements=self.replacements, key_range=self.key_range
        )


# Of one table after the other.
DigestsOf = Generator[list[str], None, None]


class Reader(Protocol):
    """Reads rows as they were at one moment, where the engine can."""

    @property
    def prints(self) -> PagePrints | None:
        """What pages looked like, where it is of use to know."""

    def rows(
        self,
        table: Table,
        batch_bytes: int = BATCH_BYTES,
        *,
        leave: Where | None = None,
        replacements: Mapping[str, Replacement] | None = None,
        key_range: KeyRange | KeyRanges | None = None,
    ) -> Iterator[Batch]:
        """All rows in key order (where there is one), in batches of about ``batch_bytes``.

        Rows that meet ``leave`` are left out; ``replacements`` says what is read in place of a column;
        ``key_range`` is for tables that go by key.
        """

    def expect(self, wanted: Sequence[WantedRows]) -> None:
        """These rows will be read next, one after the other, each to the end, so they may be on their way before.
        What is asked otherwise meanwhile is answered all the same, but the later."""

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
        """The digests of pages as they are now (``digests.py``), made where the database is; ``UNTOLD`` for one
        that cannot be made. With the range of all rows, of tables that do not go by key. ``known`` is what those of
        all the ranges were once: it changes nothing in the answer, and saves work where they are still so. The parts
        in which others differ may be put ``aside``, with their rows as ``records`` gives them where they had to be
        read."""

    def digests_of(self, wanted: Iterable[WantedDigests]) -> DigestsOf:
        """The same of several tables, one after the other, for each of which the next are asked for before its answer
        is there, where that takes its way. Nothing else is asked of the reader until all are told; who stops before
        closes it."""

    def records(
        self,
        table: Table,
        stretch_bytes: int = BATCH_BYTES,
        *,
        leave: Where | None = None,
        replacements: Mapping[str, Replacement] | None = None,
        key_range: KeyRange | KeyRanges | None = None,
    ) -> Iterator[list[bytes]]:
        """The rows that ``rows`` gives, for keeping, as the records that ``row_codec.py`` tells of."""

    def count(self, table: str, where: Where | None = None) -> int:
        """How many rows meet a condition, in this view."""


class ReadableDatabase(Protocol):
    """The data of an environment, a snapshot or an archive, for reading.

    Names that begin with ``_vetrin_`` are hidden from ``tables``. Every method raises DatabaseError, with the
    engine's own error chained. ``missing`` is True for a database that does not exist yet: it has no tables.
    """

    engine: str
    missing: bool

    def facts(self) -> Facts:
        """What matters about the server, as far as the account is shown it."""

    def looking(self) -> AbstractContextManager[None]:
        """What is asked in this context counts for all of it, so that nothing need be asked twice. Contexts may lie
        in one another; nothing is to be written in them."""

    def ahead(self, questions: Iterable[Question]) -> None:
        """Have the answers to some questions at hand, asked together, for the ``looking`` that this is called in."""

    def is_same(self, other: ReadableDatabase) -> bool:
        """True if both are one database, however each is reached. What cannot be proved counts as the same."""

    def quote(self, name: str) -> str:
        """An identifier as this engine writes it."""

    def tables(self) -> list[Table]:
        """All tables, other applications' included; hidden ones and views are not among them."""

    def broken_views(self) -> dict[str, str]:
        """Views that lack something they read from, with what the server says of each."""

    def foreign_keys(self) -> list[ForeignKey]:
        """All foreign keys that are declared between tables of this database."""

    def broken(self) -> dict[str, str]:
        """Tables that are there in name and cannot be used, with what the server says of each."""

    def size(self) -> int:
        """Bytes of all tables, indexes included, as far as the engine tells."""

    def reading(self) -> AbstractContextManager[Reader]:
        """A consistent view; closed (and its locks with it) when the context ends."""

    def count(self, table: str, where: Where | None = None) -> int:
        """How many rows of a table meet a condition, as of now."""

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
        """A few rows as Python values (text as str), for looking, not for moving."""

    def groups(
        self, table: str, columns: Sequence[str], where: Where | None = None
    ) -> list[tuple[Any, ...]]:
        """The different values of ``columns`` with how many rows have them, most frequent first."""

    def longest(self, table: Table) -> tuple[str, int]:
        """The column with the longest value, and that value's length in bytes."""

    def schema(self, table: str) -> str:
        """The statement that makes this table, without what is an attachment."""

    def doing(self, item: Attachment) -> str:
        """What a trigger, view or routine does, in a line."""

    def attachments(self, tables: Iterable[str], views: Iterable[str]) -> list[Attachment]:
        """What hangs on some tables and views, and cannot be there twice, as of now."""

    def views(self) -> list[str]:
        """The names of all views, broken ones included."""

    def events(self) -> list[str]:
        """What its server runs at times of its own, as far as the account is shown it."""

    def routines(self) -> list[Attachment]:
        """All stored procedures and functions, where the engine has them."""

    def last_given(self, table: str) -> int | None:
        """The last number that a table gave, where the engine keeps that beside its definition."""

    def close(self) -> None:
        """Close all connections. Closing twice does nothing."""


class Database(ReadableDatabase, Protocol):
    """One database of an environment.

    Guarantees: ``lay_out`` and ``fill`` touch hidden tables only; ``swap`` makes all exchanges
    visible at once or none. ``create`` makes a database that is ``missing``.
    """

    @property
    def unwritable(self) -> str:
        """Why nothing can be written to it, whoever asks; empty where it can."""

    @property
    def prints(self) -> PagePrints | None:
        """What pages looked like in it, where it is of use to know."""

    def create(self) -> None:
        """Make the database where it is missing, and its account where that may be done.

        Raises:
            DatabaseUnreachable: the account may not; the remedy has the statements for who may.
        """

    def adapt(self, table: Table, schema: str, source: Facts) -> Adapted:
        """A schema of the same engine, taken from a server of other facts, for this server.

        Raises:
            Unsuitable: it holds something that has no counterpart here.
        """

    def adapt_attachment(self, item: Attachment, source: Facts) -> Attachment:
        """The same for what hangs on tables; ``lost`` where it does what no text from outside may."""

    @property
    def takes_routines(self) -> bool:
        """True where this account may make stored routines."""

    def hidden_tables(self) -> list[str]:
        """The names of all tables that ``tables`` hides: those of runs."""

    def lay_out(
        self, hidden: str, table: Table, schema: str, *, indexes_later: bool = False
    ) -> None:
        """Make the empty table ``hidden`` after a schema taken from a database of this engine. With ``indexes_later``
        indexes that only serve to find rows may come with ``finish``."""

    def fill(
        self,
        hidden: str,
        table: Table,
        batches: Iterable[Batch],
        moved: Callable[[int, int], None] | None = None,
        *,
        warned: Callable[[str], None] | None = None,
    ) -> int:
        """Write all batches; the number of rows. ``moved(rows, bytes)`` is told of each batch.

        A server may warn of values that it takes as they are. With ``warned``, that is told what the server
        says, and nobody has compared; without it, what was stored is compared with what was sent.

        Raises:
            RowsDiffer: the server altered, cut or dropped something.
        """

    def finish(self, hidden: str, source: ReadableDatabase, table: Table, schema: str = "") -> None:
        """Take over what belongs to a table beside its rows, such as the next number to give, and begin to make the
        indexes that come later: with ``schema``, of a table that may have been laid out by it before this process."""

    def indexed(self) -> None:
        """Return when all tables have their indexes that ``finish`` was called for."""

    def swap(
        self,
        exchanges: Sequence[Exchange],
        detach: Sequence[Attachment],
        attach: Sequence[Attachment],
    ) -> list[str]:
        """Exchange all tables at once, then settle attachments; what is to be said of views that cannot be
        made, as those that need something that was gone at their source already.

        Can be repeated after an interruption: exchanges already made are left out, attachments
        already there are replaced.
        """

    def script(
        self,
        exchanges: Sequence[Exchange],
        detach: Sequence[Attachment],
        attach: Sequence[Attachment],
    ) -> Script | None:
        """What ``swap`` does, and what takes it back, as statements for a process near the database; None where
        they cannot be handed over."""

    def patch(
        self,
        patches: Sequence[Patch],
        recounts: Sequence[Recount] = (),
        *,
        expected: int | None = None,
    ) -> int:
        """Make all patches in one transaction, and count anew what ``recounts`` say; the number of rows that changed,
        went or came.

        A row that is no longer as it was is left alone, so doing it again changes nothing.

        Raises:
            RowsMoved: these are not as many as are ``expected``; nothing was changed.
        """

    def definitions(self, tables: Iterable[str]) -> dict[str, str]:
        """A digest of how each table is defined, as far as it is there: columns, keys, indexes, options, without the
        number that it gives next. The same for two tables only where both are made in the same way."""

    def put(self, hidden: str, key: Mapping[str, object], values: Mapping[str, object]) -> None:
        """Set values in the rows of a hidden table that have this key; add a row where none has."""

    def remove(self, hidden: str, where: Where) -> int:
        """Remove rows of a hidden table; how many they were."""

    def remove_range(self, hidden: str, table: Table, key_range: KeyRange) -> int:
        """Remove the rows of a hidden table whose keys are in a range; how many they were."""

    def take_over(
        self,
        hidden: str,
        table: str,
        columns: Sequence[str],
        where: Where | None = None,
        fixed: Mapping[str, object] | None = None,
    ) -> int:
        """Copy rows of another table into a hidden one, ``fixed`` columns aside; how many."""

    def drop(self, hidden: Iterable[str]) -> None:
        """Remove hidden tables, as far as they are there; raises ValueError for any other."""


def hidden_name(kind: Literal["arriving", "parked"], token: str, index: int) -> str:
    """The name of the ``index``-th hidden table of the run known by ``token``."""
    return f"{HIDDEN}{kind}_{token}_{index}"


def schemas_of(database: ReadableDatabase, tables: Iterable[str]) -> dict[str, str]:
    """The statements that make some tables, by their names, asked for together.

    Raises:
        DatabaseError: one of them is not there, or cannot be read.
    """
    names = list(tables)
    with database.looking():
        database.ahead(map(Defining, names))
        return {name: database.schema(name) for name in names}


def must_be_hidden(name: str) -> None:
    """Raises ValueError for a table that is not hidden: nothing else may be edited or dropped."""
    if not name.startswith(HIDDEN):
        raise ValueError(f"{name} is no hidden table")


def pending(exchanges: Sequence[Exchange], present: Iterable[str]) -> list[Exchange]:
    """Those exchanges that a swap, interrupted and begun anew, still has to make."""
    there = set(present)
    return [
        exchange
        for exchange in exchanges
        if (exchange.incoming in there)
        or (exchange.incoming is None and exchange.outgoing not in there and exchange.live in there)
    ]


def row_key(table: Table, batch: Batch, row: int) -> str:
    """A row's primary key as a person reads it; its place in the batch where it has none."""
    cells = batch.cells[row * batch.width : (row + 1) * batch.width]
    parts = [
        f"{column.name}={cell.decode('utf-8', 'replace') if isinstance(cell, bytes) else cell}"
        for column, cell in zip(table.columns, cells, strict=True)
        if column.name in table.key
    ]
    return ", ".join(parts) or f"row {row + 1}"
