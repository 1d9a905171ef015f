"""The baseline of a table carried on by what changed: against a model that holds all rows in a dictionary."""

from __future__ import annotations

import random
from pathlib import Path
from zlib import crc32

import pytest

from vetrin.database import UNTOLD, Batch, Column, KeyRange, Part, Table, digest_with
from vetrin.database.page_prints import PagePrints
from vetrin.database.row_codec import records_of, split_records
from vetrin.jobs.baseline_edits import BaselineEdits, Exchanged, Piece
from vetrin.store import FolderBackend, Hands, Store, TableReader, TableWriter
from vetrin.store.proof import KnownProof

Rows = dict[tuple[int, ...], bytes]


def table(columns: int) -> Table:
    """A timetable whose key is one number, or two behind its text."""
    whole = [Column(name, "bigint(20)", False) for name in ("stop", "train")[:columns]]
    text = Column("remark", "longtext", True)
    return Table(
        "wp_stops", tuple([*whole, text] if columns == 1 else [text, *whole]), tuple(c.name for c in whole), frozenset(), 0, 0
    )  # fmt: skip


def record(shape: Table, key: tuple[int, ...], text: bytes) -> bytes:
    numbers = [str(number).encode() for number in key]
    cells = [*numbers, text] if shape.columns[0].name == "stop" else [text, *numbers]
    return records_of(Batch(len(cells), list(cells), 0))[0]


class Kept:
    """A table in a store, in pieces."""

    def __init__(self, folder: Path, shape: Table, hands: Hands) -> None:
        proof = KnownProof(PagePrints(folder / "contents.sqlite"))
        self.store = Store(FolderBackend(folder), proof=proof)
        self.shape = shape
        self.hands = hands
        self.pieces: list[Piece] = []

    def fill(self, rows: Rows, borders: list[tuple[int, ...]]) -> None:
        after = None
        for upto in (*borders, None):
            key_range = KeyRange(after, upto)
            writer = TableWriter(self.store.contents, self.hands)
            writer.add([rows[key] for key in sorted(rows) if key_range.holds(key)])
            self.pieces.append(Piece(key_range, tuple(writer.finish())))
            after = upto

    def edits(self) -> BaselineEdits:
        return BaselineEdits(
            self.store.contents,
            self.hands,
            self.shape,
            self.pieces,
            mixed=False,
            proof=self.store.proof,
        )

    def put(self, found: list[tuple[KeyRange, list[Piece]]]) -> None:
        for key_range, pieces in found:
            self.pieces = [one for one in self.pieces if one.key_range != key_range] + pieces
        self.pieces.sort(key=lambda piece: piece.key_range.after or ())

    def read(self) -> list[bytes]:
        reader = TableReader(self.store.contents)
        content = [b"".join(map(reader.read, piece.pages)) for piece in self.pieces]
        found = [split_records(part, len(self.shape.columns)) for part in content]
        for piece, part in zip(self.pieces, found, strict=True):
            assert sum(page.rows for page in piece.pages) == len(part)
        return [one for part in found for one in part]


def text_for(chance: random.Random, rows: Rows) -> bytes:
    """Short, long, or with another row's record in it: what is looked for by its bytes may be found there."""
    if rows and chance.random() < 0.2:
        return chance.choice([*rows.values()])
    return bytes(chance.choices(b"abc", k=chance.choice((0, 3, 40, 251, 300))))


def changed(chance: random.Random, shape: Table, rows: Rows, key_range: KeyRange, top: int) -> Rows:
    """The rows of a range after some changes."""
    found = {key: row for key, row in rows.items() if key_range.holds(key)}
    for key in chance.sample(sorted(found), k=min(len(found), chance.randrange(3))):
        del found[key]
    for _ in range(chance.randrange(3)):
        key = tuple(chance.randrange(top) for _ in shape.key)
        if key_range.holds(key):
            found[key] = record(shape, key, text_for(chance, rows))
    return found


def unproved(
    borders: tuple[tuple[int, ...] | None, tuple[int, ...] | None], records: list[bytes]
) -> list[Part]:
    """All rows of a range, of which no digests are known."""
    return [Part(KeyRange(*borders), (UNTOLD, UNTOLD), records)]


