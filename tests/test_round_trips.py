"""Over a slow line questions are asked together: how many ways there and back a look and a plan take, counted."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

from railway import Railway
from slow_line import SlowLine
from ssh_server import SshServer
from systems import Mariadb, mariadb_site

# After the connection's own set-up. An embedded database has a helper of its own, which starts on the way.
MOST = {"server": 25, "sqlite": 60}
LOOKS = {
    "status": "standing(production)",
    "pull": "build_plan(production, local, ('data', 'media'))",
    "push": "build_plan(local, production, ('data', 'media'))",
    "code": "build_plan(local, production, ('code',))",
}
# Run by itself, so that nothing is known of the host yet.
SCRIPT = """
import contextlib, sys
from pathlib import Path
from vetrin.config import load_project
from vetrin.jobs import build_plan
from vetrin.remote import Hosts
from vetrin.site import open_site, standing

hosts = Hosts()
project = load_project(Path("."))
live, copy = (project.environment(name) for name in ("production", "local"))
hosts.of(live)
print(flush=True)
sys.stdin.readline()
production = open_site(hosts, project, live, read_only=WRITES == live.name)
local = open_site(hosts, project, copy, read_only=WRITES == copy.name)
LOOK
print(flush=True)
sys.stdin.readline()
"""


@pytest.fixture(params=["server", "sqlite"])
def folder(request: pytest.FixtureRequest, tmp_path: Path, ssh: SshServer) -> Path:
    """A project of which production is on a host."""
    host = f'host = "ssh://{ssh.name}"\naccess = "read-write"\n'
    found = tmp_path / "vetrin.toml"
    if request.param == "sqlite":
        Railway(tmp_path)
        text = found.read_text().replace('access = "read-only"', "")
        found.write_text(
            text.replace('root = "production"', f'{host}root = "{tmp_path}/production"')
        )
        return tmp_path
    shells(request.getfixturevalue("database_server"), tmp_path)
    found.write_text(found.read_text().replace('root = "live"', f'{host}root = "{tmp_path}/live"'))
    return tmp_path


def shells(server: Mariadb, folder: Path) -> None:
    """Two WordPress shells, and their project."""
    tables = [
        "CREATE TABLE wp_options (option_id INT AUTO_INCREMENT PRIMARY KEY, option_name VARCHAR(191) UNIQUE,"
        " option_value TEXT)",
        "INSERT INTO wp_options VALUES (1, 'home', 'https://live.test'), (2, 'siteurl', 'https://live.test')",
        "CREATE TABLE wp_posts (ID INT PRIMARY KEY, post_title TEXT, post_type VARCHAR(20),"
        " post_status VARCHAR(20), post_modified_gmt DATETIME)",
        "INSERT INTO wp_posts VALUES (1, 'Timetable', 'page', 'publish', '2026-05-01 10:00:00')",
        "CREATE TABLE wp_postmeta (meta_id INT PRIMARY KEY, post_id INT, meta_key TEXT, meta_value TEXT)",
        "CREATE TABLE wp_comments (comment_ID INT PRIMARY KEY, comment_approved VARCHAR(20), comment_type TEXT)",
        *(f"CREATE TABLE wp_bookings_{number} (id INT PRIMARY KEY, name TEXT)" for number in range(20)),
        "CREATE VIEW wp_pages AS SELECT ID, post_title FROM wp_posts",
        "CREATE TRIGGER wp_told AFTER INSERT ON wp_posts FOR EACH ROW DELETE FROM wp_comments",
    ]  # fmt: skip
    for word in ("live", "copy"):
        mariadb_site(server, folder, word, tables)
        for number in range(12):
            for part in ("main", "other", "more"):
                path = folder / word / f"wp-content/plugins/line-{number}/{part}.php"
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_text(f"<?php\n/* Plugin Name: Line {number} */\n" * (part == "main"))


@pytest.mark.parametrize("what", LOOKS)
def test_a_look_takes_few_ways(
    folder: Path, ssh: SshServer, what: str, request: pytest.FixtureRequest
) -> None:
    line = SlowLine(ssh.port)
    home = _home(folder, ssh, line)
    writes = "production" if what in ("push", "code") else "local"
    script = SCRIPT.replace("WRITES == live.name", str(writes != "production"))
    script = script.replace("WRITES == copy.name", str(writes != "local"))
    process = subprocess.Popen(
        [sys.executable, "-c", script.replace("LOOK\n", f"{LOOKS[what]}\n")],
        cwd=folder, env={"HOME": str(home), "PATH": "/usr/bin:/bin", **here()}, text=True,
        stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
    )  # fmt: skip
    try:
        assert process.stdin is not None and process.stdout is not None
        ways = []
        for _ in range(2):
            assert process.stdout.readline() == "\n", process.communicate("\n")
            ways.append(line.ways)
            process.stdin.write("\n")
            process.stdin.flush()
        process.communicate()
    finally:
        process.kill()
        process.wait()
        line.stop()
    taken = ways[1] - ways[0]
    kind = "server" if "server" in request.node.name else "sqlite"
    assert 3 < taken <= MOST[kind], taken


# How many ways a command takes at most where there are a hundred tables, with the connection's set-up: one for each of
# the tables would be a hundred more.
COMMANDS = {
    "first": ("pull --parts data --yes", 95),
    "again": ("pull --parts data --yes", 85),
    "changed": ("pull --parts data --yes", 90),
    "changes": ("changes production", 75),
    "dry": ("push production --parts data --dry-run", 90),
    "push": ("push production --parts data --yes --confirm production", 170),
}


def test_many_tables_are_asked_for_together(
    tmp_path: Path, ssh: SshServer, database_server: Mariadb
) -> None:
    many = [f"wp_rides_{number}" for number in range(80)]
    shells(database_server, tmp_path)
    for name in many:
        database_server.run(
            f"CREATE TABLE {name} (id INT PRIMARY KEY, name TEXT)",
            f"INSERT INTO {name} VALUES (1, 'Halt'), (2, 'Bridge'), (3, 'Shed')",
            database="live_site",
        )
    host = f'host = "ssh://{ssh.name}"\naccess = "read-write"\n'
    found = tmp_path / "vetrin.toml"
    found.write_text(found.read_text().replace('root = "live"', f'{host}root = "{tmp_path}/live"'))
    line = SlowLine(ssh.port, 0.05, together=0.08)
    environment = {"HOME": str(_home(tmp_path, ssh, line)), "PATH": "/usr/bin:/bin", **here()}
    taken = {}
    try:
        for what, (command, _) in COMMANDS.items():
            changed = {"changed": ("live_site", many), "dry": ("copy_site", many[:1])}
            database, names = changed.get(what, ("live_site", []))
            updates = [f"UPDATE {name} SET name = '{what}' WHERE id = 2" for name in names]
            database_server.run(*updates, database=database)
            before = line.ways
            ran = subprocess.run(
                [sys.executable, "-m", "vetrin", *command.split()],
                cwd=tmp_path, env=environment, text=True, capture_output=True,
            )  # fmt: skip
            assert ran.returncode == 0, ran.stdout + ran.stderr
            taken[what] = line.ways - before
    finally:
        line.stop()
    assert {what: ways for what, ways in taken.items() if not 30 < ways <= COMMANDS[what][1]} == {}
    arrived = database_server.run("SELECT name FROM wp_rides_0 WHERE id = 2", database="live_site")
    assert arrived == [("dry",)]


def _home(folder: Path, ssh: SshServer, line: SlowLine) -> Path:
    """A home from which the SSH server is reached through a line."""
    home = folder / "home/.ssh"
    home.mkdir(parents=True, mode=0o700)
    for name in ("config", "known_hosts"):
        text = (ssh.home / ".ssh" / name).read_text()
        (home / name).write_text(text.replace(str(ssh.port), str(line.port)))
    return home.parent


def here() -> dict[str, str]:
    """Where the program under test is imported from."""
    return {"PYTHONPATH": ":".join(path for path in sys.path if path)}
