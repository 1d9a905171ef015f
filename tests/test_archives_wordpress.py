"""Snapshots and archives of a real WordPress: put back, packed, loaded by hand elsewhere, taken in again."""

from __future__ import annotations

import gzip
import http.server
import json
import os
import re
import shutil
import subprocess
import sys
import tarfile
import threading
import zipfile
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from systems import Mariadb, answer, free_port, program
from test_wordpress import everything
from wordpress_site import WordPress, single_quoted

PUBLIC = "https://www.harrowmere.example"
WORD = "a word's \\ #1"


class Sites:
    """Production and local, both of them a WordPress, and a place for a third one."""

    def __init__(self, folder: Path, server: Mariadb) -> None:
        self.folder, self.server = folder, server
        self.production, self.local = (
            WordPress(server, folder / name, f"archive_{name}", "archivist", WORD)
            for name in ("live", "copy")
        )
        for site, fill in ((self.production, "production"), (self.local, "local")):
            site.install(single_quoted(server, site.database, "archivist", WORD, "wp_"), fill)
        server.run(
            "CREATE VIEW wp_latest AS SELECT ID, post_title FROM wp_posts WHERE post_status = 'publish'",
            "CREATE VIEW wp_early AS SELECT ID FROM wp_latest",  # its name comes before what it needs
            "CREATE TRIGGER wp_guards BEFORE UPDATE ON wp_links FOR EACH ROW SET NEW.link_rating = 1",
            database=self.production.database,
        )
        (folder / "vetrin.toml").write_text(
            f"""[site]
name = "Harrowmere Light Railway"
cms = "wordpress"
[environment.production]
address = "{self.production.address}"
also = ["{PUBLIC}"]
root = "live"
[environment.local]
address = "{self.local.address}"
root = "copy"
[environment.handover]
address = "http://127.0.0.1:{free_port()}"
root = "{folder}/handed/site"
role = "staging"
""",
            encoding="utf-8",
        )

    def vetrin(self, *arguments: str, code: int = 0, stdin: bytes = b"") -> str:
        done = subprocess.run(
            [sys.executable, "-m", "vetrin", *arguments], cwd=self.folder, input=stdin, capture_output=True,
            env={**os.environ, "VETRIN_ARCHIVE_PASSPHRASE": "steam and brass"},
        )  # fmt: skip
        said = (done.stdout + done.stderr).decode()
        assert done.returncode == code, said
        assert WORD not in said and "steam and brass" not in said
        return done.stdout.decode()

    def dump(self, *options: str) -> bytes:
        return subprocess.run(
            [program("mariadb-dump"), f"--socket={self.server.socket}", "-u", "root", *options,
             self.production.database],
            capture_output=True, check=True,
        ).stdout  # fmt: skip


@pytest.fixture(scope="module")
def sites(tmp_path_factory: pytest.TempPathFactory, database_server: Mariadb) -> Sites:
    return Sites(tmp_path_factory.mktemp("archives"), database_server)


@pytest.fixture(scope="module")
def pulled(sites: Sites) -> dict[str, object]:
    """What a pull brings: an import of the same site has to bring the same."""
    sites.vetrin("pull", "--yes", "--leave-nothing")
    return settled(sites.local)


def settled(site: WordPress) -> dict[str, object]:
    """All content but what depends on the moment, or on where it came from."""
    found = everything(site)
    for key, value in found.items():
        if isinstance(value, tuple):  # a ZIP knows times to two seconds
            found[key] = value[0]
    found["wp_options"] = [  # type: ignore[index]
        row for row in found["wp_options"]  # type: ignore[union-attr, index]
        if not re.search("'(cron|rewrite_rules|auth_key|_transient_|_site_transient_|recently_)", str(row))
    ]  # fmt: skip
    return found


def differences(one: dict[str, object], other: dict[str, object]) -> list[str]:
    """Where two sites differ, short enough to be read."""
    found = []
    for key in sorted({*one, *other}):
        a, b = one.get(key), other.get(key)
        if a != b and isinstance(a, list) and isinstance(b, list):
            found += [f"{key} - {row[:400]}" for row in b if row not in a]
            found += [f"{key} + {row[:400]}" for row in a if row not in b]
        elif a != b:
            found.append(key)
    return found


