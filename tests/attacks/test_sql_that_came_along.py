"""SQL that comes along and would do more than it says: on a server, and in a file."""

from __future__ import annotations

import contextlib
import sqlite3
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from railway import Railway
from systems import DatabaseServer
from test_command_line import document, vetrin
from vetrin.database import Attachment, Exchange
from vetrin.database.mysql import incoming_sql as mysql_incoming
from vetrin.database.mysql.accounts import Credentials
from vetrin.database.mysql.database import MysqlDatabase
from vetrin.database.sqlite import incoming_sql as sqlite_incoming
from vetrin.database.sqlite.database import SqliteDatabase
from vetrin.database.statements import SQLITE, Unreadable, doing, tokens
from vetrin.demo.sample import Sample
from vetrin.errors import DatabaseError

A = Attachment

GOOD = [
    A(
        "trigger",
        "t",
        "wp_b",
        "CREATE TRIGGER `t` AFTER INSERT ON `wp_b` FOR EACH ROW UPDATE wp_e SET n = n + 1 WHERE id = NEW.event_id",
    ),
    A(
        "trigger",
        "t",
        "wp_b",
        "CREATE TRIGGER `t` BEFORE UPDATE ON `wp_b` FOR EACH ROW BEGIN IF NEW.a > 1 THEN SET NEW.a = IF(OLD.a, 1, 2); ELSE SET NEW.a = 0; END IF; CASE NEW.b WHEN 1 THEN SET @x = 1; ELSE BEGIN END; END CASE; l: LOOP LEAVE l; END LOOP l; WHILE @x < 3 DO SET @x = @x+1; END WHILE; REPEAT SET @x=1; UNTIL @x END REPEAT; INSERT INTO wp_log (a) SELECT CASE WHEN x.a THEN 1 ELSE 2 END FROM wp_x x, wp_y AS y WHERE x.a = y.b; END",
    ),
    A(
        "view",
        "v",
        "v",
        "CREATE OR REPLACE ALGORITHM=UNDEFINED SQL SECURITY DEFINER VIEW `v` AS select `a`.`x` AS `x`,trim(leading ' ' from `a`.`y`) AS `y`,extract(year from `a`.`d`) from (`wp_a` `a` join `wp_b` `b` on(`a`.`x` = `b`.`x`))",
    ),
    A(
        "view",
        "v",
        "v",
        "CREATE VIEW v (a,b) AS (select 1, 2) union select s.a, s.b from information_schema.tables s, (select 1 AS q) t where s.b in (select y.b from wp_y y)",
    ),
    A(
        "routine",
        "f",
        "",
        "CREATE FUNCTION `f`(a INT, b VARCHAR(3)) RETURNS int(11) DETERMINISTIC RETURN a + 1",
    ),
    A(
        "routine",
        "p",
        "",
        "CREATE PROCEDURE `p`(IN x int, OUT y int)\n    MODIFIES SQL DATA\n    COMMENT 'it''s # -- /* '\nBEGIN -- it's\n # don't\n DECLARE done INT DEFAULT 0; DECLARE c CURSOR FOR SELECT t.a FROM wp_t t; DECLARE CONTINUE HANDLER FOR NOT FOUND SET done = 1; DECLARE EXIT HANDLER FOR SQLEXCEPTION BEGIN ROLLBACK; END; DELETE t FROM wp_t t JOIN wp_u u ON t.a = u.a WHERE u.b; SELECT @@global.sql_mode INTO x; INSERT INTO wp_t VALUES (1,2) ON DUPLICATE KEY UPDATE wp_t.a = 2; DROP TABLE IF EXISTS tmp; IF EXISTS (SELECT 1) THEN SET x = 1; END IF; SET a.b = 1; START TRANSACTION; COMMIT; END",
    ),
    A(
        "constraint",
        "fk",
        "wp_a",
        "CONSTRAINT `fk` FOREIGN KEY (`a`) REFERENCES `wp_b` (`id`) ON DELETE CASCADE ON UPDATE SET NULL",
    ),
    A("default", "c", "wp_a", "ALTER TABLE `wp_a` ALTER COLUMN `c` SET DEFAULT (nextval(`s`))"),
    A("default", "c", "wp_a", "ALTER TABLE `wp_a` ALTER `c` SET DEFAULT nextval(`s`)"),
    A(
        "sequence",
        "s",
        "",
        "CREATE SEQUENCE `s` start with 1 minvalue 1 maxvalue 9223372036854775806 increment by 1 cache 1000 nocycle ENGINE=InnoDB",
        "5",
    ),
    A("routine", "p", "", "CREATE DEFINER=`a b`@`localhost` PROCEDURE p() SELECT 1"),
    A("routine", "p", "", "CREATE PROCEDURE p() IF 1 THEN SELECT 1; END IF"),
    A(
        "trigger",
        "t",
        "wp_b",
        'CREATE TRIGGER "t" AFTER INSERT ON "wp_b" FOR EACH ROW SET @a = \'\\\'',
        "ANSI_QUOTES,NO_BACKSLASH_ESCAPES",
    ),
]

