"""What only a server can show: engines side by side, empty targets, wrong accounts, refused loads."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest

from systems import Mariadb, mariadb_site

OLD, NEW = "https://live.test", "https://copy.test"
TABLES = [
    "CREATE TABLE wp_options (option_id INT AUTO_INCREMENT PRIMARY KEY, option_name VARCHAR(99) UNIQUE, option_value TEXT)",
    "CREATE TABLE wp_isam (id INT PRIMARY KEY, t TEXT, KEY k (t(10))) ENGINE=MyISAM",
    "CREATE TABLE wp_keyless (t TEXT, n INT)",
    "CREATE TABLE wp_parent (id INT PRIMARY KEY, t TEXT)",
    "CREATE TABLE wp_child (id INT PRIMARY KEY, p INT, t TEXT, CONSTRAINT of_parent FOREIGN KEY (p) REFERENCES wp_parent (id))",
    "CREATE TRIGGER wp_counts AFTER INSERT ON wp_keyless FOR EACH ROW UPDATE wp_parent SET t = 'counted' WHERE id = 1",
    "CREATE VIEW wp_both AS SELECT c.id, p.t FROM wp_child c JOIN wp_parent p ON p.id = c.p",
]  # fmt: skip
ROWS = [
    f"INSERT INTO wp_options VALUES (1, 'home', '{OLD}'), (2, 'x', 'a:1:{{i:0;s:19:\"{OLD}/a\";}}')",
    f"INSERT INTO wp_isam VALUES (1, '{OLD}/i'), (2, 'none')",
    f"INSERT INTO wp_keyless VALUES ('{OLD}/k', 1), ('{OLD}/k', 1), (NULL, 2)",
    f"INSERT INTO wp_parent VALUES (1, '{OLD}/p'), (2, 'x')",
    f"INSERT INTO wp_child VALUES (5, 1, '{OLD}/c'), (6, 2, NULL)",
]


def vetrin(folder: Path, *arguments: str, code: int = 0) -> dict:
    done = subprocess.run(
        [sys.executable, "-m", "vetrin", *arguments, "--json"],
        cwd=folder,
        capture_output=True,
        text=True,
    )
    assert done.returncode == code, done.stdout + done.stderr
    assert "shell-word" not in done.stdout + done.stderr
    return json.loads(done.stdout)


def everything(server: Mariadb, word: str) -> dict[str, object]:
    names = [row[0] for row in server.run("SHOW TABLES", database=f"{word}_site")]
    found: dict[str, object] = {}
    for name in names:
        if not name.startswith("_vetrin_"):
            rows = server.run(f"SELECT * FROM {name}", database=f"{word}_site")
            made = server.run(f"SHOW CREATE TABLE {name}", database=f"{word}_site")[0][1]
            found[name] = (sorted(map(repr, rows)), made)
    found["triggers"] = [row[:5] for row in server.run("SHOW TRIGGERS", database=f"{word}_site")]
    return found


@pytest.fixture
def folder(tmp_path: Path, database_server: Mariadb) -> Path:
    mariadb_site(database_server, tmp_path, "live", [*TABLES, *ROWS])
    mariadb_site(database_server, tmp_path, "copy", [])
    return tmp_path


def test_a_pull_into_an_empty_database_and_back(folder: Path, database_server: Mariadb) -> None:
    empty = everything(database_server, "copy")
    report = vetrin(folder, "pull", "--yes")
    assert report["rows"] == 11
    assert report["rewriting"]["replaced"] == 7
    assert "wp_isam: MyISAM has no consistent view" in " ".join(report["plan"]["risks"])
    live, copy = everything(database_server, "live"), everything(database_server, "copy")
    assert set(live) == set(copy)
    assert repr(copy).replace(NEW, OLD).replace("`shell`@`%`", "").replace(
        "`root`@`localhost`", ""
    ) == repr(live).replace("`root`@`localhost`", "")
    assert database_server.run("SELECT t FROM wp_both WHERE id = 5", database="copy_site") == [
        (f"{NEW}/p",)
    ]
    vetrin(folder, "undo", "local", "--yes")
    assert everything(database_server, "copy") == empty
    vetrin(folder, "undo", "local", "--yes")
    assert everything(database_server, "copy") == copy


def test_a_rewrite_in_place_over_all_kinds_of_tables(
    folder: Path, database_server: Mariadb
) -> None:
    vetrin(folder, "pull", "--yes")
    before = everything(database_server, "copy")
    change = ["rewrite", "local", "--replace", f"{NEW}=https://new-copy.test"]
    assert vetrin(folder, *change, "--dry-run")["rows"] == {
        "wp_child": 1, "wp_isam": 1, "wp_keyless": 2, "wp_options": 2, "wp_parent": 1,
    }  # fmt: skip
    assert everything(database_server, "copy") == before
    done = vetrin(folder, *change, "--yes")
    assert done["replaced"] == 7
    after = everything(database_server, "copy")
    expected = repr(before).replace('s:19:"https://copy.test', 's:23:"https://new-copy.test')
    assert repr(after) == expected.replace(NEW, "https://new-copy.test")
    vetrin(folder, "undo", "local", "--yes")
    assert everything(database_server, "copy") == before
    vetrin(folder, "undo", "local", "--yes")
    assert everything(database_server, "copy") == after
    # Nothing of it is in the way of the next pull.
    vetrin(folder, "pull", "--yes")
    assert everything(database_server, "copy") == before


def test_where_loads_are_forbidden_rows_go_in_all_the_same(
    folder: Path, database_server: Mariadb
) -> None:
    vetrin(folder, "pull", "--yes")
    loaded = everything(database_server, "copy")
    database_server.run("SET GLOBAL local_infile = 0")
    try:
        plan = vetrin(folder, "pull", "--dry-run")
        assert "forbids LOAD DATA LOCAL" in " ".join(plan["risks"])
        assert any(
            "INSERT" in proof["says"]
            for proof in vetrin(folder, "reach", "local", code=1)["proofs"]
        )
        vetrin(folder, "pull", "--yes")
    finally:
        database_server.run("SET GLOBAL local_infile = 1")
    assert everything(database_server, "copy") == loaded


def test_what_is_wrong_with_an_account_is_said_with_a_remedy(folder: Path) -> None:
    path = folder / "copy/wp-config.php"
    text = path.read_text()
    for old, new, remedy in (
        ("'shell-word'", "'wrong'", "check user and password"), ("copy_site", "nowhere_site", "nowhere_site"),
        ("127.0.0.1:", "127.0.0.1:1", "check that the server runs"),
    ):  # fmt: skip
        path.write_text(
            text.replace(old, new) if not new.endswith(":1") else text.replace(old, "127.0.0.2:")
        )
        found = vetrin(folder, "reach", "local", code=1)
        (proof,) = [proof for proof in found["proofs"] if proof["part"] == "database"]
        assert not proof["good"]
        assert remedy in proof["remedy"]
        said = vetrin(folder, "pull", "--yes", code=1)["remedy"]
        # A pull could make what is missing: it tells the statements for it.
        assert said.startswith(proof["remedy"]) or "CREATE DATABASE" in said