def test_a_snapshot_puts_everything_back_and_can_be_undone(sites: Sites) -> None:
    local = sites.local
    uploads = local.root / "wp-content/uploads"
    (uploads / "2026").mkdir(parents=True, exist_ok=True)
    (uploads / "2026/loco.txt").write_text("Number 7")
    before = everything(local)
    said = json.loads(sites.vetrin("backup", "local", "--label", "calm", "--verify", "--json"))
    assert said["verified"] and said["rows"] > 50
    again = json.loads(sites.vetrin("backup", "local", "--json"))
    assert again["added_bytes"] < 20_000 < said["added_bytes"]
    sites.server.run(
        "DELETE FROM wp_posts", "UPDATE wp_options SET option_value = 'x' WHERE option_name = 'siteurl'",
        "DROP TABLE wp_links", database=local.database,
    )  # fmt: skip
    first = next(path for path in sorted(uploads.rglob("*")) if path.is_file())
    first.write_text("overwritten")
    (uploads / "intruder.php").write_text("<?php")
    (local.root / "wp-content/themes/harrowmere/style.css").unlink()
    broken = everything(local)
    assert sites.vetrin("compare", "local", "calm", code=4)
    sites.vetrin("restore", "local", "calm", "--mirror", "--yes")
    assert everything(local) == before
    assert (local.root / "wp-content/themes/harrowmere/style.css").exists()
    sites.vetrin("compare", "local", "calm")
    sites.vetrin("undo", "local", "--yes")
    assert everything(local) == broken
    sites.vetrin("restore", "local", "calm", "--tables", "posts,links,options", "--yes")
    sites.vetrin("restore", "local", "calm", "--files", str(first.relative_to(local.root)), "--yes")
    now = everything(local)
    (uploads / "intruder.php").unlink()
    now.pop("intruder.php")
    assert now == before
    sites.vetrin("restore", "local", "calm", "--yes")
    listed = json.loads(sites.vetrin("snapshots", "--json"))
    assert [item["label"] for item in listed["snapshots"]] == [None, "calm"]


def test_a_snapshot_of_another_environment_is_settled_as_a_pull_is(
    sites: Sites, pulled: dict[str, object]
) -> None:
    sites.vetrin("backup", "production", "--label", "live")
    sites.server.run("DELETE FROM wp_posts", database=sites.local.database)
    sites.vetrin("restore", "local", "live", "--parts", "data,media", "--yes")
    assert differences(settled(sites.local), pulled) == []


