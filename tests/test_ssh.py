"""Transfers over a real SSH server: what arrives, whatever way it has to go, and however often it breaks."""

from __future__ import annotations

import json
import os
import random
import re
import shutil
import signal
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from connected import hosts
from faults import Between
from ssh_server import NO_FORWARDING, SFTP_ONLY, SHELL_LESS, SshServer, ssh_server
from systems import DatabaseServer
from test_files import state
from vetrin.config import load_project
from vetrin.config.host import Host
from vetrin.database.mysql.page_digests import PageDigests
from vetrin.database.table_digest import table_digest
from vetrin.demo.sample import lay_out
from vetrin.errors import ConnectionLost, FilesError, ReachError, Refused, Stopped
from vetrin.files import LocalTree
from vetrin.jobs import (
    Choices,
    Journals,
    Moved,
    RunContext,
    Slowed,
    TableDone,
    build_plan,
    reconnect,
    run_plan,
    table_copy,
    throttle,
    transfer,
)
from vetrin.jobs.events import Event, FileMoved
from vetrin.jobs.lock import only_run
from vetrin.remote import Hosts
from vetrin.remote.ssh.host import SshHost
from vetrin.site import open_site

TABLES = """
CREATE TABLE numbers AS WITH RECURSIVE n AS (SELECT 1 AS seq UNION ALL SELECT seq + 1 FROM n WHERE seq < 9000) SELECT seq FROM n;
CREATE TABLE wp_options (option_id BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY, option_name VARCHAR(191) UNIQUE, option_value LONGTEXT);
INSERT INTO wp_options (option_name, option_value) VALUES ('siteurl', 'https://www.harrowmere.example'), ('home', 'https://www.harrowmere.example'), ('blogname', 'Harrowmere Light Railway');
CREATE TABLE wp_posts (ID BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY, post_title TEXT, post_content LONGTEXT, post_status VARCHAR(20), post_type VARCHAR(20), post_modified_gmt DATETIME, guid VARCHAR(255), KEY (post_type));
INSERT INTO wp_posts SELECT seq, CONCAT('Timetable ', seq), CONCAT(REPEAT(CONCAT('platform ', seq, ' '), 20 + seq % 40), '<a href="https://www.harrowmere.example/', seq, '">'), 'publish', 'post', '2026-05-01 10:00:00', CONCAT('https://www.harrowmere.example/?p=', seq) FROM numbers WHERE seq <= 6000;
CREATE TABLE wp_comments (comment_ID BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY, comment_post_ID BIGINT UNSIGNED, comment_author TINYTEXT, comment_content TEXT, comment_approved VARCHAR(20), comment_date_gmt DATETIME);
INSERT INTO wp_comments SELECT seq, seq % 6000, 'Visitor', REPEAT('steam ', 20 + seq % 30), '1', '2026-05-01 10:00:00' FROM numbers WHERE seq <= 9000;
CREATE TABLE wp_log (at DATETIME, line VARCHAR(300));
INSERT INTO wp_log SELECT '2026-05-01 10:00:00', REPEAT('whistle ', seq % 30) FROM numbers WHERE seq <= 4000;
CREATE TABLE wp_pairs (a BIGINT, b BIGINT, note VARCHAR(60), PRIMARY KEY (a, b));
INSERT INTO wp_pairs SELECT seq % 50, seq, CONCAT('pair ', seq) FROM numbers WHERE seq <= 5000;
DROP TABLE numbers
"""


