"""Two sites between which a switch is tried, and the ways in which a target is reached: on this machine, behind a real
SSH server with the helper in Python or in PHP, and by SFTP alone; with a real database."""

from __future__ import annotations

import contextlib
import fcntl
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from importlib import resources
from pathlib import Path
from typing import Any

from connected import hosts
from ssh_server import SFTP_ONLY, SshServer, ssh_server
from systems import DatabaseServer
from test_files import state
from vetrin.config import load_project
from vetrin.database.table_digest import table_digest
from vetrin.jobs import Journals
from vetrin.jobs.switching import RECORD
from vetrin.site import open_site

PLUGIN = "wp-content/plugins/booking-office"
TABLES = (
    "CREATE TABLE wp_options (option_id BIGINT AUTO_INCREMENT PRIMARY KEY, option_name VARCHAR(99) UNIQUE, option_value TEXT)",
    "CREATE TABLE wp_posts (ID BIGINT AUTO_INCREMENT PRIMARY KEY, post_title TEXT, post_content TEXT, post_status VARCHAR(20), post_type VARCHAR(20), post_modified_gmt DATETIME)",
    "CREATE TABLE wp_comments (comment_ID BIGINT AUTO_INCREMENT PRIMARY KEY, comment_approved VARCHAR(20), comment_date_gmt DATETIME)",
    "CREATE TABLE wp_stops (id INT PRIMARY KEY, name VARCHAR(60))",
    "CREATE TABLE wp_trains (id INT PRIMARY KEY, stop INT, CONSTRAINT calls FOREIGN KEY (stop) REFERENCES wp_stops (id))",
    "CREATE TRIGGER wp_named BEFORE INSERT ON wp_stops FOR EACH ROW SET NEW.name = CONCAT('WORD ', NEW.name)",
    "CREATE VIEW wp_calls AS SELECT t.id, s.name FROM wp_trains t JOIN wp_stops s ON s.id = t.stop",
    "CREATE VIEW wp_all_calls AS SELECT id, 'WORD' AS said FROM wp_calls",
)  # fmt: skip


