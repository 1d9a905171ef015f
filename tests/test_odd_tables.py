"""Tables and what hangs on them that are not what most sites have: on a real server, from one database to another."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

from connected import hosts
from systems import Mariadb, mariadb_site, program
from vetrin.config import Leave, load_project
from vetrin.database.sql_names import databases_in, without_qualifier
from vetrin.database.table_digest import table_digest
from vetrin.jobs import Choices, Journals, Plan, RunContext, build_plan, run_plan, undo
from vetrin.jobs.export_site import Packing, export
from vetrin.jobs.transfer import Report
from vetrin.site import open_site

OPTIONS = "CREATE TABLE wp_options (option_id INT AUTO_INCREMENT PRIMARY KEY, option_name VARCHAR(99) UNIQUE, option_value TEXT)"


class Pair:
    """Two sites on one server, ``live`` and ``copy``."""

    def __init__(self, folder: Path, server: Mariadb, *statements: str) -> None:
        self.folder, self.server = folder, server
        for word, more in (("live", statements), ("copy", ())):
            home = f"INSERT INTO wp_options VALUES (1, 'home', 'https://{word}.test')"
            mariadb_site(server, folder, word, [OPTIONS, home, *more])

    def pull(self, choices: Choices | None = None) -> tuple[Plan, Report]:
        project = load_project(self.folder)
        with (
            open_site(hosts, project, project.environment("production")) as source,
            open_site(hosts, project, project.environment("local"), read_only=False) as target,
        ):
            plan = build_plan(source, target, ("data",), (), choices)
            return plan, run_plan(plan, RunContext(source, target, Journals(project.state)))

    def undo(self) -> None:
        project = load_project(self.folder)
        with open_site(hosts, project, project.environment("local"), read_only=False) as target:
            undo(target, Journals(project.state))

    def ask(self, sql: str, database: str = "copy_site") -> list[tuple]:
        return self.server.run(sql, database=database)


def test_a_default_draws_from_the_copy_s_own_sequence(
    tmp_path: Path, mariadb_server: Mariadb
) -> None:
    pair = Pair(
        tmp_path, mariadb_server,
        "CREATE SEQUENCE wp_numbers START WITH 100 INCREMENT BY 5",
        "CREATE SEQUENCE wp_tickets START WITH 9",
        "CREATE TABLE wp_bookings (id BIGINT PRIMARY KEY DEFAULT NEXTVAL(wp_numbers), who TEXT)",
        "CREATE TABLE wp_seats (id BIGINT PRIMARY KEY, label VARCHAR(30) DEFAULT CONCAT('T-', NEXTVAL(wp_tickets)))",
        "INSERT INTO wp_bookings (who) VALUES ('Tamsin'), ('Jory')",
        "INSERT INTO wp_seats (id) VALUES (1)",
    )  # fmt: skip
    ((before,),) = pair.ask("SELECT next_not_cached_value FROM wp_numbers", "live_site")
    pair.pull()
    ((text,),) = [(row[1],) for row in pair.ask("SHOW CREATE TABLE wp_bookings")]
    assert "live_site" not in text and "nextval(`copy_site`.`wp_numbers`)" in text
    pair.ask("INSERT INTO wp_bookings (who) VALUES ('Morwenna')")
    pair.ask("INSERT INTO wp_seats (id) VALUES (2)")
    ((new,),) = pair.ask("SELECT id FROM wp_bookings WHERE who = 'Morwenna'")
    assert new == before
    assert pair.ask("SELECT label FROM wp_seats WHERE id = 2")[0][0].startswith("T-1")
    # The source's own goes on from where it was, whatever is done to the copy.
    assert pair.ask("SELECT next_not_cached_value FROM wp_numbers", "live_site") == [(before,)]
    pair.undo()
    assert pair.ask("SHOW TABLES LIKE 'wp_bookings'") == []
    pair.undo()
    pair.ask("INSERT INTO wp_bookings (who) VALUES ('Piran')")


def test_addresses_and_identifiers_of_their_own_types(
    tmp_path: Path, mariadb_server: Mariadb
) -> None:
    pair = Pair(
        tmp_path, mariadb_server,
        "CREATE TABLE wp_visits (id UUID PRIMARY KEY, seen INET6, old INET4, more UUID)",
        "INSERT INTO wp_visits VALUES ('7760611b-eac2-11f1-a7a7-02fc00000001', '2001:db8::7', '10.0.0.9', NULL),"
        " (UUID(), '::ffff:10.0.0.1', NULL, UUID())",
    )  # fmt: skip
    pair.pull()
    wanted = pair.ask("SELECT * FROM wp_visits ORDER BY id", "live_site")
    assert len(wanted) == 2 and pair.ask("SELECT * FROM wp_visits ORDER BY id") == wanted


def test_warnings_that_change_no_value_are_no_reason_to_stop(
    tmp_path: Path, mariadb_server: Mariadb
) -> None:
    pair = Pair(
        tmp_path, mariadb_server,
        "CREATE TABLE wp_fares (id INT PRIMARY KEY, fare VARCHAR(20), pence INT AS (CAST(fare AS SIGNED)) STORED)",
        "SET sql_mode = ''",
        "INSERT INTO wp_fares (id, fare) VALUES (1, '12 shillings'), (2, 'none'), (3, '7')",
    )  # fmt: skip
    pair.pull()
    assert pair.ask("SELECT id, fare, pence FROM wp_fares ORDER BY id") == [
        (1, "12 shillings", 12), (2, "none", 0), (3, "7", 7),
    ]  # fmt: skip


def test_one_broken_object_is_named_and_stays_behind(
    tmp_path: Path, mariadb_server: Mariadb
) -> None:
    pair = Pair(
        tmp_path, mariadb_server,
        "CREATE TABLE wp_one (a INT) ENGINE=MyISAM", "CREATE TABLE wp_two (a INT) ENGINE=MyISAM",
        "CREATE TABLE wp_both (a INT) ENGINE=MERGE UNION=(wp_one, wp_two)", "DROP TABLE wp_two",
        "CREATE TABLE wp_log (line TEXT)",
        "CREATE TABLE wp_stops (id INT PRIMARY KEY, name TEXT, gone TEXT)",
        "CREATE TRIGGER wp_broken BEFORE INSERT ON wp_stops FOR EACH ROW SET NEW.gone = 'x'",
        "CREATE TRIGGER wp_whole BEFORE UPDATE ON wp_stops FOR EACH ROW SET NEW.name = TRIM(NEW.name)",
        "ALTER TABLE wp_stops DROP COLUMN gone",
        "INSERT INTO wp_log VALUES ('all aboard')",
    )  # fmt: skip
    plan, report = pair.pull()
    assert any(
        risk.startswith("wp_both cannot be used in production itself") for risk in plan.risks
    )
    assert any(
        "the trigger wp_broken" in remark and "could not be made" in remark
        for remark in report.remarks
    )
    triggers = pair.ask(
        "SELECT trigger_name FROM information_schema.triggers WHERE trigger_schema = 'copy_site'"
    )
    assert triggers == [("wp_whole",)]
    assert pair.ask("SELECT line FROM wp_log") == [("all aboard",)]


def test_what_speaks_of_another_database_stays_behind(
    tmp_path: Path, mariadb_server: Mariadb
) -> None:
    server = mariadb_server
    server.run("DROP DATABASE IF EXISTS beside", "CREATE DATABASE beside", "CREATE TABLE beside.log (line TEXT)",
               "GRANT ALL ON beside.* TO shell")  # fmt: skip
    pair = Pair(
        tmp_path, server,
        "CREATE TABLE wp_stops (id INT PRIMARY KEY, name TEXT)",
        "CREATE TRIGGER wp_told AFTER INSERT ON wp_stops FOR EACH ROW INSERT INTO beside.log VALUES (NEW.name)",
        "CREATE TRIGGER wp_own BEFORE INSERT ON wp_stops FOR EACH ROW SET NEW.name = (SELECT option_value FROM live_site.wp_options LIMIT 1)",
        "CREATE VIEW wp_lines AS SELECT line FROM beside.log",
        "CREATE VIEW wp_names AS SELECT s.name FROM live_site.wp_stops s",
    )  # fmt: skip
    plan, report = pair.pull()
    for what in ("the trigger wp_told", "the view wp_lines"):
        assert any(f"{what} stays behind" in risk for risk in plan.risks), plan.risks
        assert any(f"{what} stays behind" in remark for remark in report.remarks)
    pair.ask("INSERT INTO wp_stops VALUES (1, 'x')")
    assert pair.ask("SELECT name FROM wp_names") == [("https://copy.test",)]
    assert server.run("SELECT COUNT(*) FROM beside.log") == [(0,)]


def test_stored_texts_keep_the_collation_of_their_literals(
    tmp_path: Path, mariadb_server: Mariadb
) -> None:
    pair = Pair(
        tmp_path, mariadb_server,
        "CREATE TABLE wp_stops (id INT PRIMARY KEY, name TEXT)",
        "SET collation_connection = 'latin1_swedish_ci'",
        "CREATE TRIGGER wp_named BEFORE INSERT ON wp_stops FOR EACH ROW SET NEW.name = COLLATION('é')",
        "CREATE DEFINER=shell@'%' FUNCTION wp_own() RETURNS TEXT DETERMINISTIC RETURN (SELECT COLLATION('é') FROM wp_stops LIMIT 1)",
        "CREATE VIEW wp_said AS SELECT COLLATION('é') AS c FROM wp_stops",
    )  # fmt: skip
    pair.pull()
    pair.ask("INSERT INTO wp_stops VALUES (1, 'x')")
    assert pair.ask("SELECT name FROM wp_stops") == [("latin1_swedish_ci",)]
    assert pair.ask("SELECT wp_own()") == [("latin1_swedish_ci",)]
    assert pair.ask("SELECT c FROM wp_said") == [("latin1_swedish_ci",)]


@pytest.mark.parametrize(
    ("sql", "foreign", "plain"),
    [
        ("select `t`.`id` from `other`.`t`", {"other"}, None),
        ("select `t`.`id` from `own`.`t` join `s`", {"own"}, "select `t`.`id` from `t` join `s`"),
        ("INSERT INTO log.x VALUES (NEW.a)", {"log"}, None),
        ("SELECT f.g(1), t.a", {"f"}, None),
        ("nextval(`own`.`s`)", {"own"}, "nextval(`s`)"),
        ("select 'from a.b', x.y", set(), None),
        ("select `own`.`t`.`id` AS `id` from `own`.`t`", {"own"}, "select `t`.`id` AS `id` from `t`"),
        ("/* from a.b */ SET NEW.x = OLD.y", set(), None),
    ],
)  # fmt: skip
def test_databases_are_found_in_sql(sql: str, foreign: set[str], plain: str | None) -> None:
    assert databases_in(sql) == foreign
    assert without_qualifier(sql, "own", {"t", "s"}) == (plain or sql)


RAILWAY = (
    "CREATE TABLE wp_lines (id INT PRIMARY KEY, name TEXT)",
    "CREATE TABLE wp_stops (id INT PRIMARY KEY, line INT, name TEXT, CONSTRAINT on_line FOREIGN KEY (line) REFERENCES wp_lines (id) ON DELETE CASCADE)",
    "CREATE TABLE wp_trains (id INT PRIMARY KEY, stop INT, before_it INT, relief INT, CONSTRAINT calls FOREIGN KEY (stop) REFERENCES wp_stops (id),"
    " CONSTRAINT follows FOREIGN KEY (before_it) REFERENCES wp_trains (id) ON DELETE CASCADE, CONSTRAINT relieves FOREIGN KEY (relief) REFERENCES wp_trains (id) ON DELETE SET NULL)",
    "CREATE TABLE wp_guards (id INT PRIMARY KEY, train INT NOT NULL, CONSTRAINT rides FOREIGN KEY (train) REFERENCES wp_trains (id))",
    "INSERT INTO wp_lines VALUES (1, 'main'), (2, 'branch')",
    "INSERT INTO wp_stops VALUES (1, 1, 'a'), (2, 2, 'b'), (3, 2, 'c'), (4, NULL, 'd')",
    "INSERT INTO wp_trains VALUES (1, 1, NULL, NULL), (2, 2, 1, 1), (3, 3, 2, NULL), (4, NULL, 3, 3)", "UPDATE wp_trains SET relief = 4 WHERE id IN (1, 3)",
    "INSERT INTO wp_guards VALUES (1, 1), (2, 2), (3, 4)",
)  # fmt: skip


@pytest.mark.parametrize(
    ("leave", "stops", "trains"),
    [
        (Leave(where={"lines": "id = 2"}), [1, 4], [(1, 1), (2, None), (3, None), (4, None)]),
        (Leave(empty=("lines",)), [4], [(1, None), (2, None), (3, None), (4, None)]),
        (Leave(tables=("lines",)), [4], [(1, None), (2, None), (3, None), (4, None)]),
        (Leave(where={"trains": "id = 2"}), [1, 2, 3, 4], [(1, 1)]),
    ],
    ids=["where", "empty", "tables", "own"],
)  # fmt: skip
def test_declared_foreign_keys_are_links(
    tmp_path: Path, mariadb_server: Mariadb, leave: Leave, stops: list[int], trains: list[tuple]
) -> None:
    """What refers to a row that is left out goes with it, or loses the reference, as the key says."""
    pair = Pair(tmp_path, mariadb_server, *RAILWAY)
    pair.pull(Choices(leave))
    assert [row[0] for row in pair.ask("SELECT id FROM wp_stops ORDER BY id")] == stops
    assert pair.ask("SELECT id, stop FROM wp_trains ORDER BY id") == trains
    for child, column, parent in (
        ("stops", "line", "lines"),
        ("trains", "stop", "stops"),
        ("trains", "before_it", "trains"),
        ("trains", "relief", "trains"),
        ("guards", "train", "trains"),
    ):
        if parent == "lines" and leave.tables:
            continue
        orphans = f"SELECT * FROM wp_{child} WHERE {column} IS NOT NULL AND {column} NOT IN (SELECT id FROM wp_{parent})"
        assert pair.ask(orphans) == []


def test_a_table_that_comes_without_its_parents_says_so(
    tmp_path: Path, mariadb_server: Mariadb
) -> None:
    pair = Pair(tmp_path, mariadb_server, *RAILWAY)
    plan, _ = pair.pull(Choices(Leave(only=("trains",))))
    assert any("rows of wp_trains refer to rows of wp_stops" in risk for risk in plan.risks)
    assert any("the foreign key calls of wp_trains stays behind" in risk for risk in plan.risks)
    assert len(pair.ask("SELECT id FROM wp_trains")) == 4


# What a site is known by, beside its options.
CMS = (
    "CREATE TABLE wp_posts (ID INT PRIMARY KEY, post_title TEXT, post_status VARCHAR(20), post_type VARCHAR(20), post_modified_gmt DATETIME)",
    "CREATE TABLE wp_users (ID INT PRIMARY KEY, user_login VARCHAR(60))",
    "CREATE TABLE wp_usermeta (umeta_id INT PRIMARY KEY, user_id INT, meta_key VARCHAR(99), meta_value TEXT)",
    "INSERT INTO wp_usermeta VALUES (1, 1, 'wp_capabilities', 'x')",
)
ODD = (
    "CREATE TABLE wp_texts (id INT PRIMARY KEY, a VARCHAR(30) CHARACTER SET ucs2, b TEXT CHARACTER SET utf16, c VARCHAR(9) CHARACTER SET utf32,"
    " d TEXT CHARACTER SET utf16le, e VARCHAR(60) CHARACTER SET sjis, f VARCHAR(60) CHARACTER SET big5, g TEXT CHARACTER SET gbk,"
    " h TEXT CHARACTER SET cp932, i TEXT CHARACTER SET eucjpms, j TEXT CHARACTER SET euckr, k TEXT CHARACTER SET cp1251, l TEXT CHARACTER SET latin1)",
    "INSERT INTO wp_texts VALUES (1, 'AB', 'plain \\\\ ~', 'xy', 'le', '日本語ソ', '中文', '中文 \\\\', '①㈱髙', '①㈱', '한글', 'Привет', 'é€')",
    "INSERT INTO wp_texts (id, a, e, h) VALUES (2, '', '', '~\\\\'), (3, NULL, _sjis 0x5C7E, _cp932 0x8160817C)",
    "CREATE TABLE wp_choices (id INT PRIMARY KEY, a ENUM('a','b\\0c','1','é'), b SET('x','y\\nz','日本') CHARACTER SET ujis)",
    "INSERT INTO wp_choices VALUES (1, 2, 3), (2, 3, 4), (3, 4, 7), (4, NULL, 0)",
    "CREATE TABLE wp_worked_out (id INT PRIMARY KEY, a INT DEFAULT ((1 + 2) * 3), b DATETIME DEFAULT (CURRENT_TIMESTAMP() + INTERVAL 1 DAY),"
    " c VARCHAR(20) DEFAULT (CONCAT('a)', \"b'c\")), d INT DEFAULT (id + 1), e VARCHAR(9) DEFAULT (CASE WHEN 1 THEN 'x' ELSE 'y' END))",
    "CREATE SEQUENCE wp_numbers START WITH 7", "CREATE TABLE wp_drawn (id INT PRIMARY KEY DEFAULT NEXTVAL(wp_numbers), a TEXT)",
    "INSERT INTO wp_drawn (a) VALUES ('one')",
    "CREATE TABLE wp_gone (a INT)", "CREATE VIEW wp_broken AS SELECT a FROM wp_gone", "DROP TABLE wp_gone",
    "CREATE VIEW wp_whole AS SELECT id FROM live_site.wp_texts",
    *CMS,
)  # fmt: skip


def digests(folder: Path, name: str) -> dict[str, str]:
    project = load_project(folder)
    with (
        open_site(hosts, project, project.environment(name)) as site,
        site.database.reading() as reader,
    ):
        return {table.name: table_digest(reader, table) for table in site.tables}


@pytest.mark.parametrize("prefix", [None, "hl_"])
def test_an_export_of_odd_tables_loads_as_it_was(
    tmp_path: Path, mariadb_server: Mariadb, prefix: str | None
) -> None:
    """Loaded by the server's own client, and taken in again by an import."""
    pair = Pair(tmp_path, mariadb_server, *ODD)
    project = load_project(tmp_path)
    with open_site(hosts, project, project.environment("production")) as site:
        packing = Packing(parts=("data",), sql_only=True, prefix=prefix)
        packed = export(site, tmp_path / "out.sql", packing)
    text = (tmp_path / "out.sql").read_bytes()
    assert any("the view wp_broken is broken in production itself" in note for note in packed.notes)
    new = prefix or "wp_"
    mariadb_server.run("DROP DATABASE IF EXISTS odd_loaded", "CREATE DATABASE odd_loaded")
    done = subprocess.run(
        [program("mariadb"), "-uroot", f"--socket={mariadb_server.socket}", "odd_loaded"], input=text, capture_output=True,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    for table in ("texts", "choices", "worked_out", "drawn"):
        columns = [row[0] for row in pair.ask(f"SHOW COLUMNS FROM wp_{table}", "live_site")]
        wanted = f"SELECT {', '.join(f'HEX({c}), {c}' for c in columns)} FROM "
        assert pair.ask(wanted + f"{new}{table} ORDER BY id", "odd_loaded") == pair.ask(
            wanted + f"wp_{table} ORDER BY id", "live_site"
        ), table
        assert pair.ask(f"SHOW CREATE TABLE {new}{table}", "odd_loaded")[0][1].replace("`odd_loaded`", "`live_site`").replace(new, "wp_") == \
            pair.ask(f"SHOW CREATE TABLE wp_{table}", "live_site")[0][1]  # fmt: skip
    assert pair.ask(f"SELECT meta_key FROM {new}usermeta", "odd_loaded") == [
        (f"{new}capabilities",)
    ]
    assert len(pair.ask(f"SELECT * FROM {new}whole", "odd_loaded")) == 3
    if prefix:
        return
    before = digests(tmp_path, "production")
    done = subprocess.run(
        [sys.executable, "-m", "vetrin", "import", "out.sql", "local", "--yes", "--address", "https://copy.test"],
        cwd=tmp_path, capture_output=True, text=True,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr
    after = digests(tmp_path, "local")
    assert {k: v for k, v in after.items() if k != "wp_options"} == {
        k: v for k, v in before.items() if k != "wp_options"
    }


@pytest.mark.parametrize("packed", ["dump program", "export"])
def test_sequences_come_out_of_dumps(tmp_path: Path, mariadb_server: Mariadb, packed: str) -> None:
    """Those that defaults draw from, and those that nobody in the database draws from; undone like all else."""
    pair = Pair(
        tmp_path, mariadb_server, *CMS,
        "CREATE SEQUENCE wp_numbers START WITH 7", "SELECT NEXTVAL(wp_numbers)",
        "CREATE SEQUENCE wp_lone START WITH 70 INCREMENT BY 5", "SELECT SETVAL(wp_lone, 90)",
        "CREATE TABLE wp_drawn (id INT PRIMARY KEY DEFAULT NEXTVAL(wp_numbers), a TEXT)",
        "INSERT INTO wp_drawn (a) VALUES ('one')",
    )  # fmt: skip
    mariadb_server.run("CREATE SEQUENCE wp_lone START WITH 3", database="copy_site")
    if packed == "export":
        project = load_project(tmp_path)
        with open_site(hosts, project, project.environment("production")) as site:
            export(site, tmp_path / "dump.sql", Packing(parts=("data",), sql_only=True))
    else:
        made = subprocess.run(
            mariadb_server.dump_program("live_site"), capture_output=True, check=True
        )
        (tmp_path / "dump.sql").write_bytes(made.stdout)
    given = [
        pair.ask(f"SELECT next_not_cached_value, increment FROM wp_{name}", "live_site")
        for name in ("numbers", "lone")
    ]
    done = subprocess.run(
        [sys.executable, "-m", "vetrin", "import", "dump.sql", "local", "--yes", "--address", "https://live.test"],
        cwd=tmp_path, capture_output=True, text=True,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr
    assert given == [
        pair.ask(f"SELECT next_not_cached_value, increment FROM wp_{name}")
        for name in ("numbers", "lone")
    ]
    ((_, text),) = pair.ask("SHOW CREATE TABLE wp_drawn")
    assert "nextval(`copy_site`.`wp_numbers`)" in text
    pair.undo()
    assert pair.ask("SELECT next_not_cached_value FROM wp_lone") == [(3,)]


def test_a_lone_sequence_comes_by_a_pull(tmp_path: Path, mariadb_server: Mariadb) -> None:
    pair = Pair(tmp_path, mariadb_server, "CREATE SEQUENCE wp_lone START WITH 70 INCREMENT BY 5")
    plan, _ = pair.pull()
    assert [item.name for item in plan.routines] == ["wp_lone"]
    assert pair.ask("SELECT NEXTVAL(wp_lone)") == [(70,)]


# Python's tables of these are others than the servers', or there are none.
SETS = ("sjis", "cp932", "big5", "gbk", "gb2312", "euckr", "ujis", "eucjpms", "tis620", "geostd8", "armscii8", "dec8",
        "hp8", "swe7", "keybcs2", "macce", "greek", "hebrew", "latin7", "ucs2", "utf16le", "utf32")  # fmt: skip


@pytest.mark.parametrize("own", ["", "sjis", "big5", "gbk", "cp932"])
def test_a_dump_s_texts_in_rare_character_sets_are_the_server_s(
    tmp_path: Path, mariadb_server: Mariadb, own: str
) -> None:
    """Every letter of each set, as the dump program writes it: in UTF-8, or in the set itself."""
    sets = (own,) if own else SETS
    letters = "".join(chr(code) for code in range(32, 0xFFFE) if not 0xD800 <= code < 0xE000)
    rows = [letters[at : at + 200] for at in range(0, len(letters), 200)]
    pair = Pair(
        tmp_path, mariadb_server, *CMS,
        *(f"CREATE TABLE wp_{name} (id INT PRIMARY KEY, a VARCHAR(200) CHARACTER SET {name})" for name in sets),
        "SET sql_mode = ''",
        *(f"INSERT IGNORE INTO wp_{name} VALUES ({at}, _utf8mb4 X'{row.encode().hex()}')"
          for name in sets for at, row in enumerate(rows)),
    )  # fmt: skip
    options = [f"--default-character-set={own}"] if own else []
    dump = subprocess.run(
        mariadb_server.dump_program(*options, "live_site"), capture_output=True, check=True
    ).stdout
    (tmp_path / "dump.sql").write_bytes(dump)
    done = subprocess.run(
        [sys.executable, "-m", "vetrin", "import", "dump.sql", "local", "--yes", "--address", "https://live.test"],
        cwd=tmp_path, capture_output=True, text=True,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr
    for name in sets:
        wanted = f"SELECT id, HEX(a) FROM wp_{name} ORDER BY id"
        there, came = dict(pair.ask(wanted, "live_site")), dict(pair.ask(wanted))
        assert sum(there[key] != came[key] for key in there) == 0, name
