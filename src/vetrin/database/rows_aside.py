"""What is known of pages that differ, kept until somebody wants it: in which parts of a page that is, and the rows
there, where they were read.

The rows lie in a file without a name. Nothing depends on it: those that are not there are read again.
"""

from __future__ import annotations

import contextlib
import marshal
import os
import tempfile
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
    where temporary files do."""

    def __init__(self, folder: Path | None, most: int = _MOST) -> None:
        self._folder = folder
        self._room = most
        self._file: IO[bytes] | None = None
        self._parts: dict[int, list[Part]] = {}
        self._places: dict[int, tuple[int, int]] = {}
        self._waiting: dict[int, bytes] = {}  # not written yet
        self._size = 0  # bytes of these

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        self._places.clear()
        self._parts.clear()
        self._waiting.clear()
        if self._file is not None:
            with contextlib.suppress(OSError):
                self._file.close()

    def __contains__(self, page: int) -> bool:
        return page in self._parts

    def put(self, page: int, parts: Sequence[Part]) -> None:
        """Keep what is known of a page, in the order of its key: the rows as far as there is room."""
        self.put_packed(page, [part._replace(records=None) for part in parts], packed(parts))

    def put_packed(self, page: int, parts: Sequence[Part], content: bytes) -> None:
        """The same, with the rows of these parts ``packed``."""
        self._parts[page] = [*parts]
        if content and len(content) <= self._room:
            self._room -= len(content)
            self._waiting[page] = content
            self._size += len(content)
            if self._size > _AT_ONCE:
                self._write()

    def _write(self) -> None:
        waiting, self._waiting, self._size = self._waiting, {}, 0
        content = b"".join(waiting.values())
        try:
            if self._file is None:
                self._file = tempfile.TemporaryFile(dir=self._folder, buffering=0)  # noqa: SIM115
            start = self._file.seek(0, 2)
            if self._file.write(content) != len(content):
                raise OSError
        except OSError:  # a full disk; what is there already can still be read
            self._room = 0
            return
        for page, one in waiting.items():
            self._places[page] = start, len(one)
            start += len(one)

    def take(self, page: int) -> list[Part]:
        """What is known of a page; of one of which nothing is, no parts."""
        parts = self._parts.pop(page, [])
        start, size = self._places.pop(page, (0, 0))
        content = self._waiting.pop(page, b"")
        if size and self._file is not None:
            with contextlib.suppress(OSError):
                content = os.pread(self._file.fileno(), size, start)
        if not content or len(content) < size:
            return parts
        # Nobody else can have written to a file that has no name.
        kept: list[list[bytes] | None] = marshal.loads(content)
        return [part._replace(records=records) for part, records in zip(parts, kept, strict=True)]


def packed(parts: Sequence[Part]) -> bytes:
    """The rows of some parts; no bytes where they have none."""
    if all(part.records is None for part in parts):
        return b""
    return marshal.dumps([part.records for part in parts])
