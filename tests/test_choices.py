"""Choosing, keeping, settling, surveying and comparing on the sample project, as a user would."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path

import pytest

from test_command_line import change, document, value, vetrin
from vetrin.config import load_project
from vetrin.demo.sample import Sample
from vetrin.demo.walk import fingerprint


def rows(root: Path, sql: str) -> list[tuple]:
    import sqlite3

    connection = sqlite3.connect(root / "data/harrowmere.sqlite")
    try:
        return connection.execute(sql).fetchall()
    finally:
        connection.close()


def append(folder: Path, text: str) -> None:
    with (folder / "vetrin.toml").open("a") as file:
        file.write(text)


def test_a_pull_is_saved_and_done_again(sample: Sample) -> None:
    folder, local = sample.folder, sample.root("local")
    options = ["--leave-rows", "spam-comments,entries:event", "--empty-tables", "search_*",
               "--leave-where", "newsletter:confirmed = 0", "--keep-settings", "extras",
               "--set", "title=Workbench", "--set", "mail=on", "--parts", "data"]  # fmt: skip
    before = (folder / "vetrin.toml").read_text()
    first = document(folder, "pull", *options, "--save-as", "refresh", "--dry-run")
    assert (folder / "vetrin.toml").read_text() == before
    vetrin(folder, "pull", *options, "--save-as", "refresh", "--yes")
    vetrin(folder, "undo", "local", "--yes")
    text = (folder / "vetrin.toml").read_text()
    assert "# further addresses that mean this environment" in text
    assert tomllib.loads(text)["route"]["refresh"] == {
        "from": "production", "to": "local", "parts": ["data"],
        "leave": {"rows": ["spam-comments", "entries:event"], "empty": ["search_*"],
                  "where": {"newsletter": "confirmed = 0"}},
        "keep": {"settings": ["extras"]}, "arrival": {"mail": "on", "settings": {"title": "Workbench"}},
    }  # fmt: skip
    assert "refresh: production → local" in vetrin(folder, "run").stdout
    kept = value(local, "extras")
    report = document(folder, "run", "refresh", "--yes")
    assert {**report["plan"], "rewriting": report["rewriting"]} == {
        **{key: item for key, item in first.items() if key not in ("schema", "estimated_seconds", "since_run", "own_changes")},
    }  # fmt: skip
    assert rows(local, "SELECT COUNT(*) FROM comments WHERE state = 'spam'") == [(0,)]
    assert rows(local, "SELECT COUNT(*) FROM entries WHERE kind = 'event'") == [(0,)]
    assert rows(local, "SELECT COUNT(*) FROM search_index") == [(0,)]
    assert rows(local, "SELECT COUNT(*) FROM newsletter WHERE confirmed = 0") == [(0,)]
    assert rows(
        local, "SELECT COUNT(*) FROM bookings WHERE entry_id NOT IN (SELECT id FROM entries)"
    ) == [(0,)]
    assert rows(local, "SELECT COUNT(*) FROM bookings") == [(0,)]
    assert (value(local, "title"), value(local, "extras")) == ("Workbench", kept)
    text = (folder / "vetrin.toml").read_text()
    said = vetrin(folder, "pull", "--parts", "media", "--save-as", "refresh", code=5).stderr
    assert "Replace the route refresh" in said and (folder / "vetrin.toml").read_text() == text
    assert "did you mean refresh?" in vetrin(folder, "run", "refesh", code=2).stderr
    assert (
        "lower-case letters"
        in vetrin(folder, "pull", "--save-as", "Not So", "--yes", code=2).stderr
    )
    # What cannot be planned is not saved.
    vetrin(folder, "pull", "--keep-settings", "nowhere", "--save-as", "other", "--yes", code=2)
    assert "[route.other]" not in (folder / "vetrin.toml").read_text()


def test_only_some_tables(sample: Sample) -> None:
    local = sample.root("local")
    before = fingerprint(local)
    vetrin(sample.folder, "pull", "--yes", "--only-tables", "fares,timetable", "--parts", "data")
    assert fingerprint(local) == before  # these are the same everywhere
    change(sample.root("production"), "UPDATE fares SET pence = pence + 10")
    plan = document(sample.folder, "pull", "--yes", "--only-tables", "fares", "--parts", "data")[
        "plan"
    ]
    assert [table["name"] for table in plan["tables"]] == ["fares"]
    after = fingerprint(local)
    assert {name for name in before if before[name] != after[name]} == {"fares"}
    assert "the view next_events is left out" not in " ".join(plan["notes"])


def test_a_view_that_would_need_a_table_that_is_not_there(sample: Sample) -> None:
    change(
        sample.root("local"),
        "DROP VIEW next_events",
        "DROP TABLE bookings",
        "DROP TABLE comments",
        "DROP TABLE entries",
    )
    plan = document(sample.folder, "pull", "--yes", "--leave-tables", "entries")["plan"]
    assert (
        "the view next_events is left out, for it needs a table or routine that is" in plan["notes"]
    )
    # What hangs on the entries cannot stay without them.
    assert rows(sample.root("local"), "SELECT COUNT(*) FROM bookings") == [(0,)]
    assert (
        rows(
            sample.root("local"),
            "SELECT name FROM sqlite_master WHERE name IN ('entries', 'next_events')",
        )
        == []
    )


def test_what_an_environment_keeps(sample: Sample) -> None:
    folder, local = sample.folder, sample.root("local")
    append(folder, '[environment.local.keep]\nsettings = ["theme[header][text]", "home_blocks[hero][href]", "e-m*"]\n'
                   'tables = ["volunteers"]\nfiles = ["sketches/", "*-01.png"]\n')  # fmt: skip
    mine = 'a:1:{s:6:"header";a:1:{s:4:"text";s:5:"Eigen";}}'
    change(local, f"UPDATE settings SET value = '{mine}' WHERE name = 'theme'",
           "UPDATE settings SET value = '{\"hero\": {\"href\": \"/here\"}}' WHERE name = 'home_blocks'",
           "UPDATE settings SET value = 'me@harrowmere.example' WHERE name = 'e-mail'",
           "DELETE FROM volunteers WHERE id > 3")  # fmt: skip
    append(folder, '[keep]\nsettings = ["title[x]", "menu[0][nothing][here]"]\n')
    picture = local / "media/2026/04/train-01.png"
    picture.write_bytes(b"mine")
    report = document(folder, "pull", "--yes")
    assert "title[x] of local cannot be kept: the value is no structure" in " ".join(
        report["plan"]["risks"]
    )
    assert len(report["remarks"]) == 1
    theme = value(local, "theme")
    assert 's:4:"text";s:5:"Eigen";' in theme
    assert f"{sample.address('local')}/media" in theme
    blocks = json.loads(value(local, "home_blocks"))
    assert blocks["hero"]["href"] == "/here"
    assert blocks["hero"]["image"].startswith(sample.address("local"))
    assert value(local, "e-mail") == "me@harrowmere.example"
    assert rows(local, "SELECT COUNT(*) FROM volunteers") == [(3,)]
    assert picture.read_bytes() == b"mine"


def test_how_a_copy_is_settled_and_production_never(sample: Sample) -> None:
    folder = sample.folder
    plan = document(folder, "pull", "--to", "staging", "--yes", "--set", "closed=true")["plan"]
    assert plan["arrival"] == [
        "hidden from search engines", "marked as staging", "mail off", "closed to visitors",
    ]  # fmt: skip
    staging = sample.root("staging")
    assert [value(staging, name) for name in ("hidden_from_search", "banner", "mail", "closed")] == [
        "yes", "staging", "off", "yes",
    ]  # fmt: skip
    path = folder / "vetrin.toml"
    path.write_text(path.read_text().replace('"read-only"', '"read-write"'))
    plan = document(folder, "pull", "staging", "--to", "production", "--confirm=production")["plan"]
    assert plan["arrival"] == [
        "visible to search engines",
        "no marker",
        "mail on",
        "open to visitors",
    ]
    production = sample.root("production")
    assert [value(production, name) for name in ("hidden_from_search", "banner", "mail", "closed")] == [
        "no", "", "on", "no",
    ]  # fmt: skip
    append(
        folder,
        '[environment.staging.arrival]\nsearch-engines = "unchanged"\nmarker = false\nmail = "on"\ncaches = "unchanged"\n',
    )
    plan = document(folder, "pull", "--to", "staging", "--yes")["plan"]
    assert [kind["rows"] for kind in plan["left"]] == []
    assert value(staging, "banner") == ""


def test_extras_that_are_not_there_are_not_switched_on(sample: Sample) -> None:
    folder, local = sample.folder, sample.root("local")
    plan = document(folder, "pull", "--yes")["plan"]
    assert (
        "live-departures: active in production, but local has no such files among its extras"
        in plan["risks"]
    )
    document(folder, "pull", "--yes", "--keep-settings", "extras", "--set", "e-mail=x")
    assert json.loads(value(local, "extras")) == ["donation-box"]
    append(
        folder,
        '[environment.local.arrival]\nactivate = ["visitor-map"]\ndeactivate = ["Donation box"]\n',
    )
    document(folder, "pull", "--yes")
    assert json.loads(value(local, "extras")) == ["live-departures", "visitor-map"]


def test_code_travels_where_it_is_asked_for(sample: Sample) -> None:
    folder, local = sample.folder, sample.root("local")
    configuration = (local / "fishplate.toml").read_bytes()
    (sample.root("production") / "notes.log").write_text("a log")
    nested = sample.root("production") / "themes/maroon/inner"
    nested.mkdir()
    (nested / ".hidden").write_text("hidden files count")
    report = document(
        folder,
        "pull",
        "--yes",
        "--parts",
        "code",
        "--leave-files",
        "*.log",
        "--leave-inactive",
        "extras",
    )
    assert (local / "extras/live-departures/extra.toml").is_file()
    assert 'version = "1.4"' in (local / "extras/donation-box/extra.toml").read_text()
    assert (local / "themes/maroon/inner/.hidden").read_text() == "hidden files count"
    assert not (local / "notes.log").exists()
    assert (local / "fishplate.toml").read_bytes() == configuration
    assert (local / "fishplate/version.toml").read_text() == 'version = "2.3"\n'
    assert report["files"] == 3
    document(folder, "pull", "--yes", "--parts", "core")
    assert (local / "fishplate/version.toml").read_text() == 'version = "2.4"\n'
    assert (
        "'plugins' is none of extras"
        in vetrin(folder, "pull", "--leave-inactive", "plugins", code=2).stderr
    )


def test_an_environment_without_database_and_configuration(sample: Sample) -> None:
    folder, local = sample.folder, sample.root("local")
    for name in (
        "fishplate.toml",
        "data/harrowmere.sqlite",
        "data/harrowmere.sqlite-wal",
        "data/harrowmere.sqlite-shm",
    ):
        (local / name).unlink(missing_ok=True)
    assert "there is no fishplate.toml" in vetrin(folder, "pull", "--yes", code=1).stderr
    append(folder, '[environment.local.database]\nfile = "store/mine.sqlite"\n')
    vetrin(folder, "pull", "--yes")
    made = tomllib.loads((local / "fishplate.toml").read_text())
    assert made == {"database": {"file": "store/mine.sqlite"}}
    assert "a transfer leaves them alone" in (local / "fishplate.toml").read_text()
    import sqlite3

    assert sqlite3.connect(local / "store/mine.sqlite").execute(
        "SELECT COUNT(*) FROM bookings"
    ).fetchone() == (240,)


def test_any_database_with_a_folder(sample: Sample) -> None:
    folder = sample.folder
    text = (folder / "vetrin.toml").read_text().replace('cms = "fishplate"', 'cms = "plain"')
    for name in ("local", "production"):
        text += f'[environment.{name}.database]\nfile = "data/harrowmere.sqlite"\n'
    (folder / "vetrin.toml").write_text(text)
    (sample.root("production") / "timetable.pdf").write_text("a file of any kind")
    vetrin(folder, "pull", "--yes", "--leave-tables", "search_index")
    local = sample.root("local")
    assert rows(local, "SELECT COUNT(*) FROM bookings") == [(240,)]
    assert (local / "timetable.pdf").exists() and (local / "extras/live-departures").is_dir()
    assert rows(local, "SELECT COUNT(*) FROM search_index") == [(3600,)]
    assert document(folder, "survey", "local")["kinds"] == []


def test_survey_and_its_picture(sample: Sample, tmp_path: Path) -> None:
    found = document(sample.folder, "survey", "production")
    assert [(t["name"], t["role"]) for t in found["tables"]][:3] == [
        ("search_index", "index"), ("entries", "content"), ("bookings", "visitors"),
    ]  # fmt: skip
    assert {f["path"]: f["part"] for f in found["folders"]}["media/2026"] == "media"
    assert [(s["key"], s["value"]) for s in found["suggestions"]] == [
        ("empty", "search_index"), ("rows", "spam-comments"), ("inactive", "extras"),
    ]  # fmt: skip
    # What it suggests can be pasted as it stands.
    shown = vetrin(
        sample.folder, "survey", "production", "--plot", str(tmp_path / "bytes.png")
    ).stdout
    append(sample.folder, "\n" + shown[shown.index("[leave]") :].replace("\n  ", "\n") + "\n")
    assert load_project(sample.folder).leave.rows == ("spam-comments",)
    assert (tmp_path / "bytes.png").read_bytes()[:8] == b"\x89PNG\r\n\x1a\n"
    assert (
        "has to end with .png"
        in vetrin(sample.folder, "survey", "local", "--plot", "x.txt", code=2).stderr
    )


def test_compare(sample: Sample) -> None:
    folder = sample.folder
    found = document(folder, "compare", "production", "local", "--entries", code=4)
    assert {e["title"] for e in found["entries"] if e["state"] == "only"} >= {"Ghost Train"}
    vetrin(folder, "pull", "--yes", "--parts", "data,media,core,code", "--mirror")
    # A fresh copy differs only where that is meant; either way round.
    found = document(folder, "compare", "production", "local", "--entries")
    assert (found["entries"], found["tables"], found["same_tables"]) == ([], [], 11)
    assert "hidden from search engines" in found["expected"]
    assert (
        "As expected: "
        in vetrin(folder, "compare", "local", "production", "--parts", "data").stdout
    )
    vetrin(folder, "pull", "--yes", "--leave-rows", "spam-comments", "--set", "title=Workbench")
    found = document(folder, "compare", "production", "local")
    assert not found["differences"] and "spam-comments left out (32 rows)" in found["expected"]
    append(folder, '[leave]\nrows = ["spam-comments", "entries:event"]\ntables = ["newsletter"]\n'
                   '[environment.local.keep]\nsettings = ["title"]\n')  # fmt: skip
    vetrin(folder, "pull", "--yes")
    change(sample.root("local"), "UPDATE settings SET value = 'Workbench' WHERE name = 'title'")
    found = document(folder, "compare", "production", "local")
    assert not found["differences"], found
    # What nobody expects is named.
    change(sample.root("local"), "UPDATE settings SET value = '7' WHERE name = 'last_booking'",
           "INSERT INTO settings (name, value) VALUES ('odd', '1')")  # fmt: skip
    (sample.root("local") / "media/odd.txt").write_text("odd")
    found = document(folder, "compare", "production", "local", code=4)
    assert next(t["names"] for t in found["tables"])[-1] == "odd"
    assert [line["names"] for line in found["lines"] if line["names"]] == [["- media/odd.txt"]]
    assert (
        "media/odd.txt" in vetrin(folder, "compare", "production", "local", "--list", code=4).stdout
    )
    change(sample.root("local"), "DELETE FROM settings WHERE name = 'odd'")
    change(sample.root("local"), "UPDATE entries SET body = 'x' WHERE id = 1",
           "UPDATE entries SET changed = '2027-01-01', title = 'New' WHERE id = 2", "DELETE FROM entries WHERE id = 3",
           "CREATE TABLE mine (a)", "DROP TABLE fares", "ALTER TABLE volunteers ADD extra")  # fmt: skip
    found = document(folder, "compare", "production", "local", "--entries", code=4)
    assert [(e["id"], e["state"], e["where"]) for e in found["entries"]] == [
        ("1", "changed", "production and local"), ("2", "newer", "local"), ("3", "only", "production"),
    ]  # fmt: skip
    assert {t["name"]: t["state"] for t in found["tables"]} == {
        "settings": "content", "entries": "content", "mine": "only in local", "fares": "only in production",
        "volunteers": "columns",
    }  # fmt: skip
    assert (
        "cannot be compared with itself"
        in vetrin(folder, "compare", "local", "local", code=2).stderr
    )


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ('[leave]\nrow = ["x"]\n', "unknown key 'row'; did you mean rows?"),
        ("[leave]\nrows = 'x'\n", "rows: write a list of texts"),
        ('[keep]\nsetings = []\n', "unknown key 'setings'; did you mean settings?"),
        ('[arrival]\nmail = "maybe"\n', "'maybe' is none of on, off"),
        ('[arrival]\nsearch-engines = "gone"\n', "'gone' is none of hidden, visible, unchanged"),
        ("[arrival]\nmarker = 3\n", "marker: write true, false or a text"),
        ('[route.x]\nfrom = "production"\nto = "nowhere"\n', "to: 'nowhere' is none of"),
        ('[route.x]\nfrom = "production"\nto = "local"\nparts = ["meida"]\n', "'meida' is none of data, media"),
        ('[environment.local.leave]\nwhere = { a = "" }\n', "where.a: write a condition"),
        ('[leave]\nfiles = ["a\\\\"]\n', "is no pattern"),
        ('[rewrite]\nprefixed = ["a.b"]\n', "write table.column=name"),
    ],
)  # fmt: skip
def test_what_is_wrong_in_a_choice_is_said(sample: Sample, text: str, said: str) -> None:
    append(sample.folder, text)
    command = ["run", "x"] if text.startswith("[route") else ["pull"]
    assert said in vetrin(sample.folder, *command, "--dry-run", code=2).stderr


def test_a_table_without_a_key_is_rewritten_in_place(sample: Sample) -> None:
    root = sample.root("local")
    before = fingerprint(root)
    done = document(
        sample.folder, "rewrite", "local", "--literal", "Fenwick Lane=Fenwick Road", "--yes"
    )
    assert done["rows"]["timetable"] == 28
    assert rows(root, "SELECT COUNT(*) FROM timetable WHERE station = 'Fenwick Road'") == [(28,)]
    vetrin(sample.folder, "undo", "local", "--yes")
    assert fingerprint(root) == before


def test_what_is_as_last_time_is_told_in_a_line(sample: Sample) -> None:
    folder = sample.folder
    first = vetrin(folder, "pull", "--yes").stdout
    assert "As last time" not in first and "search_index" in first
    again = vetrin(folder, "pull", "--yes").stdout
    assert "as after run 1" in again and "nothing differed from what run 1 left" in again
    assert "search_index" not in again and "Rewritten" not in again
    for _ in range(2):
        again = vetrin(folder, "pull", "--yes", "--full").stdout
    assert "as last time" in again and "differed" not in again
    assert "about 0:0" in again  # by the first run
    assert "search_index" in vetrin(folder, "pull", "--dry-run", "--verbose").stdout
    # What would be lost is always shown, and what is new.
    change(sample.root("local"), "DELETE FROM bookings WHERE id < 5")
    assert "overwritten in local" in vetrin(folder, "pull", "--dry-run").stdout
    other = vetrin(folder, "pull", "--dry-run", "--leave-rows", "spam-comments").stdout
    assert "spam-comments (32 rows)" in other and "search_index" in other
    assert "Workbench" in vetrin(folder, "pull", "--dry-run", "--set", "title=Workbench").stdout


def test_what_changed_is_told_in_words_and_no_secret_with_it(sample: Sample) -> None:
    folder, local = sample.folder, sample.root("local")
    assert "no transfer from or to local is known" in vetrin(folder, "changes", "local").stderr
    vetrin(folder, "pull", "--yes")
    assert "nothing has changed" in vetrin(folder, "changes", "local").stdout
    assert document(folder, "changes", "production")["role"] == "source"
    vetrin(folder, "backup", "local")
    change(
        local,
        "UPDATE settings SET value = replace(value, 'Trains run today', 'Steam every day!')",
        "INSERT INTO settings VALUES ('donation-secret', 'platform nine'), ('guard', '$2y$10$abcdefghij')",
        "UPDATE entries SET title = 'Santa specials' WHERE id = 3",
        "DELETE FROM bookings WHERE id = 7",
        "UPDATE fares SET pence = pence + 1 WHERE kind = 'adult' AND destination = 'Mill Bridge'",
    )
    (local / "media/2026/03/new.png").write_bytes(b"a picture")
    for words in ((), ("--since", "newest")):
        done = vetrin(folder, "changes", "local", "--rows", "fares", *words, code=4).stdout
        assert "home_blocks[notice][text]: Trains run today → Steam every day!" in done
        assert "~ Santa specials (page)" in done and "+ media/2026/03/new.png" in done
        assert "donation-secret: (not shown)" in done and "guard: (not shown)" in done
        assert "platform nine" not in done and "abcdefghij" not in done
        assert "destination=Mill Bridge, kind=adult: pence" in done
    plan = vetrin(folder, "restore", "local", "newest", "--tables", "fares", "--dry-run").stdout
    assert "Overwritten: what changed in local since the snapshot" in plan
    assert "rows in all, of fares" in plan and "Santa" not in plan.partition("Overwritten")[2]
    plan = vetrin(folder, "pull", "--dry-run").stdout
    assert "what changed in local since run 1: 1 entry (Santa specials); 3 settings" in plan
    vetrin(folder, "pull", "--yes")
    assert document(folder, "changes", "local")["files"] == []  # what only a copy has stays its own
