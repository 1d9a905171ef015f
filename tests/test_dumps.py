"""Dumps: those of the installed dump program in many forms, and hand-written ones in the style of others."""

from __future__ import annotations

import random
import struct
import subprocess
import tracemalloc
from collections.abc import Iterator

import pytest
from hypothesis import given
from hypothesis import strategies as st

from systems import DatabaseServer
from vetrin.database import Table
from vetrin.database.batch import Batch, Cell
from vetrin.database.mysql.accounts import Credentials
from vetrin.database.mysql.backslashes import Doubling
from vetrin.database.mysql.database import MysqlDatabase
from vetrin.database.mysql.dump.reader import DumpReader
from vetrin.database.mysql.dump.writer import TableText, footer, header
from vetrin.database.row_codec import Text, cells_of, records_of
from vetrin.errors import DatabaseError

TYPES = """
CREATE TABLE wp_kinds (id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT, tiny TINYINT, amount DECIMAL(12,4),
  near FLOAT, exact DOUBLE, flag BIT(1), flags BIT(12), state ENUM('open','it''s shut','a,b') DEFAULT 'open',
  days SET('mon','tue','wed'), day DATE, moment DATETIME(3), stamp TIMESTAMP NULL, span TIME, made YEAR,
  code CHAR(8), name VARCHAR(120), old VARCHAR(120) CHARACTER SET latin1, body LONGTEXT, raw BLOB,
  fixed BINARY(4), more JSON, place POINT, twice INT AS (tiny * 2) VIRTUAL, thrice INT AS (tiny * 3) STORED,
  PRIMARY KEY (id), UNIQUE KEY name (name), KEY body (body(20))) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;
CREATE TABLE wp_pairs (a INT NOT NULL, b VARCHAR(20) NOT NULL, note TEXT, PRIMARY KEY (a, b)) DEFAULT CHARSET=utf8mb4;
CREATE TABLE wp_log (line TEXT, `odd ``name` INT) DEFAULT CHARSET=utf8mb3;
CREATE TABLE wp_old (word VARCHAR(40)) DEFAULT CHARSET=latin1;
CREATE TABLE wp_child (id INT PRIMARY KEY, parent BIGINT UNSIGNED, CONSTRAINT up FOREIGN KEY (parent) REFERENCES wp_kinds (id));
CREATE VIEW wp_seen AS SELECT id, name FROM wp_kinds WHERE name LIKE '%;%' OR id > 0;
"""
TRIGGER = """CREATE TRIGGER wp_stamp BEFORE INSERT ON wp_pairs FOR EACH ROW BEGIN
  -- it's a comment; with a semicolon
  IF NEW.note IS NULL THEN SET NEW.note = 'none;'; END IF;
END"""
NASTY = ["", "plain", "it's", 'say "yes"', "back\\slash", "line\nline\r\n", "tab\t", "nul\0nul", "\x1a", "\\", "\\'",
         "''", "),(", "');", "a,b;", "INSERT INTO `wp_pairs` VALUES (1,2);", "-- no comment", "/* nor this */",
         "ümläut €", "漢字 🚂", "%_\\%\\_", "\x1d\x1e", "\\x11", "\\\x11", "NULL", "0x41"]  # fmt: skip


