"""The rows of answers as the bytes of their packets, none of which is looked at where all are as they were.

Packet layout: the documentation of the protocol of MariaDB and MySQL, "Text Resultset".
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from itertools import chain, islice
from typing import TypeVar

import pymysql
from pymysql.constants import CR

_WHOLE = 0xFFFFFF
_HEAD = 4  # bytes before the body of a packet
_END = 9  # bytes of the packet behind the last row
_ROOM = 2 << 20  # bytes
_LARGEST_ROOM = 8 << 20  # that is used again
_WALKED = 8 << 10  # bytes that are taken apart at once
_LAST = 0xFE  # what that one begins with, and a row of which the first value has 16 MB
_WRONG = 0xFF  # what an error begins with, and no row
_AHEAD = 16  # queries that wait at the server
# Behind the last of them, so that there is always something more to come while one of them is read.
_AT_LAST = "SELECT 1"
Some = TypeVar("Some", bytes, int)


class RawRows:
    """The answers to queries that were sent one behind the other. ``read`` puts what comes next into some room, at
    least a byte, and says how many. What is given as a view is there until the next call."""

    def __init__(self, read: Callable[[memoryview], int]) -> None:
        self._read = read
        self._room = memoryview(bytearray(_ROOM))
        # Where in it what has come, and was not passed by, begins and ends.
        self._at = self._end = 0
        self._ended = True

    def begin(self) -> None:
        """Come to the rows of the next answer.

        Raises:
            pymysql.Error: the server said so, it is no answer with rows, or the connection broke.
        """
        first = self._packet()
        if first[:1] == bytes([_WRONG]):
            pymysql.err.raise_mysql_exception(first)
        if len(first) != 1 or not 0 < first[0] < 251:
            raise _malformed()
        for _ in range(first[0] + 1):
            self._packet()
        self._ended = False

    def coming(self, most: int) -> memoryview:
        """The bytes of the answer that come next, so many, or fewer where there may be no more to wait for."""
        self._arrives(most)
        return self._room[self._at : min(self._at + most, self._end)]

    def walk(self, begin: int, count: int) -> tuple[int, list[bytes]]:
        """The records of the next rows behind ``begin`` bytes, and how many bytes lie before what comes then: fewer
        than ``count`` where the answer ends, or one takes several packets.

        Raises:
            pymysql.Error: the server said so, or the connection broke.
        """
        records: list[bytes] = []
        while len(records) < count:
            come = self._end - self._at
            if come < begin + _HEAD:
                self._need(begin + _HEAD)
                continue
            rows = bytes(self.at_hand(begin, min(come, begin + _WALKED)))
            at, found = _records_ahead(rows, count - len(records))
            records += found
            begin += at
            if found:
                continue
            size = self._size_at(begin)
            if not size:
                raise _malformed()
            if size == _WHOLE:
                break
            self._need(begin + _HEAD + size)
            record = bytes(self.at_hand(begin + _HEAD, begin + _HEAD + size))
            if record[0] >= _LAST and _closes(record):
                break
            records.append(record)
            begin += _HEAD + size
        return begin, records

    def pass_by(self, size: int) -> None:
        """Go on behind so many bytes that were looked at."""
        self._at += size

    def ends(self, begin: int) -> bool:
        """Whether no row is left behind ``begin`` bytes.

        Raises:
            pymysql.Error: the server said so, or the connection broke.
        """
        if self._ended:
            return True
        self._need(begin + _HEAD + 1)
        if self._room[self._at + begin + _HEAD] < _LAST:
            return False
        size = self._size_at(begin)
        end = begin + _HEAD + min(size, _END)
        self._need(end)
        return size < _WHOLE and _closes(bytes(self.at_hand(begin + _HEAD, end)))

    def at_end(self) -> bool:
        """The same here; then the answer is behind."""
        if not self._ended and self.ends(0):
            self._ended = True
            self._at += _END
        return self._ended

    def stretches(
        self, most: int, *, apart: bool = True
    ) -> Iterator[tuple[memoryview, list[bytes]]]:
        """The rows, about ``most`` bytes of them at a time, as packets, and with ``apart`` as records of their own.

        Raises:
            pymysql.Error: the server said so, or the connection broke.
        """
        while not self._ended:
            records: list[bytes] = []
            size = self._along(records if apart else None, most)
            rows = self.at_hand(0, size)
            self._at += size
            if size:
                yield rows, records
            if self._ended:
                self._at += _END
            elif size < most:
                yield from self._next()

    def _along(self, records: list[bytes] | None, most: int) -> int:
        """Go along the rows that have come as a whole, and take them; how many bytes they have."""
        rows = self._room[self._at : self._end]
        # Slices of these are records, without a copy between.
        buffer = rows if records is None else bytes(rows)
        at, limit = 0, len(buffer)
        stop = min(limit - _HEAD, most)
        while at < stop:  # for every row of a page that changed, so nothing else is asked here
            start = at + _HEAD
            size = buffer[at] | buffer[at + 1] << 8 | buffer[at + 2] << 16
            end = start + size
            if end > limit or size == _WHOLE:
                break
            if buffer[start] >= _LAST and _closes(bytes(buffer[start:end])):
                self._ended = True
                break
            if records is not None:
                records.append(buffer[start:end])  # type: ignore[arg-type]
            at = end
        return at

    def pass_over(self) -> None:
        """Leave the rest of the answer behind."""
        for _ in self.stretches(1 << 20, apart=False):
            pass

    def _next(self) -> Iterator[tuple[memoryview, list[bytes]]]:
        """Have the next packet come as a whole; a row of several ones is given by itself."""
        self._need(_HEAD)
        size = self._size_at(0)
        if not size:
            raise _malformed()
        if size < _WHOLE:
            self._need(_HEAD + size)
            return
        end = 0
        places: list[slice] = []
        while not places or size == _WHOLE:
            self._need(end + _HEAD)
            size = self._size_at(end)
            places.append(slice(end + _HEAD, end + _HEAD + size))
            end += _HEAD + size
            self._need(end)
        row = self.at_hand(0, end)
        self._at += end
        yield row, [b"".join(row[place] for place in places)]

    def _packet(self) -> bytes:
        self._need(_HEAD)
        stop = _HEAD + self._size_at(0)
        self._need(stop)
        body = bytes(self.at_hand(_HEAD, stop))
        self._at += stop
        return body

    # -- the room ---------------------------------------------------------------------------------------------

    def at_hand(self, begin: int, end: int) -> memoryview:
        """The bytes between two places ahead, which have come."""
        return self._room[self._at + begin : self._at + end]

    def _size_at(self, begin: int) -> int:
        """The size of the packet that begins there."""
        return int.from_bytes(self.at_hand(begin, begin + _HEAD - 1), "little")

    def _need(self, count: int) -> None:
        """Have so many bytes come."""
        if self._at + count > self._end:
            self._make_room(count)
            while self._at + count > self._end:
                self._end += self._read(self._room[self._end :])

    def _arrives(self, count: int) -> bool:
        """The same; False where there may be no more to wait for."""
        if self._at + count > self._end:
            self._make_room(count)
            # What looks like an end is what comes last of all, as far as one can see here.
            while self._at + count > self._end and not _is_end(self._room[self._at : self._end]):
                self._end += self._read(self._room[self._end :])
        return self._at + count <= self._end

    def _make_room(self, count: int) -> None:
        """For so many bytes from where the rest begins."""
        if self._at + count <= len(self._room):
            return
        there = self._end - self._at
        fits = count + _HEAD <= len(self._room) <= _LARGEST_ROOM
        room = self._room if fits else memoryview(bytearray(max(_ROOM, 2 * count)))
        room[:there] = bytes(self.at_hand(0, there))
        self._room, self._at, self._end = room, 0, there


def answered(
    statements: Sequence[str], send: Callable[[str], None], rows: RawRows
) -> Iterator[RawRows]:
    """For each of some short queries its rows, until the next one is asked for; some queries are sent ahead.

    Raises:
        pymysql.Error: the server said so, or the connection broke.
    """
    waiting = chain(statements, [_AT_LAST])
    for sql in islice(waiting, _AHEAD):
        send(sql)
    for _ in statements:
        rows.begin()
        yield rows
        rows.pass_over()
        if (more := next(waiting, None)) is not None:
            send(more)
    rows.begin()
    rows.pass_over()


def come(read: Callable[[], Some]) -> Some:
    """What comes next, as it is read: raises pymysql.OperationalError where nothing does."""
    try:
        found = read()
    except OSError as error:
        raise pymysql.OperationalError(CR.CR_SERVER_LOST, f"Lost connection: {error}") from error
    if not found:
        raise pymysql.OperationalError(
            CR.CR_SERVER_LOST, "Lost connection to the server during a query"
        )
    return found


def records_in(packets: bytes, count: int) -> list[bytes]:
    """The records of rows that take a packet each. Raises ValueError where these are not ``count`` whole ones."""
    found: list[bytes] = []
    at = 0
    while at < len(packets):
        start = at + _HEAD
        at = start + int.from_bytes(packets[at : at + _HEAD - 1], "little")
        found.append(packets[start:at])
    if at != len(packets) or len(found) != count:
        raise ValueError("rows that are cut off")
    return found


def _records_ahead(rows: bytes, most: int) -> tuple[int, list[bytes]]:
    """The records of the first rows in some bytes, as far as they are there as a whole and cannot be anything else,
    and how many bytes these rows take."""
    records: list[bytes] = []
    append, at, limit = records.append, 0, len(rows)
    stop = limit - _HEAD
    while at < stop and len(records) < most:  # for many rows of pages that changed
        start = at + _HEAD
        end = start + (rows[at] | rows[at + 1] << 8 | rows[at + 2] << 16)
        if end > limit or rows[start] >= _LAST or end == start:
            break
        append(rows[start:end])
        at = end
    return at, records


def _closes(body: bytes) -> bool:
    """Whether a packet is the one behind the last row; raises what the server says in one."""
    if body[0] == _WRONG:
        pymysql.err.raise_mysql_exception(body)
    return len(body) < _END


def _is_end(come: memoryview) -> bool:
    """True where what came last looks like the packet behind the last row."""
    last = bytes(come[-_END:])
    return len(last) == _END and last.startswith(b"\5\0\0") and last[_HEAD] == _LAST


def _malformed() -> pymysql.Error:
    return pymysql.InternalError(CR.CR_MALFORMED_PACKET, "the server gave an answer that is none")
