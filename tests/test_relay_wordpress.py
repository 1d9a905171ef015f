"""Real WordPress on hosts without SSH: nginx with PHP-FPM, and Apache with PHP in it; every command, by the relay."""

from __future__ import annotations

import json
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import threading
import time
import tomllib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import httpx
import pytest

from documents import held
from systems import Mariadb
from test_files import state
from test_relay import Between
from vetrin.database.mysql.accounts import Credentials
from vetrin.database.mysql.database import MysqlDatabase
from vetrin.database.table_digest import table_digest
from vetrin.remote.relay.sealing import RelayKey
from web_host import SMALL, WebHost, authority
from wordpress_site import WordPress, single_quoted

WORD = "it's \\ a #$\"secret"
GUARD = ("guard", "the guard's word")
# How Apache leads addresses of pages to WordPress.
RULES = """# BEGIN WordPress
RewriteEngine On
RewriteBase /
RewriteRule ^index\\.php$ - [L]
RewriteCond %{REQUEST_FILENAME} !-f
RewriteCond %{REQUEST_FILENAME} !-d
RewriteRule . /index.php [L]
# END WordPress
"""
ACCOUNT = "www-data"  # that PHP runs as, and files belong to


class Hosted:
    """Production on a small host, a project here, and a relay between them."""

    def __init__(self, server: Mariadb, label: str, **options: Any) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="vetrin-hosted-"))
        self.folder.chmod(0o755)
        self.server, self.label = server, label
        ca = None
        if options.pop("own_authority", False):
            ca, options["tls"] = authority(self.folder)
        self.root, self.project = self.folder / "live", self.folder / "project"
        self.web = WebHost(self.root, user=ACCOUNT, **options)
        self.site = WordPress(server, self.root, f"{label}_live", f"{label}_live", WORD)
        self.site.port = self.web.port
        self.address = self.web.address
        # The account of PHP does not get at the server's socket.
        text = single_quoted(server, f"{label}_live", f"{label}_live", WORD, "wp_")
        text = text.replace(f"localhost:{server.socket}", f"127.0.0.1:{server.port}")
        WordPress.install(_At(self.site, self.address), text, "production")  # type: ignore[arg-type]
        server.run(
            "CREATE TABLE wp_bookings (id INT AUTO_INCREMENT PRIMARY KEY, who TEXT)",
            "INSERT INTO wp_bookings (who) VALUES ('Tamsin Oakhollow')", database=f"{label}_live",
        )  # fmt: skip
        if self.web.kind == "apache":
            (self.root / ".htaccess").write_text(RULES)
        subprocess.run(["chown", "-R", ACCOUNT, str(self.root)], check=True)
        server.run(f"DROP DATABASE IF EXISTS {label}_copy")
        server.create(f"{label}_copy", f"{label}_copy", WORD)
        (self.project / "public").mkdir(parents=True)
        (self.project / "vetrin.toml").write_text(f"""[site]
name = "Harrowmere Light Railway"
cms = "wordpress"
[environment.local]
address = "http://harrowmere.localhost:8081"
root = "public"
[environment.local.database]
database = "{label}_copy"
user = "{label}_copy"
host = "127.0.0.1:{server.port}"
prefix = "wp_"
""")
        self.key = RelayKey.new().text
        self.web.start()
        self.relay(ca)

    def relay(self, ca: Path | None) -> None:
        """Make it, put it there, and say in vetrin.toml what else is needed."""
        self.vetrin("relay", "production", "--address", self.address, "--allow", "write")
        (file,) = self.project.glob("vetrin-relay-*.php")
        self.file = self.root / file.name
        shutil.move(file, self.file)
        self.file.chmod(0o644)
        shutil.chown(self.file, ACCOUNT)
        text = (self.project / "vetrin.toml").read_text() + 'access = "read-write"\n'
        if self.web.guard or ca:
            text += "[environment.production.web]\n"
            text += f'user = "{GUARD[0]}"\n' if self.web.guard else ""
            text += f'certificate = "{ca}"\n' if ca else ""
        (self.project / "vetrin.toml").write_text(text)

    @property
    def environ(self) -> dict[str, str]:
        return {
            **os.environ, "NO_COLOR": "1", "VETRIN_LOCAL_DATABASE_PASSWORD": WORD, "VETRIN_PRODUCTION_RELAY_KEY": self.key,
            "VETRIN_PRODUCTION_WEB_PASSWORD": GUARD[1], "VETRIN_TWIN_RELAY_KEY": self.key,
            "VETRIN_TWIN_WEB_PASSWORD": GUARD[1],
        }  # fmt: skip

    def vetrin(self, *arguments: str, code: int = 0) -> str:
        done = subprocess.run(
            [sys.executable, "-m", "vetrin", *arguments], cwd=self.project, capture_output=True, text=True,
            stdin=subprocess.DEVNULL, env=self.environ,
        )  # fmt: skip
        said = done.stdout + done.stderr
        assert done.returncode == code, said
        assert "Traceback" not in said and not any(
            word in said for word in (WORD, self.key, GUARD[1])
        )
        return done.stdout if "--json" in arguments else said

    def document(self, *arguments: str, code: int = 0) -> dict:
        return held(json.loads(self.vetrin(*arguments, "--json", code=code)))

    def run(self, *statements: str, of: str = "live") -> list[Any]:
        return self.server.run(*statements, database=f"{self.label}_{of}")

    def digests(self, of: str = "live") -> dict[str, str]:
        """All tables, read on this machine, but for the one that WordPress writes to whenever a page is asked for."""
        name = f"{self.label}_{of}"
        database = MysqlDatabase(Credentials(name, name, WORD, "127.0.0.1", self.server.port))
        with database.reading() as reader:
            found = {table.name: table_digest(reader, table) for table in database.tables()}
        database.close()
        found.pop("wp_options")
        return found

    def files(self) -> dict[str, int]:
        """All files of the live site, but what is the relay's, with a number for what is in each."""
        return {
            path: hash(what)
            for path, what in state(self.root).items()
            if not path.startswith((".vetrin", "vetrin-relay"))
        }

    def new_post(self, title: str, of: str) -> int:
        columns = "post_author, post_date, post_date_gmt, post_title, post_content, post_status, post_name, post_type, guid"
        columns += ", post_excerpt, to_ping, pinged, post_modified, post_modified_gmt, post_content_filtered"
        slug = title.lower().replace(" ", "-")
        self.run(
            f"INSERT INTO wp_posts ({columns}) VALUES (1, NOW(), NOW(), '{title}', 'About {title}', 'publish', '{slug}', 'page',"
            f" 'made-{slug}', '', '', '', NOW(), NOW(), '')", of=of,
        )  # fmt: skip
        ((number,),) = self.run(f"SELECT ID FROM wp_posts WHERE post_title = '{title}'", of=of)
        return int(number)

    def page(self, path: str = "/") -> httpx.Response:
        return httpx.get(
            f"{self.address}{path}", auth=GUARD if self.web.guard else None, verify=False, timeout=30,
            follow_redirects=True,
        )  # fmt: skip

    def close(self) -> None:
        self.web.__exit__()
        shutil.rmtree(self.folder, ignore_errors=True)


