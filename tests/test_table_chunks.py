"""Contents, tables in pages, and questions to stored rows."""

from __future__ import annotations

import random
import sqlite3
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from zlib import crc32

import pytest
import zstandard
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from readable import stored as stored_database
from vetrin.database import KeyRange
from vetrin.database.batch import Batch
from vetrin.database.conditions import Cleared, Compared, InSubquery, Like, Lowered, Not, OneOf
from vetrin.database.page_prints import PagePrints
from vetrin.database.row_codec import records_of
from vetrin.database.sqlite.database import SqliteDatabase
from vetrin.errors import DamagedObject
from vetrin.store import (
    Chunk,
    Contents,
    FolderBackend,
    Hands,
    TableReader,
    TableWriter,
    table_chunks,
)
from vetrin.store.proof import BY_DIGEST, KnownProof, Proof, fingerprint
from vetrin.store.splices import Splice, composed, packed, spliced, unpacked
from vetrin.store.table_chunks import Chunker


@given(st.lists(st.binary(max_size=2000), max_size=30), st.randoms(use_true_random=False))
def test_a_patch_makes_the_content(pieces: list[bytes], chance: random.Random) -> None:
    contents = Contents(FolderBackend(Path("/nonexistent")))
    base = b"".join(pieces)
    chance.shuffle(pieces)
    new = b"".join(pieces[1:]) + b"something"
    frame = contents.patch(new, base)
    digest = fingerprint(new)
    assert contents.patched(frame, base, digest) == new
    with pytest.raises(DamagedObject):
        contents.patched(frame[:-1], base, digest)


def rows(numbers: list[int], changed: set[int] = frozenset()) -> list[bytes]:  # type: ignore[assignment]
    chance = random.Random(1)
    words = [b"%x" % chance.getrandbits(400) for _ in range(500)]
    cells = [
        cell
        for n in numbers
        for cell in (
            b"%d" % n,
            words[n % 500] + words[n * 7 % 500] + (b"!" if n in changed else b""),
            None,
        )
    ]
    return records_of(Batch(3, cells, 0))


def kept(
    contents: Contents, records: list[bytes], old: Sequence[Chunk] = ()
) -> tuple[list[Chunk], int]:
    with Hands() as hands:
        writer = TableWriter(contents, hands, old)
        for at in range(0, len(records), 777):
            writer.add(records[at : at + 777])
        return writer.finish(), writer.added


def test_pages_are_cut_by_what_is_in_them(tmp_path: Path) -> None:
    contents = Contents(FolderBackend(tmp_path))
    everyone = list(range(20_000))
    first, size = kept(contents, rows(everyone))
    assert 5 < len(first) < 60
    without = kept(contents, rows([n for n in everyone if n != 10_000]), first)[0]
    longer = kept(contents, rows([-5, *everyone]), first)[0]
    for found in (without, longer):
        assert len({page.digest for page in found} - {page.digest for page in first}) <= 2
    # One row in a thousand, anywhere: patches are small, though they concern almost all pages.
    chance = random.Random(2)
    changed = set(chance.sample(everyone, 20))
    second, added = kept(contents, rows(everyone, changed), first)
    assert added < size / 100
    assert sum(page.patch is not None for page in second) > len(first) / 4
    reader = TableReader(contents)
    assert b"".join(map(reader.read, second)) == b"".join(rows(everyone, changed))
    third, _ = kept(contents, rows(everyone, changed | {3}), second)
    assert all(page.patch is None or page.patch.base in {p.digest for p in first} for page in third)
    assert b"".join(map(reader.read, third)) == b"".join(rows(everyone, changed | {3}))


def cut_as_written_down(records: list[bytes]) -> Iterator[bytes]:
    """The rule of docs/store.md, row by row."""
    page = b""
    for record in records:
        if page and len(page) + len(record) > 2 << 20:
            yield page
            page = b""
        page += record
        if len(page) >= 32 << 10 and crc32(record) < 16384 * len(record):
            yield page
            page = b""
    if page:
        yield page


@settings(max_examples=40, deadline=None)
@given(
    sizes=st.lists(st.sampled_from([1, 90, 4_000, 150_000, 1_200_000, 3_000_000]), max_size=40),
    many=st.integers(0, 3_000),
    seed=st.integers(0, 1 << 30),
)
def test_pages_end_where_the_format_says_however_rows_come(
    sizes: list[int], many: int, seed: int
) -> None:
    chance = random.Random(seed)
    sizes += [chance.choice((40, 130)) for _ in range(many)]
    chance.shuffle(sizes)
    records = [chance.randbytes(size) for size in sizes]
    cutter, found, left = Chunker(), [], records
    while left:
        count = chance.choice((1, 7, 500, len(left)))
        found += cutter.cut(left[:count])
        left = left[count:]
    found += [*cutter.cut([]), *cutter.end(), *cutter.end()]
    assert list(map(b"".join, found)) == list(cut_as_written_down(records))


