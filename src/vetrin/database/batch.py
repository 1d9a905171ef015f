"""Rows on their way: batches of cells.

A cell is exactly what the engine stores: bytes for text and binary values (in the column's own character set), None
for NULL, and for engines with dynamic types also int and float. Nothing is converted on the way, so what is read and
written back is the same to the byte.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING

from ..errors import DatabaseError
from .cells import take_cells

if TYPE_CHECKING:
    from .pages import Page

Cell = bytes | int | float | None
BATCH_BYTES = 1 << 20


class Batch:
    """Rows of one table, row by row in one flat list: ``cells[row * width + column]``.

    ``mixed``: a column may hold other values than bytes and None. ``records`` are the rows as they were
    read, whatever becomes of the cells, where the engine gives them (see ``row_codec.py``); with them, and without
    ``cells``, rows are taken apart when somebody asks for their cells. ``pages`` are those that
    the rows make one behind the other, where somebody made them, and ``sums`` what each row added to their digests,
    ``checks`` the CRC-32 of each record, where somebody made these;
    ``altered`` the numbers of rows that got other values since, ``current`` the records as they are with these, until
    another row gets one.
    """

    def __init__(
        self,
        width: int,
        cells: list[Cell] | None,
        size: int,
        mixed: bool = False,
        records: list[bytes] | None = None,
    ) -> None:
        self.width = width
        self.size = size
        self.mixed = mixed
        self.pages: tuple[Page, ...] = ()
        self.sums: Sequence[int] = ()
        self.checks: Sequence[int] = ()
        self.altered: set[int] = set()
        self.current: list[bytes] | None = None
        self._cells = cells
        self._records = records
        self._apart: dict[int, list[Cell]] = {}  # rows that were taken apart before all are

    @property
    def cells(self) -> list[Cell]:
        if self._cells is None:
            cells: list[Cell] = []
            take_cells(b"".join(self._records or ()), cells.append)
            width = self.width
            if len(cells) != width * len(self._records or ()):
                raise _misshapen()
            for row, mine in self._apart.items():
                cells[row * width : (row + 1) * width] = mine
            self._apart.clear()
            self._cells = cells
        return self._cells

    @cells.setter
    def cells(self, cells: list[Cell]) -> None:
        self._cells = cells
        self.current = None

    @property
    def records(self) -> list[bytes] | None:
        return self._records

    @records.setter
    def records(self, records: list[bytes] | None) -> None:
        if records is None and self._cells is None:
            self._cells = self.cells
        self._records = records

    @property
    def rows(self) -> int:
        if self._cells is None:
            return len(self._records or ())
        return len(self._cells) // self.width

    def row(self, number: int) -> list[Cell]:
        """The cells of one row; they are not to be changed."""
        if self._cells is not None:
            return self._cells[number * self.width : (number + 1) * self.width]
        found = self._apart.get(number)
        if found is None:
            found = []
            take_cells((self._records or ())[number], found.append)
            if len(found) != self.width:
                raise _misshapen()
        return found

    def part(self, rows: Iterable[int]) -> Batch:
        """Some rows, as they are now."""
        cells = [cell for row in rows for cell in self.row(row)]
        return Batch(self.width, cells, 0, self.mixed)

    def texts(self, index: int) -> list[bytes | None]:
        """A column's values, with None for each that is neither text nor binary."""
        column = self.cells[index :: self.width]
        if not self.mixed:
            return column  # type: ignore[return-value]
        return [cell if isinstance(cell, bytes) else None for cell in column]

    def put(self, index: int, values: Mapping[int, bytes]) -> None:
        """Set a column's cells in the rows that ``values`` names; each keeps its type."""
        for row, value in values.items():
            kind: Callable[[bytes], Cell] = type(self.row(row)[index]) if self.mixed else bytes
            self.set(row, index, kind(value))

    def set(self, row: int, index: int, value: Cell) -> None:
        """Set one cell."""
        self.altered.add(row)
        self.current = None
        if self._cells is not None:
            self._cells[row * self.width + index] = value
        else:
            mine = self._apart[row] = self.row(row)
            mine[index] = value

    def each(self) -> Iterator[list[Cell]]:
        width = self.width
        for at in range(0, len(self.cells), width):
            yield self.cells[at : at + width]


def _misshapen() -> DatabaseError:
    return DatabaseError(
        "the server sent a row that has not as many values as the table has columns"
    )
