"""Merging one environment's content into another that changed as well: whole sites, on every engine."""

from __future__ import annotations

import json
import random
import shlex
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Iterator, Sequence
from pathlib import Path

import pytest
from msgspec.structs import replace

from connected import hosts
from faults import Between
from killing import killed_after
from line import Line
from railway import Railway
from ssh_server import SshServer
from systems import answer
from vetrin.config import load_project
from vetrin.errors import Refused, RowsMoved
from vetrin.jobs import Choices, Journals, Keeping, only_run, put_right, undo
from vetrin.jobs.merge import ROOM, Ask, KeepOnce, agreed_merge, merge
from vetrin.jobs.merge_plan import MergePlan, plan_merge
from vetrin.jobs.merge_sides import shared_state
from vetrin.merge import Decisions, Rules
from vetrin.site import open_site
from vetrin.store import FolderBackend, Store

Rows = dict[object, tuple]


class Merging:
    """Merges between the two sides of a line."""

    def __init__(self, line: Line) -> None:
        self.line = line

    def run(
        self,
        source: str,
        target: str,
        rules: Rules | None = None,
        *,
        room: Sequence[int] = ROOM,
        asks: Ask = lambda plan, again: None,
        keeps: bool = False,
    ) -> MergePlan:
        project = load_project(self.line.folder)
        store = Store(FolderBackend(self.line.folder / ".vetrin/store"))
        journals = Journals(project.state)
        goal = replace(project.environment(target), access="read-write")
        with (
            open_site(hosts, project, project.environment(source)) as incoming,
            open_site(hosts, project, goal, read_only=False) as site,
        ):

            def make(room: int = 0) -> MergePlan:
                with only_run(site):
                    put_right(site, journals)
                shared = shared_state(store, journals, source, target, lambda run: Choices())
                return plan_merge(
                    incoming, site, store, shared, Decisions(rules or Rules()), room=room
                )

            keeping = KeepOnce(Keeping(store)) if keeps else None
            plan, _ = agreed_merge(
                make(), make, asks,
                lambda plan: merge(plan, incoming, site, journals, keeping=keeping), waits=False, room=room,
            )  # fmt: skip
        return plan

    def kept(self, environment: str) -> int:
        """How many snapshots there are that were taken before a run."""
        store = Store(FolderBackend(self.line.folder / ".vetrin/store"))
        return sum(
            one.purpose == "before" for one in store.snapshots() if one.environment == environment
        )

    def take_back(self, target: str) -> None:
        project = load_project(self.line.folder)
        goal = replace(project.environment(target), access="read-write")
        with open_site(hosts, project, goal, read_only=False) as site:
            undo(site, Journals(project.state))

    def name(self, table: str) -> str:
        return f"x_{table}" if self.line.prefix == "wp_" else table


def changes(chance: random.Random, word: str, turn: int) -> Iterator[str]:
    """What people did to one side: statements that every engine understands."""
    for count in range(chance.randint(1, 6)):
        some = chance.randrange(0, 7200, 3)
        yield chance.choice(
            [
                f"UPDATE x_trains SET log = 'of {word} https://live.test/{some}' WHERE id = {some}",
                f"UPDATE x_trains SET seats = {chance.randint(20, 90)} WHERE id = {some}",
                f"DELETE FROM x_trains WHERE id BETWEEN {some} AND {some + 30}",
                f"INSERT INTO x_trains VALUES ({8000 + 100 * turn + count}, 'new {word} {some}', 1)",
                f"UPDATE x_calls SET at = '{word} {some}' WHERE train = {some % 60} AND stop = {some % 40}",
                f"DELETE FROM x_calls WHERE train = {some % 60}",
                f"UPDATE x_stops SET name = '{word} {some}' WHERE code = 'stop{some % 300}'",
                f"INSERT INTO x_stops VALUES ('{word}-{count}', 'A stop of {word}')",
            ]
        )


def held(rows: dict[str, Rows], name: str) -> Rows:
    return {key[:-1]: row for key, row in rows[name].items()}  # type: ignore[index]


@pytest.mark.parametrize("seed", range(4))
def test_both_sides_keep_what_they_made(line: Line, seed: int) -> None:
    chance, merging = random.Random(seed), Merging(line)
    line.pull()
    for turn in range(4):
        target = chance.choice(["production", "local"])
        source = "local" if target == "production" else "production"
        for name in line.sides:
            line.sides[name](*changes(chance, f"{name}{turn}", turn))
        before, came = line.rows(target), line.rows(source)
        was = line.digests(target)
        plan = merging.run(source, target)
        now = line.rows(target)
        asked = {(one.table, one.key, one.column) for one in plan.decisions.open}
        for table in ("trains", "calls", "stops"):
            name = merging.name(table)
            mine, theirs = held(before, name), held(now, name)
            rows_came = held(came, name)
            gone = [key for key in mine if key not in theirs]
            for key in gone:  # only what the other side removed, and nobody here touched
                assert key not in rows_came
            for key, row in rows_came.items():
                words = [
                    cell
                    for cell in row
                    if source.encode() + str(turn).encode() in bytes(str(cell), "utf-8")
                ]
                if not words:
                    continue
                texts = [str(cell) for row in theirs.values() for cell in row]
                found = any(
                    str(word).split("https")[0].strip("b'") in text
                    for word in words
                    for text in texts
                )
                assert found or asked, f"{name} {key} did not come"
            for key, row in mine.items():
                if any(f"{target}{turn}" in str(cell) for cell in row):
                    assert key in theirs, f"{name} {key} of {target} is lost"
                    kept = [cell for cell in row if f"{target}{turn}" in str(cell)]
                    assert all(cell in theirs[key] for cell in kept)
        after = line.digests(target)
        again = merging.run(source, target)
        assert again.nothing and not again.decisions.open
        assert line.digests(target) == after
        if plan.merged.steps and chance.random() < 0.5:
            merging.take_back(target)
            assert line.digests(target) == was
            merging.take_back(target)
            assert line.digests(target) == after