def test_a_row_larger_than_an_object(tmp_path: Path) -> None:
    contents = Contents(FolderBackend(tmp_path))
    records = records_of(Batch(1, [b"a", random.Random(1).randbytes(9 << 20), b"b"], 0))
    pages, _ = kept(contents, records)
    assert max(len(page.blocks) for page in pages) == 3
    assert b"".join(map(TableReader(contents).read, pages)) == b"".join(records)


ASKED = [
    OneOf("state", ("spam", "trash")), Like("name", "begins", ("_x", "A%")), Like("name", "contains", ("'",)),
    Compared("number", ">", 3), Compared("number", "<", 2), Not(OneOf("state", ("spam",))),
    InSubquery("parent", "owners", "id", OneOf("kind", ("old",))),
    InSubquery("name", "owners", "kind", None, ("o", "0")), InSubquery("name", "owners", "kind", None, None, "_x"),
]  # fmt: skip


@settings(max_examples=30, deadline=None)
@given(
    owners=st.lists(st.tuples(st.sampled_from(["old", "new", None]),), max_size=6),
    things=st.lists(
        st.tuples(
            st.integers(0, 7), st.sampled_from(["spam", "trash", "fine", "", None]),
            st.sampled_from(["_x1", "A%b", "Abc", "it's", "0ld", None]), st.integers(0, 5),
        ),
        max_size=20,
    ),
)  # fmt: skip
def test_stored_rows_answer_as_the_database_does(
    tmp_path_factory: pytest.TempPathFactory, owners: list, things: list
) -> None:  # type: ignore[type-arg]
    folder = tmp_path_factory.mktemp("asked")
    path = folder / "live.sqlite"
    with sqlite3.connect(path) as connection:
        connection.execute("CREATE TABLE owners (id INTEGER PRIMARY KEY, kind TEXT, count INTEGER)")
        connection.execute(
            "CREATE TABLE things (id INTEGER PRIMARY KEY, parent INT, state TEXT, name TEXT, number INT)"
        )
        connection.executemany("INSERT INTO owners (kind, count) VALUES (?, 4)", owners)
        connection.executemany(
            "INSERT INTO things (parent, state, name, number) VALUES (?, ?, ?, ?)", things
        )
    connection.close()
    live = SqliteDatabase(path, read_only=True)
    stored = stored_database(live, folder / "store")
    try:
        for asked in ASKED:
            assert stored.count("things", asked) == live.count("things", asked), asked
            assert stored.select(
                "things", ["id", "name"], where=asked, order=["id"]
            ) == live.select("things", ["id", "name"], where=asked, order=["id"])
            table = next(t for t in live.tables() if t.name == "things")
            replacements = {"state": Cleared(OneOf("number", (1, 2)), None)}
            for key_range in (None, KeyRange((2,), (9,))):
                with live.reading() as reader, stored.reading() as other:
                    wanted = [
                        r
                        for b in reader.rows(
                            table, leave=asked, replacements=replacements, key_range=key_range
                        )
                        for r in b.each()
                    ]
                    found = [
                        r
                        for b in other.rows(
                            table, leave=asked, replacements=replacements, key_range=key_range
                        )
                        for r in b.each()
                    ]
                assert found == wanted, asked
        owners_table = next(t for t in live.tables() if t.name == "owners")
        lowered = {"count": Lowered("id", "things", "parent", OneOf("state", ("spam",)))}
        with live.reading() as reader, stored.reading() as other:
            assert [
                r for b in other.rows(owners_table, replacements=lowered) for r in b.each()
            ] == [r for b in reader.rows(owners_table, replacements=lowered) for r in b.each()]
        assert stored.groups("things", ["state"]) == live.groups("things", ["state"])
        for table in live.tables():
            with live.reading() as reader:
                assert stored.digests(table, [KeyRange()]) == reader.digests(table, [KeyRange()])
    finally:
        stored.close()
        live.close()


@st.composite
def edits(draw: st.DrawFn, size: int) -> list[Splice]:
    places = sorted(draw(st.lists(st.integers(0, size), max_size=16)))
    return [
        Splice(begin, end, draw(st.binary(max_size=9)))
        for begin, end in zip(places[::2], places[1::2], strict=False)
    ]


@given(st.binary(max_size=60), st.data())
def test_splices_on_splices_are_splices_of_the_base(base: bytes, data: st.DataObject) -> None:
    all_of: list[Splice] = []
    content = base
    for _ in range(3):
        more = data.draw(edits(len(content)))
        by_hand = bytearray(content)
        for begin, end, instead in reversed(more):
            by_hand[begin:end] = instead
        assert spliced(content, more) == bytes(by_hand)
        content, all_of = bytes(by_hand), composed(all_of, more)
        assert spliced(base, all_of) == content
        assert unpacked(packed(all_of), len(base)) == all_of


@given(edits(50), st.data())
def test_a_patch_that_is_none_is_told(splices: list[Splice], data: st.DataObject) -> None:
    patch = packed(splices)
    for other in (patch[: data.draw(st.integers(0, len(patch) - 1))], patch + b"x"):
        with pytest.raises(ValueError, match="a patch"):
            unpacked(other, 50)
    if any(one.end for one in splices):
        with pytest.raises(ValueError, match="a patch of something else"):
            unpacked(patch, max(one.end for one in splices) - 1)