BAD = [
    A("trigger", "t", "wp_b", "ATTACH DATABASE 'x' AS y"),
    A(
        "trigger",
        "t",
        "wp_b",
        "CREATE TRIGGER t AFTER INSERT ON wp_b FOR EACH ROW SELECT 1 INTO OUTFILE '/tmp/x'",
    ),
    A(
        "trigger",
        "t",
        "wp_b",
        "CREATE TRIGGER t AFTER INSERT ON wp_b FOR EACH ROW SET @a = load_file('/etc/passwd')",
    ),
    A(
        "trigger",
        "t",
        "wp_b",
        "CREATE TRIGGER t AFTER INSERT ON wp_b FOR EACH ROW SET @a = /*!50000 load_file*/('/etc/passwd')",
    ),
    A("trigger", "t", "wp_b", "CREATE TRIGGER t AFTER INSERT ON wp_c FOR EACH ROW SET @a = 1"),
    A("trigger", "t", "wp_b", "CREATE TRIGGER u AFTER INSERT ON wp_b FOR EACH ROW SET @a = 1"),
    A(
        "trigger",
        "t",
        "wp_b",
        "CREATE TRIGGER t AFTER INSERT ON wp_b FOR EACH ROW SET @a = 1; DROP TABLE wp_x",
    ),
    A(
        "trigger",
        "t",
        "wp_b",
        "CREATE TRIGGER t AFTER INSERT ON wp_b FOR EACH ROW BEGIN SET @a = 1;; DROP TABLE x; END",
    ),
    A(
        "trigger",
        "t",
        "wp_b",
        "CREATE TRIGGER t AFTER INSERT ON wp_b FOR EACH ROW BEGIN \\! touch x\n END",
    ),
    A(
        "trigger",
        "t",
        "wp_b",
        "CREATE TRIGGER t AFTER INSERT ON wp_b FOR EACH ROW SET @a = 1",
        "', GLOBAL general_log='ON",
    ),
    A(
        "trigger",
        "t",
        "wp_b",
        "CREATE TRIGGER t AFTER INSERT ON wp_b FOR EACH ROW SET @a = 1",
        "",
        "utf8', GLOBAL x='1",
    ),
    A(
        "trigger",
        "t",
        "wp_b",
        "CREATE TRIGGER t AFTER INSERT ON wp_b FOR EACH ROW INSERT INTO mysql.user VALUES (1)",
    ),
    A("view", "v", "v", "CREATE VIEW v AS SELECT 1 AS mysql FROM wp_a, mysql.user"),
    A(
        "view",
        "v",
        "v",
        "CREATE VIEW v AS SELECT 1 FROM wp_a JOIN wp_b ON wp_a.x = wp_b.y, `mysql`.`user`",
    ),
    A("view", "v", "v", "CREATE VIEW v AS SELECT 1 FROM (wp_a, mysql . user)"),
    A("view", "v", "v", "CREATE VIEW v AS SELECT (SELECT 1 FROM mysql.user) FROM wp_a"),
    A(
        "view",
        "v",
        "v",
        "CREATE VIEW v AS SELECT trim(a from (select x from mysql.user)) FROM wp_a",
    ),
    A("view", "v", "v", "CREATE VIEW v AS SELECT 1 # '\n FROM mysql.user # '"),
    A("view", "v", "v", "CREATE VIEW v AS SELECT other.f() FROM wp_a"),
    A("view", "v", "v", "CREATE VIEW v AS SELECT mysql.user.x FROM wp_a"),
    A("view", "v", "v", "CREATE VIEW v AS SELECT 1; DROP TABLE x"),
    A("view", "w", "w", "CREATE VIEW v AS SELECT 1"),
    A("routine", "f", "", "CREATE FUNCTION f RETURNS STRING SONAME 'x.so'"),
    A("routine", "p", "", "CREATE PROCEDURE p() GRANT ALL ON *.* TO x"),
    A("routine", "p", "", "CREATE PROCEDURE p() CREATE USER x"),
    A("routine", "p", "", "CREATE PROCEDURE p() CREATE OR REPLACE USER x"),
    A("routine", "p", "", "CREATE PROCEDURE p() SET GLOBAL general_log = 1"),
    A("routine", "p", "", "CREATE PROCEDURE p() SET @a = 1, @@GLOBAL.general_log = 1"),
    A("routine", "p", "", "CREATE PROCEDURE p() SET @@global . general_log = 1"),
    A("routine", "p", "", "CREATE PROCEDURE p() SHUTDOWN"),
    A("routine", "p", "", "CREATE PROCEDURE p() BEGIN SHUTDOWN; END"),
    A("routine", "p", "", "CREATE PROCEDURE p() DELETE FROM a USING a, mysql.user"),
    A("routine", "p", "", "CREATE PROCEDURE p() DELETE mysql.user FROM mysql.user"),
    A("routine", "p", "", "CREATE PROCEDURE p() TRUNCATE mysql.user"),
    A("routine", "p", "", "CREATE PROCEDURE p() DROP TABLE IF EXISTS a, mysql.user"),
    A("routine", "p", "", "CREATE PROCEDURE p() RENAME TABLE a TO mysql.user"),
    A("routine", "p", "", "CREATE PROCEDURE p() DROP DATABASE x"),
    A("routine", "p", "", "CREATE PROCEDURE p() REPLACE mysql.user VALUES (1)"),
    A("routine", "p", "", "CREATE PROCEDURE p() INSERT mysql.user VALUES (1)"),
    A("routine", "p", "", "CREATE PROCEDURE p() ALTER TABLE a RENAME mysql.b"),
    A("routine", "p", "", "CREATE PROCEDURE p() CREATE TABLE a LIKE mysql.b"),
    A("routine", "p", "", "CREATE PROCEDURE p() LOCK TABLES mysql.b READ"),
    A("routine", "p", "", "CREATE PROCEDURE p() HANDLER mysql.user OPEN"),
    A("routine", "p", "", "CREATE PROCEDURE p() ANALYZE TABLE mysql.user"),
    A("routine", "p", "", "CREATE PROCEDURE p() SHOW CREATE TABLE mysql.user"),
    A(
        "constraint",
        "fk",
        "wp_a",
        "CONSTRAINT `fk` FOREIGN KEY (`a`) REFERENCES `wp_b` (`id`), DATA DIRECTORY='/tmp'",
    ),
    A(
        "constraint",
        "fk",
        "wp_a",
        "CONSTRAINT `fk` FOREIGN KEY (`a`) REFERENCES other.`wp_b` (`id`)",
    ),
    A("constraint", "fk", "wp_a", "CONSTRAINT `fk` CHECK (load_file('x'))"),
    A("default", "c", "wp_a", "ALTER TABLE `wp_a` ALTER COLUMN `c` SET DEFAULT 1, RENAME TO x"),
    A("default", "c", "wp_a", "ALTER TABLE `wp_a` ALTER COLUMN `c` SET DEFAULT (nextval(other.s))"),
    A("sequence", "s", "", "CREATE SEQUENCE `s` start with 1 ENGINE=CONNECT", "5"),
    A("sequence", "s", "", "CREATE SEQUENCE `s` start with 1", "5; DROP"),
]


