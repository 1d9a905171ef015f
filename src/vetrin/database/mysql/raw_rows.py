"""The rows of answers as the bytes of their packets, none of which is looked at where all are as they were.

Packet layout: the documentation of the protocol of MariaDB and MySQL, "Text Resultset".
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

import pymysql
from pymysql.constants import CR

_WHOLE = 0xFFFFFF
_HEAD = 4  # bytes before the body of a packet
_END = 9  # bytes of the packet behind the last row
_LAST = 0xFE  # what that one begins with, and a row of which the first value has 16 MB
_WRONG = 0xFF  # what an error begins with, and no row


class RawRows:
    """The answers to queries that were sent one behind the other. ``read`` gives what comes next, at least a byte."""

    def __init__(self, read: Callable[[], bytes]) -> None:
        self._read = read
        self._buffer = b""
        self._at = 0
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

    def peek(self, begin: int, size: int) -> memoryview | None:
        """So many bytes of the answer that lie ``begin`` bytes ahead; None where there may be fewer."""
        if not self._arrives(begin + size):
            return None
        at = self._at + begin
        return memoryview(self._buffer)[at : at + size]

    def walk(self, begin: int, count: int) -> tuple[int, list[bytes]]:
        """The records of the next rows behind ``begin`` bytes, and how many bytes lie before what comes then: fewer
        than ``count`` where the answer ends, or one takes several packets.

        Raises:
            pymysql.Error: the server said so, or the connection broke.
        """
        records: list[bytes] = []
        while len(records) < count:
            buffer, start = self._buffer, self._at + begin + _HEAD
            if start > len(buffer):
                self._need(begin + _HEAD)
                continue
            size = buffer[start - 4] | buffer[start - 3] << 8 | buffer[start - 2] << 16
            if not size:
                raise _malformed()
            if size == _WHOLE:
                break
            if start + size > len(buffer):
                self._need(begin + _HEAD + size)
                continue
            record = buffer[start : start + size]
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
        at = self._at + begin
        if self._buffer[at + _HEAD] < _LAST:
            return False
        size = int.from_bytes(self._buffer[at : at + _HEAD - 1], "little")
        self._need(begin + _HEAD + min(size, _END))
        at = self._at + begin + _HEAD
        return size < _WHOLE and _closes(self._buffer[at : at + size])

    def at_end(self) -> bool:
        """The same here; then the answer is behind."""
        if not self._ended and self.ends(0):
            self._ended = True
            self._at += _END
        return self._ended

    def _arrives(self, count: int) -> bool:
        """Have so many bytes in the buffer; False where there may be no more to wait for."""
        parts = [self._buffer[self._at :]] if self._at + count > len(self._buffer) else []
        lack = self._at + count - len(self._buffer)
        last = parts[0][-_END:] if parts else b""
        # What looks like an end is what comes last of all, as far as one can see here.
        while lack > 0 and not _is_end(last):
            parts.append(self._read())
            lack -= len(parts[-1])
            last = (last + parts[-1][-_END:])[-_END:]
        if parts:
            self._buffer, self._at = b"".join(parts), 0
        return lack <= 0

    def stretches(
        self, most: int, *, apart: bool = True
    ) -> Iterator[tuple[memoryview, list[bytes]]]:
        """The rows, about ``most`` bytes of them at a time, as packets, and with ``apart`` as records of their own.

        Raises:
            pymysql.Error: the server said so, or the connection broke.
        """
        while not self._ended:
            begin = self._at
            buffer = self._buffer
            records: list[bytes] = []
            self._at = at = self._along(records if apart else None, begin + most)
            if at > begin:
                yield memoryview(buffer)[begin:at], records
            if self._ended:
                self._at += _END
            elif at < begin + most:
                yield from self._next()

    def _along(self, records: list[bytes] | None, most: int) -> int:
        """Go along the rows that are in the buffer as a whole, and take them; where they end."""
        buffer, at, limit = self._buffer, self._at, len(self._buffer)
        stop = min(limit - _HEAD, most)
        while at < stop:  # for every row of a page that changed, so nothing else is asked here
            start = at + _HEAD
            size = buffer[at] | buffer[at + 1] << 8 | buffer[at + 2] << 16
            end = start + size
            if end > limit or size == _WHOLE:
                break
            if buffer[start] >= _LAST and _closes(buffer[start:end]):
                self._ended = True
                break
            if records is not None:
                records.append(buffer[start:end])
            at = end
        return at

    def pass_over(self) -> None:
        """Leave the rest of the answer behind."""
        for _ in self.stretches(1 << 20, apart=False):
            pass

    def _next(self) -> Iterator[tuple[memoryview, list[bytes]]]:
        """Have the next packet in the buffer as a whole; a row of several ones comes by itself."""
        self._need(_HEAD)
        size = int.from_bytes(self._buffer[self._at : self._at + 3], "little")
        if not size:
            raise _malformed()
        if size < _WHOLE:
            self._need(_HEAD + size)
            return
        begin = end = 0
        parts = []
        while size == _WHOLE:
            self._need(end + _HEAD)
            begin = self._at + end
            size = int.from_bytes(self._buffer[begin : begin + 3], "little")
            end += _HEAD + size
            self._need(end)
            parts.append(self._buffer[self._at + end - size : self._at + end])
        view = memoryview(self._buffer)[self._at : self._at + end]
        self._at += end
        yield view, [b"".join(parts)]

    def _packet(self) -> bytes:
        self._need(_HEAD)
        stop = _HEAD + int.from_bytes(self._buffer[self._at : self._at + 3], "little")
        self._need(stop)
        body = self._buffer[self._at + _HEAD : self._at + stop]
        self._at += stop
        return body

    def _need(self, count: int) -> None:
        lack = count - (len(self._buffer) - self._at)
        if lack <= 0:
            return
        parts = [self._buffer[self._at :]]
        while lack > 0:
            parts.append(self._read())
            lack -= len(parts[-1])
        self._buffer, self._at = b"".join(parts), 0


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


def _closes(body: bytes) -> bool:
    """Whether a packet is the one behind the last row; raises what the server says in one."""
    if body[0] == _WRONG:
        pymysql.err.raise_mysql_exception(body)
    return len(body) < _END


def _is_end(packet: bytes) -> bool:
    """True for what looks like the packet behind the last row."""
    return len(packet) == _END and packet.startswith(b"\5\0\0") and packet[_HEAD] == _LAST


def _malformed() -> pymysql.Error:
    return pymysql.InternalError(CR.CR_MALFORMED_PACKET, "the server gave an answer that is none")
