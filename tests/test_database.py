"""One suite for every engine: what is copied through hidden tables and a swap is the same."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from vetrin.database import (
    NO_ROWS,
    UNTOLD,
    AllOf,
    Batch,
    Cleared,
    Database,
    Exchange,
    KeyRange,
    OneOf,
    Patch,
    Recount,
    Table,
    can_copy_in_ranges,
    condition,
    digest_of_rows,
    hidden_name,
    spans,
    with_pages,
)
from vetrin.database.mysql.accounts import Credentials
from vetrin.database.mysql.database import MysqlDatabase
from vetrin.database.mysql.row_text import FIELD, LINE
from vetrin.database.page_prints import PagePrints
from vetrin.database.sqlite.database import SqliteDatabase
from vetrin.database.table_digest import table_digest
from vetrin.errors import DatabaseError, RowsDiffer, RowsMoved

ODD = 'odd `name`-with "quotes" é'


@dataclass
class Pair:
    """A source and a target of one engine, and a way to run statements in each."""

    source: Database
    target: Database
    in_source: Callable[..., list[tuple]]
    in_target: Callable[..., list[tuple]]
    opened: list[Database] = field(default_factory=list)


@pytest.fixture(
    params=[
        "sqlite",
        "mariadb-load",
        "mariadb-insert",
        "mariadb-prepared",
        "mysql",
        "mariadb-relay",
        "mysql-relay",
        "mariadb-relay_by_library",
    ]
)
def pair(request, tmp_path: Path) -> Iterator[Pair]:
    kind = request.param
    if kind == "sqlite":
        files = [tmp_path / "source.sqlite", tmp_path / "target.sqlite"]

        def runner(path: Path) -> Callable[..., list[tuple]]:
            def run(*statements: str) -> list[tuple]:
                rows: list[tuple] = []
                connection = sqlite3.connect(path, isolation_level=None)
                for statement in statements:
                    rows = connection.execute(statement).fetchall()
                connection.close()
                return rows

            return run

        runners = [runner(path) for path in files]
        for run in runners:
            run("PRAGMA journal_mode = WAL", "CREATE TABLE start (a)", "DROP TABLE start")
        databases: list[Database] = [SqliteDatabase(path) for path in files]
    else:
        server = request.getfixturevalue(f"{kind.partition('-')[0]}_server")
        names = ["from_it", "to_it"]
        for name, user in zip(names, ["reader", "writer"], strict=True):
            server.run(f"DROP DATABASE IF EXISTS {name}")
            server.create(name, user, "p'a\\ss#$")
        runners = [
            lambda *s, name=name: server.run(*s, database=name)  # type: ignore[misc]
            for name in names
        ]
        dial = (
            request.getfixturevalue(kind.partition("-")[2]).connect().dial
            if "relay" in kind
            else None
        )
        databases = [
            MysqlDatabase(
                Credentials(name, user, "p'a\\ss#$", "127.0.0.1", server.port),
                bulk_load=kind not in ("mariadb-insert", "mariadb-prepared"),
                dial=dial,
                prints=PagePrints(tmp_path / "rows.sqlite")
                if dial is None and kind != "mariadb-insert"
                else None,
            )
            for name, user in zip(names, ["reader", "writer"], strict=True)
        ]
    yield Pair(*databases, *runners)  # type: ignore[arg-type]
    for database in databases:
        database.close()


def digests(database: Database) -> dict[str, str]:
    with database.reading() as reader:
        return {table.name: table_digest(reader, table) for table in database.tables()}


def adapted(pair: Pair, table: Table) -> str:
    return pair.target.adapt(table, pair.source.schema(table.name), pair.source.facts()).sql


def transfer(pair: Pair, token: str = "t1", only: set[str] | None = None) -> list[Exchange]:
    """Copy all tables and views of the source, as a run does, and swap them in."""
    there = {table.name for table in pair.target.tables()}
    exchanges = []
    tables = [t for t in pair.source.tables() if only is None or t.name in only]
    with pair.source.reading() as reader:
        for index, table in enumerate(tables):
            hidden = hidden_name("new", token, index)
            pair.target.lay_out(hidden, table, adapted(pair, table))
            pair.target.fill(hidden, table, reader.rows(table, 1000))
            pair.target.finish(hidden, pair.source, table)
            old = hidden_name("old", token, index) if table.name in there else None
            exchanges.append(Exchange(table.name, hidden, old))
    names = [table.name for table in tables]
    detach = pair.target.attachments(names, pair.target.views())
    attach = pair.source.attachments(names, pair.source.views())
    pair.target.swap(exchanges, detach, attach)
    pair.target.swap(exchanges, detach, attach)  # once more changes nothing
    return exchanges


MYSQL_TABLES = [
    "CREATE TABLE no_key (a INT, b VARCHAR(20)) ENGINE=InnoDB",
    "INSERT INTO no_key VALUES (1,'x'),(1,'x'),(NULL,NULL),(2,'\\\\N')",
    "CREATE TABLE two_keys (a INT, b VARCHAR(20), c TEXT, PRIMARY KEY (b,a), UNIQUE u (a))",
    "INSERT INTO two_keys VALUES (2,'b','x'),(1,'b','y'),(3,'a',NULL)",
    "CREATE TABLE numbered (id BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY, t TEXT) AUTO_INCREMENT=9000",
    "SET sql_mode='NO_AUTO_VALUE_ON_ZERO'",
    "INSERT INTO numbered VALUES (0,'zero'),(18446744073709551000,'large')",
    "CREATE TABLE made (a INT, b INT AS (a*2) STORED, c INT AS (a+1) VIRTUAL, d INT DEFAULT 7 INVISIBLE)",
    "INSERT INTO made (a) VALUES (1),(2)",
    "SET sql_mode='ALLOW_INVALID_DATES'",
    "CREATE TABLE kinds (id INT PRIMARY KEY, bl LONGBLOB, bi BINARY(5), bt BIT(40), en ENUM('a','3','ü'),"
    " se SET('p','q','r'), js JSON, de DECIMAL(40,10), dt DATETIME, da DATE, ts TIMESTAMP(6) NULL,"
    " fl FLOAT, do DOUBLE, ti TIME(3), ye YEAR, ge GEOMETRY, ge2 POINT)",
    "INSERT INTO kinds VALUES (1, X'001D1E1D1F1D1C5C4E0A0D09271A22', X'00FF', b'1010000000000000000000000000000000000001',"
    " 3, 'p,r', '{\"a\": \"\\\\u00e9\\\\/\"}', -123456789012345678901234567890.0123456789, '0000-00-00 00:00:00',"
    " '2021-02-31', '2021-07-01 10:11:12.123456', 16777217, 0.1, '-838:59:59.000', 1901,"
    " ST_GeomFromText('POLYGON((0 0,1 0,1 1,0 0))', 4326), Point(1.5,-2))",
    "INSERT INTO kinds (id, bl, en, bi) VALUES (2, '', '', ''), (3, NULL, NULL, NULL)",
    "UPDATE kinds SET fl=1.17549e-38, do=-1.7976931348623157e308 WHERE id=2",
    "CREATE TABLE latin (a VARCHAR(50) CHARACTER SET latin1, b VARCHAR(50) COLLATE utf8mb4_bin,"
    " c VARCHAR(20) CHARACTER SET ucs2) DEFAULT CHARSET=latin1 COMMENT='caf\u00e9 ''q'''",
    "INSERT INTO latin VALUES ('caf\u00e9 \u20ac', '\U0001f682 \u00e9', '\u00e9\u4e2d')",
    "CREATE TABLE isam (a INT PRIMARY KEY, b TEXT) ENGINE=MyISAM",
    "INSERT INTO isam VALUES (2,'two'),(1,'one')",
    "CREATE TABLE `select` (`from` INT PRIMARY KEY, `a``b c-d` TEXT, `\u00fc%s` INT)",
    "INSERT INTO `select` VALUES (1, 'ta\\tb\\nnew', 3)",
    'CREATE TABLE `odd ``name``-with "quotes" \u00e9` (a INT PRIMARY KEY)',
    'INSERT INTO `odd ``name``-with "quotes" \u00e9` VALUES (5)',
    "CREATE TABLE parent (id INT PRIMARY KEY)",
    "CREATE TABLE child (id INT PRIMARY KEY, p INT, CONSTRAINT belongs FOREIGN KEY (p) REFERENCES parent (id)"
    " ON DELETE CASCADE, q INT, FOREIGN KEY (q) REFERENCES child (id), CHECK (p < 100))",
    "INSERT INTO parent VALUES (1),(2)",
    "INSERT INTO child VALUES (1,1,NULL),(2,2,1)",
    "CREATE TRIGGER counts AFTER INSERT ON parent FOR EACH ROW BEGIN INSERT INTO no_key VALUES (NEW.id, 't;'); END",
    "CREATE USER IF NOT EXISTS stranger@nowhere",
    "GRANT SELECT ON from_it.* TO stranger@nowhere",
    "CREATE OR REPLACE VIEW b_first AS SELECT 1 AS id",
    "CREATE DEFINER=stranger@nowhere VIEW a_second AS SELECT p.id FROM parent p",
    "CREATE OR REPLACE DEFINER=stranger@nowhere VIEW b_first AS SELECT id FROM a_second WHERE id > 0",
    "CREATE TABLE empty_one (a INT)",
]
SQLITE_TABLES = [
    "CREATE TABLE no_key (a INT, b VARCHAR(20))",
    "INSERT INTO no_key VALUES (1,'x'),(1,'x'),(NULL,NULL),(2,x'00FF'),(1.5,'')",
    "CREATE TABLE two_keys (a INT, b TEXT, c TEXT, PRIMARY KEY (b,a), UNIQUE (a)) WITHOUT ROWID",
    "INSERT INTO two_keys VALUES (2,'b','x'),(1,'b','y'),(3,'a',NULL)",
    "CREATE TABLE numbered (id INTEGER PRIMARY KEY AUTOINCREMENT, t TEXT)",
    "INSERT INTO numbered VALUES (9000,'gone')",
    "DELETE FROM numbered",
    "INSERT INTO numbered VALUES (0,'zero'),(5,'five')",
    "CREATE TABLE made (a INT, b INT AS (a*2) STORED, c INT AS (a+1) VIRTUAL)",
    "INSERT INTO made (a) VALUES (1),(2)",
    "CREATE TABLE kinds (id INTEGER PRIMARY KEY, any_one, bl BLOB, re REAL, nu NUMERIC)",
    "INSERT INTO kinds VALUES (1, 9223372036854775807, x'001d1e', 0.1, '12.50'),"
    " (2, CAST(x'ff00fe' AS TEXT), 'text in a blob', -1e308, 'word'), (3, 'a'||char(0)||'b', '', 3, NULL)",
    'CREATE TABLE "select" ("from" INT PRIMARY KEY, "a`b c-d" TEXT)',
    "INSERT INTO \"select\" VALUES (1, 'x')",
    'CREATE TABLE "odd `name`-with ""quotes"" é" (a INT PRIMARY KEY)',
    'INSERT INTO "odd `name`-with ""quotes"" é" VALUES (5)',
    "CREATE TABLE parent (id INTEGER PRIMARY KEY)",
    "CREATE TABLE child (id INTEGER PRIMARY KEY, p INT REFERENCES parent (id) ON DELETE CASCADE)",
    "CREATE INDEX by_p ON child (p)",
    "INSERT INTO parent VALUES (1),(2)",
    "INSERT INTO child VALUES (1,1),(2,2)",
    "CREATE TRIGGER counts AFTER INSERT ON parent BEGIN INSERT INTO no_key VALUES (NEW.id, 't;'); END",
    "CREATE VIEW b_first AS SELECT id FROM a_second WHERE id > 0",
    "CREATE VIEW a_second AS SELECT p.id FROM parent p",
    "CREATE TABLE empty_one (a INT)",
]


def fill_source(pair: Pair) -> None:
    pair.in_source(*(SQLITE_TABLES if pair.source.engine == "sqlite" else MYSQL_TABLES))


def test_every_kind_of_table_arrives_the_same(pair: Pair) -> None:
    fill_source(pair)
    transfer(pair)
    assert digests(pair.target) == digests(pair.source)
    assert ODD in digests(pair.target)
    for table in pair.source.tables():
        assert pair.target.schema(table.name).replace('"', "") == pair.source.schema(
            table.name
        ).replace('"', "")
    names = [table.name for table in pair.source.tables()]
    assert pair.source.views() == pair.target.views() != []
    strip = lambda found: [(a.kind, a.name, a.table, a.sql) for a in found]  # noqa: E731
    assert strip(pair.target.attachments(names, pair.target.views())) == strip(
        pair.source.attachments(names, pair.source.views())
    )


def test_pages_are_told_apart_by_the_server_as_by_us(pair: Pair) -> None:
    """Every kind of value: what was digested as it came is what the server digests later."""
    fill_source(pair)
    leave, replacements = {"b": ["x"]}, {"b": Cleared(OneOf("a", (1,)), "")}
    for table in pair.source.tables():
        with pair.source.reading() as reader:
            if not can_copy_in_ranges(table):
                wanted = digest_of_rows(reader.rows(table))
                assert reader.digests(table, [KeyRange()]) == [wanted], table.name
                continue
            for size in (1, 10**6):
                pages = [
                    page for b in with_pages(table, reader.rows(table, size)) for page in b.pages
                ]
                ranges = spans(pages)
                assert reader.digests(table, ranges) == [page.digest for page in pages], table.name
                for page, key_range in zip(pages, ranges, strict=True):
                    assert sum(b.rows for b in reader.rows(table, key_range=key_range)) == page.rows
    numbered = next(t for t in pair.source.tables() if t.name == "no_key")
    with pair.source.reading() as reader:
        found = digest_of_rows(reader.rows(numbered, leave=leave, replacements=replacements))
        assert reader.digests(numbered, [KeyRange()], leave=leave, replacements=replacements) == [
            found
        ]


def test_pages_end_at_any_whole_number(pair: Pair) -> None:
    keys = [-(2**63), -(2**53) - 1, -1, 0, 1, 2**53, 2**53 + 1, 2**53 + 2, 2**63 - 2, 2**63 - 1]
    values = ", ".join(f"({key}, 't')" for key in keys)
    pair.in_source(
        "CREATE TABLE a (i BIGINT PRIMARY KEY, t TEXT)", f"INSERT INTO a VALUES {values}"
    )
    if pair.source.engine == "mysql":
        keys += [2**64 - 1]
        pair.in_source(
            "CREATE TABLE b (i BIGINT UNSIGNED PRIMARY KEY, t TEXT)",
            "INSERT INTO b VALUES (0, 't'), (9223372036854775808, 'u'), (18446744073709551615, 'v')",
        )
    for table in pair.source.tables():
        with pair.source.reading() as reader:
            pages = [page for b in with_pages(table, reader.rows(table, 1)) for page in b.pages]
            assert [page.rows for page in pages] == [1] * len(pages) != []
            ranges = [*spans(pages), KeyRange(pages[-1].upto)]
            found = reader.digests(table, ranges)
            assert found == [*(page.digest for page in pages), NO_ROWS]
            # The same ranges, but not as neighbours.
            assert reader.digests(table, ranges[::2]) == found[::2]


def test_what_is_known_of_pages_changes_no_answer(pair: Pair) -> None:
    """Whatever changed since, and wherever: what they were only spares the server work."""
    rows = ", ".join(f"({i}, {i % 7}, 'row {i}')" for i in range(1, 1501))
    for name, key in (("a", "i"), ("b", "i, k")):
        pair.in_source(
            f"CREATE TABLE {name} (i INTEGER, k INTEGER, t TEXT, PRIMARY KEY ({key}))",
            f"INSERT INTO {name} VALUES {rows}",
        )
    keys = {"a": 1, "b": 2}
    ranges = {
        name: [
            KeyRange((i, i % 7)[:width] if i else None, ((i + 1), (i + 1) % 7)[:width])
            for i in range(1500)
        ]
        + [KeyRange((1500, 1500 % 7)[:width])]
        for name, width in keys.items()
    }
    changes = (
        "DELETE FROM {} WHERE i = 700", "UPDATE {} SET t = 'other' WHERE i IN (1, 1500)",
        "INSERT INTO {} VALUES (1501, 1, 'new')", "UPDATE {} SET t = 'x' WHERE i % 50 = 3",
        "UPDATE {} SET t = 'y' WHERE i < 400", "DELETE FROM {}",
    )  # fmt: skip
    tables = {table.name: table for table in pair.source.tables()}
    with pair.source.reading() as reader:
        known = {name: reader.digests(tables[name], ranges[name]) for name in keys}
        for name in keys:  # the first time pages are looked at, the second time known
            for _ in range(2):
                told = reader.digests(tables[name], ranges[name], known=known[name])
                assert told == known[name]
    for change in changes:
        pair.in_source(*(change.format(name) for name in keys))
        for name in keys:
            with pair.source.reading() as reader:
                now = reader.digests(tables[name], ranges[name])
                for told in (known[name], [UNTOLD, *known[name][1:]], ["9-9"] * len(now)):
                    assert reader.digests(tables[name], ranges[name], known=told) == now, change
                assert now != known[name]


def test_what_changed_in_a_table_is_one_page(pair: Pair) -> None:
    rows = ", ".join(f"({i}, {i % 7}, 'row {i}')" for i in range(1, 2001))
    pair.in_source(
        "CREATE TABLE a (i INTEGER, k INTEGER, t TEXT, PRIMARY KEY (i, k))",
        f"INSERT INTO a VALUES {rows}",
    )
    (table,) = pair.source.tables()
    with pair.source.reading() as reader:
        pages = [page for b in with_pages(table, reader.rows(table, 2000)) for page in b.pages]
    pair.in_source(
        "UPDATE a SET t = 'another' WHERE i = 1000",
        "DELETE FROM a WHERE i = 3",
        "INSERT INTO a VALUES (2001, 1, 'new')",
    )
    with pair.source.reading() as reader:
        now = reader.digests(table, spans(pages))
        differ = [
            s
            for s, page, digest in zip(spans(pages), pages, now, strict=True)
            if digest != page.digest
        ]
        assert len(differ) == 2
        pair.target.lay_out("_vetrin_arriving_x_1", table, pair.source.schema("a"))
        pair.target.fill(
            "_vetrin_arriving_x_1",
            table,
            reader.rows(table, key_range=KeyRange(None, pages[-1].upto)),
        )
        for key_range in differ:
            removed = pair.target.remove_range("_vetrin_arriving_x_1", table, key_range)
            assert (
                pair.target.fill(
                    "_vetrin_arriving_x_1", table, reader.rows(table, key_range=key_range)
                )
                == removed
                > 0
            )
        pair.target.fill(
            "_vetrin_arriving_x_1", table, reader.rows(table, key_range=KeyRange(pages[-1].upto))
        )
    pair.target.swap([Exchange("a", "_vetrin_arriving_x_1", None)], [], [])
    assert digests(pair.target) == digests(pair.source)
    with pytest.raises(ValueError, match="no hidden table"):
        pair.target.remove_range("a", table, KeyRange(upto=(5, 5)))


def test_counts_agree_without_digest(pair: Pair) -> None:
    """The server's own view of both sides, not through our reader."""
    fill_source(pair)
    transfer(pair)
    for run in (pair.in_source, pair.in_target):
        assert run("SELECT sum(b), sum(c) FROM made") == [(6, 5)]
        assert run("SELECT id FROM b_first ORDER BY id") == [(1,), (2,)]
    assert pair.in_target(
        "INSERT INTO parent VALUES (77)", "SELECT b FROM no_key WHERE a = 77"
    ) == [("t;",)]
    if pair.source.engine == "mysql":
        for query in (
            "SELECT HEX(bl), HEX(bi), bt+0, en+0, se+0, js, de, fl+0e0, do, HEX(ge), HEX(ge2), ts, ye FROM kinds ORDER BY id",
            "SELECT HEX(a), HEX(b), HEX(c) FROM latin",
            "CHECKSUM TABLE isam EXTENDED",
        ):
            assert [r[-1] for r in pair.in_source(query)] == [r[-1] for r in pair.in_target(query)]
            if "CHECKSUM" not in query:
                assert pair.in_source(query) == pair.in_target(query)


