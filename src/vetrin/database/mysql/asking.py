"""Questions to a server, several at once where they are known, and none twice while it is looked at."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

import pymysql

from ..questions import Defining, Question, Remembering
from .connect import said
from .dependents import showing
from .row_query import DIALECT
from .wire import Wire


class Asking(Remembering[str]):
    """Asks over the connection that ``wire`` gives; ``about`` names the database in messages.

    Raises DatabaseError wherever the server refuses.
    """

    def __init__(self, about: str, wire: Callable[[], Wire]) -> None:
        super().__init__()
        self._about = about
        self._wire = wire

    def statement(self, question: Question) -> str:
        """A question as the server is asked it."""
        if isinstance(question, Defining):
            return showing(question.table)
        return self._filled(*DIALECT.question(question))

    def _filled(self, sql: str, values: Sequence[object] | None) -> str:
        """A statement with its values in it."""
        with self._wire().cursor() as cursor:
            return str(cursor.mogrify(sql, values))

    def together(self, statements: Iterable[str]) -> None:
        """Have the answers to some statements at hand; what cannot be answered is asked again where it is needed."""
        if self._answers is None:
            return
        wanted = [sql for sql in dict.fromkeys(statements) if sql not in self._answers]
        if len(wanted) < 2:
            return
        with said(self._about):
            found = self._wire().several(wanted)
        for sql, answer in zip(wanted, found, strict=True):
            if not isinstance(answer, pymysql.Error):
                self._answers[sql] = answer

    def rows(self, about: str, sql: str, values: Sequence[object] | None = None) -> list[Any]:
        """The rows that a question gives, or gave in this context."""
        if self._answers is None:
            return self.asked(about, sql, values)
        filled = self._filled(sql, values)
        if filled not in self._answers:
            self._answers[filled] = self.asked(about, sql, values)
        return list(self._answers[filled])

    def asked(self, about: str, sql: str, values: Sequence[object] | None = None) -> list[Any]:
        """The rows that a statement gives now."""
        with said(about), self._wire().cursor() as cursor:
            cursor.execute(sql, values)
            return list(cursor.fetchall())