UP = [
    "UPDATE x_trains SET log = 'mine' WHERE id IN (3, 3000, 7197)",
    "DELETE FROM x_calls WHERE train = 7",
    "INSERT INTO x_trains VALUES (9000, 'new here', 4)",
]
THERE = [
    "UPDATE x_trains SET seats = 99 WHERE id IN (3, 600)",
    "INSERT INTO x_trains VALUES (9000, 'new there', 5)",
    "INSERT INTO x_calls VALUES (900, 1, 'x')",
]


def test_rows_of_one_number_become_two(line: Line) -> None:
    merging = Merging(line)
    line.pull()
    line.sides["local"](*UP)
    line.sides["production"](*THERE)
    merging.run("local", "production")
    rows = held(line.rows("production"), merging.name("trains"))
    new = sorted(str(row[1]) for row in rows.values() if "new" in str(row[1]))
    assert [text.strip("b'") for text in new] == ["new here", "new there"]
    changed = next(row for key, row in rows.items() if int(key[0]) == 3)  # type: ignore[index]
    assert b"mine" in (changed[1], bytes(str(changed[1]), "utf-8"))
    assert int(changed[2]) == 99


def test_killed_anywhere_it_is_the_old_or_the_merged_and_goes_on(line: Line, every: int) -> None:
    merging = Merging(line)
    project = load_project(line.folder)
    with open_site(hosts, project, project.environment("local")) as site:
        engine = type(site.database)
    line.pull()
    line.sides["local"](*UP)
    line.sides["production"](*THERE)
    old = line.digests("production")
    merging.run("local", "production")
    new = line.digests("production")
    merging.take_back("production")
    assert line.digests("production") == old
    methods = ["lay_out", "fill", "_execute", "patch", "drop"]
    steps, stride = 0, every or (3 if engine.engine == "sqlite" else 5)
    while killed_after(
        steps, lambda: merging.run("local", "production"), engine=engine, methods=methods
    ):
        now = line.digests("production")
        assert now in (old, new), steps
        if now == old or steps % 2:
            merging.run("local", "production")
            assert line.digests("production") == new, steps
        merging.take_back("production")
        if line.digests("production") == new:  # what was left had to be taken back first
            merging.take_back("production")
        assert line.digests("production") == old, steps
        steps += stride
    assert steps > 10


def test_a_row_that_somebody_changes_meanwhile_stops_it_and_it_looks_again(
    line: Line, monkeypatch: pytest.MonkeyPatch
) -> None:
    merging = Merging(line)
    line.pull()
    line.sides["local"](*UP)
    project = load_project(line.folder)
    with open_site(hosts, project, project.environment("local")) as site:
        engine = type(site.database)
    real = engine.patch
    before = line.digests("production")

    def patch(self, patches, *more, **options):  # type: ignore[no-untyped-def]
        monkeypatch.undo()
        line.sides["production"]("UPDATE x_trains SET seats = 1234 WHERE id = 3000")
        return real(self, patches, *more, **options)

    monkeypatch.setattr(engine, "patch", patch)
    with pytest.raises(RowsMoved, match="somebody changed 1 row"):
        merging.run("local", "production", room=(0,))
    assert "mine" not in str(_texts(line, merging))
    line.sides["production"]("UPDATE x_trains SET seats = 4 WHERE id = 3000")
    assert line.digests("production") == before

    monkeypatch.setattr(engine, "patch", patch)
    merging.run("local", "production")
    rows = held(line.rows("production"), merging.name("trains"))
    mine = {int(key[0]): int(row[2]) for key, row in rows.items() if "mine" in str(row[1])}  # type: ignore[index]
    assert mine.keys() == {3, 3000, 7197} and mine[3000] == 1234