class Line:
    """A railway whose production is behind SSH; ``local`` and ``staging`` start as empty copies."""

    def __init__(
        self, folder: Path, server: DatabaseServer, ssh: SshServer, name: str, *, port: bool = False
    ) -> None:
        where = f"127.0.0.1:{server.port}" if port else f"localhost:{server.socket}"
        self.folder, self.server, self.ssh = folder, server, ssh
        self.source, self.target = f"{name}_live", f"{name}_copy"
        self.live = folder / "live"
        for database in (self.source, self.target):
            server.run(f"DROP DATABASE IF EXISTS {database}")
            server.create(database, "railway", "a railway's word")
        server.run(*filter(str.strip, TABLES.split(";\n")), database=self.source)
        for root, database in ((self.live, self.source), (folder / "copy", self.target)):
            for marker in ("wp-includes/version.php", "wp-load.php", "wp-admin/admin.php"):
                (root / marker).parent.mkdir(parents=True, exist_ok=True)
                (root / marker).write_text("<?php\n")
            (root / "wp-config.php").write_text(
                f"<?php\ndefine('DB_NAME', '{database}'); define('DB_USER', 'railway');"
                "define('DB_PASSWORD', \"a railway's word\");"
                f"define('DB_HOST', '{where}'); $table_prefix = 'wp_';\n"
            )
        chance = random.Random(3)
        for number in range(400):
            path = self.live / f"wp-content/uploads/2026/{number // 100:02d}/picture {number} é.jpg"
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(chance.randbytes(chance.randrange(0, 40_000)))
        (self.live / "wp-content/uploads/film.mp4").write_bytes(chance.randbytes(12_000_000))
        for path in [folder, *folder.rglob("*")]:
            if path.is_dir():
                path.chmod(0o755)
        (folder / "vetrin.toml").write_text(
            '[site]\nname = "Harrowmere Light Railway"\ncms = "wordpress"\n'
            '[environment.production]\naddress = "https://www.harrowmere.example"\n'
            f'host = "ssh://{ssh.name}"\nroot = "{self.live}"\n'
            '[environment.local]\naddress = "http://harrowmere.test:8080"\nroot = "copy"\n'
        )

    def pull(
        self, listener: Callable[[Event], None] = lambda event: None, *, full: bool = False
    ) -> transfer.Report:
        project = load_project(self.folder)
        with (
            open_site(hosts, project, project.environment("production")) as source,
            open_site(hosts, project, project.environment("local"), read_only=False) as target,
        ):
            plan = build_plan(source, target, ("data", "media"), [], Choices(full=full))
            return run_plan(
                plan,
                RunContext(source, target, Journals(project.state), listener, command=["pull"]),
            )

    def content(self) -> dict[str, object]:
        """Everything that was brought: digests of the tables, and the files."""
        project = load_project(self.folder)
        with (
            open_site(hosts, project, project.environment("local")) as site,
            site.database.reading() as reader,
        ):
            found: dict[str, object] = {
                table.name: table_digest(reader, table)
                for table in site.tables
                if table.name != "wp_options"
            }
        return found | state(self.folder / "copy/wp-content/uploads")

    def vetrin(self, *words: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, "-m", "vetrin", *words], cwd=self.folder, capture_output=True, text=True,
            env={**os.environ, "HOME": str(self.ssh.home)},
        )  # fmt: skip


@pytest.fixture
def folder() -> Iterator[Path]:
    # Below a folder that every account may enter.
    found = Path(tempfile.mkdtemp(prefix="vetrin-line-"))
    yield found
    hosts.close()
    shutil.rmtree(found)


@pytest.fixture
def line(
    folder: Path, database_server: DatabaseServer, ssh: SshServer, monkeypatch: pytest.MonkeyPatch
) -> Line:
    monkeypatch.setenv("HOME", str(ssh.home))
    monkeypatch.setattr(reconnect, "PAUSES", (0.05, 0.1, 0.2, 0.4, 0.8, 1.6) * 20)
    monkeypatch.setattr(table_copy, "SECONDS", 0.05)
    monkeypatch.setattr(table_copy, "STRETCH", 1_000_000)
    return Line(folder, database_server, ssh, "plain")


WAYS = {
    "helper": ((), "root", "a helper in Python", "through a channel of the connection"),
    "php": ((), "root", "a helper in PHP", "through a channel of the connection"),
    "no forwarding": (NO_FORWARDING, "root", "a helper in Python", "through the helper, for forwarding is forbidden"),
    "sftp only": (SFTP_ONLY[:1], "root", "by SFTP alone", "through a channel of the connection"),
    "tls": ((), "root", "a helper in Python", "through a channel of the connection"),
    "tls, no forwarding": (NO_FORWARDING, "root", "a helper in Python", "through the helper, for forwarding is forbidden"),
    "no shell": ((), SHELL_LESS, "by SFTP alone", "through a channel of the connection"),
}  # fmt: skip


