"""A second CMS, of another language and another shape: the core knows none of them by name."""

from __future__ import annotations

import json
import re
import sqlite3
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from systems import free_port
from test_first_steps import serving
from wagtail_site import Wagtail


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("wagtail")


@pytest.fixture(scope="module")
def sites(folder: Path) -> Iterator[tuple[Wagtail, Wagtail]]:
    live, copy = Wagtail(folder / "live"), Wagtail(folder / "copy")
    live.install("full")
    copy.install("empty")
    (folder / "vetrin.toml").write_text(
        f"""[site]
name = "Harrowmere Light Railway"
cms = "wagtail"
[environment.production]
address = "{live.address}"
root = "live/railway"
[environment.local]
address = "{copy.address}"
root = "copy/railway"
[leave]
rows = ["revisions"]
"""
    )
    copy.serve()
    try:
        yield live, copy
    finally:
        copy.stop()


def vetrin(folder: Path, *arguments: str, code: int = 0) -> dict:
    done = subprocess.run(
        [sys.executable, "-m", "vetrin", *arguments, "--json"],
        cwd=folder, capture_output=True, text=True,
    )  # fmt: skip
    assert done.returncode == code, done.stdout + done.stderr
    return json.loads(done.stdout)


def rows(site: Wagtail, sql: str) -> list[tuple]:
    connection = sqlite3.connect(site.root / "db.sqlite3")
    try:
        return connection.execute(sql).fetchall()
    finally:
        connection.close()


def test_pull_between_two_wagtails_and_back(folder: Path, sites: tuple[Wagtail, Wagtail]) -> None:
    live, copy = sites
    status = vetrin(folder, "status")["environments"]
    assert [e["standing"]["counts"]["pages"] for e in status] == [8, 1]
    found = vetrin(folder, "survey", "production")
    assert {kind["name"]: kind["rows"] for kind in found["kinds"]}["revisions"] == 14
    before = rows(copy, "SELECT username FROM auth_user")
    vetrin(folder, "pull", "--yes")
    text = f"See {copy.address}/fares/ or {copy.root}/media"
    assert rows(
        copy,
        "SELECT DISTINCT search_description FROM wagtailcore_page WHERE slug LIKE 'timetable%'",
    ) == [(text,)]
    # Its address stands in two columns of a table of its own.
    assert rows(copy, "SELECT hostname, port, site_name FROM wagtailcore_site") == [
        ("127.0.0.1", copy.port, "Harrowmere Light Railway")
    ]
    assert rows(live, "SELECT port FROM wagtailcore_site") == [(live.port,)]
    # Only the latest revision of each page came along, and nothing points at the others.
    assert rows(copy, "SELECT COUNT(*) FROM wagtailcore_revision") == [(7,)]
    assert rows(copy, "PRAGMA foreign_key_check") == []
    assert rows(copy, "PRAGMA integrity_check") == [("ok",)]
    assert list((copy.root / "media/original_images").iterdir())
    compared = vetrin(folder, "compare", "production", "local", code=4)
    assert {t["name"] for t in compared["tables"]} <= {
        "wagtailcore_revision", "wagtailcore_site", "wagtailcore_pagelogentry", "wagtailcore_modellogentry",
    }  # fmt: skip
    vetrin(folder, "undo", "local", "--yes")
    assert rows(copy, "SELECT username FROM auth_user") == before
    vetrin(folder, "undo", "local", "--yes")


def test_the_copy_answers_as_wagtail(folder: Path, sites: tuple[Wagtail, Wagtail]) -> None:
    _, copy = sites
    page = httpx.get(f"{copy.address}/timetable-3/", timeout=60)
    assert page.status_code == 200 and "Timetable 3, edition 2" in page.text
    # Its index for words is filled with the new pages.
    search = httpx.get(f"{copy.address}/search/?query=Timetable", timeout=60)
    assert "Timetable 3" in search.text
    assert "Page" in copy.ask(
        "from wagtail.models import Page; p = Page.objects.get(slug='timetable-2').specific; p.title = 'Gala';"
        "p.save_revision().publish(); print(type(Page.objects.search('Gala')[0]).__name__)"
    )
    with httpx.Client(timeout=60, follow_redirects=True) as client:
        form = client.get(f"{copy.address}/admin/login/").text
        token = re.search(r'name="csrfmiddlewaretoken" value="([^"]+)"', form)
        assert token
        desk = client.post(
            f"{copy.address}/admin/login/",
            data={"username": "stationmaster", "password": "word-of-the-line",
                  "csrfmiddlewaretoken": token[1], "next": "/admin/"},
        )  # fmt: skip
        assert desk.status_code == 200
        assert "Harrowmere Light Railway" in desk.text or "Dashboard" in desk.text


def test_vetrin_serves_it(sites: tuple[Wagtail, Wagtail], folder: Path) -> None:
    """By its own command, with the Python that it was laid out by."""
    live, _ = sites
    file = folder / "vetrin.toml"
    plain = file.read_text()
    (live.root / ".venv").symlink_to(Path(sys.prefix))
    file.write_text(plain.replace(live.address, f"http://127.0.0.1:{free_port()}"))
    try:
        with serving(folder, "production") as said:
            (address,) = re.findall(r"is at (http://\S+)/", said)
            assert "password" in httpx.get(f"{address}/admin/login/", timeout=30).text
    finally:
        file.write_text(plain)
        (live.root / ".venv").unlink()
