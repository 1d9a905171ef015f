"""The real systems that tests and benchmarks run against, each private: own folder, own port.

Nothing here touches a server that already runs on the machine; what is started is ended by its
process id.
"""

from __future__ import annotations

import contextlib
import os
import pty
import select
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

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


class Mariadb:
    """A MariaDB server with its own data folder, socket and port."""

    def __init__(self, folder: Path, *options: str) -> None:
        # A socket's path may be 107 bytes long at most, so it does not live in pytest's folder.
        self.folder = folder
        self.port = free_port()
        self.socket = str(folder / "s.sock")
        data = folder / "data"
        account = ["--user=root"] if os.geteuid() == 0 else []
        # A server that starts removes what looks left over in the folder of temporary files, also another one's.
        temporary = folder / "temporary"
        temporary.mkdir(mode=0o777)
        environ = {**os.environ, "TMPDIR": str(temporary)}
        made = subprocess.run(
            [
                program("mariadb-install-db"), "--no-defaults", f"--datadir={data}",
                "--auth-root-authentication-method=normal", "--skip-test-db", *account,
            ],
            stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, env=environ,
        )  # fmt: skip
        if made.returncode:
            raise RuntimeError(made.stdout[-2000:])
        self._log = (folder / "server.log").open("wb")
        self.process = subprocess.Popen(
            [
                program("mariadbd"), "--no-defaults", f"--datadir={data}",
                f"--socket={self.socket}", f"--port={self.port}", "--bind-address=127.0.0.1",
                "--skip-log-bin", "--character-set-server=utf8mb4", "--skip-name-resolve",
                "--innodb-flush-log-at-trx-commit=2", *account, *options,
            ],
            stdout=self._log, stderr=self._log, env=environ,
        )  # fmt: skip
        deadline = time.monotonic() + 60
        while True:
            with contextlib.suppress(pymysql.Error):
                self.root().close()
                return
            if self.process.poll() is not None or time.monotonic() > deadline:
                raise RuntimeError((folder / "server.log").read_text(errors="replace")[-2000:])
            time.sleep(0.1)

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
            f"CREATE USER IF NOT EXISTS '{user}'@'%' IDENTIFIED BY '{quoted}'",
            f"GRANT ALL ON `{database}`.* TO '{user}'@'%'",
        )

    def stop(self) -> None:
        self.process.terminate()
        try:
            self.process.wait(30)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()
        self._log.close()


@contextlib.contextmanager
def mariadb(folder: Path, *options: str) -> Iterator[Mariadb]:
    folder.mkdir(parents=True, exist_ok=True)
    server = Mariadb(folder, *options)
    try:
        yield server
    finally:
        server.stop()


def mariadb_site(server: Mariadb, folder: Path, word: str, statements: list[str]) -> Path:
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
