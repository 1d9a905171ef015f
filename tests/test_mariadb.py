"""What only a server can show: engines side by side, empty targets, wrong accounts, refused loads."""

from __future__ import annotations

import contextlib
import hashlib
import json
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from systems import DatabaseServer, Mysql, mariadb_site
from vetrin.database.mysql.accounts import Credentials
from vetrin.database.mysql.database import MysqlDatabase

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


def everything(server: DatabaseServer, word: str) -> dict[str, object]:
    names = [row[0] for row in server.run("SHOW TABLES", database=f"{word}_site")]
    found: dict[str, object] = {}
    for name in names:
        if not name.startswith("_vetrin_"):
            rows = server.run(f"SELECT * FROM {name}", database=f"{word}_site")
            made = server.run(f"SHOW CREATE TABLE {name}", database=f"{word}_site")[0][1]
            found[name] = (sorted(map(repr, rows)), made)
    found["triggers"] = [row[:5] for row in server.run("SHOW TRIGGERS", database=f"{word}_site")]
    found["routines"] = server.run(
        "SELECT routine_type, routine_name, routine_definition, sql_mode FROM information_schema.routines"
        f" WHERE routine_schema = '{word}_site' ORDER BY routine_name"
    )
    return found


@pytest.fixture
def folder(tmp_path: Path, database_server: DatabaseServer) -> Path:
    mariadb_site(database_server, tmp_path, "live", [*TABLES, *ROWS])
    mariadb_site(database_server, tmp_path, "copy", [])
    return tmp_path


def test_a_pull_into_an_empty_database_and_back(
    folder: Path, database_server: DatabaseServer
) -> None:
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


OWNED = "CREATE DEFINER = 'shell'@'%'"
LABEL = (
    f"{OWNED} FUNCTION wp_label(n INT) RETURNS VARCHAR(20) DETERMINISTIC RETURN CONCAT('No. ', n)"
)
TIDY = f"{OWNED} PROCEDURE tidy() BEGIN DELETE FROM wp_keyless WHERE t = ';;'; /* gone */ END -- tidied"
LABELS = "CREATE VIEW wp_labels AS SELECT wp_label(id) AS label FROM wp_parent"


def routines(server: DatabaseServer, word: str = "copy") -> dict[str, str]:
    return {row[1]: row[2] for row in everything(server, word)["routines"]}  # type: ignore[attr-defined]


def test_stored_routines_come_along_and_go_back(
    folder: Path, database_server: DatabaseServer, mysql_server: Mysql
) -> None:
    """Those of the site; of two sites in one database none gets the other's."""
    own = "uca1400" if database_server.product == "MariaDB" else "0900"
    label = LABEL.replace("(20)", f"(20) CHARSET utf8mb4 COLLATE utf8mb4_{own}_ai_ci")
    database_server.run(
        "SET sql_mode = 'ANSI_QUOTES,PIPES_AS_CONCAT'", label, TIDY, LABELS,
        "CREATE TABLE wp_users (ID INT PRIMARY KEY)",
        "CREATE TABLE wp_posts (ID INT PRIMARY KEY, post_title TEXT, post_status VARCHAR(20), post_type VARCHAR(20),"
        " post_modified_gmt DATETIME)",
        "CREATE TABLE other (id INT)", f"{OWNED} PROCEDURE others() SELECT * FROM other",
        "CREATE PROCEDURE root_only() SELECT 1", database="live_site",
    )  # fmt: skip
    database_server.run(
        f"{OWNED} PROCEDURE tidy() SELECT 'as it was'", f"{OWNED} FUNCTION mine() RETURNS INT RETURN 1",
        database="copy_site",
    )  # fmt: skip
    database_server.hide_routines("live_site", "shell")
    before = everything(database_server, "copy")
    plan = vetrin(folder, "pull", "--dry-run")
    assert plan["routines"] == ["tidy", "wp_label"]
    assert "not shown, and that do not come: root_only" in " ".join(plan["risks"])
    vetrin(folder, "pull", "--yes")
    after = everything(database_server, "copy")
    assert set(routines(database_server)) == {"mine", "tidy", "wp_label"}
    assert "gone" in routines(database_server)["tidy"]
    assert database_server.run("SELECT label FROM wp_labels", database="copy_site")[0] == ("No. 1",)
    assert "ANSI_QUOTES" in after["routines"][2][3]  # type: ignore[index]
    vetrin(folder, "undo", "local", "--yes")
    assert everything(database_server, "copy") == before
    vetrin(folder, "undo", "local", "--yes")
    assert everything(database_server, "copy") == after
    # A part of the site brings only what speaks of it.
    assert vetrin(folder, "pull", "--dry-run", "--only-tables", "parent")["routines"] == []
    assert vetrin(folder, "pull", "--dry-run", "--only-tables", "keyless")["routines"] == ["tidy"]
    # Out of a snapshot, as an SQL file, and in again as a dump.
    vetrin(folder, "backup", "production")
    dump = folder / "out.sql"
    assert "root_only" in " ".join(
        vetrin(folder, "export", "production", str(dump), "--sql-only")["notes"]
    )
    for command in (["restore", "local", "newest-of-live"], ["import", str(dump), "local"]):
        database_server.run("DROP PROCEDURE tidy", "DROP FUNCTION wp_label", database="copy_site")
        if command[0] == "restore":
            command[2] = vetrin(folder, "snapshots", "production")["snapshots"][0]["snapshot"]
        vetrin(folder, *command, "--yes")
        assert everything(database_server, "copy")["routines"] == after["routines"]
    for server in (database_server, mysql_server):
        server.create("loaded_site", "shell", "shell-word")
        subprocess.run(server.client("loaded_site"), input=dump.read_bytes(), check=True)
        assert set(routines(server, "loaded")) == {"tidy", "wp_label"}
        assert server.run("CALL tidy()", database="loaded_site") == []
        assert server.run("SELECT label FROM wp_labels", database="loaded_site")[0] == ("No. 1",)
        server.run("DROP DATABASE loaded_site")


