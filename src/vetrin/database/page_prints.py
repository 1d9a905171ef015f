"""What pages looked like on their way from a server, so that one is known again without its rows being taken apart.

A print is how many bytes the rows of a page have as the server sends them when it is asked for them alone, and a tag
of these. Here that is their Poly1305 tag (RFC 8439) under a random key that only this file holds. Used so, it is a
universal hash: that two different pages of n bytes have one tag has a chance of n / 2**107 (Bernstein, "The
Poly1305-AES message-authentication code", theorem 3.3). Prints are found by the page's digest (``key_ranges.py``).
Nothing in them is needed: where they are lost, rows are digested.
"""

from __future__ import annotations

import contextlib
import hashlib
import secrets
import sqlite3
import struct
import time
from collections.abc import Sequence
from functools import cached_property
from operator import add
from pathlib import Path
from typing import NamedTuple, Protocol

from cryptography.hazmat.primitives.poly1305 import Poly1305

from ..remembered import UNKEPT, remembered

_SCHEMA = """
CREATE TABLE IF NOT EXISTS key (secret BLOB NOT NULL);
CREATE TABLE IF NOT EXISTS prints (
  digest TEXT PRIMARY KEY, size INTEGER NOT NULL, tag BLOB NOT NULL, asked INTEGER NOT NULL) WITHOUT ROWID;
"""
_KEEP = "INSERT OR REPLACE INTO prints VALUES (?, ?, ?, ?)"
_LARGEST = 0xFFFFFF  # bytes of a row that is one packet
_DAY = 24 * 3600
_KEPT = 60  # days for which a print stays that nobody asks for


class Print(NamedTuple):
    """How many bytes a page's rows had, and their tag."""

    size: int
    tag: bytes


class Packets:
    """Makes the print of rows out of their records, which are those of a table of ``width`` columns."""

    def __init__(self, prints: PagePrints, width: int) -> None:
        self._tag = prints.tag()
        self._size = 0
        # Packets come numbered: the number of columns, these, and what ends them before the rows.
        self._number = width + 3
        self._single = True

    def add(self, records: Sequence[bytes]) -> None:
        """Take rows that follow those before."""
        count, first = len(records), self._number
        self._number += count
        sizes = [*map(len, records)]
        self._single = self._single and max(sizes, default=0) < _LARGEST
        if not self._single:
            return
        numbers = [(number & 255) << 24 for number in range(first, first + count)]
        packed = struct.pack(f"<{count}I", *map(add, sizes, numbers))
        pieces = [b""] * (2 * count)
        pieces[::2] = struct.unpack("4s" * count, packed)
        pieces[1::2] = records
        rows = b"".join(pieces)
        self._tag.update(rows)
        self._size += len(rows)

    def seen(self) -> Print | None:
        """The print of all of them, once; None for rows that take several packets."""
        return Print(self._size, self._tag.finalize()) if self._single else None


class Tag(Protocol):
    """Makes one tag out of what it is updated with."""

    def update(self, data: bytes | memoryview, /) -> None:
        """Take bytes that follow those before."""

    def finalize(self) -> bytes:
        """The tag of all of them, once."""


class PagePrints:
    """The prints of pages that are read on this machine. They are read when the first one is asked for."""

    def __init__(self, path: Path | None = None) -> None:
        """Without ``path``, all is forgotten when the program ends."""
        self._path = path
        self._days: dict[str, int] = {}  # when each was asked for
        self._news: set[str] = set()

    @property
    def empty(self) -> bool:
        """True where no page is known."""
        return not self._known

    def of(self, digest: str) -> Print | None:
        """What a page of this digest looked like; None where that is not known."""
        found = self._known.get(digest)
        if found is not None and self._days.get(digest) != self._today:
            self._days[digest] = self._today
            self._news.add(digest)
        return found

    def tag(self) -> Tag:
        """What makes a tag: ``update`` it with the bytes of all rows, then ``finalize`` it."""
        return Poly1305(self._secret)

    def tag_of(self, rows: bytes | memoryview) -> bytes:
        tag = self.tag()
        tag.update(rows)
        return tag.finalize()

    def learn(self, digest: str, seen: Print | None) -> None:
        """Remember what a page looks like, where that is known."""
        if seen is None:
            return
        self._known[digest] = seen
        self._days[digest] = self._today
        self._news.add(digest)

    def keep(self) -> None:
        """Have what was learned last, where that can be."""
        if not self._news or self._path is None:
            return
        rows = [(digest, *self._known[digest], self._days[digest]) for digest in self._news]
        with contextlib.suppress(*UNKEPT), remembered(self._path, _SCHEMA) as file:
            # Tags under another key than that of the file would never be met again.
            if _secret_in(file, self._secret) == self._secret:
                file.executemany(_KEEP, rows)
                file.execute("DELETE FROM prints WHERE asked < ?", (self._today - _KEPT,))
            self._news.clear()

    @cached_property
    def _today(self) -> int:
        return int(time.time()) // _DAY

    @cached_property
    def _secret(self) -> bytes:
        _ = self._known
        return self._secret

    @cached_property
    def _known(self) -> dict[str, Print]:
        found: dict[str, Print] = {}
        secret = secrets.token_bytes(32)
        if self._path is not None:
            with contextlib.suppress(*UNKEPT):
                with remembered(self._path, _SCHEMA) as file:
                    kept = _secret_in(file, secret)
                    for digest, size, tag, asked in file.execute("SELECT * FROM prints"):
                        found[str(digest)] = Print(int(size), bytes(tag))
                        self._days[digest] = asked
                secret = kept
        self.__dict__["_secret"] = secret
        return found


class PrintsThere(PagePrints):
    """The prints of pages that a helper reads where they are. Their tags are those of BLAKE2b (RFC 7693) under the
    key, which any Python there can make."""

    @property
    def key(self) -> bytes:
        return self._secret

    def tag(self) -> Tag:
        return _Blake(self._secret)


class _Blake:
    def __init__(self, key: bytes) -> None:
        self._made = hashlib.blake2b(key=key, digest_size=16)
        self.update = self._made.update
        self.finalize = self._made.digest


def _secret_in(file: sqlite3.Connection, secret: bytes) -> bytes:
    """The key of a file, which is this one where it has none yet."""
    file.execute("INSERT INTO key SELECT ? WHERE NOT EXISTS (SELECT 1 FROM key)", (secret,))
    ((kept,),) = file.execute("SELECT secret FROM key")
    return bytes(kept)
