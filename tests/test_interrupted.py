"""Killed at every point: the target is as it was, at once or after the next command's recovery."""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys
from pathlib import Path

import pytest

from connected import hosts
from killing import killed_after
from systems import Mariadb, mariadb_site
from vetrin.config import load_project
from vetrin.database.mysql import database as mysql_engine
from vetrin.database.sqlite import database as sqlite_engine
from vetrin.database.table_digest import table_digest
from vetrin.demo.sample import Sample
from vetrin.demo.walk import fingerprint
from vetrin.errors import Refused
from vetrin.jobs import Journals, RunContext, Selection, build_plan, change, run_plan, undo
from vetrin.jobs.lock import only_run
from vetrin.rewrite import Mapping, parse_literal
from vetrin.site import Rewriting, open_site


def pull(folder: Path) -> None:
    project = load_project(folder)
    with (
        open_site(hosts, project, project.environment("production")) as source,
        open_site(hosts, project, project.environment("local"), read_only=False) as target,
    ):
        run_plan(build_plan(source, target), RunContext(source, target, Journals(project.state)))


def take_back(folder: Path) -> None:
    project = load_project(folder)
    with open_site(hosts, project, project.environment("local"), read_only=False) as target:
        undo(target, Journals(project.state))


def hidden(folder: Path) -> list[str]:
    project = load_project(folder)
    with open_site(hosts, project, project.environment("local")) as site:
        return site.database.hidden_tables()


def test_a_pull_killed_anywhere_leaves_the_target_as_it_was(sample: Sample) -> None:
    before = fingerprint(sample.root("local"))
    steps = 0
    while True:
        methods = ["lay_out", "fill", "finish", "_execute", "swap"]
        if not killed_after(
            steps, lambda: pull(sample.folder), engine=sqlite_engine.SqliteDatabase, methods=methods
        ):
            break
        runs = Journals(sample.folder / ".vetrin").of("local")
        if not runs or runs[0].stage == "planned":
            assert fingerprint(sample.root("local")) == before, steps
        if not runs:
            steps += 1
            continue
        last = runs[0]
        if last.unfinished:
            take_back(sample.folder)
            # A switch that had been handed over came to its end, and was undone: it can be brought back.
            newest = Journals(sample.folder / ".vetrin").of("local")[0]
            assert hidden(sample.folder) == [] or newest.undoes == last.number
        elif last.stage == "done":
            take_back(sample.folder)
        assert fingerprint(sample.root("local")) == before, steps
        steps += 1 if steps % 20 < 2 or last.stage != "planned" else 11
    assert steps > 40
    assert fingerprint(sample.root("local")) != before


def test_an_undo_killed_anywhere_can_be_done_again(sample: Sample) -> None:
    before = fingerprint(sample.root("local"))
    pull(sample.folder)
    after = fingerprint(sample.root("local"))
    steps = 0
    while killed_after(
        steps,
        lambda: take_back(sample.folder),
        engine=sqlite_engine.SqliteDatabase,
        methods=["swap"],
    ):
        last = Journals(sample.folder / ".vetrin").of("local")[0]
        if last.undone_by is None and last.kind == "pull":
            assert fingerprint(sample.root("local")) == after, steps
        elif last.unfinished:
            take_back(sample.folder)  # takes back the half-done undo
            assert fingerprint(sample.root("local")) == after, steps
        elif last.kind == "undo":
            assert fingerprint(sample.root("local")) == before, steps
            take_back(sample.folder)
        steps += 1
    assert steps > 10
    assert fingerprint(sample.root("local")) == before


def rewrite(folder: Path) -> None:
    project = load_project(folder)
    pairs = [parse_literal("Railway=Line"), parse_literal("harrowmere=hollowmere")]
    with open_site(hosts, project, project.environment("local"), read_only=False) as site:
        change(site, "rewrite", Rewriting(Mapping.of(pairs)), Selection(), Journals(project.state))


def test_a_rewrite_killed_anywhere_leaves_everything_as_it_was(sample: Sample) -> None:
    before = fingerprint(sample.root("local"))
    steps = 0
    while killed_after(
        steps, lambda: rewrite(sample.folder), engine=sqlite_engine.SqliteDatabase,
        methods=["lay_out", "fill", "patch"],
    ):  # fmt: skip
        runs = Journals(sample.folder / ".vetrin").of("local")
        if not runs or runs[0].stage == "planned":
            assert fingerprint(sample.root("local")) == before, steps
        if runs and (runs[0].unfinished or runs[0].stage == "done"):
            take_back(sample.folder)
        assert fingerprint(sample.root("local")) == before, steps
        assert not list((sample.folder / ".vetrin").rglob("rows-*"))
        steps += 1
    assert steps > 10
    assert fingerprint(sample.root("local")) != before


def test_the_next_pull_clears_away_what_a_dead_one_left(sample: Sample) -> None:
    killed = killed_after(
        12, lambda: pull(sample.folder), engine=sqlite_engine.SqliteDatabase, methods=["fill"]
    )
    assert killed
    assert hidden(sample.folder)
    pull(sample.folder)
    numbers = {run.number: run.stage for run in Journals(sample.folder / ".vetrin").of("local")}
    assert numbers == {1: "done"}  # the same once more goes on with it
    assert all("_parked_" in name for name in hidden(sample.folder))
    pull(sample.folder)
    assert len(hidden(sample.folder)) == 11  # one way back is kept, not two


