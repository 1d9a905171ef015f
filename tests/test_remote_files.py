"""The FileTree contract on another machine: by the helper in both forms, and by SFTP alone."""

from __future__ import annotations

import contextlib
import json
import os
import shlex
import shutil
import sqlite3
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
import zstandard
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from ssh_server import SshServer
from test_files import aged, grow, mirrored, names, nested, stage, state, trees, write
from vetrin.config.host import Host
from vetrin.errors import FilesError
from vetrin.files import (
    PIECE,
    Entry,
    FileChange,
    Listings,
    LocalTree,
    Machine,
    RemoteTree,
    ScannedParts,
    Span,
    Terms,
    compare_trees,
)
from vetrin.jobs import was_cut_off
from vetrin.remote.helper_machine import HelperMachine
from vetrin.remote.ssh.channel import Pipe
from vetrin.remote.ssh.connection import Lines
from vetrin.remote.ssh.helper_client import Helpers
from vetrin.remote.ssh.sftp import SftpMachine

__all__ = ["trees"]
RemoteHost = Callable[[Path], RemoteTree]


@pytest.fixture(scope="module")
def lines(ssh: SshServer) -> Iterator[Lines]:
    found = Lines()
    with pytest.MonkeyPatch.context() as patched:
        patched.setenv("HOME", str(ssh.home))
        found.to(Host(ssh.name)).open()
        yield found
    found.close()


@pytest.fixture(scope="module", params=["helper.py", "helper.php", "sftp", "relay"])
def machine(request: pytest.FixtureRequest, lines: Lines, ssh: SshServer) -> Machine:
    if request.param == "relay":
        return request.getfixturevalue("relay").connect().machine
    line = lines.to(Host(ssh.name))
    if request.param == "sftp":
        return SftpMachine(line)
    return HelperMachine(Helpers(line, forms=[request.param]))


@pytest.fixture
def pair(
    trees: tuple[LocalTree, LocalTree], machine: Machine, tmp_path: Path
) -> tuple[LocalTree, RemoteTree]:
    for tree in trees:
        aged(tree.root, 1_600_000_000 + (tree is trees[1]) * 1000)
    return trees[0], RemoteTree(machine, str(trees[1].root), Listings(tmp_path / "listings"))


def live(tree: RemoteTree) -> dict[str, object]:
    return state(Path(tree.root))


CHANGES: list[Callable[[Path, int], None]] = [
    lambda root, n: None,
    lambda root, n: write(root, f"media/{n % 7}/{n}.jpg", b"new"),
    lambda root, n: write(root, f"media/{n % 5}/deep/{n}/a", b"deeper"),
    lambda root, n: (root / f"media/{n % 7}/film").write_bytes(b"x" * (n + 1)),
    lambda root, n: os.utime(root / f"media/{n % 7}/film", ns=(n, n)),
    lambda root, n: (root / f"media/{n % 7}").chmod(0o700 + n % 8),
    lambda root, n: shutil.rmtree(root / f"media/{n % 7}"),
    lambda root, n: (root / f"media/{n % 7}").rename(root / f"media/moved-{n}"),
    lambda root, n: (root / f"media/link-{n}").symlink_to("../media" if n % 2 else "/etc"),
    lambda root, n: write(root, f"media/{n % 7}/.git/config", b"not ours"),
]


