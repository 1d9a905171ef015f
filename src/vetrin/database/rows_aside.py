"""Rows that were read for the digest of their page, kept until somebody wants them.

They lie in a file without a name. Nothing depends on it: rows that are not there are read again.
"""

from __future__ import annotations

import contextlib
import marshal
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import IO, Self

_MOST = 1 << 30  # bytes of all rows that are put aside
_LARGEST = 4 << 20  # bytes of a page's


class PageRows:
    """The rows of one page as they come, while they are not too many."""

    def __init__(self, aside: RowsAside, page: int) -> None:
        self._aside = aside
        self._page = page
        self._records: list[bytes] = []
        self._size = 0

    def add(self, records: Sequence[bytes]) -> None:
        self._size += sum(map(len, records))
        if self._size <= _LARGEST:
            self._records += records

    def put(self) -> None:
        """Put all of them aside."""
        if self._size <= _LARGEST:
            self._aside.put(self._page, self._records)


class RowsAside:
    """Some pages' rows, by the page's number, until it is closed. ``folder`` is where the file lies."""

    def __init__(self, folder: Path, most: int = _MOST) -> None:
        self._folder = folder
        self._room = most
        self._file: IO[bytes] | None = None
        self._places: dict[int, tuple[int, int]] = {}

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        self._places.clear()
        if self._file is not None:
            with contextlib.suppress(OSError):
                self._file.close()

    def __contains__(self, page: int) -> bool:
        return page in self._places

    def put(self, page: int, records: list[bytes]) -> None:
        """Keep the rows of a page, as far as there is room."""
        content = marshal.dumps(records)
        if len(content) > self._room:
            return
        try:
            if self._file is None:
                self._file = tempfile.TemporaryFile(dir=self._folder, buffering=0)  # noqa: SIM115
            start = self._file.seek(0, 2)
            if self._file.write(content) != len(content):
                raise OSError
        except OSError:  # a full disk; what is there already can still be read
            self._room = 0
            return
        self._room -= len(content)
        self._places[page] = start, len(content)

    def take(self, page: int) -> list[bytes]:
        """The rows of a page that is there.

        Raises:
            OSError: they cannot be read.
        """
        assert self._file is not None
        start, size = self._places.pop(page)
        self._file.seek(start)
        content = self._file.read(size)
        if len(content) != size:
            raise OSError(f"{size} bytes were put aside, {len(content)} are there")
        # Nobody else can have written to a file that has no name.
        found: list[bytes] = marshal.loads(content)
        return found
