"""Rows as bytes, for keeping: a record is the row's cells, each with its length before it.

The form is that of a row in the text protocol of MariaDB and MySQL ("Text Resultset Row" of their protocol's
documentation): a length below 251 is one byte; 252, 253 and 254 stand before lengths of two, three and eight
bytes, little-endian; 251 is NULL. Rows of these servers are kept as they come over the wire. In records of an
engine with types of its own (``mixed``) each cell begins with a letter for its type: T text, B bytes, I a
whole number, F another number, both as decimal text.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from .base import DigestsOf, Table, WantedDigests, WantedRows
from .batch import BATCH_BYTES, Batch, Cell
from .cells import take_cells
from .page_prints import PagePrints

NULL = b"\xfb"
_SHORT = [bytes([length]) for length in range(251)]


class Text(bytes):
    """A TEXT value as it is stored, told apart from a BLOB of the same bytes."""

    letter = b"T"


def records_of(batch: Batch) -> list[bytes]:
    """The records of a batch's rows."""
    cells = [_lettered(cell) for cell in batch.cells] if batch.mixed else batch.cells
    pieces = [
        piece
        for cell in cells
        for piece in (
            (NULL,)
            if cell is None
            else (_SHORT[len(cell)], cell)  # type: ignore[arg-type]
            if len(cell) < 251  # type: ignore[arg-type]
            else (_length(len(cell)), cell)  # type: ignore[arg-type]
        )
    ]
    width, found, at = batch.width, [], 0
    if None not in cells:
        step = 2 * width
        return [b"".join(pieces[at : at + step]) for at in range(0, len(pieces), step)]  # type: ignore[arg-type]
    for row in range(0, len(cells), width):
        step = 2 * width - cells[row : row + width].count(None)
        found.append(b"".join(pieces[at : at + step]))  # type: ignore[arg-type]
        at += step
    return found


def current_records(batch: Batch) -> list[bytes]:
    """The records of a batch's rows as they are now. Those that it keeps are not changed."""
    if batch.current is None:
        batch.current = _current_records(batch)
    return batch.current


def _current_records(batch: Batch) -> list[bytes]:
    if batch.records is None:
        return records_of(batch)
    if not batch.altered:
        return batch.records
    found, rows = batch.records.copy(), sorted(batch.altered)
    now = records_of(batch.part(rows))
    for row, record in zip(rows, now, strict=True):
        found[row] = record
    return found


class ReaderOfCells:
    """What of ``Reader`` follows from the rest, for readers whose rows come as cells, from close by."""

    rows: Any
    digests: Any
    prints: PagePrints | None = None

    def records(
        self, table: Table, stretch_bytes: int = BATCH_BYTES, **chosen: Any
    ) -> Iterator[list[bytes]]:
        """The rows that ``rows`` gives, as records."""
        for batch in self.rows(table, stretch_bytes, **chosen):
            yield records_of(batch)

    def expect(self, wanted: Sequence[WantedRows]) -> None:
        """Nothing: they are as quickly read when they are asked for."""

    def digests_of(self, wanted: Iterable[WantedDigests]) -> DigestsOf:
        """The digests of several tables."""
        for one in wanted:
            yield self.digests(
                one.table,
                one.ranges,
                leave=one.leave,
                replacements=one.replacements,
                known=one.known,
                aside=one.aside,
            )


def cells_of(records: bytes, mixed: bool) -> list[Cell]:
    """The cells of records that lie one behind the other."""
    cells: list[Cell] = []
    take_cells(records, cells.append)
    return [_typed(cell) for cell in cells] if mixed else cells  # type: ignore[arg-type]


class RecordForm:
    """Where in a table's records what is."""

    def __init__(self, table: Table, *, mixed: bool) -> None:
        names = [column.name for column in table.columns]
        self.width = len(names)
        self.places = [names.index(name) for name in table.key]
        self._cells = max(self.places, default=-1) + 1
        self._skipped = 1 if mixed else 0  # the letter of the type
        self._leads = self.places == [0] and not mixed  # the key stands in front, as it mostly does

    def key(self, record: bytes) -> tuple[int, ...]:
        """Raises ValueError or TypeError where it is not made of whole numbers."""
        if self._leads:
            return (int(record[1 : 1 + record[0]]),)
        cells: list[Cell] = []
        take_cells(record[: record_end(record, 0, self._cells)], cells.append)
        return tuple(int(cells[place][self._skipped :]) for place in self.places)  # type: ignore[index]


def record_end(content: bytes, at: int, width: int) -> int:
    """Where the record of ``width`` cells that begins at ``at`` ends; at most where ``content`` does."""
    stop = len(content)
    for _ in range(width):
        if at >= stop:
            break
        length = content[at]
        at += 1
        if length < 251:
            at += length
        elif length != 251:
            end = at + (2 if length == 252 else 3 if length == 253 else 8)
            at = end + int.from_bytes(content[at:end], "little")
    return at


def split_records(content: bytes, width: int) -> list[bytes]:
    """The records, of ``width`` cells each, that lie one behind the other."""
    found: list[bytes] = []
    at = 0
    while at < len(content):
        end = record_end(content, at, width)
        found.append(content[at:end])
        at = end
    return found


def batches_of(
    records: Iterable[bytes], width: int, batch_bytes: int, *, mixed: bool
) -> Iterator[Batch]:
    """Batches out of stretches of whole records, each of about ``batch_bytes``."""
    cells: list[Cell] = []
    size = 0
    for stretch in records:
        cells += cells_of(stretch, mixed)
        size += len(stretch)
        if size < batch_bytes:
            continue
        # A stretch may be larger than several batches: each gets as many rows.
        rows = -(-len(cells) // (width * (size // batch_bytes)))
        for at in range(0, len(cells), rows * width):
            part = cells[at : at + rows * width]
            yield Batch(width, part, size * len(part) // len(cells), mixed)
        cells, size = [], 0
    if cells:
        yield Batch(width, cells, size, mixed)


def _length(length: int) -> bytes:
    if length < 1 << 16:
        return b"\xfc" + length.to_bytes(2, "little")
    if length < 1 << 24:
        return b"\xfd" + length.to_bytes(3, "little")
    return b"\xfe" + length.to_bytes(8, "little")


def _lettered(cell: Cell) -> bytes | None:
    if cell is None:
        return None
    if isinstance(cell, Text):
        return b"T" + cell
    if isinstance(cell, bytes):
        return b"B" + cell
    if isinstance(cell, int):
        return b"I%d" % cell
    return b"F" + repr(cell).encode()


def _typed(cell: bytes | None) -> Cell:
    if cell is None:
        return None
    letter, rest = cell[:1], cell[1:]
    if letter == b"T":
        return Text(rest)
    if letter == b"B":
        return rest
    return int(rest) if letter == b"I" else float(rest)
