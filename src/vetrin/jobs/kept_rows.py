"""The rows of tables on their way into the store: as they come, or in the place of those that are there already."""

from __future__ import annotations

import contextlib
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence

from msgspec.structs import replace

from ..database import KeyRange, Part, Table, can_copy_in_ranges
from ..database.row_codec import RecordForm
from ..errors import DamagedObject
from ..store import Chunk, Hands, Store, StoredTable, TableWriter, written
from .baseline_edits import BaselineEdits, Exchanged
from .baseline_notes import Notes
from .pieces import Piece, Pieces


class KeptRows:
    """What of some tables is in the store by now, in pieces. With ``notes``, it is put on record as it comes.
    ``mixed``: records hold other values than bytes. ``added`` is how many bytes all of it took."""

    def __init__(
        self, store: Store, hands: Hands, *, mixed: bool, notes: Notes | None = None
    ) -> None:
        self.mixed = mixed
        self.added = 0
        self.tables: defaultdict[str, Pieces] = defaultdict(Pieces)
        self._store = store
        self._hands = hands
        self._notes = notes
        self._edits: BaselineEdits | None = None

    def carry(self, name: str, pieces: Iterable[Piece]) -> None:
        """A table is in these pieces, which are there."""
        self._edits = None
        self._drop(name, [KeyRange()])
        self.keep(name, pieces)

    def keep(self, name: str, pieces: Iterable[Piece]) -> None:
        """These are there as well."""
        some = list(pieces)
        for piece in some:
            self.tables[name].add(piece)
        if self._notes is not None:
            self._notes.keep(name, some)

    def drop(self, name: str, key_range: KeyRange) -> None:
        """What is there of a range is not what it has now."""
        self._drop(name, [key_range])

    def _drop(self, name: str, ranges: Sequence[KeyRange]) -> None:
        for key_range in ranges:
            self.tables[name].drop(key_range)
        if self._notes is not None:
            self._notes.drop(name, ranges)

    def gaps(self, name: str) -> list[KeyRange]:
        """The ranges of a table that are not there."""
        return list(self.tables[name].gaps())

    def coming(self, table: Table, key_range: KeyRange, old: Sequence[Chunk]) -> ComingRows:
        """Takes all rows of a range that is not there. ``old`` are pages that they may be like."""
        writer = TableWriter(self._store.contents, self._hands, old)
        return ComingRows(self, table, key_range, writer)

    def stored(self, table: Table, schema: str) -> StoredTable:
        """A table that is there as a whole."""
        pages = [page for piece in self.tables[table.name] for page in piece.pages]
        lists, added = self._store.contents.keep_blocks([written(pages)])
        self.added += added
        rows, size = sum(page.rows for page in pages), sum(page.size for page in pages)
        return StoredTable(
            replace(table, rows=rows, size=size), schema, tuple(lists), mixed=self.mixed
        )

    # -- in the place of others ---------------------------------------------------------------------------------

    def expect(self, table: Table, ranges: Sequence[KeyRange]) -> None:
        """These will be exchanged next, or most of them: what is there of them is read meanwhile."""
        self._edits_of(table).expect(ranges)

    def exchange(self, table: Table, parts: Iterable[Part]) -> Exchanged | None:
        """Put all rows that some ranges have now, in the order of the key, in the place of those that are there.
        Which of them differ; None where that cannot be told: nothing of the table is there then. The ranges of a
        table come in order, until ``settle``."""
        found = None
        try:
            found = self._edits_of(table).exchange(parts)
        except DamagedObject as error:
            self._store.contents.set_aside(error.digest)
        except ValueError:  # some engines take texts for numbers
            pass
        if found is None:
            self._edits = None
            self.drop(table.name, KeyRange())
        return found

    def settle(self, table: Table) -> None:
        """Have what was exchanged in a table's ranges stand there."""
        edits, self._edits = self._edits, None
        if edits is None or edits.table != table.name:
            return
        found = edits.finish()
        self._drop(table.name, [key_range for key_range, _ in found])
        self.keep(table.name, [piece for _, some in found for piece in some])
        self.added += edits.added
        self._store.proof.keep()

    def _edits_of(self, table: Table) -> BaselineEdits:
        if self._edits is None or self._edits.table != table.name:
            pieces = self.tables[table.name]
            self._edits = BaselineEdits(
                self._store.contents,
                self._hands,
                table,
                pieces,
                mixed=self.mixed,
                proof=self._store.proof,
            )
        return self._edits


class ComingRows:
    """All rows of a range, in the order of the key, as they come. ``rows`` and ``size`` are what came by now."""

    def __init__(
        self, kept: KeptRows, table: Table, key_range: KeyRange, writer: TableWriter
    ) -> None:
        self._kept = kept
        self._name = table.name
        self._writer = writer
        self._form = RecordForm(table, mixed=kept.mixed) if can_copy_in_ranges(table) else None
        self._after, self._upto = key_range.after, key_range.upto
        self._ends: list[tuple[int, ...] | None] = []  # of pages that were cut, their last keys
        self._waiting: list[Chunk] = []
        self._last: tuple[int, ...] | None = None
        self._noted = 0
        self._passed = 0  # rows

    @property
    def rows(self) -> int:
        return self._writer.rows

    @property
    def size(self) -> int:
        return self._writer.size

    def add(self, records: list[bytes], checks: Sequence[int] = ()) -> bool:
        """Take some more, with the CRC-32 of each if somebody made them; True if a page ended with them, or before.
        Raises StoreError."""
        if not records:
            return False
        ends = self._writer.add(records, checks)
        first = self._passed
        self._passed += len(records)
        for end in ends:
            self._ends.append(self._key(records[end - first - 1]) if end > first else self._last)
        self._last = self._key(records[-1])
        self._note(self._writer.settled(self._noted))
        return bool(ends)

    def finish(self) -> None:
        """These were all. Raises StoreError."""
        self._note(self._writer.finish()[self._noted :])
        self._kept.keep(self._name, [self._piece(self._upto)])
        self._kept.added += self._writer.added

    def _key(self, record: bytes) -> tuple[int, ...] | None:
        if self._form is not None:
            with contextlib.suppress(ValueError, TypeError):  # some engines take texts for numbers
                return self._form.key(record)
        return None

    def _note(self, pages: Sequence[Chunk]) -> None:
        self._noted += len(pages)
        self._kept.keep(self._name, self._pieces(pages))

    def _pieces(self, pages: Sequence[Chunk]) -> Iterator[Piece]:
        """The pieces that some more pages make, in order."""
        for page in pages:
            self._waiting.append(page)
            end = self._ends.pop(0) if self._ends else None
            if end is not None:
                yield self._piece(end)

    def _piece(self, upto: tuple[int, ...] | None) -> Piece:
        pages, self._waiting = tuple(self._waiting), []
        after, self._after = self._after, upto
        return Piece(KeyRange(after, upto), pages)
