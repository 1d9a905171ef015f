"""The contract of ``ReadableDatabase``: every engine, by every way, and what is stored, read the same rows."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from readable import KINDS, Source, by_hand, rows_of, source_of, table_of
from vetrin.database import (
    NO_ROWS,
    AllOf,
    AnyOf,
    Cleared,
    Compared,
    InSubquery,
    KeyRange,
    Like,
    Lowered,
    Not,
    OneOf,
    PagesAfter,
    RowsAside,
    Sql,
    digests_by_reading,
    spans,
    with_pages,
)
from vetrin.database.digests import digest_of_records, joint_digest
from vetrin.database.mysql import read_digests
from vetrin.database.mysql.page_digests import PageDigests
from vetrin.database.row_codec import RecordForm, cells_of
from vetrin.errors import DatabaseError

Row = tuple[int, str | None, int, int, str | None]
ENTRIES = [
    (1, "page", 0, 2, "50%_off"), (2, "event", 1, 1, None), (3, "page", 2, 0, "9"),
    (4, None, 2, 0, "10"), (7, "Page", 1, 0, "Übergang, 'ß' | \"x\""),
]  # fmt: skip
ANSWERS = [(1, 1, "good"), (2, 1, "spam"), (3, 2, "good"), (4, 1, "good")]
LAID_OUT = [
    "CREATE TABLE entries (id INTEGER PRIMARY KEY, kind VARCHAR(20), above INT, answers INT, note TEXT)",
    "CREATE TABLE answers (id INTEGER PRIMARY KEY, entry INT, state VARCHAR(9),"
    " CONSTRAINT belongs FOREIGN KEY (entry) REFERENCES entries (id) ON DELETE CASCADE)",
    "CREATE TABLE loose (a INT, b VARCHAR(9))",
    f"INSERT INTO entries VALUES {by_hand(ENTRIES)}",
    f"INSERT INTO answers VALUES {by_hand(ANSWERS)}",
    "INSERT INTO loose VALUES (1, 'x'), (1, 'x'), (NULL, NULL)",
    "CREATE VIEW pages AS SELECT id FROM entries WHERE kind = 'page'",
]
# A condition, and the IDs of the entries that meet it.
CONDITIONS: list[tuple[Any, set[int]]] = [
    (OneOf("kind", ("event",)), {2}),
    (OneOf("kind", ()), set()),
    ({"kind": ["page", "event"], "above": 2}, {3}),
    (Like("note", "begins", ("50%_",)), {1}),
    (Like("note", "contains", ("%_", "x|y")), {1}),
    (Like("note", "ends", ("_ff", "0")), {4}),
    # A text is read as a number as far as it is one: 50%_off begins with 50, Übergang with none.
    (Compared("note", "<", 10), {3, 7}),
    (Compared("note", "<", "2"), {4}),
    (Not(OneOf("kind", ("event",))), {1, 3, 4, 7}),
    (InSubquery("id", "answers", "entry"), {1, 2}),
    (InSubquery("id", "answers", "entry", OneOf("state", ("spam",))), {1}),
    (InSubquery("kind", "entries", "kind", OneOf("id", (1,)), ("page", "event")), {2}),
    (InSubquery("kind", "entries", "kind", OneOf("id", (1,)), ("page", "ent"), "ev"), {2}),
    (AllOf(()), {1, 2, 3, 4, 7}),
    (AnyOf((OneOf("id", (1,)), OneOf("id", (4,)))), {1, 4}),
    (Sql("note LIKE '50%' OR id = 2"), {1, 2}),
]


@pytest.fixture(params=KINDS)
def source(request: pytest.FixtureRequest, tmp_path: Path) -> Source:
    return source_of(request, request.param, tmp_path)


def test_what_there_is(source: Source) -> None:
    with source.opened(*LAID_OUT) as database:
        assert sorted(table.name for table in database.tables()) == ["answers", "entries", "loose"]
        entries = table_of(database, "entries")
        assert [column.name for column in entries.columns] == [
            "id",
            "kind",
            "above",
            "answers",
            "note",
        ]
        assert entries.key == ("id",) and table_of(database, "loose").key in ((), ("rowid",))
        assert database.views() == ["pages"] and database.broken_views() == {} == database.broken()
        (key,) = database.foreign_keys()
        assert (key.table, tuple(key.columns), key.parent) == ("answers", ("entry",), "entries")
        assert "entries" in database.schema("entries")
        assert {item.kind for item in database.attachments(["answers"], ["pages"])} >= {"view"}
        assert database.size() > 0 and not database.missing
        assert database.is_same(database)
        with pytest.raises(DatabaseError):
            database.schema("nowhere")


def test_rows_come_in_the_order_of_the_key_in_small_batches(source: Source) -> None:
    rows = [(number, number % 7, f"row {number}") for number in range(-20, 980)]
    chance = random.Random(4)
    mixed = chance.sample(rows, len(rows))
    with source.opened(
        "CREATE TABLE a (id INTEGER, part INTEGER, note VARCHAR(20), PRIMARY KEY (id, part))",
        f"INSERT INTO a VALUES {by_hand(mixed)}",
    ) as database:
        assert list(map(tuple, rows_of(database, "a"))) == rows
        table = table_of(database, "a")
        with database.reading() as reader:
            sizes = [batch.rows for batch in reader.rows(table, 1000)]
            assert sum(sizes) == 1000 and len(sizes) > 5 and max(sizes) < 500
            kept = [
                batch for stretch in reader.records(table, 1000) for batch in [b"".join(stretch)]
            ]
        mixed_types = source.kind.startswith("sqlite")
        cells = [cell for records in kept for cell in cells_of(records, mixed_types)]
        texts = [str(cell, "utf-8") if isinstance(cell, bytes) else str(cell) for cell in cells]
        assert texts == [str(value) for row in rows for value in row]


def test_ranges_of_the_key_are_all_rows_once(source: Source) -> None:
    rows = [(number, number * number % 11, "x" * (number % 30)) for number in range(1, 301)]
    with source.opened(
        "CREATE TABLE a (i INTEGER, k INTEGER, t VARCHAR(40), PRIMARY KEY (i, k))",
        f"INSERT INTO a VALUES {by_hand(rows)}",
    ) as database:
        table = table_of(database, "a")
        with database.reading() as reader:
            pages = [page for b in with_pages(table, reader.rows(table, 800)) for page in b.pages]
        ranges = spans(pages)
        assert len(ranges) > 3
        found = [row for key_range in ranges for row in rows_of(database, "a", key_range=key_range)]
        assert list(map(tuple, found)) == rows
        assert (
            list(map(tuple, rows_of(database, "a", key_range=KeyRange((7, 5), (9, 4)))))
            == rows[7:9]
        )
        # What is digested where the rows are is what is digested of rows that were read.
        with database.reading() as reader:
            made = reader.digests(table, ranges)
            assert made == [page.digest for page in pages] and len(set(made)) == len(made)
            wrong = [made[0]] * len(made)
            for known in (made, wrong, made):
                assert reader.digests(table, ranges, known=known) == made
            assert made == digests_by_reading(
                lambda key_range: reader.rows(table, key_range=key_range), ranges
            )


KEYS = 700
EDIT = st.tuples(
    st.sampled_from(["change", "remove", "add", "swap"]), st.integers(-5, 2 * KEYS + 9)
)


@settings(
    max_examples=10, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(
    rounds=st.lists(st.lists(EDIT, max_size=5), min_size=3, max_size=5),
    several=st.booleans(),
    batch=st.sampled_from([1 << 20, 4000]),
)
def test_what_differs_is_found_whatever_was_changed(
    source: Source,
    tmp_path: Path,
    rounds: list[list[tuple[str, int]]],
    several: bool,
    batch: int,
) -> None:
    """The digests are those of the rows, whatever is remembered of how they looked; of a page that differs, all that
    does lies in the parts that are put aside, and their rows are those that would be read again."""
    key = "a, b" if several else "a"
    rows = {2 * number: "x" * (number % 19) for number in range(KEYS)}
    with source.opened(
        "DROP TABLE IF EXISTS t",
        f"CREATE TABLE t (a BIGINT, b INT NOT NULL, v VARCHAR(40), PRIMARY KEY ({key}))",
        f"INSERT INTO t VALUES {by_hand([(at, at % 5, text) for at, text in rows.items()])}",
    ) as database:
        table = table_of(database, "t")
        with database.reading() as reader:
            taken = with_pages(table, reader.rows(table, batch), reader.prints)
            pages = [page for one in taken for page in one.pages]
        ranges = [*spans(pages), KeyRange(pages[-1].upto)]
        known = [*(page.digest for page in pages), NO_ROWS]
        key_of = RecordForm(table, mixed=source.kind.startswith("sqlite")).key

        def rows_now() -> dict[tuple[int, ...], bytes]:
            with database.reading() as reader:
                return {key_of(row): row for some in reader.records(table) for row in some}

        before = rows_now()
        for edits in rounds:
            statements = edit(rows, edits)
            if not source.kind.endswith("stored"):
                source.run(*statements)
            with database.reading() as reader, RowsAside(tmp_path) as aside:
                found = reader.digests(table, ranges, known=known, aside=aside)
                parts_of = [aside.take(number) for number in range(len(ranges))]
            now = rows_now()
            assert found == [digest_of_records(within(now, one)) for one in ranges]
            for number, one in enumerate(ranges):
                parts = parts_of[number]
                assert not parts or found[number] != known[number]
                if source.kind == "sqlite":
                    assert parts or found[number] == known[number]
                were, are = within(before, one), within(now, one)
                for part in parts:
                    gone, again = within(before, part.key_range), within(now, part.key_range)
                    assert part.records in (None, again)
                    assert part.digests == (digest_of_records(gone), digest_of_records(again))
                    were, are = list_without(were, gone), list_without(are, again)
                assert were == are or not parts
            known, before = found, now


@pytest.mark.parametrize(
    "source",
    ["mariadb by reading", "mariadb by reading elsewhere", "mariadb by ssh, read there"],
    indirect=True,
)
def test_of_a_page_that_changed_a_few_rows_are_looked_at(source: Source, tmp_path: Path) -> None:
    rows = [(number, "x" * (number % 19)) for number in range(700)]
    with source.opened(
        "CREATE TABLE t (a BIGINT PRIMARY KEY, v VARCHAR(40))",
        f"INSERT INTO t VALUES {by_hand(rows)}",
    ) as database:
        table = table_of(database, "t")
        with database.reading() as reader:
            taken = with_pages(table, reader.rows(table), reader.prints)
            pages = [page for one in taken for page in one.pages]
        source.run("UPDATE t SET v = 'another' WHERE a = 100")
        with database.reading() as reader, RowsAside(tmp_path) as aside:
            known = [page.digest for page in pages]
            reader.digests(table, spans(pages), known=known, aside=aside)
            (part,), *others = (aside.take(number) for number in range(len(pages)))
            assert not any(others)
            assert part.key_range == KeyRange((95,), (111,))
            assert part.records is None or len(part.records) == 16


@pytest.mark.parametrize(
    "source", ["mariadb by reading", "mariadb by ssh, read there"], indirect=True
)
def test_pages_that_were_written_are_known_by_what_was(
    source: Source, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What rows will look like is remembered as they are written, so they need not be taken apart, nor digested by
    the server, the first time either."""
    rows = [(number, number % 5, "x" * (number % 300), f"{number / 8}") for number in range(1500)]
    with source.opened(
        "CREATE TABLE t (a INT, b INT, v VARCHAR(300), w DOUBLE, d DATE NULL, PRIMARY KEY (a, b))",
        f"INSERT INTO t (a, b, v, w) VALUES {by_hand(rows)}",
    ) as database:
        table, pages = table_of(database, "t"), []
        after = PagesAfter(table, database.prints)  # type: ignore[attr-defined]
        with database.reading() as reader:
            for batch in with_pages(table, reader.rows(table, 50_000)):
                for row in range(0, batch.rows, 7):
                    batch.set(row, 2, b"%s, and more" % batch.row(row)[0])
                    batch.set(row, 4, b"2031-05-01")
                pages += after.of(batch)
                changed = ", ".join(str(int(batch.row(row)[0])) for row in range(0, batch.rows, 7))
                source.run(
                    f"UPDATE t SET v = CONCAT(a, ', and more'), d = '2031-05-01' WHERE a IN ({changed})"
                )
        after.end()
        should = [page.became for page in pages]
        assert not set(should) & {page.digest for page in pages}
        asked: list[Sequence[KeyRange]] = []

        def digested(self: object, of: Sequence[KeyRange]) -> Iterator[object]:
            asked.append(of)
            yield []

        monkeypatch.setattr(read_digests, "sums_of_records", None)
        monkeypatch.setattr(PageDigests, "of", digested)
        with database.reading() as reader:
            assert reader.digests(table, spans(pages), known=should) == should
        assert not asked


