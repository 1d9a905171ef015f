"""A process that reads pages over a connection of ours: whatever becomes of either, what is found is what there is."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from readable import by_hand, table_of
from systems import Mariadb
from test_page_worker import gone, soon
from vetrin.database import KeyRange, RowsAside, Table, spans, with_pages
from vetrin.database.mysql import digest_worker
from vetrin.database.mysql.accounts import Credentials
from vetrin.database.mysql.connect import error_code, was_lost
from vetrin.database.mysql.database import MysqlDatabase
from vetrin.database.page_prints import PagePrints
from vetrin.database.side_process import SideProcess
from vetrin.errors import DatabaseError

ROWS = 3000
NAME = "read_by_two"


class Site:
    """A database, as it was seen once, with every row changed since then."""

    def __init__(self, server: Mariadb, folder: Path) -> None:
        self.server = server
        self.folder = folder
        server.run(f"DROP DATABASE IF EXISTS {NAME}")
        server.create(NAME, "reader", "secret")
        rows = [(number, f"train {number} {'x' * 1000}") for number in range(ROWS)]
        server.run(
            "CREATE TABLE t (a INT PRIMARY KEY, v VARCHAR(2000))",
            f"INSERT INTO t VALUES {by_hand(rows)}",
            database=NAME,
        )
        self.database = self.opened(PagePrints(folder / "pages.sqlite"))
        self.table: Table = table_of(self.database, "t")
        with self.database.reading() as reader:
            paged = with_pages(self.table, reader.rows(self.table), reader.prints)
            pages = [page for batch in paged for page in batch.pages]
        self.ranges: list[KeyRange] = spans(pages)
        self.known = [page.digest for page in pages]
        server.run("UPDATE t SET v = CONCAT(v, '+')", database=NAME)

    def opened(self, prints: PagePrints | None) -> MysqlDatabase:
        account = Credentials(NAME, "reader", "secret", "127.0.0.1", self.server.port)
        return MysqlDatabase(account, read_only=True, prints=prints)

    def found(self) -> list[str]:
        """The digests, and what was put aside for them, which is all rows."""
        with self.database.reading() as reader, RowsAside(self.folder) as aside:
            digests = reader.digests(self.table, self.ranges, known=self.known, aside=aside)
            parts = [part for number in range(len(digests)) for part in aside.take(number)]
            assert sum(len(part.records or ()) for part in parts) == ROWS
            return digests

    def there(self) -> list[str]:
        """The digests that the server makes."""
        database = self.opened(None)
        try:
            with database.reading() as reader:
                return reader.digests(self.table, self.ranges)
        finally:
            database.close()


@pytest.fixture
def site(
    mariadb_server: Mariadb, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> Iterator[Site]:
    monkeypatch.setattr(digest_worker, "WORTH", 0)
    monkeypatch.setattr(digest_worker, "processors", lambda: 2)
    monkeypatch.setattr(digest_worker.DigestWorker, "_pays", True)
    found = Site(mariadb_server, tmp_path)
    yield found
    found.database.close()


@pytest.fixture
def begun(monkeypatch: pytest.MonkeyPatch) -> list[SideProcess]:
    """The processes that were begun."""
    found: list[SideProcess] = []

    class Watched(SideProcess):
        def __init__(self, *more: Any) -> None:
            super().__init__(*more)
            found.append(self)

    monkeypatch.setattr(digest_worker, "SideProcess", Watched)
    return found


def test_it_finds_what_the_server_says_and_ends_with_the_reading(
    site: Site, begun: list[SideProcess]
) -> None:
    assert site.found() == site.there() != site.known
    (process,) = begun
    assert gone(process.pid)
    site.known = site.there()
    assert not any(site.database.prints.of(one) is None for one in site.known)  # type: ignore[union-attr]


def test_none_is_begun_before_pages_look_otherwise(
    site: Site, begun: list[SideProcess], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(digest_worker.DigestWorker, "_pays", False)
    there = site.there()
    with site.database.reading() as reader:
        # How these look is not known before the first time.
        for known, count in ((there, 0), (there, 1)):
            assert reader.digests(site.table, site.ranges, known=known) == there
            assert len(begun) == count
    with site.database.reading() as reader:
        for _ in range(2):
            assert reader.digests(site.table, site.ranges, known=there) == there
        assert len(begun) == 1


@pytest.mark.parametrize("when", ["ask", "hear"])
def test_where_it_is_killed_the_connection_is_lost_and_no_other_is_begun(
    site: Site, begun: list[SideProcess], when: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    usual: Callable[..., Any] = getattr(SideProcess, when)

    def killed(self: SideProcess, *question: Any) -> Any:
        os.kill(self.pid, signal.SIGKILL)
        soon(lambda: gone(self.pid))
        return usual(self, *question)

    with monkeypatch.context() as patched:
        patched.setattr(SideProcess, when, killed)
        with pytest.raises(DatabaseError) as raised:
            site.found()
    assert was_lost(raised.value.__cause__)  # type: ignore[arg-type]
    assert len(begun) == 1 and gone(begun[0].pid)
    assert site.found() == site.there()
    assert len(begun) == 1


def test_where_the_server_ends_the_connection_that_is_said(
    site: Site, begun: list[SideProcess], monkeypatch: pytest.MonkeyPatch
) -> None:
    usual = SideProcess.ask

    def ended(self: SideProcess, *question: Any) -> Any:
        for number, user in site.server.run("SELECT id, user FROM information_schema.processlist"):
            if user == "reader":
                site.server.run(f"KILL CONNECTION {number}")
        return usual(self, *question)

    with monkeypatch.context() as patched:
        patched.setattr(SideProcess, "ask", ended)
        with pytest.raises(DatabaseError) as raised:
            site.found()
    assert was_lost(raised.value.__cause__)  # type: ignore[arg-type]
    assert site.found() == site.there() and len(begun) == 2


def test_what_the_server_refuses_is_said_as_it_says_it(
    site: Site, begun: list[SideProcess]
) -> None:
    site.server.run("ALTER TABLE t RENAME COLUMN v TO w", database=NAME)
    with pytest.raises(DatabaseError, match="Unknown column 'v'") as raised:
        site.found()
    assert error_code(raised.value) == 1054 and len(begun) == 1
    site.server.run("ALTER TABLE t RENAME COLUMN w TO v", database=NAME)
    assert site.found() == site.there()


@pytest.mark.parametrize("executable", ["/nowhere/python", "/bin/false"])
def test_where_none_can_be_begun_pages_are_read_here(
    site: Site, executable: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(sys, "executable", executable)
    if executable == "/bin/false":  # it was begun, and may have been told of the connection
        with pytest.raises(DatabaseError):
            site.found()
    assert site.found() == site.there()


@pytest.mark.parametrize("why", ["one processor", "a small table", "TLS"])
def test_where_it_would_not_do_pages_are_read_here(
    site: Site, begun: list[SideProcess], why: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    if why == "one processor":
        monkeypatch.setattr(digest_worker, "processors", lambda: 1)
    elif why == "a small table":
        monkeypatch.setattr(digest_worker, "WORTH", 1 << 40)
    else:  # what goes over such a connection only the one who agreed upon it understands
        monkeypatch.setattr("vetrin.database.mysql.wire.Wire.lent", lambda self: None)
    assert site.found() == site.there() and not begun


def test_it_ends_where_we_are_killed_while_a_server_is_silent(tmp_path: Path) -> None:
    program = (
        "import os, socket, sys, threading, time\n"
        "from vetrin.database import Column, Table\n"
        "from vetrin.database.mysql import digest_worker\n"
        "from vetrin.database.side_process import SideProcess, plain\n"
        "ours = socket.socket(fileno=int(sys.argv[1]))\n"
        "process = SideProcess(digest_worker.__name__, [ours.fileno()])\n"
        "table = Table('t', (Column('a', 'int', False),), ('a',), frozenset('a'), 0, 0)\n"
        "known = plain(table), [(None, None)], ['1-1']\n"
        "kept = sys.argv[2], b'k' * 32, []\n"
        "asking = (ours.fileno(), known, kept, [[0]], ['SELECT a FROM t'], False)\n"
        "threading.Thread(target=process.ask, args=asking, daemon=True).start()\n"
        "print(process.pid, flush=True)\n"
        "sys.stdin.read()\n"
        "os.kill(os.getpid(), 9)\n"
    )
    ours, theirs = socket.socketpair()
    with ours, theirs:
        killed = subprocess.Popen(
            [sys.executable, "-c", program, str(ours.fileno()), str(tmp_path / "pages.sqlite")],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            pass_fds=[ours.fileno()],
        )
        assert killed.stdout is not None and killed.stdin is not None
        pid = int(killed.stdout.readline())
        assert b"SELECT a FROM t" in theirs.recv(1000)
        assert not gone(pid)
        killed.stdin.close()
        assert killed.wait() == -signal.SIGKILL
        assert soon(lambda: gone(pid))
