"""The real systems that tests and benchmarks run against, each private: own folder, own port.

Nothing here touches a server that already runs on the machine; what is started is ended by its
process id.
"""

from __future__ import annotations

import contextlib
import os
import pty
import re
import select
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any, TypeVar

import httpx
import pymysql


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def program(*names: str) -> str:
    places = os.environ.get("PATH", "") + ":/usr/sbin:/usr/local/sbin"
    for name in names:
        found = shutil.which(name, path=places)
        if found:
            return found
    raise RuntimeError(f"{names[0]} is not installed; scripts/install-systems brings it")


def wait_for(url: str, seconds: float = 60) -> None:
    """Wait until a web server answers, whatever it says."""
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        with contextlib.suppress(httpx.HTTPError):
            httpx.get(url, timeout=10)
            return
        time.sleep(0.1)
    raise RuntimeError(f"{url} did not answer")


def wait_for_port(port: int, seconds: float = 30) -> None:
    """Wait until something listens at a port of this machine."""
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
            return
        time.sleep(0.05)
    raise RuntimeError(f"nothing listens at port {port}")


class DatabaseServer:
    """A MariaDB or MySQL server with its own data folder, socket and port."""

    product = ""

    def __init__(self, folder: Path, *options: str) -> None:
        # A socket's path may be 107 bytes long at most, so it does not live in pytest's folder.
        self.folder = folder
        self.port = free_port()
        self.socket = str(folder / "s.sock")
        # A server that starts removes what looks left over in the folder of temporary files, also another one's.
        temporary = folder / "temporary"
        temporary.mkdir(mode=0o777)
        environ = {**os.environ, "TMPDIR": str(temporary)}
        account = ["--user=root"] if os.geteuid() == 0 else []
        data = f"--datadir={folder / 'data'}"
        made = subprocess.run(
            [*self.first(), data, *account],
            stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, env=environ,
        )  # fmt: skip
        if made.returncode:
            raise RuntimeError(made.stdout[-2000:])
        self._log = (folder / "server.log").open("wb")
        self._environ = environ
        self._command = [
            *self.program(), data, f"--socket={self.socket}", f"--port={self.port}",
            "--bind-address=127.0.0.1", "--skip-log-bin", "--character-set-server=utf8mb4",
            "--skip-name-resolve", "--innodb-flush-log-at-trx-commit=2", *account, *options,
        ]  # fmt: skip
        self.start()
        self._own = (self._databases(), self._accounts(), self._settings())

    def start(self) -> None:
        """Begin to serve; also once more, after it was killed."""
        self.process = subprocess.Popen(
            self._command, stdout=self._log, stderr=self._log, env=self._environ
        )
        deadline = time.monotonic() + 60
        while True:
            with contextlib.suppress(pymysql.Error):
                self.root().close()
                return
            if self.process.poll() is not None or time.monotonic() > deadline:
                log = (self.folder / "server.log").read_text(errors="replace")
                raise RuntimeError(log[-2000:])
            time.sleep(0.1)

    def kill(self) -> None:
        """What a crash does."""
        self.process.kill()
        self.process.wait()

    def first(self) -> list[str]:
        """What makes the data folder."""
        raise NotImplementedError

    def program(self) -> list[str]:
        raise NotImplementedError

    def client(self, *more: str) -> list[str]:
        """The product's own client program, as root."""
        raise NotImplementedError

    def dump_program(self, *more: str) -> list[str]:
        raise NotImplementedError

    def as_root(self) -> list[str]:
        return ["--no-defaults", f"--socket={self.socket}", "--user=root"]

    def root(self, database: str | None = None) -> pymysql.Connection:
        return pymysql.connect(
            unix_socket=self.socket, user="root", database=database, autocommit=True,
            charset="utf8mb4",
        )  # fmt: skip

    def run(self, *statements: str, database: str | None = None) -> list[tuple[Any, ...]]:
        rows: list[tuple[Any, ...]] = []
        connection = self.root(database)
        with connection.cursor() as cursor:
            for statement in statements:
                cursor.execute(statement)
                rows = list(cursor.fetchall())
        connection.close()
        return rows

    def create(self, database: str, user: str, password: str) -> None:
        """A database and an account with the rights that a host gives to it."""
        quoted = password.replace("\\", "\\\\").replace("'", "''")
        self.run(
            f"CREATE DATABASE IF NOT EXISTS `{database}` CHARACTER SET utf8mb4",
            f"CREATE USER IF NOT EXISTS '{user}'@'%'",
            f"ALTER USER '{user}'@'%' IDENTIFIED BY '{quoted}'",
            f"GRANT ALL ON `{database}`.* TO '{user}'@'%'",
        )

    def clear(self) -> None:
        """Make it as it was: without any other databases and accounts, with its own settings; start it if it does
        not serve."""
        if self.process.poll() is not None:
            self.start()
        databases, accounts, settings = self._own
        for (other,) in self.run(
            "SELECT id FROM information_schema.processlist"
            " WHERE id <> CONNECTION_ID() AND user NOT IN ('system user', 'event_scheduler')"
        ):
            with contextlib.suppress(pymysql.Error):
                self.run(f"KILL {other}")
        for database in self._databases() - databases:
            self.run(f"DROP DATABASE `{database}`")
        connection = self.root()
        with connection.cursor() as cursor:
            for account in self._accounts() - accounts:
                cursor.execute("DROP USER %s@%s", account)
            for name, value in self._settings().items():
                before = settings[name]
                if value == before:
                    continue
                with contextlib.suppress(pymysql.Error):  # what the server sets itself
                    cursor.execute(
                        f"SET GLOBAL {name} = %s", (int(before) if before.isdigit() else before,)
                    )
        connection.close()

    def _databases(self) -> set[str]:
        return {name for (name,) in self.run("SHOW DATABASES")}

    def _accounts(self) -> set[tuple[str, str]]:
        return {(user, host) for user, host in self.run("SELECT user, host FROM mysql.user")}

    def _settings(self) -> dict[str, str]:
        return dict(self.run("SHOW GLOBAL VARIABLES"))

    def number(self) -> tuple[int, ...]:
        """Its version."""
        ((version,),) = self.run("SELECT VERSION()")
        return tuple(int(part) for part in re.findall(r"\d+", version)[:3])

    def hide_routines(self, database: str, user: str) -> None:
        """Let an account see no texts of routines that others made; newer MariaDBs have a right for that."""
        if self.product == "MariaDB" and self.number() >= (11, 3):
            self.run(f"REVOKE SHOW CREATE ROUTINE ON `{database}`.* FROM '{user}'@'%'")

    def stop(self) -> None:
        self.process.terminate()
        try:
            self.process.wait(30)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()
        self._log.close()


