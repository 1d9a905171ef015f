"""The store: shelves, contents, pages, snapshots; damage, several writers, an end at any moment."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Iterator, Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ssh_server import SshServer
from vetrin.database import KeyRange
from vetrin.database.condition import Among, Cleared, Compared, Like, Lowered, Other, Within
from vetrin.database.contract import Batch
from vetrin.database.digest import table_digest
from vetrin.database.records import records_of
from vetrin.database.sqlite import SqliteDatabase
from vetrin.demo.sample import lay_out
from vetrin.files import LocalTree
from vetrin.project import Thinning, load_project
from vetrin.reach import hosts, open_site
from vetrin.store import (
    Busy,
    Contents,
    Damaged,
    FolderShelf,
    Hands,
    Manifest,
    Missing,
    NoSnapshot,
    Shelf,
    Store,
    StoredPage,
    StoreError,
    TableReader,
    TableWriter,
    WrongPassphrase,
    judge,
    lease,
    leases,
    open_snapshot,
    seal_of,
)
from vetrin.store.cloud_shelf import CloudShelf
from vetrin.store.contents import fingerprint
from vetrin.store.far_shelf import far_shelf
from vetrin.sync import take_snapshot

# -- shelves -------------------------------------------------------------------------------------------


@pytest.fixture(params=["folder", "shell", "sftp alone", "s3"])
def shelf(
    request: pytest.FixtureRequest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> Iterator[Shelf]:
    if request.param == "folder":
        yield FolderShelf(tmp_path / "deep/store")
    elif request.param == "s3":
        for name, value in request.getfixturevalue("object_storage").items():
            monkeypatch.setenv(name, value)
        yield CloudShelf(f"s3://harrowmere/{tmp_path.name}/store")
    else:
        ssh = request.getfixturevalue("ssh" if request.param == "shell" else "sftp_alone")
        monkeypatch.setenv("HOME", str(ssh.home))
        yield far_shelf(f"sftp://{ssh.user}@127.0.0.1:{ssh.port}{tmp_path}/deep/store")
        hosts.forget()


def test_a_shelf_keeps_what_it_is_given(shelf: Shelf) -> None:
    assert list(shelf.names("objects")) == [] and not shelf.has("objects/ab/one")
    with pytest.raises(Missing):
        shelf.read("objects/ab/one")
    shelf.write("objects/ab/one", b"first")
    assert shelf.has("objects/ab/one") and shelf.read("objects/ab/one") == b"first"
    shelf.write("objects/ab/one", b"second")
    shelf.write("objects/cd/two", bytes(300_000))
    shelf.write("seal.json", b"{}")
    shelf.settle()
    assert shelf.read("objects/ab/one") == b"second" and shelf.has("seal.json")
    assert sorted(shelf.names("objects")) == [("objects/ab/one", 6), ("objects/cd/two", 300_000)]
    assert 0 <= (shelf.age("objects/ab/one") or 0) < 60 and shelf.age("objects/none") is None
    found = shelf.fetch(["objects/ab/one", "objects/cd/two", "seal.json"])
    assert found == {
        "objects/ab/one": b"second",
        "objects/cd/two": bytes(300_000),
        "seal.json": b"{}",
    }
    assert shelf.fetch(["objects/ef/none", "seal.json"]) == {"seal.json": b"{}"}
    assert shelf.fetch([]) == {}
    shelf.rename("objects/ab/one", "damaged/one")
    assert not shelf.has("objects/ab/one") and shelf.read("damaged/one") == b"second"
    shelf.remove("damaged/one")
    shelf.remove("damaged/one")
    shelf.sweep()
    assert list(shelf.names("damaged")) == [] and shelf.read("objects/cd/two") == bytes(300_000)


def test_the_whole_way_on_any_shelf(shelf: Shelf, tmp_path: Path) -> None:
    lay_out(tmp_path / "railway", 1)
    project = load_project(tmp_path / "railway")
    store = Store(shelf, seal_of(shelf, "steam", wanted=True))
    with open_site(project, project.environment("production")) as site:
        manifest = take_snapshot(site, store, label="one")
        before = everything(site.database)
    with pytest.raises(WrongPassphrase):
        seal_of(shelf, "diesel")
    again = Store(shelf, seal_of(shelf, "steam"))
    assert again.verify(again.get("one")) == []
    with open_snapshot(again, again.get(manifest.id[:4]), project.definition) as stored:
        assert everything(stored.database) == before
        scanned = stored.files.scan(["."])
        live = LocalTree(tmp_path / "railway/production")
        assert all(
            b"".join(stored.files.read(path)) == b"".join(live.read(path))
            for path, entry in scanned.items() if entry.kind == "file"
        )  # fmt: skip
        assert len(scanned) > 20
    words = {b"Harrowmere", b"volunteers", b"CREATE TABLE"}
    assert not any(word in shelf.read(name) for word in words for name, _ in list(shelf.names("")))


def everything(database: SqliteDatabase) -> dict[str, str]:
    with database.reading() as reader:
        return {table.name: table_digest(reader, table) for table in database.tables()}


# -- contents and pages --------------------------------------------------------------------------------


@given(st.lists(st.binary(max_size=2000), max_size=30), st.randoms(use_true_random=False))
def test_a_patch_makes_the_content(pieces: list[bytes], chance: random.Random) -> None:
    contents = Contents(FolderShelf(Path("/nonexistent")))
    base = b"".join(pieces)
    chance.shuffle(pieces)
    new = b"".join(pieces[1:]) + b"something"
    frame = contents.patch(new, base)
    digest = fingerprint(new)
    assert contents.patched(frame, base, digest) == new
    with pytest.raises(Damaged):
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
    contents: Contents, records: list[bytes], old: Sequence[StoredPage] = ()
) -> tuple[list[StoredPage], int]:
    with Hands() as hands:
        writer = TableWriter(contents, hands, old)
        for at in range(0, len(records), 777):
            writer.add(records[at : at + 777])
        return writer.finish(), writer.added


def test_pages_are_cut_by_what_is_in_them(tmp_path: Path) -> None:
    contents = Contents(FolderShelf(tmp_path))
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


def test_a_row_larger_than_an_object(tmp_path: Path) -> None:
    contents = Contents(FolderShelf(tmp_path))
    records = records_of(Batch(1, [b"a", random.Random(1).randbytes(9 << 20), b"b"], 0))
    pages, _ = kept(contents, records)
    assert max(len(page.blocks) for page in pages) == 3
    assert b"".join(map(TableReader(contents).read, pages)) == b"".join(records)


# -- asking stored rows --------------------------------------------------------------------------------

ASKED = [
    Among("state", ("spam", "trash")), Like("name", "begins", ("_x", "A%")), Like("name", "contains", ("'",)),
    Compared("number", ">", 3), Compared("number", "<", 2), Other(Among("state", ("spam",))),
    Within("parent", "owners", "id", Among("kind", ("old",))),
    Within("name", "owners", "kind", None, ("o", "0")),
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
    store = Store(FolderShelf(folder / "store"))
    stored = open_stored(live, store)
    try:
        for asked in ASKED:
            assert stored.count("things", asked) == live.count("things", asked), asked
            assert stored.select("things", ["id", "name"], where=asked, order="id") == live.select(
                "things", ["id", "name"], where=asked, order="id"
            )
            table = next(t for t in live.tables() if t.name == "things")
            instead = {"state": Cleared(Among("number", (1, 2)), None)}
            for among in (None, KeyRange((2,), (9,))):
                with live.reading() as reader, stored.reading() as other:
                    wanted = [
                        r
                        for b in reader.rows(table, leave=asked, instead=instead, among=among)
                        for r in b.each()
                    ]
                    found = [
                        r
                        for b in other.rows(table, leave=asked, instead=instead, among=among)
                        for r in b.each()
                    ]
                assert found == wanted, asked
        owners_table = next(t for t in live.tables() if t.name == "owners")
        lowered = {"count": Lowered("id", "things", "parent", Among("state", ("spam",)))}
        with live.reading() as reader, stored.reading() as other:
            assert [r for b in other.rows(owners_table, instead=lowered) for r in b.each()] == [
                r for b in reader.rows(owners_table, instead=lowered) for r in b.each()
            ]
        assert stored.groups("things", ["state"]) == live.groups("things", ["state"])
        for table in live.tables():
            with live.reading() as reader:
                assert stored.digests(table, [KeyRange()]) == reader.digests(table, [KeyRange()])
    finally:
        stored.close()
        live.close()


def open_stored(live: SqliteDatabase, store: Store):  # type: ignore[no-untyped-def]
    from vetrin.database import Facts
    from vetrin.store import StoredDatabase, StoredTable, written

    tables = []
    for table in live.tables():
        with live.reading() as reader, Hands() as hands:
            writer = TableWriter(store.contents, hands)
            for records in reader.records(table):
                writer.add(records)
            lists, _ = store.contents.keep_blocks([written(writer.finish())])
        tables.append(StoredTable(table, live.schema(table.name), tuple(lists), mixed=True))

    def stretches(item: StoredTable) -> Iterator[bytes]:
        return (records for _, records in store.records(item))

    facts: Facts = replace(live.facts(), identity="stored")
    return StoredDatabase(facts, tables, [], [], stretches)


# -- snapshots -----------------------------------------------------------------------------------------


class Railway:
    """The sample project, and its store."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        lay_out(folder, 1)
        self.project = load_project(folder)
        self.store = Store(FolderShelf(folder / ".vetrin/store"))

    def backup(self, environment: str = "production", **more: object) -> Manifest:
        with open_site(self.project, self.project.environment(environment)) as site:
            return take_snapshot(site, self.store, **more)  # type: ignore[arg-type]

    def objects(self) -> list[Path]:
        return sorted((self.folder / ".vetrin/store/objects").rglob("*.zst"))

    def vetrin(self, *words: str, code: int = 0, **environ: str) -> str:
        done = subprocess.run(
            [sys.executable, "-m", "vetrin", *words],
            cwd=self.folder,
            capture_output=True,
            text=True,
            env={**os.environ, **environ},
        )
        assert done.returncode == code, done.stdout + done.stderr
        return done.stdout


