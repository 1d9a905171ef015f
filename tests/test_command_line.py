"""The built program, driven as a user would, on the sample project."""

from __future__ import annotations

import base64
import json
import os
import shutil
import sqlite3
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

from documents import held
from systems import answer
from vetrin.cli.parser import COMMANDS, build_parser, command_parser
from vetrin.demo.sample import Sample, lay_out, servers
from vetrin.demo.walk import fingerprint


def vetrin(
    folder: Path, *arguments: str, code: int | None = 0, **environ: str
) -> subprocess.CompletedProcess[str]:
    done = subprocess.run(
        [sys.executable, "-m", "vetrin", *arguments], cwd=folder, capture_output=True, text=True,
        stdin=subprocess.DEVNULL, env={**os.environ, "NO_COLOR": "1", **environ},
    )  # fmt: skip
    assert code is None or done.returncode == code, done.stdout + done.stderr
    assert "Traceback" not in done.stderr
    return done


def document(folder: Path, *arguments: str, code: int = 0, **environ: str) -> dict:
    return held(json.loads(vetrin(folder, *arguments, "--json", code=code, **environ).stdout))


@pytest.fixture(scope="module")
def served(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Sample]:
    sample = lay_out(tmp_path_factory.mktemp("demo") / "railway")
    with servers(sample):
        yield sample


def change(root: Path, *statements: str) -> None:
    connection = sqlite3.connect(root / "data/harrowmere.sqlite")
    for statement in statements:
        connection.execute(statement)
    connection.commit()
    connection.close()


def test_the_demo_does_what_it_says(tmp_path: Path) -> None:
    done = vetrin(tmp_path, "demo", "--into", "railway")
    assert "14 of 14" in done.stdout
    assert "What to try next" in done.stdout
    assert (tmp_path / "railway/vetrin.toml").is_file()
    assert "not empty" in vetrin(tmp_path, "demo", "--into", "railway", code=1).stderr


def test_the_sample_is_the_same_each_time(tmp_path: Path) -> None:
    one, two = lay_out(tmp_path / "one"), lay_out(tmp_path / "two")
    for name in one.ports:
        ours, theirs = fingerprint(one.root(name)), fingerprint(two.root(name))
        same = {key for key in ours if ours[key] == theirs[key]}
        # Only what holds the folder's own path differs.
        assert set(ours) - same <= {"settings", "entries", "pictures"}


def test_check_finds_what_is_wrong(served: Sample) -> None:
    folder, root = served.folder, served.root("local")
    assert document(folder, "check", "production")["good"]
    vetrin(folder, "pull", "--yes")
    assert document(folder, "check", "local")["good"]
    live = served.address("production")
    change(root, f"UPDATE entries SET body = body || '<a href=\"{live}/x\">' WHERE slug = 'timetable'",
           "UPDATE entries SET title = 'Changed here' WHERE slug = 'fares'",
           "DELETE FROM bookings WHERE id < 5")  # fmt: skip
    shutil.rmtree(root / "media/2026/05")
    found = document(folder, "check", "local", code=4)
    said = " ".join(f"{item['where']} {item['what']}" for item in found["findings"])
    assert "leads to production" in said
    assert "entries.body 1 references to production" in said
    assert "answers 404" in said
    assert "236 bookings here, 240 came from production" in said
    change(root, f"UPDATE settings SET value = '{live}' WHERE name = 'address'")
    assert "redirects to production" in vetrin(folder, "check", "local", code=4).stdout
    vetrin(folder, "undo", "local", "--yes")
    # Staging was copied by hand, and it shows.
    found = document(folder, "check", "staging", code=4)
    assert {item["where"] for item in found["findings"]} > {"entries.body", "settings.value"}


