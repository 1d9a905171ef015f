"""What an account may not read, what is written to while it is read, and what nobody was asked for: nothing of it is
taken for missing, and nothing comes in two editions."""

from __future__ import annotations

import contextlib
import json
import os
import pickle
import shutil
import subprocess
import tempfile
import zipfile
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any

import pytest

from connected import hosts
from railway import Railway
from ssh_server import SshServer
from test_command_line import document, vetrin
from test_files import state
from vetrin.config import load_project
from vetrin.demo.sample import Sample, lay_out
from vetrin.errors import FilesError
from vetrin.files import (
    UNREADABLE,
    Buffer,
    Entry,
    LocalTree,
    Manifest,
    Patterns,
    RemoteTree,
    SourceTree,
    changed_since,
)
from vetrin.jobs import Choices, Journals, Plan, RunContext, build_plan, run_plan
from vetrin.remote.helper_machine import Hello, HelperMachine
from vetrin.remote.helper_protocol import Frames
from vetrin.remote.helper_scripts import PHP, PYTHON, source
from vetrin.remote.ssh.connection import Lines
from vetrin.remote.ssh.sftp import SftpMachine
from vetrin.site import open_site

NOBODY = 65534


@pytest.fixture
def folder() -> Iterator[Path]:
    found = Path(tempfile.mkdtemp(prefix="vetrin-unread-"))
    found.chmod(0o755)
    yield found
    shutil.rmtree(found)


def fill(root: Path) -> None:
    for path in (
        "uploads/a.jpg",
        "uploads/shut/b.jpg",
        "uploads/c.jpg",
        "cache/x/y",
        "cache/z",
        "note",
    ):
        (root / path).parent.mkdir(parents=True, exist_ok=True)
        (root / path).write_text(path)
    for path in root.rglob("*"):
        path.chmod(0o755 if path.is_dir() else 0o644)
    root.chmod(0o755)
    (root / "uploads/shut").chmod(0o700)
    (root / "uploads/c.jpg").chmod(0o600)


def as_nobody(work: Callable[[], Any]) -> Any:
    """Do something as an account that may read only what everybody may; what it returns or raises."""
    if os.geteuid() != 0:
        return work()
    out, into = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            os.setgroups([])
            os.setegid(NOBODY)
            os.seteuid(NOBODY)
            found = (True, work())
        except BaseException as error:
            found = (False, repr(error))
        with os.fdopen(into, "wb") as file:
            pickle.dump(found, file)
        os._exit(0)
    os.close(into)
    with os.fdopen(out, "rb") as file:
        good, found = pickle.load(file)
    os.waitpid(child, 0)
    assert good, found
    return found


class Helper:
    """A helper run by an account that may read only what everybody may."""

    def __init__(self, form: str) -> None:
        command = (
            ["/usr/bin/python3", "-I", "-c", PYTHON] if form == "helper.py" else ["php", "-r", PHP]
        )
        self.process = subprocess.Popen(
            ["setpriv", f"--reuid={NOBODY}", "--clear-groups", *command],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=0,
        )  # fmt: skip
        text = source(form)
        self.sendall(b"%d\n%s" % (len(text), text))
        self.slow, self.account = False, "nobody@here"
        said = Frames(self).ask("hello")
        self.hello = Hello.of(said)

    def sendall(self, data: bytes) -> None:
        assert self.process.stdin is not None
        rest = memoryview(data)
        while rest:
            rest = rest[self.process.stdin.write(rest) :]

    def take_into(self, into: memoryview) -> int:
        assert self.process.stdout is not None
        return self.process.stdout.readinto(into) or 0  # type: ignore[attr-defined]

    @contextlib.contextmanager
    def one(self) -> Iterator[Frames]:
        yield Frames(self)

    def close(self) -> None:
        self.process.stdin.close()  # type: ignore[union-attr]
        self.process.wait(10)
        self.process.stdout.close()  # type: ignore[union-attr]


