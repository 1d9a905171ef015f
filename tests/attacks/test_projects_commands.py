"""Commands that a cloned project, or the repository that it lies in, would run on the developer's machine."""

from __future__ import annotations

import shutil
import subprocess
from pathlib import Path

import pytest

from systems import answer
from test_command_line import vetrin
from vetrin.demo.sample import Sample
from vetrin.store.git import commit_of


@pytest.fixture(autouse=True)
def nobody_agreed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delenv("VETRIN_PROJECT_COMMANDS", raising=False)
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))


def hostile(sample: Sample) -> Path:
    """The build writes a file where nothing of the project's has to do."""
    file, mark = sample.folder / "vetrin.toml", sample.folder.parent / "was-here"
    text = file.read_text().replace(
        "cat parts/*.css > style.css", f"touch {mark}; cat parts/*.css > style.css"
    )
    assert str(mark) in text
    file.write_text(text)
    return mark


def test_a_build_is_not_run_because_somebody_says_yes(sample: Sample) -> None:
    mark = hostile(sample)
    for words in (("push", "staging", "--yes"), ("push", "staging", "--confirm=staging", "--json")):
        done = vetrin(sample.folder, *words, code=5)
        assert (
            "'touch" in done.stderr + done.stdout
            and "VETRIN_PROJECT_COMMANDS" in done.stderr + done.stdout
        )
    assert not mark.exists()
    vetrin(sample.folder, "push", "staging", "--yes", code=None, VETRIN_PROJECT_COMMANDS="run")
    assert mark.exists()


def test_who_is_asked_is_asked_once_for_each_text_and_project(sample: Sample) -> None:
    mark = hostile(sample)
    question = "Run them, now and from now on?"
    push = ("push", "staging", "--yes")
    code, said = answer(sample.folder, b"n\n", *push)
    assert code == 5 and "touch" in said and not mark.exists()
    _, said = answer(sample.folder, b"y\n", *push)
    assert question in said and mark.exists()
    mark.unlink()
    vetrin(sample.folder, *push, code=None)
    assert mark.exists()
    # Another text, and another project, are others.
    mark.unlink()
    file = sample.folder / "vetrin.toml"
    file.write_text(file.read_text().replace(f"touch {mark};", f"touch {mark}; true;"))
    vetrin(sample.folder, *push, code=5)
    file.write_text(file.read_text().replace("; true;", ";"))
    other = sample.folder.parent / "other"
    shutil.copytree(sample.folder, other, symlinks=True)
    shutil.rmtree(other / ".vetrin")
    vetrin(other, *push, code=5)
    assert not mark.exists()


def test_a_definition_of_the_project_runs_nothing_unasked(sample: Sample, tmp_path: Path) -> None:
    from importlib import resources

    mark = tmp_path / "surveyed"
    text = (resources.files("vetrin.cms") / "definitions/fishplate.toml").read_text()
    start = text.index("[runtime]") if "[runtime]" in text else None
    rule = f'[runtime]\ntitle = "Python"\ncommand = ["touch", "{mark}"]\n'
    if start is not None:
        end = text.index("\n[", start)
        text = text[:start] + rule + text[end + 1 :]
    else:
        first = text.index("\n[")
        text = f"{text[: first + 1]}\n{rule}{text[first:]}"
    (sample.folder / "own.toml").write_text(text)
    file = sample.folder / "vetrin.toml"
    file.write_text(file.read_text().replace('cms = "fishplate"', 'cms = "own.toml"'))
    for words in (
        ("survey", "local"),
        ("compare", "local", "staging"),
        ("status",),
        ("pull", "--yes"),
        ("survey", "local", "--json"),
    ):
        vetrin(sample.folder, *words, code=None)
        assert not mark.exists(), words
    vetrin(sample.folder, "survey", "local", VETRIN_PROJECT_COMMANDS="run")
    assert mark.exists()


def test_a_repository_runs_nothing(tmp_path: Path) -> None:
    """Its own configuration may name programs that Git would run for a look."""
    repository, mark = tmp_path / "repository", tmp_path / "ran"
    repository.mkdir()

    def git(*words: str) -> None:
        subprocess.run(["git", "-C", str(repository), "-c", "user.name=R", "-c", "user.email=r@railway.test", *words],
                       check=True, capture_output=True)  # fmt: skip

    git("init", "-q")
    (repository / "a.txt").write_text("one")
    (repository / ".gitattributes").write_text("*.txt filter=odd\n")
    git("add", "-A")
    git("commit", "-qm", "Lay the line")
    (repository / "hook").write_text(f"#!/bin/sh\ntouch {mark}\n")
    (repository / "hook").chmod(0o755)
    for key, value in (("core.fsmonitor", str(repository / "hook")), ("filter.odd.clean", f"touch {mark}; cat"),
                       ("filter.odd.process", str(repository / "hook")), ("core.pager", f"touch {mark}"),
                       ("diff.external", f"touch {mark}")):  # fmt: skip
        git("config", key, value)
    (repository / "a.txt").write_text("two")
    found = commit_of(repository)
    assert found is not None and found.subject == "Lay the line" and found.changes
    assert not mark.exists()
