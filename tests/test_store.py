"""The store: snapshots; damage, several writers, an end at any moment."""

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
from datetime import datetime, timedelta
from pathlib import Path

import pytest

from connected import hosts
from railway import Railway
from ssh_server import SshServer
from systems import answer
from test_backends import Away
from vetrin.config import Thinning, load_project
from vetrin.errors import DamagedObject, NoSnapshot, StoreBusy, StoreError
from vetrin.jobs import take_snapshot
from vetrin.site import open_site
from vetrin.store import FolderBackend, Held, Manifest, Store, judge, lease, leases


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


@pytest.mark.parametrize("place", [FolderBackend, Away])
def test_flipped_bits_and_missing_objects_are_named_and_confined(
    railway: Railway, place: type[FolderBackend]
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
    said = json.loads(railway.vetrin("snapshots", "--json", code=1).partition("\n}\n")[0] + "\n}")
    assert [item["snapshot"] for item in said["snapshots"]] == [second.id]
    assert said["damaged"][0]["snapshot"] == first.id
    with pytest.raises(DamagedObject):
        Store(FolderBackend(railway.folder / ".vetrin/store")).get(first.id)
    assert "cannot be read" in railway.vetrin("restore", "production", first.id, "--json", code=1)
    with pytest.raises(DamagedObject), lease(railway.store.backend, "thin"):
        Store(railway.store.backend).sweep()  # what it needs is not known, so nothing goes


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
        store = Store(FolderBackend(railway.folder / ".vetrin/store"))
        found = store.snapshots()
        assert all(store.verify(manifest) == [] for manifest in found)
        alive += len(found)
        shutil.rmtree(railway.folder / ".vetrin", ignore_errors=True)
        (railway.folder / "production/media/more.txt").write_text(str(chance.random()) * 99)
    railway.backup()
    for path in (railway.folder / ".vetrin/store/leases").glob("*"):
        path.unlink()
    (railway.folder / ".vetrin/store/.new-dead-1").write_bytes(b"half")
    with lease(railway.store.backend, "thin"):
        railway.store.sweep()
    assert not list((railway.folder / ".vetrin/store").glob(".new-*"))


def test_a_full_disk_leaves_what_was_there(
    railway: Railway, monkeypatch: pytest.MonkeyPatch
) -> None:
    first = railway.backup("local")
    before = railway.objects()
    written = FolderBackend.write
    left = [40_000]

    def full(self: FolderBackend, name: str, content: bytes) -> None:
        left[0] -= len(content)
        if left[0] < 0:
            raise StoreError(f"{name}: No space left on device")
        written(self, name, content)

    monkeypatch.setattr(FolderBackend, "write", full)
    with pytest.raises(StoreError, match="No space left"):
        railway.backup()
    monkeypatch.undo()
    assert railway.objects() == before and railway.store.snapshots() == [first]
    assert railway.store.verify(first) == []
    assert not list((railway.folder / ".vetrin/store").glob(".new-*"))
    with lease(railway.store.backend, "thin"):
        Store(FolderBackend(railway.folder / ".vetrin/store")).sweep()
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
        assert json.loads(railway.vetrin("snapshots", "--json"))["snapshots"] == []
    finally:
        subprocess.run(["umount", str(place)], check=True)


def test_several_writers_at_once(railway: Railway) -> None:
    errors: list[BaseException] = []

    def work(environment: str) -> None:
        try:
            store = Store(FolderBackend(railway.folder / ".vetrin/store"))
            for _ in range(3):
                with open_site(
                    hosts, railway.project, railway.project.environment(environment)
                ) as site:
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


def test_thinning_waits_for_writers_and_for_itself(
    railway: Railway, monkeypatch: pytest.MonkeyPatch
) -> None:
    backend = railway.store.backend
    with lease(backend, "write"):
        with lease(backend, "write"):
            pass
        with pytest.raises(StoreBusy, match="writes to"), lease(backend, "thin"):
            pass
    with lease(backend, "thin"):
        with pytest.raises(StoreBusy, match="thins"):
            railway.backup()
        with pytest.raises(StoreBusy), lease(backend, "thin"):
            pass
    backend.write("leases/write-dead", b"{}")
    backend.settle()
    os.utime(railway.folder / ".vetrin/store/leases/write-dead", (0, 0))
    with lease(backend, "thin"):
        pass
    assert leases.DEAD > 3 * leases.BEAT


HOLDING = """
import sys
from pathlib import Path
from vetrin.store import FolderBackend, lease
with lease(FolderBackend(Path(sys.argv[1])), sys.argv[2]):
    print("held", flush=True)
    sys.stdin.read()
"""


@pytest.mark.parametrize("kind", ["write", "thin"])
def test_who_was_killed_keeps_nobody_out(railway: Railway, kind: str) -> None:
    folder = railway.folder / ".vetrin/store"
    holder = subprocess.Popen(
        [sys.executable, "-c", HOLDING, str(folder), kind],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
    )
    assert holder.stdout is not None and holder.stdin is not None
    try:
        assert holder.stdout.readline() == b"held\n"
        with pytest.raises(StoreBusy), lease(railway.store.backend, "thin"):
            pass
        (held,) = (folder / "leases").iterdir()
        text = held.read_bytes()
    finally:
        holder.kill()
        holder.wait()
    # Of a process of another machine, or of another space of numbers, nobody here knows whether it is there.
    for key in ("machine", "space"):
        held.write_text(json.dumps(json.loads(text) | {key: "another"}))
        with pytest.raises(StoreBusy), lease(railway.store.backend, "thin"):
            pass
    held.write_bytes(text)
    for next_one in ("write", "thin"):
        held.write_bytes(text)
        with lease(railway.store.backend, next_one):  # type: ignore[arg-type]
            assert held.exists() == (kind == next_one == "write")
    # A process that has its number since is another one.
    held.write_text(json.dumps(json.loads(text) | {"process": os.getpid()}))
    with lease(railway.store.backend, "thin"):
        pass
    for odd in (0, -1, "1", 10**30, None):
        held.write_text(json.dumps(json.loads(text) | {"process": odd}))
        if odd == 10**30:
            with lease(railway.store.backend, "thin"):
                pass
        else:
            with pytest.raises(StoreBusy), lease(railway.store.backend, "thin"):
                pass


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
    verdicts = judge(known, rules, NOW, Held(**values))  # type: ignore[arg-type]
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
    plan = json.loads(railway.vetrin("snapshots", "--thin", "--dry-run", "--json"))
    assert {v["snapshot"]: v["stays"] for v in plan["snapshots"]} == {
        first.id: False,
        second.id: False,
        third.id: True,
    }
    assert {path: path.read_bytes() for path in railway.objects()} == before
    done = json.loads(railway.vetrin("snapshots", "--thin", "--yes", "--json"))
    assert done["freed_bytes"] > 300_000
    store = Store(FolderBackend(railway.folder / ".vetrin/store"))
    assert [item.id for item in store.snapshots()] == [third.id] and store.verify(third) == []
    with pytest.raises(NoSnapshot):
        store.get(second.id)
    railway.vetrin("snapshots", third.id, "--remove", "--yes")
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
    assert json.loads(railway.vetrin("snapshots", "--json"))["sealed"]
    monkeypatch.setenv("VETRIN_STORE_PASSPHRASE", "a fast train")
    started = time.monotonic()
    assert "does not open" in json.loads(railway.vetrin("snapshots", "--json", code=1))["error"]
    assert time.monotonic() - started < 30
    monkeypatch.setenv("VETRIN_STORE_PASSPHRASE", "a slow train")
    railway.vetrin("restore", "local", "sealed", "--yes")
    path = next((railway.folder / ".vetrin/store/objects").rglob("*.sealed"))
    other = next(p for p in path.parent.parent.rglob("*.sealed") if p != path)
    path.write_bytes(other.read_bytes())  # a whole piece, in another one's place
    railway.vetrin("snapshots", "--verify", code=1)


def test_what_is_only_read_is_said_to_be_read(railway: Railway) -> None:
    for words, doing in (
        (("backup", "production"), "reading tables"),
        (("export", "production", "plain.zip"), "packing tables"),
    ):
        code, said = answer(railway.folder, b"", *words)
        assert code == 0 and doing in said and "hidden tables" not in said, said


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
    railway.vetrin("restore", "production", "tried", "--parts", "data", "--confirm=production")
    kept = json.loads(railway.vetrin("snapshots", "production", "--json"))["snapshots"]
    assert [item["purpose"] for item in kept] == ["before"] and kept[0]["verified"]
    railway.vetrin(
        "restore", "production", kept[0]["snapshot"], "--confirm=production", "--skip-backup"
    )
    assert len(json.loads(railway.vetrin("snapshots", "--json"))["snapshots"]) == 2


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
        [sys.executable, "-m", "vetrin", "snapshots"],
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
        (("restore", "local", "newest", "--tables", "bokings"), "bookings"),
        (("restore", "local", "newest", "--files", "x.txt"), "has no x.txt"),
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
    (line,) = json.loads(railway.vetrin("snapshots", "staging", "--json"))["snapshots"]
    assert line["snapshot"] == manifest.id
    railway.vetrin("snapshots", "nowhere", code=2)
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
    said = json.loads(railway.vetrin("snapshots", "local", "--thin", "--yes", "--json"))
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
        "import sys; from vetrin.jobs import transfer, arrival\n"
        "def stop(*values): raise KeyboardInterrupt\n"
        "transfer._Transfer._settle = stop\n"
        "from vetrin.cli.main import main; main(sys.argv[1:])"
    )
    words = ["restore", "production", "newest", "--confirm=production"]
    done = subprocess.run(
        [sys.executable, "-c", code, *words], cwd=railway.folder, capture_output=True, text=True
    )
    assert done.returncode == 3, done.stderr
    railway.vetrin("resume", "production")
    with sqlite3.connect(path) as connection:
        assert connection.execute("SELECT count(*) FROM bookings").fetchone() == (240,)
    connection.close()
    purposes = [
        item["purpose"] for item in json.loads(railway.vetrin("snapshots", "--json"))["snapshots"]
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
    hosts.close()
    assert far.rows == near.rows and far.files is not None and near.files is not None
    assert (far.files.count, far.files.size) == (near.files.count, near.files.size)
    assert far.added < 5_000  # all that it holds was there