@pytest.mark.parametrize("literal", ["Timetable=Working timetable", "railway=line"])
def test_a_rewrite_over_a_cut_line_is_made_or_not(line: Line, literal: str) -> None:
    """At moments all through it; the same command then makes it, and undo takes it back. What is replaced in the
    second stands in a table without a key, which is exchanged."""
    toml = line.folder / "vetrin.toml"
    toml.write_text(toml.read_text().replace("host =", 'access = "read-write"\nhost ='))
    line.server.run("UPDATE wp_log SET line = 'the railway' LIMIT 1500", database=line.source)
    words = ("rewrite", "production", "--literal", literal, "--confirm", "production")
    undo = ("undo", "production", "--confirm", "production")
    wire = Between(line.ssh.port)
    files = [line.ssh.home / ".ssh" / name for name in ("config", "known_hosts")]

    def lead(old: int, new: int) -> None:
        for path in files:
            path.write_text(path.read_text().replace(str(old), str(new)))

    def content() -> list[tuple[object, ...]]:
        names = [row[0] for row in line.server.run("SHOW TABLES", database=line.source)]
        tables = [name for name in names if not name.startswith("_vetrin")]
        return line.server.run(f"CHECKSUM TABLE {', '.join(tables)}", database=line.source)

    lead(line.ssh.port, wire.port)
    try:
        old = content()
        wire.arm(1 << 30, lambda piece: True)
        assert line.vetrin(*words).returncode == 0
        pieces, new = wire.seen, content()
        assert new != old and pieces > 10
        assert line.vetrin(*undo).returncode == 0 and content() == old
        cuts = 0
        # How many pieces there are is not the same each time: a late one may not come.
        for number, part in enumerate((30, 60, 80, 90, 97, 50, 40, 20, 10)):
            if number >= 5 and cuts >= 3:
                break
            at = pieces * part // 100
            wire.arm(at, lambda piece: True, answered=part % 20 == 0)
            done = line.vetrin(*words)
            cuts += wire.disarm()
            assert "Traceback" not in done.stderr, done.stderr
            assert content() in ([new] if done.returncode == 0 else [old, new]), (part, done.stderr)
            if done.returncode:
                again = line.vetrin(*words)
                assert again.returncode == 0 and content() == new, (part, again.stderr)
            back = line.vetrin(*undo)
            assert back.returncode == 0 and content() == old, (part, back.stderr)
        assert cuts >= 3
    finally:
        lead(wire.port, line.ssh.port)


@pytest.mark.parametrize("way", WAYS)
def test_the_same_arrives_by_every_way(
    way: str, folder: Path, request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch
) -> None:
    options, user, files, database = WAYS[way]
    tls = way.startswith("tls")
    databases = request.getfixturevalue("mysql_server" if tls else "database_server")
    with ssh_server(options, user) as server:
        if way == "php":
            # A host whose Python is too old, or none.
            (server.home / "python3").write_text("#!/bin/sh\nexit 127\n")
            (server.home / "python3").chmod(0o755)
            server.stop()
            server.options = (
                f'ForceCommand PATH={server.home}:/usr/bin:/bin; eval "$SSH_ORIGINAL_COMMAND"',
            )
            server.start()
        by_port = way in ("php", "no shell")
        line = Line(folder, databases, server, "ways", port=by_port)
        if tls:  # the account may come in no other way, not even on its own machine
            databases.run("ALTER USER railway REQUIRE SSL")
        monkeypatch.setenv("HOME", str(server.home))
        reached = line.vetrin("reach", "production")
        assert files in reached.stdout, reached.stdout + reached.stderr
        assert database in reached.stdout
        assert "a railway's word" not in reached.stdout + reached.stderr
        before = state(line.live)
        line.pull()
        databases.run(
            "UPDATE wp_posts SET post_title = 'A new one' WHERE ID IN (100, 4100)",
            "DELETE FROM wp_comments WHERE comment_ID = 1",
            "INSERT INTO wp_pairs VALUES (7, 6000, 'steam'), (99, 1, 'whistle')",
            database=line.source,
        )
        asked: list[int] = []
        made = PageDigests.of
        monkeypatch.setattr(
            PageDigests, "of", lambda self, ranges: asked.append(len(ranges)) or made(self, ranges)
        )
        known = PageDigests.of_known
        monkeypatch.setattr(PageDigests, "of_known", lambda *of: asked.append(1000) or known(*of))
        line.pull()
        found = line.content()
        # Where a helper can read what the server sends, the server digests only what looks otherwise, in sixteenths.
        few = 0 < sum(asked) < 12 * 16
        assert few if way in ("helper", "no forwarding") else sum(asked) > 1000
        assert found["film.mp4"][0] == (line.live / "wp-content/uploads/film.mp4").read_bytes()  # type: ignore[index]
        text = (folder / "vetrin.toml").read_text()
        # The same once more without SSH: nothing differs, to the byte.
        plain = re.sub(r'host = .*\nroot = ".*"', 'root = "live"', text)
        (folder / "vetrin.toml").write_text(plain)
        shutil.rmtree(folder / "copy/wp-content/uploads")
        line.pull(full=True)
        again = line.content()
        assert {k: v[:2] if isinstance(v, tuple) else v for k, v in found.items()} == {
            k: v[:2] if isinstance(v, tuple) else v for k, v in again.items()
        }
        assert state(line.live) == before  # nothing was left on the host