def test_ctrl_c_leaves_what_has_arrived_until_it_is_given_up(sample: Sample) -> None:
    (sample.folder / "vetrin.toml").write_text(
        (sample.folder / "vetrin.toml").read_text().replace('access = "read-only"', "")
    )
    before = fingerprint(sample.root("local"))
    script = (
        "import os, signal\n"
        "from vetrin.database.sqlite.database import SqliteDatabase as D\n"
        "real = D.finish\n"
        "def finish(self, hidden, *rest):\n"
        "    real(self, hidden, *rest)\n"
        "    if hidden.endswith('_5'): os.kill(os.getpid(), signal.SIGINT)\n"
        "D.finish = finish\n"
        "from vetrin.cli import main\n"
        "main(['pull', '--yes'])\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", script], cwd=sample.folder, capture_output=True, text=True
    )
    assert done.returncode == 3
    assert "interrupted" in done.stderr
    assert "vetrin resume local" in done.stderr
    assert "Traceback" not in done.stderr
    assert fingerprint(sample.root("local")) == before
    take_back(sample.folder)
    assert fingerprint(sample.root("local")) == before
    assert hidden(sample.folder) == []
    assert not list((sample.root("local") / ".vetrin").glob("*/new"))


def test_one_run_at_a_time(sample: Sample) -> None:
    project = load_project(sample.folder)
    with (
        open_site(hosts, project, project.environment("local")) as site,
        only_run(site),
        pytest.raises(Refused, match=rf"process {os.getpid()}\) since "),
    ):
        take_back(sample.folder)


def test_an_error_on_the_way_changes_nothing(sample: Sample) -> None:
    connection = sqlite3.connect(sample.root("production") / "data/harrowmere.sqlite")
    connection.execute("CREATE TABLE zz_last (a INT CHECK (a < 10))")
    connection.execute("PRAGMA ignore_check_constraints = ON")
    connection.execute("INSERT INTO zz_last VALUES (11)")
    connection.commit()
    connection.close()
    before = fingerprint(sample.root("local"))
    with pytest.raises(Exception, match="zz_last: CHECK constraint failed"):
        pull(sample.folder)
    assert fingerprint(sample.root("local")) == before
    assert hidden(sample.folder) == []


TABLES = (
    "CREATE TABLE wp_options (option_id INT AUTO_INCREMENT PRIMARY KEY, option_name VARCHAR(99) UNIQUE, option_value TEXT)",
    "CREATE TABLE wp_stops (id INT PRIMARY KEY, name TEXT)",
    "CREATE TABLE wp_trains (id INT PRIMARY KEY, stop INT, CONSTRAINT calls FOREIGN KEY (stop) REFERENCES wp_stops (id))",
    "CREATE TRIGGER wp_named BEFORE INSERT ON wp_stops FOR EACH ROW SET NEW.name = TRIM(NEW.name)",
    "CREATE VIEW wp_calls AS SELECT t.id, s.name FROM wp_trains t JOIN wp_stops s ON s.id = t.stop",
)  # fmt: skip


def test_a_pull_on_mariadb_killed_anywhere(tmp_path: Path, database_server: Mariadb) -> None:
    server = database_server
    for word, rows in (("live", "(1, ' a'), (2, 'b')"), ("copy", "(1, 'mine')")):
        mariadb_site(server, tmp_path, word, [
            *TABLES, f"INSERT INTO wp_stops VALUES {rows}", "INSERT INTO wp_trains VALUES (7, 1)",
            f"INSERT INTO wp_options VALUES (1, 'home', 'https://{word}.test')",
        ])  # fmt: skip

    def state() -> dict[str, object]:
        project = load_project(tmp_path)
        with (
            open_site(hosts, project, project.environment("local")) as site,
            site.database.reading() as reader,
        ):
            found: dict[str, object] = {t.name: table_digest(reader, t) for t in site.tables}
            names = [table.name for table in site.tables]
            found["hanging"] = site.database.attachments(names, site.views)
            found["schemas"] = [site.database.schema(name) for name in names]
        uploads = tmp_path / "copy/wp-content/uploads"
        found["files"] = sorted(path.name for path in uploads.iterdir())
        return found

    before = state()
    steps = 0
    while killed_after(
        steps,
        lambda: pull(tmp_path),
        engine=mysql_engine.MysqlDatabase,
        methods=["_do", "_together", "fill"],
    ):
        last = Journals(tmp_path / ".vetrin").of("local")
        if last and (last[0].unfinished or last[0].stage == "done"):
            if last[0].stage == "planned":
                assert state() == before, steps
            take_back(tmp_path)
        assert state() == before, steps
        steps += 1 if steps % 10 < 3 else 3
    assert steps > 40
    assert state()["files"] == ["copy.txt", "live.txt"]
    rows = server.run("SELECT id, name FROM wp_calls", database="copy_site")
    assert rows == [(7, "a")]
