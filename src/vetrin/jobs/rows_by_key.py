"""Rows of a table by their keys."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

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
        names = [column.name for column in self._table.columns]
        places = [names.index(name) for name in self._table.key]
        found: dict[Key, Row] = {}
        for batch in self._batches(wanted):
            for row in batch.each():
                key = tuple(row[place] for place in places)
                if key in wanted:
                    found[key] = row
        return found

    def all_of(self, table: Table) -> dict[Key, Row]:
        """All rows of another table of the same columns, by key."""
        names = [column.name for column in table.columns]
        places = [names.index(name) for name in self._table.key]
        return {
            tuple(row[place] for place in places): row
            for batch in self._reader.rows(table)
            for row in batch.each()
        }

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
