"""The few SELECT statements that look at a table, the same for every engine but for two marks."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from .contract import Where


@dataclass(frozen=True)
class Dialect:
    """How an engine quotes a name, and the mark that stands for a value."""

    quote: Callable[[str], str]
    mark: str

    def count(self, table: str, where: Where | None) -> tuple[str, list[object]]:
        """A statement that counts rows, and its values."""
        clause, values = self._where(where)
        return f"SELECT COUNT(*) FROM {self.quote(table)}{clause}", values

    def select(
        self,
        table: str,
        columns: Sequence[str],
        where: Where | None,
        order: str | None,
        descending: bool,
        limit: int | None,
    ) -> tuple[str, list[object]]:
        """A statement that reads a few rows, and its values."""
        clause, values = self._where(where)
        sql = f"SELECT {', '.join(map(self.quote, columns))} FROM {self.quote(table)}{clause}"
        if order:
            sql += f" ORDER BY {self.quote(order)}" + (" DESC" if descending else "")
        if limit is not None:
            sql += f" LIMIT {int(limit)}"
        return sql, values

    def _where(self, where: Where | None) -> tuple[str, list[object]]:
        parts: list[str] = []
        values: list[object] = []
        for column, wanted in (where or {}).items():
            options = [wanted] if isinstance(wanted, (str, int)) else list(wanted)
            parts.append(f"{self.quote(column)} IN ({', '.join([self.mark] * len(options))})")
            values += options
        return (" WHERE " + " AND ".join(parts) if parts else ""), values
