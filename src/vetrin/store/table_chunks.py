"""A table in pages: stretches of its rows in order, cut where the rows themselves say so.

A page ends behind a row whose CRC-32 is small enough for the row's length, so that pages are of some 256 kB
on average whatever the rows are like, and a row that comes, goes or changes concerns the page that it is in
and at most the next one. Pages that are there already are not stored again; one that differs from the page
that stood at its place is stored as a patch of it. Edits of a page say what they replace in it (``alter``);
otherwise what is the same is found by compressing one page with the other as its dictionary. A page of which that was
found is stored as a whole once it is altered.
"""

from __future__ import annotations

import json
import threading
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future
from itertools import compress
from typing import Any
from zlib import crc32

from msgspec import Struct
from msgspec.structs import replace

from ..errors import DamagedObject
from .objects import LARGEST, Contents, Hands
from .proof import BY_DIGEST, Proof, fingerprint
from .splices import Splice, composed, is_packed, packed, spliced

_CUT = (1 << 32) // (256 << 10)
_LEAST = 32 << 10
LARGEST_PAGE = 2 << 20  # bytes, but for a row that is larger
_BUNDLE = LARGEST
_BUNDLES = 4 * _BUNDLE  # bytes of those that are kept at hand
_SPLICED = 8  # a patch by splices takes at most this part of its page; they are compressed together
_WAITING = 32  # pages of which it is not known yet what came of them
_BEGINNING = 12  # bytes of a page by which its first row is known again


class Patched(Struct, frozen=True):
    """Where a page's patch lies: ``size`` bytes from ``start`` in ``bundle``; it is one of ``base``."""

    base: str
    bundle: str
    start: int
    size: int


class Chunk(Struct, frozen=True):
    """A page: the digest of its records, how many, and their bytes. ``blocks`` are those of a larger one;
    ``mark`` tells, but for chance, with which row it begins."""

    digest: str
    rows: int
    size: int
    mark: int
    blocks: tuple[str, ...] = ()
    patch: Patched | None = None

    @property
    def needs(self) -> tuple[str, ...]:
        """The contents that it is read from."""
        if self.patch is not None:
            return (self.patch.base, self.patch.bundle)
        return self.blocks or (self.digest,)

    def as_list(self) -> list[object]:
        found: list[object] = [self.digest, self.rows, self.size, self.mark]
        patch = self.patch
        if patch is not None:
            return [*found, patch.base, patch.bundle, patch.start, patch.size]
        return [*found, list(self.blocks)] if self.blocks else found

    @classmethod
    def of_list(cls, data: Sequence[Any]) -> Chunk:
        """Raises ValueError, KeyError, TypeError, IndexError where it is no page."""
        digest, rows, size, mark = str(data[0]), int(data[1]), int(data[2]), int(data[3])
        if len(data) == 8:
            patch = Patched(str(data[4]), str(data[5]), int(data[6]), int(data[7]))
            return cls(digest, rows, size, mark, (), patch)
        return cls(digest, rows, size, mark, tuple(data[4]) if len(data) == 5 else ())


class OpenedPage(Struct, frozen=True):
    """A page at hand: ``content`` is what ``splices`` make of the content ``base``; None where it is kept
    otherwise."""

    chunk: Chunk
    content: bytes
    base: str = ""
    splices: Sequence[Splice] | None = None


class Chunker:
    """Cuts records, however they come, into pages."""

    def __init__(self) -> None:
        self._page: list[bytes] = []
        self._size = 0

    def cut(self, records: list[bytes], checks: Sequence[int] = ()) -> Iterator[list[bytes]]:
        """Take some more records; the pages that are whole now. ``checks`` are the CRC-32 of each, if somebody made
        them."""
        # By single calls for all of them, as this is done for every row that there is: those that would cut if
        # they were as long as the longest, and of these the ones that do.
        most = _CUT * max(map(len, records), default=0)
        likely = compress(range(len(records)), map(most.__gt__, checks or map(crc32, records)))
        ends = [at for at in likely if crc32(records[at]) < _CUT * len(records[at])]
        begin = 0
        for end in (*ends, None):
            part = records[begin : None if end is None else end + 1]
            begin = 0 if end is None else end + 1
            if not part:
                continue
            more = sum(map(len, part))
            if self._size + more <= LARGEST_PAGE:
                self._page += part
                self._size += more
            else:  # long records, or none among them that cuts
                for record in part:
                    if self._page and self._size + len(record) > LARGEST_PAGE:
                        yield from self.end()
                    self._page.append(record)
                    self._size += len(record)
            if end is not None and self._size >= _LEAST:
                yield from self.end()

    def end(self) -> Iterator[list[bytes]]:
        """What is left, as a page."""
        if self._page:
            page, self._page, self._size = self._page, [], 0
            yield page


