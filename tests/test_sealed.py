"""A store under a passphrase: what was changed, swapped or cut is noticed, whatever and wherever it is."""

from __future__ import annotations

import json
import random
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from systems import answer
from test_command_line import vetrin
from vetrin.database import Column, Table
from vetrin.database.batch import Batch
from vetrin.database.row_codec import records_of
from vetrin.demo.sample import lay_out
from vetrin.errors import DamagedObject, StoreError, WrongPassphrase
from vetrin.files import Entry
from vetrin.store import (
    Damage,
    FolderBackend,
    Hands,
    Manifest,
    Store,
    StoredData,
    StoredFile,
    StoredTable,
    TableWriter,
    cipher_of,
    encryption,
    keep_files,
)
from vetrin.store.manifest import BadManifest

PASSPHRASE = "steam and brass"
MEMORY = 128 * encryption.BLOCK_SIZE * encryption.COST  # bytes for each try


@pytest.fixture(autouse=True)
def quick(monkeypatch: pytest.MonkeyPatch) -> None:
    """A key that is made in no time; what it costs is asked for below."""
    monkeypatch.setattr(encryption, "COST", 1 << 4)


def filled(folder: Path, passphrase: str | None = PASSPHRASE) -> tuple[Store, Manifest]:
    """A store with one snapshot: a table of several pages, and two files."""
    backend = FolderBackend(folder)
    store = Store(backend, cipher_of(backend, passphrase, wanted=passphrase is not None))
    chance = random.Random(5)
    with store.writing(), Hands() as hands:
        writer = TableWriter(store.contents, hands)
        cells = [cell for n in range(900) for cell in (b"%d" % n, chance.randbytes(500), None)]
        writer.add(records_of(Batch(3, list(cells), 0)))
        lists = writer.finish_list()
        columns = tuple(Column(name, "blob", True) for name in ("a", "b", "c"))
        table = Table("wp_posts", columns, ("a",), frozenset("a"), writer.rows, writer.size)
        data = StoredData("mysql", {}, "wp_", "", (StoredTable(table, "CREATE", lists),), (), (), 9)
        files = []
        for path in ("wp-content/a.jpg", "index.php"):
            blocks, _ = store.contents.keep_blocks([chance.randbytes(3000)])
            files.append(StoredFile(Entry(path, "file", 3000, 1), tuple(blocks)))
        kept, _ = keep_files(store.contents, files)
        manifest = Manifest(
            store.new_id(), "2026-11-23T08:00:00.000+00:00", "production", "production", "wordpress",
            ("data", "media"), "https://www.harrowmere.example", (), ("/srv/www/harrowmere",),
            label="before the gala", data=data, files=kept,
        )  # fmt: skip
        store.add(manifest)
    return store, manifest


def opened(folder: Path, passphrase: str | None = PASSPHRASE) -> Store:
    backend = FolderBackend(folder)
    return Store(backend, cipher_of(backend, passphrase))


def pieces(folder: Path) -> list[Path]:
    return sorted(p for p in folder.rglob("*") if p.is_file() and p.name != "seal.json")


def harms(folder: Path, passphrase: str | None) -> list[Damage]:
    """All that reading everything again finds."""
    store = opened(folder, passphrase)
    found: list[Damage] = []
    for manifest in store.snapshots(found.append):
        found += store.verify(manifest)
    return found


@pytest.fixture(scope="module", params=[PASSPHRASE, None], ids=["sealed", "open"])
def built(
    request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[tuple[Path, str | None]]:
    folder = tmp_path_factory.mktemp("built") / "store"
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(encryption, "COST", 1 << 4)
        filled(folder, request.param)
    yield folder, request.param


@settings(
    deadline=None, max_examples=80,
    suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.differing_executors],
)  # fmt: skip
@given(
    which=st.integers(0, 10**6),
    where=st.floats(0, 1, exclude_max=True),
    how=st.sampled_from(["flip", "cut", "more", "gone", "empty"]),
)
def test_any_harm_to_any_piece_is_found_and_named(
    built: tuple[Path, str | None], which: int, where: float, how: str
) -> None:
    folder, passphrase = built
    whole = pieces(folder)
    place = whole[which % len(whole)]
    before = place.read_bytes()
    raw = bytearray(before)
    at = int(where * len(raw))
    if how == "flip":
        raw[at] ^= 1 << (which % 8)
    elif how in ("cut", "empty"):
        del raw[at if how == "cut" else 0 :]
    elif how == "more":
        raw += b"\0steam"
    try:
        place.write_bytes(raw) if how != "gone" else place.unlink()
        found = harms(folder, passphrase)
        if "snapshots" in place.parts and how == "gone":
            assert found == [] and opened(folder, passphrase).names() == []
        elif "verified" not in place.parts:
            assert found, (place, how)
            name = "".join(path.name for path in (folder / "snapshots").iterdir())
            assert all(harm.snapshot in name for harm in found)
            if "objects" in place.parts:
                assert all(harm.table == "wp_posts" or harm.path for harm in found)
    finally:
        # What was found damaged has lost its name.
        for moved in (folder / "damaged").glob("*"):
            moved.unlink()
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(before)
    assert harms(folder, passphrase) == []