@pytest.fixture(scope="module", params=["mariadb", "mysql"])
def dumped(request: pytest.FixtureRequest) -> Iterator[DatabaseServer]:
    server: DatabaseServer = request.getfixturevalue(f"{request.param}_server")
    server.create("kinds", "railway", "a railway's word")
    server.run(*filter(str.strip, TYPES.split(";\n")), TRIGGER, database="kinds")
    server.run(
        "SET sql_mode = 'ANSI_QUOTES'", "CREATE PROCEDURE tidy(IN n INT) BEGIN SELECT 'a;b', n; # it's the end;\nEND",
        "CREATE FUNCTION tidy() RETURNS INT DETERMINISTIC RETURN 1",
        "CREATE EVENT sweep ON SCHEDULE EVERY 1 DAY DO DELETE FROM wp_log", database="kinds",
    )  # fmt: skip
    chance = random.Random(3)
    connection = server.root("kinds")
    with connection.cursor() as cursor:
        cursor.execute("SET NAMES utf8mb4, sql_mode = ''")
        for number, text in enumerate(NASTY * 12, 1):
            other = text.encode("cp1252", "replace").decode("cp1252")
            null = number % 7 == 0
            cursor.execute(
                "INSERT INTO wp_kinds (tiny, amount, near, exact, flag, flags, state, days, day, moment, stamp, span,"
                " made, code, name, old, body, raw, fixed, more, place) VALUES (%s,%s,%s,%s,%s,%s,%s,%s,%s,%s,%s,%s,"
                "%s,%s,%s,%s,%s,%s,%s,%s,ST_PointFromText(%s))",
                (None if null else -(number % 100), "-12.3400", 0.1 * number, number / 3, number % 2, number * 3 % 4096,
                 number % 4, number % 8, "2026-05-01", "2026-05-01 10:11:12.345", "2026-05-01 10:11:12",
                 "-10:00:00", 2026, "x ", f"{number} {text}"[:100], other, None if null else text * 3,
                 chance.randbytes(number % 50), b"\0'\\\xff", '{"a": "\\u00fc\\""}',
                 f"POINT({number} -1.5)"),
            )  # fmt: skip
            cursor.execute("INSERT INTO wp_pairs VALUES (%s, %s, %s)", (number, f"b{number}", text))
            cursor.execute("INSERT INTO wp_log VALUES (%s, %s)", (text.replace("🚂", ""), number))
            cursor.execute("INSERT INTO wp_old VALUES (%s)", (other,))
        cursor.execute("INSERT INTO wp_child VALUES (1, 1), (2, NULL)")
    connection.commit()
    connection.close()
    yield server
    server.run("DROP DATABASE kinds")


def stored(server: DatabaseServer, database: str = "kinds") -> dict[str, list[list[Cell]]]:
    """What the columns of each table hold, as the server itself tells it."""
    credentials = Credentials(
        database, "railway", "a railway's word", "localhost", None, server.socket
    )
    opened = MysqlDatabase(credentials, read_only=True)
    try:
        with opened.reading() as reader:
            return {
                table.name: _sorted(
                    [row for batch in reader.rows(table) for row in batch.each()], table
                )
                for table in opened.tables()
            }
    finally:
        opened.close()


def _sorted(rows: list[list[Cell]], table: Table) -> list[list[Cell]]:
    near = [at for at, column in enumerate(table.columns) if column.type == "float"]
    for row in rows:
        for at in near:  # a dump has six digits of it, which make the same number of four bytes
            if row[at] is not None:
                row[at] = struct.pack("<f", float(row[at]))  # type: ignore[arg-type]
    return sorted(rows, key=repr)


def read(text: bytes, size: int = 1 << 16) -> tuple[DumpReader, dict[str, list[list[Cell]]]]:
    reader = DumpReader(text[at : at + size] for at in range(0, len(text), size))
    found: dict[str, list[list[Cell]]] = {}
    for table, batch in reader.rows():
        found.setdefault(table.name, []).extend(batch.each())
    for (_, name), table in reader.dump.tables.items():
        found[name] = _sorted(found.get(name, []), table.definition.table(0, 0))
    return reader, found


def dump(server: DatabaseServer, *options: str) -> bytes:
    return subprocess.run(server.dump_program(*options), capture_output=True, check=True).stdout


OPTIONS = {
    "usual": (),
    "one row each": ("--skip-extended-insert",),
    "with columns": ("--complete-insert", "--hex-blob"),
    "hexadecimal, one row each": ("--hex-blob", "--skip-extended-insert", "--skip-comments"),
    "compact": ("--compact",),
    "no options": ("--skip-opt", "--routines", "--triggers"),
    "replace": ("--replace", "--no-autocommit", "--order-by-primary"),
    "ignore": ("--insert-ignore", "--single-transaction", "--skip-tz-utc"),
    "unquoted": ("--skip-quote-names", "--skip-add-locks", "--ignore-table=kinds.wp_log"),
    "short statements": (
        "--net-buffer-length=4096",
        "--skip-disable-keys",
        "--skip-add-drop-table",
    ),
    "with the database": ("--routines", "--events", "--add-drop-database", "--databases"),
}