class _At:
    """A WordPress at another address than its port says."""

    def __init__(self, site: WordPress, address: str) -> None:
        self._site, self.address = site, address

    def __getattr__(self, name: str) -> Any:
        return getattr(self._site, name)


@contextmanager
def hosted(server: Mariadb, label: str, **options: Any) -> Iterator[Hosted]:
    found = Hosted(server, label, **options)
    try:
        yield found
    finally:
        found.close()


HOSTS: dict[str, dict[str, Any]] = {
    "apache": {"kind": "apache", "guard": GUARD},
    "nginx": {
        "workers": 1, "largest": "2m",
        "settings": {**SMALL, "max_execution_time": "10", "memory_limit": "64M", "post_max_size": "2M"},
    },
}  # fmt: skip


def test_behind_tls_of_an_authority_of_ones_own(mariadb_server: Mariadb) -> None:
    with hosted(mariadb_server, "relay_tls", own_authority=True) as site:
        assert site.document("reach", "production")["good"]
        site.vetrin("pull", "--parts", "data,media,code,core", "--yes")
        assert (
            site.document("compare", "production", "local", "--parts", "data,media")["same"] is True
        )
        site.new_post("Members area", "copy")
        site.vetrin("push", "production", "--parts", "data", "--confirm", "production")
        assert len(site.run("SELECT ID FROM wp_posts WHERE post_title = 'Members area'")) == 1
        text = (site.project / "vetrin.toml").read_text()
        (site.project / "vetrin.toml").write_text(re.sub("certificate = .*", "", text))
        told = site.document("reach", "production", code=1)["proofs"][0]
        assert "certificate" in told["says"].lower()