def test_where_neither_way_leads_to_the_database_it_is_said(
    folder: Path, database_server: DatabaseServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    with ssh_server(SFTP_ONLY) as server:
        line = Line(folder, database_server, server, "ways", port=True)
        monkeypatch.setenv("HOME", str(server.home))
        done = line.vetrin("pull", "--yes")
        assert done.returncode == 1
        assert "forbids forwarding, and has no shell" in done.stderr


def test_cut_at_fifty_moments(line: Line) -> None:
    """However often the connection is lost, in the end everything is there, and the same.

    Also while it is made anew, though not more than twice: how long that takes is the machine's affair.
    """
    line.pull()
    wanted = line.content()
    chance = random.Random(20261123)
    cuts = 0
    rounds = 0
    while cuts < 50:
        line.server.run(f"DROP DATABASE {line.target}")
        line.server.create(line.target, "railway", "a railway's word")
        shutil.rmtree(line.folder / "copy/wp-content/uploads")
        shutil.rmtree(line.folder / ".vetrin")
        over = threading.Event()
        moved: list[Event] = []

        def cutting() -> None:
            nonlocal cuts
            seen = again = 0
            while not over.wait(chance.uniform(0.1, 0.9)):  # noqa: B023
                count = sum(isinstance(event, (Moved, FileMoved)) for event in moved)  # noqa: B023
                again = again + 1 if count == seen else 0
                if again < 3 and line.ssh.drop():
                    cuts += 1
                    seen = count

        thread = threading.Thread(target=cutting)
        project = load_project(line.folder)
        with (
            open_site(hosts, project, project.environment("production")) as source,
            open_site(hosts, project, project.environment("local"), read_only=False) as target,
        ):
            plan = build_plan(source, target, ("data", "media"), [], Choices())
            thread.start()
            try:
                run_plan(plan, RunContext(source, target, Journals(project.state), moved.append))
            finally:
                over.set()
                thread.join()
        assert line.content() == wanted
        rounds += 1
    assert rounds < 50


def test_what_was_taken_is_checked_and_brought_up_to_date(line: Line) -> None:
    sent: list[int] = []
    stop_at = [5]

    def listener(event: Event) -> None:
        if isinstance(event, Moved):
            sent.append(event.size)
            if len([size for size in sent if size]) == stop_at[0]:
                raise KeyboardInterrupt

    with pytest.raises(Stopped, match="interrupted"):
        line.pull(listener)
    journals = Journals(line.folder / ".vetrin")
    (run,) = journals.of("local")
    assert run.can_go_on
    before = sum(sent)
    sent.clear()
    stop_at[0] = -1
    line.server.run(
        "UPDATE wp_posts SET post_title = 'A new one' WHERE ID = 100",
        "DELETE FROM wp_comments WHERE comment_ID = 1",
        database=line.source,
    )
    report = line.pull(listener)
    assert report.run.number == run.number
    assert before > 1_000_000
    after = sum(sent)
    assert any("had been taken before" in remark for remark in report.remarks)
    assert any(re.search("wp_posts|wp_comments", remark) for remark in report.remarks)
    again = line.content()
    shutil.rmtree(line.folder / ".vetrin")
    sent.clear()
    line.pull(listener)
    assert line.content() == again
    assert (
        after < sum(sent) < before + after + 2_500_000
    )  # at most the changed pages were sent twice


def test_a_view_is_not_held_for_long(line: Line, monkeypatch: pytest.MonkeyPatch) -> None:
    """Each table from a view of its own, and in the end all are of one moment nevertheless."""
    monkeypatch.setattr(table_copy, "VIEW", 0)
    done = []

    def listener(event: Event) -> None:
        if isinstance(event, TableDone) and event.table == "wp_comments" and not done:
            done.append(event)
            line.server.run("UPDATE wp_comments SET comment_content = 'late' WHERE comment_ID = 5",
                            "INSERT INTO wp_log VALUES (NOW(), 'late')", database=line.source)  # fmt: skip

    report = line.pull(listener)
    assert any("wp_comments had changed" in remark for remark in report.remarks)
    found = line.content()
    shutil.rmtree(line.folder / ".vetrin")
    monkeypatch.setattr(table_copy, "VIEW", 900)
    assert not any("had been taken" in remark for remark in line.pull().remarks)
    assert line.content() == found


def test_a_busy_host_is_waited_for(line: Line, monkeypatch: pytest.MonkeyPatch) -> None:
    loads = iter([9.0, 8.0])
    monkeypatch.setattr(throttle, "ASKED", 0.0)
    monkeypatch.setattr(throttle, "STEP", 0.01)
    real = SshHost.load
    said: list[float] = []

    def load(self: SshHost) -> float:
        said.append(real(self))
        return next(loads, 0.0)

    monkeypatch.setattr(SshHost, "load", load)
    heard: list[Event] = []
    line.pull(heard.append)
    assert [event.load for event in heard if isinstance(event, Slowed)] == [9.0, 8.0]
    assert said[0] > 0


def test_killed_and_resumed_without_sending_files_again(line: Line) -> None:
    script = (
        "import os, signal\n"
        "from vetrin.jobs import file_copy\n"
        "real = file_copy.FileCopier._arrived\n"
        "def arrived(self, path, size, files):\n"
        "    real(self, path, size, files)\n"
        "    if self.sent > 9_000_000: os.kill(os.getpid(), signal.SIGKILL)\n"
        "file_copy.FileCopier._arrived = arrived\n"
        "from vetrin.cli import main\n"
        "main(['pull', '--yes'])\n"
    )
    killed = subprocess.run(
        [sys.executable, "-c", script], cwd=line.folder, capture_output=True,
        env={**os.environ, "HOME": str(line.ssh.home)},
    )  # fmt: skip
    assert killed.returncode == -signal.SIGKILL
    assert not (line.folder / "copy/wp-content/uploads").exists()
    done = line.vetrin("resume", "--json")
    assert done.returncode == 0, done.stderr
    report = json.loads(done.stdout)
    total = sum(p.stat().st_size for p in (line.live / "wp-content").rglob("*") if p.is_file())
    assert report["file_bytes"] < total - 8_000_000
    found = LocalTree(line.folder / "copy").scan(["wp-content/uploads"])
    assert found == LocalTree(line.live).scan(["wp-content/uploads"])
    assert "no run was stopped" in line.vetrin("resume").stderr  # there is nothing to go on with


def test_given_up_after_a_while_and_gone_on_with_later(
    line: Line, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(reconnect, "PAUSES", (0.05, 0.1))
    stopped = []

    def listener(event: Event) -> None:
        if isinstance(event, FileMoved) and not stopped:
            stopped.append(line.ssh.stop())  # type: ignore[func-returns-value]

    try:
        with pytest.raises(Stopped, match=r"connection was lost|cannot be reached"):
            line.pull(listener)
    finally:
        line.ssh.start()
    line.pull()
    assert Journals(line.folder / ".vetrin").of("local")[0].number == 1


def test_one_at_a_time_from_anywhere(line: Line, monkeypatch: pytest.MonkeyPatch) -> None:
    text = (line.folder / "vetrin.toml").read_text()
    (line.folder / "vetrin.toml").write_text(
        text.replace("[environment.production]", '[environment.production]\naccess = "read-write"')
    )
    project = load_project(line.folder)
    production = project.environment("production")
    with open_site(hosts, project, production, read_only=False) as site:
        with only_run(site):
            held = json.loads((line.live / ".vetrin/lock").read_text())
            assert held["process"] == os.getpid()
            with only_run(site):  # who holds it may hold it once more
                pass
            assert (line.live / ".vetrin/lock").exists()
            with (
                open_site(hosts, project, production, read_only=False) as another,
                pytest.raises(Refused, match=rf"process {os.getpid()}\) since \d{{4}}-"),
                only_run(another),
            ):
                pass
        assert not (line.live / ".vetrin/lock").exists()
        # A run on another machine: as long as it gives signs of life, and long after.
        other = {**held, "machine": "another", "host": "laptop-two", "user": "tamsin"}
        lock = line.live / ".vetrin/lock"
        lock.write_text(json.dumps(other))
        with (
            pytest.raises(Refused, match="being written to by tamsin on laptop-two"),
            only_run(site),
        ):
            pass
        past = time.time() - 600
        os.utime(lock, (past, past))
        with (
            pytest.raises(Refused, match="nothing was heard for 10 minutes") as refused,
            only_run(site),
        ):
            pass
        assert "--take-over" in refused.value.remedy
        site.takes_over = True
        with only_run(site):
            assert json.loads(lock.read_text())["process"] == os.getpid()
    assert not lock.exists()
    # A dead run of this machine is found out by itself.
    lock.write_text(json.dumps({**held, "process": 2**22 + 1}))
    with (
        open_site(hosts, project, project.environment("production"), read_only=False) as site,
        only_run(site),
    ):
        pass


def test_an_unknown_host_is_shown_and_refused(line: Line) -> None:
    (line.ssh.home / ".ssh/known_hosts").write_text("")
    try:
        done = line.vetrin("reach", "production")
        assert done.returncode == 1
        shown = subprocess.run(
            ["ssh-keygen", "-lf", f"{line.ssh.folder}/host-key.pub"], capture_output=True, text=True
        ).stdout.split()[1]
        assert shown in done.stdout
        assert "is not known" in done.stdout
        mine = (line.ssh.home / ".ssh/id_ed25519.pub").read_text().split()[1]
        other = line.ssh.known.replace(line.ssh.known.split()[2], mine)
        (line.ssh.home / ".ssh/known_hosts").write_text(other)
        done = line.vetrin("reach", "production")
        assert "is not the one that is known" in done.stdout
    finally:
        (line.ssh.home / ".ssh/known_hosts").write_text(line.ssh.known)
    # Accepted by a person, it is kept where OpenSSH's own programs find it.
    (line.ssh.home / ".ssh/known_hosts").write_text("")

    class Yes:
        def trusts(self, host: str, kind: str, fingerprint: str) -> bool:
            return fingerprint == shown

        def secret(self, question: str) -> str | None:
            return None

    try:
        project = load_project(line.folder)
        with Hosts(Yes()) as asking, open_site(asking, project, project.environment("production")):
            pass
        assert line.ssh.known.split()[2] in (line.ssh.home / ".ssh/known_hosts").read_text()
    finally:
        (line.ssh.home / ".ssh/known_hosts").write_text(line.ssh.known)


def test_an_embedded_database_on_a_host(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Read and written where it lies, by the helper; by SFTP alone read as a copy, and never written."""
    sample = lay_out(folder / "project")
    text = (sample.folder / "vetrin.toml").read_text()
    for name in ("production", "staging"):
        shutil.move(sample.folder / name, folder / name)

    def behind(server: SshServer) -> None:
        far = text
        for name in ("production", "staging"):
            host = f'host = "ssh://{server.name}"\nroot = "{folder}/{name}"'
            far = far.replace(f'root = "{name}"', host)
        (sample.folder / "vetrin.toml").write_text(far)
        monkeypatch.setenv("HOME", str(server.home))

    def vetrin(*words: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [sys.executable, "-m", "vetrin", *words],
            cwd=sample.folder,
            capture_output=True,
            text=True,
        )

    def rows(path: Path) -> int:
        with sqlite3.connect(path / "data/harrowmere.sqlite") as opened:
            return int(opened.execute("SELECT count(*) FROM bookings").fetchone()[0])

    before = rows(folder / "staging")
    with ssh_server() as server:
        behind(server)
        assert vetrin("pull", "production", "--to", "staging", "--yes").returncode == 0
        assert rows(folder / "staging") == rows(folder / "production") != before
        done = vetrin("rewrite", "staging", "--literal", "Fenwick Lane=Fenwick Road", "--yes")
        assert done.returncode == 0, done.stderr
        assert vetrin("undo", "staging", "--yes").returncode == 0
        assert vetrin("pull", "staging", "--yes").returncode == 0
        assert rows(sample.root("local")) == rows(folder / "staging")
    with ssh_server(SFTP_ONLY) as server:
        behind(server)
        assert vetrin("pull", "production", "--yes").returncode == 0
        refused = vetrin("pull", "production", "--to", "staging", "--yes")
        assert refused.returncode == 5
        assert "nobody could hold the locks" in refused.stderr
        pushed = vetrin("push", "staging", "--yes", "--json")
        assert pushed.returncode in (0, 4), pushed.stderr  # nothing serves its pages here
        assert (folder / "staging/themes/maroon/style.css").exists()


def test_what_the_configuration_says_is_used(line: Line, monkeypatch: pytest.MonkeyPatch) -> None:
    """A jump host, and a key with a passphrase that somebody knows."""
    key = line.ssh.home / ".ssh/locked"
    subprocess.run(
        ["ssh-keygen", "-q", "-t", "ed25519", "-N", "open sesame", "-C", "", "-f", str(key)],
        check=True,
    )
    keys, config = line.ssh.folder / "keys", line.ssh.home / ".ssh/config"
    before = keys.read_text(), config.read_text()
    keys.write_text(before[0] + (line.ssh.home / ".ssh/locked.pub").read_text())
    config.write_text(
        before[1]
        + f"Host behind\n  HostName 127.0.0.1\n  Port {line.ssh.port}\n  User root\n  ProxyJump {line.ssh.name}\n"
        f"  IdentityFile {key}\n  IdentitiesOnly yes\n"
    )
    asked: list[str] = []

    class Knows:
        def trusts(self, host: str, kind: str, fingerprint: str) -> bool:
            return False

        def secret(self, question: str) -> str | None:
            asked.append(question)
            return "open sesame"

    text = (line.folder / "vetrin.toml").read_text()
    (line.folder / "vetrin.toml").write_text(text.replace(line.ssh.name, "behind"))
    try:
        project = load_project(line.folder)
        production = project.environment("production")
        with Hosts(Knows()) as asking, open_site(asking, project, production) as site:
            assert site.database.count("wp_posts") == 6000
        assert any(str(key) in question for question in asked)
        done = line.vetrin("reach", "production")  # without anybody to ask
        assert done.returncode == 1
        assert "open sesame" not in done.stdout + done.stderr
    finally:
        keys.write_text(before[0])
        config.write_text(before[1])
        hosts.close()


def test_a_host_that_is_not_there(line: Line) -> None:
    text = (line.folder / "vetrin.toml").read_text()
    (line.folder / "vetrin.toml").write_text(text.replace(line.ssh.name, "127.0.0.1:1"))
    project = load_project(line.folder)
    with pytest.raises(ReachError, match="cannot be reached"):
        open_site(hosts, project, project.environment("production"))


def test_a_rate_is_kept_to(line: Line) -> None:
    begun = time.monotonic()
    done = line.vetrin("pull", "--parts", "media", "--yes", "--rate", "10MB/s", "--json")
    assert done.returncode == 0, done.stderr
    size = json.loads(done.stdout)["file_bytes"]
    assert size / (time.monotonic() - begun) < 11_000_000
    assert line.vetrin("status", "--rate", "much").returncode == 2


def test_packed_on_one_host_and_brought_in_on_another(line: Line) -> None:
    """An export of what is behind SSH, an import into what is, and a snapshot of it that goes back there."""
    far = line.folder / "far"
    shutil.copytree(line.folder / "copy", far)
    configuration = (far / "wp-config.php").read_text().replace("plain_copy", "plain_far")
    (far / "wp-config.php").write_text(configuration)
    line.server.run("DROP DATABASE IF EXISTS plain_far")
    line.server.create("plain_far", "railway", "a railway's word")
    line.server.run("CREATE TABLE wp_users (ID INT PRIMARY KEY)", database=line.source)
    with (line.folder / "vetrin.toml").open("a") as file:
        file.write(
            f'[environment.far]\naddress = "https://try.harrowmere.example"\nhost = "ssh://{line.ssh.name}"\n'
            f'root = "{far}"\nrole = "staging"\n'
        )

    def run(*words: str) -> dict[str, Any]:
        done = line.vetrin(*words, "--json")
        assert done.returncode == 0, done.stdout + done.stderr
        assert "a railway's word" not in done.stdout + done.stderr
        found: dict[str, Any] = json.loads(done.stdout)
        return found

    archive = str(line.folder / "handover.tar.zst")
    packed = run("export", "production", archive, "--for", "far", "--parts", "data,media")
    assert packed["packed_files"] >= 401 and packed["rows"] > 24_000
    brought = run("import", archive, "far", "--parts", "data,media", "--yes")
    assert brought["rewriting"]["replaced"] == 0  # it was packed with this address
    assert (far / "wp-config.php").read_text() == configuration
    theirs, ours = state(line.live / "wp-content/uploads"), state(far / "wp-content/uploads")
    assert {name: item[0] for name, item in ours.items()} == {
        name: item[0] for name, item in theirs.items()
    }  # fmt: skip
    count = "SELECT COUNT(*) FROM wp_posts WHERE post_content LIKE '%//try.harrowmere.example/%'"
    assert line.server.run(count, database="plain_far") == [(6000,)]
    for table in ("wp_comments", "wp_log", "wp_pairs"):
        both = [
            line.server.run(f"CHECKSUM TABLE {table} EXTENDED", database=database)[0][1]
            for database in (line.source, "plain_far")
        ]
        assert both[0] == both[1], table
    snapshot = run("backup", "far", "--verify")
    assert snapshot["verified"] and snapshot["files"] > 400
    line.server.run(
        "DELETE FROM wp_pairs", "UPDATE wp_posts SET post_title = ''", database="plain_far"
    )
    (far / "wp-content/uploads/film.mp4").write_bytes(b"cut")
    run("restore", "far", snapshot["snapshot"], "--yes")
    assert (far / "wp-content/uploads/film.mp4").stat().st_size == 12_000_000
    assert line.server.run("SELECT COUNT(*) FROM wp_pairs", database="plain_far") == [(5000,)]
    again = line.vetrin("compare", "far", snapshot["snapshot"])
    assert again.returncode == 0, again.stdout
    line.server.run("DROP DATABASE plain_far")


def test_a_further_helper_that_does_not_come(
    ssh: SshServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The host had no time for it, say: as a broken line it is tried again, and named."""
    monkeypatch.setenv("HOME", str(ssh.home))
    far = hosts.at(Host.parse(f"ssh://{ssh.name}"), "production")
    assert far.helpers is not None
    monkeypatch.setattr(far.helpers, "command", "exit 7")
    with (
        far.helpers.one(),
        pytest.raises(ConnectionLost, match="no further helper"),
        far.helpers.one(),
    ):
        pass
    with far.helpers.one(), pytest.raises(FilesError) as raised:
        far.machine.look(["/"])
    assert reconnect.was_cut_off(raised.value)
    hosts.close()
