"""The commands of README and docs, each carried out as it stands there, in a copy of one prepared project."""

from __future__ import annotations

import json
import os
import re
import shlex
import shutil
import sqlite3
import subprocess
import sys
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from test_usage import HOME
from vetrin.cli.parser import parsed
from vetrin.config import VARIABLE
from vetrin.demo.sample import lay_out, servers

# Examples that need another machine, or a site of another kind: where those are carried out.
ELSEWHERE = {
    r"ssh://": "test_first_steps.py, typed at a terminal, and test_ssh.py",
    r"^relay|^init|^serve": "test_first_steps.py, test_relay.py and test_relay_wordpress.py",
    r"https://harrowmere.example/": "test_download.py",
    r"\.sql\b|--sql-only|site-files": "test_archives.py and test_archives_wordpress.py, with SQL of MariaDB",
}
# What is called otherwise in the sample: its definition is not that of WordPress.
NAMES = {
    r"\bk3f9ap\b": "newest",
    r"\brevisions\b": "drafts",
    r"\bposts\.post_content\b": "entries.body",
    r"--rows posts\b": "--rows entries",
    r",booking_dates\b": ",volunteers",
    r"\bactive-plugins\b": "extras",
    r"handover\.zip\.\*": "handover.zip",
}
# These say with 4 that pages differ from what they should be, or environments from one another.
DIFFERENCES = {"check", "compare", "changes", "strays", "push"}
Words = list[str]


def shown() -> list[str]:
    """Every line with a command of the README and the docs, without what is said of it."""
    found: dict[str, None] = {}
    for path in [HOME / "README.md", *sorted((HOME / "docs").glob("*.md"))]:
        for block in re.findall(r"```sh\n(.*?)```", path.read_text(), re.DOTALL):
            for line in re.findall(r"(?:^|&& |; )\s*vetrin ([^&;|\n]*)", block, re.MULTILINE):
                found[re.split(r" {2,}| #| > ", line)[0].strip()] = None
    return list(found)


class Workshop:
    """The sample after a pull, a push to staging and backups, with archives beside it, and work of both sides."""

    def __init__(self, folder: Path) -> None:
        self.base = folder / "base"
        self.sample = lay_out(self.base, 1)
        toml = self.base / "vetrin.toml"
        text = toml.read_text().replace('access = "read-only"', 'access = "read-write"')
        toml.write_text(text + "\n[store.thin]\nnewest = 5\n")
        self.at = folder / "at"
        self.at.mkdir()

    def prepare(self) -> None:
        for line in (
            "pull production --to staging --yes", "pull --yes --save-as refresh", "backup staging", "backup local --label summer",
            'backup production --label "before the redesign"', "push staging --yes --skip-backup",
            "export local panel.zip", "export production handover.zip --split 100MB",
        ):  # fmt: skip
            self.must(self.base, shlex.split(line))
        self.write("local", 3, "Tickets")
        self.write("production", 4, "Seen live")

    def write(self, environment: str, entry: int, title: str, folder: Path | None = None) -> None:
        path = (folder or self.base) / environment / "data/harrowmere.sqlite"
        connection = sqlite3.connect(path)
        with connection:
            connection.execute("UPDATE entries SET title = ? WHERE id = ?", (title, entry))
        connection.close()

    def run(self, folder: Path, words: Words) -> subprocess.CompletedProcess[str]:
        environ = {**os.environ, "NO_COLOR": "1", VARIABLE: "run"}
        return subprocess.run(
            [sys.executable, "-m", "vetrin", *words], cwd=folder, env=environ,
            capture_output=True, text=True, stdin=subprocess.DEVNULL,
        )  # fmt: skip

    def must(self, folder: Path, words: Words) -> None:
        done = self.run(folder, words)
        assert done.returncode in (0, 4), f"{words}\n{done.stdout}\n{done.stderr}"

    def carried_out(self, line: str) -> str:
        """What is wrong with an example; empty for one that does what it should."""
        folder = self.at / str(abs(hash(line)))
        shutil.copytree(self.base, folder, symlinks=True)
        for pattern, name in NAMES.items():
            line = re.sub(pattern, name, line)
        words = agreed(shlex.split(line))
        if "--decisions" in words:  # of a conflict, and filled in
            self.write("production", 3, "Fares and tickets", folder)
            asked = self.run(folder, ["push", "production", "--parts", "data", "--json"])
            document = json.loads(asked.stdout)
            for conflict in document["conflicts"]:
                conflict["take"] = "local"
            (folder / "conflicts.json").write_text(json.dumps(document))
        done = self.run(folder, words)
        shutil.rmtree(folder)
        good = {0, 4} if words[0] in DIFFERENCES else {0}
        quiet = "--quiet" in words and (done.stdout or done.stderr)
        if done.returncode in good and "Traceback" not in done.stderr and not quiet:
            return ""
        return f"vetrin {line}: {done.returncode}\n{done.stderr}"


def agreed(words: Words) -> Words:
    """The same with the yes that a person would say."""
    more: Words = []
    options = (
        [["--yes"], ["--confirm", "production"]] if "production" in words[1:2] else [["--yes"]]
    )
    for option in options:
        if option[0] not in words:
            try:
                parsed([*words, *more, *option])
            except (SystemExit, ValueError):
                continue
            more += option
    return [*words, *more]


@pytest.fixture(scope="module")
def workshop(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Workshop]:
    workshop = Workshop(tmp_path_factory.mktemp("examples"))
    with servers(workshop.sample):
        workshop.prepare()
        yield workshop


def test_every_example_of_the_docs_is_carried_out(workshop: Workshop) -> None:
    lines = shown()
    elsewhere = {line for line in lines if any(re.search(one, line) for one in ELSEWHERE)}
    here = [line for line in lines if line not in elsewhere]
    assert len(here) > 40 and all(any(re.search(one, line) for line in lines) for one in ELSEWHERE)
    with ThreadPoolExecutor(2) as beside:
        wrong = [said for said in beside.map(workshop.carried_out, here) if said]
    assert not wrong, "\n".join(wrong)