@pytest.mark.parametrize("options", OPTIONS.values(), ids=OPTIONS)
@pytest.mark.parametrize("size", [4096, 1 << 20])
def test_every_cell_is_as_the_server_stores_it(
    dumped: DatabaseServer, options: tuple[str, ...], size: int
) -> None:
    reader, found = read(dump(dumped, *options, "kinds"), size)
    wanted = stored(dumped)
    if "--ignore-table=kinds.wp_log" in options:
        wanted.pop("wp_log")
    if "--skip-opt" in options:  # then a dump does not say in which character set a table is
        del wanted["wp_old"], found["wp_old"]
    assert found.keys() == wanted.keys()
    for name, rows in wanted.items():
        assert found[name] == rows, name
    about = reader.dump
    assert [name for _, name in about.views] == ["wp_seen"]
    assert about.product == dumped.product or "--compact" in options or "--skip-comments" in options
    routines = [(key[0], item.name, item.sql) for key, item in about.routines.items()]
    assert about.events == (["sweep"] if "--events" in options else [])
    if "--routines" in options:
        procedure, function = sorted(routines, reverse=True)
        assert procedure[:2] == ("PROCEDURE", "tidy") and function[:2] == ("FUNCTION", "tidy")
        assert procedure[2].startswith("CREATE PROCEDURE `tidy`(IN n INT)")
        assert procedure[2].endswith("# it's the end;\nEND")
        assert {item.mode for item in about.routines.values()} == {"ANSI_QUOTES"}
    else:
        assert routines == []
    kinds = next(t for t in about.tables.values() if t.name == "wp_kinds").definition
    assert kinds.key == ("id",) and kinds.fixed == {"id", "name"} and kinds.consistent
    if "--compact" not in options and "--skip-opt" not in options:
        assert [item.name for item in about.triggers.values()] == ["wp_stamp"]
        (item,) = about.triggers.values()
        assert item.table == "wp_pairs" and item.sql.endswith("END") and "'none;'" in item.sql


def test_a_dump_in_another_character_set(dumped: DatabaseServer) -> None:
    _, found = read(dump(dumped, "--default-character-set=latin1", "kinds", "wp_old"))
    assert found["wp_old"] == stored(dumped)["wp_old"]
    text = (
        "/*!40101 SET NAMES latin1 */;\nCREATE TABLE wp_words (word text) DEFAULT CHARSET=utf8mb4;\n"
        "INSERT INTO wp_words VALUES ('Härrowmere – €');\n"
    )
    _, found = read(text.encode("cp1252"))
    assert found["wp_words"] == [["Härrowmere – €".encode()]]


def test_what_is_written_is_read_again_and_loads(dumped: DatabaseServer) -> None:
    """Our own SQL files: the reader understands them, and so does the server's own client."""
    credentials = Credentials(
        "kinds", "railway", "a railway's word", "localhost", None, dumped.socket
    )
    database = MysqlDatabase(credentials, read_only=True)
    parts = [header(["the Harrowmere\nLight Railway"])]
    with database.reading() as reader:
        for table in database.tables():
            text = TableText(table, database.schema(table.name), dumped.product, 3000)
            statements = list(text.rows(reader.rows(table)))
            assert all(len(one) < 3300 for one in statements)
            parts += [text.begin(), *statements]
    database.close()
    whole = b"".join([*parts, footer()])
    wanted = stored(dumped)
    _, found = read(whole)
    assert found == wanted
    dumped.create("loaded", "railway", "a railway's word")
    subprocess.run(dumped.client("loaded"), input=whole, check=True)
    assert stored(dumped, "loaded") == wanted
    dumped.run("DROP DATABASE loaded")


