"""Baselines: what a transfer took of its source is in the store afterwards, whatever came between."""

from __future__ import annotations

import errno
import json
import os
import random
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from connected import hosts
from systems import Mariadb, mariadb_site
from vetrin.config import Leave, load_project
from vetrin.database import KeyRange
from vetrin.database.batch import Batch, Cell
from vetrin.database.mysql import reader as mysql_reader
from vetrin.demo.sample import lay_out
from vetrin.errors import NoSnapshot, Stopped, StoreError
from vetrin.files import Entry
from vetrin.jobs import Choices, Journals, Plan, RunContext, build_plan, run_plan, table_copy, undo
from vetrin.jobs.baseline_notes import Notes
from vetrin.jobs.events import Event, Moved, silent
from vetrin.jobs.pieces import Piece, Pieces
from vetrin.jobs.transfer import Report
from vetrin.site import Site, open_site
from vetrin.store import Chunk, FolderBackend, Manifest, Store, lease, leases, open_snapshot

# -- pieces --------------------------------------------------------------------------------------------

keys = st.none() | st.integers(0, 12).map(lambda number: (number,))


@given(st.lists(st.tuples(st.booleans(), keys, keys), max_size=30))
def test_gaps_are_what_no_piece_covers(steps: list[tuple[bool, tuple[int], tuple[int]]]) -> None:
    """Against single keys: -1 to 13 stand for all that are below, between and beyond the borders."""
    pieces, everything = Pieces(), set(range(-1, 14))
    held: dict[KeyRange, set[int]] = {}

    def covered(key_range: KeyRange) -> set[int]:
        after = key_range.after[0] if key_range.after else -2
        upto = key_range.upto[0] if key_range.upto else 13
        return {number for number in everything if after < number <= upto}

    for dropping, after, upto in steps:
        key_range = KeyRange(after, upto)
        if not covered(key_range):
            continue
        if dropping:
            within = {piece.key_range for piece in pieces.within(key_range)}
            assert within == {one for one, some in held.items() if some & covered(key_range)}
            pieces.drop(key_range)
            held = {one: some for one, some in held.items() if not some & covered(key_range)}
        elif not set().union(*held.values()) & covered(key_range):
            pieces.add(Piece(key_range, (Chunk("", 1, 1, 1),)))
            held[key_range] = covered(key_range)
    assert [piece.key_range for piece in pieces] == sorted(held, key=lambda one: one.after or ())
    gaps = [covered(gap) for gap in pieces.gaps()]
    assert sum(map(len, gaps)) == len(set().union(*gaps))
    assert set().union(*gaps) == everything - set().union(*held.values())


# -- on both engines -----------------------------------------------------------------------------------