@pytest.mark.parametrize("columns", [1, 2])
@pytest.mark.parametrize("seed", range(60))
def test_what_is_kept_is_what_the_source_has(tmp_path: Path, seed: int, columns: int) -> None:
    chance, shape, top = random.Random(seed), table(columns), 60 if columns == 1 else 9
    rows: Rows = {}
    for _ in range(chance.randrange(60)):
        key = tuple(chance.randrange(top) for _ in shape.key)
        rows[key] = record(shape, key, text_for(chance, rows))
    with Hands() as hands:
        kept = Kept(tmp_path, shape, hands)
        keys = sorted({tuple(chance.randrange(top) for _ in shape.key) for _ in range(6)})
        kept.fill(rows, keys[:4])
        for _ in range(4):
            edits = kept.edits()
            borders = sorted({tuple(chance.randrange(top) for _ in shape.key) for _ in range(5)})
            ranges = [*map(KeyRange, [None, *borders], [*borders, None])]
            edits.expect([one for one in ranges if chance.random() < 0.6])
            parts: list[Part] = []
            gone: set[bytes] = set()
            came: set[bytes] = set()
            for key_range in ranges:
                if chance.random() < 0.6:
                    old = {key: row for key, row in rows.items() if key_range.holds(key)}
                    new = changed(chance, shape, rows, key_range, top)
                    was, now = (digest_with("0-0", [], some.values()) for some in (old, new))
                    told = (was if chance.random() < 0.8 else UNTOLD, now)
                    parts.append(Part(key_range, told, [new[key] for key in sorted(new)]))
                    gone |= set(old.values()) - set(new.values())
                    came |= set(new.values()) - set(old.values())
                    rows = {key: row for key, row in rows.items() if key not in old} | new
                if chance.random() < 0.5 or key_range.upto is None:
                    found = edits.exchange(parts)
                    assert found is not None
                    assert sorted(found.gone) == sorted(gone)
                    assert sorted(found.came) == sorted(came)
                    parts, gone, came = [], set(), set()
            kept.put(edits.finish())
            assert kept.read() == [rows[key] for key in sorted(rows)]


def test_nothing_is_told_of_a_range_that_is_not_all_kept(tmp_path: Path) -> None:
    shape = table(1)
    rows = {(number,): record(shape, (number,), b"halt") for number in range(20)}
    with Hands() as hands:
        kept = Kept(tmp_path, shape, hands)
        kept.fill(rows, [(5,), (10,)])
        del kept.pieces[1]
        edits = kept.edits()
        assert edits.exchange(unproved((None, (5,)), [*rows.values()][:6])) == Exchanged()
        assert edits.exchange(unproved(((4,), (6,)), [*rows.values()][5:7])) is None
        assert edits.exchange(unproved(((12,), None), [*rows.values()][13:])) == Exchanged()


def test_nothing_is_told_where_other_rows_are_kept_than_should_be(tmp_path: Path) -> None:
    shape = table(1)
    rows = {(number,): record(shape, (number,), b"halt") for number in range(20)}
    with Hands() as hands:
        kept = Kept(tmp_path, shape, hands)
        kept.fill(rows, [])
        new = [record(shape, (12,), b"stop"), rows[13,]]
        was, now = (digest_with("0-0", [], some) for some in ([rows[12,], rows[13,]], new))
        one = KeyRange((11,), (13,))
        assert kept.edits().exchange([Part(one, (was, now), new)]) == Exchanged(
            [rows[12,]], new[:1]
        )
        assert kept.edits().exchange([Part(one, (now, was), new)]) is None


def test_a_piece_that_grew_is_cut_again(tmp_path: Path) -> None:
    shape, chance = table(1), random.Random(3)
    rows = {(1,): record(shape, (1,), b"halt")}
    with Hands() as hands:
        kept = Kept(tmp_path, shape, hands)
        kept.fill(rows, [])
        rows |= {
            (number,): record(shape, (number,), chance.randbytes(3000)) for number in range(2, 1000)
        }
        edits = kept.edits()
        edits.exchange(unproved((None, None), [*rows.values()]))
        kept.put(edits.finish())
        assert len(kept.pieces) > 3
        assert kept.read() == [*rows.values()]
        assert [(piece.key_range.after, piece.key_range.upto) for piece in kept.pieces][-1][
            1
        ] is None


def test_a_piece_that_was_large_before_is_altered_as_it_is(tmp_path: Path) -> None:
    """No row in it is one behind which a page ends, so to look for one again is of no use until it grows."""
    shape, chance = table(1), random.Random(3)
    rows: Rows = {}
    while len(rows) < 900:
        row = record(shape, (len(rows),), chance.randbytes(3000))
        if crc32(row) > (1 << 32) // (256 << 10) * len(row):
            rows[len(rows),] = row
    first = [*rows.values()][:500]
    with Hands() as hands:
        kept = Kept(tmp_path, shape, hands)
        kept.fill({key: row for key, row in rows.items() if key[0] < 500}, [])
        for number in (7, 300):
            first[number] = record(shape, (number,), b"halt, and more")
            edits = kept.edits()
            edits.exchange(unproved((None, None), first))
            kept.put(edits.finish())
            (page,) = [page for piece in kept.pieces for page in piece.pages]
            assert page.patch is not None and page.patch.size < 200
            assert kept.read() == first
        edits = kept.edits()
        edits.exchange(unproved((None, None), [*first, *[*rows.values()][500:]]))
        kept.put(edits.finish())
        assert len(kept.pieces) > 1
        assert kept.read() == [*first, *[*rows.values()][500:]]