CONSOLE = rb"""-- A web console's export
-- Server version: 8.0.36
SET SQL_MODE = "NO_AUTO_VALUE_ON_ZERO";
START TRANSACTION;
SET time_zone = "+00:00";
/*!40101 SET @OLD_CHARACTER_SET_CLIENT=@@CHARACTER_SET_CLIENT */;
/*!40101 SET NAMES utf8mb4 */;
--
-- Database: `harrowmere`
--
CREATE TABLE `hl_posts` (
  `ID` bigint UNSIGNED NOT NULL,
  `title` text COLLATE utf8mb4_unicode_ci NOT NULL,
  `state` varchar(20) NOT NULL DEFAULT 'draft',
  `parent` bigint DEFAULT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_ci;

INSERT INTO `hl_posts` (`ID`, `title`, `state`, `parent`) VALUES
(1, 'Steam gala; it''s back', 'publish', NULL),
(2, 'Two\r\nlines', 'draft', 1),
(3, '', 'publish', -1),
(4, N'x', _utf8mb4'y', 0x41);
insert into hl_posts (title, ID) values ( "double ""quoted"" \"too\"" , 5 ) ;
INSERT INTO `hl_posts` VALUES
  (6, 'a' , 'b', 1e3) ,  -- a comment; here
  (7, 'c', 'd', 2)
ON DUPLICATE KEY UPDATE title = VALUES(title);
ALTER TABLE `hl_posts`
  ADD PRIMARY KEY (`ID`),
  ADD KEY `state` (`state`,`parent`);
ALTER TABLE `hl_posts`
  MODIFY `ID` bigint UNSIGNED NOT NULL AUTO_INCREMENT, AUTO_INCREMENT=8;
ALTER TABLE `hl_posts` ADD CONSTRAINT `up` FOREIGN KEY (`parent`) REFERENCES `hl_posts` (`ID`) ON DELETE SET NULL;
DELIMITER $$
CREATE DEFINER=`root`@`localhost` TRIGGER `t1` AFTER UPDATE ON `hl_posts` FOR EACH ROW BEGIN SET @a = ';'; END$$
DELIMITER ;
COMMIT;
"""


@pytest.mark.parametrize("size", [1, 7, 100, 1 << 20])
def test_what_web_consoles_write(size: int) -> None:
    reader, found = read(CONSOLE, size)
    assert sorted(found["hl_posts"]) == sorted(  # type: ignore[type-var]
        [
            [b"1", b"Steam gala; it's back", b"publish", None],
            [b"2", b"Two\r\nlines", b"draft", b"1"],
            [b"3", b"", b"publish", b"-1"],
            [b"4", b"x", b"y", b"A"],
            [b"5", b'double "quoted" "too"', b"draft", None],
            [b"6", b"a", b"b", b"1e3"],
            [b"7", b"c", b"d", b"2"],
        ]
    )
    definition = reader.dump.tables["", "hl_posts"].definition
    assert definition.key == ("ID",) and "AUTO_INCREMENT=8" in definition.options
    assert definition.sql().startswith(
        "CREATE TABLE `hl_posts` (\n  `ID` bigint UNSIGNED NOT NULL AUTO_INCREMENT"
    )
    assert "KEY `state` (`state`,`parent`)" in definition.sql()
    assert [item.name for item in definition.constraints] == ["up"]
    assert [item.sql.split(" FOR ")[0] for item in reader.dump.triggers.values()] == [
        "CREATE TRIGGER `t1` AFTER UPDATE ON `hl_posts`"
    ]
    assert reader.dump.version == "8.0.36" and reader.dump.product == "MySQL"


def test_several_databases_and_what_is_dropped_again() -> None:
    text = b"""CREATE DATABASE one; USE `one`; CREATE TABLE t (a int); INSERT INTO t VALUES (1);
    CREATE TABLE gone (a int); DROP TABLE IF EXISTS `gone`, nothing;
    USE two; CREATE TABLE t (a int); INSERT INTO t VALUES (2),(3); INSERT INTO one.t VALUES (4);
    CREATE VIEW v AS SELECT 1; /*!50001 DROP VIEW IF EXISTS `v`*/; CREATE TABLE v2 (a tinyint);
    /*!50001 DROP TABLE v2 */; /*!50001 CREATE ALGORITHM=UNDEFINED */ /*!50013 DEFINER=`x`@`y` SQL SECURITY DEFINER */
    /*!50001 VIEW `v2` AS select `t`.`a` AS `a` from `t` */;"""
    reader = DumpReader([text])
    rows = [(t.database, t.name, row) for t, batch in reader.rows() for row in batch.each()]
    assert sorted(rows) == [
        ("one", "t", [b"1"]),
        ("one", "t", [b"4"]),
        ("two", "t", [b"2"]),
        ("two", "t", [b"3"]),
    ]
    assert list(reader.dump.tables) == [("one", "t"), ("two", "t")]
    assert reader.dump.databases == ["one", "two"]
    assert list(reader.dump.views) == [("two", "v2")]
    assert "DEFINER=" not in reader.dump.views["two", "v2"].sql