@pytest.mark.parametrize("item", GOOD, ids=lambda item: f"{item.kind} {item.sql[-24:]}")
def test_what_is_what_it_says(item: A) -> None:
    assert mysql_incoming.fit(item).lost == ""


@pytest.mark.parametrize("item", BAD, ids=lambda item: f"{item.kind} {item.sql[-24:]}")
def test_what_would_do_more(item: A) -> None:
    assert mysql_incoming.fit(item).lost


def test_a_definer_is_left() -> None:
    for account in ("`a b`@`localhost`", "'a'@'%'", "root@localhost", "CURRENT_USER", "a"):
        item = A(
            "view",
            "v",
            "v",
            f"CREATE OR REPLACE DEFINER={account} SQL SECURITY DEFINER VIEW `v` AS SELECT 1",
        )
        found = mysql_incoming.fit(item)
        assert (found.sql, found.lost) == (
            "CREATE OR REPLACE SQL SECURITY DEFINER VIEW `v` AS SELECT 1",
            "",
        )


def test_what_a_program_does_is_said_in_a_line() -> None:
    assert doing(GOOD[0]) == "after each insert on wp_b; writes wp_e"
    assert doing(GOOD[1]) == "before each update on wp_b; writes wp_log; reads wp_x, wp_y"
    assert doing(GOOD[2]) == "reads wp_a, wp_b"
    prepared = A("routine", "p", "", "CREATE PROCEDURE p() BEGIN PREPARE s FROM @a; EXECUTE s; END")
    assert "makes statements out of texts" in doing(prepared)


