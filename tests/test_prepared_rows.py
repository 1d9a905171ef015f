"""Rows that go in by prepared statements arrive as they were, whatever is in them and however they come."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from systems import Mariadb
from vetrin.database import KeyRange
from vetrin.database.batch import Batch
from vetrin.database.mysql.database import Credentials, MysqlDatabase
from vetrin.database.mysql.prepared_rows import Packed, PreparedRows, without_nulls
from vetrin.database.mysql.wire import Wire
from vetrin.database.page_prints import PagePrints
from vetrin.database.row_codec import current_records, records_of

CELLS = st.none() | st.sampled_from([b"", b"\xfb", b"\xfb" * 300, b"\\N'\0", b"x" * 70_000]) | st.binary(max_size=9)  # fmt: skip
ROWS = st.lists(st.tuples(CELLS, CELLS), max_size=60)


@pytest.fixture
def wire(mariadb_server: Mariadb) -> Iterator[Wire]:
    mariadb_server.run(
        "DROP DATABASE IF EXISTS prepared",
        "CREATE DATABASE prepared",
        "CREATE TABLE prepared.x (id INT PRIMARY KEY AUTO_INCREMENT, one LONGBLOB, other LONGBLOB)",
    )
    wire = Wire(
        unix_socket=str(mariadb_server.socket), user="root", charset="utf8mb4", database="prepared"
    )
    yield wire
    wire.close()


def batches(rows: list[tuple[bytes | None, ...]], each: int, changed: int) -> Iterator[Batch]:
    """Batches of so many rows, some with records, of which every so many-th row got another value since."""
    for first in range(0, len(rows), each):
        some = rows[first : first + each]
        cells = [
            cell for number, row in enumerate(some, first + 1) for cell in (b"%d" % number, *row)
        ]
        if changed % 2:
            yield Batch(3, cells, len(cells))
            continue
        before = [
            b"before" if at % (3 * changed + 3) == 2 else cell for at, cell in enumerate(cells)
        ]
        records = records_of(Batch(3, before, 0))
        batch = Batch(3, before.copy(), len(cells), records=records)
        for at in range(2, len(cells), 3 * changed + 3):
            batch.set(at // 3, 2, cells[at])
        assert current_records(batch) == records_of(Batch(3, cells, 0))
        assert batch.records == records_of(Batch(3, before, 0))
        yield batch


@settings(
    max_examples=30, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(
    rows=ROWS,
    each=st.integers(1, 30),
    changed=st.integers(0, 4),
    together=st.sampled_from([100, 2000, 1 << 20]),
)
def test_rows_arrive_as_they_were(
    wire: Wire,
    rows: list[tuple[bytes | None, ...]],
    each: int,
    changed: int,
    together: int,
) -> None:
    with wire.cursor() as cursor:
        cursor.execute("TRUNCATE TABLE x")
        prepared = PreparedRows(wire, "x", ["id", "one", "other"], (192 << 10) + together)
        assert prepared.prepare()
        wire.begin()
        left = 0
        for one in prepared.packed(batches(rows, each, changed)):
            if isinstance(one, Packed):
                prepared.send(one)
            else:
                left += one.rows
                assert any(len(record) >= together for record in current_records(one))
        stored, warnings = prepared.finish()
        wire.commit()
        prepared.close()
        assert (stored, warnings) == (len(rows) - left, 0)
        cursor.execute("SELECT id, one, other FROM x ORDER BY id")
        there = [*cursor.fetchall()]
        if not left:
            assert there == [(n, *row) for n, row in enumerate(rows, 1)]
        cursor.execute("SHOW GLOBAL STATUS LIKE 'Prepared_stmt_count'")
        assert cursor.fetchall()[0][1] in ("0", 0, b"0")


def test_a_null_is_told_from_the_byte_that_means_it() -> None:
    cells = [b"\xfb", None, None, b"", b"\xfb" * 251, b"a"]
    found = without_nulls(records_of(Batch(3, cells, 0)))
    assert found.nulls == {0: [1, 2]}
    assert found.records == [b"\x01\xfb", records_of(Batch(3, cells[3:], 0))[0]]


def test_a_table_may_have_more_columns_than_a_statement_should_have_values(wire: Wire) -> None:
    with wire.cursor() as cursor:  # an Aria table; InnoDB has fewer
        columns = [f"c{number}" for number in range(2100)]
        cursor.execute("DROP TABLE IF EXISTS wide")
        cursor.execute(
            f"CREATE TABLE wide ({', '.join(f'{name} TINYINT' for name in columns)}) ENGINE=Aria"
        )
        prepared = PreparedRows(wire, "wide", columns, 16 << 20)
        assert prepared.prepare()
        cells: list[bytes | None] = [b"%d" % (number % 100) for number in range(4200)]
        cells[3600] = None
        for one in prepared.packed([Batch(2100, cells, 8_400)]):
            assert isinstance(one, Packed)
            prepared.send(one)
        assert prepared.finish() == (2, 0)
        cursor.execute("SELECT c7, c1500 FROM wide ORDER BY c1500 IS NULL")
        assert [*cursor.fetchall()] == [(7, 0), (7, None)]
        cursor.execute("DROP TABLE wide")


@contextlib.contextmanager
def opened(server: Mariadb, folder: Path, *tables: str, **settings: int) -> Iterator[MysqlDatabase]:
    """A database with some tables on a server with these settings."""
    server.run(
        "DROP DATABASE IF EXISTS narrow",
        *(f"SET GLOBAL {name} = {value}" for name, value in settings.items()),
    )
    server.create("narrow", "narrow", "secret")
    server.run(*tables, database="narrow")
    database = MysqlDatabase(
        Credentials("narrow", "narrow", "secret", "127.0.0.1", server.port),
        prints=PagePrints(folder / "rows.sqlite"),
    )
    try:
        yield database
    finally:
        database.close()
        server.run(
            "SET GLOBAL local_infile = 1",
            "SET GLOBAL max_prepared_stmt_count = DEFAULT",
            "DROP DATABASE narrow",
        )


@pytest.mark.parametrize("room", [0, 3])
@pytest.mark.parametrize("local_infile", [0, 1])
def test_a_server_without_room_for_statements_gets_the_rows_otherwise(
    mariadb_server: Mariadb, tmp_path: Path, local_infile: int, room: int
) -> None:
    with opened(
        mariadb_server,
        tmp_path,
        "CREATE TABLE x (id INT PRIMARY KEY, log VARCHAR(40))",
        "INSERT INTO x SELECT seq, REPEAT('log ', 9) FROM seq_1_to_5000",
        "CREATE TABLE _vetrin_x LIKE x",
        local_infile=local_infile,
        max_prepared_stmt_count=room,
    ) as database:
        (table,) = database.tables()
        for _ in range(2):
            with database.reading() as reader:
                assert database.fill("_vetrin_x", table, reader.rows(table)) == 5000
            with database.reading() as reader:
                (digest,) = reader.digests(table, [KeyRange()])
                (there,) = reader.digests(replace(table, name="_vetrin_x"), [KeyRange()])
            assert digest == there
            mariadb_server.run("TRUNCATE TABLE _vetrin_x", database="narrow")


@pytest.mark.parametrize("local_infile", [0, 1])
def test_what_does_not_fit_is_a_warning_as_with_a_load(
    mariadb_server: Mariadb, tmp_path: Path, local_infile: int
) -> None:
    """More rows than one statement has, of which two have one key, and one is cut."""
    with opened(
        mariadb_server,
        tmp_path,
        "CREATE TABLE x (id INT PRIMARY KEY, log VARCHAR(8))",
        "INSERT INTO x SELECT seq, 'log' FROM seq_1_to_30000",
        "CREATE TABLE _vetrin_x (id INT PRIMARY KEY, log VARCHAR(3))",
        local_infile=local_infile,
    ) as database:
        (table,) = database.tables()
        said: list[str] = []
        with database.reading() as reader:
            stored = database.fill("_vetrin_x", table, reader.rows(table), warned=said.append)
        assert (stored, said) == (30_000, [])
        mariadb_server.run("UPDATE x SET log = 'longer' WHERE id = 77", database="narrow")
        mariadb_server.run("TRUNCATE TABLE _vetrin_x", database="narrow")
        with database.reading() as reader:
            stored = database.fill("_vetrin_x", table, reader.rows(table), warned=said.append)
        assert stored == 30_000 and len(said) == 1