def test_reach_names_each_failure_and_its_remedy(sample: Sample) -> None:
    found = document(sample.folder, "reach", "local", code=1)
    assert [p["part"] for p in found["proofs"] if not p["good"]] == ["address"]
    (sample.root("local") / "data/harrowmere.sqlite").write_bytes(b"no database at all, " * 100)
    found = document(sample.folder, "reach", "local", code=1)
    bad = {p["part"]: p for p in found["proofs"] if not p["good"]}
    assert "is no readable database" in bad["database"]["says"]
    shutil.rmtree(sample.root("local") / "fishplate")
    found = document(sample.folder, "reach", "local", code=1)
    assert "no root of Fishplate: fishplate/version.toml missing" in found["proofs"][0]["says"]
    assert found["proofs"][0]["remedy"]


def test_status_goes_on_where_one_environment_is_broken(sample: Sample) -> None:
    shutil.rmtree(sample.root("staging"))
    (sample.root("staging")).touch()
    done = vetrin(sample.folder, "status", code=1)
    assert "staging: there is no folder" in done.stderr
    found = {e["name"]: e for e in document(sample.folder, "status", code=1)["environments"]}
    assert found["staging"]["standing"] is None
    assert found["production"]["standing"]["counts"]["bookings"] == 240
    assert found["production"]["standing"]["newest"]["title"] == "Lost glove, found glove, part two"


def test_a_dry_run_of_a_repeat_pull_says_what_waits(sample: Sample) -> None:
    folder = sample.folder
    document(folder, "pull", "--yes")
    assert (
        "Waiting: nothing new in production since run 1"
        in vetrin(folder, "pull", "--dry-run").stdout
    )
    change(sample.root("production"), "UPDATE entries SET title = 'Santa specials' WHERE id = 3")
    plan = document(folder, "pull", "--dry-run")
    assert plan["since_run"] == 1 and "rewriting" not in plan
    assert [entry["title"] for entry in plan["waiting"]["entries"]] == ["Santa specials"]
    said = vetrin(folder, "pull", "--dry-run").stdout
    assert (
        "Waiting: new in production since run 1" in said
        and ": 1 entry (Santa specials); 1 row" in said
    )
    for words in (["--full"], ["--leave-rows", "spam-comments"]):
        plan = document(folder, "pull", "--dry-run", *words)
        assert "waiting" not in plan and plan["rewriting"]["replaced"] > 100


def test_a_dry_run_counts_what_the_run_rewrites(sample: Sample) -> None:
    before = {name: fingerprint(sample.root(name)) for name in sample.ports}
    plan = document(sample.folder, "pull", "--dry-run")
    assert {name: fingerprint(sample.root(name)) for name in sample.ports} == before
    report = document(sample.folder, "pull", "--yes")
    assert plan["rewriting"] == report["rewriting"]
    assert report["tables"] == {t["name"]: t["rows"] for t in plan["tables"]}
    assert fingerprint(sample.root("production")) == before["production"]
    connection = sqlite3.connect(sample.root("local") / "data/harrowmere.sqlite")
    live = [name for name in report["tables"] if not name.startswith("_")]
    rows = [repr(connection.execute(f"SELECT * FROM {name}").fetchall()) for name in live]
    connection.close()
    rewritten = "".join(rows).replace("https://www.harrowmere.example/?entry=", "")
    assert "www.harrowmere.example" not in rewritten
    assert sample.address("production") not in rewritten
    assert "desk@harrowmere.example" in rewritten
    feed = json.loads(base64.b64decode(value(sample.root("local"), "partner_feed")))
    assert feed == {"link": f"{sample.address('local')}/timetable"}


def test_broken_values_are_named_by_table_column_and_key(sample: Sample) -> None:
    live = sample.address("production")
    change(
        sample.root("production"),
        f"UPDATE settings SET value = 'a:1:{{i:0;s:3:\"{live}\";}}' WHERE name = 'menu'",
    )
    report = document(sample.folder, "pull", "--yes")
    assert report["rewriting"]["broken"] == [
        {"table": "settings", "column": "value", "key": "name=menu"}
    ]
    for column in report["rewriting"]["columns"]:
        assert sum(place["count"] for place in column["places"]) == column["replaced"]
    connection = sqlite3.connect(sample.root("local") / "data/harrowmere.sqlite")
    assert connection.execute("SELECT value FROM settings WHERE name = 'menu'").fetchone() == (
        f'a:1:{{i:0;s:3:"{live}";}}',
    )
    connection.close()