class Pair:
    """A project whose production is pulled into local, and the store on this machine."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    @property
    def store(self) -> Store:
        return Store(FolderBackend(self.folder / ".vetrin/store"))

    def pull(
        self,
        leave: Leave | None = None,
        listener: Callable[[Event], None] = silent,
        store: Store | None = None,
    ) -> Report:
        project = load_project(self.folder)
        choices = Choices(leave=leave or Leave())
        with (
            open_site(hosts, project, project.environment("production")) as source,
            open_site(hosts, project, project.environment("local"), read_only=False) as target,
        ):
            plan = build_plan(source, target, ("data", "media"), (), choices)
            self.plan = plan
            return run_plan(
                plan, RunContext(source, target, Journals(project.state), listener,
                baselines=store or self.store))  # fmt: skip

    def take_back(self) -> None:
        project = load_project(self.folder)
        with open_site(hosts, project, project.environment("local"), read_only=False) as target:
            undo(target, Journals(project.state))

    def last(self) -> Manifest:
        return self.store.snapshots()[-1]

    def is_as_the_source(self, manifest: Manifest, plan: Plan) -> bool:
        """Compare every cell of a baseline with what the plan takes of the source as it is now."""
        project = load_project(self.folder)
        with (
            open_site(hosts, project, project.environment("production")) as source,
            open_snapshot(self.store, manifest, source.definition) as stored,
        ):
            assert self.store.verify(manifest) == []
            found = {table.name: table for table in stored.tables}
            assert set(found) == {item.table.name for item in plan.tables}
            return all(
                cells(source, item.table.name, leave=item.leave, replacements=item.replacements)
                == cells(stored, item.table.name)
                for item in plan.tables
            )


def cells(site: Site, name: str, **more: object) -> list[Cell]:
    table = next(table for table in site.tables if table.name == name)
    with site.database.reading() as reader:
        rows: Iterator[Batch] = reader.rows(table, **more)  # type: ignore[arg-type]
        return [cell for batch in rows for cell in batch.cells]


def text(number: int, length: int) -> str:
    """As many letters, drawn by a number."""
    return "".join(random.Random(number).choices("harrowmelightrailway ", k=length))


def filled(server: Mariadb, folder: Path) -> Pair:
    """Tables that go by key, by two, by a text and by none."""
    for word in ("live", "copy"):
        mariadb_site(server, folder, word, [
            "CREATE TABLE wp_options (option_id INT AUTO_INCREMENT PRIMARY KEY, option_name VARCHAR(99) UNIQUE,"
            " option_value TEXT)",
            f"INSERT INTO wp_options VALUES (1, 'home', 'https://{word}.test')",
            "CREATE TABLE wp_trains (id INT PRIMARY KEY, log TEXT)",
            "CREATE TABLE wp_calls (train INT, stop INT, at TEXT, PRIMARY KEY (train, stop))",
            "CREATE TABLE wp_stops (code VARCHAR(9) PRIMARY KEY, name TEXT)",
            "CREATE TABLE wp_notes (at INT, note TEXT)",
            "CREATE TABLE wp_empty (id INT PRIMARY KEY)",
        ])  # fmt: skip
    values = ", ".join(f"({number}, '{text(number, 900)}')" for number in range(0, 9000, 2))
    server.run(
        f"INSERT INTO wp_trains VALUES {values}",
        "INSERT INTO wp_calls SELECT id DIV 100, id MOD 100, LEFT(log, 99) FROM wp_trains",
        "INSERT INTO wp_stops SELECT CONCAT('s', id), LEFT(log, 70) FROM wp_trains",
        "INSERT INTO wp_notes SELECT id, LEFT(log, 150) FROM wp_trains",
        database="live_site",
    )
    return Pair(folder)


@pytest.fixture
def railway(tmp_path: Path) -> Pair:
    lay_out(tmp_path / "railway", 1)
    return Pair(tmp_path / "railway")


@pytest.fixture
def trains(tmp_path: Path, database_server: Mariadb) -> Pair:
    return filled(database_server, tmp_path)


@pytest.mark.parametrize("engine", ["sqlite", "mariadb"])
def test_a_pull_keeps_what_it_took(engine: str, request: pytest.FixtureRequest) -> None:
    pair: Pair = request.getfixturevalue("railway" if engine == "sqlite" else "trains")
    report = pair.pull()
    manifest = pair.last()
    assert report.baseline == manifest.id and report.remarks == ()
    assert (manifest.purpose, manifest.environment, manifest.target) == (
        "baseline", "production", "local",
    )  # fmt: skip
    assert pair.is_as_the_source(manifest, pair.plan)
    project = load_project(pair.folder)
    with open_site(hosts, project, project.environment("production")) as source:
        listed = {entry.path: entry for entry in pair.store.listed(manifest)}
        for path, entry in listed.items():
            there = (pair.folder / project.environment("production").root / path).stat()
            if entry.kind == "file":
                assert (entry.size, entry.modified) == (there.st_size, there.st_mtime_ns)
        assert any(entry.kind == "file" for entry in listed.values())
        assert manifest.address == str(source.environment.address)
    again = pair.pull()
    assert again.baseline not in ("", manifest.id)
    assert pair.last().added < 5_000  # equal content is there already


STOPS = ["interrupted", "killed", "killed-when-settled"]


@pytest.mark.parametrize("how", STOPS)
def test_a_run_that_was_stopped_ends_with_all_of_its_source(
    how: str, trains: Pair, database_server: Mariadb, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The source is changed in between, before, in and behind what had been taken."""
    monkeypatch.setattr(table_copy, "STRETCH", 300_000)
    moved = [0]

    def stop(event: Event) -> None:
        if isinstance(event, Moved) and event.table == "wp_trains" and event.size:
            moved[0] += event.rows
            if moved[0] > 2500:
                if how == "killed-when-settled":
                    time.sleep(0.5)
                if how != "interrupted":
                    os.kill(os.getpid(), signal.SIGKILL)
                raise KeyboardInterrupt

    if how == "interrupted":
        with pytest.raises(Stopped):
            trains.pull(listener=stop)
    else:
        child = os.fork()
        if child == 0:
            leases.BEAT = 0.05 if how == "killed-when-settled" else 60
            trains.pull(listener=stop)
            os._exit(0)
        assert os.WIFSIGNALED(os.waitpid(child, 0)[1])
    assert trains.store.snapshots() == []
    database_server.run(
        "UPDATE wp_trains SET log = 'late' WHERE id = 40",
        "DELETE FROM wp_trains WHERE id IN (998, 1000, 1002, 8998)",
        "INSERT INTO wp_trains VALUES (101, 'between'), (9001, 'last')",
        "UPDATE wp_stops SET name = 'Ghyll Halt' WHERE code = 's40'",
        "DELETE FROM wp_notes WHERE at = 40",
        database="live_site",
    )
    read = []
    real = mysql_reader.MysqlReader.rows

    def rows(self: object, table: object, *values: object, **more: object) -> Iterator[Batch]:
        for batch in real(self, table, *values, **more):  # type: ignore[arg-type]
            if table.name == "wp_trains":  # type: ignore[attr-defined]
                read.append(batch.rows)
            yield batch

    monkeypatch.setattr(mysql_reader.MysqlReader, "rows", rows)
    report = trains.pull()
    count = sum(read)
    assert report.run.number == 1 and report.baseline
    assert trains.is_as_the_source(trains.last(), trains.plan)
    if how == "killed":  # nothing of it had reached the disk for good
        assert count > 4400
    else:  # what is beyond the stop, the pages that changed, and what surrounds them
        assert count < 4000