@pytest.fixture
def railway(tmp_path: Path) -> Railway:
    return Railway(tmp_path / "railway")


def test_equal_content_is_stored_once(railway: Railway) -> None:
    first = railway.backup()
    count = len(railway.objects())
    second = railway.backup()
    assert second.added == 0 and len(railway.objects()) == count
    own = railway.store.own_sizes([first, second])
    assert own == {first.id: 0, second.id: 0}
    (railway.folder / "production/media/new.txt").write_text("new" * 1000)
    third = railway.backup()
    assert 0 < third.added < 10_000


class Away(FolderShelf):
    """A folder that is read as a place is to which each call is a way there and back; ``ways`` counts them."""

    far = True
    ways = 0

    def read(self, name: str) -> bytes:
        self.ways += 1
        return super().read(name)

    def fetch(self, names: Sequence[str]) -> dict[str, bytes]:
        before = self.ways
        found = super().fetch(names)
        self.ways = before + 1
        return found


def test_what_is_far_is_read_many_at_a_time(railway: Railway) -> None:
    for number in range(300):
        (railway.folder / f"production/media/{number}.txt").write_text(f"{number}" * 500)
    manifest = railway.backup()
    railway.backup("local")
    shelf = Away(railway.folder / ".vetrin/store")
    store = Store(shelf)
    assert store.verify(manifest) == [] and shelf.ways < 45
    shelf.ways = 0
    known = store.snapshots()
    assert len(known) == 2 and store.own_sizes(known) == railway.store.own_sizes(known)
    assert list(store.verified(known)) == [manifest.id] and shelf.ways < 12
    with open_snapshot(store, manifest, railway.project.definition) as site:
        shelf.ways = 0
        entries = site.files.scan(["media"]).values()
        for entry, blocks in site.files.read_all(entries):
            content = b"".join(map(bytes, blocks))
            if entry.kind == "file":
                assert content == (railway.folder / "production" / entry.path).read_bytes()
        assert len(entries) > 300 and shelf.ways < 15


