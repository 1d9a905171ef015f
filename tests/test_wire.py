"""Rows out of the packets of a real server, wherever these are cut."""

from __future__ import annotations

import contextlib
import io
import random
import secrets
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from itertools import takewhile

import pymysql
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from systems import DatabaseServer
from vetrin.database.digests import digest_of_records, sums_of_records
from vetrin.database.mysql.accounts import Credentials
from vetrin.database.mysql.database import MysqlDatabase
from vetrin.database.mysql.side_by_side import (
    AskedPrints,
    AskedStrips,
    Query,
    Request,
    Work,
    side_by_side,
)
from vetrin.database.mysql.wire import Wire
from vetrin.database.page_prints import Packets, PagePrints, PrintsThere
from vetrin.database.strips import UNSEEN, Print, Strip, Strips
from vetrin.errors import DatabaseError
from vetrin.jobs import was_cut_off
from vetrin.remote.helper_protocol import Frames
from vetrin.remote.helper_scripts import PYTHON, source
from vetrin.remote.ssh.channel import Pipe, PrintingSocket

PACKET = 0xFFFFFF
SMALL = st.integers(0, 300)
LARGE = st.integers(-12, 12).map(lambda by: PACKET + by) | st.just(2 * PACKET - 9)


@pytest.fixture
def wire(database_server: DatabaseServer) -> Iterator[Wire]:
    database_server.run("SET GLOBAL max_allowed_packet = 1073741824")
    wire = Wire(unix_socket=str(database_server.socket), user="root", charset="utf8mb4")
    yield wire
    wire.close()


def record(length: int) -> bytes:
    """A row of one cell, after the protocol's documentation."""
    if length < 251:
        lead = bytes([length])
    elif length < 1 << 16:
        lead = b"\xfc" + length.to_bytes(2, "little")
    else:
        width, mark = (3, b"\xfd") if length < 1 << 24 else (8, b"\xfe")
        lead = mark + length.to_bytes(width, "little")
    return lead + b"x" * length


