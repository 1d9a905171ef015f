"""What pages looked like on their way from a server, so that one is known again without its rows being taken apart.

A print is how many bytes the rows of a page have as the server sends them when it is asked for them alone, and a tag
of these. Here that is the tag that ChaCha20-Poly1305 (RFC 8439) gives to them as data that is only authenticated,
under a random key that only this file holds and always one nonce: nothing is encrypted, and nobody is shown a tag.
Used so, it is a universal hash: that two different pages of n bytes have one tag has a chance of n / 2**107
(Bernstein, "The Poly1305-AES message-authentication code", theorem 3.3). Prints are found by the page's digest
(``digests.py``), and so are its strips (``strips.py``). Nothing in them is needed: where they are lost, rows are
digested.
"""

from __future__ import annotations

import contextlib
import hashlib
import secrets
import sqlite3
import struct
import threading
import time
import weakref
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cached_property
from itertools import cycle, islice, pairwise
from operator import add
from pathlib import Path
from typing import Any, Protocol

from cryptography.hazmat.primitives.ciphers import Cipher
from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305
from cryptography.hazmat.primitives.ciphers.algorithms import ChaCha20
from cryptography.hazmat.primitives.poly1305 import Poly1305

from ..remembered import UNKEPT, remembered
from .strips import NO_STRIPS, UNSEEN, Print, Strip, Strips, packed, strip_rows, unpacked

_SCHEMA = """
CREATE TABLE IF NOT EXISTS key (secret BLOB NOT NULL);
CREATE TABLE IF NOT EXISTS seen (
  digest TEXT PRIMARY KEY, size INTEGER NOT NULL, tag BLOB NOT NULL, asked INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS strips_of_pages (digest TEXT PRIMARY KEY, strips BLOB NOT NULL);
DROP TABLE IF EXISTS page_strips;
DROP TABLE IF EXISTS strips;
DROP TABLE IF EXISTS prints;
DROP TABLE IF EXISTS pages;
"""
_SEEN = "INSERT OR REPLACE INTO seen VALUES (?, ?, ?, ?)"
_STRIPS = "INSERT OR REPLACE INTO strips_of_pages VALUES (?, ?)"
_ASKED = "UPDATE seen SET asked = ? WHERE digest = ?"
_FORGET = (
    "DELETE FROM strips_of_pages WHERE digest IN (SELECT digest FROM seen WHERE asked < ?)",
    "DELETE FROM seen WHERE asked < ?",
)
_LARGEST = 0xFFFFFF  # bytes of a row that is one packet
_HEAD = 4  # bytes before it: its length in three, and the packet's number
_NUMBERS = [number << 24 for number in range(256)]
_TOGETHER = 500  # pages that the file is asked for at once
_WAITING = 2000  # new pages, after which they are written to the file
_DAY = 24 * 3600
_KEPT = 14  # days for which a page stays that nobody asks for
_NONCE = bytes(12)
ALIGNED = 256  # rows: the packets of what comes behind so many are numbered as if it came alone


def packets_of(records: Sequence[bytes], first: int) -> bytes | None:
    """Rows as the server sends them, of which the first packet has this number; None where a row takes several."""
    sizes = [*map(len, records)]
    if max(sizes, default=0) >= _LARGEST:
        return None
    count = len(records)
    numbers = islice(cycle(_NUMBERS), first & 255, None)
    heads = struct.pack(f"<{count}I", *map(add, sizes, numbers))
    pieces = [b""] * (2 * count)
    pieces[::2] = struct.unpack("4s" * count, heads)
    pieces[1::2] = records
    return b"".join(pieces)


def first_packet(width: int) -> int:
    """The number of the first row's packet, in a table of ``width`` columns: before the rows come the number of
    columns, these, and what ends them."""
    return width + 3


class Packets:
    """Makes the print of rows out of their records, which are those of a table of ``width`` columns, and that of each
    stretch of them."""

    def __init__(self, prints: PagePrints, width: int) -> None:
        self._prints = prints
        self._tag = prints.tag()
        self._number = first_packet(width)
        self._single = True
        self._stretches: list[Strip] = []

    def add(self, records: Sequence[bytes], sums: Sequence[int]) -> None:
        """Take a stretch of rows that follow those before, each with what it adds to the digest."""
        if not records:
            return
        rows = packets_of(records, self._number) if self._single else None
        self._number += len(records)
        self._single = rows is not None
        if rows is not None:
            self._tag.update(rows)
            seen = self._prints.print_of(rows)
            self._stretches.append(Strip((), len(records), sum(sums), seen))

    def learn(self) -> None:
        """Have it remembered what all of them looked like, once; not where a row takes several packets."""
        if self._single and self._stretches:
            size = sum(stretch.seen.size for stretch in self._stretches)
            seen = Print(size, self._tag.finalize())
            stretches = Strips.of(self._stretches)
            self._prints.learn(stretches.digest, seen, stretches)


Known = tuple[str, int, bytes]  # of a page its digest, how many bytes it has, and their tag
Learned = tuple[str, int, bytes, bytes]  # the same, and its strips as they are kept


