"""The switch: carried out to its end where the target is, whatever becomes of whoever began it.

On this machine and behind a real SSH server (helper in Python, in PHP, SFTP alone), with a real database: killed in
it, cut in it, failing in it; and whatever command comes next.
"""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from ssh_server import SFTP_ONLY, SshServer, ssh_server
from systems import DatabaseServer
from test_files import state
from vetrin.database.digest import table_digest
from vetrin.project import load_project
from vetrin.reach import hosts, open_site
from vetrin.sync import Journals
from vetrin.sync.switching import RECORD

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
    """``local`` is what comes, ``staging`` the target, by ``way``."""

    def __init__(
        self, folder: Path, server: DatabaseServer, way: str, ssh: SshServer | None
    ) -> None:
        self.folder, self.server, self.way, self.ssh = folder, server, way, ssh
        self.root = folder / "staging"
        text = (
            '[site]\nname = "Harrowmere Light Railway"\ncms = "wordpress"\n[arrival]\n'
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
            for path in ("a.php", "b.php", f"{name}.php", "deep/er/c.php"):
                (root / PLUGIN / path).parent.mkdir(parents=True, exist_ok=True)
                (root / PLUGIN / path).write_text(f"<?php // {name} {path}\n")
            for number in range(30 if name == "local" else 20):
                path = root / f"wp-content/uploads/{number % 3}/{number}.jpg"
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_text(f"{name if number % 2 else 'both'} {number}")
            (root / "wp-config.php").write_text(
                f"<?php define('DB_NAME', '{database}'); define('DB_USER', 'switch'); define('DB_PASSWORD',"
                f" 'switch-word'); define('DB_HOST', '127.0.0.1:{server.port}'); $table_prefix = 'wp_';"
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

    def renew(self) -> None:
        """Begin anew."""
        for name in ("local", "staging", ".vetrin"):
            shutil.rmtree(self.folder / name, ignore_errors=True)
        self.__init__(self.folder, self.server, self.way, self.ssh)  # type: ignore[misc]

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
        assert "Traceback" not in errors and "did not expect" not in errors, errors
        return process.returncode, out + errors

    def state(self, name: str = "staging") -> dict[str, Any]:
        """Everything that a switch changes: rows, what hangs on them, files."""
        plain = (self.folder / "vetrin.toml").read_text()
        if self.ssh is not None:
            plain = plain.replace(f'host = "ssh://{self.ssh.name}"\n', "")
        look = self.folder / "look"
        look.mkdir(exist_ok=True)
        (look / "vetrin.toml").write_text(
            plain.replace('root = "local"', 'root = "../local"').replace(
                'root = "staging"', 'root = "../staging"'
            )
        )
        project = load_project(look)
        with (
            open_site(project, project.environment(name)) as site,
            site.database.reading() as reader,
        ):
            names = [table.name for table in site.tables]
            found: dict[str, Any] = {
                table.name: table_digest(reader, table) for table in site.tables
            }
            found["hanging"] = sorted(map(repr, site.database.attachments(names, site.views)))
        shutil.rmtree(look)
        root = self.folder / name
        found |= {path: content[:2] for path, content in state(root / "wp-content").items()}
        found["held"] = (root / ".maintenance").exists()
        return found

    @property
    def record(self) -> Path:
        return self.root / RECORD

    def runs(self) -> list[tuple[str, str]]:
        return [(run.kind, run.stage) for run in Journals(self.folder / ".vetrin").of("staging")]


WAYS = ("here", "python", "php", "sftp")


@pytest.fixture(scope="module", params=WAYS)
def line(request: pytest.FixtureRequest, database_server: DatabaseServer) -> Iterator[Line]:
    folder = Path(tempfile.mkdtemp(prefix="vetrin-switch-"))
    try:
        if request.param == "here":
            yield Line(folder, database_server, "here", None)
            return
        options = SFTP_ONLY[:1] if request.param == "sftp" else ()
        with ssh_server(options) as server:
            if request.param == "php":
                (server.home / "python3").write_text("#!/bin/sh\nexit 127\n")
                (server.home / "python3").chmod(0o755)
                server.stop()
                server.options = (
                    f'ForceCommand PATH={server.home}:/usr/bin:/bin; eval "$SSH_ORIGINAL_COMMAND"',
                )
                server.start()
            yield Line(folder, database_server, request.param, server)
    finally:
        hosts.forget()
        shutil.rmtree(folder)


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


def back_to_the_old(line: Line, old: dict[str, Any]) -> None:
    if line.state() != old:
        line.vetrin("undo", "staging", "--yes")
    assert line.state() == old


def test_it_is_handed_over_and_undone(line: Line) -> None:
    """By every way the same comes; where a process can be there, it carries the switch out."""
    old = line.state()
    script = (
        "from vetrin.reach import executor as e\n"
        "real = e.Executor.carry_out\n"
        "def carry_out(self, go):\n"
        "    open('handed', 'a').write('x')\n"
        "    return real(self, go)\n"
        "e.Executor.carry_out = carry_out\n"
    )
    line.vetrin(*line.PULL, script=script)
    new = line.state()
    wanted = line.state("local")
    assert new["wp_only_here"] == wanted["wp_only_here"]
    assert {k for k in new if k.startswith("plugins")} >= {"plugins/booking-office/local.php"}
    assert len([item for item in new["hanging"] if "local" in item]) == 2
    assert new != old and not new["held"]
    line.vetrin("undo", "staging", "--yes", script=script)
    assert line.state() == old
    line.vetrin("undo", "staging", "--yes", script=script)
    assert line.state() == new
    back_to_the_old(line, old)
    handed = line.folder / "handed"
    assert (len(handed.read_text()) if handed.exists() else 0) == (0 if line.way == "sftp" else 3)
    handed.unlink(missing_ok=True)
    assert not list((line.root / ".vetrin").glob("*switched"))


NEXT: dict[str, tuple[str, ...]] = {
    "the same": Line.PULL,
    "another": ("pull", "local", "--to", "staging", "--parts", "media", "--yes"),
    "resume": ("resume", "staging"),
    "undo": ("undo", "staging", "--yes"),
    "status": ("status", "--json"),
    "check": ("check", "staging"),
    "backup": ("backup", "staging"),
}


# By each way some; scripts/interrupt goes through all of them, as often as one likes.
TRIED = [
    *[("here", name) for name in ("the same", "undo", "resume", "status")],
    *[("python", name) for name in ("the same", "undo", "backup")],
    *[("php", name) for name in ("another", "resume")],
    *[("sftp", name) for name in ("the same", "undo", "resume", "check", "backup")],
]


@pytest.mark.parametrize(("line", "following"), TRIED, indirect=["line"])
def test_killed_in_the_switch_it_comes_to_its_end(line: Line, following: str) -> None:
    chance = random.Random(f"{line.way} {following}")
    for _ in range(1):
        line.renew()
        old = line.state()
        line.vetrin(*line.PULL)
        new = line.state()
        back_to_the_old(line, old)
        process = line.start(*line.PULL)
        until = time.monotonic() + 60
        while not line.record.exists() and process.poll() is None and time.monotonic() < until:
            time.sleep(0.002)
        time.sleep(chance.choice((0, 0.01, 0.1, 0.35, 0.6)))
        process.send_signal(signal.SIGKILL)
        process.communicate()
        if line.way != "sftp":
            # Nobody has done anything since: what was handed over ended by itself.
            time.sleep(chance.random() * 0.5)
        code, said = line.vetrin(*NEXT[following], code=None)
        half = line.way == "sftp" and line.record.exists()
        if following == "status":
            told = json.loads(said[: said.rindex("}") + 1]).get("half_switched", [])
            assert (told == ["staging"]) == half, said
            assert code == 0
        elif following == "check":
            assert ("half old and half new" in said) == half, said
        elif following == "backup":
            assert code == (5 if half else 0), said
        elif following == "resume":
            assert code in (0, 5), said
            assert (line.state() == new) if code == 0 and "finished" in said else True
        else:
            assert code == 0, said
        if not half:
            standing = settled(line, old, new, 3) if following != "another" else "mixed"
            if following == "the same":
                assert standing == "new"
        # Whatever stands there, the same command makes it what it is to be.
        line.vetrin(*line.PULL)
        assert line.state() == new
        assert not list((line.root / ".vetrin").glob("*switched"))
    line.renew()


def test_what_fails_in_the_switch_is_taken_back(line: Line) -> None:
    """A statement in the middle of it is refused: the target is all old, and says so."""
    old = line.state()
    script = (
        "from vetrin.database.mysql import database as d\n"
        "real = d.settling\n"
        "def settling(*values):\n"
        "    found = real(*values)\n"
        "    return [*found[:-1], {'sql': 'CREATE TRIGGER wp_bad BEFORE INSERT ON wp_nowhere FOR EACH ROW SET @a = 1'}, *found[-1:]] if found and not settling.once else found\n"
        "settling.once = False\n"
        "def first(*values):\n"
        "    found = settling(*values)\n"
        "    settling.once = True\n"
        "    return found\n"
        "d.settling = first\n"
    )
    _, said = line.vetrin(*line.PULL, code=1, script=script)
    assert "wp_nowhere" in said
    assert "is as it was before" in said
    assert line.state() == old
    assert line.runs()[0] == ("pull", "failed")
    assert not line.record.exists()
    assert not list((line.root / ".vetrin").glob("*switched"))
    line.vetrin(*line.PULL)
    line.vetrin("undo", "staging", "--yes")
    assert line.state() == old


def test_files_that_fail_in_the_switch_take_the_tables_back(line: Line) -> None:
    """Something stands where something is to come: an error of the files, after the tables."""
    old = line.state()
    script = (
        "from vetrin.sync import switching as s\n"
        "import pathlib\n"
        "real = s._hand_over\n"
        f"place = pathlib.Path({str(line.root)!r}, 'wp-content/uploads/0/27.jpg')\n"
        "def hand_over(target, *values):\n"
        "    acts = target.files.planned_exchange\n"
        "    def planned(token, moves):\n"
        "        found = acts(token, moves)\n"
        "        place.mkdir()\n"
        "        (place / 'x').write_text('in the way')\n"
        "        return found\n"
        "    target.files.planned_exchange = planned\n"
        "    return real(target, *values)\n"
        "s._hand_over = hand_over\n"
    )
    if line.way == "sftp":
        return  # nothing is planned beforehand there
    try:
        _, said = line.vetrin(*line.PULL, code=1, script=script)
        assert "something is there" in said
    finally:
        shutil.rmtree(line.root / "wp-content/uploads/0/27.jpg")
    assert line.state() == old
