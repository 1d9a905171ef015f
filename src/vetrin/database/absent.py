"""A database that cannot be got at, where nothing of it is needed: it has no tables, and takes none."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from contextlib import AbstractContextManager, nullcontext
from typing import Any, NoReturn

from ..errors import DatabaseError
from .base import Attachment, Facts, ForeignKey, ReadableDatabase, Reader, Table
from .conditions import Where
from .questions import AskedOneByOne


class AbsentDatabase(AskedOneByOne):
    """Implements ``Database``. ``why`` is what was said when it was asked for; whatever writes raises it."""

    missing = False
    takes_routines = False
    prints = None

    def __init__(self, engine: str, name: str, why: str) -> None:
        self.engine = engine
        self._name = name
        self.unwritable = why

    def facts(self) -> Facts:
        return Facts(
            engine=self.engine,
            product="not reached",
            version="",
            charset="",
            max_statement=None,
            bulk_load=None,
            where=self._name,
            identity="",
        )

    def doing(self, item: Attachment) -> str:
        return ""

    def is_same(self, other: ReadableDatabase) -> bool:
        return False

    def quote(self, name: str) -> str:
        return name

    def tables(self) -> list[Table]:
        return []

    def broken_views(self) -> dict[str, str]:
        return {}

    def foreign_keys(self) -> list[ForeignKey]:
        return []

    def broken(self) -> dict[str, str]:
        return {}

    def events(self) -> list[str]:
        return []

    def views(self) -> list[str]:
        return []

    def routines(self) -> list[Attachment]:
        return []

    def hidden_tables(self) -> list[str]:
        return []

    def attachments(self, tables: Iterable[str], views: Iterable[str]) -> list[Attachment]:
        return []

    def size(self) -> int:
        return 0

    def count(self, table: str, where: Where | None = None) -> int:
        return 0

    def select(self, table: str, columns: Sequence[str], **more: Any) -> list[tuple[Any, ...]]:
        return []

    def groups(
        self, table: str, columns: Sequence[str], where: Where | None = None
    ) -> list[tuple[Any, ...]]:
        return []

    def longest(self, table: Table) -> tuple[str, int]:
        return "", 0

    def last_given(self, table: str) -> int | None:
        return None

    def reading(self) -> AbstractContextManager[Reader]:
        return nullcontext(self)  # type: ignore[arg-type]

    def drop(self, hidden: Iterable[str]) -> None:
        for _ in hidden:
            self._refuse()

    def put(self, hidden: str, key: Mapping[str, object], values: Mapping[str, object]) -> None:
        self._refuse()

    def close(self) -> None:
        return

    def _refuse(self, *values: object, **named: object) -> NoReturn:
        raise DatabaseError(f"{self._name} cannot be reached: {self.unwritable}")

    create = schema = adapt = adapt_attachment = lay_out = fill = finish = swap = script = _refuse
    patch = remove = remove_range = take_over = _refuse
