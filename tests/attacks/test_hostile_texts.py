"""Texts of a site that would do something to the terminal they are shown on, and streams that are not what they
usually are."""

from __future__ import annotations

import json
import os
import re
import sqlite3
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from test_command_line import vetrin
from vetrin.cli.outlets import as_json, shown
from vetrin.demo.sample import Sample

HARM = "\x1b]0;owned\x07\x1b[2J\x9b1A\u202e"
_HARMFUL = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")


@pytest.fixture
def hacked(served: Sample) -> Sample:
    """Whoever broke into production left such texts wherever some can be."""
    root = served.root("production")
    with sqlite3.connect(root / "data/harrowmere.sqlite") as connection:
        connection.execute("UPDATE entries SET title = ? || title", [HARM])
        connection.execute("UPDATE settings SET value = value || ? WHERE name = 'title'", [HARM])
        connection.execute(f'CREATE TABLE "zz{HARM}" ("c{HARM}" TEXT)')
        connection.execute(
            f'INSERT INTO "zz{HARM}" VALUES (?)', ["https://www.harrowmere.example" + HARM]
        )
        connection.execute(f'CREATE VIEW "seen{HARM}" AS SELECT 1')
    connection.close()
    for place in (f"media/2026/{HARM}.png", f"extras/box{HARM}/extra.toml"):
        path = root / place
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(f'title = "{"x"}"\n')
    (root / f"media/2026/link{HARM}").symlink_to("../../../out")
    return served


def test_no_text_of_a_site_reaches_the_terminal_as_it_is(hacked: Sample) -> None:
    folder = hacked.folder
    commands = (
        ("status",), ("survey", "production"), ("compare", "production", "local"), ("reach", "production"),
        ("pull", "--dry-run", "--list", "--parts", "data,media,code"),
        ("pull", "--yes", "--list", "--parts", "data,media,code"),
        ("strays", "local"), ("heal", "local", "--dry-run"), ("check", "local"), ("history",),
        ("rewrite", "local", "--replace", "Railway=Line", "--dry-run"),
        ("backup", "production"), ("snapshots",), ("export", "production", "out.zip"),
        ("import", "out.zip", "local", "--yes"), ("undo", "local", "--yes"),
    )  # fmt: skip
    seen = 0
    for words in commands:
        for more in ((), ("--json",)):
            said = vetrin(folder, *words, *more, code=None)
            assert said.returncode in (0, 4), (words, said.stderr)
            for text in (said.stdout, said.stderr):
                assert not _HARMFUL.search(text), (words, more, _HARMFUL.search(text))
            seen += "owned" in said.stdout + said.stderr
            if more:
                json.loads(said.stdout)
            (folder / "out.zip").unlink(missing_ok=True) if words[
                0
            ] == "export" and not more else None
    assert seen >= 8


@given(st.text())
def test_what_is_shown_can_be_seen(text: str) -> None:
    assert not _HARMFUL.search(shown(text))
    assert json.loads(as_json(json.dumps(text, ensure_ascii=False))) == text


def run(
    folder: Path, *words: str, shell: str = "", **environ: str
) -> subprocess.CompletedProcess[str]:
    command = f'"{sys.executable}" -m vetrin {" ".join(words)} {shell}'
    return subprocess.run(
        ["bash", "-c", f"set -o pipefail; {command}"], cwd=folder, capture_output=True, text=True,
        env={**os.environ, "NO_COLOR": "1", **environ},
    )  # fmt: skip


STREAMS = {
    "closed output": ">&-",
    "closed input": "<&-",
    "all closed": "<&- >&- 2>&-",
    "full output": ">/dev/full",
    "full messages": "2>/dev/full",
    "a reader that goes": "| head -c 1 >/dev/null",
    "messages to a reader that goes": "2>&1 | head -c 1 >/dev/null",
}


@pytest.mark.parametrize("shell", STREAMS.values(), ids=STREAMS)
def test_what_becomes_of_its_words_does_not_change_a_run(sample: Sample, shell: str) -> None:
    done = run(sample.folder, "pull", "--yes", shell=shell)
    assert done.returncode == 0, done.stderr
    assert "Exception" not in done.stderr
    runs = json.loads(vetrin(sample.folder, "history", "--json").stdout)["runs"]
    assert [one["outcome"] for one in runs] == ["done, can be undone"]


def test_a_look_whose_output_is_full_has_failed(sample: Sample) -> None:
    done = run(sample.folder, "status", "--json", shell=">/dev/full")
    assert done.returncode == 1 and "could not be written: No space left" in done.stderr
    assert run(sample.folder, "status", shell="| head -c 1 >/dev/null").returncode == 0


@pytest.mark.parametrize("encoding", ["ascii", "latin-1", "cp437", "utf-16"])
def test_an_encoding_without_our_letters_ends_no_run(sample: Sample, encoding: str) -> None:
    done = subprocess.run(
        [sys.executable, "-m", "vetrin", "pull", "--yes"], cwd=sample.folder, capture_output=True,
        env={**os.environ, "PYTHONIOENCODING": encoding},
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    assert "Run 1" in (done.stdout + done.stderr).decode(encoding, "replace")
