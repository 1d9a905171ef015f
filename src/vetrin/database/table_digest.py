"""A digest of a table's rows that does not depend on their order.

Each row is hashed with XXH3-128 over its cells (a type letter, a length, the bytes), and the hashes
are added up modulo 2**128. Adding, not XOR: equal changes in two rows must not cancel out.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable

import xxhash

from .base import Reader, Table
from .batch import Cell

WRAP = (1 << 128) - 1


def cell_bytes(cell: Cell) -> bytes:
    if cell is None:
        return b"N"
    if isinstance(cell, bytes):
        letter = getattr(cell, "letter", b"B")
        return b"%b%d:%b" % (letter, len(cell), cell)
    if isinstance(cell, int):
        return b"I%d;" % cell
    return b"F" + struct.pack("<d", cell)


def row_hash(cells: Iterable[Cell]) -> int:
    """XXH3-128 of a row's cells; add these up and take ``WRAP`` of it for rows in any order."""
    return xxhash.xxh3_128_intdigest(b"".join(map(cell_bytes, cells)))


def table_digest(reader: Reader, table: Table) -> str:
    """32 hexadecimal digits for the rows of ``table`` as ``reader`` sees them."""
    total = 0
    for batch in reader.rows(table):
        for row in batch.each():
            total += row_hash(row)
    return f"{total & WRAP:032x}"
