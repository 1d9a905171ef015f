"""What changed since, put into the stretches that a table's baseline is kept in.

Of each stretch that a change concerns the rows are read from the store, so the source is read where its digests
differ, and nowhere else; and which of the rows there changed is known before any of them is rewritten.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Future
from dataclasses import dataclass, field
from itertools import islice

from msgspec import Struct

from ..database import UNTOLD, KeyRange, Part, Table, digest_with
from ..database.row_codec import RecordForm, record_end, split_records
from ..store import (
    BY_DIGEST,
    LARGEST_PAGE,
    Chunk,
    Contents,
    Hands,
    OpenedPage,
    Proof,
    Splice,
    TableReader,
    TableWriter,
    spliced,
)
from .pieces import Piece

Key = tuple[int, ...]
_LARGE = 1 << 20  # bytes of a page that is cut once more when it has grown
_AHEAD = 3  # pieces that are read before they are needed


class Exchanged(Struct, frozen=True):
    """The records of a range that are there no longer, and those that were not there."""

    gone: list[bytes] = []
    came: list[bytes] = []


@dataclass
class _Found:
    """What differs in a range of a piece, which reaches up to ``end`` in its content: what is replaced there, and the
    rows."""

    end: int
    splices: list[Splice] = field(default_factory=list)
    gone: list[bytes] = field(default_factory=list)
    came: list[bytes] = field(default_factory=list)


class _Opened:
    """A piece at hand, exchanged up to some place."""

    def __init__(self, piece: Piece, pages: Sequence[OpenedPage], form: RecordForm) -> None:
        self.piece = piece
        self.pages = pages
        self.rows = sum(page.rows for page in piece.pages)
        self.content = (
            pages[0].content if len(pages) == 1 else b"".join(page.content for page in pages)
        )
        self.size = len(self.content)  # as it will be, in bytes
        self.splices: list[Splice] = []
        self._form = form
        self._at = 0
        self._upto: Key | None = None  # of the range that ends there

    def quickly(self, key_range: KeyRange, records: Sequence[bytes]) -> _Found | None:
        """How the rows of a range differ from these: only likely to be right, as the first of them is looked for by
        its bytes. None where it is not found."""
        begin = self._begin(key_range, records)
        return None if begin < 0 else self._along(begin, key_range, records)

    def certainly(self, key_range: KeyRange, records: Sequence[bytes]) -> _Found:
        """The same for certain."""
        rows = split_records(self.content, self._form.width)
        first = between(rows, key_range, self._form.key).start
        return self._along(sum(map(len, rows[:first])), key_range, records)

    def _along(self, begin: int, key_range: KeyRange, records: Sequence[bytes]) -> _Found:
        """Go along both from where the range begins."""
        content, form = self.content, self._form
        found = _Found(begin)
        at = since = begin  # what is between them goes
        comes: list[bytes] = []

        def replaced() -> None:
            if comes or since < at:
                found.splices.append(Splice(since, at, b"".join(comes)))
                found.came.extend(comes)
                comes.clear()

        for record in records:
            # A record says how long it is, so none is the beginning of another.
            while not content.startswith(record, at):
                end = record_end(content, at, form.width)
                there = content[at:end]
                key, old = form.key(record), form.key(there) if there else None
                if old is not None and old <= key:
                    found.gone.append(there)
                    at = end
                if old is None or old >= key:
                    comes.append(record)
                    break
            else:
                if comes or since < at:
                    replaced()
                at = since = at + len(record)
        while at < len(content):
            end = record_end(content, at, form.width)
            there = content[at:end]
            if key_range.upto is not None and form.key(there) > key_range.upto:
                break
            found.gone.append(there)
            at = end
        replaced()
        found.end = at
        return found

    def _begin(self, key_range: KeyRange, records: Sequence[bytes]) -> int:
        """Where the rows of a range are likely to begin, -1 where that cannot be told."""
        after, first = key_range.after, self.piece.key_range.after
        if after is None or (first is not None and after <= first) or after == self._upto:
            return self._at
        if not records:
            return -1
        begin = self.content.find(records[0], self._at)
        if begin < 0:  # it begins with the same value, which mostly is its key
            begin = self.content.find(records[0][: record_end(records[0], 0, 1)], self._at)
        return begin

    @property
    def is_page(self) -> bool:
        """Whether it will do as one page: not where it grew large. One that always was had no place to be cut, and
        hardly has one now."""
        before = len(self.content)
        fits = self.size <= max(_LARGE, min(before + before // 16, LARGEST_PAGE))
        return fits and len(self.pages) == 1

    def put(self, key_range: KeyRange, found: _Found) -> None:
        """Exchange the rows of a range."""
        self.splices += found.splices
        self._at, self._upto = found.end, key_range.upto
        self.rows += len(found.came) - len(found.gone)
        self.size += sum(map(len, found.came)) - sum(map(len, found.gone))


class BaselineEdits:
    """The edits of one table, made from its first key to its last. ``added`` is how many bytes they took."""

    def __init__(
        self,
        contents: Contents,
        hands: Hands,
        table: Table,
        pieces: Iterable[Piece],
        *,
        mixed: bool,
        proof: Proof = BY_DIGEST,
    ) -> None:
        self.table = table.name
        self._form = RecordForm(table, mixed=mixed)
        self._pieces = list(pieces)
        self._next = 0  # the first piece that later ranges may reach into
        self._hands = hands
        self._proof = proof
        self._reader = TableReader(contents, proof)
        self._expected: deque[int] = deque()  # the pieces that are likely to be opened next
        self._reading: dict[int, Future[list[OpenedPage]]] = {}
        old = [page for piece in self._pieces for page in piece.pages]
        self._writer = TableWriter(contents, hands, old, proof)
        self._opened: _Opened | None = None
        self._written: list[tuple[KeyRange, list[Key] | None]] = []  # where each piece is cut

    @property
    def added(self) -> int:
        return self._writer.added

    def exchange(self, parts: Iterable[Part]) -> Exchanged | None:
        """Put all rows that some ranges have now, in the order of the key, in the place of those they had; which of
        them differ, None where not all of a range is kept, or other rows are. Where both digests of a part are told,
        much less is looked at.

        Raises:
            StoreError: what is kept cannot be read, or no more be kept.
            ValueError: a key is no whole number.
        """
        differ = Exchanged()
        for part in parts:
            found = self._found(part)
            if found is None:
                return None
            for one in found:
                differ.gone.extend(one.gone)
                differ.came.extend(one.came)
        return differ

    def _found(self, part: Part) -> Sequence[_Found] | None:
        """The same of one part, piece by piece."""
        key_range, records = part.key_range, part.records or []
        digests = part.digests if UNTOLD not in part.digests else None
        opened = self._opened
        if opened is not None and digests is not None and _covers([opened.piece], key_range):
            one = self._likely([opened], key_range, [records], digests)
            if one is not None:
                opened.put(key_range, one[0])
                return one
        return self._over_pieces(key_range, records, digests)

    def _over_pieces(
        self, key_range: KeyRange, records: Sequence[bytes], digests: tuple[str, str] | None
    ) -> Sequence[_Found] | None:
        """The same of a range that may reach over several pieces."""
        opened = [*self._opening(key_range)]
        if not _covers([item.piece for item in opened], key_range):
            return None
        parts = [records]
        if len(opened) > 1:
            parts = [
                list(records[between(records, item.piece.key_range, self._form.key)])
                for item in opened
            ]
        found = None
        if digests is not None:
            found = self._likely(opened, key_range, parts, digests)
        if found is None:
            found = [
                item.certainly(key_range, part) for item, part in zip(opened, parts, strict=True)
            ]
            if digests is not None and not _fits(found, digests):
                return None  # what is kept are other rows than they should be
        for item, one in zip(opened, found, strict=True):
            item.put(key_range, one)
        if self._opened is not None and self._opened is not opened[0]:
            self._close(self._opened)
        for item in opened[:-1]:
            self._close(item)
        self._opened = opened[-1]
        return found

    @staticmethod
    def _likely(
        opened: Sequence[_Opened],
        key_range: KeyRange,
        parts: Sequence[Sequence[bytes]],
        digests: tuple[str, str],
    ) -> list[_Found] | None:
        found = []
        for item, part in zip(opened, parts, strict=True):
            try:
                one = item.quickly(key_range, part)
            except (ValueError, TypeError, IndexError):  # it began amid a row
                one = None
            if one is None:
                return None
            found.append(one)
        return found if _fits(found, digests) else None

    def expect(self, ranges: Sequence[KeyRange]) -> None:
        """These will be exchanged next, or most of them: the pieces that they reach into are read ahead."""
        last, known = self._next, len(self._expected)
        for key_range in ranges:
            for number in self._reached(key_range, last):
                last = number
                if not self._expected or self._expected[-1] < number:
                    self._expected.append(number)
        new = islice(self._expected, known, None)
        self._proof.expect(page.digest for number in new for page in self._pieces[number].pages)

    def _reached(self, key_range: KeyRange, first: int) -> Iterator[int]:
        """The pieces that a range reaches into, beginning with that one."""
        for number in range(first, len(self._pieces)):
            piece = self._pieces[number]
            after, upto = piece.key_range.after, key_range.upto
            if after is not None and upto is not None and after >= upto:
                return
            if piece.key_range.meets(key_range):
                yield number

    def _opening(self, key_range: KeyRange) -> Iterator[_Opened]:
        for number in self._reached(key_range, self._next):
            self._next = number
            piece = self._pieces[number]
            if self._opened is not None and self._opened.piece is piece:
                yield self._opened
            else:
                yield _Opened(piece, self._read(number), self._form)

    def _read(self, number: int) -> list[OpenedPage]:
        while self._expected and self._expected[0] < number:
            passed = self._reading.pop(self._expected.popleft(), None)
            if passed is not None:
                passed.cancel()
        for coming in (number, *islice(self._expected, _AHEAD)):
            if coming not in self._reading:
                self._reading[coming] = self._hands.do(self._open, self._pieces[coming])
        return self._reading.pop(number).result()

    def _open(self, piece: Piece) -> list[OpenedPage]:
        return [self._reader.open(page) for page in piece.pages]

    def _close(self, item: _Opened) -> None:
        """Store a piece, if something in it is another."""
        if not item.splices:
            return
        keys: list[Key] | None = []
        if not item.size:
            keys = None
        elif item.is_page:
            self._writer.alter(item.pages[0], item.splices, item.rows)
        else:
            content = spliced(item.content, item.splices)
            rows, before = split_records(content, self._form.width), self._writer.rows
            ends = [end - before for end in self._writer.add(rows)]
            self._writer.end_page()
            keys = [self._form.key(rows[end - 1]) for end in ends if end < len(rows)]
        self._written.append((item.piece.key_range, keys))

    def finish(self) -> list[tuple[KeyRange, list[Piece]]]:
        """The ranges that are kept in other pieces now, with these. Raises StoreError."""
        if self._opened is not None:
            self._close(self._opened)
            self._opened = None
        pages = iter(self._writer.finish())
        return [
            (key_range, [*_pieces(key_range, borders, pages)])
            for key_range, borders in self._written
        ]


def _covers(pieces: Sequence[Piece], key_range: KeyRange) -> bool:
    """Whether some pieces that follow one another hold all of a range."""
    at = key_range.after
    for piece in pieces:
        if (piece.key_range.after or ()) > (at or ()):
            return False
        at = piece.key_range.upto
    return bool(pieces) and (at is None or (key_range.upto is not None and at >= key_range.upto))


def _fits(found: Sequence[_Found], digests: tuple[str, str]) -> bool:
    """Whether the first digest becomes the second one by what differs."""
    digest = digests[0]
    for one in found:
        digest = digest_with(digest, one.gone, one.came)
    return digest == digests[1]


def between(records: Sequence[bytes], key_range: KeyRange, key_of: Callable[[bytes], Key]) -> slice:
    """Where the records of a range lie among some in the order of their key."""
    first = 0
    if key_range.after is not None:
        first = bisect_right(records, key_range.after, key=key_of)
    last = len(records)
    if key_range.upto is not None:
        last = bisect_right(records, key_range.upto, key=key_of)
    return slice(first, last)


def _pieces(
    key_range: KeyRange, borders: Sequence[Key] | None, pages: Iterator[Chunk]
) -> Iterator[Piece]:
    """The pages of a range, cut at some keys, None where there is no row: together all of it."""
    if borders is None:
        yield Piece(key_range, ())
        return
    after = key_range.after
    for upto in (*borders, key_range.upto):
        yield Piece(KeyRange(after, upto), (next(pages),))
        after = upto
