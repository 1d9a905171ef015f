"""A database server that means harm, as one that a hacked site's own configuration names."""

from __future__ import annotations

import contextlib
import socket
import subprocess
import tempfile
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest
from hostile_database import HostileDatabase, asks_for, switches_to

from systems import Mariadb, mariadb_site, running
from test_command_line import vetrin
from vetrin.database.mysql import connect
from vetrin.database.mysql.accounts import Credentials
from vetrin.database.mysql.database import MysqlDatabase
from vetrin.errors import DatabaseError, DatabaseUnreachable
from vetrin.remote.executor import Executor, Process

SECRET = "nobody but its owner reads this"
WORD = "a-password-to-be-kept"
TABLES = (
    "CREATE TABLE wp_options (option_id INT AUTO_INCREMENT PRIMARY KEY, option_name VARCHAR(99) UNIQUE,"
    " option_value TEXT)",
    "INSERT INTO wp_options VALUES (1, 'home', 'https://{0}.test'), (2, 'siteurl', 'https://{0}.test')",
    "CREATE TABLE wp_stops (id INT PRIMARY KEY, name TEXT)",
    "INSERT INTO wp_stops VALUES (1, 'Mill Lane'), (2, 'Harrowmere')",
)


@contextlib.contextmanager
def hostile(server: Mariadb, **what: object) -> Iterator[HostileDatabase]:
    found = HostileDatabase(server.port, **what)  # type: ignore[arg-type]
    try:
        yield found
    finally:
        found.close()


@pytest.fixture
def key(tmp_path: Path) -> Path:
    path = tmp_path / "id_of_the_developer"
    path.write_text(SECRET)
    return path


def lay_out(server: Mariadb, folder: Path) -> None:
    for word in ("live", "copy"):
        mariadb_site(server, folder, word, [sql.format(word) for sql in TABLES])


def aimed(folder: Path, word: str, before: int, after: int) -> None:
    path = folder / word / "wp-config.php"
    path.write_text(path.read_text().replace(f"127.0.0.1:{before}", f"127.0.0.1:{after}"))


@pytest.mark.parametrize("word", ["live", "copy"])
def test_no_statement_is_answered_with_a_file_of_this_machine(
    mariadb_server: Mariadb, tmp_path: Path, key: Path, word: str
) -> None:
    """Whichever statement of a pull the request answers, be it for the source's database or the target's."""
    lay_out(mariadb_server, tmp_path)
    port, at, refused = mariadb_server.port, 2, 0
    while True:
        with hostile(mariadb_server, at=at, answer=asks_for(str(key))) as server:
            aimed(tmp_path, word, port, server.port)
            port = server.port
            said = vetrin(tmp_path, "pull", "--yes", code=None)
            heard = b"".join(server.said)
            assert SECRET.encode() not in heard, at
            if server.count < at:
                assert said.returncode == 0, said.stderr
                break
            refused += "asked for a file" in said.stderr
        at += 7
    assert refused >= 4


def test_what_loads_sends_its_rows_whatever_it_is_asked_for(
    mariadb_server: Mariadb, tmp_path: Path, key: Path
) -> None:
    lay_out(mariadb_server, tmp_path)
    asking = asks_for(str(key))
    with hostile(mariadb_server, at=2, about=b"LOAD DATA", answer=asking) as server:
        aimed(tmp_path, "copy", mariadb_server.port, server.port)
        said = vetrin(tmp_path, "pull", "--yes", code=None)
        assert server.count >= 2, said.stderr
        assert b"Mill Lane" in b"".join(server.said)
        assert SECRET.encode() not in b"".join(server.said)


@pytest.mark.parametrize("plugin", ["mysql_clear_password", "dialog", "mysql_old_password"])
def test_a_password_is_not_handed_over_in_clear(mariadb_server: Mariadb, plugin: str) -> None:
    data = b"\x02Password: " if plugin == "dialog" else b"0123456789abcdefghij\0"
    with hostile(mariadb_server, login=switches_to(plugin, data)) as server:
        here = Credentials("live_site", "shell", WORD, elsewhere(), server.port, tls="off")
        with pytest.raises(DatabaseUnreachable, match="in clear") as error:
            MysqlDatabase(here)
        assert WORD not in str(error.value) and not server.said


def elsewhere() -> str:
    """A name of this machine that is none of those by which one knows that it is near."""
    return "127.0.0.2"


def test_who_is_far_and_speaks_no_tls_gets_no_account(mariadb_server: Mariadb) -> None:
    with hostile(mariadb_server, login=switches_to("mysql_native_password")) as server:
        for tls in ("verified", "unverified"):
            far = Credentials("live_site", "shell", WORD, elsewhere(), server.port, tls=tls)
            with pytest.raises(DatabaseUnreachable, match=r"TLS|SSL") as error:
                MysqlDatabase(far)
            assert "tls-ca" in error.value.remedy
        assert not server.said


