"""Rows stored by prepared INSERT statements, of which the values are the rows' records as they are.

A cell in a record has the form of a statement's value already ("length-encoded string"), so rows are neither taken
apart nor escaped for it, and the server looks for no separators and reads no SQL. Packet layout: the documentation of
the protocol of MariaDB, "COM_STMT_PREPARE" and "COM_STMT_EXECUTE".
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator, Sequence
from itertools import accumulate
from typing import NamedTuple

import pymysql

from ..batch import Batch, Cell
from ..cells import take_cells
from ..row_codec import NULL, current_records, records_of
from .wire import Wire

_EXECUTE = 0x17  # the command of the protocol
_NO_ROOM = 1461  # the server has as many prepared statements as it may (max_prepared_stmt_count)
_TEXT = b"\xfd\x00"  # the type of a value: MYSQL_TYPE_VAR_STRING
_VALUES = 1 << 11  # of a statement: more of them do not stay in the cache of the server's processor
_TOGETHER = 512 << 10  # bytes of rows that one statement stores
_UNDER_WAY = 8  # statements that were sent before answers are read
_SPARED = 64 << 10  # bytes of a packet for what is not rows


class Packed(NamedTuple):
    """Rows of one statement: a bit for each of their values that says which are NULL, and the others."""

    rows: int
    nulls: bytes
    values: bytes


class Rows(NamedTuple):
    """Records without their NULLs, and where these are: for some rows the places of their columns."""

    records: list[bytes]
    nulls: dict[int, list[int]]


class PreparedRows:
    """Stores rows in one table. Each statement has as many rows as a power of two, so there are few of them."""

    def __init__(self, wire: Wire, table: str, columns: Sequence[str], most: int) -> None:
        """``table`` and ``columns`` are quoted; ``most`` is how many bytes the server takes in a packet."""
        self._wire = wire
        self._numbers: dict[int, int] = {}  # of the statements, by how many rows each stores
        self._typed: set[int] = set()  # those that were told of which type their values are
        self._under_way = 0  # statements of which the answers were not read
        # As with a load of a client's file, what does not fit is a warning.
        self._head = f"INSERT IGNORE INTO {table} ({', '.join(columns)}) VALUES "
        self._width = len(columns)
        self._row = f"({', '.join('?' * self._width)})"
        self._most = min(_TOGETHER, most - _SPARED)
        self._largest = 1 << (max(1, _VALUES // self._width).bit_length() - 1)  # rows
        self._stored = self._warned = 0

    def prepare(self) -> bool:
        """Have the server prepare all statements that there may be; False where it has no room for them, and has none
        then.

        Raises:
            pymysql.Error: the server said something else, or the connection broke.
        """
        rows = 1
        while rows <= self._largest:
            sql = self._head + ", ".join([self._row] * rows)
            try:
                self._numbers[rows] = self._wire.prepare(sql, rows * self._width)
            except pymysql.OperationalError as error:
                if error.args[0] != _NO_ROOM:
                    raise
                self.close()
                return False
            rows <<= 1
        return True

    def packed(self, batches: Iterable[Batch]) -> Iterator[Packed | Batch]:
        """Rows as ``send`` takes them; a batch with a row that is too large for a statement is given as it is. The
        server is asked nothing, so another thread can do this."""
        packing = _Packing(self._width, self._largest, self._most)
        for batch in batches:
            records = current_records(batch)
            if max(map(len, records), default=0) < self._most:
                yield from packing.add(records)
            else:
                yield from packing.rest()
                yield batch
        yield from packing.rest()

    def send(self, packed: Packed) -> None:
        """Have some rows stored; the answer is read later.

        Raises:
            pymysql.Error: the server said so of these or of others before, or the connection broke.
        """
        number, types = self._numbers[packed.rows], b"\0"
        if number not in self._typed:
            self._typed.add(number)
            types = b"\1" + _TEXT * (packed.rows * self._width)
        head = struct.pack("<BIBI", _EXECUTE, number, 0, 1)
        self._wire.command(b"".join([head, packed.nulls, types, packed.values]))
        self._under_way += 1
        if self._under_way >= _UNDER_WAY:
            self._answers(1)

    def finish(self) -> tuple[int, int]:
        """Wait until all rows are stored that were sent since the last time: how many the server says that it stored,
        and how many warnings it had.

        Raises:
            pymysql.Error: the server said so, or the connection broke.
        """
        self._answers()
        found = self._stored, self._warned
        self._stored = self._warned = 0
        return found

    def close(self) -> None:
        """Let the server forget the statements."""
        for number in self._numbers.values():
            self._wire.forget(number)
        self._numbers.clear()

    def _answers(self, but: int = 0) -> None:
        """Read what the server says of the statements that were sent, but of the last of them."""
        while self._under_way > but:
            self._under_way -= 1
            answer = self._wire.done()
            self._stored += answer.affected_rows
            self._warned += answer.warning_count


class _Packing:
    """Puts rows of ``width`` values together for statements of at most ``largest`` rows and ``most`` bytes."""

    def __init__(self, width: int, largest: int, most: int) -> None:
        self._width = width
        self._largest = largest
        self._most = most
        self._waiting = Rows([], {})

    def add(self, records: list[bytes]) -> Iterator[Packed]:
        rows, before = without_nulls(records), len(self._waiting.records)
        self._waiting.records.extend(rows.records)
        for row, places in rows.nulls.items():
            self._waiting.nulls[before + row] = places
        return self._full(last=False)

    def rest(self) -> Iterator[Packed]:
        return self._full(last=True)

    def _full(self, *, last: bool) -> Iterator[Packed]:
        """The rows that wait, as far as they fill a statement, or all of them."""
        records, nulls = self._waiting
        ends = [0, *accumulate(map(len, records))]
        at, count = 0, len(records)
        while at < count:
            rows = 1 << (min(self._largest, count - at).bit_length() - 1)
            while ends[at + rows] - ends[at] > self._most:
                rows >>= 1
            if not last and rows < self._largest and ends[count] - ends[at] < self._most // 2:
                break
            yield Packed(rows, self._empty(rows, at, nulls), b"".join(records[at : at + rows]))
            at += rows
        rest = {row - at: places for row, places in nulls.items() if row >= at}
        self._waiting = Rows(records[at:], rest)

    def _empty(self, count: int, first: int, nulls: dict[int, list[int]]) -> bytes:
        """Which values of some rows are NULL, a bit for each."""
        empty = bytearray((count * self._width + 7) // 8)
        if nulls:
            for row in range(count):
                for place in nulls.get(first + row, ()):
                    at = row * self._width + place
                    empty[at >> 3] |= 1 << (at & 7)
        return bytes(empty)


def without_nulls(records: list[bytes]) -> Rows:
    """Records as statements take them; those that were given stay as they are."""
    nulls: dict[int, list[int]] = {}
    if NULL not in b"".join(records):  # nor does it stand in a text of UTF-8
        return Rows(records, nulls)
    found = records.copy()
    for row, record in enumerate(records):
        if NULL in record:
            cells: list[Cell] = []
            take_cells(record, cells.append)
            if None in cells:
                nulls[row] = [place for place, cell in enumerate(cells) if cell is None]
                there: list[Cell] = [cell for cell in cells if cell is not None]
                found[row] = b"".join(records_of(Batch(1, there, 0)))
    return Rows(found, nulls)
