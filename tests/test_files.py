"""The FileTree contract: odd names and modes, exchange from every point, and back; comparing."""

from __future__ import annotations

import os
import shutil
import tempfile
import threading
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from vetrin.errors import FilesError
from vetrin.files import (
    PIECE,
    Clash,
    Difference,
    DigestCache,
    Entry,
    LocalTree,
    Manifest,
    Move,
    Patterns,
    Span,
    Terms,
    compare_trees,
    parallel_scan,
    printable,
)
from vetrin.files.open_folders import Below

NAMES = ["plain.png", ".hidden", "-dash", "quo'te\"", "back\\slash", "new\nline", "emoji 🚂.png",
         "dec\u0301omposed", os.fsdecode(b"not\xffutf8"), "n" * 250, "with space/deep/er.txt"]  # fmt: skip


def write(root: Path, path: str, text: str | bytes = "x", mode: int = 0o644) -> None:
    (root / path).parent.mkdir(parents=True, exist_ok=True)
    (root / path).write_bytes(text.encode() if isinstance(text, str) else text)
    (root / path).chmod(mode)


def aged(root: Path, seconds: int = 1_700_000_000) -> None:
    """Times of long ago: what was just written could still change within the same tick."""
    for number, path in enumerate(sorted(root.rglob("*"))):
        if path.is_file() and not path.is_symlink():
            os.utime(path, (seconds + number, seconds + number))


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
            found[name] = ("folder", about.st_mode)
        elif path.is_fifo():
            found[name] = "pipe"
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
    (one / "media/empty/folder").chmod(0o750)
    (one / "media/link").symlink_to("plain.png")
    (one / "media/out").symlink_to("../../elsewhere")
    (one / "media/absolute").symlink_to("/etc/hostname")
    write(one, "media/.git/config", "no")
    os.mkfifo(one / "media/pipe")
    write(two, "media/plain.png", "old, longer than the new one will be, surely")
    write(two, "media/changed", "a file where a folder will be")
    write(two, "media/was-folder/mine/x.png", "goes with its folder, and comes back with it")
    write(two, "media/mine.png", "only here")
    write(two, "code/other.php")
    # Folders that switch as a whole: changed, new, gone, in place of a link, with files that stay.
    write(one, "code/parts/changed/main.php", "<?php new")
    write(one, "code/parts/changed/deep/same.php", "<?php same")
    write(one, "code/parts/changed/tool", "run me", 0o755)
    (one / "code/parts/changed/current").symlink_to("deep")
    write(one, "code/parts/new/main.php", "<?php first")
    (one / "code/parts/new/cache").mkdir(mode=0o775)
    write(one, "code/parts/was-link/main.php", "<?php a folder now")
    write(one, "code/parts/loose.php", "<?php a single file")
    write(two, "code/parts/changed/main.php", "<?php old")
    write(two, "code/parts/changed/deep/same.php", "<?php same")
    write(two, "code/parts/changed/tool", "run me", 0o644)
    write(two, "code/parts/changed/own-cache/page.html", "stays", 0o640)
    write(two, "code/parts/gone/main.php", "<?php removed")
    (two / "code/parts/was-link").symlink_to("gone")
    os.utime(two / "code/parts/changed/deep/same.php", (5, 5))
    return LocalTree(one), LocalTree(two)


TERMS = Terms(whole=["code/parts/*"])


def stage(one: LocalTree, two: LocalTree, token: str = "t1", terms: Terms = TERMS) -> Difference:
    difference = compare_trees(one, two, ["media", "code"], terms)
    for unit in difference.units:
        for entry in unit.copies:
            two.stage_copy(token, entry, entry.path)
    plain = [e for e in difference.coming if e.kind == "file" and e.path not in difference.reused]
    for entry in difference.coming:
        if entry.kind != "file":
            two.stage(token, entry)
        elif entry.path in difference.reused:
            two.stage_copy(token, entry, difference.reused[entry.path])
    two.stage_all(token, one.read_all(plain))
    two.flush(token)
    return difference