class Mariadb(DatabaseServer):
    product = "MariaDB"

    def first(self) -> list[str]:
        make = program("mariadb-install-db")
        return [make, "--no-defaults", "--auth-root-authentication-method=normal", "--skip-test-db"]

    def program(self) -> list[str]:
        return [program("mariadbd"), "--no-defaults", "--max-recursive-iterations=100000"]

    def client(self, *more: str) -> list[str]:
        return [program("mariadb"), *self.as_root(), *more]

    def dump_program(self, *more: str) -> list[str]:
        return [program("mariadb-dump"), *self.as_root(), *more]


class Mysql(DatabaseServer):
    """MySQL as scripts/install-mysql unpacks it: with libraries of its own."""

    product = "MySQL"
    place = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "vetrin-tests/mysql"

    def _run(self, name: str) -> list[str]:
        path = self.place / "usr" / name
        if not path.exists():
            raise RuntimeError("MySQL is not there; scripts/install-mysql brings it")
        loaders = list((self.place / "usr").glob("lib*/ld-linux-*.so.*"))
        if not loaders:  # not unpacked, but built or laid there for this machine
            return [str(path)]
        libraries = next((self.place / "usr/lib").glob("*-linux-gnu"))
        return [str(loaders[0]), "--library-path", str(libraries), str(path)]

    def first(self) -> list[str]:
        return [*self.program(), "--initialize-insecure"]

    def program(self) -> list[str]:
        shared = f"{self.place}/usr/share/mysql"
        return [
            *self._run("sbin/mysqld"), "--no-defaults", f"--basedir={self.place}/usr", "--mysqlx=OFF",
            "--secure-file-priv=", f"--lc-messages-dir={shared}", "--local-infile=ON",
            f"--character-sets-dir={shared}/charsets", f"--pid-file={self.folder}/pid",
            "--performance-schema=OFF", "--cte-max-recursion-depth=100000", "--innodb-buffer-pool-size=32M",
        ]  # fmt: skip

    def client(self, *more: str) -> list[str]:
        return [*self._run("bin/mysql"), *self.as_root(), *more]

    def dump_program(self, *more: str) -> list[str]:
        return [*self._run("bin/mysqldump"), *self.as_root(), *more]