def test_a_piece_in_the_place_of_another_is_found(built: tuple[Path, str | None]) -> None:
    folder, passphrase = built
    one, other = [path for path in pieces(folder) if "objects" in path.parts][:2]
    texts = one.read_bytes(), other.read_bytes()
    one.write_bytes(texts[1])
    other.write_bytes(texts[0])
    try:
        assert harms(folder, passphrase)
    finally:
        for moved in (folder / "damaged").glob("*"):
            moved.unlink()
        for path, text in zip((one, other), texts, strict=True):
            path.write_bytes(text)
    assert harms(folder, passphrase) == []


def test_what_makes_the_key_can_not_be_weakened_unseen(tmp_path: Path) -> None:
    filled(tmp_path / "store")
    path = tmp_path / "store/seal.json"
    whole = path.read_text()
    data = json.loads(whole)
    for other in ("steam and bras", "", "Steam and brass", PASSPHRASE + " "):
        with pytest.raises(WrongPassphrase):
            opened(tmp_path / "store", other)
    for change in (
        {"version": 2}, {"key": data["key"][:-8]}, {"key": "?"}, {"derivation": {}}, {"derivation": None},
        {"derivation": {**data["derivation"], "name": "plain"}},
        {"derivation": {**data["derivation"], "n": 1 << 30}},
        {"derivation": {**data["derivation"], "n": 1 << 5}},
        {"derivation": {**data["derivation"], "salt": "AAAAAAAAAAAAAAAAAAAAAA=="}},
    ):  # fmt: skip
        path.write_text(json.dumps({**data, **change}))
        with pytest.raises(StoreError):
            opened(tmp_path / "store")
    for cut in range(0, len(whole), 7):
        path.write_text(whole[:cut])
        with pytest.raises(StoreError):
            opened(tmp_path / "store")
    path.write_text(whole)
    assert harms(tmp_path / "store", PASSPHRASE) == []


def test_the_key_costs_what_it_should() -> None:
    """As RFC 7914 counts it, and today's advice for scrypt wants it."""
    assert MEMORY >= 64 << 20


@given(
    st.recursive(
        st.none() | st.integers() | st.text(max_size=5),
        lambda x: st.lists(x, max_size=4) | st.dictionaries(st.text(max_size=4), x, max_size=4),
    )
)
def test_what_is_no_manifest_is_said_to_be_none(data: object) -> None:
    raw = json.dumps(data).encode()
    with pytest.raises(BadManifest):
        Manifest.decode(raw)


@pytest.mark.parametrize(
    "key", ["id", "taken", "environment", "parts", "address", "also", "roots", "version"]
)
def test_a_manifest_that_lacks_something_is_none(key: str) -> None:
    manifest = replace(MANIFEST, newest=("Gala", "2026-05-01"))
    assert Manifest.decode(manifest.encode()) == manifest
    data = json.loads(manifest.encode())
    del data[key]
    with pytest.raises(BadManifest):
        Manifest.decode(json.dumps(data).encode())
    with pytest.raises(BadManifest, match="another version"):
        Manifest.decode(json.dumps({**json.loads(manifest.encode()), "version": 2}).encode())


MANIFEST = Manifest(
    "k3f9ap", "2026-11-23T08:00:00.000+00:00", "production", "production", "wordpress", ("data",),
    "https://www.harrowmere.example", ("https://harrowmere.example",), ("/srv/www/harrowmere",),
)  # fmt: skip