@pytest.mark.parametrize("name", HOSTS)
def test_every_command_works_as_over_ssh(mariadb_server: Mariadb, name: str) -> None:
    with hosted(mariadb_server, f"relay_{name}", **HOSTS[name]) as site:
        bare = site.files()
        assert site.document("reach", "production")["good"]
        # Down, out of nothing.
        first = site.document("pull", "--parts", "data,media,code,core", "--yes")
        assert first["rows"] > 300 and first["files"] > 2000
        assert (
            site.document("compare", "production", "local", "--parts", "data,media")["same"] is True
        )
        again = site.document("pull", "--yes")
        assert (
            again["since_run"] and not any(again["written_rows"].values()) and again["files"] == 0
        )
        assert site.document("changes", "production")["same"] is True
        # A snapshot, and an archive.
        before = site.digests()
        snapshot = site.document("backup", "production")["snapshot"]
        assert "several moments" in " ".join(
            site.vetrin("export", "production", "packed.zip").split()
        )
        # Code up, and back.
        theme = site.project / "public/wp-content/themes/harrowmere"
        with (theme / "index.php").open("a") as file:
            file.write("\n<?php echo '<!-- edition two -->'; ?>\n")
        site.vetrin("push", "production", "--confirm", "production")
        assert "edition two" in site.page().text
        assert site.digests() == before
        site.vetrin("undo", "production", "--confirm", "production")
        assert "edition two" not in site.page().text
        # Content up, merged with what visitors did, and back.
        mine = site.new_post("Members area", "copy")
        theirs = site.new_post("Snow on the line", "live")
        site.run("INSERT INTO wp_bookings (who) VALUES ('Jory Pellow')")
        merged = site.document("push", "production", "--parts", "data", "--confirm", "production")
        assert mine == theirs and merged["conflicts"] == []
        ((members,),) = site.run("SELECT ID FROM wp_posts WHERE post_title = 'Members area'")
        assert members != theirs and len(site.run("SELECT * FROM wp_bookings")) == 2
        assert "About Members area" in site.page(f"/?page_id={members}").text
        site.vetrin("undo", "production", "--confirm", "production")
        assert site.run("SELECT ID FROM wp_posts WHERE post_title = 'Members area'") == []
        assert site.run("SELECT ID FROM wp_posts WHERE post_title = 'Snow on the line'") == [
            (theirs,)
        ]
        # Back to the snapshot as a whole, and in place.
        site.vetrin("restore", "production", snapshot, "--parts", "data", "--confirm", "production")
        assert site.digests() == before
        swapped = ("--replace", f"{site.address}/fares=http://fares.example/fares")
        site.vetrin("rewrite", "production", *swapped, "--confirm", "production")
        assert site.digests() != before
        site.vetrin("undo", "production", "--confirm", "production")
        assert site.digests() == before
        assert site.document("check", "production")["findings"] == []
        # What is taken off leaves nothing.
        removed = site.document("relay", "production", "--remove")
        assert site.file.name in removed["removed"]
        assert not (site.root / ".vetrin").exists() and not site.file.exists()
        assert site.run("SHOW TABLES LIKE '\\_vetrin%'") == []
        now = site.files()
        gone = sorted(bare.keys() - now.keys())
        changed = sorted(path for path in bare.keys() & now.keys() if bare[path] != now[path])
        assert (gone, changed) == ([], [])
        site.vetrin("reach", "production", code=1)


