"""The whole way on real WordPress with a real MariaDB: pulled, opened, logged into, taken back."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from systems import Mariadb
from wordpress_site import WordPress, from_environment, single_quoted

PUBLIC = "https://www.harrowmere.example"


class Sites:
    def __init__(self, folder: Path, server: Mariadb) -> None:
        self.folder = folder
        # A worker that runs the files of both has one server for them.
        server.run(*(f"DROP DATABASE IF EXISTS railway_{name}" for name in ("live", "copy")))
        password = "it's \\ a #$\"secret"
        self.production = WordPress(server, folder / "live", "railway_live", "live", password)
        self.production.install(
            single_quoted(server, "railway_live", "live", password, "wp_"), "production"
        )
        self.local = WordPress(
            server, folder / "copy", "railway_copy", "copyist", "n0t'so\"secret", base="/railway"
        )
        self.local.install(from_environment(server, "railway_copy", "copyist", "wp_"), "local")
        server.run(
            "CREATE TABLE wpxarchive_posts (a INT)", "INSERT INTO wpxarchive_posts VALUES (7)",
            "CREATE TABLE wp_own_notes (note TEXT)", "INSERT INTO wp_own_notes VALUES ('mine')",
            database="railway_copy",
        )  # fmt: skip
        server.run(
            "CREATE TABLE wpxarchive_posts (a INT)",
            "CREATE VIEW wp_latest AS SELECT ID, post_title FROM wp_posts WHERE post_status = 'publish'",
            "CREATE TRIGGER wp_guards BEFORE UPDATE ON wp_links FOR EACH ROW SET NEW.link_rating = 1",
            database="railway_live",
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
root = "copy/railway"
""",
            encoding="utf-8",
        )
        self.production.serve()
        self.local.serve()

    def vetrin(self, *arguments: str, code: int = 0) -> str:
        done = subprocess.run(
            [sys.executable, "-m", "vetrin", *arguments], cwd=self.folder, text=True,
            capture_output=True, env={**os.environ, "HARROWMERE_WORD": self.local.password},
        )  # fmt: skip
        said = done.stdout + done.stderr
        assert done.returncode == code, said
        for secret in (self.production.password, self.local.password):
            assert secret not in said
        return done.stdout

    def rows(self, site: WordPress, sql: str) -> list[tuple]:
        return site.server.run(sql, database=site.database)


@pytest.fixture(scope="module")
def sites(tmp_path_factory: pytest.TempPathFactory, database_server: Mariadb) -> Iterator[Sites]:
    folder = tmp_path_factory.mktemp("wordpress")
    sites = Sites(folder, database_server)
    try:
        yield sites
    finally:
        sites.production.stop()
        sites.local.stop()


def everything(site: WordPress) -> dict[str, object]:
    tables = [row[0] for row in site.server.run(
        "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE()"
        " AND table_type = 'BASE TABLE' AND table_name NOT LIKE '\\_vetrin%'", database=site.database)]  # fmt: skip
    found: dict[str, object] = {
        table: sorted(
            map(repr, site.server.run(f"SELECT * FROM `{table}`", database=site.database))
        )
        for table in tables
    }
    uploads = site.root / "wp-content/uploads"
    found.update(
        (str(path.relative_to(uploads)), (path.read_bytes(), path.stat().st_mtime_ns))
        for path in uploads.rglob("*") if path.is_file()
    )  # fmt: skip
    return found


