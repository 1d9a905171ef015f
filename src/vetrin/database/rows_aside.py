"""What is known of pages that differ, kept until somebody wants it: in which parts of a page that is, and the rows
there, where they were read.

The rows lie in a file without a name. Nothing depends on it: those that are not there are read again.
"""

from __future__ import annotations

import contextlib
import marshal
import os
import tempfile
import threading
from collections.abc import Sequence
from pathlib import Path
from typing import IO, NamedTuple, Protocol, Self

from .key_ranges import KeyRange

_MOST = 1 << 30  # bytes of all rows that are put aside
LARGEST = 4 << 20  # bytes of a page's
_AT_ONCE = 1 << 20  # bytes that are written in one go


class Part(NamedTuple):
    """A range in which a page differs: the digests that its rows had and have, and all records in it, None where they
    have to be read."""

    key_range: KeyRange
    digests: tuple[str, str]
    records: list[bytes] | None = None


class Aside(Protocol):
    """What parts of pages are told to."""

    def put(self, page: int, parts: Sequence[Part]) -> None:
        """Take the parts in which a page differs, by its number."""


class RowsAside:
    """The parts of some pages, by the page's number, until it is closed. ``folder`` is where the file lies, None for
    where temporary files do. While one thread puts parts aside ``beside`` these, another may take these."""

    def __init__(self, folder: Path | None, most: int = _MOST) -> None:
        self._file = _File(folder, most)
        self._parts: dict[int, list[Part]] = {}
        self._places: dict[int, tuple[int, int]] = {}
        self._waiting: dict[int, bytes] = {}  # not written yet
        self._size = 0  # bytes of these

    def beside(self) -> RowsAside:
        """Another one, of which the rows lie in the same file, as long as that is there."""
        found = RowsAside(None)
        found._file = self._file
        return found

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        self._places.clear()
        self._parts.clear()
        self._waiting.clear()
        self._file.close()

    def __contains__(self, page: int) -> bool:
        return page in self._parts

    def put(self, page: int, parts: Sequence[Part]) -> None:
        """Keep what is known of a page, in the order of its key: the rows as far as there is room."""
        self.put_packed(page, [part._replace(records=None) for part in parts], packed(parts))

    def put_packed(self, page: int, parts: Sequence[Part], content: bytes) -> None:
        """The same, with the rows of these parts ``packed``."""
        self._parts[page] = [*parts]
        if content and self._file.takes(len(content)):
            self._waiting[page] = content
            self._size += len(content)
            if self._size > _AT_ONCE:
                self.lay_down()

    def lay_down(self) -> None:
        """Hold no rows in memory."""
        waiting, self._waiting, self._size = self._waiting, {}, 0
        start = self._file.write(b"".join(waiting.values())) if waiting else None
        if start is None:
            return
        for page, one in waiting.items():
            self._places[page] = start, len(one)
            start += len(one)

    def take(self, page: int) -> list[Part]:
        """What is known of a page; of one of which nothing is, no parts."""
        parts = self._parts.pop(page, [])
        start, size = self._places.pop(page, (0, 0))
        content = self._waiting.pop(page, b"")
        if size:
            content = self._file.read(start, size)
        if not content or len(content) < size:
            return parts
        # Nobody else can have written to a file that has no name.
        kept: list[list[bytes] | None] = marshal.loads(content)
        return [part._replace(records=records) for part, records in zip(parts, kept, strict=True)]


class _File:
    """A file without a name, for at most so many bytes. Safe to be used from several threads."""

    def __init__(self, folder: Path | None, most: int) -> None:
        self._folder = folder
        self._room = most
        self._lock = threading.Lock()
        self._file: IO[bytes] | None = None

    def takes(self, size: int) -> bool:
        """Whether there is room for so many bytes more, which are counted then."""
        with self._lock:
            fits = size <= self._room
            self._room -= size if fits else 0
        return fits

    def write(self, content: bytes) -> int | None:
        """Where it lies now; None where it does not: the disk is full, and takes no more. What is there already can
        still be read."""
        with self._lock:
            with contextlib.suppress(OSError):
                if self._file is None:
                    self._file = tempfile.TemporaryFile(dir=self._folder, buffering=0)  # noqa: SIM115
                start = self._file.seek(0, 2)
                if self._file.write(content) == len(content):
                    return start
            self._room = 0
        return None

    def read(self, start: int, size: int) -> bytes:
        """Some bytes of it; fewer where they cannot be read."""
        with contextlib.suppress(OSError):
            if self._file is not None:
                return os.pread(self._file.fileno(), size, start)
        return b""

    def close(self) -> None:
        if self._file is not None:
            with contextlib.suppress(OSError):
                self._file.close()


def packed(parts: Sequence[Part]) -> bytes:
    """The rows of some parts; no bytes where they have none."""
    if all(part.records is None for part in parts):
        return b""
    return marshal.dumps([part.records for part in parts])