@pytest.mark.parametrize(
    ("text", "said"),
    [
        (b"CREATE TABLE t (a int); INSERT INTO t VALUES (1),(2", "middle of a row"),
        (b"CREATE TABLE t (a int); INSERT INTO t VALUES ('ab", "middle of a value"),
        (b"CREATE TABLE t (a int); INSERT INTO t VALUES (1,2);", "2 values, not 1"),
        (b"INSERT INTO t VALUES (1);", "not defined before"),
        (b"CREATE TABLE t (a int); INSERT INTO t (b) VALUES (1);", "no column b"),
        (b"CREATE TABLE t (a int); INSERT INTO t VALUES (NOW());", "no value"),
        (b"CREATE TABLE t (a blob); INSERT INTO t VALUES (0xNULL);", "0xNULL' is no value"),
        (b"CREATE TABLE t (a blob); INSERT INTO t VALUES (x'4');", "x'4'\" is no value"),
        ("CREATE TABLE".encode("utf-16"), "UTF-16"),
    ],
)
def test_what_can_not_be_read_is_named(text: bytes, said: str) -> None:
    with pytest.raises(DatabaseError, match=said):
        read(text)


def test_a_mode_holds_until_what_it_was_comes_back() -> None:
    """As dump programs frame triggers, and as we do."""
    text = (
        b"/*!40101 SET @OLD_SQL_MODE=@@SQL_MODE, SQL_MODE='NO_AUTO_VALUE_ON_ZERO' */; CREATE TABLE t (a text);"
        b"/*!50003 SET @saved_sql_mode = @@sql_mode */; SET sql_mode = 'NO_BACKSLASH_ESCAPES';\nDELIMITER ;;\n"
        b"CREATE TRIGGER one BEFORE INSERT ON t FOR EACH ROW SET @a = '\\'\n;;\nDELIMITER ;\n"
        b"SET sql_mode = @saved_sql_mode; INSERT INTO t VALUES ('\\'');"
        b'SET @own = @@SESSION.SQL_MODE, SQL_MODE = "ANSI,PIPES_AS_CONCAT"; CREATE TRIGGER two AFTER INSERT ON t'
        b" FOR EACH ROW SET @b = 1; SET SQL_MODE = @own; SET SQL_MODE=@OLD_SQL_MODE;"
    )
    reader, found = read(text, 17)
    assert found["t"] == [[b"'"]]
    assert [item.mode for item in reader.dump.triggers.values()] == [
        "NO_BACKSLASH_ESCAPES", "ANSI,PIPES_AS_CONCAT",
    ]  # fmt: skip


def test_a_backslash_is_a_letter_where_the_dump_says_so() -> None:
    text = (
        b"SET sql_mode = 'NO_BACKSLASH_ESCAPES'; CREATE TABLE t (a text);"
        b"INSERT INTO t VALUES ('a\\'),('\\n'''),('');"
    )
    assert read(text)[1]["t"] == sorted([[b"a\\"], [b"\\n'"], [b""]], key=repr)


VALUES = st.one_of(
    st.none(), st.binary(max_size=40), st.sampled_from([text.encode() for text in NASTY]),
)  # fmt: skip


