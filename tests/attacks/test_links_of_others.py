"""Links that somebody else put in the place of a site's folders, so that what is written would land elsewhere."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest

from ssh_server import SshServer
from systems import Mariadb
from test_command_line import vetrin
from vetrin.config.host import Host
from vetrin.demo.sample import Sample
from vetrin.errors import FilesError
from vetrin.files import Entry, FileTree, LocalTree, Move, RemoteTree
from vetrin.files.open_folders import Below
from vetrin.remote.helper_machine import HelperMachine
from vetrin.remote.ssh.connection import Lines
from vetrin.remote.ssh.helper_client import Helpers
from ways import Line, line_by

STRANGER = 65534
MADE = "is a link that another account made"


def led_away(folder: Path, elsewhere: Path, owner: int = STRANGER) -> None:
    """Put a link to another folder in a folder's place."""
    if folder.is_symlink():
        folder.unlink()
    shutil.rmtree(folder, ignore_errors=True)
    elsewhere.mkdir(parents=True, exist_ok=True)
    folder.symlink_to(elsewhere)
    os.chown(folder, owner, owner, follow_symlinks=False)


@pytest.fixture(params=["here", "helper.py", "helper.php"])
def tree(
    request: pytest.FixtureRequest,
    tmp_path: Path,
    ssh: SshServer,
    monkeypatch: pytest.MonkeyPatch,
) -> Iterator[FileTree]:
    root = tmp_path / "site"
    (root / "media/2026").mkdir(parents=True)
    (root / "media/2026/old.jpg").write_text("old")
    if request.param == "here":
        yield LocalTree(root)
        return
    monkeypatch.setenv("HOME", str(ssh.home))
    lines = Lines()
    helpers = Helpers(lines.to(Host(ssh.name)), forms=[request.param])
    yield RemoteTree(HelperMachine(helpers), str(root))
    lines.close()


def moves_of(tree: FileTree) -> list[Move]:
    tree.stage("t1", Entry("media/2026/new.jpg", "file", 3, 10**18, 0o644), [b"new"])
    tree.stage("t1", Entry("media/2026/deep", "folder", mode=0o755))
    tree.stage("t1", Entry("media/2026/deep/x.jpg", "file", 1, 10**18, 0o644), [b"x"])
    tree.flush("t1")
    return [
        Move("media/2026/new.jpg", None, "file"),
        Move("media/2026/deep", None, "folder"),
        Move("media/2026/deep/x.jpg", None, "file"),
    ]


def test_what_was_staged_does_not_follow_them(tree: FileTree, tmp_path: Path) -> None:
    moves, elsewhere = moves_of(tree), tmp_path / "elsewhere"
    led_away(tmp_path / "site/media/2026", elsewhere)
    with pytest.raises(FilesError, match=f"media/2026 {MADE}"):
        tree.exchange("t1", moves)
    assert not list(elsewhere.iterdir())
    tree.put_back("t1", moves)
    # One that the account, or the superuser, made is meant to be there.
    led_away(tmp_path / "site/media/2026", elsewhere, os.geteuid())
    tree.exchange("t1", moves)
    assert {path.name for path in elsewhere.iterdir()} == {"new.jpg", "deep"}
    led_away(tmp_path / "site/media/2026", elsewhere)
    with pytest.raises(FilesError, match=MADE):
        tree.put_back("t1", moves)
    assert {path.name for path in elsewhere.iterdir()} == {"new.jpg", "deep"}


def test_what_is_parked_is_not_fetched_through_them(tree: FileTree, tmp_path: Path) -> None:
    """A file of somebody else is not taken for the site's own, neither to be parked nor to be published."""
    elsewhere = tmp_path / "elsewhere"
    tree.stage("t1", Entry("media/2026/old.jpg", "file", 3, 10**18, 0o644), [b"new"])
    tree.flush("t1")
    led_away(tmp_path / "site/media/2026", elsewhere)
    (elsewhere / "old.jpg").write_text("theirs")
    with pytest.raises(FilesError, match=MADE):
        tree.exchange("t1", [Move("media/2026/old.jpg", "file", "file")])
    assert (elsewhere / "old.jpg").read_text() == "theirs"


def test_a_pull_ends_before_anything_is_changed(sample: Sample, tmp_path: Path) -> None:
    elsewhere, media = tmp_path / "elsewhere", sample.root("staging") / "media"
    led_away(media, elsewhere)
    said = vetrin(
        sample.folder, "pull", "production", "--to", "staging", "--parts", "media", "--yes", code=1
    ).stderr
    assert MADE in " ".join(said.split()) and "chown -h" in said and "Errno" not in said
    assert not list(elsewhere.rglob("*.png"))
    os.chown(media, os.geteuid(), -1, follow_symlinks=False)
    vetrin(sample.folder, "pull", "production", "--to", "staging", "--parts", "media", "--yes")
    assert list(elsewhere.rglob("*.png"))


@pytest.mark.parametrize("way", ["here", "python", "php"])
def test_a_switch_that_is_handed_over_takes_itself_back(
    way: str, mariadb_server: Mariadb, tmp_path: Path
) -> None:
    """Tables and files change over together: where the files cannot, neither do the tables."""
    with line_by(way, mariadb_server) as line:
        before, elsewhere = line.state(), line.folder / "elsewhere"
        shutil.move(line.root / "wp-content/uploads", elsewhere)
        led_away(line.root / "wp-content/uploads", elsewhere)
        there = sorted(elsewhere.rglob("*"))
        _, said = line.vetrin(*Line.PULL, code=1)
        assert MADE in " ".join(said.split()) and "as it was before" in said
        assert sorted(path for path in elsewhere.rglob("*") if ".vetrin" not in path.parts) == there
        (line.root / "wp-content/uploads").unlink()
        shutil.move(elsewhere, line.root / "wp-content/uploads")
        assert line.state() == before


def test_errors_name_the_whole_path(tmp_path: Path) -> None:
    root = os.fsencode(tmp_path)
    (tmp_path / "a").mkdir()
    (tmp_path / "file").write_text("x")
    below = Below(root)
    for call, path in (
        (lambda: below.rename(root + b"/a/missing", root + b"/a/b"), "a"),
        (lambda: below.rename(root + b"/file", root + b"/a"), "a"),
        (lambda: below.rename(root + b"/file", root + b"/no/such"), "no"),
        (lambda: below.rename(root + b"/file", root + b"/file/x"), "file"),
        (lambda: below.mode(root + b"/no", 0o755), "no"),
        (lambda: below.remove_folder(root + b"/file"), "file"),
    ):
        with pytest.raises(OSError) as error:
            call()
        assert os.fsdecode(error.value.filename).startswith(f"{tmp_path}/{path}"), error.value