def test_what_a_view_of_its_own_brings_is_kept(
    trains: Pair, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(table_copy, "VIEW", 0.0)
    trains.pull()
    assert trains.is_as_the_source(trains.last(), trains.plan)


# -- over several runs ---------------------------------------------------------------------------------


def change(railway: Pair, *statements: str) -> None:
    connection = sqlite3.connect(railway.folder / "production/data/harrowmere.sqlite")
    for statement in statements:
        connection.execute(statement)
    connection.commit()
    connection.close()


def test_tables_that_did_not_come_are_those_of_the_baseline_before(railway: Pair) -> None:
    railway.pull()
    first = railway.last()
    change(railway, "UPDATE bookings SET seats = 9", "UPDATE comments SET author = 'S. Tarn'")
    railway.pull(Leave(only=("bookings",)))
    second = railway.last()
    assert first.data is not None and second.data is not None
    old = {item.table.name: item for item in first.data.tables}
    new = {item.table.name: item for item in second.data.tables}
    assert set(old) == set(new)
    assert {name for name in new if new[name].pages != old[name].pages} == {"bookings"}
    assert {item.taken for item in new.values()} == {"", first.taken}
    railway.pull(Leave(only=("comments",)))
    moments = {item.table.name: item.taken for item in railway.last().data.tables}  # type: ignore[union-attr]
    assert (moments["comments"], moments["bookings"]) == ("", second.taken)
    assert moments["entries"] == first.taken


def test_the_baseline_of_an_undone_run_does_not_count(railway: Pair) -> None:
    journals = Journals(railway.folder / ".vetrin")
    ids = [railway.pull().baseline]
    change(railway, "UPDATE bookings SET seats = 9")
    ids.append(railway.pull().baseline)
    assert journals.baseline("production", "local") == ids[1]
    railway.take_back()
    assert journals.baseline("production", "local") == ids[0]
    railway.take_back()
    assert journals.baseline("production", "local") == ids[1]
    change(railway, "UPDATE bookings SET seats = 8")
    ids.append(railway.pull().baseline)
    assert [item.id for item in railway.store.snapshots()] == ids[1:]  # one more than is needed
    assert journals.baseline("staging", "local") == ""


def test_a_run_that_found_nothing_to_do_rests_on_the_one_before(railway: Pair) -> None:
    journals = Journals(railway.folder / ".vetrin")
    first, nothing = railway.pull(), railway.pull()
    assert first.run.changed and not nothing.run.changed
    assert journals.baseline("production", "local") == nothing.baseline
    railway.take_back()
    assert journals.baseline("production", "local") == ""
    assert journals.last_transfer("local") is None
    railway.take_back()
    assert journals.baseline("production", "local") == nothing.baseline


@pytest.mark.parametrize("harmed", ["nothing", "a page", "all pages"])
def test_changes_all_over_a_table_are_put_into_its_baseline(
    harmed: str, trains: Pair, database_server: Mariadb
) -> None:
    """Also where what is kept of it, and concerned, cannot be read any more."""
    first = trains.pull()
    table = next(t for t in trains.last().data.tables if t.table.name == "wp_trains")  # type: ignore[union-attr]
    pages = [*trains.store.pages(table)]
    objects = trains.folder / ".vetrin/store"
    for page in {"nothing": [], "a page": pages[3:4], "all pages": pages}[harmed]:
        (objects / trains.store.contents.place(page.digest)).write_bytes(b"harmed")
    database_server.run(
        "UPDATE wp_trains SET log = CONCAT(id, 'late') WHERE id % 40 = 4",
        "DELETE FROM wp_trains WHERE id % 1800 = 10",
        "INSERT INTO wp_trains SELECT id + 1, 'extra' FROM wp_trains WHERE id % 3000 = 0",
        "UPDATE wp_calls SET at = 'noon' WHERE train % 9 = 2 AND stop = 4",
        database="live_site",
    )
    report = trains.pull()
    assert report.since == first.run.number and report.remarks == ()
    assert report.written["wp_trains"] == 225 + 5 + 3 and report.written["wp_calls"] == 10
    assert trains.is_as_the_source(trains.last(), trains.plan)
    if harmed == "nothing":
        assert trains.last().added < 40_000


def test_every_so_often_what_nothing_needs_is_removed(
    railway: Pair, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("vetrin.jobs.baseline.SWEPT", 4)
    contents = railway.store.contents
    orphan, _ = contents.keep(b"of a run that died")
    railway.store.backend.settle()
    contents._backend.settle()
    for _ in range(3):
        railway.pull()
    assert Store(FolderBackend(railway.folder / ".vetrin/store")).contents.has(orphan)
    railway.pull()
    assert not railway.store.contents.has(orphan)
    assert railway.store.verify(railway.last()) == []


# -- where it cannot be kept --------------------------------------------------------------------------


@pytest.mark.parametrize("step", ["begin", "keep", "drop"])
def test_notes_that_cannot_be_written_cost_the_baseline_only(
    railway: Pair, monkeypatch: pytest.MonkeyPatch, step: str
) -> None:
    def full(*values: object, **more: object) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(Notes, step, full)
    report = railway.pull()
    assert report.remarks == ("no baseline for a later merge was kept: No space left on device",)
    assert report.baseline == "" and report.run.stage == "done"
    assert railway.store.snapshots() == []


def test_a_full_disk_costs_the_baseline_only(
    railway: Pair, monkeypatch: pytest.MonkeyPatch
) -> None:
    written, left = FolderBackend.write, [30_000]

    def full(self: FolderBackend, name: str, content: bytes) -> None:
        left[0] -= len(content) if name.startswith("objects") else 0
        if left[0] < 0:
            raise StoreError(f"{name}: No space left on device")
        written(self, name, content)

    monkeypatch.setattr(FolderBackend, "write", full)
    report = railway.pull()
    assert report.baseline == "" and report.run.stage == "done"
    assert len(report.remarks) == 1 and "No space left on device" in report.remarks[0]
    assert railway.store.snapshots() == []
    assert not list((railway.folder / ".vetrin/store").glob(".new-*"))
    assert not list((railway.folder / ".vetrin/store/leases").iterdir())
    monkeypatch.undo()
    assert railway.pull().baseline


def test_a_store_that_is_being_thinned_costs_the_baseline_only(railway: Pair) -> None:
    with lease(railway.store.backend, "thin"):
        report = railway.pull()
    assert report.baseline == "" and "thins the store" in report.remarks[0]


def test_a_run_that_failed_leaves_no_baseline(railway: Pair) -> None:
    connection = sqlite3.connect(railway.folder / "production/data/harrowmere.sqlite")
    connection.execute("CREATE TABLE zz_last (a INT CHECK (a < 10))")
    connection.execute("PRAGMA ignore_check_constraints = ON")
    connection.execute("INSERT INTO zz_last VALUES (11)")
    connection.commit()
    connection.close()
    with pytest.raises(Exception, match="CHECK constraint failed"):
        railway.pull()
    assert railway.store.snapshots() == []
    assert not list((railway.folder / ".vetrin/store").glob(".new-*"))


# -- on the command line -------------------------------------------------------------------------------


def vetrin(folder: Path, *words: str, code: int = 0, **environ: str) -> tuple[str, str]:
    done = subprocess.run(
        [sys.executable, "-m", "vetrin", *words],
        cwd=folder,
        capture_output=True,
        text=True,
        env={**os.environ, **environ},
    )
    assert done.returncode == code, done.stdout + done.stderr
    return done.stdout, done.stderr


def add(folder: Path, toml: str) -> None:
    with (folder / "vetrin.toml").open("a") as file:
        file.write(toml)


def test_baselines_are_listed_apart(railway: Pair) -> None:
    vetrin(railway.folder, "pull", "production", "--yes")
    assert "There is no snapshot yet" in vetrin(railway.folder, "snapshots")[0]
    said, _ = vetrin(railway.folder, "snapshots", "--all")
    assert "baseline for" in said and "1 baseline of transfers in" in said
    (listed,) = json.loads(vetrin(railway.folder, "snapshots", "--all", "--json")[0])["snapshots"]
    assert (listed["purpose"], listed["target"]) == ("baseline", "local")
    with pytest.raises(NoSnapshot):
        railway.store.get("newest")
    said, _ = vetrin(railway.folder, "compare", "production", listed["snapshot"])
    assert "Compared: data" in said and "nothing differs but the address" in said
    connection = sqlite3.connect(railway.folder / "production/data/harrowmere.sqlite")
    connection.execute("DELETE FROM bookings WHERE rowid = 5")
    connection.commit()
    connection.close()
    said, _ = vetrin(railway.folder, "compare", "production", listed["snapshot"], code=4)
    assert "bookings" in said


def test_a_store_elsewhere_is_not_for_baselines(railway: Pair) -> None:
    add(railway.folder, '\n[store]\nplace = "shared"\nthin = { newest = 1 }\n')
    vetrin(railway.folder, "pull", "production", "--yes")
    vetrin(railway.folder, "backup", "production", "--parts", "media")
    said, _ = vetrin(railway.folder, "snapshots", "--all", "--json")
    stores = {item["purpose"]: Path(item["store"]).name for item in json.loads(said)["snapshots"]}
    assert stores == {"baseline": "store", "backup": "shared"}
    assert (
        len(json.loads(vetrin(railway.folder, "snapshots", "--verify", "--json")[0])["whole"]) == 2
    )
    vetrin(railway.folder, "snapshots", "--thin", "--yes")
    vetrin(railway.folder, "snapshots", railway.last().id, "--remove", "--yes")
    assert railway.store.snapshots() == []


def test_a_passphrase_is_for_baselines_as_well(railway: Pair) -> None:
    add(railway.folder, "\n[store]\npassphrase = true\n")
    _, said = vetrin(railway.folder, "pull", "production", "--yes", VETRIN_STORE_PASSPHRASE="")
    assert "no baseline for a later merge is kept" in said
    assert not list((railway.folder / ".vetrin/store").rglob("*.zst"))
    word = "the four o'clock to Ghyll"
    _, said = vetrin(railway.folder, "pull", "production", "--yes", VETRIN_STORE_PASSPHRASE=word)
    assert "baseline" not in said
    assert list((railway.folder / ".vetrin/store").rglob("*.sealed"))
    assert word not in said
    for path in (railway.folder / ".vetrin").rglob("*"):
        assert not path.is_file() or word.encode() not in path.read_bytes()


def test_files_alone_are_listed(railway: Pair) -> None:
    vetrin(railway.folder, "pull", "production", "--parts", "data,media", "--yes")
    (railway.folder / "production/media/timetable.txt").write_text("09:15 Ghyll Halt")
    vetrin(railway.folder, "pull", "production", "--parts", "media", "--yes")
    last = railway.last()
    assert any(
        isinstance(entry, Entry) and entry.path.endswith("timetable.txt")
        for entry in railway.store.listed(last)
    )
    assert last.data is not None and last.parts == ("data",)
