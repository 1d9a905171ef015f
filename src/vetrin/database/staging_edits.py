"""Editing hidden tables, the same for every engine."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from typing import ClassVar

from .base import must_be_hidden
from .conditions import Where
from .sql import Dialect, Statement


class HiddenEditing(ABC):
    """``put``, ``remove`` and ``take_over`` of the contract, on what an engine can execute."""

    _dialect: ClassVar[Dialect]

    @abstractmethod
    def _execute(self, about: str, sql: str, values: Sequence[object]) -> int:
        """Run one statement; the number of rows that it touched."""

    @abstractmethod
    def count(self, table: str, where: Where | None = None) -> int: ...

    def _edit(self, hidden: str, statement: Statement) -> int:
        must_be_hidden(hidden)
        return self._execute(hidden, *statement)

    def put(self, hidden: str, key: Mapping[str, object], values: Mapping[str, object]) -> None:
        where: Where = key  # type: ignore[assignment]
        if self.count(hidden, where):
            self._edit(hidden, self._dialect.update(hidden, where, values))
        else:
            self._edit(hidden, self._dialect.insert(hidden, {**key, **values}))

    def remove(self, hidden: str, where: Where) -> int:
        return self._edit(hidden, self._dialect.delete(hidden, where))

    def take_over(
        self,
        hidden: str,
        table: str,
        columns: Sequence[str],
        where: Where | None = None,
        fixed: Mapping[str, object] | None = None,
    ) -> int:
        return self._edit(
            hidden, self._dialect.take_over(hidden, table, columns, where, fixed or {})
        )
