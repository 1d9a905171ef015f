"""What happens when an environment is, under another name, one to which nothing may be written."""

from __future__ import annotations

import json
import os
from pathlib import Path

import pytest
from msgspec.structs import replace

from conftest import own_server
from ssh_server import SshServer
from systems import DatabaseServer, Mariadb
from test_command_line import vetrin
from test_ssh import Line
from vetrin.database.mysql.accounts import Credentials
from vetrin.database.mysql.database import MysqlDatabase
from vetrin.demo.sample import Sample, lay_out
from vetrin.spot import Spot

DATABASE = "data/harrowmere.sqlite"
WRITING = (
    ("rewrite", "local", "--replace", "https://a.example=https://b.example", "--yes"),
    ("heal", "local", "--yes"),
    ("pull", "--yes"),
    ("pull", "staging", "--to", "local", "--yes"),
    ("pull", "--parts", "media", "--yes"),
    ("undo", "local", "--yes"),
    ("pull", "--dry-run"),
)  # fmt: skip


def content(sample: Sample, name: str = "production") -> dict[str, bytes]:
    root = sample.root(name)
    return {
        str(path.relative_to(root)): path.read_bytes()
        for path in sorted(root.rglob("*"))
        if path.is_file() and ".vetrin" not in path.parts and not path.name.endswith(("-shm", "-wal"))
    }  # fmt: skip


def points_at(sample: Sample, name: str, file: str) -> None:
    (sample.root(name) / "fishplate.toml").write_text(f'[database]\nfile = "{file}"\n')


def relative(sample: Sample) -> None:
    points_at(sample, "local", f"../production/{DATABASE}")


def absolute(sample: Sample) -> None:
    points_at(sample, "local", str(sample.root("production") / DATABASE))


def by_a_link(sample: Sample) -> None:
    mine = sample.root("local") / DATABASE
    mine.unlink()
    mine.symlink_to(sample.root("production") / DATABASE)


def by_another_name(sample: Sample) -> None:
    mine = sample.root("local") / DATABASE
    mine.unlink()
    os.link(sample.root("production") / DATABASE, mine)


def in_the_project(sample: Sample) -> None:
    file = sample.folder / "vetrin.toml"
    file.write_text(
        f'{file.read_text()}\n[environment.local.database]\nfile = "../production/{DATABASE}"\n'
    )


@pytest.mark.parametrize("copied", [relative, absolute, by_a_link, by_another_name, in_the_project])
def test_production_under_another_name_is_not_written_to(sample: Sample, copied: object) -> None:
    vetrin(sample.folder, "pull", "--yes")
    copied(sample)  # type: ignore[operator]
    before = content(sample)
    for words in WRITING if copied is relative else WRITING[:3:2]:
        done = vetrin(sample.folder, *words, code=5)
        assert "production, which is read-only" in done.stderr, words
        assert content(sample) == before, words


def test_a_source_under_another_name_is_not_written_to(sample: Sample) -> None:
    points_at(sample, "staging", f"../local/{DATABASE}")
    before = content(sample, "local")
    done = vetrin(
        sample.folder, "pull", "local", "--to", "staging", "--parts", "data", "--yes", code=5
    )
    assert "its tables are those of local, from which the data come" in done.stderr
    assert content(sample, "local") == before


def test_what_shares_nothing_is_written_to(sample: Sample) -> None:
    """Also where it shares with what may be written to."""
    points_at(sample, "local", f"../staging/{DATABASE}")
    vetrin(sample.folder, "pull", "--yes")
    known = json.loads((sample.folder / ".vetrin/whereabouts.json").read_text())
    assert list(known) == ["production"]


