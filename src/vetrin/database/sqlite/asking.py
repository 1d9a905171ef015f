"""Questions to a SQLite file: to one on a host they go together where they are known, and none twice while they
look at it."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterable, Sequence
from typing import Any

from ...errors import DatabaseError
from ..questions import Defining, Question, Remembering
from ..sql import Dialect, Statement
from .names import quote

DIALECT = Dialect(quote, "?")


class Asking(Remembering[tuple[str, tuple[object, ...]]]):
    """Asks over the connection that ``connection`` gives; ``about`` names the database in messages. A file here is
    asked at once, whatever it is asked."""

    def __init__(self, about: str, connection: Callable[[], Any]) -> None:
        super().__init__()
        self._about = about
        self._connection = connection

    @property
    def remembers(self) -> bool:
        """True while answers are kept."""
        return self._answers is not None

    @property
    def worth_remembering(self) -> bool:
        return hasattr(self._connection(), "several")

    def ahead(self, questions: Iterable[Question]) -> None:
        """Have the answers to some questions at hand."""
        if self.remembers:
            # All definitions are one answer.
            self.together(
                DIALECT.question(one) for one in questions if not isinstance(one, Defining)
            )

    def together(self, statements: Iterable[Statement]) -> None:
        """Have the answers to some statements at hand; what cannot be answered is asked again where it is needed.

        Raises:
            DatabaseError: the connection was lost.
        """
        if self._answers is None:
            return
        asked = dict.fromkeys((sql, tuple(values)) for sql, values in statements)
        wanted = [one for one in asked if one not in self._answers]
        if len(wanted) < 2:
            return
        try:
            found = several(self._connection(), wanted)
        except sqlite3.Error as error:
            raise DatabaseError(f"{self._about}: {error}") from error
        for one, answer in zip(wanted, found, strict=True):
            if not isinstance(answer, sqlite3.Error):
                self._answers[one] = answer

    def asked(self, sql: str, values: Sequence[object] = ()) -> list[Any]:
        """The rows that a question gives, or gave in this context. Raises sqlite3.Error."""
        if self._answers is None:
            return list(self._connection().execute(sql, values))
        one = sql, tuple(values)
        if one not in self._answers:
            self._answers[one] = list(self._connection().execute(sql, values))
        return self._answers[one]


def several(
    connection: Any, asked: Sequence[tuple[str, Sequence[object]]]
) -> list[list[Any] | sqlite3.Error]:
    """The rows that some statements give, or what is said of one; to a host they go together. Raises sqlite3.Error
    where the connection was lost."""
    if hasattr(connection, "several"):
        found: list[list[Any] | sqlite3.Error] = connection.several(asked)
        return found
    found = []
    for sql, values in asked:
        try:
            found.append(list(connection.execute(sql, values)))
        except sqlite3.Error as error:
            found.append(error)
    return found


def about_index(row: Sequence[Any]) -> str:
    """The question for the columns of an index, by a row of what is told of a table's."""
    return f"PRAGMA index_info({quote(bytes(row[1]).decode())})"


def about_table(table: str) -> tuple[str, str, str, str]:
    """The questions for the columns of a table, its indexes, how many rows it has, and its size."""
    text = table.replace("'", "''")
    return (
        f"PRAGMA table_xinfo({quote(table)})",
        f"PRAGMA index_list({quote(table)})",
        f"SELECT count(*) FROM {quote(table)}",
        f"SELECT coalesce(sum(pgsize), 0) FROM dbstat WHERE name = '{text}'",
    )