class Tag(Protocol):
    """Makes one tag out of what it is updated with."""

    def update(self, data: bytes | memoryview, /) -> None:
        """Take bytes that follow those before."""

    def finalize(self) -> bytes:
        """The tag of all of them, once."""


class PagePrints:
    """The prints and the strips of pages that are read on this machine. Of a file that may know many pages only those
    are at hand that were asked for. Safe to be used from several threads."""

    def __init__(self, path: Path | None = None, key: bytes | None = None) -> None:
        """Without ``path``, all is forgotten when the program ends. ``key`` is the one under which tags are made, if
        another has it already."""
        self.path = path
        self._lock = threading.RLock()
        self._opened: sqlite3.Connection | None = None
        self._given = key
        self._known: dict[str, Print] = {}
        self._looked_for: set[str] = set()
        self._days: dict[str, int] = {}  # when each was asked for
        self._asked: set[str] = set()
        self._strips: dict[str, bytes] = {}  # of the pages that are new
        self._forgot = False  # what nobody has asked for in a long time

    @property
    def key(self) -> bytes:
        """That under which tags are made."""
        return self._secret

    def shares(self, other: PagePrints) -> bool:
        """Whether what the other one keeps is known here as well."""
        return self.key == other.key and type(self) is type(other)

    @property
    def empty(self) -> bool:
        """True where no page is known."""
        with self._lock:
            return not self._known and not any(self._kept("SELECT 1 FROM seen LIMIT 1"))

    def know(self, digests: Iterable[str]) -> None:
        """Have at hand what is known of some pages."""
        with self._lock:
            rest = [digest for digest in digests if digest not in self._looked_for]
            self._looked_for.update(rest)
            sql = "SELECT digest, size, tag, asked FROM seen WHERE digest IN "
            for digest, size, tag, asked in self._kept(sql, rest):
                if digest not in self._known:
                    self._known[digest] = Print(int(size), bytes(tag))
                    self._days[digest] = asked

    def told(self, digests: Iterable[str]) -> list[Known]:
        """What is known of some pages, for another one with the same key."""
        with self._lock:
            self.know(digests)
            return [(digest, *self._known[digest]) for digest in digests if digest in self._known]

    def believe(self, digests: Iterable[str], told: Iterable[Known]) -> None:
        """This, and no more, is known of some pages."""
        with self._lock:
            self._looked_for.update(digests)
            for digest, size, tag in told:
                self._known[digest] = Print(size, tag)
                self._days[digest] = self._today

    def knows(self, digest: str) -> bool:
        """Whether anything is known of a page."""
        if digest not in self._looked_for:
            self.know([digest])
        return digest in self._known

    def of(self, digest: str) -> Print | None:
        """What a page of this digest looked like; None where that is not known."""
        with self._lock:
            if not self.knows(digest):
                return None
            if self._days[digest] != self._today:
                self._days[digest] = self._today
                self._asked.add(digest)
            found = self._known[digest]
            return None if found == UNSEEN else found

    def strips_of(self, digests: Iterable[str], places: Sequence[int]) -> Callable[[str], Strips]:
        """What tells the strips of pages with some digests, none where they are not known. ``places`` are those of
        the key's columns."""
        with self._lock:
            kept = {digest: self._strips[digest] for digest in digests if digest in self._strips}
            rest = [digest for digest in digests if digest not in kept]
            sql = "SELECT digest, strips FROM strips_of_pages WHERE digest IN "
            kept.update(self._kept(sql, rest))
        return lambda digest: unpacked(kept.get(digest, b""), digest, places)

    def _kept(self, sql: str, digests: Sequence[str] | None = None) -> Iterator[Any]:
        """What the file has, where it can be read: with ``digests``, of these."""
        with contextlib.suppress(*UNKEPT):
            file = None if digests is not None and not digests else self._file()
            if file is None:
                return
            if digests is None:
                yield from file.execute(sql)
            for at in range(0, len(digests or ()), _TOGETHER):
                some = (digests or ())[at : at + _TOGETHER]
                yield from file.execute(f"{sql} ({', '.join('?' * len(some))})", some)

    def _file(self) -> sqlite3.Connection | None:
        """The file for reading, where it is there; it stays open, as to close it takes as long as many questions.

        Raises:
            sqlite3.Error: it cannot be opened.
        """
        if self._opened is None and self.path is not None and self._secret and self.path.is_file():
            self._opened = sqlite3.connect(self.path, check_same_thread=False)
            weakref.finalize(self, self._opened.close)
        return self._opened

    def tag(self) -> Tag:
        """What makes a tag: ``update`` it with the bytes of all rows, then ``finalize`` it."""
        return _Authenticated(self._secret)

    def tag_of(self, rows: bytes | memoryview) -> bytes:
        return self._cipher.encrypt(_NONCE, b"", rows)

    def print_of(self, rows: bytes | memoryview) -> Print:
        """What rows look like: a page's, or those of a strip or a stretch amid the others."""
        return Print(len(rows), self.tag_of(rows))

    def learn(
        self,
        digest: str,
        seen: Print | None,
        strips: Strips = NO_STRIPS,
        places: Sequence[int] = (),
    ) -> None:
        """Remember what a page looks like, where that is known, and its strips; ``places`` are those of the key's
        columns."""
        if seen is not None or strips:
            self.take([(digest, *(seen or UNSEEN), packed(strips, places))])

    def learned(self) -> list[Learned]:
        """What was learned since this was asked last, for others with the same key; here it is forgotten."""
        with self._lock:
            found = [
                (digest, *self._known[digest], strips) for digest, strips in self._strips.items()
            ]
            for kept in (self._strips, self._known, self._days):
                kept.clear()
            self._looked_for.clear()
            return found

    def take(self, learned: Iterable[Learned]) -> None:
        """Remember what another one learned."""
        with self._lock:
            for digest, size, tag, strips in learned:
                self._looked_for.add(digest)
                self._known[digest] = Print(size, tag)
                self._strips[digest] = strips
                self._days[digest] = self._today
                if not len(self._strips) % _WAITING:
                    self.keep()

    def look_at(
        self,
        digest: str,
        records: Sequence[bytes],
        width: int,
        sums: Sequence[int],
        key_at: Callable[[int], tuple[int, ...]],
        places: Sequence[int],
    ) -> None:
        """Remember what a page looks like that has these rows, of ``width`` columns, each with what it adds to the
        digest; ``key_at`` tells the key of one of them, ``places`` are those of the key's columns; without any, there
        are no strips."""
        rows = packets_of(records, first_packet(width))
        if rows is None:
            return
        view, end, count = memoryview(rows), 0, len(records)
        each = strip_rows(count) if places else 0
        borders = [*range(0, count, each), count] if each else []
        ends, totals, sizes = list[int](), list[int](), list[int]()
        tags: list[bytes] = []
        for first, stop in pairwise(borders):
            size = sum(map(len, records[first:stop])) + _HEAD * (stop - first)
            ends += key_at(stop - 1)
            totals.append(sum(sums[first:stop]))
            sizes.append(size)
            tags.append(self.tag_of(view[end : end + size]))
            end += size
        strips = Strips(
            width=len(places),
            ends=tuple(ends),
            rows=tuple([stop - first for first, stop in pairwise(borders)]),
            totals=tuple(totals),
            sizes=tuple(sizes),
            tags=tuple(tags),
        )
        self.learn(digest, self.print_of(rows), strips, places)

    def keep(self) -> None:
        """Have what was learned last, where that can be."""
        with self._lock:
            if not (self._strips or self._asked) or self.path is None:
                return
            new = [(digest, *self._known[digest], self._days[digest]) for digest in self._strips]
            strips = [one for one in self._strips.items() if one[1]]
            asked = [(self._days[digest], digest) for digest in self._asked]
            with contextlib.suppress(*UNKEPT), remembered(self.path, _SCHEMA) as file:
                # Tags under another key than that of the file would never be met again.
                if _secret_in(file, self._secret) == self._secret:
                    file.executemany(_ASKED, asked)
                    file.executemany(_SEEN, new)
                    file.executemany(_STRIPS, strips)
                    if not self._forgot:
                        for sql in _FORGET:
                            file.execute(sql, (self._today - _KEPT,))
                    self._forgot = True
                    self._strips.clear()
                self._asked.clear()

    @cached_property
    def _cipher(self) -> ChaCha20Poly1305:
        return ChaCha20Poly1305(self._secret)

    @cached_property
    def _today(self) -> int:
        return int(time.time()) // _DAY

    @cached_property
    def _secret(self) -> bytes:
        secret = self._given or secrets.token_bytes(32)
        if self.path is not None:
            with contextlib.suppress(*UNKEPT), remembered(self.path, _SCHEMA) as file:
                return _secret_in(file, secret)
        return secret


class PrintsThere(PagePrints):
    """The prints of pages that a helper reads where they are. Their tags are those of BLAKE2b (RFC 7693) under the
    key, which any Python there can make."""

    def tag(self) -> Tag:
        return _Blake(self._secret)

    def tag_of(self, rows: bytes | memoryview) -> bytes:
        tag = self.tag()
        tag.update(rows)
        return tag.finalize()


class _Authenticated:
    """Piece by piece the same tag as ``ChaCha20Poly1305`` gives to all bytes at once (RFC 8439, 2.8)."""

    def __init__(self, secret: bytes) -> None:
        stream = Cipher(ChaCha20(secret, bytes(4) + _NONCE), mode=None).encryptor()
        self._made = Poly1305(stream.update(bytes(32)))
        self._size = 0

    def update(self, data: bytes | memoryview) -> None:
        self._made.update(data)
        self._size += len(data)

    def finalize(self) -> bytes:
        self._made.update(bytes(-self._size % 16) + struct.pack("<QQ", self._size, 0))
        return self._made.finalize()


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