def test_the_next_number_goes_on_where_the_source_stands(pair: Pair) -> None:
    pair.in_source(
        "CREATE TABLE n (id INTEGER PRIMARY KEY AUTO_INCREMENT, t INT)".replace(
            "AUTO_INCREMENT",
            "AUTOINCREMENT" if pair.source.engine == "sqlite" else "AUTO_INCREMENT",
        ),
        "INSERT INTO n VALUES (500, 1)",
        "DELETE FROM n",
        "INSERT INTO n (id, t) VALUES (3, 1)",
    )
    transfer(pair)
    assert pair.in_target("INSERT INTO n (t) VALUES (2)", "SELECT max(id) FROM n") == [(501,)]


def test_swapping_back_restores_everything(pair: Pair) -> None:
    fill_source(pair)
    transfer(pair)
    pair.in_source("UPDATE no_key SET a = 99", "UPDATE child SET p = 1", "DROP VIEW b_first")
    names = [table.name for table in pair.target.tables()]
    before = digests(pair.target)
    hanging = pair.target.attachments(names, pair.target.views())
    schemas = {name: pair.target.schema(name) for name in names}
    exchanges = transfer(pair, "t2")
    assert digests(pair.target) != before
    now = pair.target.attachments(names, pair.target.views())
    back = [
        Exchange(e.live, e.outgoing, hidden_name("old", "t3", i)) for i, e in enumerate(exchanges)
    ]
    pair.target.swap(back, now, hanging)
    assert digests(pair.target) == before
    assert pair.target.attachments(names, pair.target.views()) == hanging
    assert {name: pair.target.schema(name) for name in names} == schemas
    pair.target.drop(pair.target.hidden_tables())
    assert pair.target.hidden_tables() == []
    assert digests(pair.target) == before