def test_a_project_begins_with_a_relay(mariadb_server: Mariadb) -> None:
    """Also of a site that a password and a certificate of one's own protect."""
    guarded = {"guard": GUARD, "own_authority": True}
    with hosted(mariadb_server, "relay_first", **guarded) as site:
        shutil.rmtree(site.project)
        site.project.mkdir()
        mariadb_server.run("DROP DATABASE IF EXISTS relay_first_new")
        url = f"{site.address}/{site.file.name}"
        with_certificate = ("--certificate", str(site.folder / "ca.pem"))
        assert "--web-user" in site.vetrin("init", url, *with_certificate, code=1)
        assert "no file" in site.vetrin("init", url, "--certificate", "nowhere.pem", code=2)
        assert "on a host" in site.vetrin("init", ".", "--web-user", "guests", code=2)
        made = site.document(
            "init", url, "--yes", "--database", "relay_first_new", "--create-as", "root",
            "--database-host", f"localhost:{mariadb_server.socket}",
            "--web-user", GUARD[0], *with_certificate,
        )  # fmt: skip
        assert made["environments"][1] == {
            "name": "production",
            "address": site.address,
            "host": url,
            "root": ".",
        }
        text = (site.project / "vetrin.toml").read_text()
        assert (
            f'relay = "{url}"' in text
            and "root" not in text.partition("[environment.production]")[2]
        )
        web = tomllib.loads(text)["environment"]["production"]["web"]
        assert web == {"user": GUARD[0], "certificate": str(site.folder / "ca.pem")}
        site.vetrin("pull", "--yes", "--parts", "data,media,code,core")
        assert (
            site.document("compare", "production", "local", "--parts", "data,media")["same"] is True
        )
        assert site.document("survey", "production")["runtime"].startswith("PHP 8.")
        told = site.vetrin("add", "third", url, "--web-user", GUARD[0], *with_certificate, code=1)
        assert "VETRIN_THIRD_RELAY_KEY" in told
        # One more, with a site there and before there is any.
        words = (
            "add",
            "twin",
            url,
            "--address",
            "https://twin.example",
            "--web-user",
            GUARD[0],
            *with_certificate,
        )
        (site.project / "vetrin.toml").write_text(text.partition("[environment.production]")[0])
        assert f'relay = "{url}"' in site.vetrin(*words, "--dry-run")
        (site.root / "wp-load.php").rename(site.root / "gone.php")
        site.vetrin(*words)
        twin = tomllib.loads((site.project / "vetrin.toml").read_text())["environment"]["twin"]
        assert twin == {
            "address": "https://twin.example",
            "relay": url,
            "role": "staging",
            "web": web,
        }


