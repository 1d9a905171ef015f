"""Schemas and names between servers that differ: translated, or refused with the reason."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from pathlib import Path

import pytest

from systems import Mariadb, mariadb, mariadb_site
from vetrin.database import Attachment, Batch, Column, Facts, Table, Unsuitable
from vetrin.database.identifiers import rename
from vetrin.database.mysql.accounts import (
    Credentials,
    creating_statements,
    may_create,
    may_make_routines,
)
from vetrin.database.mysql.adapt import Server, adapt_attachment, adapt_schema
from vetrin.database.mysql.columns import quote
from vetrin.database.sqlite import quote as double_quote
from vetrin.reach import Keyed

CLASSIC = {
    "utf8mb4_general_ci",
    "utf8mb4_unicode_ci",
    "utf8mb4_unicode_520_ci",
    "utf8mb4_bin",
    "latin1_swedish_ci",
}
MARIADB = Server("MariaDB", "10.11.6", frozenset({*CLASSIC, "utf8mb3_general_ci", "utf8mb3_unicode_ci"}), frozenset({"innodb", "myisam", "aria"}))  # fmt: skip
MYSQL8 = Server("MySQL", "8.0.36", frozenset({*CLASSIC, "utf8mb3_general_ci", "utf8mb4_0900_ai_ci", "utf8mb4_0900_as_cs"}), frozenset({"innodb", "myisam"}))  # fmt: skip
MYSQL57 = Server(
    "MySQL", "5.7.44", frozenset({*CLASSIC, "utf8_general_ci"}), frozenset({"innodb", "myisam"})
)


def facts(product: str, version: str = "8.0.36") -> Facts:
    return Facts("mysql", product, version, "utf8mb4", None, True, "x", product)


FROM_MYSQL8 = """CREATE TABLE `wp_fares` (
  `id` bigint unsigned NOT NULL AUTO_INCREMENT,
  `name` varchar(99) COLLATE utf8mb4_0900_as_cs DEFAULT 'COLLATE utf8mb4_0900_ai_ci VISIBLE',
  `fare` int DEFAULT NULL,
  `twice` int GENERATED ALWAYS AS ((`fare` * 2)) STORED NULL,
  `hidden` int DEFAULT NULL /*!80023 INVISIBLE */,
  PRIMARY KEY (`id`),
  KEY `by_name` (`name`) /*!80000 INVISIBLE */
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_0900_ai_ci /*!80016 DEFAULT ENCRYPTION='N' */"""
FROM_MARIADB = """CREATE TABLE `wp_fares` (
  `id` int(11) NOT NULL,
  `made` datetime NOT NULL DEFAULT current_timestamp() ON UPDATE current_timestamp(),
  `exact` datetime(3) DEFAULT current_timestamp(3),
  `twice` int(11) GENERATED ALWAYS AS (`id` * 2) PERSISTENT,
  `long` text /*M!100301 COMPRESSED*/ DEFAULT NULL,
  `e` varchar(9) CHARACTER SET utf8mb3 COLLATE utf8mb3_general_ci DEFAULT 'ENGINE=Aria',
  KEY `k` (`e`) IGNORED,
  CONSTRAINT `low` CHECK (`id` < 9)
) ENGINE=Aria DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_uca1400_ai_ci PAGE_CHECKSUM=1 ROW_FORMAT=PAGE"""


def test_from_mysql_8_to_mariadb(database_server: Mariadb) -> None:
    found = adapt_schema("wp_fares", FROM_MYSQL8, facts("MySQL"), MARIADB)
    assert "DEFAULT 'COLLATE utf8mb4_0900_ai_ci VISIBLE'" in found.sql
    assert (
        "COLLATE=utf8mb4_unicode_520_ci" in found.sql
        and "`name` varchar(99) COLLATE utf8mb4_bin" in found.sql
    )
    assert "ENCRYPTION" not in found.sql and "INVISIBLE" not in found.sql.replace("VISIBLE'", "")
    assert set(found.notes) == {
        "collation utf8mb4_0900_as_cs becomes utf8mb4_bin",
        "collation utf8mb4_0900_ai_ci becomes utf8mb4_unicode_520_ci",
    }
    # A real MariaDB takes it.
    database_server.run("CREATE DATABASE IF NOT EXISTS adapt")
    database_server.run("DROP TABLE IF EXISTS wp_fares", found.sql, database="adapt")
    for broken, reason in (
        ("KEY `by_name` ((lower(`name`)))", "index over an expression"),
        ("KEY `by_name` ((cast(`name` as unsigned array)))", "index over"),
    ):
        with pytest.raises(Unsuitable, match=reason):
            adapt_schema(
                "t", FROM_MYSQL8.replace("KEY `by_name` (`name`)", broken), facts("MySQL"), MARIADB
            )


def test_from_mariadb_to_mysql() -> None:
    found = adapt_schema("wp_fares", FROM_MARIADB, facts("MariaDB"), MYSQL8)
    assert "DEFAULT CURRENT_TIMESTAMP ON UPDATE CURRENT_TIMESTAMP" in found.sql
    assert (
        "CURRENT_TIMESTAMP(3)" in found.sql
        and "STORED" in found.sql
        and "`long` text DEFAULT NULL" in found.sql
    )
    assert "ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_0900_ai_ci" in found.sql
    for gone in ("PAGE_CHECKSUM", "ROW_FORMAT", "IGNORED", "current_timestamp"):
        assert gone not in found.sql
    assert "DEFAULT 'ENGINE=Aria'" in found.sql
    assert {note.split()[0] for note in found.notes} == {
        "compressed", "collation", "storage", "row", "CHECK",
    }  # fmt: skip
    assert "  CHECK (`id` < 9)" in found.sql
    old = adapt_schema("wp_fares", FROM_MARIADB, facts("MariaDB"), MYSQL57)
    assert "CHARACTER SET utf8 COLLATE utf8_general_ci" in old.sql
    for column, reason in (("`x` uuid NOT NULL", "type uuid"), ("`x` inet6", "type inet6")):
        with pytest.raises(Unsuitable, match=reason):
            adapt_schema(
                "t", FROM_MARIADB.replace("`id` int(11) NOT NULL", column), facts("MariaDB"), MYSQL8
            )
    with pytest.raises(Unsuitable, match="system-versioned"):
        adapt_schema("t", FROM_MARIADB + " WITH SYSTEM VERSIONING", facts("MariaDB"), MYSQL8)
    with pytest.raises(Unsuitable, match="no counterpart"):
        adapt_schema(
            "t", FROM_MARIADB.replace("utf8mb4_uca", "koi8r_uca"), facts("MariaDB"), MYSQL8
        )


def test_between_servers_of_one_kind_nothing_changes() -> None:
    schema = FROM_MARIADB.replace("utf8mb4_uca1400_ai_ci", "utf8mb4_general_ci").replace(
        " ROW_FORMAT=PAGE", ""
    )
    assert adapt_schema("wp_fares", schema, facts("MariaDB"), MARIADB).sql == schema


def test_triggers_lose_modes_that_a_server_does_not_know() -> None:
    item = Attachment(
        "trigger", "t", "w", "CREATE TRIGGER …", "STRICT_TRANS_TABLES,NO_AUTO_CREATE_USER"
    )
    assert adapt_attachment(item, facts("MariaDB"), MYSQL8).mode == "STRICT_TRANS_TABLES"
    assert adapt_attachment(item, facts("MySQL"), MARIADB).mode == item.mode


@pytest.mark.parametrize(
    ("sql", "expected"),
    [
        ("SELECT `wp_a`.`wp_a` FROM `wp_a` -- wp_a", "SELECT `s_a`.`wp_a` FROM `s_a` -- wp_a"),
        ("UPDATE wp_a SET x = 'wp_a', y = \"wp_a\"", "UPDATE `s_a` SET x = 'wp_a', y = \"wp_a\""),
        ("INSERT INTO live.wp_a SELECT other.wp_a.x FROM other . wp_a", "INSERT INTO `copy`.`s_a` SELECT other.wp_a.x FROM other . wp_a"),
        ("wp_ab wp_a2 xwp_a $wp_a /* wp_a */ 'it''s \\' wp_a'", "wp_ab wp_a2 xwp_a $wp_a /* wp_a */ 'it''s \\' wp_a'"),
        ("NEW.wp_a := `odd ``name`", "NEW.wp_a := `fine`"),
    ],
)  # fmt: skip
def test_only_whole_names_of_tables_are_renamed(sql: str, expected: str) -> None:
    names = {"wp_a": "s_a", "odd `name": "fine"}
    assert rename(sql, names, quote, ("live", "copy")) == expected
    assert rename(sql, {}, quote) == sql


def test_sqlite_quotes_names_in_four_ways() -> None:
    sql = "SELECT * FROM \"a\", [a], `a`, a, 'a', ab"
    assert rename(sql, {"a": "b"}, double_quote) == 'SELECT * FROM "b", "b", "b", "b", \'a\', ab'


def test_a_server_that_does_not_tell_a_from_capital_a(
    tmp_path: Path, database_server: Mariadb
) -> None:
    with mariadb(
        Path(tempfile.mkdtemp(prefix="vt-", dir="/tmp")),
        "--lower-case-table-names=1",
        "--local-infile=0",
        "--max-allowed-packet=1M",
    ) as folding:
        mariadb_site(
            database_server, tmp_path, "live",
            ["CREATE TABLE wp_options (option_id INT PRIMARY KEY, option_name VARCHAR(64), option_value TEXT)",
             "CREATE TABLE wp_stops (ID INT PRIMARY KEY)",
             "CREATE TABLE wp_Bookings (id INT PRIMARY KEY, p INT, CONSTRAINT f FOREIGN KEY (p) REFERENCES wp_stops (ID))",
             "INSERT INTO wp_stops VALUES (1)", "INSERT INTO wp_Bookings VALUES (5, 1)",
             "CREATE VIEW wp_Both AS SELECT b.id FROM wp_Bookings b JOIN wp_stops p ON p.ID = b.p"],
        )  # fmt: skip
        mariadb_site(folding, tmp_path, "copy", [])

        def pull(*arguments: str, yes: str = "--yes", code: int = 0) -> dict:
            done = subprocess.run(
                [sys.executable, "-m", "vetrin", "pull", *arguments, yes, "--json"],
                cwd=tmp_path, capture_output=True, text=True,
            )  # fmt: skip
            assert done.returncode == code, done.stdout + done.stderr
            return json.loads(done.stdout)

        pull()
        assert folding.run("SELECT * FROM wp_both", database="copy_site") == [(5,)]
        assert ("wp_bookings",) in folding.run("SHOW TABLES", database="copy_site")
        path = tmp_path / "vetrin.toml"
        text = path.read_text()
        path.write_text(text.replace('root = "live"', 'root = "live"\naccess = "read-write"'))
        database_server.run(
            "CREATE TABLE wp_pictures (id INT PRIMARY KEY, data LONGBLOB)",
            "INSERT INTO wp_pictures VALUES (1, REPEAT('x', 1500000))", database="live_site",
        )  # fmt: skip
        assert "wp_pictures.data holds a value of 1,500,000 bytes" in pull(code=5)["error"]
        database_server.run("DROP TABLE wp_pictures", database="live_site")
        # The mark of a copy never stays in production, however it came there.
        mark = tmp_path / "live/wp-content/mu-plugins/vetrin-copy.php"
        mark.parent.mkdir(parents=True)
        mark.write_text("<?php // a copy")
        # And back: the names of the side that tells them apart are found again.
        pull("local", "--to", "production", yes="--yes=production")
        assert not mark.exists()
        assert ("wp_Bookings",) in database_server.run("SHOW TABLES", database="live_site")
        database_server.run("CREATE TABLE wp_bookings (id INT)", database="live_site")
        assert (
            "wp_bookings are two tables" in pull(code=5)["error"]
            or "two tables" in pull(code=5)["error"]
        )


@pytest.mark.parametrize(
    ("old", "new", "value", "wanted"),
    [
        ("wp_", "stg_", "wp_capabilities", "stg_capabilities"),
        ("wp_", "stg_", "wp_12_capabilities", "stg_12_capabilities"),
        ("wp_", "stg_", "wp_12_capabilities_of_mine", "wp_12_capabilities_of_mine"),
        ("wp_", "stg_", "xwp_capabilities", "xwp_capabilities"),
        ("wp_", "", "wp_capabilities", "capabilities"),
        ("", "stg_", "capabilities", "stg_capabilities"),
        ("", "stg_", "my_capabilities", "my_capabilities"),
    ],
)
def test_keys_that_the_cms_derives_from_the_prefix(
    old: str, new: str, value: str, wanted: str
) -> None:
    keyed = Keyed(old, new, {"usermeta.meta_key": ("capabilities", "user-settings")})
    columns = tuple(Column(name, "text", True) for name in ("umeta_id", "meta_key"))
    table = Table(f"{old}usermeta", columns, ("umeta_id",), frozenset(), 1, 1)
    cells = [b"1", value.encode(), b"2", None]
    (batch,) = keyed.through(table, [Batch(2, cells, 9)])
    assert batch.cells == [b"1", wanted.encode(), b"2", None]
    assert keyed.changed.total() == (wanted != value)
    assert bool(keyed.left) == (wanted == value and bool(old) and value.startswith(old))


@pytest.mark.parametrize(
    ("grants", "may"),
    [
        (["GRANT ALL PRIVILEGES ON *.* TO `root`@`localhost` WITH GRANT OPTION"], True),
        (
            [
                "GRANT USAGE ON *.* TO `guard`@`%`",
                r"GRANT ALL PRIVILEGES ON `rail\_way`.* TO `guard`@`%`",
            ],
            True,
        ),
        (
            [
                "GRANT USAGE ON *.* TO `guard`@`%`",
                "GRANT SELECT, CREATE ON `rail%`.* TO `guard`@`%`",
            ],
            True,
        ),
        ([r"GRANT ALL PRIVILEGES ON `railXway`.* TO `guard`@`%`"], False),
        ([r"GRANT ALL PRIVILEGES ON `rail\_way\_two`.* TO `guard`@`%`"], False),
        (["GRANT SELECT, CREATE VIEW, CREATE ROUTINE ON *.* TO `guard`@`%`"], False),
        (["GRANT USAGE ON *.* TO `guard`@`%` IDENTIFIED BY PASSWORD '*ABC'"], False),
        ([], False),
    ],
)
def test_who_may_make_a_database(grants: list[str], may: bool) -> None:
    assert may_create(grants, "rail_way") is may


@pytest.mark.parametrize(
    ("rights", "may"),
    [
        ("ALL PRIVILEGES", True), ("SELECT, CREATE ROUTINE, ALTER ROUTINE, EVENT", True),
        ("SELECT, ALTER ROUTINE, CREATE, CREATE ROUTINE", True), ("SELECT, CREATE ROUTINE", False),
        ("SELECT, CREATE, ALTER, ALTER ROUTINE", False),
    ],
)  # fmt: skip
def test_who_may_make_stored_routines(rights: str, may: bool) -> None:
    grants = [
        "GRANT USAGE ON *.* TO `guard`@`%`",
        f"GRANT {rights} ON `rail\\_way`.* TO `guard`@`%`",
    ]
    assert may_make_routines(grants, "rail_way") is may
    assert not may_make_routines(grants, "railXway")


def test_the_statements_that_make_a_database() -> None:
    by_socket = Credentials("rail_way", "it's", "x", socket="/run/x.sock")
    assert creating_statements(by_socket, "p'a\\s") == [
        "CREATE DATABASE IF NOT EXISTS `rail_way` CHARACTER SET utf8mb4",
        "CREATE USER IF NOT EXISTS 'it''s'@'localhost' IDENTIFIED BY 'p''a\\\\s'",
        "GRANT ALL PRIVILEGES ON `rail\\_way`.* TO 'it''s'@'localhost'",
    ]
    assert "@'%'" in creating_statements(Credentials("a", "b", host="db.harrowmere.test"), "x")[1]