def test_a_table_of_the_target_goes_on_pointing_at_the_live_name(pair: Pair) -> None:
    for run in (pair.in_source, pair.in_target):
        run("CREATE TABLE parent (id INTEGER PRIMARY KEY)", "INSERT INTO parent VALUES (1)")
    pair.in_target(
        "CREATE TABLE own (id INTEGER PRIMARY KEY, p INTEGER, FOREIGN KEY (p) REFERENCES parent (id))",
        "INSERT INTO own VALUES (1, 1)",
    )
    transfer(pair, only={"parent"})
    assert "_vetrin_" not in repr(pair.target.attachments(["own"], []))
    pair.target.drop(pair.target.hidden_tables())
    assert pair.target.count("own") == 1


def test_a_patch_of_whole_rows_counts_anew_and_stops_where_rows_moved(pair: Pair) -> None:
    key = "INTEGER" if pair.source.engine == "sqlite" else "INT"
    pair.in_target(
        f"CREATE TABLE a (id {key} PRIMARY KEY, t VARCHAR(20), n {key} NOT NULL DEFAULT 0)",
        f"CREATE TABLE c (id {key} PRIMARY KEY, a_id {key}, state VARCHAR(9))",
        "INSERT INTO a VALUES (1, 'one', 7), (2, 'two', 1), (3, 'three', 0)",
        "INSERT INTO c VALUES (1, 1, 'good'), (2, 1, 'bad'), (3, 1, 'good'), (4, 2, 'good')",
    )
    table = next(one for one in pair.target.tables() if one.name == "a")
    with pair.target.reading() as reader:
        (batch,) = reader.rows(table)
    rows = [*batch.each()]
    word = type(rows[0][1])
    new = [[rows[0][0], word(b"ONE"), rows[0][2]], [type(rows[0][0])(9) if isinstance(rows[0][0], int) else b"9", word(b"nine"), rows[0][2]]]  # fmt: skip
    names = ["_vetrin_parked_p_0", "_vetrin_parked_p_1"]
    for name, some in zip(names, ([rows[0], rows[2]], new), strict=True):
        pair.target.lay_out(name, table, pair.target.schema("a"))
        cells = [cell for row in some for cell in row]
        pair.target.fill(name, table, [Batch(batch.width, cells, 0, batch.mixed)])
    patch = Patch("a", *names, ["id"], ["t"], ["t"], whole=True, born=["n"])
    recount = Recount("a", "n", "id", "c", "a_id", condition({"state": "good"}), (1, 9))
    before = digests(pair.target)
    pair.in_target("UPDATE a SET t = 'moved' WHERE id = 3")
    with pytest.raises(RowsMoved) as moved:
        pair.target.patch([patch], [recount], expected=3)
    assert moved.value.count == 1
    pair.in_target("UPDATE a SET t = 'three' WHERE id = 3")
    assert digests(pair.target) == before
    pair.in_target("UPDATE a SET n = 100 WHERE id = 1")  # a count of its own is no other row
    assert pair.target.patch([patch], [recount], expected=3) == 3
    wanted = [(1, "ONE", 2), (2, "two", 1), (9, "nine", 0)]
    assert pair.in_target("SELECT id, t, n FROM a ORDER BY id") == wanted
    pair.in_target("INSERT INTO c VALUES (5, 1, 'good')")
    assert pair.target.patch([patch.reversed()], [recount]) == 3
    wanted = [(1, "one", 3), (2, "two", 1), (3, "three", 0)]
    assert pair.in_target("SELECT id, t, n FROM a ORDER BY id") == wanted
    # What is taken back leaves a row out whose unique value another one, made since, has.
    assert pair.target.patch([patch], [recount]) == 3
    pair.in_target(
        "UPDATE a SET n = 0",
        "CREATE UNIQUE INDEX ut ON a (t)",
        "INSERT INTO a VALUES (20, 'three', 0)",
    )
    assert pair.target.patch([patch.reversed()]) == 2
    wanted = [(1, "one", 0), (2, "two", 0), (20, "three", 0)]
    assert pair.in_target("SELECT id, t, n FROM a ORDER BY id") == wanted


