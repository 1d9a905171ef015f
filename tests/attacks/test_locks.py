"""Runs that meet at one environment's lock: dead, silent, in another container, or come back too late."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest

from connected import hosts
from ssh_server import SshServer
from test_command_line import vetrin
from vetrin.config import load_project
from vetrin.config.host import Host
from vetrin.demo.sample import Sample
from vetrin.demo.walk import fingerprint
from vetrin.errors import FilesError, Overtaken, Refused
from vetrin.files import FileTree, LocalTree, RemoteTree
from vetrin.jobs import (
    Choices,
    Journals,
    RunContext,
    build_plan,
    holder_of,
    must_hold,
    only_run,
    run_plan,
)
from vetrin.jobs.events import Event, Phase
from vetrin.site import open_site

LOCK = ".vetrin/lock"


@pytest.fixture(params=["here", "ssh", "sftp_alone"])
def tree(
    request: pytest.FixtureRequest, open_folder: Path, monkeypatch: pytest.MonkeyPatch
) -> FileTree:
    if request.param == "here":
        return LocalTree(open_folder)
    server: SshServer = request.getfixturevalue(request.param)
    monkeypatch.setenv("HOME", str(server.home))
    return RemoteTree(
        hosts.at(Host.parse(f"ssh://{server.name}"), "railway").machine, str(open_folder)
    )


def test_only_the_very_lock_is_taken_away(tree: FileTree) -> None:
    assert not tree.take_away(LOCK, b"mine")
    assert tree.claim(LOCK, b"mine")
    assert not tree.take_away(LOCK, b"theirs") and not tree.take_away(LOCK, b"min")
    assert b"".join(tree.read(LOCK)) == b"mine"
    assert tree.take_away(LOCK, b"mine")
    assert tree.age(LOCK) is None
    assert tree.claim(LOCK, b"again")


def test_one_that_changes_at_the_last_moment_stays(
    open_folder: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    tree, rename = LocalTree(open_folder), os.rename

    def late(old: str, new: str) -> None:
        Path(old).unlink()
        Path(old).write_bytes(b"successor")
        rename(old, new)

    tree.claim(LOCK, b"dead")
    monkeypatch.setattr(os, "rename", late)
    assert not tree.take_away(LOCK, b"dead")
    assert (open_folder / LOCK).read_bytes() == b"successor"
    assert not list((open_folder / ".vetrin").glob("away-*"))


def held_by(sample: Sample, **more: object) -> Path:
    """A lock as this process makes it, but for some of what it says."""
    project = load_project(sample.folder)
    (sample.root("local") / LOCK).unlink(missing_ok=True)
    with (
        open_site(hosts, project, project.environment("local"), read_only=False) as site,
        only_run(site),
    ):
        held = json.loads((sample.root("local") / LOCK).read_text())
    lock = sample.root("local") / LOCK
    lock.write_text(json.dumps({**held, **more}))
    return lock


def test_a_process_of_another_container_is_not_taken_for_dead(sample: Sample) -> None:
    """Its number says nothing here, whether there is such a process or not."""
    for number in (os.getpid(), 2**22 + 1):
        lock = held_by(sample, space="pid:[1]", process=number)
        assert "last sign of life" in vetrin(sample.folder, "pull", "--yes", code=5).stderr
        assert lock.exists()
    held_by(sample, process=2**22 + 1)
    vetrin(sample.folder, "pull", "--yes")


def test_real_spaces_of_processes(sample: Sample) -> None:
    """A run in another one finds this one's lock, and does not break it."""
    project = load_project(sample.folder)
    with (
        open_site(hosts, project, project.environment("local"), read_only=False) as site,
        only_run(site),
    ):
        done = subprocess.run(
            ["unshare", "--pid", "--fork", "--mount-proc", sys.executable, "-m", "vetrin", "pull", "--yes"],
            cwd=sample.folder, capture_output=True, text=True, stdin=subprocess.DEVNULL,
        )  # fmt: skip
        assert (done.returncode, "is being written to by" in done.stderr) == (5, True), done.stderr
        must_hold(site)


