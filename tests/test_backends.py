"""Shelves: one contract, over a folder, hosts over SSH, and object storage."""

from __future__ import annotations

import json
import os
import random
import subprocess
import sys
from collections.abc import Iterator, Sequence
from pathlib import Path

import pytest

from connected import hosts
from railway import Railway
from vetrin.config import load_project
from vetrin.database.sqlite.database import SqliteDatabase
from vetrin.database.table_digest import table_digest
from vetrin.demo.sample import lay_out
from vetrin.errors import MissingPiece, WrongPassphrase
from vetrin.files import LocalTree
from vetrin.jobs import take_snapshot
from vetrin.site import open_site
from vetrin.store import Backend, FolderBackend, Store, cipher_of, open_snapshot
from vetrin.store.cloud import CloudBackend
from vetrin.store.remote import remote_backend


@pytest.fixture(params=["folder", "shell", "sftp alone", "s3"])
def backend(
    request: pytest.FixtureRequest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> Iterator[Backend]:
    if request.param == "folder":
        yield FolderBackend(tmp_path / "deep/store")
    elif request.param == "s3":
        for name, value in request.getfixturevalue("object_storage").items():
            monkeypatch.setenv(name, value)
        yield CloudBackend(f"s3://harrowmere/{tmp_path.name}/store")
    else:
        ssh = request.getfixturevalue("ssh" if request.param == "shell" else "sftp_alone")
        monkeypatch.setenv("HOME", str(ssh.home))
        yield remote_backend(hosts, f"sftp://{ssh.user}@127.0.0.1:{ssh.port}{tmp_path}/deep/store")
        hosts.close()


def test_a_backend_keeps_what_it_is_given(backend: Backend) -> None:
    assert list(backend.names("objects")) == [] and not backend.has("objects/ab/one")
    with pytest.raises(MissingPiece):
        backend.read("objects/ab/one")
    backend.write("objects/ab/one", b"first")
    assert backend.has("objects/ab/one") and backend.read("objects/ab/one") == b"first"
    backend.write("objects/ab/one", b"second")
    backend.write("objects/cd/two", bytes(300_000))
    backend.write("seal.json", b"{}")
    backend.settle()
    assert backend.read("objects/ab/one") == b"second" and backend.has("seal.json")
    assert sorted(backend.names("objects")) == [("objects/ab/one", 6), ("objects/cd/two", 300_000)]
    assert 0 <= (backend.age("objects/ab/one") or 0) < 60 and backend.age("objects/none") is None
    found = backend.fetch(["objects/ab/one", "objects/cd/two", "seal.json"])
    assert found == {
        "objects/ab/one": b"second",
        "objects/cd/two": bytes(300_000),
        "seal.json": b"{}",
    }
    assert backend.fetch(["objects/ef/none", "seal.json"]) == {"seal.json": b"{}"}
    assert backend.fetch([]) == {}
    backend.rename("objects/ab/one", "damaged/one")
    assert not backend.has("objects/ab/one") and backend.read("damaged/one") == b"second"
    backend.remove("damaged/one")
    backend.remove("damaged/one")
    backend.sweep()
    assert list(backend.names("damaged")) == [] and backend.read("objects/cd/two") == bytes(300_000)


def test_the_whole_way_on_any_backend(backend: Backend, tmp_path: Path) -> None:
    lay_out(tmp_path / "railway", 1)
    project = load_project(tmp_path / "railway")
    store = Store(backend, cipher_of(backend, "steam", wanted=True))
    with open_site(hosts, project, project.environment("production")) as site:
        manifest = take_snapshot(site, store, label="one")
        before = everything(site.database)
    with pytest.raises(WrongPassphrase):
        cipher_of(backend, "diesel")
    again = Store(backend, cipher_of(backend, "steam"))
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
    assert not any(
        word in backend.read(name) for word in words for name, _ in list(backend.names(""))
    )


def everything(database: SqliteDatabase) -> dict[str, str]:
    with database.reading() as reader:
        return {table.name: table_digest(reader, table) for table in database.tables()}


class Away(FolderBackend):
    """A folder that is read as a place is to which each call is a way there and back; ``ways`` has what each
    one brought, by name, in bytes."""

    is_remote = True

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.ways: list[dict[str, int]] = []

    def read(self, name: str) -> bytes:
        content = super().read(name)
        self.ways.append({name: len(content)})
        return content

    def fetch(self, names: Sequence[str]) -> dict[str, bytes]:
        before = self.ways[:]
        found = super().fetch(names)
        self.ways = [*before, {name: len(content) for name, content in found.items()}]
        return found


class Unsteady(Away):
    """One where all that was asked for together is lost on its way, and each single piece arrives."""

    def fetch(self, names: Sequence[str]) -> dict[str, bytes]:
        return {}


def test_what_is_far_is_read_many_at_a_time(railway: Railway) -> None:
    for number in range(300):
        (railway.folder / f"production/media/{number}.txt").write_text(f"{number}" * 500)
    manifest = railway.backup()
    railway.backup("local")
    backend = Away(railway.folder / ".vetrin/store")
    store = Store(backend)
    assert store.verify(manifest) == [] and len(backend.ways) < 45
    backend.ways.clear()
    known = store.snapshots()
    assert len(known) == 2 and store.own_sizes(known) == railway.store.own_sizes(known)
    assert list(store.verified(known)) == [manifest.id] and len(backend.ways) < 12
    with open_snapshot(store, manifest, railway.project.definition) as site:
        backend.ways.clear()
        entries = site.files.scan(["media"]).values()
        for entry, blocks in site.files.read_all(entries):
            content = b"".join(map(bytes, blocks))
            if entry.kind == "file":
                assert content == (railway.folder / "production" / entry.path).read_bytes()
        assert len(entries) > 300 and len(backend.ways) < 15


def test_what_is_far_comes_once_and_not_all_of_it_together(railway: Railway) -> None:
    for number in (1, 2):
        content = random.Random(number).randbytes(30 << 20)
        (railway.folder / f"production/media/film-{number}").write_bytes(content)
    manifest = railway.backup(parts=["media"])
    backend = Away(railway.folder / ".vetrin/store")
    store = Store(backend)
    with open_snapshot(store, manifest, railway.project.definition) as site:
        for work in (
            lambda: store.verify(manifest),
            lambda: [len(b"".join(map(bytes, blocks))) for _, blocks in site.files.read_all(
                [e for e in site.files.scan(["media"]).values() if e.kind == "file"]
            )],
        ):  # fmt: skip
            backend.ways.clear()
            work()
            objects = [name for way in backend.ways for name in way if name.startswith("objects/")]
            assert len(objects) == len(set(objects)) > 16
            assert max(sum(way.values()) for way in backend.ways) < 20 << 20


def test_what_can_not_be_fetched_together_is_not_taken_for_missing(railway: Railway) -> None:
    manifest = railway.backup()
    assert railway.store.verify(manifest) == []
    store = Store(Unsteady(railway.folder / ".vetrin/store"))
    assert [item.id for item in store.snapshots()] == [manifest.id]
    assert store.verified([manifest]) and store.verify(manifest) == []


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
    said = json.loads(railway.vetrin("snapshots", "--verify", "--json", **object_storage))
    assert len(said["whole"]) == 2
    railway.vetrin("snapshots", "--thin", "--yes", **object_storage)
    (left,) = json.loads(railway.vetrin("snapshots", "--json", **object_storage))["snapshots"]
    railway.vetrin(
        "restore", "local", left["snapshot"], "--parts", "data", "--yes", **object_storage
    )
    place("not-there/team")
    said = json.loads(railway.vetrin("backup", "production", "--json", code=1, **object_storage))
    assert "there is no not-there; make it first" in said["error"]
