"""A snapshot over a line reads only what has changed since the store had it, and holds what a whole one would."""

from __future__ import annotations

import dataclasses
import random
import shutil
import sqlite3
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from msgspec.structs import replace

from connected import hosts
from line import ROWS, Line, railway_line
from ssh_server import SshServer
from systems import DatabaseServer
from test_repeat import History
from vetrin.config import Host, load_project
from vetrin.database.table_digest import table_digest
from vetrin.jobs import take_snapshot
from vetrin.jobs.kept_tables import KeptTables
from vetrin.jobs.snapshot_rows import SnapshotRows
from vetrin.site import open_site
from vetrin.store import FolderBackend, Manifest, Store, open_snapshot


@pytest.fixture
def whole(monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """The tables of which all rows were read since it was emptied."""
    found: list[str] = []
    read = SnapshotRows._whole

    def noted(self: SnapshotRows, reader: object, table: object) -> None:
        found.append(table.name.rpartition("x_")[2])
        read(self, reader, table)

    monkeypatch.setattr(SnapshotRows, "_whole", noted)
    return found


def store_of(line: Line) -> Store:
    return Store(FolderBackend(line.folder / ".vetrin/store"))


def backup(line: Line) -> Manifest:
    """A snapshot of production, which is proved and compared with production; where that is here, as if it were on a
    host."""
    project, store = load_project(line.folder), store_of(line)
    environment = project.environment("production")
    with open_site(hosts, project, environment) as site:
        host = environment.host or Host("away")
        away = dataclasses.replace(site, environment=replace(environment, host=host))
        manifest = take_snapshot(away, store, ("data",), state=project.state)
        assert store.verify(manifest) == []
        with (
            open_snapshot(store, manifest, site.definition) as stored,
            site.database.reading() as here,
            stored.database.reading() as kept,
        ):
            theirs = {table.name: table for table in stored.tables}
            assert theirs.keys() == {table.name for table in site.tables}
            for table in site.tables:
                assert table_digest(here, table) == table_digest(kept, theirs[table.name])
        return manifest


@pytest.mark.parametrize("seed", range(2))
def test_whatever_happened_a_snapshot_holds_what_is_there(
    line: Line, seed: int, whole: list[str]
) -> None:
    draw, history = random.Random(seed), History(seed)
    backup(line)
    assert {"trains", "calls", "stops", "notes", "names", "empty"} <= set(whole)
    for _ in range(8):
        line.sides["production"](*history.steps())
        if draw.random() < 0.3:
            line.pull()  # of which the store has its rows as well
        backup(line)
        whole.clear()
        manifest = backup(line)
        assert whole == [] and manifest.added < 2000


def test_only_what_changed_is_read(
    line: Line, whole: list[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    first = backup(line)
    whole.clear()
    line.sides["production"](
        "UPDATE x_trains SET log = 'late' WHERE id IN (3, 3000, 7197)",
        "DELETE FROM x_calls WHERE train = 7",
        "INSERT INTO x_empty VALUES (1, 'first')",
        "INSERT INTO x_names VALUES (50000, 'new', 1)",
        "UPDATE x_stops SET name = 'Moved' WHERE code = 'stop7'",
    )
    second = backup(line)
    assert whole == ["stops"]  # it has no key that is a number
    assert second.rows == first.rows - 40 + 2
    whole.clear()
    line.sides["production"]("UPDATE x_trains SET seats = 3")
    backup(line)
    assert whole == []  # it is not large
    monkeypatch.setattr("vetrin.jobs.snapshot_rows._SPREAD", 100)
    line.sides["production"]("UPDATE x_trains SET seats = 4")
    backup(line)
    assert whole == ["trains"]


def test_rows_that_are_added_day_by_day_do_not_make_ever_more_pages(line: Line) -> None:
    for day in range(5):
        line.sides["production"](f"INSERT INTO x_empty VALUES ({day + 1}, 'day {day}')")
        backup(line)
    ((_, kept),) = [
        item
        for item in KeptTables(line.folder / ".vetrin", "production").read().items()
        if item[0].endswith("empty")
    ]
    assert [(page.upto, page.rows) for page in kept.known.pages] == [((5,), 5)]


def harms(line: Line) -> Iterator[str]:
    """Ways in which what is known, or what it tells of, is lost. After each, all has to be there again."""
    state = line.folder / ".vetrin"
    yield "nothing"
    for path in state.glob("kept.sqlite*"):
        path.unlink()
    yield "no memory"
    (state / "kept.sqlite").write_bytes(b"no database at all" * 99)
    yield "a damaged memory"
    with sqlite3.connect(state / "kept.sqlite") as file:
        file.execute("UPDATE kept SET content = '[{}, 3]'")
    file.close()
    yield "other contents"
    for number, path in enumerate(sorted(state.glob("store/objects/**/*.zst"))):
        if number % 2:
            path.unlink()
    yield "missing objects"
    store = store_of(line)
    data = store.snapshots()[-1].data
    assert data is not None
    needs = {need for table in data.tables for page in store.pages(table) for need in page.needs}
    for path in [state / "store" / store.contents.place(need) for need in needs]:
        content = bytearray(path.read_bytes())
        content[len(content) // 2] ^= 8
        path.chmod(0o600)
        path.write_bytes(content)
    yield "damaged objects"
    shutil.rmtree(state / "store")
    yield "no store"


def test_nothing_depends_on_what_is_known(line: Line) -> None:
    backup(line)
    for number, _ in enumerate(harms(line)):
        line.sides["production"](
            f"UPDATE x_trains SET log = 'turn {number}' WHERE id % {ROWS // 2} = 0"
        )
        store = store_of(line)
        for manifest in store.snapshots():  # sets aside what is damaged
            store.verify(manifest)
        backup(line)


def test_a_snapshot_that_nobody_remembers_does_no_harm(
    line: Line, whole: list[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    """As where the process is killed once the snapshot is there."""
    backup(line)
    change = "UPDATE x_calls SET at = 'later' WHERE train = 3"
    with monkeypatch.context() as patched:
        patched.setattr(KeptTables, "put", lambda self, tables: None)
        line.sides["production"](change)
        newest = backup(line)
    store = store_of(line)
    for manifest in store.snapshots():
        if manifest.id != newest.id:
            store.remove(manifest)
    store.sweep()
    whole.clear()
    line.sides["production"](change.replace("later", "sooner"))
    backup(line)
    assert set(whole) <= {"calls", "trains"}


def test_of_what_a_pull_over_ssh_took_a_backup_reads_nothing_again(
    tmp_path: Path,
    database_server: DatabaseServer,
    ssh: SshServer,
    whole: list[str],
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setenv("HOME", str(ssh.home))
    line = railway_line("mariadb", tmp_path, database_server)
    path = tmp_path / "vetrin.toml"
    host = f'host = "ssh://{ssh.name}"\nroot = "{tmp_path}/live"'
    path.write_text(path.read_text().replace('root = "live"', host))

    def vetrin(*words: str) -> None:
        done = subprocess.run(
            [sys.executable, "-m", "vetrin", *words], cwd=tmp_path, capture_output=True, text=True
        )
        assert done.returncode == 0, done.stdout + done.stderr

    try:
        vetrin("pull", "--parts", "data", "--yes")
        backup(line)
        line.sides["production"]("UPDATE x_trains SET log = 'late' WHERE id IN (3, 3000, 7197)")
        backup(line)
        assert whole == []
    finally:
        hosts.close()
