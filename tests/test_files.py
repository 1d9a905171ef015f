"""The FileTree contract: odd names and modes, exchange from every point, and back."""

from __future__ import annotations

import os
import shutil
import tempfile
from pathlib import Path

import pytest

from vetrin.files import Entry, FilesError, LocalTree, Move, compare_trees

NAMES = ["plain.png", ".hidden", "-dash", "quo'te\"", "back\\slash", "new\nline", "emoji 🚂.png",
         "dec\u0301omposed", os.fsdecode(b"not\xffutf8"), "n" * 250, "with space/deep/er.txt"]  # fmt: skip


def write(root: Path, path: str, text: str = "x", mode: int = 0o644) -> None:
    (root / path).parent.mkdir(parents=True, exist_ok=True)
    (root / path).write_text(text)
    (root / path).chmod(mode)


def state(root: Path) -> dict[str, object]:
    found: dict[str, object] = {}
    for path in sorted(root.rglob("*"), key=os.fsencode):
        if ".vetrin" in path.parts:
            continue
        about = path.lstat()
        name = str(path.relative_to(root))
        if path.is_symlink():
            found[name] = str(path.readlink())
        elif path.is_dir():
            found[name] = "folder"
        else:
            found[name] = (path.read_bytes(), about.st_mode, about.st_mtime_ns)
    return found


@pytest.fixture
def trees(tmp_path: Path) -> tuple[LocalTree, LocalTree]:
    one, two = tmp_path / "one", tmp_path / "two"
    for name in NAMES:
        write(one, f"media/{name}", f"new {name!r}", 0o600)
    write(one, "media/was-folder", "now a file")
    write(one, "media/read-only", "r", 0o400)
    write(one, "media/changed/kind", "now a file below a folder")
    (one / "media/empty/folder").mkdir(parents=True)
    (one / "media/link").symlink_to("plain.png")
    (one / "media/out").symlink_to("../../elsewhere")
    (one / "media/absolute").symlink_to("/etc/hostname")
    write(one, "media/.git/config", "no")
    write(two, "media/plain.png", "old, longer than the new one will be, surely")
    write(two, "media/changed", "a file where a folder will be")
    write(two, "media/was-folder/mine/x.png", "goes with its folder, and comes back with it")
    write(two, "media/mine.png", "only here")
    write(two, "code/other.php")
    return LocalTree(one), LocalTree(two)


def stage(one: LocalTree, two: LocalTree, token: str = "t1") -> list[Move]:
    difference = compare_trees(one, two, ["media"])
    for entry in (*difference.new, *difference.changed):
        two.stage(token, entry, one.read(entry.path) if entry.kind == "file" else ())
    return difference.moves()


def test_everything_arrives_and_what_is_not_ours_stays(trees: tuple[LocalTree, LocalTree]) -> None:
    one, two = trees
    before = state(two.root)
    moves = stage(one, two)
    assert state(two.root) == before
    two.exchange("t1", moves)
    two.exchange("t1", moves)  # once more changes nothing
    after = state(two.root)
    for name, value in state(one.root).items():
        if name not in ("media/out", "media/absolute") and ".git" not in name:
            assert after[name] == value, name
    assert after["media/mine.png"] == before["media/mine.png"]
    assert "media/out" not in after
    assert compare_trees(one, two, ["media"]).files == 0
    two.put_back("t1", moves)
    two.discard("t1")
    assert state(two.root) == before


def test_stopped_after_any_rename_it_can_be_put_back(
    trees: tuple[LocalTree, LocalTree], monkeypatch
) -> None:
    one, two = trees
    before = state(two.root)
    real = Path.rename
    for limit in range(40):
        moves = stage(one, two)
        left = [limit]

        def rename(path: Path, target: Path, left: list[int] = left) -> Path:
            if left[0] == 0:
                raise KeyboardInterrupt
            left[0] -= 1
            return real(path, target)

        monkeypatch.setattr(Path, "rename", rename)
        try:
            two.exchange("t1", moves)
            finished = True
        except KeyboardInterrupt:
            finished = False
        monkeypatch.setattr(Path, "rename", real)
        two.put_back("t1", moves)
        assert state(two.root) == before, limit
        two.discard("t1")
        if finished:
            return
    raise AssertionError("the exchange never came to its end")


def test_undoing_and_redoing(trees: tuple[LocalTree, LocalTree]) -> None:
    one, two = trees
    before = state(two.root)
    moves = stage(one, two)
    two.exchange("t1", moves)
    after = state(two.root)
    back = [move.reversed() for move in reversed(moves)]
    two.hand_over("t1", "old", "t2", "new")
    two.exchange("t2", back)
    assert state(two.root) == before
    forth = [move.reversed() for move in reversed(back)]
    two.hand_over("t2", "old", "t3", "new")
    two.exchange("t3", forth)
    assert state(two.root) == after


def test_equal_size_is_settled_by_content(trees: tuple[LocalTree, LocalTree]) -> None:
    one, two = trees
    write(one.root, "media/a", "same")
    write(two.root, "media/a", "same")
    write(one.root, "media/b", "1234")
    write(two.root, "media/b", "5678")
    for root in (one.root, two.root):
        for name, moment in (
            ("a", 1 if root == one.root else 2),
            ("b", 1 if root == one.root else 2),
        ):
            os.utime(root / "media" / name, (moment, moment))
    changed = {entry.path for entry in compare_trees(one, two, ["media"]).changed}
    assert "media/b" in changed
    assert "media/a" not in changed


def test_a_file_that_can_not_be_read_is_named(tmp_path: Path) -> None:
    tree = LocalTree(tmp_path)
    with pytest.raises(FilesError, match=r"gone\.png: No such file"):
        list(tree.read("gone.png"))
    (tmp_path / "f").write_text("")
    with pytest.raises(FilesError, match="f/x"):
        tree.stage("t", Entry("f/x", "file"), [b"1"])
        tree.exchange("t", [Move("f/x", None, "file")])


def test_a_folder_on_another_file_system(trees: tuple[LocalTree, LocalTree]) -> None:
    """Uploads that are a link to another disk: renamed there, found again, and cleaned up."""
    one, two = trees
    there = Path(tempfile.mkdtemp(dir="/dev/shm" if Path("/dev/shm").is_dir() else None))
    try:
        shutil.copytree(two.root / "media", there / "media", symlinks=True)
        shutil.rmtree(two.root / "media")
        (two.root / "media").symlink_to(there / "media")
        before = state(there)
        moves = stage(one, two)
        assert state(there) == before
        two.exchange("t1", moves)
        after = state(there)
        assert after != before
        assert (there / "media/changed/kind").read_text() == "now a file below a folder"
        # Another process takes it back: it knows nothing but what lies there.
        later = LocalTree(two.root)
        later.put_back("t1", moves)
        assert state(there) == before
        later.exchange("t1", moves)
        assert state(there) == after
        back = [move.reversed() for move in reversed(moves)]
        later.hand_over("t1", "old", "t2", "new")
        later.exchange("t2", back)
        assert state(there) == before
        for token in ("t1", "t2"):
            later.discard(token)
        assert {path.name for path in (there / "media/.vetrin").iterdir()} <= {
            ".htaccess",
            ".gitignore",
        }
    finally:
        shutil.rmtree(there)
