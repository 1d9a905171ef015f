"""From nothing to a running copy: the commands of docs/first-steps.md, typed at a terminal; `init`, `add` and `serve`."""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import signal
import socket
import subprocess
import sys
import time
import tomllib
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from ssh_server import SshServer
from systems import Mariadb, answer, free_port, program, wait_for
from test_command_line import document, vetrin
from vetrin.config import Host
from vetrin.demo.sample import Sample
from vetrin.remote.pool import Hosts
from wordpress_site import WordPress, single_quoted

PAGE = (Path(__file__).parent.parent / "docs/first-steps.md").read_text()
WORD = "it's \\ a #$\"secret"
ENTER = b"\n" * 4  # no way may ask more than four questions


def commands(heading: str) -> list[list[str]]:
    """The commands of a part of the page, in their order, without `vetrin`."""
    part = PAGE[PAGE.index(f"## {heading}") :].partition("\n## ")[0]
    lines = [
        line
        for block in re.findall(r"```sh\n(.*?)```", part, re.DOTALL)
        for line in block.splitlines()
    ]
    assert all(line.startswith("vetrin ") for line in lines)
    return [line.split()[1:] for line in lines]


class Home:
    """A machine as a newcomer has it: a server of the database where it usually is, PHP, and a host in ~/.ssh/config."""

    def __init__(self, folder: Path, server: Mariadb, host: SshServer) -> None:
        self.folder, self.server = folder, server
        self.live = WordPress(server, folder / "srv/harrowmere", "first_live", "first_live", WORD)
        self.live.install(
            single_quoted(server, "first_live", "first_live", WORD, "wp_"), "production"
        )
        self.live.serve()
        with (host.home / ".ssh/config").open("a") as file:
            file.write(
                f"Host harrowmere.example\n  HostName 127.0.0.1\n  Port {host.port}\n  HostKeyAlias [127.0.0.1]:{host.port}\n"
                f"  IdentityFile {host.home}/.ssh/id_ed25519\n"
            )
        settings = folder / "settings/vetrin"
        settings.mkdir(parents=True)
        # In place of the socket that a server of the system has.
        (settings / "defaults.toml").write_text(f'[database]\nhost = "localhost:{server.socket}"\n')
        self.environ = {
            "HOME": str(host.home), "XDG_CONFIG_HOME": str(folder / "settings"), "NO_COLOR": "1",
            "PATH": f"{Path(program('php')).parent}:{os.environ['PATH']}",
        }  # fmt: skip


@pytest.fixture(scope="module")
def home(
    tmp_path_factory: pytest.TempPathFactory, mariadb_server: Mariadb, ssh: SshServer
) -> Iterator[Home]:
    found = Home(tmp_path_factory.mktemp("newcomer"), mariadb_server, ssh)
    yield found
    found.live.stop()