COLUMNS = """CREATE TABLE `t` (
  `a` int(11) NOT NULL DEFAULT 0 CHECK (`a` > 0),
  `b` varchar(3) DEFAULT 'x(\'\'' COMMENT 'a;b SELECT',
  PRIMARY KEY (`a`)
)"""
OPTIONS = [
    " ENGINE=InnoDB AUTO_INCREMENT=5 DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_general_ci COMMENT='x' ROW_FORMAT=DYNAMIC",
    "", " ENGINE=MRG_MyISAM DEFAULT CHARSET=latin1 INSERT_METHOD=LAST UNION=(`a`,`b`)",
    " ENGINE=InnoDB /*!50100 PARTITION BY RANGE (`a`) (PARTITION p0 VALUES LESS THAN (10) ENGINE = InnoDB,"
    " PARTITION p1 VALUES LESS THAN MAXVALUE ENGINE = InnoDB) */",
    " ENGINE=InnoDB WITH SYSTEM VERSIONING\n PARTITION BY SYSTEM_TIME INTERVAL 1 WEEK\n"
    "(PARTITION p HISTORY ENGINE=InnoDB, PARTITION c CURRENT ENGINE=InnoDB)",
    " ENGINE=InnoDB `PAGE_COMPRESSED`='ON' DEFAULT CHARACTER SET utf8", " ENGINE=InnoDB\n PARTITION BY KEY (`a`)\nPARTITIONS 4",
    " ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 /*!80016 DEFAULT ENCRYPTION='N' */",
]  # fmt: skip
BEYOND = [
    " SELECT load_file('x') AS a", " AS SELECT 1", " ENGINE=InnoDB DATA DIRECTORY='/tmp'",
    " ENGINE=FEDERATED CONNECTION='mysql://x'", " ENGINE=CONNECT TABLE_TYPE=CSV FILE_NAME='/etc/passwd'",
    " ENGINE=InnoDB IGNORE SELECT 1", " UNION=(mysql.user)", " PARTITION BY HASH(a) (PARTITION p DATA DIRECTORY '/tmp')",
    " PARTITION BY HASH(a) SELECT 1", "; DROP TABLE x", " COMMENT='x' TABLE x", " PARTITION BY HASH(a) PARTITIONS 2 AS TABLE x",
    " PARTITION BY HASH(a) PARTITIONS 2 REPLACE VALUES (1)", " LIKE x", " ENGINE=InnoDB /*!50100 SELECT 1 */",
    " ENGINE=InnoDB PARTITION BY HASH(a) (PARTITION p ENGINE=CONNECT)", " COMMENT=", " ENGINE=(a)", " CONNECTION='x'",
]  # fmt: skip


@pytest.mark.parametrize("options", OPTIONS)
def test_a_table_as_servers_print_it(options: str) -> None:
    assert mysql_incoming.unfit_table(COLUMNS + options, "t") == ""


@pytest.mark.parametrize("options", BEYOND)
def test_a_table_with_more_behind_it(options: str) -> None:
    assert mysql_incoming.unfit_table(COLUMNS + options, "t")