def test_patching_changes_the_named_rows_only(pair: Pair) -> None:
    key = "INTEGER" if pair.source.engine == "sqlite" else "INT"
    stamp = (
        ""
        if pair.source.engine == "sqlite"
        else ", at TIMESTAMP DEFAULT '2020-01-01' ON UPDATE CURRENT_TIMESTAMP"
    )
    pair.in_target(
        f"CREATE TABLE a (x {key}, y VARCHAR(9), t TEXT, b BLOB{stamp}, PRIMARY KEY (x, y))"
    )
    for x, y, t in ((1, "a", "one"), (1, "b", "two"), (2, "a", "Three"), (3, "%", "four")):
        pair.in_target(f"INSERT INTO a (x, y, t, b) VALUES ({x}, '{y}', '{t}', X'00ff')")
    before = digests(pair.target)
    table = pair.target.tables()[0]
    names = ["_vetrin_parked_p_0", "_vetrin_parked_p_1"]
    with pair.target.reading() as reader:
        (batch,) = reader.rows(table)
    place = [column.name for column in table.columns].index("t")
    kind = type(batch.cells[place])
    for name, mark in zip(names, (b"", b"!"), strict=True):
        cells = list(batch.cells[: 3 * batch.width])
        for row in range(3):
            cells[row * batch.width + place] = kind(cells[row * batch.width + place] + mark)
        pair.target.lay_out(name, table, pair.target.schema("a"))
        pair.target.fill(name, table, [Batch(batch.width, cells, 0, batch.mixed)])
    rest = [column.name for column in table.columns if column.name not in table.key]
    patch = Patch("a", *names, list(table.key), rest, ["t"])
    pair.in_target("UPDATE a SET t = 'THREE' WHERE x = 2")  # the site writes meanwhile
    assert pair.target.patch([patch]) == 2
    assert pair.in_target("SELECT t FROM a ORDER BY x, y") == [
        ("one!",),
        ("two!",),
        ("THREE",),
        ("four",),
    ]
    if stamp:
        assert len(pair.in_target("SELECT DISTINCT at FROM a WHERE x = 1")) == 1
        assert pair.in_target("SELECT COUNT(*) FROM a WHERE x = 1 AND at < '2021-01-01'") == [(2,)]
    assert pair.target.patch([patch]) == 0
    assert pair.target.patch([patch.reversed()]) == 2
    pair.in_target(
        "UPDATE a SET t = 'Three'" + (", at = '2020-01-01'" if stamp else "") + " WHERE x = 2"
    )
    assert digests(pair.target) == before


