"""What has come over a line and was not taken yet."""

from __future__ import annotations

import contextlib
import tempfile
from collections import deque
from typing import IO

_HELD = 1 << 20  # bytes that are held in memory, about
_AT_ONCE = 1 << 18  # bytes that are read back in one go
_MARGIN = 8 << 20  # bytes that may come when no more should


class Backlog:
    """Bytes in the order in which they came: first some in memory; what is more, up to about ``beyond``, in a file
    without a name, so that a line need not stand idle while whoever takes them has other work. For one thread at a
    time."""

    def __init__(self, beyond: int = 0) -> None:
        self._beyond = beyond
        self._memory: deque[memoryview] = deque()
        self._held = 0  # bytes in memory
        self._file: IO[bytes] | None = None  # is gone through over and over
        self._room = beyond + _MARGIN
        self._begin = self._end = 0  # of what lies in the file, as if it had no end

    def __bool__(self) -> bool:
        return bool(self._memory) or self._begin < self._end

    @property
    def full(self) -> bool:
        """True where no more should come for the time being."""
        return self._size > _HELD + self._beyond

    @property
    def half_empty(self) -> bool:
        """True where more may come again."""
        return self._size < (_HELD + self._beyond) // 2

    @property
    def _size(self) -> int:
        return self._held + self._end - self._begin

    def put(self, data: bytes) -> None:
        if self._begin == self._end and (self._held < _HELD or not self._beyond):
            self._hold(data)
            return
        try:
            self._write(memoryview(data))
        except OSError:  # a full disk
            self._beyond = 0
            while self._begin < self._end:
                self._read_back()
            self._hold(data)

    def take_into(self, into: memoryview) -> int:
        """Fill some of ``into``; how many bytes."""
        size = 0
        while size < len(into) and self:
            if not self._memory:
                self._read_back()
            part = self._memory.popleft()
            fits = len(into) - size
            if len(part) > fits:
                self._memory.appendleft(part[fits:])
                part = part[:fits]
            into[size : size + len(part)] = part
            size += len(part)
            self._held -= len(part)
        return size

    def close(self) -> None:
        """Forget all of it."""
        self._memory.clear()
        self._held = self._begin = self._end = 0
        if self._file is not None:
            with contextlib.suppress(OSError):
                self._file.close()
            self._file = None

    def _hold(self, data: bytes) -> None:
        self._memory.append(memoryview(data))
        self._held += len(data)

    def _write(self, data: memoryview) -> None:
        if self._end - self._begin + len(data) > self._room:
            raise OSError("more came than there is room for")
        if self._file is None:
            self._file = tempfile.TemporaryFile(buffering=0)  # noqa: SIM115
        end = self._end
        while data:
            place = end % self._room
            self._file.seek(place)
            count = self._file.write(data[: self._room - place])
            end, data = end + count, data[count:]
        self._end = end

    def _read_back(self) -> None:
        assert self._file is not None
        place = self._begin % self._room
        self._file.seek(place)
        found = self._file.read(min(_AT_ONCE, self._end - self._begin, self._room - place))
        if not found:
            raise OSError("a temporary file has lost what was in it")
        self._begin += len(found)
        self._hold(found)
