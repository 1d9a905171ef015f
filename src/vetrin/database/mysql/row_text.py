"""Rows as the two texts a server takes them in: the stream of a bulk load, and INSERT statements.

Escaping is done once for a whole batch. That is safe because the separators are pairs of control
bytes which are checked, by counting, not to occur inside a value; where one does, the batch is
escaped value by value.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ..base import Column
from ..batch import Batch, Cell

FIELD = b"\x1d\x1e"
LINE = b"\x1d\x1f"
_NULL = b"\x1d\x1c"

LOAD_OPTIONS = "FIELDS TERMINATED BY X'1D1E' ESCAPED BY '\\\\' LINES TERMINATED BY X'1D1F'"


def load_block(batch: Batch) -> bytes:
    """The batch as ``LOAD DATA`` reads it with ``LOAD_OPTIONS``."""
    joined = _joined(batch)
    if joined is None:
        return b"".join(_load_row(row) for row in batch.each())
    joined = joined.replace(b"\\", b"\\\\")
    if _NULL in joined:
        joined = joined.replace(_NULL, b"\\N")
    return joined + LINE


def _joined(batch: Batch) -> bytes | None:
    """All cells with separators between them, nothing escaped; None if a value holds one itself."""
    width = batch.width
    cells: list[Cell] = batch.cells
    nulls = cells.count(None)
    if nulls:
        cells = [_NULL if cell is None else cell for cell in cells]
    # All at once, as this is done for every value that there is.
    pieces = [FIELD] * (2 * len(cells) - 1)
    pieces[::2] = cells  # type: ignore[assignment]
    pieces[2 * width - 1 :: 2 * width] = [LINE] * (len(cells) // width - 1)
    joined = b"".join(pieces)
    return joined if joined.count(b"\x1d") == len(cells) - 1 + nulls else None


def _load_row(row: Sequence[Cell]) -> bytes:
    return (
        FIELD.join(
            b"\\N" if cell is None else cell.replace(b"\\", b"\\\\").replace(b"\x1d", b"\\\x1d")  # type: ignore[union-attr]
            for cell in row
        )
        + LINE
    )


def insert_statements(
    head: bytes, columns: Sequence[Column], batch: Batch, limit: int, most: int
) -> Iterator[bytes]:
    """INSERT statements of about ``limit`` bytes for the batch, none longer than ``most``.

    The values of a row that does not fit into one statement go ahead of it into variables.
    """
    if all(column.write == "{}" for column in columns):
        joined = _joined(batch)
        if joined is not None and len(joined) < most // 3:
            joined = joined.replace(b"\\", b"\\\\").replace(b"'", b"''")
            joined = joined.replace(FIELD, b"','").replace(LINE, b"'),('")
            rows = b"('" + joined + b"')"
            yield head + rows.replace(b"'" + _NULL + b"'", b"NULL")
            return
    yield from _row_by_row(head, columns, batch, limit, most)


def _row_by_row(
    head: bytes, columns: Sequence[Column], batch: Batch, limit: int, most: int
) -> Iterator[bytes]:
    wrappers = [_placeholder(column) for column in columns]
    template = b"(" + b",".join(wrappers) + b")"
    parts: list[bytes] = []
    size = len(head)
    for row in batch.each():
        literals = [b"NULL" if cell is None else b"'%b'" % _escaped(cell) for cell in row]  # type: ignore[arg-type]
        text = template % tuple(literals)
        if parts and size + len(text) + 1 > limit:
            yield head + b",".join(parts)
            parts, size = [], len(head)
        if len(head) + len(text) > most:
            for number, literal in enumerate(literals):
                if len(literal) > 1000:
                    yield b"SET @v%d = %b" % (number, literal)
                    literals[number] = b"@v%d" % number
            text = template % tuple(literals)
        parts.append(text)
        size += len(text) + 1
    if parts:
        yield head + b",".join(parts)


def _placeholder(column: Column) -> bytes:
    return column.write.format("\0").encode().replace(b"%", b"%%").replace(b"\0", b"%b")


def _escaped(cell: bytes) -> bytes:
    if b"\\" in cell:
        cell = cell.replace(b"\\", b"\\\\")
    return cell.replace(b"'", b"''") if b"'" in cell else cell