def test_a_line_that_breaks_fifty_times_and_more(mariadb_server: Mariadb) -> None:
    """Answers that are dropped, cut or given by somebody else, down and up; then all is as it should be."""
    chance = random.Random("fifty")
    broken: list[str | int] = []

    def meddle(number: int, body: bytes) -> str | int | None:
        if number % 4 or len(broken) > 60:
            return None
        broken.append(chance.choice(["drop", "cut", 503, 500, 403]))
        return broken[-1]

    with hosted(mariadb_server, "relay_cut") as site, Between(site.address, meddle) as between:
        toml = site.project / "vetrin.toml"
        toml.write_text(
            toml.read_text().replace(f'relay = "{site.address}', f'relay = "{between.address}')
        )
        site.run("CREATE TABLE wp_log (id INT AUTO_INCREMENT PRIMARY KEY, line TEXT)",
                 "INSERT INTO wp_log (line) SELECT REPEAT('steam', 40 + seq % 50) FROM seq_1_to_8000")  # fmt: skip
        site.vetrin("pull", "--parts", "data,media,code,core", "--yes")
        assert (
            site.document("compare", "production", "local", "--parts", "data,media")["same"] is True
        )
        (site.project / "public/wp-content/themes/harrowmere/new.css").write_text(
            "body { margin: 0 }"
        )
        site.vetrin("push", "production", "--confirm", "production")
        assert (
            site.root / "wp-content/themes/harrowmere/new.css"
        ).read_text() == "body { margin: 0 }"
        site.new_post("Members area", "copy")
        site.vetrin("push", "production", "--parts", "data", "--confirm", "production")
        assert len(site.run("SELECT ID FROM wp_posts WHERE post_title = 'Members area'")) == 1
        assert site.document("changes", "production")["same"] is True
        assert len(broken) >= 50, (len(broken), between.count)


def _while(site: Hosted, harm: Callable[[], None], *words: str) -> None:
    """Run a command while something harms it, which is to succeed all the same."""
    process = subprocess.Popen(
        [sys.executable, "-m", "vetrin", *words], cwd=site.project, env=site.environ, stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
    )  # fmt: skip
    stop = threading.Event()

    def go_on() -> None:
        # On a machine that has little time for us, nothing would ever get through between two blows of one pace.
        pause = 0.7
        while not stop.wait(pause):
            harm()
            pause *= 1.1

    harming = threading.Thread(target=go_on)
    harming.start()
    said = process.communicate()[0]
    stop.set()
    harming.join()
    assert b"Traceback" not in said, said.decode()
    assert process.returncode == 0, said.decode()


def test_killed_workers_a_server_that_starts_anew_and_a_killed_vetrin(
    mariadb_server: Mariadb,
) -> None:
    with hosted(mariadb_server, "relay_kill") as site:
        site.run("CREATE TABLE wp_log (id INT AUTO_INCREMENT PRIMARY KEY, line TEXT)",
                 "INSERT INTO wp_log (line) SELECT REPEAT('steam', 40 + seq % 50) FROM seq_1_to_60000")  # fmt: skip

        def kill() -> None:
            workers = site.web.workers_of_php()
            subprocess.run(
                ["kill", "-9", *map(str, workers[::2])], check=False, capture_output=True
            )

        site.vetrin("pull", "--parts", "code,core,data", "--yes")
        _while(site, kill, "pull", "--parts", "data,media", "--full", "--yes")
        before = site.digests("copy")

        def again() -> None:
            site.web.stop()
            (site.web.folder / "fpm.sock").unlink(missing_ok=True)
            site.web.start()
            time.sleep(1.5)

        _while(site, again, "pull", "--parts", "data,media", "--full", "--yes")
        site.vetrin("undo", "local", "--yes")
        assert site.digests("copy") == before
        # Vetrin itself is killed, at any moment; the next command goes on or takes back.
        chance = random.Random("killed")
        theme = site.project / "public/wp-content/themes/harrowmere"
        for number in range(5):
            (theme / "edition.css").write_text(f"/* {number} */")
            process = subprocess.Popen(
                [sys.executable, "-m", "vetrin", "push", "production", "--confirm", "production"], cwd=site.project,
                env=site.environ, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                start_new_session=True,
            )  # fmt: skip
            time.sleep(1.0 + chance.random() * 3)
            if process.poll() is None:
                os.killpg(process.pid, signal.SIGKILL)
            process.wait()
            site.vetrin("push", "production", "--confirm", "production", "--take-over")
            assert (
                site.root / "wp-content/themes/harrowmere/edition.css"
            ).read_text() == f"/* {number} */"
            assert site.page().status_code == 200