def test_pull_into_another_wordpress_and_back(sites: Sites) -> None:
    production, local = sites.production, sites.local
    assert json.loads(sites.vetrin("reach", "production", "--json"))["good"]
    # Reaching opened the home page, and WordPress notes that in its database.
    live_before, local_before = everything(production), everything(local)
    configuration = (local.root / "wp-config.php").read_bytes()
    previewed = json.loads(sites.vetrin("pull", "--dry-run", "--json"))
    assert everything(local) == local_before
    report = json.loads(sites.vetrin("pull", "--yes", "--json"))
    assert report["rewriting"] == previewed["rewriting"]
    assert report["rewriting"]["replaced"] > 450
    assert not report["rewriting"]["broken"]
    assert everything(production) == live_before
    assert (local.root / "wp-config.php").read_bytes() == configuration

    # PHP reads every serialised value, at every depth, and none of them was lost.
    ours, theirs = local.unserialise(), production.unserialise()
    assert ours["bad"] == []
    # Some of them are cached values, which a copy does without: one or three, as WordPress's version has it.
    assert theirs["read"] - 5 < ours["read"] < theirs["read"] and ours["read"] > 80

    # Nothing that can be rewritten leads back; what is not ours is as it was.
    for table, column in [("posts", "post_content"), ("options", "option_value"),
                          ("postmeta", "meta_value"), ("usermeta", "meta_value"),
                          ("comments", "comment_author_url"), ("comments", "comment_content")]:  # fmt: skip
        for text in (
            f"127.0.0.1:{production.port}",
            "www.harrowmere.example",
            str(production.root),
        ):
            found = sites.rows(
                local,
                f"SELECT {column} FROM wp_{table} WHERE {column} LIKE '%{text}%'"
                f" AND {column} NOT LIKE '%{local.root}%'",
            )
            assert found == [], (table, text)
    assert sites.rows(local, "SELECT * FROM wpxarchive_posts") == [(7,)]
    assert sites.rows(local, "SELECT * FROM wp_own_notes") == [("mine",)]
    assert sites.rows(local, "SELECT COUNT(*) FROM wp_latest") == sites.rows(
        production, "SELECT COUNT(*) FROM wp_latest"
    )
    assert sites.rows(local, "SHOW TRIGGERS LIKE 'wp_links'")[0][0] == "wp_guards"
    assert sites.rows(
        local, "SELECT option_value FROM wp_options WHERE option_name='admin_email'"
    ) == [("desk@harrowmere.example",)]
    assert sites.rows(local, "SELECT guid FROM wp_posts ORDER BY ID") == sites.rows(
        production, "SELECT guid FROM wp_posts ORDER BY ID"
    )

    checked = json.loads(sites.vetrin("check", "local", "--json"))
    assert {item["kind"] for item in checked["looked"]} >= {
        "home",
        "page",
        "picture",
        "log-in",
        "count",
    }
    assert (
        json.loads(sites.vetrin("status", "--json"))["environments"][1]["last_transfer"]["run"] == 1
    )

    pulled = everything(local)
    sites.vetrin("undo", "local", "--yes")
    assert everything(local) == local_before
    assert local.root.joinpath("wp-content/uploads/2026").exists() is False
    assert sites.rows(local, "SHOW FULL TABLES WHERE Table_type = 'VIEW'") == []
    sites.vetrin("undo", "local", "--yes")
    assert everything(local) == pulled


def test_the_same_database_by_another_way_is_refused(sites: Sites) -> None:
    """Production is reached by socket, the copy by port: only the server can tell they are one."""
    path = sites.local.root / "wp-config.php"
    text = path.read_text()
    before = everything(sites.production)
    path.write_text(text.replace("railway_copy", "railway_live").replace("copyist", "live"))
    os.environ["VETRIN_TEST_WORD"] = sites.production.password
    path.write_text(path.read_text().replace("HARROWMERE_WORD", "VETRIN_TEST_WORD"))
    try:
        sites.vetrin("pull", "--yes", code=5)
    finally:
        path.write_text(text)
        del os.environ["VETRIN_TEST_WORD"]
    assert everything(sites.production) == before


def test_the_copy_answers_as_wordpress(sites: Sites) -> None:
    local = sites.local
    if not sites.rows(local, "SELECT 1 FROM wp_posts WHERE post_title = 'News number 7'"):
        sites.vetrin("pull", "--yes")
    with httpx.Client(follow_redirects=False, timeout=30) as client:
        home = client.get(local.address + "/")
        assert home.status_code == 200
        assert f"{local.address}/timetable/" in home.text  # the menu
        assert "Desk" in home.text  # the widget
        assert "train-1" in home.text  # the logo
        assert f"127.0.0.1:{sites.production.port}" not in home.text
        post = client.get(f"{local.address}/2026/news-number-7/")
        assert post.status_code == 200
        assert "News number 7" in post.text
        picture = client.get(f"{local.address}/wp-content/uploads/2026/05/train-3.png")
        assert picture.headers["content-type"] == "image/png"
        client.get(f"{local.address}/wp-login.php")
        form = {"log": "stationmaster", "pwd": "stationmaster-word", "testcookie": "1",
                "redirect_to": f"{local.address}/wp-admin/"}  # fmt: skip
        answer = client.post(f"{local.address}/wp-login.php", data=form)
        assert answer.status_code == 302
        assert answer.headers["location"].startswith(f"{local.address}/wp-admin/")
        desk = client.get(f"{local.address}/wp-admin/index.php")
        assert desk.status_code == 200
        assert "Dashboard" in desk.text