def test_an_export_loaded_by_hand_is_a_working_site(sites: Sites) -> None:
    """With the database's own client, and an archive program; nothing of Vetrin."""
    archive = sites.folder / "harrowmere.zip"
    said = json.loads(
        sites.vetrin(
            "export", "production", str(archive), "--for", "handover", "--leave-nothing", "--json",
            "--set", "tea_room=Öppet", "--set", "admin_email=desk@harrowmere.example",
        )
    )  # fmt: skip
    assert said["rewriting"]["replaced"] > 100
    assert "hidden from search engines" in said["settled"]
    handed = sites.folder / "handed"
    with zipfile.ZipFile(archive) as packed:
        assert packed.testzip() is None
        packed.extractall(handed)
    assert "handover" not in (handed / "README.txt").read_text()
    sites.server.create("handed", "archivist", WORD)
    with (handed / "data/all-tables.sql").open("rb") as sql:
        subprocess.run(
            [program("mariadb"), f"--socket={sites.server.socket}", "-u", "root", "handed"],
            stdin=sql, check=True,
        )  # fmt: skip
    site = WordPress(sites.server, handed / "site", "handed", "archivist", WORD)
    toml = (sites.folder / "vetrin.toml").read_text()
    site.port = int(toml.split("http://127.0.0.1:")[-1].split('"')[0])
    (site.root / "wp-config.php").write_text(
        single_quoted(sites.server, "handed", "archivist", WORD, "wp_")
    )
    found, theirs = site.unserialise(), sites.production.unserialise()
    assert found["bad"] == [] and found["read"] == theirs["read"]
    site.serve()
    try:
        page = httpx.get(site.address, follow_redirects=True)
        assert page.status_code == 200 and "Harrowmere" in page.text
        assert sites.production.address not in page.text and PUBLIC not in page.text
        assert "a copy, not the live site" in page.text
        assert "noindex" in page.text
        picture = next((site.root / "wp-content/uploads").rglob("*.png"), None) or next(
            (site.root / "wp-content/uploads").rglob("*.jp*g")
        )
        assert httpx.get(f"{site.address}/{picture.relative_to(site.root)}").status_code == 200
        assert sites.vetrin("strays", "handover").startswith("Strays in handover: 0")
    finally:
        site.stop()
    settings = sites.server.run(
        "SELECT option_name, option_value, autoload FROM wp_options WHERE option_name IN"
        " ('blog_public', 'tea_room', 'admin_email') ORDER BY option_name",
        database="handed",
    )
    assert [row[:2] for row in settings] == [
        ("admin_email", "desk@harrowmere.example"), ("blog_public", "0"), ("tea_room", "Öppet"),
    ]  # fmt: skip
    assert settings[2][2] in ("yes", "on", "auto")  # as the table has it for a new row
    tables = [row[0] for row in sites.server.run("SHOW TABLES", database="handed")]
    assert "wp_latest" in tables
    assert sites.server.run("SHOW TRIGGERS", database="handed")[0][0] == "wp_guards"


def panel_zip(sites: Sites, folder: Path) -> list[str]:
    """Everything in one archive, the dump beside the site's folder."""
    path = folder / "panel.zip"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for file in sorted(sites.production.root.rglob("*")):
            archive.write(
                file, f"home/railway/public_html/{file.relative_to(sites.production.root)}"
            )
        archive.writestr(
            "home/railway/public_html/wp-content/plugins/x/install.sql", "CREATE TABLE x (a int);"
        )
        archive.writestr("home/railway/mysql/railway.sql", sites.dump())
    return [str(path)]


def tarball_and_dump(sites: Sites, folder: Path) -> list[str]:
    path, dump = folder / "site.tar.xz", folder / "data.sql.gz"
    with tarfile.open(path, "w:xz") as archive:
        archive.add(sites.production.root, "./www")
    dump.write_bytes(gzip.compress(sites.dump("--skip-extended-insert", "--hex-blob")))
    return [str(dump), str(path)]


def own_in_parts(sites: Sites, folder: Path) -> list[str]:
    """In parts and with a passphrase, which the name tells."""
    sites.vetrin("export", "production", str(folder / "own.tar.zst.gpg"), "--split", "2MB", "--sql-per-table",
                 "--leave-nothing")  # fmt: skip
    parts = sorted(folder.glob("own.tar.zst.gpg.0*"))
    assert len(parts) > 2
    return [str(path) for path in reversed(parts)]


def own_sealed(sites: Sites, folder: Path) -> list[str]:
    path = str(folder / "own.zip")
    sites.vetrin(
        "export", "production", path, "--passphrase", "--parts", "data,media", "--leave-nothing"
    )
    with zipfile.ZipFile(path) as archive, pytest.raises((RuntimeError, NotImplementedError)):
        archive.read("data/all-tables.sql")
    return [path]


