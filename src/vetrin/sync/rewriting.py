"""Rows on their way: batches come in, their text columns are rewritten, everything is counted."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any

from ..database import Batch, Table
from ..rewrite import Mapping, Rewriter, Tally

SHOWN = 20


@dataclass(frozen=True)
class Left:
    """A value that was left as it is, though something in it matches, because it is broken."""

    table: str
    column: str
    key: str


@dataclass
class Rewriting:
    """The counts of one transfer, by table and column."""

    mapping: Mapping
    columns: dict[tuple[str, str], Tally] = field(default_factory=dict)
    values: Counter[tuple[str, str]] = field(default_factory=Counter)
    left: list[Left] = field(default_factory=list)

    def __post_init__(self) -> None:
        self._rewriter = Rewriter(self.mapping)

    @property
    def total(self) -> int:
        return sum(tally.total for tally in self.columns.values())

    @property
    def broken(self) -> int:
        return sum(tally.broken for tally in self.columns.values())

    def by_pair(self) -> Counter[int]:
        counts: Counter[int] = Counter()
        for tally in self.columns.values():
            for (pair, _), count in tally.replaced.items():
                counts[pair] += count
        return counts

    def by_form(self) -> Counter[str]:
        counts: Counter[str] = Counter()
        for tally in self.columns.values():
            for (_, form), count in tally.replaced.items():
                counts[form] += count
        return counts

    def by_table(self) -> Counter[str]:
        counts: Counter[str] = Counter()
        for (table, _), tally in self.columns.items():
            counts[table] += tally.total
        return counts

    def through(
        self, table: Table, indexes: list[int], batches: Iterable[Batch]
    ) -> Iterator[Batch]:
        """Pass batches on with the columns at ``indexes`` rewritten in place."""
        tallies = {
            index: self.columns.setdefault((table.name, table.columns[index].name), Tally())
            for index in indexes
        }
        for batch in batches:
            for index, tally in tallies.items():
                self._column(table, batch, index, tally)
            yield batch

    def _column(self, table: Table, batch: Batch, index: int, tally: Tally) -> None:
        values = batch.texts(index)
        broken: list[int] = []
        changed = self._rewriter.rewrite_column(values, tally, broken)
        name = table.columns[index].name
        cells, width = batch.cells, batch.width
        for row, new in changed.items():
            cells[row * width + index] = type(values[row])(new)  # type: ignore[misc]
        if changed:
            self.values[table.name, name] += len(changed)
        for row in broken[: SHOWN - len(self.left)]:
            self.left.append(Left(table.name, name, _key(table, batch, row)))

    def as_json(self) -> dict[str, Any]:
        return {
            "replaced": self.total,
            "by_form": dict(sorted(self.by_form().items())),
            "by_pair": [
                {"old": pair.old_text, "new": pair.new_text, "count": self.by_pair()[index]}
                for index, pair in enumerate(self.mapping.pairs)
            ],
            "columns": [
                {
                    "table": table,
                    "column": column,
                    "values": self.values[table, column],
                    "replaced": tally.total,
                    "broken": tally.broken,
                    "left": tally.left,
                }
                for (table, column), tally in sorted(self.columns.items())
                if tally.total or tally.broken or tally.left
            ],
            "broken": [vars(item) for item in self.left],
        }


def _key(table: Table, batch: Batch, row: int) -> str:
    """The row's primary key as a person reads it; its number in the batch where it has none."""
    cells = batch.cells[row * batch.width : (row + 1) * batch.width]
    parts = [
        f"{column.name}={_readable(cell)}"
        for column, cell in zip(table.columns, cells, strict=True)
        if column.name in table.key
    ]
    return ", ".join(parts) or f"row {row + 1}"


def _readable(cell: object) -> str:
    return cell.decode("utf-8", "replace") if isinstance(cell, bytes) else str(cell)
