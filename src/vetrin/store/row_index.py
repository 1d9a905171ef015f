"""Asking stored rows: the columns that a question is about, in a passing SQLite file.

Counting, looking at a setting, and deciding which rows are left out are questions that a server answers with
SQL. Of stored rows they are answered by SQLite over the columns concerned, which are read once. Texts compare
as MySQL's usual collations do it, as far as ASCII goes: without regard to case.
"""

from __future__ import annotations

import contextlib
import re
import sqlite3
import tempfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import Any

from ..database import Column, Table
from ..database.batch import Cell
from ..database.conditions import (
    AllOf,
    AnyOf,
    Cleared,
    Condition,
    InSubquery,
    Lowered,
    Not,
    Replacement,
    Sql,
)
from ..database.row_codec import Text
from ..database.sql import Dialect
from ..errors import DatabaseError

_LABEL = re.compile(r"'((?:[^']|'')*)'")
_WHOLE = re.compile(r"(tiny|small|medium|big)?int|year", re.IGNORECASE)
_REAL = re.compile(r"decimal|float|double|numeric|real", re.IGNORECASE)
_BINARY = re.compile(r"(var)?binary|(tiny|medium|long)?blob|geometry|point|bit", re.IGNORECASE)
_ROWS = 5000
# By table, the columns that are needed; None for all.
Wanted = dict[str, set[str] | None]


def quote(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


DIALECT = Dialect(quote, "?")


def wanted_by(part: Condition | Replacement | None, table: str, found: Wanted) -> Wanted:
    """Add to ``found`` the columns that a condition on rows of ``table`` looks at."""

    def add(name: str, column: str) -> None:
        known = found.setdefault(name, set())
        if known is not None:
            known.add(column)

    if part is None:
        return found
    if isinstance(part, Sql):
        found[table] = None
    elif isinstance(part, (AllOf, AnyOf)):
        for one in part.parts:
            wanted_by(one, table, found)
    elif isinstance(part, Not):
        wanted_by(part.part, table, found)
    elif isinstance(part, InSubquery):
        add(table, part.column)
        add(part.table, part.key)
        wanted_by(part.condition, part.table, found)
    elif isinstance(part, Cleared):
        wanted_by(part.condition, table, found)
    elif isinstance(part, Lowered):
        add(table, part.key)
        add(part.table, part.column)
        wanted_by(part.condition, part.table, found)
    else:
        add(table, part.column)
    return found


class RowIndex:
    """Some columns of stored tables, laid open for questions. Rows are numbered from 0, as they are stored.

    ``rows`` gives the rows of a table, as cells, in order.
    """

    def __init__(
        self,
        tables: Iterable[Table],
        rows: Callable[[str], Iterator[Sequence[Cell]]],
    ) -> None:
        self._tables = {table.name: table for table in tables}
        self._rows = rows
        self._open: dict[str, set[str]] = {}
        self._folder = tempfile.TemporaryDirectory(prefix="vetrin-")
        self._connection = sqlite3.connect(
            Path(self._folder.name, "lens.sqlite"), isolation_level=None, check_same_thread=False
        )
        for pragma in ("journal_mode = OFF", "synchronous = OFF"):
            self._connection.execute(f"PRAGMA {pragma}")

    def ask(self, sql: str, values: Sequence[object], wanted: Wanted) -> Iterator[tuple[Any, ...]]:
        """The rows that a SELECT brings, after what it needs was laid open.

        Raises:
            DatabaseError: SQLite does not understand it, as may happen to the user's own SQL.
        """
        self.lay_open(wanted)
        try:
            yield from self._connection.execute(sql, values)
        except sqlite3.Error as error:
            raise DatabaseError(
                f"{', '.join(wanted)}: a stored copy is asked by SQLite, which says: {error}"
            ) from error

    def lay_open(self, wanted: Wanted) -> None:
        """Read columns of tables, as far as they are not open already."""
        for name, columns in wanted.items():
            self._lay_open(name, columns)

    def index(self, table: str, column: str) -> None:
        """Make questions by this column quick."""
        name = quote(f"_vetrin_{table}_{column}")
        self._connection.execute(
            f"CREATE INDEX IF NOT EXISTS {name} ON {quote(table)} ({quote(column)})"
        )

    def close(self) -> None:
        self._connection.close()
        self._folder.cleanup()

    def _lay_open(self, name: str, columns: set[str] | None) -> None:
        table = self._tables.get(name)
        if table is None:
            return  # SQLite will say so
        there = {column.name for column in table.columns}
        wanted = there if columns is None else columns & there
        known = self._open.get(name)
        if known is not None and wanted <= known:
            return
        wanted |= known or set()
        chosen = [
            (index, column) for index, column in enumerate(table.columns) if column.name in wanted
        ]
        takes = [_taking(column) for _, column in chosen]
        places = [index for index, _ in chosen]
        names = ", ".join(f"{quote(c.name)} {_affinity(c)}" for _, c in chosen) or "_vetrin_none"
        marks = ", ".join("?" * max(1, len(chosen)))
        execute = self._connection.execute
        execute(f"DROP TABLE IF EXISTS {quote(name)}")
        execute(f"CREATE TABLE {quote(name)} ({names})")
        execute("BEGIN")
        waiting: list[list[Any]] = []
        insert = f"INSERT INTO {quote(name)} VALUES ({marks})"
        for row in self._rows(name):
            waiting.append(
                [take(row[at]) for take, at in zip(takes, places, strict=True)] or [None]
            )
            if len(waiting) >= _ROWS:
                self._connection.executemany(insert, waiting)
                waiting = []
        self._connection.executemany(insert, waiting)
        execute("COMMIT")
        self._open[name] = wanted


def _affinity(column: Column) -> str:
    if _WHOLE.match(column.type):
        return "INTEGER"
    if _REAL.match(column.type):
        return "REAL"
    return "BLOB" if _BINARY.match(column.type) else "TEXT COLLATE NOCASE"


def _taking(column: Column) -> Callable[[Cell], Any]:
    """How a stored cell becomes a value that can be compared."""
    kind = column.type
    if kind.lower().startswith("enum("):
        labels = ["", *(label.replace("''", "'") for label in _LABEL.findall(kind))]

        def label(cell: Cell) -> Any:
            if cell is None:
                return None
            at = int(cell)
            return labels[at] if at < len(labels) else ""

        return label
    if _WHOLE.match(kind) or _REAL.match(kind):

        def number(cell: Cell) -> Any:
            if not isinstance(cell, bytes):
                return cell
            with contextlib.suppress(ValueError):
                return int(cell)
            return cell.decode("latin-1")

        return number
    if _BINARY.match(kind):
        return lambda cell: bytes(cell) if isinstance(cell, bytes) else cell
    return _text


def _text(cell: Cell) -> Any:
    if not isinstance(cell, (bytes, Text)):
        return cell
    try:
        return str(cell, "utf-8")
    except UnicodeDecodeError:
        return str(cell, "cp1252", "replace")