@pytest.mark.parametrize(
    "schema",
    ["CREATE TABLE t (a int DEFAULT (load_file('x')))", "CREATE TABLE t LIKE mysql.user", "CREATE TEMPORARY TABLE t (a int)",
     "CREATE TABLE t (a int, FOREIGN KEY (a) REFERENCES mysql.b (a))", "CREATE TABLE x (a int)", "CREATE TABLE t (SELECT 1)",
     "CREATE TABLE t (a int AS (other.f(1)))", "CREATE TABLE t (a int", "DROP TABLE t"],
)  # fmt: skip
def test_a_table_that_is_none(schema: str) -> None:
    assert mysql_incoming.unfit_table(schema, "t")


@given(
    st.text(alphabet="ab'\"`\\/*!-# \n();,.=@:[]{}1", max_size=40),
    st.sampled_from(["", "ANSI_QUOTES", SQLITE]),
)
def test_any_text_can_be_looked_at(text: str, mode: str) -> None:
    for sql in (
        text,
        f"CREATE TRIGGER t AFTER INSERT ON b FOR EACH ROW {text}",
        f"CREATE TABLE t ({text}",
    ):
        with contextlib.suppress(Unreadable):
            tokens(sql, mode)
        for kind in ("trigger", "view", "routine", "constraint", "default", "sequence"):
            mysql_incoming.fit(A(kind, "t", "b", sql, "1"))  # type: ignore[arg-type]
            sqlite_incoming.fit(A(kind, "t", "b", sql))  # type: ignore[arg-type]
        mysql_incoming.unfit_table(sql)
        sqlite_incoming.unfit_table(sql)


# -- in a file ---------------------------------------------------------------------------------------------------

LITE = [
    A("index", "i", "b", "CREATE UNIQUE INDEX i ON b (a, lower(c)) WHERE a > 1"),
    A(
        "trigger",
        "t",
        "b",
        "CREATE TRIGGER t AFTER UPDATE OF a, c ON b FOR EACH ROW WHEN new.a > 1 BEGIN INSERT INTO l"
        " VALUES (new.a); UPDATE e SET n = (SELECT count(*) FROM b WHERE b.e = e.id); END",
    ),
    A("trigger", "t", "b", 'CREATE TRIGGER "t" INSTEAD OF DELETE ON [b] BEGIN SELECT 1; END'),
    A("view", "v", "v", "CREATE VIEW v AS WITH x AS (SELECT 1 AS n) SELECT x.n FROM x -- the end"),
    A(
        "search",
        "s",
        "b",
        "CREATE VIRTUAL TABLE s USING fts5(title, body, content='b', content_rowid='id')",
    ),
]
LITE_BAD = [
    A("trigger", "t", "b", "ATTACH DATABASE '/tmp/x' AS x"), A("trigger", "t", "b", "COMMIT"),
    A("trigger", "t", "b", "CREATE TRIGGER t AFTER INSERT ON b BEGIN SELECT 1; END; ATTACH DATABASE 'x' AS y"),
    A("trigger", "t", "b", "CREATE TRIGGER t AFTER INSERT ON b BEGIN PRAGMA writable_schema = 1; END"),
    A("trigger", "t", "b", "CREATE TRIGGER t AFTER INSERT ON b BEGIN SELECT load_extension('x'); END"),
    A("trigger", "t", "b", "CREATE TEMP TRIGGER t AFTER INSERT ON b BEGIN SELECT 1; END"),
    A("trigger", "t", "b", "CREATE TRIGGER t AFTER INSERT ON c BEGIN SELECT 1; END"),
    A("trigger", "t", "b", "CREATE TRIGGER t AFTER INSERT ON b BEGIN INSERT INTO x.l VALUES (1); END"),
    A("index", "i", "b", "DROP TABLE b"), A("index", "i", "b", "CREATE INDEX j ON b (a)"),
    A("view", "v", "v", "CREATE VIEW v AS SELECT 1; DROP TABLE b"), A("view", "v", "v", "CREATE TABLE v AS SELECT 1"),
    A("view", "v", "v", "CREATE VIEW v AS SELECT writefile('x', 'y')"), A("view", "v", "v", "CREATE VIEW v AS SELECT 1 # x"),
    A("search", "s", "b", "CREATE VIRTUAL TABLE s USING csv(filename='/etc/passwd')"),
    A("search", "s", "b", "CREATE VIRTUAL TABLE s USING fts5(a); DROP TABLE b"),
    A("constraint", "c", "b", "ANYTHING"),
]  # fmt: skip


