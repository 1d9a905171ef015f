"""What changed since, put into the stretches that a table's baseline is kept in.

Of each stretch that a change concerns the rows are read from the store, so the source is read where its digests
differ, and nowhere else; and which of the rows there changed is known before any of them is rewritten.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field

from ..database import KeyRange, Table, digest_with
from ..database.row_codec import cells_of, record_end, split_records
from ..store import Chunk, Contents, Hands, TableReader, TableWriter

Key = tuple[int, ...]
_LARGE = 1 << 20  # bytes of a page that is cut once more


@dataclass(frozen=True)
class Piece:
    """All rows of a table that are in a range of its key, in pages."""

    key_range: KeyRange
    pages: tuple[Chunk, ...]


@dataclass(frozen=True)
class Exchanged:
    """The records of a range that are there no longer, and those that were not there."""

    gone: list[bytes] = field(default_factory=list)
    came: list[bytes] = field(default_factory=list)


@dataclass
class _Splice:
    """What of a piece's content is replaced: from ``begin`` to ``end``, by ``content``; and the rows that differ."""

    begin: int
    end: int
    content: bytes
    gone: list[bytes] = field(default_factory=list)
    came: list[bytes] = field(default_factory=list)


class RecordForm:
    """Where in a table's records what is."""

    def __init__(self, table: Table, *, mixed: bool) -> None:
        names = [column.name for column in table.columns]
        self.width = len(names)
        self._places = [names.index(name) for name in table.key]
        self._mixed = mixed

    def key(self, record: bytes) -> Key:
        """Raises ValueError where it is not made of whole numbers."""
        cells = cells_of(record, self._mixed)
        return tuple(int(cells[place]) for place in self._places)  # type: ignore[arg-type]


class _Opened:
    """A piece at hand. ``at`` is where the ranges begin that were not exchanged yet."""

    def __init__(self, piece: Piece, content: bytes, form: RecordForm) -> None:
        self.piece = piece
        self.content = content
        self.rows = sum(page.rows for page in piece.pages)
        self.altered = False
        self._form = form
        self._at = 0

    def step_by_step(self, key_range: KeyRange, records: Sequence[bytes]) -> _Splice | None:
        """What replaces the rows of a range, found by going along both: quick, but only likely to be right, as the
        first of the rows is looked for by its bytes. None where it is not found."""
        content, form = self.content, self._form
        begin = self._at
        after = self.piece.key_range.after
        if key_range.after is not None and (after is None or key_range.after > after):
            begin = content.find(records[0], begin) if records else -1
        if begin < 0:
            return None
        found = _Splice(begin, begin, b"".join(records))
        at = begin
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
                    found.came.append(record)
                    break
            else:
                at += len(record)
        while at < len(content):
            end = record_end(content, at, form.width)
            there = content[at:end]
            if key_range.upto is not None and form.key(there) > key_range.upto:
                break
            found.gone.append(there)
            at = end
        found.end = at
        return found

    def row_by_row(self, key_range: KeyRange, records: Sequence[bytes]) -> _Splice:
        """The same for certain."""
        rows = split_records(self.content, self._form.width)
        there = between(rows, key_range, self._form.key)
        old = rows[there]
        were, are = set(old), set(records)
        begin = sum(map(len, rows[: there.start]))
        return _Splice(
            begin=begin,
            end=begin + sum(map(len, old)),
            content=b"".join(records),
            gone=[record for record in old if record not in are],
            came=[record for record in records if record not in were],
        )

    def put(self, splice: _Splice) -> None:
        """Exchange the rows."""
        if splice.gone or splice.came:
            self.content = (
                self.content[: splice.begin] + splice.content + self.content[splice.end :]
            )
            self.rows += len(splice.came) - len(splice.gone)
            self.altered = True
        self._at = splice.begin + len(splice.content)


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
    ) -> None:
        self.table = table.name
        self._form = RecordForm(table, mixed=mixed)
        self._pieces = list(pieces)
        self._next = 0  # the first piece that later ranges may reach into
        self._reader = TableReader(contents)
        old = [page for piece in self._pieces for page in piece.pages]
        self._writer = TableWriter(contents, hands, old)
        self._opened: _Opened | None = None
        self._written: list[tuple[KeyRange, list[Key] | None]] = []  # where each piece is cut

    @property
    def added(self) -> int:
        return self._writer.added

    def exchange(
        self, key_range: KeyRange, records: Sequence[bytes], digests: tuple[str, str] | None = None
    ) -> Exchanged | None:
        """Put all rows that a range has now, in the order of the key, in the place of those it had; which of them
        differ, None where not all of the range is kept. ``digests`` are those of the rows that it had and has: with
        them much less is looked at.

        Raises:
            StoreError: what is kept cannot be read, or no more be kept.
            ValueError: a key is no whole number.
        """
        opened = [*self._opening(key_range)]
        if not _covers([item.piece for item in opened], key_range):
            return None
        parts = [records[between(records, item.piece.key_range, self._form.key)] for item in opened]
        found = None
        if digests is not None:
            found = self._quickly(opened, key_range, parts, digests)
        if found is None:
            found = [
                item.row_by_row(key_range, part) for item, part in zip(opened, parts, strict=True)
            ]
        for item, splice in zip(opened, found, strict=True):
            item.put(splice)
        if self._opened is not None and self._opened is not opened[0]:
            self._close(self._opened)
        for item in opened[:-1]:
            self._close(item)
        self._opened = opened[-1]
        return _joined(found)

    @staticmethod
    def _quickly(
        opened: Sequence[_Opened],
        key_range: KeyRange,
        parts: Sequence[Sequence[bytes]],
        digests: tuple[str, str],
    ) -> list[_Splice] | None:
        found = []
        for item, part in zip(opened, parts, strict=True):
            try:
                splice = item.step_by_step(key_range, part)
            except (ValueError, TypeError, IndexError):  # it began amid a row
                splice = None
            if splice is None:
                return None
            found.append(splice)
        differ = _joined(found)
        return found if digest_with(digests[0], differ.gone, differ.came) == digests[1] else None

    def _opening(self, key_range: KeyRange) -> Iterator[_Opened]:
        """The pieces that a range reaches into."""
        for number in range(self._next, len(self._pieces)):
            piece = self._pieces[number]
            after, upto = piece.key_range.after, key_range.upto
            if after is not None and upto is not None and after >= upto:
                return
            if piece.key_range.meets(key_range):
                self._next = number
                yield self._open(piece)

    def _open(self, piece: Piece) -> _Opened:
        if self._opened is not None and self._opened.piece is piece:
            return self._opened
        content = b"".join(map(self._reader.read, piece.pages))
        return _Opened(piece, content, self._form)

    def _close(self, item: _Opened) -> None:
        """Store a piece, if something in it is another."""
        if not item.altered:
            return
        keys: list[Key] | None = []
        if not item.content:
            keys = None
        elif len(item.content) <= _LARGE:
            self._writer.put(item.content, item.rows)
        else:
            rows, before = split_records(item.content, self._form.width), self._writer.rows
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


def _joined(splices: Iterable[_Splice]) -> Exchanged:
    found = Exchanged()
    for splice in splices:
        found.gone.extend(splice.gone)
        found.came.extend(splice.came)
    return found


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