_Kept = (
    Chunk | tuple[Chunk, str, bytes]
)  # a page as it lies, or with its base and its patch of that


class TableWriter:
    """Stores the pages of one table. ``old`` are those of the table in an earlier snapshot. Those that are altered
    ``proof`` names."""

    def __init__(
        self,
        contents: Contents,
        hands: Hands,
        old: Sequence[Chunk] = (),
        proof: Proof = BY_DIGEST,
    ) -> None:
        self._contents = contents
        self._proof = proof
        self._hands = hands
        self._old = old
        self._places = {page.digest: number for number, page in enumerate(old)}
        self._marks = {page.mark: number for number, page in enumerate(old)}
        self._left = 0  # rows of the old page before it that were not met yet
        self._next = 0  # the old page that is likely to stand where the next one is
        self._cutter = Chunker()
        self._jobs: deque[Future[_Kept]] = deque()
        self._pages: list[Chunk] = []
        self._patches: list[tuple[int, str, bytes]] = []
        self._room = _BUNDLE
        self.added = self.rows = self.size = 0

    def add(self, records: list[bytes], checks: Sequence[int] = ()) -> list[int]:
        """Store some more records; after which of all rows a page ended meanwhile. ``checks`` are those that
        ``Chunker`` takes. Raises StoreError."""
        ends = []
        for page in self._cutter.cut(records, checks):
            self._begin(page)
            ends.append(self.rows)
        return ends

    def alter(self, page: OpenedPage, splices: Sequence[Splice], rows: int) -> None:
        """Store, as a page of its own, what becomes of a page once some of it is replaced, at most 2 MiB; ``rows`` it
        has then. Raises StoreError."""
        self.end_page()
        self.rows += rows
        self.size += len(page.content)
        self.size += sum(len(one.content) - (one.end - one.begin) for one in splices)
        self._do(self._altered, page, splices, rows)

    def end_page(self) -> None:
        """Let no page reach beyond the records that were added by now. Raises StoreError."""
        for page in self._cutter.end():
            self._begin(page)

    def settled(self, beyond: int = 0) -> list[Chunk]:
        """The pages, but for the first ``beyond``, of which it is known by now where they lie."""
        return self._pages[beyond : self._patches[0][0] if self._patches else None]

    def _begin(self, records: list[bytes]) -> None:
        content, rows = b"".join(records), len(records)
        mark = crc32(content[:_BEGINNING])
        digest, like = "", None
        if self._old:
            digest = fingerprint(content)
            like = self._likely(digest, mark, rows)
        page = Chunk(digest, rows, len(content), mark)
        self.rows += page.rows
        self.size += page.size
        self._do(self._keep, content, page, like)

    def _do(self, job: Callable[..., _Kept], *values: Any) -> None:
        self._jobs.append(self._hands.do(job, *values))
        while len(self._jobs) > _WAITING:
            self._settle()

    def _likely(self, digest: str, mark: int, rows: int) -> Chunk | None:
        """The old page that has this digest, or begins with the same row, or else has the rows that stood
        where these stand."""
        at = self._places.get(digest, self._marks.get(mark))
        if at is None:  # what is left of a page that was cut in two, or another page's rows
            at = self._next if self._left <= 0 else self._next - 1
        else:
            self._left = 0
        if at != self._next - 1 and at < len(self._old):
            self._left = self._old[at].rows
        self._left -= rows
        self._next = at + 1
        return self._old[at] if at < len(self._old) else None

    def _altered(self, page: OpenedPage, splices: Sequence[Splice], rows: int) -> _Kept:
        content = spliced(page.content, splices)
        chunk = Chunk(self._proof.name(content), rows, len(content), crc32(content[:_BEGINNING]))
        if page.splices is not None:
            every = composed(page.splices, splices)
            if not every:
                return chunk  # it is the base, which is there
            patch = packed(every)
            if len(patch) < chunk.size // _SPLICED:
                return chunk, page.base, patch
        elif chunk.digest != page.chunk.digest:
            # To search for what is the same each time it is altered would take longer than its room is worth.
            return self._keep(content, chunk, None)
        return self._keep(content, chunk, page.chunk)

    def _keep(self, content: bytes, page: Chunk, like: Chunk | None) -> _Kept:
        digest = page.digest
        if like is not None and like.digest == digest and all(map(self._contents.has, like.needs)):
            return like
        digest = digest or fingerprint(content)
        page = replace(page, digest=digest)
        if page.size > LARGEST:
            blocks, added = self._contents.keep_blocks([content])
            self.added += added
            return replace(page, blocks=tuple(blocks))
        if like is not None and not like.blocks and not self._contents.has(digest):
            base = like.patch.base if like.patch is not None else like.digest
            try:
                frame = self._contents.patch(content, self._contents.read(base))
            except DamagedObject:
                frame = content  # then there is nothing to lean on
            if len(frame) < page.size // 16:
                return page, base, frame
        _, added = self._contents.keep(content, digest)
        self.added += added
        return page

    def finish(self) -> list[Chunk]:
        """The pages, when all are stored. Raises StoreError."""
        self.end_page()
        while self._jobs:
            self._settle()
        self._bundle()
        return self._pages

    def finish_list(self) -> tuple[str, ...]:
        """As ``finish``, with the list of the pages stored as well; the digests of its blocks."""
        lists, added = self._contents.keep_blocks([written(self.finish())])
        self.added += added
        return tuple(lists)

    def _settle(self) -> None:
        """Take what came of the oldest job; patches wait until there are enough of them for a bundle."""
        done = self._jobs.popleft().result()
        if isinstance(done, Chunk):
            self._pages.append(done)
            return
        page, base, frame = done
        if len(frame) > self._room:
            self._bundle()
        self._patches.append((len(self._pages), base, frame))
        self._room -= len(frame)
        self._pages.append(page)

    def _bundle(self) -> None:
        patches, self._patches, self._room = self._patches, [], _BUNDLE
        if not patches:
            return
        bundle, added = self._contents.keep(b"".join(frame for _, _, frame in patches))
        self.added += added
        start = 0
        for number, base, frame in patches:
            patch = Patched(base, bundle, start, len(frame))
            self._pages[number] = replace(self._pages[number], patch=patch)
            start += len(frame)