Some = TypeVar("Some", bound=DatabaseServer)


@contextlib.contextmanager
def running(make: type[Some], folder: Path, *options: str) -> Iterator[Some]:
    folder.mkdir(parents=True, exist_ok=True)
    server = make(folder, *options)
    try:
        yield server
    finally:
        server.stop()


def mariadb_site(server: DatabaseServer, folder: Path, word: str, statements: list[str]) -> Path:
    """The shell of a WordPress without the CMS itself: marker files, configuration, tables.

    ``live`` is the project's production, anything else its local environment; vetrin.toml, once both
    are there, names the two.
    """
    server.run(f"DROP DATABASE IF EXISTS {word}_site")
    server.create(f"{word}_site", "shell", "shell-word")
    server.run(*statements, database=f"{word}_site")
    root = folder / word
    for marker in ("wp-includes/version.php", "wp-load.php", "wp-admin/admin.php"):
        (root / marker).parent.mkdir(parents=True, exist_ok=True)
        (root / marker).write_text("<?php\n")
    (root / "wp-content/uploads").mkdir(parents=True)
    (root / f"wp-content/uploads/{word}.txt").write_text(word)
    (root / "wp-config.php").write_text(
        f"<?php define('DB_NAME', '{word}_site'); define('DB_USER', 'shell'); define('DB_PASSWORD',"
        f" 'shell-word'); define('DB_HOST', '127.0.0.1:{server.port}'); $table_prefix = 'wp_';"
    )
    name = "production" if word == "live" else "local"
    with (folder / "vetrin.toml").open("a") as file:
        if file.tell() == 0:
            # These shells have nothing to settle: rows are compared one by one.
            file.write(
                '[site]\nname = "x"\ncms = "wordpress"\n[arrival]\nsearch-engines = "unchanged"\n'
                'mail = "on"\nmarker = false\ncaches = "unchanged"\naddress-rules = "unchanged"\n'
            )
        file.write(f'[environment.{name}]\naddress = "https://{word}.test"\nroot = "{word}"\n')
    return root


def answer(folder: Path, text: bytes, *arguments: str, seconds: float = 90) -> tuple[int, str]:
    """Run the program at a terminal; its exit code and all that it said.

    A line of ``text`` is typed whenever it waits behind a question: what is typed before a passphrase is asked
    for is thrown away, as at any terminal.
    """
    child, terminal = pty.fork()
    if child == 0:
        os.chdir(folder)
        os.execv(sys.executable, [sys.executable, "-m", "vetrin", *arguments])
    lines = text.splitlines(keepends=True)
    said = b""
    deadline = time.monotonic() + seconds
    with contextlib.suppress(OSError):  # how the end of the other side shows
        while True:
            if select.select([terminal], [], [], 0.3)[0]:
                block = os.read(terminal, 65536)
                if not block:
                    break
                said += block
            elif lines and said.endswith(
                (b": ", b"? ", b"] ", b": \x1b[0m", b"? \x1b[0m", b"] \x1b[0m")
            ):
                os.write(terminal, lines.pop(0))
            elif time.monotonic() > deadline:
                os.kill(child, 9)
                raise RuntimeError(f"it waits for something: {said.decode('utf-8', 'replace')}")
    _, status = os.waitpid(child, 0)
    os.close(terminal)
    return os.WEXITSTATUS(status), said.decode("utf-8", "replace")