def test_where_an_account_may_not_make_routines_they_stay_behind(
    folder: Path, database_server: DatabaseServer
) -> None:
    database_server.run(LABEL, LABELS, database="live_site")
    database_server.run("REVOKE CREATE ROUTINE ON copy_site.* FROM 'shell'@'%'")
    try:
        plan = vetrin(folder, "pull", "--dry-run")
        assert "may not make, and that do not come: wp_label" in " ".join(plan["risks"])
        assert (
            "the view wp_labels is left out, for it needs a table or routine that is"
            in plan["notes"]
        )
        vetrin(folder, "pull", "--yes")
    finally:
        database_server.run("GRANT ALL ON copy_site.* TO 'shell'@'%'")
    copy = everything(database_server, "copy")
    assert "wp_both" in copy and "wp_labels" not in copy and copy["routines"] == []


def test_a_routine_that_could_not_come_back_is_not_replaced(
    folder: Path, database_server: DatabaseServer
) -> None:
    """Its owner is another account, so that its text is not shown."""
    database_server.run(LABEL, LABELS, TIDY, database="live_site")
    database_server.run(
        "CREATE FUNCTION wp_label(n INT) RETURNS INT DETERMINISTIC RETURN n", database="copy_site"
    )
    database_server.hide_routines("copy_site", "shell")
    before = everything(database_server, "copy")
    plan = vetrin(folder, "pull", "--dry-run")
    assert plan["routines"] == ["tidy"]
    assert "under the names of wp_label" in " ".join(plan["risks"])
    vetrin(folder, "pull", "--yes")
    assert routines(database_server) == {
        "tidy": routines(database_server, "live")["tidy"],
        "wp_label": "RETURN n",
    }
    # The view is there and calls the one that stayed.
    assert database_server.run("SELECT label FROM wp_labels", database="copy_site")[0] == (1,)
    vetrin(folder, "undo", "local", "--yes")
    assert everything(database_server, "copy") == before


def test_a_view_that_is_broken_at_its_source_is_named_and_stays_behind(
    folder: Path, database_server: DatabaseServer
) -> None:
    database_server.run(
        LABEL, LABELS, "CREATE VIEW wp_numbers AS SELECT label FROM wp_labels", "DROP FUNCTION wp_label",
        database="live_site",
    )  # fmt: skip
    report = vetrin(folder, "pull", "--yes")
    said = " ".join(report["remarks"])
    assert "wp_labels" in said and "wp_numbers" in said and "could not be made" in said
    copy = everything(database_server, "copy")
    assert "wp_both" in copy and "wp_labels" not in copy
    vetrin(folder, "undo", "local", "--yes")
    vetrin(folder, "undo", "local", "--yes")
    assert everything(database_server, "copy") == copy