@pytest.mark.parametrize("made", [panel_zip, tarball_and_dump, own_in_parts, own_sealed])
def test_an_import_brings_what_a_pull_would(
    sites: Sites, pulled: dict[str, object], tmp_path: Path, made
) -> None:  # type: ignore[no-untyped-def]
    files = made(sites, tmp_path)
    configuration = (sites.local.root / "wp-config.php").read_bytes()
    sites.server.run("DELETE FROM wp_posts", database=sites.local.database)
    shutil.rmtree(sites.local.root / "wp-content/uploads")
    if made is own_in_parts:
        missing = sites.vetrin(
            "import", *files[1:-1], *files[:1], "local", "--yes", "--json", code=1
        )
        assert "own.tar.zst.gpg.001 of" in json.loads(missing)["error"]
    sites.vetrin("import", *files, "local", "--yes", "--parts", "data,media", "--leave-nothing")
    assert differences(settled(sites.local), pulled) == []
    assert (sites.local.root / "wp-config.php").read_bytes() == configuration
    survey = json.loads(sites.vetrin("survey", files[0], "--json")) if len(files) == 1 else None
    if survey:
        assert survey["standing"]["title"] and survey["tables"]


class Ranged(http.server.SimpleHTTPRequestHandler):
    """Serves a file, cuts the first answer off in the middle, and goes on with ranges."""

    asked: list[str] = []  # noqa: RUF012

    def do_GET(self) -> None:
        content = Path(self.directory, self.path.lstrip("/")).read_bytes()
        wanted = self.headers.get("Range", "")
        self.asked.append(wanted)
        start = int(wanted[6:].rstrip("-")) if wanted else 0
        self.send_response(206 if wanted else 200)
        self.send_header("ETag", '"one"')
        if wanted:
            self.send_header("Content-Range", f"bytes {start}-{len(content) - 1}/{len(content)}")
        self.send_header("Content-Length", str(len(content) - start))
        self.end_headers()
        self.wfile.write(content[start:] if wanted else content[: len(content) // 2])

    def log_message(self, *values: object) -> None:
        pass


@pytest.fixture
def web(tmp_path: Path) -> Iterator[str]:
    Ranged.asked.clear()
    with http.server.ThreadingHTTPServer(
        ("127.0.0.1", 0), lambda *args: Ranged(*args, directory=str(tmp_path))
    ) as server:
        thread = threading.Thread(target=server.serve_forever)
        thread.start()
        yield f"http://127.0.0.1:{server.server_port}"
        server.shutdown()
        thread.join()


def test_a_dump_alone_from_the_web_and_from_standard_input(
    sites: Sites, pulled: dict[str, object], tmp_path: Path, web: str
) -> None:
    (tmp_path / "dump.sql").write_bytes(
        sites.dump("--skip-opt", "--create-options", "--set-charset")
    )
    sites.server.run("DELETE FROM wp_posts", database=sites.local.database)
    sites.vetrin("import", f"{web}/dump.sql", "local", "--yes", "--leave-nothing")
    assert len(Ranged.asked) == 2 and Ranged.asked[1].startswith("bytes=")
    assert [x for x in differences(settled(sites.local), pulled) if x.startswith("wp_")] == []
    sites.server.run("DELETE FROM wp_posts", database=sites.local.database)
    sites.vetrin("import", "-", "local", "--yes", "--leave-nothing", stdin=sites.dump("--compact"))
    assert [x for x in differences(settled(sites.local), pulled) if x.startswith("wp_")] == []
    strays = json.loads(sites.vetrin("strays", str(tmp_path / "dump.sql"), "--json"))
    assert strays["good"]


def test_several_databases_in_one_dump_are_asked_about(sites: Sites, tmp_path: Path) -> None:
    path = tmp_path / "all.sql"
    path.write_bytes(
        sites.dump("--databases")
        + sites.dump("--databases").replace(b"archive_live", b"archive_more")
    )
    said = json.loads(sites.vetrin("import", str(path), "local", "--yes", "--json", code=2))
    assert "archive_live, archive_more; name one with --database" in said["error"]
    code, shown = answer(sites.folder, b"archive_less\n2\nn\n", "import", str(path), "local")
    assert code == 5 and "archive_more" in shown and "Replace this in local?" in shown, shown
    plan = json.loads(
        sites.vetrin(
            "import", str(path), "local", "--database", "archive_more", "--dry-run", "--json"
        )
    )
    assert {table["name"] for table in plan["tables"]} >= {"wp_posts", "wp_options"}