def test_guards(sample: Sample) -> None:
    folder = sample.folder
    assert (
        "read-only"
        in vetrin(
            folder, "pull", "staging", "--to", "production", "--confirm=production", code=5
        ).stderr
    )
    text = (folder / "vetrin.toml").read_text()
    (folder / "vetrin.toml").write_text(text.replace('"read-only"', '"read-write"'))
    for wrong in ("--yes", "--confirm=staging"):
        vetrin(folder, "pull", "staging", "--to", "production", wrong, code=5)
    assert "Nobody is there to confirm" in vetrin(folder, "pull", code=5).stderr
    before = fingerprint(sample.root("production"))
    vetrin(folder, "pull", "staging", "--to", "production", "--confirm=production")
    vetrin(folder, "undo", "production", "--yes", code=5)
    vetrin(folder, "undo", "production", "--confirm=production")
    assert fingerprint(sample.root("production")) == before
    (folder / "vetrin.toml").write_text(text.replace('"read-only"', '"closed"'))
    assert "is closed" in vetrin(folder, "pull", "--yes", code=5).stderr
    assert "nothing to undo" in vetrin(folder, "undo", "staging", "--yes").stderr


@pytest.mark.parametrize(
    ("arguments", "code", "said"),
    [
        (["pull", "--to", "lokal"], 2, "no environment 'lokal' in vetrin.toml; did you mean local?"),
        (["pull", "local"], 2, "cannot be pulled into itself"),
        (["pull", "--parts", "data,meida"], 2, "'meida' is none of data, media"),
        (["reach"], 2, "required: ENV"),
        (["fetch"], 2, "there is no command 'fetch'"),
        (["history", "nowhere"], 2, "no environment 'nowhere'"),
        (["demo", "--scale", "0"], 2, "from 1 up"),
        (["status", "--project", "/nowhere"], 2, "no vetrin.toml in /nowhere"),
    ],
)  # fmt: skip
def test_wrong_usage_is_one_clear_message(
    sample: Sample, arguments: list[str], code: int, said: str
) -> None:
    assert said in vetrin(sample.folder, *arguments, code=code).stderr


def test_errors_are_documents_too(sample: Sample) -> None:
    found = document(sample.folder, "pull", code=5)
    assert found["schema"] == "vetrin/error/1"
    assert found["exit_code"] == 5


def value(root: Path, name: str) -> str:
    connection = sqlite3.connect(root / "data/harrowmere.sqlite")
    found = connection.execute("SELECT value FROM settings WHERE name = ?", (name,)).fetchone()[0]
    connection.close()
    return found


def test_rewriting_in_place(sample: Sample) -> None:
    folder, root = sample.folder, sample.root("staging")
    before = fingerprint(root)
    own, secure = sample.address("staging"), "https://staging.harrowmere.test"
    change = ["rewrite", "staging", "--replace", f"{own}={secure}"]
    plan = document(folder, *change, "--dry-run")
    assert fingerprint(root) == before
    assert plan["done"] is False
    assert 'address = "https://staging.harrowmere.test"' in vetrin(folder, *change, "--yes").stdout
    assert value(root, "address") == secure
    assert f's:{len(secure) + 10}:"{secure}/timetable"' in value(root, "menu")
    done = document(folder, "history")["runs"][0]
    assert done["rows"] == sum(plan["rows"].values())
    vetrin(folder, "undo", "staging", "--yes")
    assert fingerprint(root) == before
    vetrin(folder, "undo", "staging", "--yes")
    assert value(root, "address") == secure