@settings(
    max_examples=12, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(
    lengths=st.lists(SMALL, min_size=1, max_size=40).flatmap(
        lambda some: st.lists(LARGE, max_size=2).flatmap(lambda big: st.permutations(some + big))
    ),
    stretch=st.sampled_from([1, 200, 1 << 16, 1 << 20]),
)
def test_rows_of_any_length(wire: Wire, lengths: list[int], stretch: int) -> None:
    sql = " UNION ALL ".join(f"SELECT REPEAT('x', {length})" for length in lengths)
    found = [row for rows in wire.records(sql, stretch) for row in rows]
    assert list(map(len, found)) == [len(record(length)) for length in lengths]
    assert all(row == record(length) for row, length in zip(found, lengths, strict=True))
    assert [row for rows in wire.records("SELECT 7", stretch) for row in rows] == [b"\x017"]


@settings(
    max_examples=12, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(
    answers=st.lists(
        st.lists(SMALL | LARGE, max_size=30).map(lambda lengths: [*lengths, 0]),
        min_size=1,
        max_size=40,
    ),
    guesses=st.lists(st.sampled_from([-400, -1, 0, 0, 0, 1, 10**6]), min_size=40, max_size=40),
    stretch=st.sampled_from([1, 200, 1 << 20]),
)
def test_rows_of_many_answers(
    wire: Wire, answers: list[list[int]], guesses: list[int], stretch: int
) -> None:
    """However much of an answer is looked at before: its rows and their packets come as they are."""
    large = [i for i, lengths in enumerate(answers) if max(lengths) > 300]
    answers = [a for i, a in enumerate(answers) if i not in large[1:]]  # they take long
    queries = [
        " UNION ALL ".join(f"SELECT REPEAT('x', {length})" for length in lengths)
        + (" LIMIT 0" if lengths == [0] else "")
        for lengths in answers
    ]
    one = Wire(unix_socket=wire.unix_socket, user="root", charset="utf8mb4")
    for rows, lengths, guess in zip(one.answers(queries), answers, guesses, strict=False):
        wanted = [record(length) for length in lengths] if lengths != [0] else []
        raw = packets_of(wanted)
        wished = max(0, len(raw) + guess)
        seen = rows.coming(wished)
        assert len(seen) == wished or guess > 0
        assert len(seen) <= wished
        assert bytes(seen[: len(raw)]) == raw[: len(seen)]
        single = [*takewhile(lambda row: len(row) < PACKET, wanted)]
        count = abs(guess) % (len(wanted) + 3)
        end, records = rows.walk(0, count)
        assert (end, records) == (len(packets_of(single[:count])), single[:count])
        assert rows.ends(end) == (len(records) == len(wanted))
        prints = PagePrints()
        packets = Packets(prints, 1)
        packets.add(wanted, sums_of_records(wanted))
        packets.learn()
        whole = wanted and all(len(row) < PACKET for row in wanted)
        assert (prints.of(digest_of_records(wanted)) is not None) == bool(whole)
        if guess % 2:
            rows.pass_by(end)
            raw, wanted = raw[end:], wanted[len(records) :]
        parts, found = [], []
        for part, apart in rows.stretches(stretch, apart=guess != 1):
            parts.append(bytes(part))
            found += apart
        assert guess == 1 or found == wanted
        assert b"".join(parts) == raw
        assert rows.at_end()
    assert len(one.several(["SELECT 7"])[0]) == 1
    one.close()


class Relayed:
    """A helper here that relays to a socket, as the pipe that leads to one elsewhere."""

    def __init__(self, path: str, word: bytes) -> None:
        self._process = subprocess.Popen(
            [sys.executable, "-I", "-c", PYTHON], stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=0
        )  # fmt: skip
        text = source("helper.py")
        self.sendall(b"%d\n%s" % (len(text), text))
        frames = Frames(self)  # type: ignore[arg-type]
        assert frames.ask("hello")["prints"]
        frames.ask("relay", socket=path, word=word.hex())

    def sendall(self, data: bytes | memoryview) -> None:
        assert self._process.stdin is not None
        rest = memoryview(data)
        while rest:
            rest = rest[self._process.stdin.write(rest) :]

    def take_into(self, into: memoryview) -> int:
        return self._process.stdout.readinto(into) or 0  # type: ignore[union-attr]

    def makefile(self, mode: str, buffering: int = 1 << 16) -> io.BufferedReader:
        return Pipe.makefile(self, mode, buffering)  # type: ignore[arg-type]

    def settimeout(self, seconds: float | None) -> None:
        return

    def close(self) -> None:
        self._process.kill()
        self._process.wait()
        for end in (self._process.stdin, self._process.stdout):
            with contextlib.suppress(OSError):
                end.close()  # type: ignore[union-attr]

    def shutdown(self, how: int) -> None:
        self.close()


@contextlib.contextmanager
def printing(wire: Wire) -> Iterator[Wire]:
    """Another connection to the same server, through a helper that tells prints."""
    word = secrets.token_bytes(16)
    one = Wire(user="root", charset="utf8mb4", defer_connect=True)
    pipe = Relayed(wire.unix_socket, word)
    try:
        one.connect(PrintingSocket(pipe, word))  # type: ignore[arg-type]
        assert one.tells_prints
        yield one
    finally:
        pipe.close()


def asked(one: Wire, request: Request) -> list[object]:
    """The answer to one request."""
    request.send(one)
    return list(request.read(one))


def packets_of(rows: list[bytes], number: int = 4) -> bytes:
    """The packets in which rows of one cell come, after the protocol's documentation."""
    parts = []
    for row in rows:
        for at in range(0, len(row) + 1, PACKET):
            part = row[at : at + PACKET]
            parts.append(len(part).to_bytes(3, "little") + bytes([number % 256]) + part)
            number += 1
    return b"".join(parts)


@settings(
    max_examples=12, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(
    answers=st.lists(
        st.lists(SMALL, max_size=300)
        .flatmap(lambda some: LARGE.map(lambda big: [*some, big]) | st.just(some))
        .map(lambda lengths: [*lengths, 0]),
        min_size=1,
        max_size=40,
    ),
    chance=st.randoms(use_true_random=False),
)
def test_prints_are_those_of_the_rows(
    wire: Wire, answers: list[list[int]], chance: random.Random
) -> None:
    """However they lie in what the helper reads, also where a row takes several packets, and whatever was there
    before."""
    large = [i for i, lengths in enumerate(answers) if max(lengths) > 300]
    answers = [a for i, a in enumerate(answers) if i not in large[1:]]  # they take long
    queries, wanted, parts = [], [], list[list[Print]]()
    prints = PrintsThere()
    for lengths in answers:
        sql = " UNION ALL ".join(f"SELECT REPEAT('x', {length})" for length in lengths)
        queries.append(sql + (" LIMIT 0" if lengths == [0] else ""))
        rows = packets_of([record(length) for length in lengths] if lengths != [0] else [])
        wanted.append(Print(len(rows), prints.tag_of(rows)))
        packets = [packets_of([record(length)], at) for at, length in enumerate(lengths, 4)]
        cuts = sorted(chance.choices(range(1, len(packets) + 1), k=3))
        stretches = [b"".join(packets[a:b]) for a, b in zip((0, *cuts), cuts, strict=False)]
        parts.append([Print(len(some), prints.tag_of(some)) for some in stretches if some])
    with printing(wire) as one:
        for _ in range(3):
            seen = [
                chance.choice(
                    [[one], [one], [], [chance.choice(wanted)], [Print(chance.randrange(9000), one.tag)],
                     [Print(one.size, bytes(16))], some, [*some, *some], chance.choice(parts)]
                )
                for one, some in zip(wanted, parts, strict=True)
            ]  # fmt: skip
            assert asked(one, AskedPrints(queries, prints.key, seen)) == wanted
            assert one.several(["SELECT 7"]) == [[("7",)]] or one.several(["SELECT 7"]) == [[(7,)]]


@settings(
    max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(
    pages=st.lists(st.lists(SMALL, max_size=20), min_size=1, max_size=20),
    chance=st.randoms(use_true_random=False),
)
def test_strips_are_told_where_they_hold_as_many_rows(
    wire: Wire, pages: list[list[int]], chance: random.Random
) -> None:
    queries, seen, wanted = [], [], []
    prints = PrintsThere()

    def seen_of(packets: bytes) -> Print:
        return Print(len(packets), prints.tag_of(packets))

    for lengths in pages:
        sql = " UNION ALL ".join(f"SELECT REPEAT('x', {length})" for length in lengths or [0])
        queries.append(sql + ("" if lengths else " LIMIT 0"))
        records = [record(length) for length in lengths]
        packets = [
            len(one).to_bytes(3, "little") + bytes([at + 4]) + one for at, one in enumerate(records)
        ]
        sizes, at = [], 0
        while at < len(records):
            sizes.append(chance.randrange(1, 5))
            at += sizes[-1]
        if at == len(records) and chance.random() < 0.1:  # there were fewer rows, or more
            sizes = sizes[:-1] if chance.random() < 0.5 else [*sizes, 1]
        fits = sum(sizes) == len(records)
        strips: list[Strip] = []
        others: list[tuple[Print, list[bytes]] | None] = []
        at = 0
        for size in sizes:
            now = seen_of(b"".join(packets[at : at + size]))
            was = chance.choice(
                [now, now, UNSEEN, Print(now.size, bytes(16)), Print(9999, now.tag)]
            )
            was = was if len(packets) >= at + size else UNSEEN
            strips.append(Strip((at,), size, 0, was))
            others.append(None if was == now else (now, records[at : at + size]))
            at += size
        seen.append(Strips.of(strips))
        wanted.append((seen_of(b"".join(packets)), others) if fits else None)
    looked = [number for number in range(len(queries)) if chance.random() < 0.5]
    whole = [seen_of(b"") if chance.random() < 0.2 else UNSEEN for _ in looked]
    with printing(wire) as one:
        asked(  # of some their rows are at hand then
            one,
            AskedPrints(
                [queries[number] for number in looked], prints.key, [[was] for was in whole]
            ),
        )
        assert asked(one, AskedStrips(queries, prints.key, seen)) == wanted
        assert one.several(["SELECT 'a'"]) == [[("a",)]]


def test_rows_whose_prints_were_told_are_not_asked_for_again(wire: Wire) -> None:
    """Unless something else was asked of the server since, or they are too many."""
    key, strips = b"key", Strips.of([Strip((1,), 1, 0)])

    def same(queries: list[str], *, meanwhile: bool = False, turns: int = 1) -> list[bool]:
        told = asked(one, AskedPrints(queries, key, [[]] * len(queries)))
        if meanwhile:
            one.several(["SELECT 1"])
        for _ in range(turns):
            found = asked(one, AskedStrips(queries, key, [strips] * len(queries)))
        return [strip.whole == was for strip, was in zip(found, told, strict=True)]  # type: ignore[attr-defined]

    with printing(wire) as one:
        queries = [f"SELECT UUID(), {number}" for number in range(40)]
        assert same(queries) == [True] * 40
        assert same(queries, turns=2) == [False] * 40
        assert same(queries, meanwhile=True) == [False] * 40
        large = [f"SELECT CONCAT(UUID(), REPEAT('{letter}', 7000000))" for letter in "abcdef"]
        assert same(large) == [False, False, True, True, True, True]


@settings(
    max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(
    works=st.lists(
        st.lists(st.lists(st.sampled_from(["query", "prints", "strips", "large"]), max_size=3), max_size=4),
        max_size=12,
    ),
    most=st.integers(1, 6),
    behind=st.integers(1, 3),
)  # fmt: skip
def test_works_that_ask_side_by_side_get_their_own_answers(
    wire: Wire, works: list[list[list[str]]], most: int, behind: int
) -> None:
    """Each work asks some things at a time, and has up to some of them unanswered."""
    prints = PrintsThere()
    begun: list[int] = []
    ended: list[int] = []

    def request(kind: str, text: str) -> tuple[Request, object]:
        body = bytes([len(text)]) + text.encode()
        packets = len(body).to_bytes(3, "little") + bytes([4]) + body
        seen = Print(len(packets), prints.tag_of(packets))
        query = f"SELECT '{text}'"
        if kind == "query":
            return Query(query), [(text,)]
        if kind == "strips":
            strips = Strips.of([Strip((1,), 1, 0)])
            return AskedStrips([query], prints.key, [strips]), [(seen, [(seen, [body])])]
        copies = 3 if kind == "prints" else 1200  # more than is under way at once
        return AskedPrints([query] * copies, prints.key, [[seen] * 3] * copies), [seen] * copies

    def work(number: int, steps: list[list[str]]) -> Work[int]:
        begun.append(number)
        assert len(begun) - len(ended) <= most
        waiting: list[object] = []
        for turn, kinds in enumerate(steps):
            some = [request(kind, f"{number} {turn} {place}") for place, kind in enumerate(kinds)]
            waiting += [answer for _, answer in some]
            more = [one for one, _ in some]
            while waiting and (more or len(waiting) >= behind):
                found = yield more
                more = []
                assert list(found) == waiting.pop(0)
        while waiting:
            found = yield []
            assert list(found) == waiting.pop(0)
        ended.append(number)
        return number

    with printing(wire) as one:
        everything = (work(number, steps) for number, steps in enumerate(works))
        for turn, number in enumerate(side_by_side(one, everything, most=most)):
            assert number == turn
        assert begun == [*range(len(works))]
        assert one.several(["SELECT 'a'"]) == [[("a",)]]


def test_an_error_is_told_to_the_work_that_asked(wire: Wire) -> None:
    heard: list[str] = []

    def work(name: str, sql: str) -> Work[str]:
        try:
            yield [Query(sql)]
        except pymysql.Error as error:
            heard.append(f"{name} {error.args[0]}")
            raise
        return name

    asked = [work("one", "SELECT 1"), work("two", "SELECT nothing"), work("three", "SELECT 3")]
    found = []
    with printing(wire) as one:
        with pytest.raises(pymysql.Error):
            found += side_by_side(one, asked)
        assert not one.open  # the third answer was under way
    assert (found, heard) == ([], ["two 1054"]) or (found, heard) == (["one"], ["two 1054"])


def test_an_error_among_prints_ends_them(wire: Wire) -> None:
    wrong = (
        "SELECT IF(n < 3, 'x', (SELECT 1 UNION SELECT 2)) FROM (SELECT 1 n UNION ALL SELECT 3) t"
    )
    for query, code in ((wrong, 1242), ("SELECT nothing", 1054), ("SET @a = 1", None)):
        with printing(wire) as one:
            with pytest.raises(pymysql.Error) as error:
                asked(
                    one,
                    AskedPrints(["SELECT 'a'", query, *["SELECT 'b'"] * 30], b"key", [[]] * 32),
                )
            assert code is None or error.value.args[0] == code
            assert not one.open
        with printing(wire) as one:
            strips = [Strips.of([Strip((1,), 2, 0), Strip((2,), 2, 0)])] * 3
            with pytest.raises(pymysql.Error) as error:
                asked(one, AskedStrips(["SELECT 'a'", query, "SELECT 'b'"], b"key", strips))
            assert code is None or error.value.args[0] == code
            assert not one.open
    with printing(wire) as one, pytest.raises(pymysql.OperationalError) as lost:
        queries = ["SELECT 'a'", f"KILL {one.thread_id()}", "SELECT 'b'"]
        asked(one, AskedPrints(queries, b"key", [[]] * 3))
    assert was_cut_off(lost.value) or lost.value.args[0] == 1317


def test_what_begins_with_another_word_goes_to_the_server(wire: Wire) -> None:
    """Nothing that stands in a row can speak to the helper."""
    with printing(wire) as one:
        sock = one._sock  # type: ignore[attr-defined]
        text = sock._word[:-1] + b"\0"
        for body in (text, b"x" * 40_000 + text * 3):
            (((found,),),) = one.several([f"SELECT HEX(X'{body.hex()}')"])
            assert found in (body.hex().upper(), body.hex().upper().encode())


def test_an_error_among_answers_ends_them(wire: Wire) -> None:
    wrong = (
        "SELECT IF(n < 3, 'x', (SELECT 1 UNION SELECT 2)) FROM (SELECT 1 n UNION ALL SELECT 3) t"
    )
    for look in (
        lambda rows: rows.coming(10**5),
        lambda rows: rows.walk(0, 10),
        lambda rows: [*rows.stretches(1000)],
    ):
        one = Wire(unix_socket=wire.unix_socket, user="root", charset="utf8mb4")
        with pytest.raises(pymysql.OperationalError) as error:
            for rows in one.answers(["SELECT 'a'", wrong, *["SELECT 'b'"] * 30]):
                look(rows)
                rows.pass_over()
        assert error.value.args[0] == 1242
        assert not one.open


@settings(
    max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(
    tables=st.lists(st.lists(SMALL | st.just(70_000), max_size=30), min_size=1, max_size=12).flatmap(
        lambda some: st.permutations([*some, [PACKET + 1]]) | st.just(some)
    ),
    stretch=st.integers(1, 2000),
    chance=st.randoms(use_true_random=False),
)  # fmt: skip
def test_rows_that_were_asked_ahead_are_those_of_their_query(
    wire: Wire, tables: list[list[int]], stretch: int, chance: random.Random
) -> None:
    """Whatever is asked in between, or not wanted after all."""
    queries = [
        f"SELECT * FROM ({' UNION ALL '.join(f'SELECT {n}, REPEAT(CHAR(254), {n})' for n in lengths or [0])})"
        f" t{number} LIMIT {len(lengths)}"
        for number, lengths in enumerate(tables)
    ]  # fmt: skip
    refused = "SELECT nothing"
    at = 0
    while at < len(queries):
        behind = queries[at + 1 : at + 1 + chance.randrange(5)]
        if chance.random() < 0.1:
            behind.insert(0, refused)
        found = [row for rows in wire.records(queries[at], stretch, behind) for row in rows]
        assert list(map(len, found)) == [
            len(str(length)) + 1 + len(record(length)) for length in tables[at]
        ]
        assert [int(row[1 : 1 + row[0]]) for row in found] == tables[at]
        if chance.random() < 0.2:
            assert wire.several([f"SELECT {at}"]) == [[(at,)]]
        elif behind[:1] == [refused] and chance.random() < 0.5:
            with pytest.raises(pymysql.Error, match="1054"):
                list(wire.records(refused, stretch, behind[1:]))
        at += chance.choice([1, 1, 1, 2])
    wire.ping()


def test_an_error_between_rows_is_raised_behind_the_rows(wire: Wire) -> None:
    numbers = "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 900)"
    broken = f"{numbers} SELECT IF(i = 800, (SELECT 1 UNION SELECT i), i) FROM n"
    found: list[bytes] = []
    with pytest.raises(pymysql.Error) as told:
        for rows in wire.records(broken, 100):
            found += rows
    assert told.value.args[0] == 1242
    assert found == [bytes([len(str(i))]) + str(i).encode() for i in range(1, len(found) + 1)]
    assert found


def test_a_stream_that_is_left_cuts_the_connection(wire: Wire) -> None:
    stream = wire.records("SELECT REPEAT('x', 1000) UNION ALL SELECT 'y'", 1)
    next(stream)
    stream.close()  # type: ignore[attr-defined]
    assert not wire.open


def test_a_connection_that_is_lost_is_told_as_that_however_often_it_is_asked(
    database_server: DatabaseServer,
) -> None:
    database_server.create("lost", "wire", "steam")
    account = Credentials("lost", "wire", "steam", "localhost", 0, database_server.socket)
    database = MysqlDatabase(account)
    ((number,),) = database._rows("its number", "SELECT CONNECTION_ID()")
    database_server.run(f"KILL {number}")
    views = {"views": [["one", "CREATE VIEW one AS SELECT 1"], ["two", "CREATE VIEW two AS SELECT 1"]], "soft": []}  # fmt: skip
    for work in (lambda: database._run([views]), database.tables, lambda: database.swap([], [], []), database.facts):  # fmt: skip
        with pytest.raises(DatabaseError) as raised:
            work()
        assert was_cut_off(raised.value), raised.value


class Deaf:
    """In front of a server: whoever says two things at once is cut off."""

    def __init__(self, port: int) -> None:
        self._server = socket.create_server(("127.0.0.1", 0))
        self.port = self._server.getsockname()[1]
        self._to = port
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                one, _ = self._server.accept()
                other = socket.create_connection(("127.0.0.1", self._to))
                for work in (self._there, self._back):
                    threading.Thread(target=work, args=(one, other), daemon=True).start()

    def _there(self, one: socket.socket, other: socket.socket) -> None:
        with contextlib.suppress(OSError):
            while block := one.recv(1 << 16):
                time.sleep(0.02)  # so that all of it is there
                one.setblocking(False)
                with contextlib.suppress(BlockingIOError):
                    block += one.recv(1 << 16)
                one.setblocking(True)
                if len(block) > 4 + int.from_bytes(block[:3], "little"):
                    break
                other.sendall(block)
            other.shutdown(socket.SHUT_RDWR)

    def _back(self, one: socket.socket, other: socket.socket) -> None:
        with contextlib.suppress(OSError):
            while block := other.recv(1 << 16):
                one.sendall(block)
            one.shutdown(socket.SHUT_RDWR)

    def close(self) -> None:
        self._server.close()


def test_a_server_that_cannot_be_asked_several_things_is_asked_one_by_one(
    database_server: DatabaseServer,
) -> None:
    database_server.create("deaf_site", "shell", "shell-word")
    database_server.run(
        "CREATE TABLE IF NOT EXISTS trains (id INT PRIMARY KEY)", database="deaf_site"
    )
    between = Deaf(database_server.port)
    try:
        credentials = Credentials(
            "deaf_site", "shell", "shell-word", "127.0.0.1", between.port, None
        )
        database = MysqlDatabase(credentials, read_only=True)
        with database.looking():
            assert [table.name for table in database.tables()] == ["trains"]
        with database.reading() as reader:
            assert reader.count("trains") == 0
        database.close()
    finally:
        between.close()