@pytest.mark.parametrize("proof", [BY_DIGEST, KnownProof(PagePrints())])
def test_a_page_is_altered_again_and_again(tmp_path: Path, proof: Proof) -> None:
    backend = FolderBackend(tmp_path)
    contents = Contents(backend)
    (page,), _ = kept(contents, rows(list(range(600))))
    before = content = TableReader(contents, proof).read(page)
    for turn in range(4):
        opened = TableReader(contents, proof).open(page)
        splices = [Splice(turn * 99, turn * 99 + 7, b"halt %d" % turn), Splice(9000, 9000, b"!")]
        with Hands() as hands:
            writer = TableWriter(contents, hands, [page], proof)
            writer.alter(opened, splices, 600)
            (page,) = writer.finish()
        content = spliced(content, splices)
        assert TableReader(contents, proof).read(page) == content
        assert (page.digest, page.rows, page.size) == (fingerprint(content), 600, len(content))
        assert page.patch is not None
        assert page.patch.base == fingerprint(before)  # never a patch itself
        assert page.patch.size < 200
        assert writer.added < 400

    def end(splices: list[Splice]) -> Chunk:
        with Hands() as hands:
            writer = TableWriter(contents, hands, [page], proof)
            writer.alter(TableReader(contents, proof).open(page), splices, 600)
            return writer.finish()[0]

    again = end([Splice(0, len(content), before)])
    assert (again.patch, again.digest) == (None, fingerprint(before))
    other = end([Splice(0, len(before) // 2, random.Random(1).randbytes(len(before) // 2))])
    assert other.patch is None
    assert end([]) == page

    # What is damaged is named: the base, the bundle, or where both are sound the page.
    backend.settle()
    (tmp_path / "another.zst").write_bytes(zstandard.compress(b"another" * 9999))
    assert page.patch is not None
    for digest in (page.patch.base, page.patch.bundle):
        at = tmp_path / contents.place(digest)
        sound = at.read_bytes()
        at.write_bytes((tmp_path / "another.zst").read_bytes())
        with pytest.raises(DamagedObject) as caught:
            TableReader(contents, proof).read(page)
        assert caught.value.digest == digest
        at.write_bytes(sound)
    wrong = replace(page, digest=fingerprint(b"another"))
    with pytest.raises(DamagedObject) as caught:
        TableReader(contents, proof).read(wrong)
    assert caught.value.digest == wrong.digest


def test_a_page_that_was_found_to_be_like_another_is_altered_by_splices_in_the_end(
    tmp_path: Path,
) -> None:
    contents = Contents(FolderBackend(tmp_path))
    (base,), _ = kept(contents, rows(list(range(600))))
    (page,), _ = kept(contents, rows(list(range(600)), {300}), [base])
    assert page.patch is not None and TableReader(contents).open(page).splices is None
    content, found = TableReader(contents).read(page), [page]
    for splice in (Splice(9, 9, b""), Splice(9, 9, b"x"), Splice(99, 120, b"")):
        opened = TableReader(contents).open(found[-1])
        with Hands() as hands:
            writer = TableWriter(contents, hands, found[-1:])
            writer.alter(opened, [splice], 600)
            found += writer.finish()
        content = spliced(content, [splice])
        assert TableReader(contents).read(found[-1]) == content
    assert found[1] == page  # as nothing changed
    assert (found[2].patch, found[2].blocks) == (None, ())
    patch = found[3].patch
    assert patch is not None and patch.base == found[2].digest and patch.size < 100


def test_pages_of_several_bundles_in_turn_need_each_once(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    contents = Contents(FolderBackend(tmp_path))
    pages, _ = kept(contents, rows(list(range(9_000))))
    for turn in range(3):  # every third page is altered in one of three runs
        reader = TableReader(contents)
        with Hands() as hands:
            writer = TableWriter(contents, hands, pages)
            for page in pages[turn::3]:
                writer.alter(reader.open(page), [Splice(9, 9, b"%d" % turn)], page.rows)
            pages[turn::3] = writer.finish()
    patches = [page.patch for page in pages if page.patch is not None]
    assert len(patches) == len(pages) > 6
    wanted, read = [*map(TableReader(contents).read, pages)], list[str]()
    original = Contents.read

    def counted(self: Contents, digest: str) -> bytes:
        read.append(digest)
        return original(self, digest)

    monkeypatch.setattr(Contents, "read", counted)
    reader = TableReader(contents)
    with ThreadPoolExecutor(4) as pool:
        assert [*pool.map(reader.read, pages)] == wanted
    assert sorted(read) == sorted({patch.bundle for patch in patches})
    # No more than some are kept at hand.
    monkeypatch.setattr(
        table_chunks, "_BUNDLES", len(original(contents, patches[0].bundle)) * 5 // 2
    )
    read.clear()
    reader = TableReader(contents)
    assert [*map(reader.read, pages)] == wanted
    assert len(read) == len(pages)