def test_a_rewrite_of_chosen_columns_only(sample: Sample) -> None:
    change = ["rewrite", "local", "--literal", "Light Railway=Steam Railway", "--yes"]
    plan = document(sample.folder, *change, "--columns", "settings.value", "--tables", "sett*")
    assert plan["rows"] == {"settings": 1}
    assert value(sample.root("local"), "title") == "Harrowmere Steam Railway"
    assert (
        "no table of local" in vetrin(sample.folder, *change, "--tables", "setings", code=5).stderr
    )
    vetrin(sample.folder, "rewrite", "local", "--yes", code=2)
    for wrong, said in (("harrowmere.example=x.example", "write the address with its scheme"),
                        ("https://x.example=/srv", "is of the kind address"), ("nothing", "write OLD=NEW")):  # fmt: skip
        assert said in vetrin(sample.folder, "rewrite", "local", "--replace", wrong, code=2).stderr


def test_rows_that_the_site_changes_meanwhile_stop_a_rewrite(sample: Sample) -> None:
    root = sample.root("local")
    script = (
        "import sqlite3\n"
        "from vetrin.database.sqlite.database import SqliteDatabase as D\n"
        "real = D.patch\n"
        "def patch(self, patches, *more, **options):\n"
        "    c = sqlite3.connect('local/data/harrowmere.sqlite')\n"
        "    c.execute(\"UPDATE settings SET value = 'now' WHERE name = 'title'\"); c.commit()\n"
        "    D.patch = real\n"
        "    return real(self, patches, *more, **options)\n"
        "D.patch = patch\n"
        "from vetrin.cli import main\n"
        "main(['rewrite', 'local', '--literal', 'Railway=Line', '--yes'])\n"
    )
    before = fingerprint(root)
    done = subprocess.run(
        [sys.executable, "-c", script], cwd=sample.folder, capture_output=True, text=True
    )
    assert done.returncode == 1
    assert "changed 1 of these rows at the same time" in done.stderr
    assert value(root, "title") == "now"
    assert {k: v for k, v in fingerprint(root).items() if k != "settings"} == {
        k: v for k, v in before.items() if k != "settings"
    }


def test_strays_are_listed_with_what_mends_them(sample: Sample) -> None:
    folder = sample.folder
    found = document(folder, "strays", "staging", code=4)
    assert found["strays"] == 55
    assert {item["where"] for item in found["counts"]} == {
        "entries.body",
        "entries.details",
        "settings.value",
    }
    assert len(found["mend"]) == 1
    vetrin(folder, *found["mend"][0].split()[1:], "--yes")
    assert document(folder, "strays", "staging")["good"]
    (sample.root("staging") / "themes/maroon/style.css").write_text(
        f"a {{ background: url({sample.address('production')}/x.png) }} /* {sample.root('local')}/x */"
    )
    assert document(folder, "strays", "staging")["good"]
    found = document(folder, "strays", "staging", "--text-files", code=4)
    assert {(item["where"], item["form"]) for item in found["counts"]} == {
        ("themes/maroon/style.css", "plain"), ("themes/maroon/style.css", "path"),
    }  # fmt: skip
    change(
        sample.root("staging"),
        "UPDATE entries SET body = replace(body, 'http://127.0.0.1', 'http://old.test')",
    )
    found = document(folder, "strays", "staging", code=4)
    assert list(found["candidates"]) == [f"http://old.test:{sample.ports['staging']}"]
    assert "[environment.staging]" in vetrin(folder, "strays", "staging", code=4).stdout


def test_a_pull_tells_of_strays_that_remain(sample: Sample) -> None:
    staging = sample.address("staging")
    change(
        sample.root("production"),
        f"UPDATE settings SET value = '{staging}/x' WHERE name = 'last_booking'",
    )
    report = document(sample.folder, "pull", "--yes")
    assert report["rewriting"]["strays"] == [
        {"table": "settings", "column": "value", "environment": "staging", "count": 1}
    ]