@pytest.mark.parametrize("way", ["here", "helper.py", "helper.php", "sftp"])
def test_what_may_not_be_read_is_named_and_the_rest_is_read(
    way: str, folder: Path, request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch
) -> None:
    fill(folder)

    def look(tree: SourceTree) -> tuple[Manifest, Manifest, list[str]]:
        found = tree.scan(["."])
        pruned = tree.scan(["."], (), Patterns(["cache/", "*.tmp"]).prune)
        files = [found[path] for path in ("uploads/a.jpg", "uploads/c.jpg")]
        read = []
        for entry, blocks in tree.read_all(files):
            try:
                read.append(b"".join(map(bytes, blocks)).decode())
            except FilesError as error:
                read.append(f"{entry.path}: {error.denied}")
        return found, pruned, read

    if way == "here":
        found, pruned, read = as_nobody(lambda: look(LocalTree(folder)))
    elif way == "sftp":
        server: SshServer = request.getfixturevalue("shell_less")
        monkeypatch.setenv("HOME", str(server.home))
        from vetrin.config.host import Host

        lines = Lines()
        line = lines.to(Host.parse(f"ssh://{server.name}"))
        line.open()
        found, pruned, read = look(RemoteTree(SftpMachine(line), str(folder)))
        lines.close()
    else:
        helper = Helper(way)
        found, pruned, read = look(RemoteTree(HelperMachine(helper), str(folder)))  # type: ignore[arg-type]
        helper.close()
    assert found.passed == {"uploads/shut": UNREADABLE}
    assert set(found) == {
        "cache",
        "cache/x",
        "cache/x/y",
        "cache/z",
        "note",
        "uploads",
        "uploads/a.jpg",
        "uploads/c.jpg",
    }
    assert set(pruned) == {"cache", "note", "uploads", "uploads/a.jpg", "uploads/c.jpg"}
    assert read == ["uploads/a.jpg", "uploads/c.jpg: True"]
    assert not found.tells_of("uploads/shut/anything")
    assert found.tells_of("uploads/other")


def test_patterns_that_take_something_back_prune_nothing() -> None:
    assert Patterns(["cache/", "!cache/kept"]).prune == ()


def plan_of(sample: Sample, parts: tuple[str, ...], choices: Choices | None = None) -> Plan:
    project = load_project(sample.folder)
    with (
        open_site(hosts, project, project.environment("production")) as source,
        open_site(hosts, project, project.environment("local"), read_only=False) as target,
    ):
        return build_plan(source, target, parts, (), choices)  # type: ignore[arg-type]


def carried_out(
    sample: Sample, parts: tuple[str, ...], choices: Choices | None = None
) -> tuple[str, ...]:
    project = load_project(sample.folder)
    with (
        open_site(hosts, project, project.environment("production")) as source,
        open_site(hosts, project, project.environment("local"), read_only=False) as target,
    ):
        plan = build_plan(source, target, parts, (), choices)  # type: ignore[arg-type]
        report = run_plan(plan, RunContext(source, target, Journals(project.state)))
        return (*plan.notes, *report.remarks)


def test_a_pull_leaves_what_may_not_be_read_as_it_is(folder: Path) -> None:
    sample = lay_out(folder / "railway")
    live, here = sample.root("production"), sample.root("local")
    carried_out(sample, ("media", "code"), Choices(mirror=True))
    before = state(here / "media")
    shut, file = live / "media/2026/05", live / "media/2026/04"
    file = sorted(file.iterdir())[0]
    file.write_bytes(b"changed, and not for you")
    extra = live / "extras/live-departures"
    (extra / "extra.toml").write_text('name = "changed"\n')
    (extra / "new.toml").write_text("seen")
    for path in [folder, *folder.rglob("*")]:
        os.chown(path, NOBODY, NOBODY, follow_symlinks=False)
    for path in (shut, file, extra / "extra.toml"):
        os.chown(path, 0, 0)
        path.chmod(0o700 if path.is_dir() else 0o600)
    own = (here / "extras/live-departures/extra.toml").read_bytes()
    said = as_nobody(lambda: carried_out(sample, ("media", "code"), Choices(mirror=True)))
    assert any(
        "not readable for the account" in line and "media/2026/05" in line for line in said
    ), said
    assert any("not readable in production" in line and file.name in line for line in said), said
    after = state(here / "media")
    assert after == before  # neither removed, even to mirror, nor emptied
    # A folder that switches as a whole keeps the file that it had.
    assert (here / "extras/live-departures/new.toml").read_text() == "seen"
    assert (here / "extras/live-departures/extra.toml").read_bytes() == own