def test_where_rows_are_added_all_the_time_new_ones_get_numbers_beyond(
    line: Line, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A visitor takes the next number just before each try; nobody is asked again because of that."""
    merging = Merging(line)
    line.pull()
    adds = "INSERT INTO x_trains SELECT MAX(id) + 1, '{}', 1 FROM x_trains"
    line.sides["local"](adds.format("new here"))
    project = load_project(line.folder)
    with open_site(hosts, project, project.environment("local")) as site:
        engine = type(site.database)
    real, came, plans = engine.patch, [], []

    def patch(self, patches, *more, **options):  # type: ignore[no-untyped-def]
        came.append(f"visitor {len(came)}")
        line.sides["production"](adds.format(came[-1]))
        return real(self, patches, *more, **options)

    monkeypatch.setattr(engine, "patch", patch)
    merging.run("local", "production", asks=lambda plan, again: plans.append(again), keeps=True)
    rows = held(line.rows("production"), merging.name("trains")).items()
    ids = {str(row[1]).strip("b'"): int(key[0]) for key, row in rows}  # type: ignore[index]
    assert plans == [False] and set(came) <= ids.keys() and merging.kept("production") == 1
    assert ids["new here"] > max(ids[one] for one in came) + 60


def _texts(line: Line, merging: Merging) -> list[str]:
    rows = held(line.rows("production"), merging.name("trains"))
    return [str(row[1]) for row in rows.values()]


def test_without_a_common_state_it_is_refused(line: Line) -> None:
    with pytest.raises(Refused, match="have no common state on record"):
        Merging(line).run("local", "production")


# -- by the command, on the sample project ------------------------------------------------------------------------


class Site2:
    """One environment of the sample, written to as its CMS would."""

    def __init__(self, railway: Railway, name: str) -> None:
        self.path = railway.folder / name / "data/harrowmere.sqlite"
        self.address = str(railway.project.environment(name).address)

    def run(self, sql: str, *values: object) -> int:
        connection = sqlite3.connect(self.path)
        with connection:
            number = connection.execute(sql, values).lastrowid
        connection.close()
        return int(number or 0)

    def one(self, sql: str, *values: object) -> object:
        connection = sqlite3.connect(self.path)
        row = connection.execute(sql, values).fetchone()
        connection.close()
        return row[0] if row else None

    def write(self, title: str, body: str = "", slug: str = "") -> int:
        return self.run(
            "INSERT INTO entries (kind, slug, title, body, state) VALUES ('page', ?, ?, ?, 'public')",
            slug or title.lower().replace(" ", "-"), title, body.replace("HOME", self.address),
        )  # fmt: skip


@pytest.fixture
def two(tmp_path: Path) -> tuple[Railway, Site2, Site2]:
    """The sample after a pull; production may be written to."""
    railway = Railway(tmp_path / "project")
    toml = railway.folder / "vetrin.toml"
    toml.write_text(toml.read_text().replace('"read-only"', '"read-write"'))
    railway.vetrin("pull", "--yes")
    return railway, Site2(railway, "local"), Site2(railway, "production")


UPWARDS = ("push", "production", "--parts", "data", "--confirm", "production")
UNDO = ("undo", "production", "--confirm", "production")


def test_new_pages_go_up_and_lead_where_they_led(two: tuple[Railway, Site2, Site2]) -> None:
    railway, local, live = two
    first = local.write("Members area", '<a href="HOME/entry/1">one</a>')
    local.write("Joining", f'<a href="HOME/entry/{first}">read this</a>')
    news = live.write("Snow on the line")
    booking = live.run(
        "INSERT INTO bookings (entry_id, name, seats) VALUES (5, 'Tamsin Oakhollow', 2)"
    )
    assert first == news  # both made an entry under one number
    railway.vetrin(*UPWARDS)
    members = live.one("SELECT id FROM entries WHERE title = 'Members area'")
    assert members not in (None, first)
    assert live.one("SELECT title FROM entries WHERE id = ?", news) == "Snow on the line"
    body = str(live.one("SELECT body FROM entries WHERE title = 'Joining'"))
    assert body == f'<a href="{live.address}/entry/{members}">read this</a>'
    assert live.one("SELECT name FROM bookings WHERE id = ?", booking) == "Tamsin Oakhollow"
    # The way back takes only that, and leaves and names what somebody did since.
    live.run("INSERT INTO comments (entry_id, author, body) VALUES (1, 'Jory', 'Hello')")
    live.run("UPDATE entries SET title = 'Join us' WHERE title = 'Joining'")
    joined = live.one("SELECT id FROM entries WHERE title = 'Join us'")
    said = json.loads(railway.vetrin("undo", "production", "--confirm", "production", "--json"))
    assert said["stayed"] == [f"entries: {joined}"]
    assert live.one("SELECT count(*) FROM entries WHERE title IN ('Members area', 'Joining')") == 0
    assert live.one("SELECT count(*) FROM entries WHERE title = 'Join us'") == 1
    assert live.one("SELECT count(*) FROM comments WHERE author = 'Jory' AND body = 'Hello'") == 1


def test_columns_in_another_order_are_no_changes_after_a_merge(
    two: tuple[Railway, Site2, Site2],
) -> None:
    railway, local, live = two
    local.run("UPDATE entries SET title = 'Tickets' WHERE id = 3")
    railway.vetrin(*UPWARDS)
    live.run("UPDATE entries SET title = 'Timetable of summer' WHERE id = 2")
    live.run("ALTER TABLE entries RENAME TO before")
    live.run(
        "CREATE TABLE entries (state TEXT NOT NULL DEFAULT 'public', details TEXT, title TEXT NOT NULL,"
        " slug TEXT NOT NULL, id INTEGER PRIMARY KEY AUTOINCREMENT, kind TEXT NOT NULL, author TEXT,"
        " body TEXT NOT NULL, made TEXT, changed TEXT, permanent_id TEXT)"
    )
    names = "id, kind, slug, title, body, state, author, made, changed, permanent_id, details"
    live.run(f"INSERT INTO entries ({names}) SELECT {names} FROM before")
    live.run("DROP TABLE before")
    found = json.loads(railway.vetrin("changes", "production", "--json", code=4))
    assert [one["title"] for one in found["entries"]] == ["Timetable of summer"]


def test_after_a_merge_up_a_pull_changes_nothing_of_it(two: tuple[Railway, Site2, Site2]) -> None:
    railway, local, live = two
    local.write("Members area")
    live.write("Snow on the line")
    railway.vetrin(*UPWARDS)
    there = json.loads(railway.vetrin("changes", "local", "--json"))
    assert there["same"], there
    there = json.loads(railway.vetrin("changes", "production", "--json", code=4))
    assert [one["title"] for one in there["entries"]] == ["Snow on the line"]
    railway.vetrin("pull", "--merge", "--yes")
    assert json.loads(railway.vetrin("changes", "production", "--json"))["same"]
    titles = "SELECT group_concat(title, '|') FROM (SELECT title FROM entries ORDER BY title)"
    assert local.one(titles) == live.one(titles)
    for words in (UPWARDS, ("pull", "--merge", "--yes")):
        found = json.loads(railway.vetrin(*words, "--json"))
        assert found["tables"] == [] and found["conflicts"] == []
    railway.vetrin("pull", "--yes")
    assert local.one(titles) == live.one(titles)
    assert json.loads(railway.vetrin(*UPWARDS, "--json"))["tables"] == []


def test_what_both_changed_is_asked_and_can_be_handed_back(
    two: tuple[Railway, Site2, Site2], tmp_path: Path
) -> None:
    railway, local, live = two
    for site, title in ((local, "Tickets"), (live, "Fares and tickets")):
        site.run("UPDATE entries SET title = ? WHERE id = 3", title)
    local.run("UPDATE entries SET title = 'Timetable 2027' WHERE id = 2")
    live.run("UPDATE entries SET state = 'draft' WHERE id = 2")
    found = json.loads(railway.vetrin(*UPWARDS, "--json", code=5))
    assert live.one("SELECT title FROM entries WHERE id = 2") == "Timetable"
    (conflict,) = found["conflicts"]
    assert (conflict["place"], conflict["before"]) == ("entries.title", "Fares")
    assert (conflict["local"], conflict["production"]) == ("Tickets", "Fares and tickets")
    filled = tmp_path / "decided.json"
    for way, title in (
        ({"take": "local"}, "Tickets"),
        ({"take": "production"}, "Fares and tickets"),
        ({"text": "All fares"}, "All fares"),
    ):
        conflict.update({"take": None, "text": None, **way})
        filled.write_text(json.dumps(found))
        railway.vetrin(*UPWARDS, "--decisions", str(filled))
        assert live.one("SELECT title FROM entries WHERE id = 3") == title
        assert live.one("SELECT title FROM entries WHERE id = 2") == "Timetable 2027"
        assert live.one("SELECT state FROM entries WHERE id = 2") == "draft"
        railway.vetrin("undo", "production", "--confirm", "production")
    filled.write_text("[]")
    railway.vetrin(*UPWARDS, "--decisions", str(filled), code=2)
    railway.vetrin(*UPWARDS, "--prefer", "somebody", code=2)
    railway.vetrin(*UPWARDS, "--prefer", "comments=local", code=5)
    toml = railway.folder / "vetrin.toml"
    toml.write_text(toml.read_text() + '\n[merge.prefer]\n"entries.title" = "local"\n')
    railway.vetrin(*UPWARDS)
    assert live.one("SELECT title FROM entries WHERE id = 3") == "Tickets"


def test_secrets_and_escapes_are_not_shown(two: tuple[Railway, Site2, Site2]) -> None:
    railway, local, live = two
    for site, word in ((local, "mine"), (live, "theirs")):
        site.run("INSERT INTO settings VALUES ('api_key', ?)", f"word-{word}")
        site.run("UPDATE entries SET title = ? WHERE id = 3", f"\x1b[31m{word}")
    said = railway.vetrin(*UPWARDS, "--dry-run", code=5)
    assert "(not shown)" in said and "word-" not in said and "\x1b" not in said
    found = railway.vetrin(*UPWARDS, "--json", code=5)
    assert "word-" not in found
    decided = json.loads(found)
    for conflict in decided["conflicts"]:
        conflict["take"] = "local"
    path = railway.folder / "decided.json"
    path.write_text(json.dumps(decided))
    railway.vetrin(*UPWARDS, "--decisions", str(path))
    assert live.one("SELECT value FROM settings WHERE name = 'api_key'") == "word-mine"


def test_a_dry_run_says_it_all_and_writes_nothing(two: tuple[Railway, Site2, Site2]) -> None:
    railway, local, live = two
    local.write("Members area")
    live.run("INSERT INTO bookings (entry_id, name, seats) VALUES (5, 'Tamsin Oakhollow', 2)")
    before = live.path.read_bytes()
    runs = sorted((railway.folder / ".vetrin/runs").iterdir())
    said = railway.vetrin("push", "production", "--parts", "data", "--dry-run")
    assert "+ Members area" in said and "bookings 1 added" in said
    assert live.path.read_bytes() == before
    assert sorted((railway.folder / ".vetrin/runs").iterdir()) == runs


def test_settings_are_merged_by_their_parts(two: tuple[Railway, Site2, Site2]) -> None:
    railway, local, live = two

    def put(site: Site2, old: str, new: str) -> None:
        value = str(site.one("SELECT value FROM settings WHERE name = 'theme'"))
        lengths = {len(old.encode()), len(new.encode())}
        assert old in value and len(lengths) == 1  # so that no length has to be put right
        site.run("UPDATE settings SET value = ? WHERE name = 'theme'", value.replace(old, new))

    put(local, "Fünf Stationen", "Acht Stationen!")
    put(live, "train-01", "train-02")
    own = live.one("SELECT value FROM settings WHERE name = 'address'")
    railway.vetrin(*UPWARDS)
    value = str(live.one("SELECT value FROM settings WHERE name = 'theme'"))
    assert "Acht Stationen!" in value and f"{live.address}/media/2026/04/train-02" in value
    assert local.address not in value
    assert live.one("SELECT value FROM settings WHERE name = 'address'") == own
    assert live.one("SELECT value FROM settings WHERE name = 'hidden_from_search'") == "no"


def test_a_broken_value_does_not_go_up(two: tuple[Railway, Site2, Site2]) -> None:
    railway, local, live = two
    value = str(local.one("SELECT value FROM settings WHERE name = 'theme'"))
    local.run(
        "UPDATE settings SET value = ? WHERE name = 'theme'",
        value.replace("all aboard", "mind the gap"),
    )
    before = live.one("SELECT value FROM settings WHERE name = 'theme'")
    found = json.loads(railway.vetrin(*UPWARDS, "--json"))
    assert "vetrin heal local" in found["not_merged"]["settings theme"]
    assert live.one("SELECT value FROM settings WHERE name = 'theme'") == before


def test_what_visitors_made_stays_unless_somebody_says_otherwise(
    two: tuple[Railway, Site2, Site2],
) -> None:
    railway, local, live = two
    entry = live.one("SELECT entry_id FROM comments GROUP BY entry_id ORDER BY count(*) DESC")
    comments = live.one("SELECT count(*) FROM comments WHERE entry_id = ?", entry)
    local.run("DELETE FROM comments WHERE entry_id = ?", entry)
    local.run("DELETE FROM bookings WHERE entry_id = ?", entry)
    local.run("DELETE FROM entries WHERE id = ?", entry)
    found = json.loads(railway.vetrin(*UPWARDS, "--json", code=5))
    assert [one["kind"] for one in found["conflicts"]] == ["removed-here"]
    assert found["kept"]["comments"] == comments
    railway.vetrin(*UPWARDS, "--prefer", "production")
    assert live.one("SELECT count(*) FROM comments WHERE entry_id = ?", entry) == comments
    assert live.one("SELECT count(*) FROM entries WHERE id = ?", entry) == 1


def test_an_entry_that_was_removed_there_comes_back_with_what_belongs_to_it(
    two: tuple[Railway, Site2, Site2],
) -> None:
    railway, local, live = two
    entry = live.one("SELECT entry_id FROM bookings GROUP BY entry_id ORDER BY count(*) DESC")
    bookings = live.one("SELECT count(*) FROM bookings WHERE entry_id = ?", entry)
    for table, column in (("bookings", "entry_id"), ("comments", "entry_id"), ("entries", "id")):
        live.run(f"DELETE FROM {table} WHERE {column} = ?", entry)
    local.run("UPDATE entries SET title = 'Steam Gala, again' WHERE id = ?", entry)
    found = json.loads(railway.vetrin(*UPWARDS, "--json", code=5))
    assert [one["kind"] for one in found["conflicts"]] == ["removed-there"]
    railway.vetrin(*UPWARDS, "--prefer", "local")
    assert live.one("SELECT title FROM entries WHERE id = ?", entry) == "Steam Gala, again"
    assert live.one("SELECT count(*) FROM bookings WHERE entry_id = ?", entry) == bookings
    assert json.loads(railway.vetrin(*UPWARDS, "--json"))["tables"] == []


def test_an_undone_pull_takes_the_merges_on_top_of_it_along(
    two: tuple[Railway, Site2, Site2],
) -> None:
    """What a merge left in common counts only on top of the transfer that it was made on."""
    railway, local, live = two
    local.write("Members area")
    railway.vetrin("pull", "--full", "--yes")
    local.write("Joining")
    railway.vetrin(*UPWARDS)
    railway.vetrin("undo", "local", "--yes")  # the second pull
    found = json.loads(railway.vetrin(*UPWARDS, "--dry-run", "--json"))
    assert [one["title"] for one in found["rows"]] == ["Members area"]
    assert live.one("SELECT count(*) FROM entries WHERE title = 'Joining'") == 1


def test_without_the_record_of_a_merge_a_pull_goes_on_and_merges_are_refused(
    two: tuple[Railway, Site2, Site2],
) -> None:
    railway, local, _ = two
    local.write("Members area")
    railway.vetrin(*UPWARDS)
    (record,) = (railway.folder / ".vetrin").rglob("common.jsonl")
    record.write_bytes(b"\x00 no record")
    railway.vetrin(*UPWARDS, code=5)
    found = json.loads(railway.vetrin("changes", "local", "--json", code=4))
    assert [one["title"] for one in found["entries"]] == ["Members area"]  # since the transfer
    assert "Members area" in railway.vetrin("pull", "--dry-run")
    railway.vetrin("pull", "--yes")
    assert json.loads(railway.vetrin(*UPWARDS, "--json"))["tables"] == []


def test_a_name_that_is_taken_gets_a_number(two: tuple[Railway, Site2, Site2]) -> None:
    railway, local, live = two
    local.write("Snow", slug="snow")
    live.write("Snow on the line", slug="snow")
    found = json.loads(railway.vetrin(*UPWARDS, "--json"))
    assert found["renamed"] == [{"table": "entries", "old": "snow", "new": "snow-2"}]
    assert live.one("SELECT slug FROM entries WHERE title = 'Snow'") == "snow-2"


def test_overwriting_on_purpose_is_still_possible(two: tuple[Railway, Site2, Site2]) -> None:
    railway, local, live = two
    local.write("Members area")
    live.write("Snow on the line")
    words = ("push", "production", "--parts", "data", "--overwrite")
    document = json.loads(railway.vetrin(*words, "--dry-run", "--json"))
    assert [one["title"] for one in document["own_changes"]["entries"]] == ["Snow on the line"]
    said = railway.vetrin(*words, "--confirm", "production")
    assert "Overwritten: what changed in production since run 1: 1 entry (Snow on the line)" in said
    assert live.one("SELECT count(*) FROM entries WHERE title = 'Snow on the line'") == 0
    assert live.one("SELECT count(*) FROM entries WHERE title = 'Members area'") == 1


def test_pictures_come_along_and_get_a_name_of_their_own(two: tuple[Railway, Site2, Site2]) -> None:
    railway, local, live = two
    for site, content in ((local, b"an engine of local"), (live, b"another engine, of production")):
        folder = railway.folder / site.path.parent.parent.name / "media/2026/11"
        folder.mkdir(parents=True)
        (folder / "engine.png").write_bytes(content)
    (railway.folder / "local/media/2026/11/tender.png").write_bytes(b"a tender")
    local.write(
        "Our engines",
        '<img src="HOME/media/2026/11/engine.png"> <img src="HOME/media/2026/11/tender.png">',
    )
    live.write("Live engines", '<img src="HOME/media/2026/11/engine.png">')
    found = json.loads(railway.vetrin(*UPWARDS, "--json"))
    assert {one["target"] for one in found["files"]} >= {
        "media/2026/11/engine-2.png", "media/2026/11/tender.png"
    }  # fmt: skip
    media = railway.folder / "production/media/2026/11"
    assert (media / "engine.png").read_bytes() == b"another engine, of production"
    assert (media / "engine-2.png").read_bytes() == b"an engine of local"
    assert (media / "tender.png").read_bytes() == b"a tender"
    body = live.one("SELECT body FROM entries WHERE title = 'Our engines'")
    assert body == (
        f'<img src="{live.address}/media/2026/11/engine-2.png"> <img src="{live.address}/media/2026/11/tender.png">'
    )
    body = live.one("SELECT body FROM entries WHERE title = 'Live engines'")
    assert body == f'<img src="{live.address}/media/2026/11/engine.png">'
    railway.vetrin("undo", "production", "--confirm", "production")
    assert sorted(path.name for path in media.iterdir()) == ["engine.png"]


def test_a_new_table_comes_as_a_whole_and_names_rows_as_they_are_there(
    two: tuple[Railway, Site2, Site2],
) -> None:
    railway, local, live = two
    toml = railway.folder / "vetrin.toml"
    toml.write_text(
        toml.read_text() + '\n[[merge.link]]\nfrom = "stamps.entry_id"\nto = "entries.id"\n'
    )
    entry = local.write("Members area")
    live.write("Snow on the line")
    local.run("CREATE TABLE stamps (id INTEGER PRIMARY KEY, entry_id INTEGER, link TEXT)")
    local.run("INSERT INTO stamps VALUES (1, ?, ?)", entry, f"{local.address}/entry/1")
    found = json.loads(railway.vetrin(*UPWARDS, "--json"))
    assert found["new_tables"] == ["stamps"]
    members = live.one("SELECT id FROM entries WHERE title = 'Members area'")
    assert live.one("SELECT entry_id FROM stamps") == members != entry
    assert live.one("SELECT link FROM stamps") == f"{live.address}/entry/1"
    railway.vetrin("undo", "production", "--confirm", "production")
    assert live.one("SELECT count(*) FROM sqlite_master WHERE name = 'stamps'") == 0


def test_a_copy_that_was_moved_since(two: tuple[Railway, Site2, Site2]) -> None:
    """What names its old place is no change of its own, and comes up as what names the new one does."""
    railway, local, live = two
    old, new, there = (railway.folder / name for name in ("local", "copies/local", "production"))
    live.run("UPDATE entries SET body = body || ? WHERE id = 1", f"<img src='{there}/media/a.png'>")
    railway.vetrin("pull", "--yes")
    new.parent.mkdir()
    old.rename(new)
    toml = railway.folder / "vetrin.toml"
    toml.write_text(toml.read_text().replace('root = "local"', 'root = "copies/local"'))
    assert json.loads(railway.vetrin("changes", "local", "--json"))["same"] is True
    local.path = new / "data/harrowmere.sqlite"
    assert f"{old}/media/a.png" in str(local.one("SELECT body FROM entries WHERE id = 1"))
    found = json.loads(railway.vetrin("strays", "local", "--json", code=4))
    assert found["mend"] == [f"vetrin rewrite local --replace {old}={new}"]
    # Rewritten as `strays` says, it is none either.
    railway.vetrin(*shlex.split(found["mend"][0].removeprefix("vetrin ")), "--yes")
    assert json.loads(railway.vetrin("changes", "local", "--json"))["same"] is True
    railway.vetrin("undo", "local", "--yes")
    local.write("Members area", f"<img src='{old}/media/b.png'><img src='{new}/media/c.png'>")
    report = json.loads(railway.vetrin(*UPWARDS, "--json"))
    assert [table["name"] for table in report["tables"]] == ["entries"]
    body = live.one("SELECT body FROM entries WHERE title = 'Members area'")
    assert body == f"<img src='{there}/media/b.png'><img src='{there}/media/c.png'>"
    railway.vetrin("pull", "--yes")
    assert str(old) + "/" not in str(local.one("SELECT group_concat(body) FROM entries"))
    assert f"{new}/media/a.png" in str(local.one("SELECT body FROM entries WHERE id = 1"))


def test_a_copy_that_got_another_address_since(two: tuple[Railway, Site2, Site2]) -> None:
    """What names its old one is no change of its own, and comes up as what names the new one does."""
    railway, local, live = two
    railway.vetrin("pull", "--yes")
    toml = railway.folder / "vetrin.toml"
    old, new = (
        load_project(railway.folder).environment("local").address,
        "http://copy.localhost:9999",
    )
    toml.write_text(toml.read_text().replace(f'address = "{old}"', f'address = "{new}"'))
    assert str(old) in str(local.one("SELECT group_concat(body) FROM entries"))
    assert json.loads(railway.vetrin("changes", "local", "--json"))["same"] is True
    local.write("Members area", f"<a href='{old}/b'></a><a href='{new}/c'></a>")
    local.run("UPDATE entries SET title = 'Fares this year' WHERE id = 2")
    found = json.loads(railway.vetrin("changes", "local", "--json", code=4))
    assert {entry["title"] for entry in found["entries"]} == {"Members area", "Fares this year"}
    report = json.loads(railway.vetrin(*UPWARDS, "--json"))
    assert [table["name"] for table in report["tables"]] == ["entries"]
    there = load_project(railway.folder).environment("production").address
    body = live.one("SELECT body FROM entries WHERE title = 'Members area'")
    assert body == f"<a href='{there}/b'></a><a href='{there}/c'></a>"
    # The next pull brings all of it to the new one.
    railway.vetrin("pull", "--yes")
    assert str(old) not in str(local.one("SELECT group_concat(body) FROM entries"))
    assert json.loads(railway.vetrin("changes", "local", "--json"))["same"] is True


@pytest.fixture
def far(
    two: tuple[Railway, Site2, Site2], ssh: SshServer, monkeypatch: pytest.MonkeyPatch
) -> tuple[Railway, Site2, Site2]:
    """The same with production on a host."""
    railway, local, live = two
    monkeypatch.setenv("HOME", str(ssh.home))
    toml = railway.folder / "vetrin.toml"
    host = f'host = "ssh://{ssh.name}"\nroot = "{railway.folder / "production"}"'
    toml.write_text(toml.read_text().replace('root = "production"', host))
    railway.vetrin("pull", "--yes")
    return railway, local, live


def test_a_merge_over_ssh_goes_both_ways(far: tuple[Railway, Site2, Site2]) -> None:
    railway, local, live = far
    first = local.write("Members area", '<img src="HOME/media/2026/11/engine.png">')
    folder = railway.folder / "local/media/2026/11"
    folder.mkdir(parents=True)
    (folder / "engine.png").write_bytes(b"an engine")
    assert live.write("Snow on the line") == first
    report = json.loads(railway.vetrin(*UPWARDS, "--json"))
    assert [one["target"] for one in report["files"]] == ["media/2026/11/engine.png"]
    assert (railway.folder / "production/media/2026/11/engine.png").read_bytes() == b"an engine"
    body = f'<img src="{live.address}/media/2026/11/engine.png">'
    assert live.one("SELECT body FROM entries WHERE title = 'Members area'") == body
    railway.vetrin("pull", "--merge", "--yes")
    assert local.one("SELECT count(*) FROM entries WHERE title = 'Snow on the line'") == 1
    assert json.loads(railway.vetrin(*UPWARDS, "--json"))["tables"] == []
    railway.vetrin("undo", "local", "--yes")
    assert local.one("SELECT count(*) FROM entries WHERE title = 'Snow on the line'") == 0


@pytest.fixture
def wire(ssh: SshServer) -> Iterator[Between]:
    """What stands between the program and the SSH server."""
    wire = Between(ssh.port)
    files = [ssh.home / ".ssh" / name for name in ("config", "known_hosts")]
    for path in files:
        path.write_text(path.read_text().replace(str(ssh.port), str(wire.port)))
    yield wire
    for path in files:
        path.write_text(path.read_text().replace(str(wire.port), str(ssh.port)))


def test_a_line_that_is_cut_leaves_the_old_or_the_merged(
    far: tuple[Railway, Site2, Site2], wire: Between
) -> None:
    """At moments all through a merge; the same command then goes on, and undo takes it back."""
    railway, local, live = far
    local.write("Members area", '<img src="HOME/media/2026/11/engine.png">')
    local.run("UPDATE entries SET title = 'Tickets' WHERE id = 3")
    picture = railway.folder / "local/media/2026/11/engine.png"
    picture.parent.mkdir(parents=True)
    picture.write_bytes(b"an engine")
    there = railway.folder / "production/media/2026/11/engine.png"
    live.write("Snow on the line")

    def content() -> tuple[object, ...]:
        titles = (
            "SELECT group_concat(title || body, '|') FROM (SELECT * FROM entries ORDER BY title)"
        )
        return live.one(titles), there.exists()

    def vetrin(*words: str) -> subprocess.CompletedProcess[str]:
        line = [sys.executable, "-m", "vetrin", *words]
        return subprocess.run(line, cwd=railway.folder, capture_output=True, text=True)

    old = content()
    wire.arm(1 << 30, lambda piece: True)
    railway.vetrin(*UPWARDS)
    pieces, merged = wire.seen, content()
    assert pieces > 20 and merged != old
    wire.arm(1 << 30, lambda piece: True)
    railway.vetrin(*UNDO)
    back = wire.seen
    assert content() == old
    cuts = again = 0
    for part in (30, 45, 75, 88, 95):  # before, it is only just connecting
        at = pieces * part // 100
        wire.arm(at, lambda piece: True, answered=at % 2 == 0)
        done = vetrin(*UPWARDS)
        cuts += wire.disarm()
        again += "trying again" in done.stderr
        assert not done.returncode, (at, done.stderr)
        assert content() == merged, at
        wire.arm(back * part // 100, lambda piece: True)
        done = vetrin(*UNDO)
        cuts += wire.disarm()
        assert "Traceback" not in done.stderr, done.stderr
        assert content() == (merged if done.returncode else old), (part, done.stderr)
        if done.returncode:
            railway.vetrin(*UNDO)
        assert content() == old, part
    # How many pieces there are is never quite the same.
    assert cuts >= 7 and again >= 3


def test_a_line_that_stays_away_ends_a_merge_with_an_error(
    far: tuple[Railway, Site2, Site2], wire: Between
) -> None:
    """What stands there then is old or merged; the same command goes on once the line is back."""
    railway, local, live = far
    local.write("Members area", "Opens in May")
    soon = (
        "import sys; from vetrin.jobs import reconnect; reconnect.PAUSES = (0.1, 0.2)\n"
        "from vetrin.cli.main import main; sys.exit(main())"
    )
    wire.arm(1 << 30, lambda piece: True)
    railway.vetrin(*UPWARDS)
    pieces = wire.seen
    railway.vetrin(*UNDO)
    ended = 0
    # A slow run sends more signs of life, so the one that was counted may have sent more than those that are cut.
    for part in (20, 40, 60, 85):

        def stay_away() -> None:
            wire.closed = True

        wire.arm(pieces * part // 100, lambda piece: True, stay_away)
        done = subprocess.run(
            [sys.executable, "-c", soon, *UPWARDS],
            cwd=railway.folder, capture_output=True, text=True, timeout=120,
        )  # fmt: skip
        wire.disarm()
        ended += done.returncode != 0
        assert "Traceback" not in done.stderr
        # It says what stands there, or what to do.
        assert not done.returncode or "→ " in done.stderr, done.stderr
        titles = "SELECT count(*) FROM entries WHERE title = 'Members area'"
        assert live.one(titles) in ((0, 1) if done.returncode else (1,))
        railway.vetrin(*UPWARDS)
        assert live.one(titles) == 1
        railway.vetrin(*UNDO)
        assert live.one(titles) == 0
    assert ended >= 3


def test_a_conflict_is_decided_at_a_terminal(two: tuple[Railway, Site2, Site2]) -> None:
    railway, local, live = two
    for number, title in ((3, "Tickets"), (2, "Timetable of local"), (4, "Plan of local")):
        local.run("UPDATE entries SET title = ? WHERE id = ?", title, number)
        live.run("UPDATE entries SET title = ? WHERE id = ?", f"{title} live", number)
    code, said = answer(
        railway.folder, b"2\n1\n3\nAll fares\nproduction\n", "push", "production", "--parts", "data"
    )
    assert code == 0, said
    assert "Conflict 1 of 3" in said and "3 conflicts decided" in said
    titles = {live.one("SELECT title FROM entries WHERE id = ?", number) for number in (2, 3, 4)}
    assert len(titles) == 3 and "All fares" in titles
    assert len([title for title in titles if str(title).endswith("live")]) == 1


def test_all_that_is_left_is_decided_at_once(two: tuple[Railway, Site2, Site2]) -> None:
    railway, local, live = two
    for number in (2, 3, 4):
        local.run("UPDATE entries SET title = ? WHERE id = ?", f"Here {number}", number)
        live.run("UPDATE entries SET title = ? WHERE id = ?", f"There {number}", number)
    code, said = answer(
        railway.folder, b"1\n5\nproduction\n", "push", "production", "--parts", "data"
    )
    assert code == 0 and "local's, for all 2 that are left" in said, said
    titles = [
        str(live.one("SELECT title FROM entries WHERE id = ?", number)) for number in (2, 3, 4)
    ]
    assert sorted(title.split()[0] for title in titles) == ["Here", "Here", "There"]


def test_what_visitors_write_while_it_runs_is_all_there(line: Line) -> None:
    """Counted: each row that a visitor wrote, and each change, while merges come and go."""
    merging = Merging(line)
    line.pull()
    ended, written = threading.Event(), []

    def visit() -> None:
        number = 100_000
        while not ended.is_set():
            number += 1
            line.sides["production"](
                f"INSERT INTO x_calls VALUES ({number}, 1, 'visitor {number}')"
            )
            line.sides["production"](
                f"UPDATE x_stops SET name = 'seen {number}' WHERE code = 'stop1'"
            )
            written.append(number)
            time.sleep(0.002)

    visitor = threading.Thread(target=visit)
    visitor.start()
    try:
        for turn in range(3):
            line.sides["local"](
                f"UPDATE x_trains SET log = 'mine {turn}' WHERE id = {3 * turn}",
                f"INSERT INTO x_trains VALUES ({9000 + turn}, 'new {turn}', 1)",
            )
            merging.run("local", "production")
    finally:
        ended.set()
        visitor.join()
    rows = held(line.rows("production"), merging.name("trains"))
    texts = [str(row[1]).strip("b'") for row in rows.values()]
    calls = held(line.rows("production"), merging.name("calls"))
    seen = {str(row[2]).strip("b'") for row in calls.values()}
    assert len(written) > 3
    assert {f"visitor {number}" for number in written} <= seen
    assert {f"mine {turn}" for turn in range(3)} <= {*texts}
    assert {f"new {turn}" for turn in range(3)} <= {*texts}
    stops = held(line.rows("production"), merging.name("stops"))
    assert any(f"seen {written[-1]}" in str(row[1]) for row in stops.values())