def test_healing_a_site_whose_dump_was_edited(sample: Sample) -> None:
    root, folder = sample.root("local"), sample.folder
    good = {name: value(root, name) for name in ("menu", "theme", "home_blocks")}
    own, other = sample.address("local"), "https://railway.harrowmere.test"
    for table, column in (("settings", "value"), ("bookings", "confirmation")):
        change(root, f"UPDATE {table} SET {column} = replace({column}, '{own}', '{other}')",
               f"UPDATE {table} SET {column} = replace({column}, '{own}', '{other}')".replace("/", "\\/"))  # fmt: skip
    change(root, "INSERT INTO settings VALUES ('hopeless', 'a:1:{i:0;s:9:\"cut off')")
    broken = fingerprint(root)
    found = document(folder, "heal", "local", "--yes", code=4)
    assert found["healed"] >= 98
    assert found["left_values"] == [
        {"table": "settings", "column": "value", "key": "name=hopeless"}
    ]
    vetrin(folder, "rewrite", "local", "--replace", f"{other}={own}", "--yes")
    assert {name: value(root, name) for name in good} == good
    for _ in range(2):
        vetrin(folder, "undo", "local", "--yes")
    change(root, "DELETE FROM settings WHERE name = 'hopeless'")
    assert document(folder, "heal", "local")["healed"] == 0
    assert broken != fingerprint(root)


def test_history_tells_what_was_done(sample: Sample) -> None:
    assert "Nothing was done yet" in vetrin(sample.folder, "history").stdout
    vetrin(sample.folder, "pull", "--yes", "--parts", "data")
    vetrin(sample.folder, "pull", "staging", "--yes", "--parts", "media", "--quiet")
    vetrin(sample.folder, "undo", "local", "--yes")
    runs = document(sample.folder, "history")["runs"]
    assert [(r["run"], r["kind"], r["undone_by"], r["can_be_undone"]) for r in runs] == [
        (3, "undo", None, True), (2, "pull", 3, False), (1, "pull", None, False),
    ]  # fmt: skip
    with (sample.folder / ".vetrin/runs/0003/journal.jsonl").open("a") as file:
        file.write('{"event": "dro')  # a line cut off by a lost power supply
    assert len(document(sample.folder, "history")["runs"]) == 3


def test_init_recognises_a_site(tmp_path: Path, sample: Sample) -> None:
    site = tmp_path / "mine"
    shutil.copytree(sample.root("local"), site / "public")
    done = vetrin(site, "init", "--other", f"production={sample.root('production')}")
    assert "vetrin.toml is written" in done.stdout.replace("\n", "")
    assert document(site, "status")["site"] == "Harrowmere Light Railway"
    assert document(site, "status")["environments"][0]["address"] == sample.address("local")
    assert "is there already" in vetrin(site, "init", code=2).stderr
    (tmp_path / "empty").mkdir()
    assert "no site of a known CMS" in vetrin(tmp_path / "empty", "init", code=2).stderr


def test_help_names_every_command_and_has_examples(tmp_path: Path) -> None:
    text = vetrin(tmp_path, "--help").stdout
    for command in COMMANDS:
        assert f"    {command}" in text
        assert "examples:" in command_parser(build_parser([command]), command).format_help()
    assert "examples:" in vetrin(tmp_path, "pull", "--help").stdout
    assert vetrin(tmp_path, "--version").stdout.startswith("vetrin 0.")
    vetrin(tmp_path, code=2)


def test_at_a_terminal_it_asks(sample: Sample) -> None:
    before = fingerprint(sample.root("local"))
    code, said = answer(sample.folder, b"n\n", "pull")
    assert (code, "not confirmed" in said) == (5, True)
    assert fingerprint(sample.root("local")) == before
    code, said = answer(sample.folder, b"y\n", "pull")
    assert (code, "Run 1" in said) == (0, True)
    assert fingerprint(sample.root("local")) != before