@pytest.mark.parametrize("item", LITE, ids=lambda item: item.sql[-24:])
def test_what_a_file_takes(item: A) -> None:
    assert sqlite_incoming.fit(item).lost == ""


@pytest.mark.parametrize("item", LITE_BAD, ids=lambda item: item.sql[-24:])
def test_what_a_file_does_not_take(item: A) -> None:
    assert sqlite_incoming.fit(item).lost


@pytest.mark.parametrize(
    "schema",
    ["CREATE TABLE t AS SELECT 1", "CREATE TABLE t (a) AS SELECT 1", "CREATE TABLE t (a); DROP TABLE b", "ATTACH 'x' AS y",
     "CREATE TEMP TABLE t (a)", "CREATE VIRTUAL TABLE t USING csv(filename='x')", "CREATE TABLE t (a DEFAULT (readfile('x')))"],
)  # fmt: skip
def test_tables_that_a_file_does_not_take(schema: str) -> None:
    assert sqlite_incoming.unfit_table(schema)
    assert not sqlite_incoming.unfit_table(
        "CREATE TABLE t (a TEXT CHECK (a <> ';'), [b c]) STRICT, WITHOUT ROWID"
    )


def test_no_statement_opens_another_file(tmp_path: Path) -> None:
    """Whatever came through: SQLite asks."""
    other = tmp_path / "other.sqlite"
    sqlite3.connect(tmp_path / "mine.sqlite").execute("CREATE TABLE t (a)")
    database = SqliteDatabase(tmp_path / "mine.sqlite")
    for sql in (f"ATTACH DATABASE '{other}' AS y", "SELECT load_extension('x')"):
        with pytest.raises((sqlite3.Error, DatabaseError)):
            database._connection.execute(sql).fetchall()
    database._connection.execute("VACUUM")
    with pytest.raises(DatabaseError):
        database.swap([], [], [A("trigger", "t", "t", f"ATTACH DATABASE '{other}' AS y")])
    database.close()
    assert not other.exists()


# -- on the whole way --------------------------------------------------------------------------------------------


def test_programs_are_named_in_the_plan_and_can_be_left(sample: Sample) -> None:
    there = sqlite3.connect(sample.root("production") / "data/harrowmere.sqlite")
    tables = [
        row[0]
        for row in there.execute(
            "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite%' ORDER BY 1"
        )
    ]
    one, two = tables[:2]
    there.execute(
        f"CREATE TRIGGER noted AFTER DELETE ON {one} BEGIN UPDATE {two} SET rowid = rowid; END"
    )
    there.execute(f"CREATE VIEW all_of_it AS SELECT * FROM {one}")
    there.commit()
    plan = vetrin(sample.folder, "pull", "--dry-run").stdout
    assert f"after each delete on {one}; writes {two}" in " ".join(plan.split())
    told = document(sample.folder, "pull", "--dry-run")["programs"]
    assert {
        "kind": "view",
        "name": "all_of_it",
        "table": "all_of_it",
        "does": f"reads {one}",
    } in told

    def names() -> set[str]:
        here = sqlite3.connect(sample.root("local") / "data/harrowmere.sqlite")
        return {row[0] for row in here.execute("SELECT name FROM sqlite_master")}

    vetrin(sample.folder, "pull", "--yes", "--leave-programs", "triggers,views")
    assert not {"noted", "all_of_it"} & names()
    vetrin(sample.folder, "pull", "--yes")
    assert {"noted", "all_of_it"} <= names()
    assert (
        "did you mean"
        in vetrin(sample.folder, "pull", "--yes", "--leave-programs", "trigger", code=2).stderr
    )


@pytest.fixture
def account(database_server: DatabaseServer) -> Credentials:
    database_server.create("arriving", "arriving", "steam")
    for name in ("seen", "kept"):
        database_server.run(f"DROP TABLE IF EXISTS {name}", database="arriving")
    database_server.run(
        "CREATE TABLE kept (a INT)",
        "CREATE DATABASE IF NOT EXISTS arriving_not",
        database="arriving",
    )
    database_server.run("CREATE TABLE IF NOT EXISTS log (a INT)", database="arriving_not")
    return Credentials("arriving", "arriving", "steam", "localhost", 0, database_server.socket)