@settings(
    max_examples=12, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(
    st.lists(
        st.tuples(st.integers(0, len(CHANGES) - 1), st.integers(0, 60)), min_size=2, max_size=12
    )
)
def test_only_the_parts_of_a_listing_that_changed_are_told(
    lines: Lines, ssh: SshServer, changes: list[tuple[int, int]]
) -> None:
    """Whatever is done between two looks, what is found is what is there; what is as it was is not told."""
    machine = HelperMachine(Helpers(lines.to(Host(ssh.name)), forms=["helper.py"]))
    with tempfile.TemporaryDirectory() as name:
        root, kept = Path(name) / "site", Path(name) / "listings"
        for folder in range(7):
            write(root, f"media/{folder}/film", b"film")
        seen: list[ScannedParts] = []

        def scan_parts(*asked: Any) -> ScannedParts | None:
            found = machine.scan_parts(*asked)
            assert found is not None
            seen.append(found)
            return found

        watched = SimpleNamespace(
            **{name: getattr(machine, name) for name in ("streams", "grain", "algorithms", "look")},
            scan_parts=scan_parts,
        )
        for number, variety in [(0, 0), *changes, (0, 0)]:
            with contextlib.suppress(OSError):
                CHANGES[number](root, variety)
            there = LocalTree(root).scan(["media"], ["media/3"], ["media/5/de"])
            for _ in range(2):
                tree = RemoteTree(watched, str(root), Listings(kept))  # type: ignore[arg-type]
                found = tree.scan(["media"], ["media/3"], ["media/5/de"])
                assert (dict(found), found.passed) == (dict(there), there.passed)
            assert not seen[-1].found and seen[-1].same == seen[-1].digests.keys() != set()


def test_what_many_bytes_need_is_made_before_they_are_asked_for(
    lines: Lines, ssh: SshServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("HOME", str(ssh.home))
    own = Lines()
    line = own.to(Host(ssh.name))
    helpers = Helpers(line, forms=["helper.py"])
    begun: list[bool] = []
    command = line.command

    def counted(text: str, *, packed: bool = False) -> Pipe:
        begun.append(packed)
        return command(text, packed=packed)

    def waited(many: int) -> None:
        until = time.monotonic() + 30
        while len(begun) < many and time.monotonic() < until:
            time.sleep(0.01)
        assert begun == [True] * many

    monkeypatch.setattr(line, "command", counted)
    line.rate = 1e9
    helpers.expect_bulk()
    line.rate, line.asked = 1e6, True
    helpers.expect_bulk()
    assert not begun  # a fast line needs none, and nobody is asked for a password amid other work
    line.asked = False
    for _ in range(2):
        helpers.expect_bulk()
    waited(1)
    frames, pipe = helpers.session(bulk=True)
    assert frames.ask("load") and begun == [True]
    helpers.session(bulk=True)[1].close()
    assert begun == [True, True]
    # What was made and lost meanwhile is made once more.
    helpers.expect_bulk()
    waited(3)
    made = helpers._coming
    assert made is not None
    made.result().pipe.close()
    assert made.result().pipe.take_into(memoryview(bytearray(1))) == 0
    frames, other = helpers.session(bulk=True)
    assert frames.ask("load") and begun == [True] * 4
    # What nobody asked for ends with the others.
    helpers.expect_bulk()
    waited(5)
    left = helpers._coming
    assert left is not None
    idle = left.result().pipe
    helpers.close()
    assert idle.take_into(memoryview(bytearray(1))) == 0
    pipe.close()
    other.close()
    own.close()


def test_a_listing_that_is_lost_or_damaged_is_told_anew(
    tmp_path: Path, lines: Lines, ssh: SshServer
) -> None:
    machine = HelperMachine(Helpers(lines.to(Host(ssh.name)), forms=["helper.py"]))
    write(tmp_path, "media/1/film", b"film")
    state = tmp_path / "listings"
    for content in (None, b"", b"no database", None):
        found = RemoteTree(machine, str(tmp_path), Listings(state)).scan(["media"])
        assert dict(found) == dict(LocalTree(tmp_path).scan(["media"]))
        if content is not None:
            state.write_bytes(content)
    with contextlib.closing(sqlite3.connect(state)) as file, file:
        ((kept,),) = file.execute("SELECT content FROM listings")
        wrong = [b'{"3": ["00", 1]}', b"[1]"]
        for column, value in (
            (1, 7),
            (2, "media\0x"),
            (3, ["door"]),
            (4, ["4"]),
            (5, [1.5]),
            (6, []),
        ):
            parts = json.loads(zstandard.decompress(kept))
            part = next(iter(parts.values()))
            assert part[1] == 1 and part[column] != value
            part[column] = value
            wrong.append(json.dumps(parts).encode())
        for damage in (b"", *map(zstandard.compress, wrong)):
            file.execute("UPDATE listings SET content = ?", (damage,))
            file.commit()
            found = RemoteTree(machine, str(tmp_path), Listings(state)).scan(["media"])
            assert dict(found) == dict(LocalTree(tmp_path).scan(["media"]))


def test_contents_large_and_small_whole_and_in_parts(tmp_path: Path, machine: Machine) -> None:
    sizes = [0, 1, 4095, PIECE - 1, PIECE, PIECE + 1, 3 * PIECE, 5_000_001]
    for number, size in enumerate(sizes):
        write(tmp_path, f"media/{number}", os.urandom(size))
    tree = RemoteTree(machine, str(tmp_path))
    entries = [e for e in tree.scan(["media"]).values() if e.kind == "file"]
    entries.insert(3, Entry("media/gone", "file", 12))
    for entry, blocks in tree.read_all(entries):
        if entry.path == "media/gone":
            with pytest.raises(FilesError, match="media/gone") as told:
                b"".join(blocks)
            assert isinstance(told.value.__cause__, FileNotFoundError)
        elif entry.size == 3 * PIECE:
            next(iter(blocks))  # what is not taken does not come with the next one
        else:
            assert b"".join(map(bytes, blocks)) == (tmp_path / entry.path).read_bytes()
    big = (tmp_path / "media/7").read_bytes()
    assert b"".join(tree.read("media/7", 1000, 2_000_000)) == big[1000:2_001_000]
    assert b"".join(tree.read("media/7", 5_000_000)) == big[5_000_000:]
    with pytest.raises(FilesError, match="media/gone") as told:
        b"".join(tree.read("media/gone"))
    assert isinstance(told.value.__cause__, FileNotFoundError)
    for name in tree.algorithms:
        assert tree.pieces("media/7", name) == LocalTree(tmp_path).pieces("media/7", name)
    assert tree.room("media/not/there").free == pytest.approx(
        LocalTree(tmp_path).room("").free, rel=0.05
    )
    entry = Entry("media/made", "file", 0, 1_700_000_000 * 10**9, 0o640)
    tree.stage_changes("t", entry, "media/7", [b"head", Span(100, 2_000_000), b"", b"tail"])
    made = tmp_path / ".vetrin/t/new/media/made"
    assert made.read_bytes() == b"head" + big[100:2_000_100] + b"tail"
    assert (made.stat().st_mode & 0o7777, made.stat().st_mtime) == (0o640, 1_700_000_000)


@pytest.mark.parametrize("form", ["helper.py", "helper.php", "sftp"])
def test_a_line_that_is_lost_while_contents_are_read(
    tmp_path: Path, ssh: SshServer, monkeypatch: pytest.MonkeyPatch, form: str
) -> None:
    """Whoever reads them, outside of what asked for them, is told as of any file."""
    for number in range(3):
        write(tmp_path, f"media/{number}", os.urandom(20_000_000))
    monkeypatch.setenv("HOME", str(ssh.home))
    lines = Lines()
    line = lines.to(Host(ssh.name))
    machine = SftpMachine(line) if form == "sftp" else HelperMachine(Helpers(line, forms=[form]))
    tree = RemoteTree(machine, str(tmp_path))
    entries = list(tree.scan(["media"]).values())
    with pytest.raises(FilesError, match=r"the connection was lost|the helper ended") as told:
        for entry, blocks in tree.read_all([e for e in entries if e.kind == "file"]):
            for _ in blocks:
                for connection in line._connections.values():
                    line.loop.call_soon_threadsafe(connection.abort)
            assert entry.path != "media/2"
    assert was_cut_off(told.value)
    lines.close()


def test_who_reads_slowly_is_not_sent_more_and_more(
    tmp_path: Path, lines: Lines, ssh: SshServer
) -> None:
    """What has come and nobody took yet is in memory: the other side has to wait with the rest."""
    far = tmp_path / "far"
    count = f"import os,sys\nn=0\nwhile True: n+=os.write(1,bytes(1<<16)); open({str(far)!r},'w').write(str(n))"
    pipe = lines.to(Host(ssh.name)).command(f"python3 -c {shlex.quote(count)}")
    taken, into = 0, memoryview(bytearray(1 << 18))
    while taken < 24 << 20:
        taken += pipe.take_into(into)
        time.sleep(0.02)  # so that the other side is not the slower one
    sent = int(far.read_text() or 0)
    pipe.close()
    assert sent - taken < 8 << 20


def test_everything_arrives_and_comes_back(pair: tuple[LocalTree, RemoteTree]) -> None:
    one, two = pair
    before = live(two)
    terms = mirrored(LocalTree(Path(two.root)))
    moves = stage(one, two, terms=terms).moves()
    assert live(two) == before
    two.exchange("t1", moves)
    two.exchange("t1", moves)
    after = live(two)
    for name, value in state(one.root).items():
        if not (name in ("media/out", "media/absolute", "media/pipe") or ".git" in name):
            assert after[name] == value or name.endswith("deep/same.php"), name
    assert compare_trees(one, two, ["media", "code"], terms).nothing
    back = [move.reversed() for move in reversed(moves)]
    two.hand_over("t1", "old", "t2", "new")
    two.exchange("t2", back)
    assert live(two) == before
    two.discard("t2")
    two.discard("t1")
    assert sorted(path.name for path in (Path(two.root) / ".vetrin").iterdir()) == [
        ".gitignore", ".htaccess",
    ]  # fmt: skip


class Stopping:
    """A machine that is gone after some acts: those before are done, those after are not."""

    def __init__(self, machine: Machine, limit: int) -> None:
        self._machine = machine
        self.left = limit

    def __getattr__(self, name: str) -> Any:
        return getattr(self._machine, name)

    def act(self, acts: Sequence[FileChange], root: str = "") -> None:
        for act in acts:
            if self.left == 0:
                raise KeyboardInterrupt
            self.left -= 1
            self._machine.act([act], root)


@pytest.mark.parametrize("way", ["back", "on"])
def test_stopped_after_any_act(pair: tuple[LocalTree, RemoteTree], way: str) -> None:
    one, two = pair
    machine = two.machine
    before = live(two)
    terms = mirrored(LocalTree(Path(two.root)))
    finished = False
    limit = 0
    while not finished:
        moves = stage(one, two, terms=terms).moves()
        two.machine = Stopping(machine, limit)  # type: ignore[assignment]
        try:
            two.exchange("t1", moves)
            finished = True
        except KeyboardInterrupt:
            pass
        two.machine = machine
        again = RemoteTree(machine, two.root)
        if way == "on":
            again.exchange("t1", moves)
            assert compare_trees(one, again, ["media", "code"], terms).nothing, limit
        again.put_back("t1", moves)
        assert live(two) == before, limit
        again.discard("t1")
        limit += 5
    assert limit > 20


@settings(
    max_examples=25, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
@given(
    st.dictionaries(names, nested, max_size=4),
    st.dictionaries(names, nested, max_size=4),
    st.booleans(),
)
def test_any_tree_becomes_any_other_and_back(
    machine: Machine,
    tmp_path_factory: pytest.TempPathFactory,
    one: dict,
    two: dict,
    mirror: bool,
) -> None:
    with tempfile.TemporaryDirectory(dir=tmp_path_factory.getbasetemp()) as folder:
        source, local = LocalTree(Path(folder, "one")), LocalTree(Path(folder, "two"))
        for tree, content in ((source, one), (local, two)):
            grow(tree.root, content)
            aged(tree.root, 1_600_000_000 + (tree is local))
        target = RemoteTree(machine, str(local.root))
        before = state(local.root)
        terms = Terms(whole=["unit*", "*/unit*"], mirror=mirror)
        found = compare_trees(source, target, ["."], terms)
        target.stage_copies("t", [(e, e.path) for unit in found.units for e in unit.copies])
        target.stage_others("t", [e for e in found.coming if e.kind != "file"])
        files = [e for e in found.coming if e.kind == "file"]
        target.stage_copies(
            "t", [(e, found.reused[e.path]) for e in files if e.path in found.reused]
        )
        target.stage_all("t", source.read_all([e for e in files if e.path not in found.reused]))
        target.flush("t")
        moves = found.moves()
        target.exchange("t", moves)
        after = state(local.root)
        assert compare_trees(source, LocalTree(local.root), ["."], terms).nothing
        if mirror:
            assert set(after) == set(state(source.root))
        target.exchange("t", moves)
        assert state(local.root) == after
        target.put_back("t", moves)
        target.put_back("t", moves)
        assert state(local.root) == before


def test_a_read_only_folder_is_opened_for_a_moment(shell_less: SshServer, tmp_path: Path) -> None:
    """By an account that is not root, and has nothing but SFTP."""
    lines = Lines()
    with pytest.MonkeyPatch.context() as patched, tempfile.TemporaryDirectory() as name:
        patched.setenv("HOME", str(shell_less.home))
        line = lines.to(Host(shell_less.name))
        root = Path(name, "site")
        write(root, "shut/page.php", "old", 0o644)
        write(tmp_path, "shut/page.php", "a newer one")
        for path in (Path(name), root, root / "shut", root / "shut/page.php"):
            os.chown(path, *_account(shell_less.user))
        (root / "shut").chmod(0o555)
        tree = RemoteTree(SftpMachine(line), str(root))
        source = LocalTree(tmp_path)
        found = compare_trees(source, tree, ["."])
        stage_all = [e for e in found.coming if e.kind == "file"]
        tree.stage_all("t", source.read_all(stage_all))
        tree.exchange("t", found.moves())
        assert (root / "shut/page.php").read_text() == "a newer one"
        assert (root / "shut").stat().st_mode & 0o777 == 0o555
        tree.put_back("t", found.moves())
        assert (root / "shut/page.php").read_text() == "old"
        lines.close()


def _account(user: str) -> tuple[int, int]:
    import pwd

    found = pwd.getpwnam(user)
    return found.pw_uid, found.pw_gid


def test_only_one_takes_a_name_and_it_is_full_at_once(tmp_path: Path, machine: Machine) -> None:
    trees = (LocalTree(tmp_path), RemoteTree(machine, str(tmp_path)))
    for one, other in (trees, trees[::-1]):
        assert one.claim(".vetrin/lock", b"mine")
        assert not other.claim(".vetrin/lock", b"theirs") and not one.claim(
            ".vetrin/lock", b"again"
        )
        assert (tmp_path / ".vetrin/lock").read_bytes() == b"mine"
        assert not list((tmp_path / ".vetrin").glob("put-*"))
        one.remove(".vetrin/lock")


def test_a_full_disk_leaves_no_lock_that_tells_nobody(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Also where a disk has no second names for files."""
    tree = LocalTree(tmp_path)
    tree.claim("first", b"makes the folder")
    real, left = os.write, [-1]

    def write(handle: int, data: bytes) -> int:
        left[0] -= 1
        if left[0] == 0:
            raise OSError(28, "No space left on device")
        return real(handle, data)

    def no_links(*names: str) -> None:
        raise PermissionError(1, "Operation not permitted")

    monkeypatch.setattr(os, "write", write)
    failed = 0
    for links in (True, False):
        if not links:
            monkeypatch.setattr(os, "link", no_links)
            left[0] = -1
            assert tree.claim("other", b"mine") and not tree.claim("other", b"theirs")
        for at in range(1, 4):
            left[0] = at
            try:
                done = tree.claim(".vetrin/lock", b"mine")
            except FilesError:
                failed += 1
                assert not (tmp_path / ".vetrin/lock").exists()
            else:
                assert done and (tmp_path / ".vetrin/lock").read_bytes() == b"mine"
                tree.remove(".vetrin/lock")
    assert failed == 3