@pytest.fixture(scope="module")
def far_server() -> Iterator[tuple[Mariadb, Path]]:
    """A server that is reached by another name than this machine's own, and its certificate, for 127.0.0.2 alone."""
    with tempfile.TemporaryDirectory(prefix="vt-", dir="/tmp") as name:
        folder = Path(name)
        subprocess.run(
            ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "9", "-subj", "/CN=harrowmere",
             "-addext", "subjectAltName=IP:127.0.0.2", "-keyout", folder / "key.pem", "-out", folder / "own.pem"],
            check=True, capture_output=True,
        )  # fmt: skip
        options = (
            "--bind-address=0.0.0.0",
            f"--ssl-key={folder}/key.pem",
            f"--ssl-cert={folder}/own.pem",
        )
        with running(Mariadb, folder, *options) as server:
            server.create("far", "far", WORD)
            yield server, folder / "own.pem"


@pytest.mark.parametrize(
    ("host", "options", "comes_in"),
    [
        ("127.0.0.2", {}, False),
        ("127.0.0.2", {"ca": "own"}, True),
        ("127.0.0.3", {"ca": "own"}, False),
        ("127.0.0.2", {"tls": "unverified"}, True),
        ("127.0.0.2", {"tls": "off"}, True),
        ("127.0.0.1", {}, True),
    ],
)
def test_who_is_far_proves_its_name_before_it_gets_the_account(
    far_server: tuple[Mariadb, Path], host: str, options: dict[str, str], comes_in: bool
) -> None:
    server, certificate = far_server
    given = {"ca": str(certificate)} if "ca" in options else options
    far = Credentials("far", "far", WORD, host, server.port, **given)
    if comes_in:
        database = MysqlDatabase(far)
        assert database.tables() == []
        secured = database.ask("SHOW STATUS LIKE 'Ssl_cipher'")[0][1] != ""
        assert secured == (given.get("tls") != "off" and host != "127.0.0.1")
        database.close()
        return
    with pytest.raises(DatabaseUnreachable, match="certificate") as error:
        MysqlDatabase(far)
    assert "tls-ca" in error.value.remedy


def test_a_server_that_says_nothing_is_not_waited_for_without_an_end(
    mariadb_server: Mariadb, monkeypatch: pytest.MonkeyPatch
) -> None:
    mariadb_server.create("quiet", "quiet", WORD)
    monkeypatch.setattr(connect, "LOGIN", 0.5)
    account = ("quiet", "quiet", WORD, "127.0.0.1")
    with hostile(mariadb_server, at=1, silent=True) as server, pytest.raises(DatabaseError):
        MysqlDatabase(Credentials(*account, server.port))  # it logs in, and then hears nothing
    with hostile(mariadb_server, at=9, silent=True) as server:
        database = MysqlDatabase(Credentials(*account, server.port))
        database._control.silence(0.5)
        with pytest.raises(DatabaseError, match="timed out"):
            for _ in range(9):
                database.tables()


@pytest.mark.parametrize(
    ("harm", "says"),
    [
        ({"at": 1, "answer": asks_for("/etc/hostname")}, "closed the connection"),
        ({"at": 2, "answer": asks_for("/etc/hostname")}, "asked for a file"),
        ({"at": 1, "silent": True}, "does not answer"),
        ({"login": switches_to("mysql_native_password")}, "TLS|SSL"),
    ],
)
def test_one_log_in_is_all_that_is_tried_through_a_process(
    mariadb_server: Mariadb, monkeypatch: pytest.MonkeyPatch, harm: dict[str, object], says: str
) -> None:
    """A switch is handed over with one connection, through which a far server has to prove itself as ever."""
    mariadb_server.create("far", "far", WORD)
    monkeypatch.setattr(connect, "_PROMPT", 3.0)
    tls = "verified" if "login" in harm else "off"
    with (
        hostile(mariadb_server, **harm) as server,
        contextlib.closing(Executor(Process())) as executor,
    ):
        far = Credentials("far", "far", WORD, elsewhere(), server.port, tls=tls)
        executor.begin({"name": far.host, "port": far.port, "socket": ""})
        with pytest.raises(DatabaseUnreachable, match=says):
            connect.connect(far, "utf8mb4", over=executor.socket)
        assert tls == "off" or not server.said


def test_a_server_that_does_not_even_greet(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(connect, "LOGIN", 0.5)
    with socket.create_server(("127.0.0.1", 0)) as listening:
        port = listening.getsockname()[1]
        with pytest.raises(DatabaseUnreachable):
            MysqlDatabase(Credentials("live_site", "shell", WORD, "127.0.0.1", port))


ODD = {
    "nothing in it": b"",
    "an error without words": b"\xff\x10\x04",
    "more columns than there are": b"\xfe\xff\xff\xff\xff\xff\xff\xff\x7f",
    "letters": b"HTTP/1.1 200 OK\r\n\r\n",
}


@pytest.mark.parametrize("answer", ODD.values(), ids=ODD)
def test_an_answer_that_is_none_is_one_message(
    mariadb_server: Mariadb, tmp_path: Path, answer: bytes
) -> None:
    lay_out(mariadb_server, tmp_path)
    port = mariadb_server.port
    for at in (1, 4, 9, 16, 24):
        with hostile(mariadb_server, at=at, answer=answer) as server:
            aimed(tmp_path, "live", port, server.port)
            port = server.port
            threading.Timer(2, server.close).start()
            # A run would wait for minutes for a server that is gone.
            said = vetrin(tmp_path, "pull", "--dry-run", code=None)
            assert said.returncode in (0, 1, 3), (at, said.stderr)
            assert "did not expect" not in said.stderr, (at, said.stderr)