def test_of_many_that_meet_a_dead_lock_one_gets_it(sample: Sample) -> None:
    project = load_project(sample.folder)
    for _ in range(6):
        held_by(sample, process=2**22 + 1)
        start, sure = threading.Barrier(6, timeout=60), []

        def meet(start: threading.Barrier = start, sure: list[int] = sure) -> None:
            with open_site(hosts, project, project.environment("local"), read_only=False) as site:
                start.wait()
                try:
                    with only_run(site):
                        time.sleep(0.3)
                        must_hold(site)
                        sure.append(1)
                        time.sleep(0.3)
                except Refused:
                    pass

        threads = [threading.Thread(target=meet) for _ in range(6)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        assert sure == [1]
        assert not (sample.root("local") / LOCK).exists()


def test_who_comes_back_leaves_the_successors_lock(sample: Sample) -> None:
    project = load_project(sample.folder)
    local = project.environment("local")
    with (
        open_site(hosts, project, local, read_only=False) as old,
        open_site(hosts, project, local, read_only=False) as new,
    ):
        new.takes_over = True
        first = only_run(old)
        first.__enter__()
        with only_run(new):
            with pytest.raises(Overtaken):
                must_hold(old)
            first.__exit__(None, None, None)
            must_hold(new)
            holder = holder_of(new.files)
            assert holder is not None and holder.ours and not holder.dead
    assert not list((sample.root("local") / ".vetrin").glob("alive-*"))


@pytest.mark.parametrize("told", ["nothing", "taken"])
def test_a_run_finds_its_own_lock_again_where_the_line_broke(
    sample: Sample, monkeypatch: pytest.MonkeyPatch, told: str
) -> None:
    """As it took it, with the answer lost or asked again, and as it let go of it."""
    project = load_project(sample.folder)
    local = project.environment("local")
    with (
        open_site(hosts, project, local, read_only=False) as site,
        open_site(hosts, project, local, read_only=False) as other,
    ):
        claim = site.files.claim

        def unanswered(path: str, content: bytes) -> bool:
            assert claim(path, content)
            if told == "taken":
                return claim(path, content)
            raise FilesError("the connection is lost")

        def lost(path: str, content: bytes) -> bool:
            raise FilesError("the connection is lost")

        def only_one() -> None:
            with only_run(site):
                must_hold(site)
                with pytest.raises(Refused, match="is being written to by"), only_run(other):
                    pass

        with monkeypatch.context() as broken:
            broken.setattr(site.files, "claim", unanswered)
            if told == "taken":
                only_one()
            else:
                with pytest.raises(FilesError, match="is lost"), only_run(site):
                    pass
        with monkeypatch.context() as broken:
            broken.setattr(site.files, "take_away", lost)
            only_one()
        with pytest.raises(Refused), only_run(other):
            pass
        only_one()
        assert not (sample.root("local") / LOCK).exists()
        with only_run(other):
            pass


@pytest.mark.parametrize("moment", ["tables", "swap"])
def test_a_run_that_was_taken_over_does_not_get_to_its_switch(sample: Sample, moment: str) -> None:
    project = load_project(sample.folder)
    before = fingerprint(sample.root("local"))
    theirs = json.dumps({"user": "tamsin", "host": "laptop-two", "machine": "other", "process": 7, "since": "2026-11-01T10:00",
                         "started": "", "token": "ab" * 8})  # fmt: skip

    def listener(event: Event) -> None:
        if isinstance(event, Phase) and event.name == moment:
            (sample.root("local") / LOCK).write_text(theirs)

    with (
        open_site(hosts, project, project.environment("production")) as source,
        open_site(hosts, project, project.environment("local"), read_only=False) as target,
    ):
        plan = build_plan(source, target, ("data", "media"), [], Choices())
        with pytest.raises(Overtaken, match="tamsin on laptop-two"):
            run_plan(
                plan,
                RunContext(source, target, Journals(project.state), listener, command=["pull"]),
            )
    assert (sample.root("local") / LOCK).read_text() == theirs
    assert fingerprint(sample.root("local")) == before
    told = vetrin(sample.folder, "pull", "--yes", code=5).stderr
    assert "tamsin on laptop-two" in told and "--take-over" in told
    vetrin(sample.folder, "pull", "--yes", "--take-over")
    assert not (sample.root("local") / LOCK).exists()


def test_what_stands_in_a_lock_is_not_believed(sample: Sample) -> None:
    lock = sample.root("local") / LOCK
    lock.parent.mkdir(exist_ok=True)
    for text in ("", "[]", "{}", "null", '{"machine": [], "process": {}}', "x" * 100_000,
                 json.dumps({"user": "\\x1b[2J", "host": "h", "machine": "m", "process": 1, "since": "s", "token": "../../../x"})):  # fmt: skip
        lock.write_text(text)
        done = vetrin(sample.folder, "pull", "--yes", code=5)
        assert "--take-over" in done.stderr and "\x1b" not in done.stderr
    vetrin(sample.folder, "pull", "--yes", "--take-over")