@pytest.mark.parametrize("place", [FolderShelf, Away])
def test_flipped_bits_and_missing_objects_are_named_and_confined(
    railway: Railway, place: type[FolderShelf]
) -> None:
    manifest = railway.backup()
    chance = random.Random(7)
    store = railway.store
    tables = {
        item.table.name: {*item.pages, *(d for page in store.pages(item) for d in page.needs)}
        for item in manifest.data.tables  # type: ignore[union-attr]
    }
    named: set[str] = set()
    for path in chance.sample(railway.objects(), 12):
        raw = bytearray(path.read_bytes())
        kind = chance.choice(["flip", "cut", "gone", "swap"])
        if kind == "flip":
            raw[chance.randrange(len(raw))] ^= 1 << chance.randrange(8)
        elif kind == "cut":
            raw = raw[: len(raw) // 2]
        elif kind == "swap":
            raw = bytearray(chance.choice(railway.objects()).read_bytes())
        if kind == "gone":
            path.unlink()
        else:
            changed = bytes(raw) != path.read_bytes()
            path.write_bytes(raw)
            if not changed:
                continue
        named.add(path.stem)
    fresh = Store(place(railway.folder / ".vetrin/store"))
    harms = fresh.verify(manifest)
    assert {digest for harm in harms for digest in harm.digests} <= named
    assert {h.table for h in harms if h.table} == {
        name for name, needs in tables.items() if needs & named
    }
    assert all(bool(harm.table) != bool(harm.path) for harm in harms)
    assert not fresh.verified([manifest])
    hurt = {harm.table for harm in harms}
    whole = [t.table.name for t in manifest.data.tables if t.table.name not in hurt]  # type: ignore[union-attr]
    assert whole and hurt
    for name in whole:
        list(fresh.records(next(t for t in manifest.data.tables if t.table.name == name)))  # type: ignore[union-attr]
    # What is damaged is not relied on: the next snapshot stores it anew, which mends the old one.
    railway.store = store = fresh
    again = railway.backup()
    assert again.added > 0
    if store.verify(again):  # what a damaged list had named was not known to be damaged, too
        again = railway.backup()
    assert store.verify(again) == [] and store.verify(manifest) == [] and store.verified([manifest])


@pytest.mark.parametrize("harm", ["cut", "flip", "empty"])
def test_a_damaged_manifest_hides_no_other(railway: Railway, harm: str) -> None:
    first, second = railway.backup(), railway.backup("local")
    path = railway.folder / ".vetrin/store" / first.name
    raw = path.read_bytes()
    path.write_bytes(
        {"cut": raw[:-20], "empty": b"", "flip": raw[:60] + bytes([raw[60] ^ 4]) + raw[61:]}[harm]
    )
    said = json.loads(railway.vetrin("backups", "--json", code=1).partition("\n}\n")[0] + "\n}")
    assert [item["snapshot"] for item in said["snapshots"]] == [second.id]
    assert said["damaged"][0]["snapshot"] == first.id
    with pytest.raises(Damaged):
        Store(FolderShelf(railway.folder / ".vetrin/store")).get(first.id)
    assert "can not be read" in railway.vetrin("restore", "production", first.id, "--json", code=1)
    with pytest.raises(Damaged), lease(railway.store.shelf, "thin"):
        Store(railway.store.shelf).sweep()  # what it needs is not known, so nothing goes


def test_killed_at_many_moments(railway: Railway) -> None:
    """Whenever a backup dies, every snapshot that is there is whole, and the next one works."""
    chance = random.Random(11)
    alive = 0
    for _ in range(12):
        process = subprocess.Popen(
            [sys.executable, "-m", "vetrin", "backup", "production", "--quiet"], cwd=railway.folder,
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        time.sleep(chance.uniform(0.3, 1.6))
        process.send_signal(signal.SIGKILL)
        process.wait()
        store = Store(FolderShelf(railway.folder / ".vetrin/store"))
        found = store.snapshots()
        assert all(store.verify(manifest) == [] for manifest in found)
        alive += len(found)
        shutil.rmtree(railway.folder / ".vetrin", ignore_errors=True)
        (railway.folder / "production/media/more.txt").write_text(str(chance.random()) * 99)
    railway.backup()
    for path in (railway.folder / ".vetrin/store/leases").glob("*"):
        path.unlink()
    (railway.folder / ".vetrin/store/.new-dead-1").write_bytes(b"half")
    with lease(railway.store.shelf, "thin"):
        railway.store.sweep()
    assert not list((railway.folder / ".vetrin/store").glob(".new-*"))


def test_a_full_disk_leaves_what_was_there(
    railway: Railway, monkeypatch: pytest.MonkeyPatch
) -> None:
    first = railway.backup("local")
    before = railway.objects()
    written = FolderShelf.write
    left = [40_000]

    def full(self: FolderShelf, name: str, content: bytes) -> None:
        left[0] -= len(content)
        if left[0] < 0:
            raise StoreError(f"{name}: No space left on device")
        written(self, name, content)

    monkeypatch.setattr(FolderShelf, "write", full)
    with pytest.raises(StoreError, match="No space left"):
        railway.backup()
    monkeypatch.undo()
    assert railway.objects() == before and railway.store.snapshots() == [first]
    assert railway.store.verify(first) == []
    assert not list((railway.folder / ".vetrin/store").glob(".new-*"))
    with lease(railway.store.shelf, "thin"):
        Store(FolderShelf(railway.folder / ".vetrin/store")).sweep()
    assert not list((railway.folder / ".vetrin/store").glob(".new-*"))


@pytest.mark.skipif(
    not Path("/dev/shm").is_dir() or os.geteuid() != 0, reason="mounts a small file system"
)
def test_a_disk_that_is_really_full(railway: Railway, tmp_path: Path) -> None:
    place = tmp_path / "small"
    place.mkdir()
    mounted = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", str(place)], capture_output=True
    )
    if mounted.returncode:
        pytest.skip("this machine does not let a file system be mounted")
    try:
        text = (railway.folder / "vetrin.toml").read_text()
        (railway.folder / "vetrin.toml").write_text(f'{text}\n[store]\nplace = "{place}/store"\n')
        said = railway.vetrin("backup", "production", "--json", code=1)
        assert "No space left" in json.loads(said)["error"]
        assert json.loads(railway.vetrin("backups", "--json"))["snapshots"] == []
    finally:
        subprocess.run(["umount", str(place)], check=True)


def test_several_writers_at_once(railway: Railway) -> None:
    errors: list[BaseException] = []

    def work(environment: str) -> None:
        try:
            store = Store(FolderShelf(railway.folder / ".vetrin/store"))
            for _ in range(3):
                with open_site(railway.project, railway.project.environment(environment)) as site:
                    take_snapshot(site, store)
        except BaseException as error:
            errors.append(error)

    threads = [
        threading.Thread(target=work, args=[name]) for name in ("production", "local", "staging")
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert not errors
    found = railway.store.snapshots()
    assert len(found) == 9 and all(railway.store.verify(item) == [] for item in found)


def test_a_team_in_object_storage(railway: Railway, object_storage: dict[str, str]) -> None:
    """Through the command line: two at once, proved, put back, thinned; a place that is not there."""
    toml = (railway.folder / "vetrin.toml").read_text()

    def place(name: str) -> None:
        rule = f'\n[store]\nplace = "s3://{name}"\nthin = {{ newest = 1 }}\n'
        (railway.folder / "vetrin.toml").write_text(toml + rule)

    place("harrowmere/team")
    command = [sys.executable, "-m", "vetrin", "backup", "production", "--quiet"]
    environ = {**os.environ, **object_storage}
    both = [subprocess.Popen(command, cwd=railway.folder, env=environ) for _ in range(2)]
    assert [process.wait() for process in both] == [0, 0]
    said = json.loads(railway.vetrin("backups", "--verify", "--json", **object_storage))
    assert len(said["whole"]) == 2
    railway.vetrin("backups", "--thin", "--yes", **object_storage)
    (left,) = json.loads(railway.vetrin("backups", "--json", **object_storage))["snapshots"]
    railway.vetrin(
        "restore", "local", left["snapshot"], "--parts", "data", "--yes", **object_storage
    )
    place("not-there/team")
    said = json.loads(railway.vetrin("backup", "production", "--json", code=1, **object_storage))
    assert "there is no not-there; make it first" in said["error"]


def test_thinning_waits_for_writers_and_for_itself(
    railway: Railway, monkeypatch: pytest.MonkeyPatch
) -> None:
    shelf = railway.store.shelf
    with lease(shelf, "write"):
        with lease(shelf, "write"):
            pass
        with pytest.raises(Busy, match="writes to"), lease(shelf, "thin"):
            pass
    with lease(shelf, "thin"):
        with pytest.raises(Busy, match="thins"):
            railway.backup()
        with pytest.raises(Busy), lease(shelf, "thin"):
            pass
    shelf.write("leases/write-dead", b"{}")
    shelf.settle()
    os.utime(railway.folder / ".vetrin/store/leases/write-dead", (0, 0))
    with lease(shelf, "thin"):
        pass
    assert leases.DEAD > 3 * leases.BEAT


# -- thinning ------------------------------------------------------------------------------------------

NOW = datetime.fromisoformat("2026-11-23T12:00:00+00:00")


def aged(
    number: int, days: float, environment: str = "production", purpose: str = "backup"
) -> Manifest:
    taken = (NOW - timedelta(days=days)).isoformat()
    return Manifest(f"s{number}", taken, environment, "production", "x", ("data",), "http://x.test", (), ("/x",),
                    purpose=purpose)  # fmt: skip


def judged(rules: Thinning, known: list[Manifest], **more: object) -> list[str]:
    values: dict[str, object] = {"verified": (), "needed": {}, "whole": 0, "own": {}, **more}
    verdicts = judge(known, rules, NOW, **values)  # type: ignore[arg-type]
    assert all(verdict.why for verdict in verdicts)
    return [verdict.manifest.id for verdict in verdicts if verdict.stays]


def test_rules_of_thinning() -> None:
    daily = [aged(number, 40 - number) for number in range(41)]
    assert judged(Thinning(), daily) == [item.id for item in daily]
    assert judged(Thinning(newest=3), daily) == ["s38", "s39", "s40"]
    assert judged(Thinning(newest=1, weekly=3), daily) == ["s32", "s39", "s40"]
    assert judged(Thinning(daily=3, monthly=2), daily) == ["s17", "s38", "s39", "s40"]
    assert judged(Thinning(age=10), daily) == [f"s{n}" for n in range(30, 41)]
    # Of each environment the last verified one stays, or where none is, the newest.
    both = [aged(1, 90), aged(2, 80), aged(3, 70), aged(4, 60, "staging"), aged(5, 50, "staging")]
    assert judged(Thinning(age=30), both, verified=["s2"]) == ["s2", "s5"]
    assert judged(Thinning(newest=0), both, needed={"s1": "a merge"}) == ["s1", "s3", "s5"]
    own = {f"s{n}": 10 for n in range(1, 6)}
    assert judged(Thinning(size=30), both, own=own, whole=50) == ["s3", "s4", "s5"]
    assert judged(Thinning(newest=9), [*both, aged(6, 1, purpose="baseline")]) == [
        "s1",
        "s2",
        "s3",
        "s4",
        "s5",
    ]


def test_what_is_thinned_frees_its_space_and_nothing_else(railway: Railway) -> None:
    (railway.folder / "vetrin.toml").open("a").write("\n[store.thin]\nnewest = 1\n")
    first = railway.backup(label="first")
    (railway.folder / "production/media/big.bin").write_bytes(random.Random(1).randbytes(300_000))
    second = railway.backup()
    (railway.folder / "production/media/big.bin").unlink()
    third = railway.backup()
    railway.store.verify(third)
    before = {path: path.read_bytes() for path in railway.objects()}
    plan = json.loads(railway.vetrin("backups", "--thin", "--dry-run", "--json"))
    assert {v["snapshot"]: v["stays"] for v in plan["snapshots"]} == {
        first.id: False,
        second.id: False,
        third.id: True,
    }
    assert {path: path.read_bytes() for path in railway.objects()} == before
    done = json.loads(railway.vetrin("backups", "--thin", "--yes", "--json"))
    assert done["freed_bytes"] > 300_000
    store = Store(FolderShelf(railway.folder / ".vetrin/store"))
    assert [item.id for item in store.snapshots()] == [third.id] and store.verify(third) == []
    with pytest.raises(NoSnapshot):
        store.get(second.id)
    railway.vetrin("backups", "--remove", third.id, "--yes")
    assert railway.objects() == []


# -- the program ---------------------------------------------------------------------------------------


def test_a_store_with_a_passphrase_on_the_command_line(
    railway: Railway, monkeypatch: pytest.MonkeyPatch
) -> None:
    (railway.folder / "vetrin.toml").open("a").write("\n[store]\npassphrase = true\n")
    monkeypatch.delenv("VETRIN_STORE_PASSPHRASE", raising=False)
    said = json.loads(railway.vetrin("backup", "local", "--json", code=1))
    assert "VETRIN_STORE_PASSPHRASE" in said["error"]
    monkeypatch.setenv("VETRIN_STORE_PASSPHRASE", "a slow train")
    railway.vetrin("backup", "local", "--verify", "--label", "sealed")
    assert json.loads(railway.vetrin("backups", "--json"))["sealed"]
    monkeypatch.setenv("VETRIN_STORE_PASSPHRASE", "a fast train")
    started = time.monotonic()
    assert "does not open" in json.loads(railway.vetrin("backups", "--json", code=1))["error"]
    assert time.monotonic() - started < 30
    monkeypatch.setenv("VETRIN_STORE_PASSPHRASE", "a slow train")
    railway.vetrin("restore", "local", "sealed", "--yes")
    path = next((railway.folder / ".vetrin/store/objects").rglob("*.sealed"))
    other = next(p for p in path.parent.parent.rglob("*.sealed") if p != path)
    path.write_bytes(other.read_bytes())  # a whole piece, in another one's place
    railway.vetrin("backups", "--verify", code=1)


def test_the_plan_of_a_production_says_that_it_is_kept(railway: Railway) -> None:
    text = (
        (railway.folder / "vetrin.toml")
        .read_text()
        .replace('access = "read-only"', 'access = "read-write"')
    )
    (railway.folder / "vetrin.toml").write_text(text)
    railway.backup("staging", label="tried")
    said = railway.vetrin("restore", "production", "tried", "--parts", "data", "--dry-run")
    assert "Way back" in said
    railway.vetrin("restore", "production", "tried", "--parts", "data", "--yes=production")
    kept = json.loads(railway.vetrin("backups", "production", "--json"))["snapshots"]
    assert [item["purpose"] for item in kept] == ["before"] and kept[0]["verified"]
    railway.vetrin(
        "restore", "production", kept[0]["snapshot"], "--yes=production", "--skip-backup"
    )
    assert len(json.loads(railway.vetrin("backups", "--json"))["snapshots"]) == 2


@pytest.mark.parametrize(
    ("toml", "said"),
    [
        ("[store]\nplaces = 'x'", "place"), ("[store]\npassphrase = 'secret'", "does not belong"),
        ("[store.thin]\nage = 90", "90 days"), ("[store.thin]\nsize = 'big'", "20 GB"),
        ("[store.thin]\nnewest = -1", "how many"), ("[store]\nplace = 'nope://x/y'", "nope://"),
    ],
)  # fmt: skip
def test_wrong_rules_are_named(railway: Railway, toml: str, said: str) -> None:
    (railway.folder / "vetrin.toml").open("a").write(f"\n{toml}\n")
    done = subprocess.run(
        [sys.executable, "-m", "vetrin", "backups"],
        cwd=railway.folder,
        capture_output=True,
        text=True,
    )
    assert done.returncode in (1, 2) and said in done.stderr, done.stderr


def test_what_is_not_there_is_named(railway: Railway) -> None:
    railway.backup("local", parts=("data",))
    for words, said in (
        (("restore", "local", "nothing"), "no snapshot"),
        (("restore", "local", "newest", "--parts", "media"), "holds no media"),
        (("restore", "local", "newest", "--table", "bokings"), "bookings"),
        (("restore", "local", "newest", "--file", "x.txt"), "has no x.txt"),
        (("compare", "local", "nowhere"), "no environment"),
    ):
        done = subprocess.run(
            [sys.executable, "-m", "vetrin", *words],
            cwd=railway.folder,
            capture_output=True,
            text=True,
        )
        assert done.returncode in (1, 2, 5) and said in done.stderr, done.stderr


def test_a_snapshot_outlives_the_environment_that_it_is_of(
    railway: Railway, tmp_path: Path
) -> None:
    manifest = railway.backup("staging")
    path = railway.folder / "vetrin.toml"
    before, rest = path.read_text().split("[environment.staging]")
    path.write_text(before + rest[rest.index("[environment.production]") :])
    shutil.rmtree(railway.folder / "staging")
    (line,) = json.loads(railway.vetrin("backups", "staging", "--json"))["snapshots"]
    assert line["snapshot"] == manifest.id
    railway.vetrin("backups", "nowhere", code=2)
    said = json.loads(railway.vetrin("restore", "local", manifest.id, "--yes", "--json"))
    assert said["rewriting"]["replaced"] > 100
    database = railway.folder / "local/data/harrowmere.sqlite"
    assert manifest.address.encode() not in database.read_bytes()
    archive = tmp_path / "old.tar.zst"
    packed = json.loads(railway.vetrin("export", manifest.id, str(archive), "--json"))
    assert packed["rows"] == manifest.rows
    compared = json.loads(railway.vetrin("compare", "local", manifest.id, "--json", code=4))
    assert all(line["same"] for line in compared["lines"] if line["topic"] == "counts")


def test_thinning_of_one_environment_leaves_the_others(railway: Railway) -> None:
    (railway.folder / "vetrin.toml").open("a").write("\n[store.thin]\nnewest = 1\n")
    ids = {
        name: [railway.backup(name, parts=("data",)).id for _ in range(2)]
        for name in ("local", "staging")
    }
    said = json.loads(railway.vetrin("backups", "local", "--thin", "--yes", "--json"))
    assert {line["snapshot"]: line["stays"] for line in said["snapshots"]} == {
        ids["local"][0]: False, ids["local"][1]: True, ids["staging"][0]: True, ids["staging"][1]: True,
    }  # fmt: skip
    assert len(railway.store.names()) == 3


def test_a_restore_that_was_stopped_goes_on(railway: Railway) -> None:
    """What a run keeps first is not what it goes on with, though it is the newest by then."""
    text = (railway.folder / "vetrin.toml").read_text()
    (railway.folder / "vetrin.toml").write_text(
        text.replace('access = "read-only"', 'access = "read-write"')
    )
    wanted = railway.backup()
    path = railway.folder / "production/data/harrowmere.sqlite"
    with sqlite3.connect(path) as connection:
        connection.execute("DELETE FROM bookings")
    connection.close()
    code = (
        "import sys; from vetrin.sync import transfer, settling\n"
        "def stop(*values): raise KeyboardInterrupt\n"
        "transfer._Transfer._settle = stop\n"
        "from vetrin.cli.main import main; main(sys.argv[1:])"
    )
    words = ["restore", "production", "newest", "--yes=production"]
    done = subprocess.run(
        [sys.executable, "-c", code, *words], cwd=railway.folder, capture_output=True, text=True
    )
    assert done.returncode == 3, done.stderr
    railway.vetrin("resume", "production")
    with sqlite3.connect(path) as connection:
        assert connection.execute("SELECT count(*) FROM bookings").fetchone() == (240,)
    connection.close()
    purposes = [
        item["purpose"] for item in json.loads(railway.vetrin("backups", "--json"))["snapshots"]
    ]
    assert purposes == ["before", "backup"] and wanted.rows > 10_000


def test_a_snapshot_of_a_site_behind_ssh(
    railway: Railway, ssh: SshServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    near = railway.backup()
    path = railway.folder / "vetrin.toml"
    root = f'host = "ssh://{ssh.name}"\nroot = "{railway.folder}/production"'
    path.write_text(path.read_text().replace('root = "production"', root))
    monkeypatch.setenv("HOME", str(ssh.home))
    railway.project = load_project(railway.folder)
    far = railway.backup()
    hosts.forget()
    assert far.rows == near.rows and far.files is not None and near.files is not None
    assert (far.files.count, far.files.size) == (near.files.count, near.files.size)
    assert far.added < 5_000  # all that it holds was there