def test_until_the_swap_nothing_is_seen(pair: Pair) -> None:
    fill_source(pair)
    pair.in_target(
        "CREATE TABLE kinds (id INTEGER PRIMARY KEY, mine TEXT)",
        "INSERT INTO kinds VALUES (9, 'm')",
    )
    before = digests(pair.target)
    table = next(t for t in pair.source.tables() if t.name == "kinds")
    with pair.source.reading() as reader:
        pair.target.lay_out("_vetrin_arriving_x_0", table, pair.source.schema("kinds"))
        pair.target.fill("_vetrin_arriving_x_0", table, reader.rows(table))
    assert digests(pair.target) == before
    assert pair.target.hidden_tables() == ["_vetrin_arriving_x_0"]
    with pytest.raises(ValueError, match="no hidden table"):
        pair.target.drop(["kinds"])


def test_what_is_opened_for_reading_can_not_be_written_to(
    request, pair: Pair, tmp_path: Path
) -> None:
    pair.in_source("CREATE TABLE a (id INTEGER PRIMARY KEY)")
    if pair.source.engine == "sqlite":
        opened: Database = SqliteDatabase(tmp_path / "source.sqlite", read_only=True)
    else:
        credentials = pair.source._credentials  # type: ignore[attr-defined]
        opened = MysqlDatabase(credentials, read_only=True)
    with pytest.raises(DatabaseError):
        opened.lay_out("_vetrin_arriving_x_0", opened.tables()[0], opened.schema("a"))
    assert opened.hidden_tables() == []
    assert opened.count("a") == 0
    opened.close()


