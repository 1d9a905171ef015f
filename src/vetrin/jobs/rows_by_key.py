"""Rows of a table by their keys."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from ..database import Batch, KeyRanges, Reader, Table, can_copy_in_ranges
from ..errors import Refused
from ..merge import Key
from ..merge.references import Row

_AT_ONCE = 500  # keys that one question asks for
_READ_WHOLE = 32 << 20  # bytes of a table whose rows cannot be asked for by key


class RowsByKey:
    """Reads rows of a table by their keys."""

    def __init__(self, reader: Reader, table: Table) -> None:
        self._reader = reader
        self._table = table

    def of(self, keys: Iterable[Key]) -> dict[Key, Row]:
        """The rows that are there, by key.

        Raises:
            Refused: the table is too large to be read as a whole, which it would have to be.
        """
        wanted = {*keys}
        if not wanted:
            return {}
        return {key: row for key, row in self._keyed(self._batches(wanted)) if key in wanted}

    def all_of(self, table: Table) -> dict[Key, Row]:
        """All rows of another table of the same columns, by key."""
        return dict(self._keyed(self._reader.rows(table)))

    def _keyed(self, batches: Iterable[Batch]) -> Iterator[tuple[Key, Row]]:
        names = [column.name for column in self._table.columns]
        places = [names.index(name) for name in self._table.key]
        for batch in batches:
            for row in batch.each():
                yield tuple(row[place] for place in places), row

    def _batches(self, wanted: set[Key]) -> Iterator[Batch]:
        if can_copy_in_ranges(self._table):
            numbers = sorted(tuple(int(cell) for cell in key) for key in wanted)  # type: ignore[arg-type]
            for at in range(0, len(numbers), _AT_ONCE):
                some = KeyRanges(keys=frozenset(numbers[at : at + _AT_ONCE]))
                yield from self._reader.rows(self._table, key_range=some)
            return
        if self._table.size > _READ_WHOLE:
            raise Refused(
                f"{self._table.name} has no key of numbers, and is too large to be merged row by row",
                "",
            )
        yield from self._reader.rows(self._table)


def batch_of(rows: Sequence[Row], *, mixed: bool) -> Batch:
    """A batch of some rows, of which there is at least one."""
    cells = [cell for row in rows for cell in row]
    size = sum(len(cell) if isinstance(cell, bytes) else 8 for cell in cells)
    return Batch(len(rows[0]), cells, size, mixed)