@pytest.fixture
def place(home: Home, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """An empty folder to begin in."""
    for name, value in home.environ.items():
        monkeypatch.setenv(name, value)
    folder = tmp_path / "harrowmere"
    folder.mkdir()
    return folder


@contextlib.contextmanager
def serving(folder: Path, *words: str, code: int = 0) -> Iterator[str]:
    """`vetrin serve` while it runs; ended as Ctrl-C ends it."""
    process = subprocess.Popen(
        [sys.executable, "-m", "vetrin", "serve", *words], cwd=folder, text=True, stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
    )  # fmt: skip
    said = ""
    try:
        assert process.stdout is not None
        for line in process.stdout:
            said += line
            if "Ctrl-C" in line:
                break
        yield said
    finally:
        process.send_signal(signal.SIGINT)
        rest, _ = process.communicate(timeout=30)
        assert process.returncode == code, said + rest


def typed(place: Path, words: list[str], lines: bytes = ENTER) -> str:
    code, said = answer(place, lines, *words)
    assert code == 0, said
    assert WORD not in said
    return re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", said).replace("\r", "")


def serves_and_checks(place: Path) -> None:
    with serving(place) as said:
        assert "✓ PHP" in said and "✓ name" in said
        (address,) = re.findall(r"is at (http://\S+)/", said)
        port = int(address.rpartition(":")[2])
        page = httpx.get(
            f"http://127.0.0.1:{port}/", headers={"host": address.removeprefix("http://")}
        )
        assert page.status_code == 200 and "Harrowmere" in page.text
        assert "all as they should be" in vetrin(place, "check", "local").stdout
    with pytest.raises(OSError):
        socket.create_connection(("127.0.0.1", port), 1)


def test_from_a_server_to_a_running_copy(home: Home, place: Path) -> None:
    first, *others = commands("The site is on a server with SSH")
    assert [words[0] for words in (first, *others)] == ["init", "pull", "serve", "check"]
    where = first[1].replace("deploy@", "").replace("/srv/www/harrowmere", str(home.live.root))
    said = typed(place, ["init", where])
    assert said.count("]: ") + said.count("[Y/n]") <= 4
    assert "Next: vetrin pull" in said
    configuration = place / "public/wp-config.php"
    assert configuration.stat().st_mode & 0o777 == 0o600
    assert WORD not in configuration.read_text()
    found = tomllib.loads((place / "vetrin.toml").read_text())["environment"]
    assert found["production"]["address"] == home.live.address
    assert "is empty; a transfer fills it" in vetrin(place, "reach", "local").stdout
    said = typed(place, ["pull"], b"y\n")
    assert "vetrin serve" in said
    serves_and_checks(place)
    vetrin(place, "undo", "local", "--yes")
    left = {path.name for path in (place / "public").iterdir()}
    assert left - {".vetrin"} == {"wp-config.php"}


def test_from_a_folder_here(home: Home, place: Path) -> None:
    shutil.copytree(home.live.root, place / "public")
    first, second, third = commands("The site is on this machine")
    typed(place, first)
    assert "Harrowmere Light Railway" in vetrin(place, *second).stdout
    # The copy that lies here calls itself by the live address; that is corrected by hand.
    file = place / "vetrin.toml"
    file.write_text(file.read_text().replace(home.live.address, "http://copy.localhost:8099"))
    where = third[2].replace("deploy@", "").replace("/srv/www/harrowmere", str(home.live.root))
    said = vetrin(place, "add", third[1], where).stdout
    assert "[environment.production]" in said
    found = tomllib.loads(file.read_text())["environment"]["production"]
    assert (found["host"], found["root"]) == ("ssh://harrowmere.example", str(home.live.root))
    assert "already" in vetrin(place, "add", third[1], where, code=2).stderr


def test_from_an_archive_of_a_panel(home: Home, place: Path) -> None:
    dump = subprocess.run(
        [program("mariadb-dump"), f"--socket={home.server.socket}", "--user=root", "first_live"],
        capture_output=True, check=True,
    ).stdout  # fmt: skip
    shutil.copytree(home.live.root, place / "panel/htdocs")
    (place / "panel/backup.sql").write_bytes(dump)
    shutil.make_archive(str(place / "panel"), "zip", place / "panel")
    shutil.rmtree(place / "panel")
    first, second, _ = commands("There is an archive from a hosting panel")
    said = typed(place, first)
    assert "Next: vetrin import panel.zip local" in said
    typed(place, second, b"y\n")
    serves_and_checks(place)


def an_older_php(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """PHP as it is on this machine, but for what it says of its version; on the host it is as it was."""
    folder.mkdir()
    program = folder / "php"
    program.write_text(
        f'#!/bin/sh\nexec {shutil.which("php")} "$1" "$(echo "$2" | sed "s/PHP_VERSION/\'7.3.33\'/")"\n'
    )
    program.chmod(0o755)
    monkeypatch.setenv("PATH", f"{folder}:{os.environ['PATH']}")


def test_without_a_question(home: Home, place: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    where = f"ssh://harrowmere.example{home.live.root}"
    words = (
        "init",
        where,
        "--yes",
        "--address",
        f"http://127.0.0.1:{free_port()}",
        "--database",
        "first_quiet",
    )
    assert not document(place, *words, "--dry-run")["written"]
    assert not list(place.iterdir())
    found = document(place, *words)
    assert (found["database"], found["next"]) == ("first_quiet", "vetrin pull")
    assert {one["name"] for one in found["environments"]} == {"local", "production"}
    report = document(place, "pull", "--yes")
    assert report["tables"]["wp_posts"]
    there = {need["what"]: need for need in document(place, "serve", "--dry-run")["needs"]}[
        "PHP there"
    ]
    assert there["good"] and there["says"].startswith("production runs PHP 8.")
    # A theme that needs another PHP than there is.
    sql = "SELECT option_value FROM wp_options WHERE option_name = 'stylesheet'"
    ((theme,),) = home.server.run(sql, database="first_quiet")
    (place / f"public/wp-content/themes/{theme}").mkdir(parents=True, exist_ok=True)
    (place / f"public/wp-content/themes/{theme}/style.css").write_text(
        "/*\nTheme Name: Winter steam\nVersion: 2.1\nRequires PHP: 99.1\n*/\n"
    )
    php = next(n for n in document(place, "serve", "--dry-run")["needs"] if n["what"] == "PHP")
    assert not php["good"] and "Winter steam needs 99.1" in php["says"]
    assert "install PHP 99.1" in php["remedy"]
    with monkeypatch.context() as patch:
        an_older_php(place / "bin", patch)
        needs = {need["what"]: need for need in document(place, "serve", "--dry-run")["needs"]}
        there = needs["PHP there"]
        assert not there["good"] and not there["must"] and "here it is 7.3.33" in there["says"]
        found = document(place, "compare", "production", "local", "--parts", "data,media")
        (runtime,) = (line for line in found["lines"] if line["label"] == "runtime")
        assert runtime["a"].startswith("PHP 8.") and runtime["b"] == "PHP 7.3.33"
        assert "another version of the runtime" in found["expected"]
        remarks = document(place, "pull", "--parts", "code", "--dry-run")["remarks"]
        assert "older-runtime" in [remark["code"] for remark in remarks]
    # There already, and whose it is nobody says.
    again = place / "again"
    again.mkdir()
    assert "there is a database first_quiet already" in vetrin(again, *words, code=5).stderr
    assert not list(again.iterdir())


KILLED = """
import os, signal, sys
import pymysql.cursors
from vetrin.cli.main import main

left = [int(sys.argv.pop(1))]

def step():
    if not left[0]:
        os.kill(os.getpid(), signal.SIGKILL)
    left[0] -= 1

def execute(self, query, *values):
    if query.startswith(("CREATE", "GRANT")):
        step()
    return real(self, query, *values)

real, pymysql.cursors.Cursor.execute = pymysql.cursors.Cursor.execute, execute
sys.addaudithook(lambda event, values: step() if event == "os.rename" else None)
sys.exit(main())
"""


def test_one_that_was_killed_is_gone_on_with(home: Home, place: Path) -> None:
    """Whatever it had written or made by then: in the end there is one database, and the copy can use it."""
    host = f"ssh://harrowmere.example{home.live.root}"
    words = (
        "init",
        host,
        "--yes",
        "--address",
        "http://127.0.0.1:8099",
        "--database",
        "first_killed",
    )
    made = (
        "SELECT schema_name FROM information_schema.schemata WHERE schema_name LIKE 'first_killed%'"
    )
    users = "SELECT concat(quote(user), '@', quote(host)) FROM mysql.user WHERE user LIKE 'first_killed%'"
    for steps in range(20):
        folder = place / str(steps)
        folder.mkdir()
        done = subprocess.run(
            [sys.executable, "-c", KILLED, str(steps), *words], cwd=folder, capture_output=True
        )
        if done.returncode == 0:
            break
        assert done.returncode == -signal.SIGKILL, done.stderr
        if (folder / "public/wp-config.php").exists():
            done = vetrin(folder, *words[:-1], "another")
            assert "--database another is not used" in done.stderr
        else:
            vetrin(folder, *words)
        assert "first_killed has 0 tables" in vetrin(folder, "reach", "local").stdout
        assert home.server.run(made) == [("first_killed",)]
        home.server.run("DROP DATABASE first_killed")
        ((user,),) = home.server.run(users)
        home.server.run(f"DROP USER {user}")
    assert steps == 5  # the configuration, three statements, vetrin.toml
    home.server.run("DROP DATABASE first_killed")


def test_what_is_said_where_something_is_missing(home: Home, place: Path) -> None:
    where = f"ssh://harrowmere.example{home.live.root}"
    # Several sites below one folder, none in another, a folder that is not there, a host that is none.
    said = vetrin(place, "init", f"ssh://harrowmere.example{home.folder}/nowhere", code=2).stderr
    assert "there is no folder" in said
    (home.folder / "empty").mkdir(exist_ok=True)
    said = vetrin(place, "init", f"ssh://harrowmere.example{home.folder}/empty", code=2).stderr
    assert "no site of a known CMS was found on ssh://harrowmere.example" in said
    assert vetrin(place, "init", "ssh://nowhere.invalid/srv", code=1).stderr
    # An account that the server does not know.
    said = vetrin(
        place,
        "init",
        where,
        "--database-user",
        "stranger",
        code=1,
        VETRIN_LOCAL_DATABASE_PASSWORD="no",
    ).stderr
    assert "stranger" in said and not (place / "vetrin.toml").exists()
    # Nobody is there to be asked: the file is written, and says what is still to be given.
    said = vetrin(place, "init", where)
    assert "no database account for the copy yet" in said.stderr
    assert "Next: vetrin reach local" in said.stdout
    bad = document(place, "reach", "local", code=1)["proofs"]
    assert any("VETRIN_LOCAL_DATABASE_PASSWORD" in proof["remedy"] for proof in bad)


def test_the_address_rules_of_php(tmp_path: Path, sample: Sample) -> None:
    """In the root and in a folder: scripts, files, folders, page addresses; and what nobody is to read."""
    for base in ("", "/railway"):
        root = tmp_path / f"site{len(base)}"
        (root / "shop").mkdir(parents=True)
        (root / ".git").mkdir()
        (root / ".git/config").write_text("secret")
        (root / ".env").write_text("secret")
        (root / "vetrin.toml").write_text("secret")
        (root / "style.css").write_text("body {}")
        (root / "shop/index.php").write_text("<?php echo 'shop';")
        (root / "tool.php").write_text(
            "<?php echo $_SERVER['SCRIPT_NAME'], '|', $_SERVER['PATH_INFO'] ?? '';"
        )
        (root / "index.php").write_text(
            "<?php echo 'front ', $_SERVER['REQUEST_URI'], ' ', $_SERVER['SCRIPT_NAME'];"
        )
        port = free_port()
        router = Path(sys.modules["vetrin"].__file__ or "").parent / "serve/router.php"
        process = subprocess.Popen(
            [program("php"), "-S", f"127.0.0.1:{port}", "-t", str(root), str(router)], stderr=subprocess.DEVNULL,
            env={**os.environ, "VETRIN_ROOT": str(root), "VETRIN_BASE": base, "VETRIN_FRONT": "index.php"},
        )  # fmt: skip
        try:
            wait_for(f"http://127.0.0.1:{port}{base}/")

            def get(path: str, port: int = port, base: str = base) -> httpx.Response:
                return httpx.get(f"http://127.0.0.1:{port}{base}{path}", follow_redirects=False)

            assert (
                get("/2026/05/a%20train/").text
                == f"front {base}/2026/05/a%20train/ {base}/index.php"
            )
            assert (get("/style.css").text, get("/style.css").headers["content-type"]) == (
                "body {}",
                "text/css; charset=utf-8" if base else get("/style.css").headers["content-type"],
            )
            assert get("/shop/").text == "shop"
            assert get("/shop?a=1").headers["location"] == f"{base}/shop/?a=1"
            assert get("/tool.php/a/b").text == f"{base}/tool.php|/a/b"
            for hidden in (
                "/.git/config",
                "/.env",
                "/vetrin.toml",
                "/shop/../.env",
                "/%2egit/config",
            ):
                answer_ = get(hidden)
                assert answer_.status_code == 403 or "secret" not in answer_.text
                assert "secret" not in answer_.text
            if base:
                assert httpx.get(f"http://127.0.0.1:{port}/elsewhere").status_code == 404
        finally:
            process.terminate()
            process.wait()


def test_serving_the_sample(sample: Sample) -> None:
    with serving(sample.folder) as said:
        assert sample.address("local") in said
        assert httpx.get(sample.address("local") + "/").status_code == 200
        again = vetrin(sample.folder, "serve", code=1)
        assert "listens on port" in again.stderr
        assert document(sample.folder, "serve", "--dry-run", code=1)["served"] is False
    assert (sample.folder / ".vetrin/serve/local.log").is_file()
    time.sleep(0.1)
    assert vetrin(sample.folder, "serve", "nowhere", code=2).stderr


def test_an_account_that_vetrin_toml_names(home: Home, place: Path) -> None:
    """Its password goes before the one that the site's configuration has, and where it lacks that is said."""
    words = (
        "init",
        f"ssh://harrowmere.example{home.live.root}",
        "--yes",
        "--address",
        f"http://127.0.0.1:{free_port()}",
    )
    vetrin(place, *words, "--database", "first_named")
    vetrin(place, "pull", "--yes", "--quiet")
    home.server.run(
        "CREATE USER IF NOT EXISTS 'signaller'@'localhost' IDENTIFIED BY 'semaphore'",
        "GRANT ALL PRIVILEGES ON first_named.* TO 'signaller'@'localhost'", database="mysql",
    )  # fmt: skip
    with (place / "vetrin.toml").open("a") as file:
        file.write('\n[environment.local.database]\nuser = "signaller"\n')
    lacking = vetrin(place, "status", code=1).stderr
    assert "signaller" in lacking
    said = vetrin(place, "strays", "local", code=1).stderr
    assert "VETRIN_LOCAL_DATABASE_PASSWORD or the keyring" in said
    given = {"VETRIN_LOCAL_DATABASE_PASSWORD": "semaphore"}
    proofs = document(place, "reach", "local", code=1, **given)["proofs"]
    assert any("as signaller" in proof["says"] for proof in proofs)


def test_a_users_own_defaults(sample: Sample, tmp_path: Path) -> None:
    settings = tmp_path / "settings/vetrin"
    settings.mkdir(parents=True)
    own = {"XDG_CONFIG_HOME": str(tmp_path / "settings")}
    file = settings / "defaults.toml"
    file.write_text(f'color = "always"\nrate = "5 MB/s"\nstores = "{tmp_path}/stores"\n')
    vetrin(sample.folder, "backup", "local", **own)
    assert (tmp_path / "stores/harrowmere-light-railway/snapshots").is_dir()
    assert not (sample.folder / ".vetrin/store/snapshots").exists()
    assert "\x1b[" in vetrin(sample.folder, "status", **{**own, "NO_COLOR": ""}).stdout
    for text, said in (
        ("colour = 'x'", "unknown key 'colour'; did you mean color?"),
        ("rate = 3", "write a text"),
        ("rate = 'fast'", "defaults.toml rate: 'fast': write a rate"),
        ("[", "defaults.toml"),
    ):
        file.write_text(text)
        assert said in vetrin(sample.folder, "status", code=2, **own).stderr


def test_a_projects_rate_goes_before_a_users() -> None:
    class Reach:
        def connect(self, host: Host, *, rate: int | None, **_: object) -> None:
            rates.append(rate)

    rates: list[int | None] = []
    for given, own, usual in ((1, 2, 3), (None, 2, 3), (None, None, 3), (None, None, None)):
        pool = Hosts(rate=given, usual_rate=usual, reaches={"ssh": Reach()})  # type: ignore[dict-item]
        pool.at(Host("harrowmere.example"), "production", rate=own)
    assert rates == [1, 2, 3, None]