@given(
    rows=st.lists(st.tuples(st.integers(-99, 10**9), VALUES, VALUES), min_size=1, max_size=40),
    doubled=st.booleans(), spaced=st.booleans(), single=st.booleans(), size=st.sampled_from([1, 13, 4096, 1 << 20]),
)  # fmt: skip
def test_any_value_in_any_style(
    rows: list[tuple[int, bytes | None, bytes | None]],
    doubled: bool,
    spaced: bool,
    single: bool,
    size: int,
) -> None:
    """Written by the rules of the manual, read back as it was."""

    def literal(value: bytes | None) -> bytes:
        if value is None:
            return b"NULL"
        text = value.replace(b"\\", b"\\\\").replace(b"'", b"''" if doubled else b"\\'")
        return b"'" + text.replace(b"\n", b"\\n").replace(b"\0", b"\\0") + b"'"

    gap = b", " if spaced else b","
    texts = [b"(" + gap.join([b"%d" % row[0], *map(literal, row[1:])]) + b")" for row in rows]
    head = b"INSERT INTO `t` VALUES "
    body = (
        b"".join(head + text + b";\n" for text in texts)
        if single
        else head + (b",\n  " if spaced else b",").join(texts) + b";\n"
    )
    _, found = read(
        b"CREATE TABLE `t` (`a` int, `b` blob, `c` longblob);\n" + body + b"SELECT 1;", size
    )
    assert found["t"] == sorted([[b"%d" % a, b, c] for a, b, c in rows], key=repr)


CELLS = st.one_of(
    st.none(), st.binary(max_size=300), st.integers(-(2**63), 2**63 - 1), st.floats(allow_nan=False),
    st.binary(max_size=300).map(Text),
)  # fmt: skip


@given(st.lists(st.tuples(CELLS, CELLS), max_size=20))
def test_records_hold_any_cell(rows: list[tuple[Cell, Cell]]) -> None:
    cells = [cell for row in rows for cell in row]
    records = records_of(Batch(2, list(cells), 0, mixed=True))
    assert len(records) == len(rows)
    found = cells_of(b"".join(records), mixed=True)
    assert found == cells and [type(c) for c in found] == [type(c) for c in cells]


def test_a_row_of_64_megabytes_needs_little_more() -> None:
    piece = b"0123456789abcd\\n" * 4096

    def blocks() -> Iterator[bytes]:
        yield b"CREATE TABLE t (a int, b longtext); INSERT INTO t VALUES (1,'"
        for _ in range((64 << 20) // len(piece)):
            yield piece
        yield b"'),(2,'short');"

    tracemalloc.start()
    sizes = [
        len(row[1])
        for _, batch in DumpReader(blocks()).rows()
        for row in batch.each()  # type: ignore[arg-type]
    ]
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert sizes == [(64 << 20) // 16 * 15, 5]
    assert peak < 110 << 20


@pytest.mark.parametrize("begins", [b"CREATE TABLE t (a int COMMENT '", b"/* ", b"-- "])
def test_what_has_no_end_is_not_kept(begins: bytes) -> None:
    """As a packed file of some megabytes can bring: it ends with a message long before memory does."""
    given = 0

    def blocks() -> Iterator[bytes]:
        nonlocal given
        yield begins
        while given < 400:
            given += 1
            yield b"a" * (1 << 20)

    with pytest.raises(DatabaseError, match=r"more than (16|64) MB"):
        list(DumpReader(blocks()).rows())
    assert given < 200


@given(st.data())
def test_letters_that_end_with_a_backslash(data: st.DataObject) -> None:
    """Doubled in any blocks, and taken back, from wherever a letter begins; single bytes stay what they are."""
    charset = data.draw(st.sampled_from(["sjis", "cp932", "big5", "gbk", "utf8mb4", "latin1"]))
    codec = {"sjis": "shift_jis", "utf8mb4": "utf-8"}.get(charset, charset)
    letters = "ソ表能許功\\'\"a日ｱ\n" if charset != "latin1" else "é\\'a"
    word = data.draw(st.text(st.sampled_from(letters), max_size=40))
    text = word.encode(codec, "ignore")
    doubling = Doubling(charset)
    found, at = [], 0
    while at < len(text):
        size = data.draw(st.integers(1, 5))
        found.append(doubling.block(text[at : at + size]))
        at += size
    found.append(doubling.end())
    wanted = text
    if charset not in ("utf8mb4", "latin1"):
        parts = [letter.encode(codec, "ignore") for letter in word]
        wanted = b"".join(p + b"\\" if len(p) == 2 and p[1:] == b"\\" else p for p in parts)
    assert b"".join(found) == wanted
    assert Doubling(charset).undone(wanted) == text