@pytest.mark.parametrize("way", ["ssh", "shell_less"])
def test_a_host_that_is_this_machine(
    open_folder: Path, way: str, request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Staging is a folder on a host, which is where production lies."""
    server: SshServer = request.getfixturevalue(way)
    monkeypatch.setenv("HOME", str(server.home))
    sample = lay_out(open_folder / "railway")
    for path in sample.folder.rglob("*"):
        path.chmod(0o777 if path.is_dir() else 0o666)
    file = sample.folder / "vetrin.toml"
    text = file.read_text()
    (sample.folder / "elsewhere").symlink_to(sample.root("production"))
    file.write_text(
        text.replace(
            'root = "staging"',
            f'root = "{sample.folder}/elsewhere"\nhost = "ssh://{server.name}"',
        )
    )
    before = content(sample)
    for words in (("pull", "local", "--to", "staging", "--parts", "media", "--yes"),
                  ("push", "staging", "--yes")):  # fmt: skip
        assert "its root is that of production" in vetrin(sample.folder, *words, code=5).stderr
        assert content(sample) == before


@pytest.mark.parametrize("by_port", [False, True])
def test_a_configuration_that_came_along(
    open_folder: Path, database_server: DatabaseServer, ssh: SshServer, by_port: bool,
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    """The copy names the database of the live site, by the same way or another; then the host is away."""
    monkeypatch.setenv("HOME", str(ssh.home))
    line = Line(open_folder, database_server, ssh, "whose", port=False)
    there = line.live / "wp-config.php"
    host = f"127.0.0.1:{database_server.port}" if by_port else f"localhost:{database_server.socket}"
    right = (open_folder / "copy/wp-config.php").read_text()
    wrong = there.read_text().replace(f"localhost:{database_server.socket}", host)
    replacing = ("rewrite", "local", "--replace", "https://www.harrowmere.example=https://b.example",
                 "--yes")  # fmt: skip

    def posts() -> list[tuple[object, ...]]:
        return database_server.run(f"SELECT count(*) FROM {line.source}.wp_posts WHERE post_content LIKE '%b.example%'")  # fmt: skip

    (open_folder / "copy/wp-config.php").write_text(wrong)
    for words in (("pull", "--yes"), replacing):
        done = line.vetrin(*words)
        assert (done.returncode, "its tables are those of production" in done.stderr) == (
            5,
            True,
        ), done.stderr
    ssh.stop()
    try:
        done = line.vetrin(*replacing)
        assert (done.returncode, "its tables are those of production" in done.stderr) == (5, True)
        (open_folder / ".vetrin/whereabouts.json").unlink()
        (open_folder / "copy/wp-config.php").write_text(right)
        database_server.run(f"CREATE TABLE wp_options LIKE {line.source}.wp_options",
                            f"INSERT INTO wp_options SELECT * FROM {line.source}.wp_options",
                            database=line.target)  # fmt: skip
        done = line.vetrin(*replacing)
        assert (done.returncode, "could not be looked at" in done.stderr) == (0, True), done.stderr
        done = line.vetrin("undo", "local", "--yes")
        assert (done.returncode, "a while ago" in done.stderr) == (0, True), done.stderr
    finally:
        ssh.start()
    assert [*map(int, posts()[0])] == [0]


def test_servers_that_call_themselves_alike(
    mariadb_server: Mariadb, monkeypatch: pytest.MonkeyPatch
) -> None:
    """As machines do that were copied from one image."""
    facts = MysqlDatabase.facts
    monkeypatch.setattr(
        MysqlDatabase,
        "facts",
        lambda self: replace(facts(self), identity="web|3306|/var/lib/mysql/|site"),
    )
    mariadb_server.create("alike", "alike", "steam")

    def at(server: Mariadb) -> MysqlDatabase:
        account = Credentials("alike", "alike", "steam", "localhost", 0, server.socket)
        return MysqlDatabase(account, read_only=True)

    with own_server(Mariadb) as other:
        other.create("alike", "alike", "steam")
        mine, again, theirs = at(mariadb_server), at(mariadb_server), at(other)
        assert mine.is_same(again) and again.is_same(mine)
        assert not mine.is_same(theirs) and not theirs.is_same(mine)
        for database in (mine, again, theirs):
            database.close()


def test_spots() -> None:
    here = Spot("machine", "/a", (1, 2))
    assert here.is_same(Spot("machine", "/b", (1, 2)))
    assert not here.is_same(Spot("other", "/a", (1, 2)))
    assert not here.is_same(Spot("machine", "/a", (1, 3)))
    assert here.is_same(Spot("machine", "/a")) and not here.is_same(Spot("machine", "/b"))