class TableReader:
    """Reads pages, with a ``proof`` of each; safe to be used from several threads. The bundles that were needed last
    are kept at hand, as pages that follow one another are patched in those of several runs."""

    def __init__(self, contents: Contents, proof: Proof = BY_DIGEST) -> None:
        self._contents = contents
        self._proof = proof
        self._bundles: dict[str, bytes] = {}  # the one that was needed last is the last
        self._lock = threading.Lock()

    def read(self, page: Chunk) -> bytes:
        """The records of a page, one behind the other. Raises DamagedObject."""
        return self.open(page).content

    def open(self, page: Chunk) -> OpenedPage:
        """The same, with how it is kept. Raises DamagedObject."""
        if page.patch is not None:
            return self._patched(page, page.patch)
        if page.blocks:
            content = b"".join(self._contents.blocks(page.blocks))
            if not self._proof.fits(content, page.digest):
                raise DamagedObject(page.digest, "is damaged: it is not what it was")
            return OpenedPage(page, content)
        content = self._contents.read(page.digest, self._proof)
        return OpenedPage(page, content, page.digest, ())

    def _patched(self, page: Chunk, where: Patched) -> OpenedPage:
        patch = self._bundle(where.bundle)[where.start : where.start + where.size]
        if is_packed(patch):
            content, splices = self._contents.spliced(patch, where.base, page.digest, self._proof)
            return OpenedPage(page, content, where.base, splices)
        base = self._contents.read(where.base)
        return OpenedPage(page, self._contents.patched(patch, base, page.digest, self._proof))

    def _bundle(self, digest: str) -> bytes:
        with self._lock:  # of two that need it, one reads it
            found = self._bundles.pop(digest, None)
            if found is None:
                found = self._contents.read(digest)
                room = _BUNDLES - len(found)
                while sum(map(len, self._bundles.values())) > max(room, 0):
                    del self._bundles[next(iter(self._bundles))]
            self._bundles[digest] = found
            return found


def written(pages: Sequence[Chunk]) -> bytes:
    """A list of pages as it is stored: one JSON list to the line."""
    return b"".join(json.dumps(page.as_list()).encode() + b"\n" for page in pages)


def read_list(content: bytes) -> list[Chunk]:
    """Raises ValueError where it is none."""
    try:
        return [Chunk.of_list(json.loads(line)) for line in content.splitlines()]
    except (KeyError, TypeError, IndexError) as error:
        raise ValueError(f"no list of pages: {error}") from error


def read_pages(contents: Contents, digests: Sequence[str]) -> list[Chunk]:
    """The list of pages that is stored in these blocks. Raises DamagedObject."""
    content = b"".join(contents.blocks(digests))
    try:
        return read_list(content)
    except ValueError as error:
        raise DamagedObject(digests[0], str(error)) from error