def test_reading_sees_one_moment_or_says_that_it_does_not(pair: Pair) -> None:
    by_relay = getattr(pair.source, "_dial", None) is not None
    assert pair.source.facts().one_moment is not by_relay
    pair.in_source("CREATE TABLE a (id INTEGER PRIMARY KEY)", "INSERT INTO a VALUES (1),(2)")
    rows = 2 if pair.source.facts().one_moment else 3
    with pair.source.reading() as reader:
        pair.in_source("INSERT INTO a VALUES (3)")
        assert reader.count("a") == rows
        assert sum(batch.rows for batch in reader.rows(pair.source.tables()[0])) == rows
    assert pair.source.count("a", {"id": [1, 3]}) == 2


def test_a_table_with_a_million_rows_comes_in_small_batches(pair: Pair) -> None:
    kind = "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i < 20000)"
    body = (
        "SELECT i, 'row ' || i FROM n"
        if pair.source.engine == "sqlite"
        else "SELECT i, CONCAT('row ', i) FROM n"
    )
    pair.in_source("CREATE TABLE a (id INTEGER PRIMARY KEY, t TEXT)")
    if pair.source.engine == "mysql":
        pair.in_source(f"INSERT INTO a {kind} {body}")
    else:
        pair.in_source(f"{kind} INSERT INTO a {body}")
    table: Table = pair.source.tables()[0]
    with pair.source.reading() as reader:
        sizes = [batch.rows for batch in reader.rows(table, 10_000)]
    assert sum(sizes) == 20000
    assert max(sizes) < 2000