class Line:
    """``local`` is what comes, ``staging`` the target, by ``way``; its database at ``staging_port``, if that is not
    the server's own."""

    def __init__(
        self,
        folder: Path,
        server: DatabaseServer,
        way: str,
        ssh: SshServer | None,
        staging_port: int = 0,
    ) -> None:
        self.folder, self.server, self.way, self.ssh = folder, server, way, ssh
        self.root = folder / "staging"
        self.staging_port = staging_port or server.port
        text = (
            '[site]\nname = "Harrowmere Light Railway"\ncms = "wordpress.toml"\n[arrival]\n'
            'search-engines = "unchanged"\nmail = "on"\nmarker = false\ncaches = "unchanged"\n'
            'address-rules = "unchanged"\n[store]\nbefore-push = false\n'
        )
        for name, count in (("local", 40), ("staging", 25)):
            database = f"switch_{name}"
            server.run(f"DROP DATABASE IF EXISTS {database}")
            server.create(database, "switch", "switch-word")
            statements = [sql.replace("WORD", name) for sql in TABLES]
            statements += [
                f"INSERT INTO wp_options (option_name, option_value) VALUES ('siteurl', 'https://{name}.test')",
                *(f"INSERT INTO wp_stops VALUES ({n}, 'stop {n}')" for n in range(1, count)),
                *(f"INSERT INTO wp_trains VALUES ({n}, {n})" for n in range(1, count)),
            ]
            if name == "local":
                statements.append("CREATE TABLE wp_only_here (id INT PRIMARY KEY)")
            server.run(*statements, database=database)
            root = folder / name
            for marker in ("wp-includes/version.php", "wp-load.php", "wp-admin/admin.php"):
                (root / marker).parent.mkdir(parents=True, exist_ok=True)
                (root / marker).write_text("<?php\n")
            for part in ("a.php", "b.php", f"{name}.php", "deep/er/c.php"):
                (root / PLUGIN / part).parent.mkdir(parents=True, exist_ok=True)
                (root / PLUGIN / part).write_text(f"<?php // {name} {part}\n")
            for number in range(30 if name == "local" else 20):
                path = root / f"wp-content/uploads/{number % 3}/{number}.jpg"
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_text(f"{name if number % 2 else 'both'} {number}")
            port = self.staging_port if name == "staging" else server.port
            (root / "wp-config.php").write_text(
                f"<?php define('DB_NAME', '{database}'); define('DB_USER', 'switch'); define('DB_PASSWORD',"
                f" 'switch-word'); define('DB_HOST', '127.0.0.1:{port}'); $table_prefix = 'wp_';"
            )
            text += f'[environment.{name}]\naddress = "https://{name}.test"\nrole = "{"local" if name == "local" else "staging"}"\n'
            text += (
                f'host = "ssh://{ssh.name}"\nroot = "{root}"\n'
                if ssh is not None and name == "staging"
                else f'root = "{name}"\n'
            )
        for path in [folder, *folder.rglob("*")]:
            if path.is_dir():
                path.chmod(0o755)
        (folder / "vetrin.toml").write_text(text)
        # Nobody visits these sites, so nothing has to settle in PHP's cache of code.
        known = resources.files("vetrin.cms") / "definitions/wordpress.toml"
        definition = known.read_text().replace("settles = 3.2", "settles = 0.1")
        (folder / "wordpress.toml").write_text(definition)

    def renew(self) -> None:
        """Begin anew."""
        for name in ("local", "staging", ".vetrin"):
            shutil.rmtree(self.folder / name, ignore_errors=True)
        self.__init__(self.folder, self.server, self.way, self.ssh, self.staging_port)  # type: ignore[misc]

    PULL = ("pull", "local", "--to", "staging", "--parts", "data,media,code", "--yes")

    @property
    def environ(self) -> dict[str, str]:
        home = str(self.ssh.home) if self.ssh else os.environ["HOME"]
        return {**os.environ, "HOME": home, "NO_COLOR": "1"}

    def start(self, *words: str, script: str = "") -> subprocess.Popen[str]:
        command = [sys.executable, "-m", "vetrin", *words]
        if script:
            command = [
                sys.executable,
                "-c",
                f"{script}\nfrom vetrin.cli import main\nmain({list(words)!r})",
            ]
        return subprocess.Popen(
            command, cwd=self.folder, env=self.environ, text=True, stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE, stderr=subprocess.PIPE,
        )  # fmt: skip

    def vetrin(self, *words: str, code: int | None = 0, script: str = "") -> tuple[int, str]:
        process = self.start(*words, script=script)
        out, errors = process.communicate(timeout=180)
        assert code is None or process.returncode == code, out + errors
        log = self.folder / ".vetrin/errors.log"
        unexpected = log.read_text() if log.exists() else ""
        assert not unexpected and "Traceback" not in errors, errors + unexpected
        return process.returncode, out + errors

    def state(self, name: str = "staging") -> dict[str, Any]:
        """Everything that a switch changes: rows, what hangs on them, files."""
        plain = (self.folder / "vetrin.toml").read_text()
        if self.ssh is not None:
            plain = plain.replace(f'host = "ssh://{self.ssh.name}"\n', "")
        look = self.folder / "look"
        look.mkdir(exist_ok=True)
        (look / "vetrin.toml").write_text(
            plain.replace('root = "local"', 'root = "../local"')
            .replace('root = "staging"', 'root = "../staging"')
            .replace('"wordpress.toml"', '"../wordpress.toml"')
        )
        project = load_project(look)
        with open_site(hosts, project, project.environment(name)) as site:
            tables = site.tables
            hanging = site.database.attachments([table.name for table in tables], site.views)
            # Not at once: who holds tables while asking for them on another connection keeps a switch waiting.
            with site.database.reading() as reader:
                found: dict[str, Any] = {
                    table.name: table_digest(reader, table) for table in tables
                }
            found["hanging"] = sorted(map(repr, hanging))
        shutil.rmtree(look)
        root = self.folder / name
        files: dict[str, Any] = state(root / "wp-content")
        found |= {path: content[:2] for path, content in files.items()}
        found["held"] = (root / ".maintenance").exists()
        return found

    @property
    def record(self) -> Path:
        return self.root / RECORD

    def runs(self) -> list[tuple[str, str]]:
        return [(run.kind, run.stage) for run in Journals(self.folder / ".vetrin").of("staging")]


WAYS = ("here", "python", "php", "sftp")


@contextlib.contextmanager
def line_by(way: str, server: DatabaseServer) -> Iterator[Line]:
    """The two sites, the target to be reached by a way."""
    folder = Path(tempfile.mkdtemp(prefix="vetrin-switch-"))
    try:
        if way == "here":
            yield Line(folder, server, way, None)
            return
        with ssh_server(SFTP_ONLY[:1] if way == "sftp" else ()) as ssh:
            if way == "php":
                without_python(ssh)
            yield Line(folder, server, way, ssh)
    finally:
        hosts.close()
        shutil.rmtree(folder)


def without_python(ssh: SshServer) -> None:
    """Make the account one whose Python does not run."""
    (ssh.home / "python3").write_text("#!/bin/sh\nexit 127\n")
    (ssh.home / "python3").chmod(0o755)
    ssh.stop()
    ssh.options = (f'ForceCommand PATH={ssh.home}:/usr/bin:/bin; eval "$SSH_ORIGINAL_COMMAND"',)
    ssh.start()


def busy(record: Path) -> bool:
    """Whether a process holds the record of a switch."""
    with contextlib.suppress(FileNotFoundError), record.open() as file:
        try:
            fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
        except OSError:
            return True
    return False


def settled(line: Line, old: dict[str, Any], new: dict[str, Any], seconds: float) -> str:
    """Which of the two the target is within some time; fails where it is neither."""
    until = time.monotonic() + seconds
    while True:
        if not line.record.exists():
            found = line.state()
            if found in (old, new):
                return "old" if found == old else "new"
        if time.monotonic() > until:
            found = line.state()
            differs = {k: (old.get(k), new.get(k), v) for k, v in found.items() if v != new.get(k)}
            raise AssertionError(f"neither old nor new: {line.record.exists()} {differs}")
        time.sleep(0.02)