def write_while_read(
    monkeypatch: pytest.MonkeyPatch, path: Path, times: int, kind: type = LocalTree
) -> None:
    """Let a file be written anew while its first block is being taken, some times."""
    real, left = kind.read_all, [times]  # type: ignore[attr-defined]

    def read_all(
        tree: LocalTree, entries: Iterable[Entry]
    ) -> Iterator[tuple[Entry, Iterator[Buffer]]]:
        for entry, blocks in real(tree, entries):
            yield entry, written_to(tree, entry.path, blocks)

    def written_to(tree: LocalTree, name: str, blocks: Iterator[Buffer]) -> Iterator[Buffer]:
        for number, block in enumerate(blocks):
            if path == tree.root / name and left[0] and number == 0:
                left[0] -= 1
                beside = path.with_name("beside")
                beside.write_bytes(bytes([left[0] % 251]) * path.stat().st_size)
                with path.open("r+b") as file:  # in place, as a careless program writes
                    file.write(beside.read_bytes())
                beside.unlink()
            yield block

    monkeypatch.setattr(kind, "read_all", read_all)


@pytest.mark.parametrize("times", [1, 2, 99])
def test_a_file_that_is_written_to_while_it_is_read_comes_whole_or_is_named(
    sample: Sample, monkeypatch: pytest.MonkeyPatch, times: int
) -> None:
    film = sample.root("production") / "media/film.bin"
    film.write_bytes(b"a" * 900_000)
    write_while_read(monkeypatch, film, times)
    said = carried_out(sample, ("media",))
    arrived = (sample.root("local") / "media/film.bin").read_bytes()
    if times < 99:
        assert arrived == film.read_bytes() and len(set(arrived)) == 1
        assert said[-1:] == () or "perhaps not whole" not in said[-1]
    else:
        assert "perhaps not whole: media/film.bin" in said[-1]
        # It is not remembered as what came: the next transfer brings it.
        monkeypatch.undo()
        carried_out(sample, ("media",))
        assert (sample.root("local") / "media/film.bin").read_bytes() == film.read_bytes()


@pytest.mark.parametrize("times", [1, 99])
def test_backups_and_exports_hold_no_torn_file(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, times: int
) -> None:
    from vetrin.jobs.export_site import Packing, export

    railway = Railway(tmp_path / "railway")
    live = railway.folder / "production"
    film = live / "media/film.bin"
    film.write_bytes(b"a" * 900_000)
    write_while_read(monkeypatch, film, times)
    manifest = railway.backup()
    kept = next(f for f in railway.store.files(manifest) if f.entry.path == "media/film.bin")
    content = b"".join(railway.store.contents.blocks(kept.blocks))
    noted = any("perhaps not whole: media/film.bin" in note for note in manifest.notes)
    assert (len(set(content)) == 1 and not noted) if times == 1 else noted
    monkeypatch.undo()
    film.write_bytes(b"b" * 900_000)
    write_while_read(monkeypatch, film, times)
    with open_site(hosts, railway.project, railway.project.environment("production")) as site:
        packed = export(site, tmp_path / "out.zip", Packing(parts=("media",)))
    with zipfile.ZipFile(tmp_path / "out.zip") as archive:
        content = archive.read("site/media/film.bin")
    noted = any("media/film.bin was written to whenever" in note for note in packed.notes)
    assert (len(set(content)) == 1 and not noted) if times == 1 else noted


def test_changed_since(tmp_path: Path) -> None:
    tree = LocalTree(tmp_path)
    for name in "abc":
        (tmp_path / name).write_text(name)
    found = [tree.scan(["."])[name] for name in "abc"]
    (tmp_path / "a").write_text("longer")
    (tmp_path / "b").unlink()
    assert [entry.path for entry in changed_since(tree, found)] == ["a"]