def test_a_value_that_does_not_fit_is_an_error_not_a_shorter_value(
    pair: Pair, tmp_path: Path
) -> None:
    if pair.source.engine == "sqlite":
        pair.in_source(
            "CREATE TABLE a (id INTEGER PRIMARY KEY, t TEXT)",
            "INSERT INTO a VALUES (1,'abc'),(2,'d')",
        )
        schema = "CREATE TABLE a (id INTEGER PRIMARY KEY, t TEXT CHECK (length(t) < 3))"
    else:
        pair.in_source(
            "CREATE TABLE a (id INT PRIMARY KEY, t VARCHAR(9))",
            "INSERT INTO a VALUES (1,'abc'),(2,'d')",
        )
        schema = "CREATE TABLE `a` (id INT PRIMARY KEY, t VARCHAR(2))"
    table = pair.source.tables()[0]
    pair.target.lay_out("_vetrin_arriving_x_0", table, schema)
    with pair.source.reading() as reader, pytest.raises((RowsDiffer, DatabaseError), match="a: "):
        pair.target.fill("_vetrin_arriving_x_0", table, reader.rows(table))


def test_separators_inside_values_survive(pair: Pair) -> None:
    text = (FIELD + LINE + b"\\N\\" + b"\x1d").hex()
    pair.in_source(
        "CREATE TABLE a (id INTEGER PRIMARY KEY, b BLOB, c BLOB)",
        f"INSERT INTO a VALUES (1, X'{text}', NULL), (2, X'1d', X'5c'), (3, X'4e', X'00')",
    )
    transfer(pair)
    assert digests(pair.target) == digests(pair.source)
    assert pair.in_source("SELECT * FROM a ORDER BY id") == pair.in_target(
        "SELECT * FROM a ORDER BY id"
    )


def test_nulls_at_the_edges_of_a_batch(pair: Pair) -> None:
    pair.in_source(
        "CREATE TABLE a (x VARCHAR(9), y VARCHAR(9))",
        "INSERT INTO a VALUES (NULL, 'b'), ('c', NULL)",
    )
    transfer(pair)
    assert pair.in_target("SELECT x, y FROM a ORDER BY y") == [("c", None), (None, "b")]


def test_a_value_larger_than_one_packet(pair: Pair) -> None:
    size = 16_900_000 if pair.source.engine == "sqlite" else 16_000_000
    made = (
        f"hex(zeroblob({size // 2}))"
        if pair.source.engine == "sqlite"
        else f"REPEAT('ab', {size // 2})"
    )
    pair.in_source(
        "CREATE TABLE a (id INTEGER PRIMARY KEY, b LONGTEXT, c LONGTEXT)",
        f"INSERT INTO a (id, b, c) VALUES (1, {made}, 'x')",
        "UPDATE a SET c = b",
    )
    transfer(pair)
    assert digests(pair.target) == digests(pair.source)


def ready(pair: Pair, *statements: str) -> Table:
    pair.in_source(*statements)
    return next(table for table in pair.source.tables() if table.name == "entries")