def test_a_large_table_without_a_key_is_known_by_the_stretches_in_which_it_came(
    source: Source, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(read_digests, "_HELD", 1000)
    with source.opened(
        "CREATE TABLE t (a INT, v VARCHAR(40))",
        "CREATE TABLE u (a INT PRIMARY KEY, v VARCHAR(40))",
        f"INSERT INTO t VALUES {by_hand([(at, 'x' * (at % 19)) for at in range(700)])}",
        f"INSERT INTO u VALUES {by_hand([(at, 'y') for at in range(9)])}",
    ) as database:
        tables = table_of(database, "t"), table_of(database, "u")
        known = []
        for table in tables:
            with database.reading() as reader:
                taken = with_pages(table, reader.rows(table, 4000), reader.prints)
                known.append(joint_digest(page.digest for one in taken for page in one.pages))
        for change in (
            "UPDATE t SET v = 'z' WHERE a = 350",
            "UPDATE t SET v = 'longer than it was before' WHERE a = 699",
            "INSERT INTO t VALUES (700, 'one more')",
            "DELETE FROM t WHERE a IN (3, 698)",
            "DELETE FROM t WHERE a > 100",
            "DELETE FROM t",
        ):
            for _ in range(2):  # as it was, and as it is now
                # The connection goes on behind the answer, wherever in it a difference was seen.
                with database.reading() as reader:
                    now = [
                        *reader.digests(tables[0], [KeyRange()], known=known[:1]),
                        *reader.digests(tables[1], [KeyRange()], known=known[1:]),
                    ]
                with database.reading() as reader:
                    assert now == [
                        digest_of_records(row for some in reader.records(table) for row in some)
                        for table in tables
                    ]
                known = now
            if not source.kind.endswith("stored"):
                source.run(change)


def within(rows: dict[tuple[int, ...], bytes], key_range: KeyRange) -> list[bytes]:
    return [row for key, row in rows.items() if key_range.holds(key)]


def list_without(rows: list[bytes], some: list[bytes]) -> list[bytes]:
    return [row for row in rows if row not in some]


def edit(rows: dict[int, str], edits: list[tuple[str, int]]) -> list[str]:
    """The statements that make some edits, which are made in ``rows``, too."""
    found = []
    for what, at in edits:
        if what == "remove":
            rows.pop(at, None)
            found.append(f"DELETE FROM t WHERE a = {at}")
        elif what == "add" and at not in rows:
            rows[at] = "added"
            found.append(f"INSERT INTO t VALUES ({at}, {at % 5}, 'added')")
        elif what == "swap" and at in rows and at + 1 not in rows:
            rows[at + 1] = rows.pop(at)
            found.append(f"UPDATE t SET a = {at + 1} WHERE a = {at}")
        elif what == "change" and at in rows:
            rows[at] += "+"
            found.append(f"UPDATE t SET v = '{rows[at]}' WHERE a = {at}")
    return found


def test_values_of_every_kind_are_digested_alike(source: Source) -> None:
    texts = [f"'{'x' * length}'" for length in (0, 249, 250, 251, 65534, 65535, 70000)]
    values = [*texts, "'é''\"ü'", "NULL", "x'00ff80'", "0.1", "-1.5e300", "-9223372036854775808"]
    rows = ", ".join(f"({number}, {value})" for number, value in enumerate(values))
    with source.opened(
        "CREATE TABLE a (id INTEGER PRIMARY KEY, v BLOB)"
        if source.kind.startswith("sqlite")
        else "CREATE TABLE a (id INTEGER PRIMARY KEY, v LONGBLOB)",
        f"INSERT INTO a VALUES {rows}",
    ) as database:
        table = table_of(database, "a")
        ranges = [KeyRange((number - 1,), (number,)) for number in range(len(values))]
        with database.reading() as reader:
            made = reader.digests(table, ranges)
            assert made == digests_by_reading(
                lambda key_range: reader.rows(table, key_range=key_range), ranges
            )
            for _ in range(2):
                assert reader.digests(table, ranges, known=made) == made
        assert len(set(made)) == len(values)


def test_rows_that_meet_a_condition(source: Source) -> None:
    everyone = {row[0] for row in ENTRIES}
    with source.opened(*LAID_OUT) as database:
        for where, meet in CONDITIONS:
            assert database.count("entries", where) == len(meet), where
            assert {
                row[0] for row in rows_of(database, "entries", leave=where)
            } == everyone - meet, where
            found = database.select("entries", ["id"], where=where, order=["id"])
            assert found == [(number,) for number in sorted(meet)], where


def test_columns_are_put_right_where_rows_are_left_out(source: Source) -> None:
    spam = OneOf("state", ("spam",))
    with source.opened(*LAID_OUT) as database:
        rows = rows_of(
            database, "entries", leave=OneOf("id", (2,)),
            replacements={
                "above": Cleared(InSubquery("above", "entries", "id", OneOf("id", (2,))), 0),
                "answers": Lowered("id", "answers", "entry", spam),
            },
        )  # fmt: skip
        assert [(row[0], row[2], row[3]) for row in rows] == [
            (1, 0, 1),
            (3, 0, 0),
            (4, 0, 0),
            (7, 1, 0),
        ]
    # A count that was too low already stops at nothing, and no count at all stays none.
    with source.opened(
        "UPDATE entries SET answers = 0 WHERE id = 1",
        "UPDATE entries SET answers = NULL WHERE id = 3",
    ) as database:
        lowered = {"answers": Lowered("id", "answers", "entry", AllOf(()))}
        assert [row[3] for row in rows_of(database, "entries", replacements=lowered)] == [
            0,
            0,
            None,
            0,
            0,
        ]


def test_a_few_rows_to_look_at(source: Source) -> None:
    with source.opened(*LAID_OUT) as database:
        assert database.select("entries", ["note", "id"], order=["id"], descending=True, limit=2) == [
            (ENTRIES[4][4], 7), ("10", 4),
        ]  # fmt: skip
        assert database.count("entries") == 5 and database.count("loose") == 3
        groups = dict(database.groups("answers", ["state"]))
        assert groups == {"good": 3, "spam": 1}
        assert database.groups("answers", ["state"], {"entry": [1]})[0] == ("good", 2)
        longest = max(len((row[4] or "").encode()) for row in ENTRIES)
        assert database.longest(table_of(database, "entries")) == ("note", longest)
        assert sorted(map(tuple, rows_of(database, "loose")), key=repr) == [
            (1, "x"),
            (1, "x"),
            (None, None),
        ]


@pytest.mark.parametrize(
    "call",
    [
        lambda database: database.count("nowhere"),
        lambda database: database.select("nowhere", ["a"]),
        lambda database: database.groups("nowhere", ["a"]),
    ],
)
def test_a_table_that_is_not_there_is_an_error(
    source: Source, call: Callable[[Any], object]
) -> None:
    with source.opened(*LAID_OUT) as database, pytest.raises(DatabaseError):
        call(database)