def test_the_passphrase_is_asked_for_at_a_terminal_and_told_to_nobody(tmp_path: Path) -> None:
    folder = lay_out(tmp_path / "railway", 1).folder
    with (folder / "vetrin.toml").open("a") as file:
        file.write("\n[store]\npassphrase = true\n")
    typed = f"{PASSPHRASE}\n".encode()
    # A passphrase that is new is typed twice, until both are the same.
    first = b"a slip\n" + typed + b"\n" + typed * 2
    code, said = answer(folder, first, "backup", "local", "--parts", "data", "--label", "sealed")
    assert "are not the same" in said and "cannot be empty" in said
    assert code == 0 and "Passphrase of the store" in said and PASSPHRASE not in said
    assert all(path.suffix == ".sealed" for path in (folder / ".vetrin/store/objects").rglob("*.*"))
    code, said = answer(folder, b"diesel\n", "snapshots")
    assert code == 1 and "does not open the store" in said and "diesel" not in said
    code, said = answer(folder, typed, "snapshots", "--verify")
    assert code == 0 and "(sealed)" in said
    code, said = answer(folder, typed + b"y\n", "restore", "local", "sealed")
    assert code == 0 and "is as it was" not in said and PASSPHRASE not in said
    for name, *option in (("own.zip", "--passphrase"), ("own.tar.gz.gpg",)):
        code, said = answer(folder, typed * 2, "export", "production", name, *option)
        assert code == 0 and "Passphrase of the archive" in said and PASSPHRASE not in said
        code, said = answer(folder, b"diesel\n", "survey", name, *option)
        assert code == 1 and "passphrase" in said
        code, said = answer(folder, typed, "survey", name)  # it asks where it has to
        assert code == 0 and "bookings" in said
    for path in (folder / ".vetrin").rglob("*"):
        if path.is_file():
            assert PASSPHRASE.encode() not in path.read_bytes()


def test_contents_are_proved_by_their_names(tmp_path: Path) -> None:
    store, manifest = filled(tmp_path / "store")
    digests = store.needs(manifest)
    assert len(digests) > 4
    names = {path.stem for path in pieces(tmp_path / "store") if "objects" in path.parts}
    assert (
        len(names) == len(digests) and not names & digests
    )  # keyed: they tell nothing of what is inside
    for digest in digests:
        store.contents.set_aside(digest)
        with pytest.raises(DamagedObject, match="is missing"):
            store.contents.read(digest)


def test_a_mark_that_nobody_made_is_none(tmp_path: Path) -> None:
    """Thinning goes by it: whoever can write to the store must not be able to give it away, or to move it."""
    store, manifest = filled(tmp_path)
    assert store.verified([manifest]) == {}
    marked = f"verified/{manifest.id}"
    store.verify(manifest)
    assert list(store.verified([manifest])) == [manifest.id]
    (path,) = [
        path for path in (tmp_path / "verified").iterdir() if path.name.startswith(manifest.id)
    ]
    mark = path.read_bytes()
    assert b"verified" not in mark, marked
    path.write_text('{"verified": "2026-11-01T10:00:00"}')
    assert store.verified([manifest]) == {}
    other = replace(manifest, id="another")
    (path.parent / path.name.replace(manifest.id, "another")).write_bytes(mark)
    assert store.verified([other]) == {}


def test_a_store_that_lost_its_seal_is_not_believed(tmp_path: Path) -> None:
    """Somebody put another one, without a passphrase, where the project's own was."""
    sample = lay_out(tmp_path / "railway")
    file = sample.folder / "vetrin.toml"
    plain = file.read_text()
    vetrin(sample.folder, "backup", "production")
    file.write_text(plain + "\n[store]\npassphrase = true\n")
    given = {"VETRIN_STORE_PASSPHRASE": PASSPHRASE}
    for words in (
        ("snapshots",),
        ("restore", "local", "newest", "--yes"),
        ("backup", "production"),
    ):
        done = vetrin(sample.folder, *words, code=1, **given)
        assert "says that this store has a passphrase, and it has none" in " ".join(
            done.stderr.split()
        )
    (sample.folder / ".vetrin/store").rename(sample.folder / "theirs")
    vetrin(sample.folder, "backup", "production", **given)
    vetrin(sample.folder, "snapshots", **given)