def test_a_dump_that_was_edited_is_healed(sites: Sites) -> None:
    """Plain text replacement over the whole database, as in an editor; then heal, read by PHP."""
    local = sites.local
    if not sites.rows(local, "SELECT 1 FROM wp_posts WHERE post_title = 'News number 7'"):
        sites.vetrin("pull", "--yes")
    before = local.unserialise()
    assert before["bad"] == []
    moved = "https://railway.harrowmere.test"
    for table, column in [
        ("options", "option_value"),
        ("postmeta", "meta_value"),
        ("usermeta", "meta_value"),
    ]:
        for old, new in (
            (local.address, moved),
            (local.address.replace("/", "\\\\/"), moved.replace("/", "\\\\/")),
        ):
            sites.rows(
                local, f"UPDATE wp_{table} SET {column} = REPLACE({column}, '{old}', '{new}')"
            )
    assert len(local.unserialise()["bad"]) > 20
    mangled = everything(local)
    found = json.loads(sites.vetrin("heal", "local", "--yes", "--json"))
    assert found["healed"] > 20
    assert found["left"] == 0
    healed = local.unserialise()
    assert healed["bad"] == []
    assert healed["read"] == before["read"]
    sites.vetrin("undo", "local", "--yes")
    assert everything(local) == mangled
    sites.vetrin("undo", "local", "--yes")
    sites.vetrin("rewrite", "local", "--replace", f"{moved}={local.address}", "--yes")
    assert local.unserialise() == before
    home = httpx.get(local.address + "/", timeout=30, follow_redirects=True)
    assert "Desk" in home.text
    assert f"{local.address}/timetable/" in home.text
    assert json.loads(sites.vetrin("strays", "local", "--json"))["good"]


def by_wordpress(site: WordPress, code: str) -> None:
    """Run PHP inside of a WordPress."""
    done = subprocess.run(
        ["php", "-r", f"define('WP_HTTP_BLOCK_EXTERNAL', true); require 'wp-load.php'; {code}"],
        cwd=site.root, env=site.environment, capture_output=True, text=True,
    )  # fmt: skip
    assert done.returncode == 0 and "Fatal" not in done.stdout, done.stdout + done.stderr


def test_what_was_edited_on_both_sides_is_named_and_only_the_sources_moves(sites: Sites) -> None:
    production, local = sites.production, sites.local
    sites.vetrin("pull", "--yes")
    for site in (production, local):  # what WordPress notes for itself when it is first asked
        by_wordpress(site, "wp_schedule_single_event(time() + 9999, 'x'); do_action('init');")
    sites.vetrin("pull", "--yes")
    assert json.loads(sites.vetrin("changes", "local", "--json"))["same"]
    assert json.loads(sites.vetrin("changes", "production", "--json"))["same"]
    by_wordpress(
        production,
        "wp_insert_post(['post_title' => 'Santa specials', 'post_status' => 'publish']);"
        "wp_update_post(['ID' => 1, 'post_title' => 'Timetable from May']);"
        "update_option('blogdescription', 'Steam every Sunday');",
    )
    by_wordpress(
        local,
        "wp_insert_post(['post_title' => 'Draft of a page', 'post_type' => 'page', 'post_status' => 'draft']);"
        "$w = get_option('widget_text'); $w['tried'] = 'here'; update_option('widget_text', $w);",
    )
    theirs = json.loads(sites.vetrin("changes", "production", "--json", code=4))
    mine = json.loads(sites.vetrin("changes", "local", "--json", code=4))
    print(theirs, mine)
    assert {(e["title"], e["state"]) for e in theirs["entries"]} == {
        ("Santa specials", "added"), ("Timetable from May", "changed"),
    }  # fmt: skip
    assert {(e["title"], e["state"]) for e in mine["entries"]} == {("Draft of a page", "added")}
    assert {(s["name"], s["new"]) for s in theirs["settings"] if s["name"] != "cron"} == {
        ("blogdescription", "Steam every Sunday")
    }
    assert [(s["path"], s["new"]) for s in mine["settings"] if s["name"] != "cron"] == [
        (["tried"], "here")
    ]
    report = json.loads(sites.vetrin("pull", "--yes", "--json"))
    assert report["since_run"] is not None
    assert 0 < sum(report["written_rows"].values()) < 40, report["written_rows"]
    titles = {row[0] for row in sites.rows(local, "SELECT post_title FROM wp_posts")}
    assert "Santa specials" in titles and "Draft of a page" not in titles
    assert json.loads(sites.vetrin("changes", "local", "--json"))["same"]
