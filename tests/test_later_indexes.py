"""Indexes that come once the rows are there: the table is as if it had had them from the beginning."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from killing import killed_after
from line import railway_line
from systems import DatabaseServer, Mariadb
from vetrin.database import Table
from vetrin.database.mysql.connect import Credentials
from vetrin.database.mysql.database import MysqlDatabase
from vetrin.database.mysql.later_indexes import LaterIndexes, without_indexes
from vetrin.errors import DatabaseError

ENTRIES = """CREATE TABLE `entries` (
  `id` bigint(20) unsigned NOT NULL AUTO_INCREMENT,
  `train` int(11) DEFAULT NULL COMMENT 'KEY `a` (`b`),',
  `title` varchar(200) NOT NULL,
  PRIMARY KEY (`id`),
  UNIQUE KEY `title` (`title`),
  KEY `train` (`train`,`title`(20)),
  KEY `odd``name, (x)` (`train`) COMMENT 'of, %s trains'
) ENGINE=InnoDB AUTO_INCREMENT=9 DEFAULT CHARSET=utf8mb4"""


def test_what_only_serves_to_find_rows_can_come_later() -> None:
    schema, indexes = without_indexes(ENTRIES)
    assert [line.split("`")[1] for line in indexes] == ["train", "odd"]
    assert schema == ENTRIES.replace(
        ",\n" + ",\n".join(indexes), ""
    ) and schema.endswith("(`title`)\n) ENGINE=InnoDB AUTO_INCREMENT=9 DEFAULT CHARSET=utf8mb4")  # fmt: skip


@pytest.mark.parametrize(
    ("old", "new"),
    [
        ("PRIMARY KEY (`id`)", "PRIMARY KEY (`title`)"),  # the number needs another index
        ("  PRIMARY KEY (`id`),\n", ""),
        ("UNIQUE KEY `title`", "FULLTEXT KEY `title`"),
        ("UNIQUE KEY `title`", "CONSTRAINT `title`"),
        ("DEFAULT NULL COMMENT", "GENERATED ALWAYS AS (`id`) VIRTUAL COMMENT"),
        ("InnoDB", "MyISAM"),
    ],
)
def test_where_that_is_not_sure_all_is_there_from_the_beginning(old: str, new: str) -> None:
    schema = ENTRIES.replace(old, new, 1)
    assert schema != ENTRIES and without_indexes(schema) == (schema, [])


@pytest.fixture(params=["mariadb", "mysql"])
def server(request: pytest.FixtureRequest) -> Iterator[DatabaseServer]:
    server = request.getfixturevalue(f"{request.param}_server")
    server.run("DROP DATABASE IF EXISTS later")
    server.create("later", "later", "secret")
    server.run(ENTRIES, *FILLING, database="later")
    yield server
    server.run("DROP DATABASE later")


FILLING = [
    "INSERT INTO entries (train, title) VALUES " + ", ".join(f"({n % 7}, 'Train {n}')" for n in range(500)),
]  # fmt: skip


@pytest.mark.parametrize("between", ["nothing", "another process", "half of them there"])
def test_the_table_is_as_if_it_had_had_them(server: DatabaseServer, between: str) -> None:
    def opened() -> MysqlDatabase:
        return MysqlDatabase(Credentials("later", "later", "secret", "127.0.0.1", server.port))

    database = opened()
    (table,) = database.tables()
    schema = database.schema("entries")
    database.lay_out("_vetrin_a", table, schema)
    database.lay_out("_vetrin_b", table, schema, indexes_later=True)
    assert "`train` (" not in database.definitions(["_vetrin_b"])["_vetrin_b"]
    with database.reading() as reader:
        database.fill("_vetrin_b", table, reader.rows(table), warned=print)
    if between != "nothing":
        database.close()
        database = opened()
    if between == "half of them there":
        server.run("ALTER TABLE _vetrin_b ADD KEY train (train, title(20))", database="later")
    database.finish("_vetrin_b", database, table, "" if between == "nothing" else schema)
    database.indexed()
    found = database.definitions(["_vetrin_a", "_vetrin_b"])
    assert found["_vetrin_b"].replace("_vetrin_b", "_vetrin_a") == found["_vetrin_a"]
    # What went on at the server behind the back of whoever makes them.
    again = LaterIndexes(lambda: database._connect("utf8mb4"))
    again.lacks("_vetrin_b", without_indexes(schema)[1])
    again.begin("_vetrin_b")
    again.wait()
    again.close()
    assert database.definitions(["_vetrin_b"])["_vetrin_b"] == found["_vetrin_b"]
    database.close()


def test_a_pull_killed_anywhere_brings_them_when_it_goes_on(
    mariadb_server: Mariadb, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, every: int
) -> None:
    monkeypatch.setattr("vetrin.jobs.table_copy.INDEXES_LATER", -1)
    monkeypatch.setattr("vetrin.jobs.baseline.SWEPT", 1 << 30)
    line = railway_line("mariadb", tmp_path, mariadb_server)
    line.sides["production"](
        "ALTER TABLE x_trains ADD KEY seats (seats), ADD KEY log (log(30))",
        "ALTER TABLE x_names ADD KEY n (n)",
    )
    line.pull()
    whole = line.digests()
    line.take_back()
    old = line.digests()
    methods = ["lay_out", "fill", "finish", "indexed", "swap"]
    steps = 0
    while killed_after(steps, line.pull, engine=MysqlDatabase, methods=methods):
        now = line.digests()
        assert now in (old, whole), steps
        if now == old:
            line.pull()
        assert line.digests() == whole, steps
        line.take_back()
        assert line.digests() == old, steps
        steps += every or 5
    assert steps > 60


def test_tables_that_get_indexes_later_come_first(
    mariadb_server: Mariadb, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("vetrin.jobs.table_copy.INDEXES_LATER", 16 << 10)
    line = railway_line("mariadb", tmp_path, mariadb_server)
    line.sides["production"](
        "ALTER TABLE x_trains ADD COLUMN more LONGTEXT",
        "UPDATE x_trains SET more = REPEAT('steam ', 40000)",
        "ANALYZE TABLE x_trains",
    )
    came: list[tuple[bool, int]] = []
    lay_out = MysqlDatabase.lay_out

    def noting(
        self: MysqlDatabase, hidden: str, table: Table, schema: str, *, indexes_later: bool = False
    ) -> None:
        came.append((indexes_later, table.size))
        lay_out(self, hidden, table, schema, indexes_later=indexes_later)

    monkeypatch.setattr(MysqlDatabase, "lay_out", noting)
    line.pull()
    later = [size for late, size in came if late]
    assert 0 < len(later) < len(came)
    assert all(late for late, _ in came[: len(later)])
    assert later == sorted(later, reverse=True)


def test_who_closes_the_database_does_not_wait_for_them(mariadb_server: Mariadb) -> None:
    mariadb_server.run("DROP DATABASE IF EXISTS later")
    mariadb_server.create("later", "later", "secret")
    mariadb_server.run("CREATE TABLE _vetrin_b (id INT PRIMARY KEY, n INT)", database="later")
    held = mariadb_server.root("later")
    held.cursor().execute("LOCK TABLES _vetrin_b READ")
    database = MysqlDatabase(
        Credentials("later", "later", "secret", "127.0.0.1", mariadb_server.port)
    )
    database._later.lacks("_vetrin_b", ["  KEY `n` (`n`)"])
    database._later.begin("_vetrin_b")
    while not mariadb_server.run(
        "SELECT 1 FROM information_schema.processlist WHERE info LIKE 'ALTER TABLE `_vetrin_b`%'"
    ):
        time.sleep(0.05)
    closing = threading.Thread(target=database.close)
    closing.start()
    closing.join(30)
    ended = not closing.is_alive()
    held.close()
    closing.join()
    assert ended
    with pytest.raises(DatabaseError):
        database.indexed()