def read(pair: Pair, table: Table, **choice) -> list[list]:
    with pair.source.reading() as reader:
        rows = [row for batch in reader.rows(table, **choice) for row in batch.each()]
    return [[int(c) if isinstance(c, bytes) and c.isdigit() else c for c in row] for row in rows]


ENTRIES = [
    "CREATE TABLE entries (id INTEGER PRIMARY KEY, kind VARCHAR(20), above INT, answers INT, note TEXT)",
    "CREATE TABLE answers (id INTEGER PRIMARY KEY, entry INT, state VARCHAR(9))",
    "INSERT INTO entries VALUES (1, 'page', 0, 2, '50%_off'), (2, 'event', 1, 1, NULL), (3, 'page', 2, 0, '9'),"
    " (4, NULL, 2, 0, '10')",
    "INSERT INTO answers VALUES (1, 1, 'good'), (2, 1, 'spam'), (3, 2, 'good'), (4, 1, 'good')",
]  # fmt: skip


def test_hidden_tables_can_be_edited_and_no_others(pair: Pair) -> None:
    table = ready(pair, *ENTRIES)
    hidden = hidden_name("new", "e1", 0)
    pair.target.lay_out(hidden, table, pair.source.schema("entries"))
    with pair.source.reading() as reader:
        pair.target.fill(hidden, table, reader.rows(table))
    pair.in_target(
        "CREATE TABLE entries (id INTEGER PRIMARY KEY, kind VARCHAR(20), note TEXT)",
        "INSERT INTO entries VALUES (70, 'mine', 'it''s 100% \\ \"mine\"')",
    )
    pair.target.put(hidden, {"id": 1}, {"note": "é%s"})
    pair.target.put(hidden, {"id": 9}, {"kind": "new"})
    assert pair.target.remove(hidden, {"kind": "page", "id": 3}) == 1
    assert (
        pair.target.take_over(hidden, "entries", ["id", "kind", "note"], {"id": 70}, {"id": 5}) == 1
    )
    assert pair.target.select(hidden, ["id", "kind", "note"], order=["id"]) == [
        (1, "page", "é%s"), (2, "event", None), (4, None, "10"),
        (5, "mine", pair.in_target("SELECT note FROM entries")[0][0]), (9, "new", None),
    ]  # fmt: skip
    assert pair.target.groups(hidden, ["kind"], {"id": [1, 2, 5]}) == [
        ("event", 1), ("mine", 1), ("page", 1),
    ]  # fmt: skip
    assert pair.source.longest(table) == ("note", 7)
    for edit in (
        lambda: pair.target.put("entries", {"id": 1}, {"kind": "x"}),
        lambda: pair.target.remove("entries", AllOf(())),
        lambda: pair.target.take_over("entries", hidden, ["id"]),
    ):
        with pytest.raises(ValueError, match="is no hidden table"):
            edit()
    assert len(pair.in_target("SELECT * FROM entries")) == 1


def test_full_text_tables_of_sqlite_travel(tmp_path: Path) -> None:
    files = [tmp_path / name for name in ("one", "two")]
    for path, word in zip(files, ("signal", "ballast"), strict=True):
        connection = sqlite3.connect(path)
        connection.executescript(
            "CREATE TABLE notes (id INTEGER PRIMARY KEY, body TEXT);"
            "CREATE VIRTUAL TABLE own USING fts5(body);"
            "CREATE VIRTUAL TABLE outer_words USING fts5(body, content='notes', content_rowid='id');"
            "CREATE TRIGGER n AFTER INSERT ON notes BEGIN INSERT INTO own (rowid, body) VALUES (new.id, new.body);"
            " INSERT INTO outer_words (rowid, body) VALUES (new.id, new.body); END;"
            f"INSERT INTO notes (body) VALUES ('the {word} box'), ('a {word}');"
        )
        connection.close()
    source, target = (SqliteDatabase(path) for path in files)
    assert [table.name for table in source.tables()] == ["notes", "own"]
    nothing = lambda *statements: []  # noqa: E731
    exchanges = transfer(Pair(source, target, nothing, nothing))

    def found(word: str) -> list[int]:
        return [
            target._one(f"SELECT COUNT(*) FROM {name} WHERE {name} MATCH '{word}'")
            for name in ("own", "outer_words")
        ]

    assert (found("signal"), found("ballast")) == ([2, 2], [0, 0])
    back = [Exchange(e.live, e.outgoing, e.incoming) for e in exchanges]
    hanging = target.attachments(["notes", "own"], ())
    target.swap(back, hanging, hanging)
    assert (found("signal"), found("ballast")) == ([0, 0], [2, 2])
    target.drop(target.hidden_tables())
    assert target.hidden_tables() == []


def test_a_missing_database_is_empty_until_it_is_made(tmp_path: Path) -> None:
    path = tmp_path / "data/new.sqlite"
    database = SqliteDatabase(path, may_be_missing=True)
    assert (database.missing, database.tables(), path.exists()) == (True, [], False)
    database.create()
    assert (database.missing, database.tables(), path.exists()) == (False, [], True)