@pytest.fixture(params=["swap", "no swap"])
def swaps(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> bool:
    """On file systems that can trade two names, and on those that cannot."""
    if request.param == "no swap":
        monkeypatch.setattr(Below, "swap", lambda below, one, other: False)
    return bool(request.param == "swap")


def mirrored(two: LocalTree) -> Terms:
    """What an earlier transfer brought may go."""
    ours = DigestCache()
    ours.keep([e for e in two.scan(["."]).values() if "gone" in e.path], brought=True)
    return Terms(whole=["code/parts/*"], ours=ours)


@pytest.mark.usefixtures("swaps")
def test_everything_arrives_and_what_is_not_ours_stays(trees: tuple[LocalTree, LocalTree]) -> None:
    one, two = trees
    before = state(two.root)
    terms = mirrored(two)
    found = stage(one, two, terms=terms)
    assert state(two.root) == before
    assert {unit.path.rpartition("/")[2]: (unit.goes, unit.comes) for unit in found.units} == {
        "changed": ("folder", True), "new": (None, True), "gone": ("folder", False),
        "was-link": ("file", True),
    }  # fmt: skip
    assert found.reused["code/parts/changed/tool"] == "code/parts/changed/tool"
    moves = found.moves()
    two.exchange("t1", moves)
    two.exchange("t1", moves)  # once more changes nothing
    after = state(two.root)
    for name, value in state(one.root).items():
        if name in ("media/out", "media/absolute", "media/pipe") or ".git" in name:
            assert name not in after
        elif not name.endswith("deep/same.php"):
            assert after[name] == value, name
    assert after["media/mine.png"] == before["media/mine.png"]
    kept = "code/parts/changed/own-cache"
    assert {k: v for k, v in after.items() if k.startswith(kept)} == {
        k: v for k, v in before.items() if k.startswith(kept)
    }
    assert not any("gone" in name for name in after)
    assert dict(found.passed) == {
        "media/.git": "version control", "media/absolute": "link out of the root",
        "media/out": "link out of the root", "media/pipe": "no ordinary file",
    }  # fmt: skip
    assert compare_trees(one, two, ["media", "code"], terms).nothing
    two.put_back("t1", moves)
    two.discard("t1")
    assert state(two.root) == before


@pytest.mark.parametrize("how", ["put back", "go on", "go on and undo"])
def test_stopped_after_any_rename(
    trees: tuple[LocalTree, LocalTree], monkeypatch: pytest.MonkeyPatch, how: str, swaps: bool
) -> None:
    """Each folder that switches as a whole is old or new at any moment; then back, or on."""
    one, two = trees
    before = state(two.root)
    terms = mirrored(two)
    moves = stage(one, two, terms=terms).moves()
    two.exchange("t1", moves)
    wanted = state(two.root)
    two.put_back("t1", moves)
    two.discard("t1")

    def part(found: dict[str, object], unit: str) -> dict[str, object]:
        return {k: v for k, v in found.items() if k == unit or k.startswith(unit + "/")}

    units = [f"code/parts/{name}" for name in ("changed", "new", "gone", "was-link")]
    for limit in range(120):
        moves = stage(one, two, terms=terms).moves()
        finished = stopping(monkeypatch, limit, lambda: two.exchange("t1", moves))  # noqa: B023
        now = state(two.root)
        for unit in units:
            allowed = [part(before, unit), part(wanted, unit)]
            if not swaps and unit != "code/parts/new":
                allowed.append({})  # without a swap there is a moment with neither
            assert part(now, unit) in allowed, (limit, unit)
        if how == "put back":
            # Stopped once more while it is taken back, and taken back again.
            stopping(monkeypatch, limit % 7, lambda: two.put_back("t1", moves))  # noqa: B023
            two.put_back("t1", moves)
            assert state(two.root) == before, limit
        else:
            LocalTree(two.root).exchange("t1", moves)
            assert state(two.root) == wanted, limit
            if how == "go on and undo":
                two.hand_over("t1", "old", "t2", "new")
                back = [move.reversed() for move in reversed(moves)]
                stopping(monkeypatch, limit % 9, lambda: two.exchange("t2", back))  # noqa: B023
                two.exchange("t2", back)
                assert state(two.root) == before, limit
                two.discard("t2")
            else:
                two.put_back("t1", moves)
        two.discard("t1")
        assert state(two.root) == before
        if finished:
            assert limit > 15
            return
    raise AssertionError("the exchange never came to its end")


def stopping(monkeypatch: pytest.MonkeyPatch, limit: int, work: Callable[[], None]) -> bool:
    """Do ``work`` until its ``limit``-th rename; True if it came to its end."""
    left = [limit]
    real, swap = Below.rename, Below.swap

    def count() -> None:
        if left[0] == 0:
            raise KeyboardInterrupt
        left[0] -= 1

    def rename(below: Below, path: bytes, target: bytes, make: bool = False) -> None:
        count()
        real(below, path, target, make)

    def swapped(below: Below, first: bytes, second: bytes) -> bool:
        count()
        return swap(below, first, second)

    with monkeypatch.context() as patched:
        patched.setattr(Below, "rename", rename)
        patched.setattr(Below, "swap", swapped)
        try:
            work()
        except KeyboardInterrupt:
            return False
    return True


def test_undoing_and_redoing(trees: tuple[LocalTree, LocalTree]) -> None:
    one, two = trees
    before = state(two.root)
    moves = stage(one, two, terms=mirrored(two)).moves()
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


def test_what_came_into_being_meanwhile_is_not_run_over(
    trees: tuple[LocalTree, LocalTree],
) -> None:
    one, two = trees
    moves = stage(one, two).moves()
    write(two.root, "code/parts/new/by-hand.php", "somebody was quicker")
    before = state(two.root)
    with pytest.raises(FilesError, match=r"code/parts/new: .*since the plan was made"):
        two.exchange("t1", moves)
    two.put_back("t1", moves)
    assert state(two.root) == before


def test_a_whole_folder_with_something_foreign_in_it_is_exchanged_file_by_file(
    trees: tuple[LocalTree, LocalTree],
) -> None:
    one, two = trees
    write(two.root, "code/parts/changed/.git/HEAD", "a repository of the target's own")
    found = stage(one, two)
    assert "code/parts/changed" not in {unit.path for unit in found.units}
    two.exchange("t1", found.moves())
    assert (two.root / "code/parts/changed/.git/HEAD").exists()
    assert (two.root / "code/parts/changed/main.php").read_text() == "<?php new"


def test_nothing_is_written_through_a_link_out_of_the_root(tmp_path: Path) -> None:
    one, two, out = tmp_path / "one", tmp_path / "two", tmp_path / "out"
    write(one, "a/b/file.txt", "new")
    write(one, "a/plain.txt", "new")
    write(out, "file.txt", "not ours")
    (two / "a").mkdir(parents=True)
    (two / "a/b").symlink_to(out)
    source, target = LocalTree(one), LocalTree(two)
    found = compare_trees(source, target, ["."])
    assert found.blocked == (("a/b", "link out of the root"),)
    assert {entry.path for entry in found.coming} == {"a/plain.txt"}
    assert (out / "file.txt").read_text() == "not ours"


def test_equal_size_is_settled_by_content_and_remembered(tmp_path: Path) -> None:
    one, two = LocalTree(tmp_path / "one"), LocalTree(tmp_path / "two")
    for name, ours, theirs in (("a", "same", "same"), ("b", "1234", "5678")):
        write(one.root, name, ours)
        write(two.root, name, theirs)
    aged(one.root, 1_600_000_000)
    aged(two.root)
    terms = Terms(
        theirs=DigestCache(tmp_path / "r/1.sqlite"), ours=DigestCache(tmp_path / "r/2.sqlite")
    )
    assert [entry.path for entry in compare_trees(one, two, ["."], terms).changed] == ["b"]
    read: list[str] = []
    two.digest = lambda path: read.append(path) or ""  # type: ignore[method-assign,func-returns-value]
    later = Terms(
        theirs=DigestCache(tmp_path / "r/1.sqlite"), ours=DigestCache(tmp_path / "r/2.sqlite")
    )
    assert [entry.path for entry in compare_trees(one, two, ["."], later).changed] == ["b"]
    assert read == []
    (tmp_path / "r/2.sqlite").write_bytes(b"damaged " * 100)
    again = DigestCache(tmp_path / "r/2.sqlite")
    assert again.known(Entry("a", "file", 4, 1)) == ""


def test_only_what_was_brought_and_is_as_it_came_goes(tmp_path: Path) -> None:
    one, two = LocalTree(tmp_path / "one"), LocalTree(tmp_path / "two")
    for name in ("keep.txt", "2025/a.png", "2025/b.png", "old/c.png", "own.log", "x.tmp"):
        write(two.root, name, name)
    aged(two.root)
    (one.root / "2025").mkdir(parents=True)
    ours = DigestCache()
    there = two.scan(["."])
    ours.keep([e for e in there.values() if e.path not in ("keep.txt",)], brought=True)
    write(two.root, "2025/b.png", "touched up here")
    terms = Terms(leave=Patterns(["*.log"]), keep=Patterns(["*.tmp"]), ours=ours)
    found = compare_trees(one, two, ["."], terms)
    assert {entry.path for entry in found.gone} == {"2025/a.png", "old/c.png", "old"}
    assert found.altered == 1
    mirror = Terms(leave=Patterns(["*.log"]), keep=Patterns(["*.tmp"]), mirror=True)
    found = compare_trees(one, two, ["."], mirror)
    gone = {"keep.txt", "2025/a.png", "2025/b.png", "old/c.png", "old"}
    assert {entry.path for entry in found.gone} == gone
    two.exchange("t", found.moves())
    assert sorted(p.name for p in two.root.rglob("*") if p.is_file() and ".vetrin" not in p.parts) == [
        "own.log", "x.tmp",
    ]  # fmt: skip


def test_archives_beside_the_code_stay_and_others_come(tmp_path: Path) -> None:
    one, two = LocalTree(tmp_path / "one"), LocalTree(tmp_path / "two")
    for name in (
        "dump.sql.gz",
        "backups/site.zip",
        "code/plugin/fonts.zip",
        "wanted.tar",
        ".DS_Store",
    ):
        write(one.root, name)
    write(two.root, "mine.zip")
    loose = lambda path: not path.startswith("code/")  # noqa: E731
    terms = Terms(loose=loose, leave=Patterns(["!wanted.tar"]), mirror=True)
    found = compare_trees(one, two, ["."], terms)
    assert {e.path for e in found.new if e.kind == "file"} == {
        "code/plugin/fonts.zip",
        "wanted.tar",
    }
    assert {e.path for e in found.archives} == {"dump.sql.gz", "backups/site.zip"}
    assert found.gone == ()


def test_moved_files_and_changed_pieces_are_not_sent_again(tmp_path: Path) -> None:
    one, two = LocalTree(tmp_path / "one"), LocalTree(tmp_path / "two")
    big = bytearray(os.urandom(40 * PIECE + 77))
    write(two.root, "film.mp4", bytes(big))
    write(two.root, "old-name.png", b"picture" * 999)
    big[7 * PIECE + 5] ^= 1
    write(one.root, "film.mp4", bytes(big) + b"more")
    write(one.root, "2026/new name.png", b"picture" * 999)
    aged(one.root)
    found = compare_trees(one, two, ["."])
    assert found.reused == {"2026/new name.png": "old-name.png"}
    assert found.pieced == {"film.mp4"}
    there = {digest: n * PIECE for n, digest in enumerate(two.pieces("film.mp4"))}
    sent = []

    def parts():
        for number, digest in enumerate(one.pieces("film.mp4")):
            if digest in there:
                yield Span(there[digest], PIECE)
            else:
                for block in one.read("film.mp4", number * PIECE, PIECE):
                    sent.append(len(block))
                    yield block

    entry = next(e for e in found.changed if e.path == "film.mp4")
    two.stage_changes("t", entry, "film.mp4", parts())
    two.exchange("t", [Move("film.mp4", "file", "file")])
    assert (two.root / "film.mp4").read_bytes() == bytes(big) + b"more"
    assert sum(sent) == PIECE + 81  # the piece that changed, and the last one, which grew


def test_texts_are_compared_as_they_will_be(tmp_path: Path) -> None:
    one, two = LocalTree(tmp_path / "one"), LocalTree(tmp_path / "two")
    write(one.root, "a.css", "url(//live.test)")
    write(two.root, "a.css", "url(//copy.test:8080)")
    write(one.root, "b.css", "url(//live.test) new")
    write(two.root, "b.css", "url(//live.test) new")
    terms = Terms(
        texts=Patterns(["*.css"]), rewrite=lambda c: c.replace(b"live.test", b"copy.test:8080")
    )
    found = compare_trees(one, two, ["."], terms)
    assert [(e.path, e.size) for e in found.changed] == [("b.css", 25)]
    assert found.texts == {"b.css"}


class Folding(LocalTree):
    """A stand-in for a file system that ignores case, which cannot be mounted here."""

    folds_names = True  # type: ignore[assignment]


def test_names_that_are_one_on_the_target(tmp_path: Path) -> None:
    one, two = LocalTree(tmp_path / "one"), Folding(tmp_path / "two")
    write(one.root, "Photo.jpg", "new")
    write(two.root, "photo.JPG", "old")
    found = compare_trees(one, two, ["."])
    assert [e.path for e in found.changed] == ["Photo.jpg"]
    assert found.only_there == ()
    write(one.root, "caf\u00e9/a.png")
    write(one.root, "CAFE\u0301/a.png")
    with pytest.raises(Clash, match="one name there"):
        compare_trees(one, two, ["."])
    assert not LocalTree(tmp_path / "one").folds_names


def test_a_file_that_can_not_be_read_is_named(tmp_path: Path) -> None:
    tree = LocalTree(tmp_path)
    with pytest.raises(FilesError, match=r"gone\.png: No such file"):
        list(tree.read("gone.png"))
    (tmp_path / "f").write_text("")
    with pytest.raises(FilesError, match="f/x"):
        tree.stage("t", Entry("f/x", "file"), [b"1"])
        tree.exchange("t", [Move("f/x", None, "file")])


def test_names_fit_for_any_terminal() -> None:
    assert printable("a 🚂 é") == "a 🚂 é"
    shown = [printable(name) for name in ("new\nline", "\x1b[31m", os.fsdecode(b"\xff"), "\ud800")]
    assert shown == ["new\\nline", "\\x1b[31m", "\\xff", "\\ud800"]


def test_a_folder_on_another_file_system(trees: tuple[LocalTree, LocalTree]) -> None:
    """Uploads that are a link to another disk: renamed there, found again, and cleaned up."""
    one, two = trees
    there = Path(tempfile.mkdtemp(dir="/dev/shm" if Path("/dev/shm").is_dir() else None))
    try:
        shutil.copytree(two.root / "media", there / "media", symlinks=True)
        shutil.rmtree(two.root / "media")
        (two.root / "media").symlink_to(there / "media")
        before = state(there)
        moves = stage(one, two).moves()
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


leaves = st.sampled_from(["", "a", "bb", "<?php 1", "<?php 2"])
names = st.sampled_from(["x", "y", "Z", "unit1", "unit2", "deep"])
nested = st.recursive(
    leaves | st.just(("link",)),
    lambda inner: st.dictionaries(names, inner, max_size=3),
    max_leaves=8,
)


def grow(root: Path, tree: object) -> None:
    if isinstance(tree, dict):
        root.mkdir(exist_ok=True)
        for name, inner in tree.items():
            grow(root / name, inner)
    elif isinstance(tree, tuple):
        root.symlink_to("x")
    else:
        root.write_text(str(tree))


@settings(max_examples=200, deadline=None, report_multiple_bugs=False)
@example({"x": ("link",), "y": {"x": ("link",)}}, {"y": ("link",), "x": {"x": ("link",)}}, False)
@given(
    st.dictionaries(names, nested, max_size=4),
    st.dictionaries(names, nested, max_size=4),
    st.booleans(),
)
def test_any_tree_becomes_any_other_and_back(one: dict, two: dict, mirror: bool) -> None:
    with tempfile.TemporaryDirectory() as folder:
        source, target = LocalTree(Path(folder, "one")), LocalTree(Path(folder, "two"))
        for tree, content in ((source, one), (target, two)):
            grow(tree.root, content)
            # Never one time by chance: same size and time is taken for the same.
            aged(tree.root, 1_600_000_000 + 1000 * (tree is target))
        before, wanted = state(target.root), state(source.root)
        terms = Terms(whole=["unit*", "*/unit*"], mirror=mirror)
        found = compare_trees(source, target, ["."], terms)
        for unit in found.units:
            for entry in unit.copies:
                target.stage_copy("t", entry, entry.path)
        for entry in found.coming:
            if entry.path in found.reused:
                target.stage_copy("t", entry, found.reused[entry.path])
            else:
                target.stage("t", entry, source.read(entry.path) if entry.kind == "file" else ())
        target.flush("t")
        moves = found.moves()
        target.exchange("t", moves)
        after = state(target.root)
        plain = {k: v[0] if isinstance(v, tuple) else v for k, v in after.items()}
        for name, value in wanted.items():
            assert plain[name] == (value[0] if isinstance(value, tuple) else value)
        if mirror:
            assert set(after) == set(wanted)
        assert compare_trees(source, target, ["."], terms).nothing
        target.exchange("t", moves)  # each once more: that changes nothing
        assert state(target.root) == after
        target.put_back("t", moves)
        target.put_back("t", moves)
        assert state(target.root) == before
        target.exchange("t", moves)
        target.hand_over("t", "old", "u", "new")
        back = [move.reversed() for move in reversed(moves)]
        target.exchange("u", back)
        target.exchange("u", back)
        assert state(target.root) == before


@pytest.mark.parametrize("forking", [True, False])
def test_two_trees_scanned_at_once(
    trees: tuple[LocalTree, LocalTree], monkeypatch: pytest.MonkeyPatch, forking: bool
) -> None:
    """The same comes of it, wherever the second one is scanned; its errors too."""
    monkeypatch.setattr(parallel_scan, "may_fork", lambda: forking)
    one, two = trees

    def both(other: LocalTree) -> Manifest | None:
        with parallel_scan.scanning(other, ["media", "code"], {"media/link"}) as later:
            return later(one.scan(["media", "code"], {"media/link"}))

    found = both(two)
    wanted = two.scan(["media", "code"], {"media/link"})
    assert found == wanted
    assert found is not None
    assert found.passed == wanted.passed
    same = both(LocalTree(one.root))
    assert same is None if forking else same == one.scan(["media", "code"], {"media/link"})
    assert both(LocalTree(one.root / "nowhere")) == {}

    class Failing(LocalTree):
        def scan(self, *_: object) -> Manifest:
            raise FilesError("media: Input/output error")

    with pytest.raises(FilesError, match="Input/output error"):
        both(Failing(two.root))
    children = Path(f"/proc/{os.getpid()}/task/{os.getpid()}/children")
    before = children.read_text() if children.exists() else ""
    with pytest.raises(ZeroDivisionError), parallel_scan.scanning(two, ["."], ()):
        raise ZeroDivisionError  # the other process is not left behind
    assert (children.read_text() if children.exists() else "") == before


def test_a_live_tree_changes_while_it_is_scanned(tmp_path: Path) -> None:
    for number in range(600):
        write(tmp_path, f"cache/{number % 20}/{number}")
    stop = threading.Event()

    def churn() -> None:
        while not stop.is_set():
            for number in range(0, 600, 7):
                shutil.rmtree(tmp_path / f"cache/{number % 20}", ignore_errors=True)
                write(tmp_path, f"cache/{number % 20}/{number}")

    other = threading.Thread(target=churn)
    other.start()
    try:
        for _ in range(60):
            assert "cache" in LocalTree(tmp_path).scan(["."])
    finally:
        stop.set()
        other.join()


def as_nobody(work: Callable[[], None]) -> None:
    """Do ``work`` in a child without root's rights; what it raises is raised here as text."""
    out, into = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            os.close(out)
            if os.geteuid() == 0:
                os.setgroups([])
                os.setgid(65534)
                os.setuid(65534)
            work()
            os._exit(0)
        except BaseException as error:
            os.write(into, repr(error).encode())
            os._exit(1)
    os.close(into)
    with os.fdopen(out, "rb") as pipe:
        said = pipe.read().decode()
    _, status = os.waitpid(child, 0)
    assert os.waitstatus_to_exitcode(status) == 0, said


@pytest.mark.usefixtures("swaps")
def test_folders_that_may_not_be_written_to() -> None:
    """Their owner, who is not root, gets through all of it, and their modes come and go exactly."""
    place = Path(tempfile.mkdtemp(dir="/tmp"))
    place.chmod(0o777)

    def work() -> None:
        one, two = LocalTree(place / "one"), LocalTree(place / "two")
        for tree, text in ((one, "new"), (two, "older")):
            write(tree.root, "media/2026/a.png", text, 0o444)
            write(tree.root, "code/parts/desk/inc/main.php", text)
            write(tree.root, f"media/{text}/only.png", text)
        write(one.root, "code/parts/fresh/main.php", "new")
        for tree in (one, two):
            for folder in sorted(tree.root.rglob("*"), reverse=True):
                if folder.is_dir():
                    folder.chmod(0o555)
        terms = Terms(whole=["code/parts/*"], mirror=True)
        before, wanted = state(two.root), state(one.root)
        difference = stage(one, two, terms=terms)
        moves = difference.moves()
        two.exchange("t1", moves)
        assert {k: v[:2] for k, v in state(two.root).items()} == {
            k: v[:2] for k, v in wanted.items()
        }
        two.put_back("t1", moves)
        assert state(two.root) == before
        two.exchange("t1", moves)
        two.hand_over("t1", "old", "t2", "new")
        two.exchange("t2", [move.reversed() for move in reversed(moves)])
        assert state(two.root) == before
        two.discard("t1")
        two.discard("t2")

    try:
        as_nobody(work)
    finally:
        shutil.rmtree(place)


def test_room_is_looked_up_where_files_will_lie(tmp_path: Path) -> None:
    tree = LocalTree(tmp_path / "not/yet")
    rooms = [tree.room(""), tree.room("media/2026"), LocalTree(tmp_path).room("")]
    assert len({room.disk for room in rooms}) == 1
    for room in rooms:  # others write meanwhile
        assert room.free == pytest.approx(rooms[0].free, rel=0.05)
    if Path("/dev/shm").is_dir():
        (tmp_path / "media").symlink_to("/dev/shm")
        assert LocalTree(tmp_path).room("media/2026").disk != LocalTree(tmp_path).room("").disk