def test_restoring_one_file_removes_nothing_else(tmp_path: Path) -> None:
    """What was not chosen is not missing in the snapshot: not other files, nor parts, nor tables."""
    railway = Railway(tmp_path / "railway")
    railway.vetrin("pull", "--yes", "--parts", "data,media,code")
    local = railway.folder / "local"
    snapshot = railway.backup("local", label="all of it")
    before = state(local / "media")
    picture = sorted(path for path in (local / "media/2026").rglob("*") if path.is_file())[0]
    path = picture.relative_to(local).as_posix()
    picture.write_bytes(b"spoilt")
    railway.vetrin("restore", "local", snapshot.id, "--files", path, "--yes")
    assert state(local / "media") == before
    railway.vetrin("undo", "local", "--yes")
    assert picture.read_bytes() == b"spoilt"
    folder = picture.parent.relative_to(local).as_posix()
    (picture.parent / "brought-later.png").write_bytes(b"mine")
    railway.vetrin("restore", "local", snapshot.id, "--files", folder, "--yes")
    assert {k for k, v in state(local / "media").items() if before.get(k, v)[:2] == v[:2]} >= set(
        before
    )
    assert (picture.parent / "brought-later.png").exists()
    railway.vetrin("restore", "local", snapshot.id, "--tables", "bookings", "--yes")
    assert set(state(local / "media")) >= set(before)


def test_folders_that_the_source_does_not_have_at_all_are_not_taken_for_emptied(
    sample: Sample,
) -> None:
    """An upload folder whose disk is not mounted, an archive without it."""
    carried_out(sample, ("media",))
    before = state(sample.root("local") / "media")
    (sample.root("production") / "media").rename(sample.folder / "unmounted")
    plan = plan_of(sample, ("media",), Choices(mirror=True))
    assert plan.files is not None and plan.files.gone == ()
    carried_out(sample, ("media",), Choices(mirror=True))
    assert state(sample.root("local") / "media") == before


def test_an_archive_tells_of_the_folders_that_it_has(tmp_path: Path) -> None:
    railway = Railway(tmp_path / "railway")
    railway.vetrin("pull", "--yes", "--parts", "data,media,code,core")
    local = railway.folder / "local"
    before = state(local)
    live = railway.folder / "production"
    with zipfile.ZipFile(tmp_path / "some.zip", "w") as archive:
        for path in sorted(live.rglob("*")):
            name = path.relative_to(live).as_posix()
            wanted = name.startswith(("fishplate", "media/2026/05", "extras"))
            if path.is_file() and wanted and not name.startswith("extras/live-departures"):
                archive.write(path, f"site/{name}")
    said = json.loads(
        railway.vetrin("import", str(tmp_path / "some.zip"), "local", "--dry-run", "--json")
    )
    gone = said["files"]["gone"]
    assert not [path for path in gone if path.startswith(("media/2026/04", "themes"))], gone
    assert state(local) == before


def test_a_name_that_is_no_text_goes_into_a_zip_and_back(tmp_path: Path) -> None:
    railway = Railway(tmp_path / "railway")
    name = os.fsdecode(b"caf\xe9 \xfc.png")
    (railway.folder / "production/media" / name).write_bytes(b"odd")
    (railway.folder / "production/media/größe.png").write_bytes(b"text")
    for password in ("", "a word"):
        path = tmp_path / f"out{len(password)}.zip"
        words = ["--passphrase"] if password else []
        railway.vetrin(
            "export", "production", str(path), *words, VETRIN_ARCHIVE_PASSPHRASE=password
        )
        (railway.folder / "local/media" / name).unlink(missing_ok=True)
        railway.vetrin("import", str(path), "local", "--parts", "media", "--yes", *words,
                       VETRIN_ARCHIVE_PASSPHRASE=password)  # fmt: skip
        assert (railway.folder / "local/media" / name).read_bytes() == b"odd"
        assert (railway.folder / "local/media/größe.png").read_bytes() == b"text"


def test_every_file_of_a_plan_can_be_named(sample: Sample) -> None:
    live = sample.root("production")
    vetrin(sample.folder, "pull", "--yes", "--parts", "media")
    (live / "media/new one.png").write_bytes(b"x")
    changed, gone = sorted(path for path in (live / "media/2026").rglob("*.png"))[:2]
    changed.write_bytes(b"changed")
    gone.unlink()
    said = vetrin(sample.folder, "pull", "--dry-run", "--parts", "media", "--list").stdout
    for mark, path in (("+", live / "media/new one.png"), ("~", changed), ("-", gone)):
        assert f"{mark} {path.relative_to(live).as_posix()}\n" in said
    found = document(sample.folder, "pull", "--dry-run", "--parts", "media")["files"]
    assert found["new_files"] == ["media/new one.png"]
    assert found["changed_files"] == [changed.relative_to(live).as_posix()]