def test_a_rewrite_in_place_over_all_kinds_of_tables(
    folder: Path, database_server: DatabaseServer
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
    folder: Path, database_server: DatabaseServer
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
        vetrin(folder, "pull", "--yes", "--full")
    finally:
        database_server.run("SET GLOBAL local_infile = 1")
    assert everything(database_server, "copy") == loaded


def test_a_copy_made_by_the_server_waits_for_no_visitor(
    folder: Path, database_server: DatabaseServer
) -> None:
    """Nor does a visitor wait for it: rows that somebody changes and has not committed yet are read as they were."""
    found = Credentials("live_site", "shell", "shell-word", "127.0.0.1", database_server.port)
    visitor = database_server.root("live_site")
    with contextlib.closing(MysqlDatabase(found)) as database, contextlib.closing(visitor):
        table = next(table for table in database.tables() if table.name == "wp_parent")
        database.lay_out("_vetrin_arriving_c_0", table, database.schema("wp_parent"))
        visitor.begin()
        with visitor.cursor() as cursor:
            cursor.execute("SET lock_wait_timeout = 2, innodb_lock_wait_timeout = 2")
            cursor.execute("UPDATE wp_parent SET t = 'not yet' WHERE id = 1")
        assert database.take_over("_vetrin_arriving_c_0", "wp_parent", ["id", "t"]) == 2
        visitor.rollback()
        assert database.select("_vetrin_arriving_c_0", ["t"], where={"id": 1}) == [(f"{OLD}/p",)]
        database.drop(["_vetrin_arriving_c_0"])


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


def test_an_export_table_by_table_loads_as_its_page_says(
    folder: Path, database_server: DatabaseServer
) -> None:
    server = database_server
    values = ", ".join(f"({number}, '{OLD}/{'x' * (number % 900)}')" for number in range(3, 3000))
    server.run(LABEL, LABELS, f"INSERT INTO wp_parent VALUES {values}", database="live_site")
    said = vetrin(
        folder, "export", "production", str(folder / "out.tar.gz"), "--sql-per-table", "--for", "local",
        "--statement", "20kB", "--parts", "data",
    )  # fmt: skip
    assert said["rewriting"]["replaced"] >= 3003
    handed = folder / "handed"
    handed.mkdir()
    subprocess.run(["tar", "-xzf", str(folder / "out.tar.gz"), "-C", str(handed)], check=True)
    names = sorted(path.stem for path in (handed / "data/tables").iterdir())
    assert names == ["wp_child", "wp_isam", "wp_keyless", "wp_options", "wp_parent"]
    inserts = (handed / "data/tables/wp_parent.sql").read_bytes().split(b"INSERT INTO")[1:]
    assert len(inserts) > 50 and max(map(len, inserts)) < 21_000
    (line,) = [
        line.strip() for line in (handed / "README.txt").read_text().splitlines() if "cat " in line
    ]
    server.create("loaded_site", "shell", "shell-word")
    mine = shlex.join(server.client("loaded_site"))
    subprocess.run(
        line.replace("mariadb --user=USER --password DATABASE", mine), shell=True, check=True, cwd=handed
    )  # fmt: skip
    vetrin(folder, "pull", "--yes", "--leave-nothing")
    loaded, pulled = everything(server, "loaded"), everything(server, "copy")
    # Who brings a view owns it: the client was root.
    root, shell = "`root`@`localhost`", "`shell`@`%`"
    # The mode that newer servers refuse is left out; it says nothing about routines and triggers.
    assert repr(loaded).replace(root, "") == repr(pulled).replace(shell, "").replace(
        "NO_AUTO_CREATE_USER,", ""
    )
    assert server.run("SELECT COUNT(*) FROM wp_labels", database="loaded_site") == [(2999,)]
    listed = json.loads((handed / "packing-list.json").read_text())
    for path, digest in listed["sha256"].items():
        assert hashlib.sha256((handed / path).read_bytes()).hexdigest() == digest
    server.run("DROP DATABASE loaded_site")


def test_two_sites_in_one_database_have_their_own_routines(
    folder: Path, database_server: DatabaseServer
) -> None:
    """Those that bear the prefix get the other one, wherever they are called; others are shared already."""
    database_server.run(
        LABEL, LABELS, TIDY, f"{OWNED} PROCEDURE wp_sweep() SELECT wp_label(id) FROM wp_parent",
        "CREATE TABLE try_options LIKE wp_options", "INSERT INTO try_options VALUES (1, 'home', 'https://try.test')",
        database="live_site",
    )  # fmt: skip
    configuration = (folder / "live/wp-config.php").read_text()
    shutil.copytree(folder / "live", folder / "try")
    (folder / "try/wp-config.php").write_text(configuration.replace("'wp_'", "'try_'"))
    with (folder / "vetrin.toml").open("a") as file:
        file.write('[environment.try]\naddress = "https://try.test"\nroot = "try"\n')
    before = everything(database_server, "live")
    plan = vetrin(folder, "pull", "production", "--to", "try", "--dry-run")
    assert plan["routines"] == ["wp_label", "wp_sweep"]
    vetrin(folder, "pull", "production", "--to", "try", "--yes")
    found = routines(database_server, "live")
    assert set(found) == {"tidy", "try_label", "try_sweep", "wp_label", "wp_sweep"}
    assert found["try_sweep"] == "SELECT `try_label`(id) FROM `try_parent`"
    database_server.run("DROP FUNCTION wp_label", database="live_site")
    assert database_server.run("SELECT label FROM try_labels", database="live_site")[0] == (
        "No. 1",
    )
    database_server.run(LABEL, database="live_site")
    vetrin(folder, "undo", "try", "--yes")
    assert everything(database_server, "live") == before