def test_what_servers_print_passes(account: Credentials, database_server: DatabaseServer) -> None:
    """Real triggers, views and routines, as they are read, go through; one that speaks of another database does not."""
    database_server.run(
        "DROP TRIGGER IF EXISTS own", "DROP PROCEDURE IF EXISTS counted", "DROP FUNCTION IF EXISTS doubled",
        "CREATE OR REPLACE VIEW seen_all AS SELECT k.a, TRIM(LEADING 'x' FROM k.a) AS b, EXTRACT(YEAR FROM NOW()) AS y"
        " FROM kept k JOIN (SELECT 1 AS n) AS one ON one.n = k.a",
        "CREATE TRIGGER own BEFORE INSERT ON kept FOR EACH ROW BEGIN IF NEW.a < 0 THEN SET NEW.a = IF(NEW.a < -5, 1, 0);"
        " ELSEIF NEW.a > 9 THEN SET NEW.a = CASE NEW.a WHEN 10 THEN 1 ELSE 2 END; END IF; END",
        "CREATE TRIGGER abroad AFTER INSERT ON kept FOR EACH ROW INSERT INTO arriving_not.log VALUES (NEW.a)",
        "CREATE FUNCTION doubled(n INT) RETURNS INT DETERMINISTIC RETURN 2 * n",
        "CREATE PROCEDURE counted(OUT n INT) COMMENT 'it''s' BEGIN DECLARE done INT DEFAULT 0; l: LOOP SET done = done + 1;"
        " IF done > 3 THEN LEAVE l; END IF; END LOOP l; SELECT COUNT(*) INTO n FROM kept; END",
        database="arriving",
    )  # fmt: skip
    database = MysqlDatabase(account)
    try:
        facts = database.facts()
        found = [*database.attachments(["kept"], ["seen_all"]), *database.routines()]
        told = {item.name: database.adapt_attachment(item, facts).lost for item in found}
    finally:
        database.close()
        database_server.run("DROP TRIGGER abroad", database="arriving")
    assert "arriving_not" in told.pop("abroad")
    assert told == {"own": "", "seen_all": "", "doubled": "", "counted": ""}


def test_a_target_keeps_its_own_although_none_may_bring_it(
    account: Credentials, database_server: DatabaseServer
) -> None:
    """A trigger of the target into another database goes off and on with its table."""
    from vetrin.jobs.switch import own_again

    database_server.run("CREATE TRIGGER abroad AFTER INSERT ON kept FOR EACH ROW INSERT INTO arriving_not.log VALUES (1)",
                        "CREATE TABLE _vetrin_arriving_ab_0 LIKE kept", database="arriving")  # fmt: skip
    database_server.run("GRANT ALL ON arriving_not.* TO 'arriving'@'%'")
    database = MysqlDatabase(account)
    try:
        hanging = own_again(database.attachments(["kept"], []))
        database.swap(
            [Exchange("kept", "_vetrin_arriving_ab_0", "_vetrin_parked_ab_0")], hanging, hanging
        )
        assert [
            item.name for item in database.attachments(["kept"], []) if item.kind == "trigger"
        ] == ["abroad"]
    finally:
        database.close()
        database_server.run(
            "DROP TRIGGER IF EXISTS abroad", "DROP TABLE _vetrin_parked_ab_0", database="arriving"
        )


def test_a_stores_programs_pass_the_gate(railway: Railway) -> None:
    """A snapshot whose triggers are something else is restored without them, and says so."""
    there = sqlite3.connect(railway.folder / "production/data/harrowmere.sqlite")
    (table,) = there.execute(
        "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite%'"
    ).fetchone()
    there.execute(f"CREATE TRIGGER planted AFTER INSERT ON {table} BEGIN SELECT 1; END")
    there.commit()
    other = railway.folder / "planted.sqlite"
    manifest = railway.backup()
    assert manifest.data is not None
    planted = [
        replace(item, sql=f"ATTACH DATABASE '{other}' AS y") if item.name == "planted" else item
        for item in manifest.data.attachments
    ]
    railway.store.remove(manifest)
    railway.store.add(replace(manifest, data=replace(manifest.data, attachments=tuple(planted))))
    done = railway.vetrin("restore", "local", manifest.id, "--yes")
    assert "the trigger planted stays behind: it is no trigger of that name" in " ".join(
        done.split()
    )
    assert not other.exists()
