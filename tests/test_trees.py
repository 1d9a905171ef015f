"""The contract of ``SourceTree``: a folder here, on a host by each way, in a store and as a build tell the same."""

from __future__ import annotations

import os
import random
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest
import xxhash

from vetrin.config import Host
from vetrin.errors import FilesError
from vetrin.files import PIECE, Entry, Listings, LocalTree, RemoteTree, SourceTree
from vetrin.remote.helper_machine import HelperMachine
from vetrin.remote.ssh.connection import Lines
from vetrin.remote.ssh.helper_client import Helpers
from vetrin.remote.ssh.sftp import SftpMachine
from vetrin.store import Build, BuildTree, Contents, FolderBackend, SnapshotTree
from vetrin.store.manifest import StoredFile

KINDS = ("local", "helper.py", "helper.php", "sftp", "relay", "stored", "build")
_CHANCE = random.Random("Harrowmere")
FILES = {
    "index.php": b"<?php",
    "code/parts/one.php": b"<?php // one",
    "code/parts/deep/er/two.css": b"body{}",
    "code/empty.txt": b"",
    "media/2026/halt ünd 'tower'.png": _CHANCE.randbytes(4095),
    "media/2026/edge": _CHANCE.randbytes(PIECE),
    "media/film.mp4": _CHANCE.randbytes(3 * PIECE + 17),
    os.fsdecode(b"media/caf\xe9.txt"): b"named in another encoding",
    "media/line\nfeed": b"odd",
}
LINKS = {"media/latest": "2026/edge", "media/broken": "nowhere", "media/out": "/etc/hostname"}
TOP = ["index.php", "code", "media", "bare"]
TIME = 1_700_000_000


@dataclass
class Place:
    kind: str
    tree: SourceTree


@pytest.fixture(scope="module")
def root(tmp_path_factory: pytest.TempPathFactory) -> Path:
    found = tmp_path_factory.mktemp("tree")
    for number, (path, content) in enumerate(FILES.items()):
        (found / path).parent.mkdir(parents=True, exist_ok=True)
        (found / path).write_bytes(content)
        (found / path).chmod(0o640)
        os.utime(found / path, (TIME + number, TIME + number))
    for path, target in LINKS.items():
        (found / path).symlink_to(target)
    (found / "bare").mkdir()
    return found


def stored_files(local: LocalTree, contents: Contents) -> tuple[list[StoredFile], dict[str, str]]:
    listed = local.scan(["."])
    files = [
        StoredFile(
            entry, tuple(contents.keep_blocks(local.read(path))[0]) if entry.kind == "file" else ()
        )
        for path, entry in listed.items()
    ]
    return files, listed.passed


@pytest.fixture(scope="module", params=KINDS)
def place(
    request: pytest.FixtureRequest, root: Path, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[Place]:
    kind, local = request.param, LocalTree(root)
    if kind == "local":
        yield Place(kind, local)
    elif kind in ("stored", "build"):
        contents = Contents(FolderBackend(tmp_path_factory.mktemp("store")))
        files, passed = stored_files(local, contents)
        if kind == "stored":
            yield Place(kind, SnapshotTree(contents, files, passed))
            return
        # A build of the code; all else is read where it was built. That has changed since.
        beside = tmp_path_factory.mktemp("beside")
        os.system(f"cp -a {root}/. {beside}")
        (beside / "code/parts/one.php").write_text("<?php // another one by now, and longer")
        (beside / "code/parts/new.php").write_text("<?php // not of the build")
        (beside / "code/empty.txt").unlink()
        code = [file for file in files if file.entry.path.split("/")[0] in ("code", "index.php")]
        build = Build("0" * 40, "", "local", ("code",), stored=tuple(code))
        held = SnapshotTree(contents, code, {})
        yield Place(kind, BuildTree(build, held, LocalTree(beside)))
    elif kind == "relay":
        yield Place(kind, RemoteTree(request.getfixturevalue("relay").connect().machine, str(root)))
    else:
        server, lines = request.getfixturevalue("ssh"), Lines()
        with pytest.MonkeyPatch.context() as patched:
            patched.setenv("HOME", str(server.home))
            line = lines.to(Host(server.name))
            machine = (
                SftpMachine(line) if kind == "sftp" else HelperMachine(Helpers(line, forms=[kind]))
            )
            listings = Listings(tmp_path_factory.mktemp("listings") / "there")
            yield Place(kind, RemoteTree(machine, str(root), listings))
        lines.close()


def told(listing: dict[str, Entry]) -> dict[str, tuple[str, int, str]]:
    return {
        path: (entry.kind, entry.size if entry.kind == "file" else 0, entry.target)
        for path, entry in listing.items()
    }


def expected(*folders: str) -> dict[str, tuple[str, int, str]]:
    """What lies in folders, these included; a link that leads out of the root is passed over."""
    found = {path: ("file", len(content), "") for path, content in FILES.items()}
    found |= {path: ("link", 0, target) for path, target in LINKS.items() if target[0] != "/"}
    for path in list(found):
        while path := path.rpartition("/")[0]:
            found[path] = ("folder", 0, "")
    found["bare"] = ("folder", 0, "")
    return {
        path: item
        for path, item in found.items()
        if any(path == one or path.startswith(f"{one}/") for one in folders) or not folders
    }


def test_all_of_it_is_listed(place: Place) -> None:
    found = place.tree.scan(TOP)
    assert told(found) == expected()
    if place.kind != "build":  # which is asked for folders alone
        assert told(place.tree.scan(["."])) == expected()
    assert "media/out" in found.passed
    entry = found["code/empty.txt"]
    assert (entry.mode & 0o777, entry.modified // 10**9) == (0o640, TIME + 3)
    assert place.tree.grain >= 1 and place.tree.streams >= 1 and place.tree.folds_names is False


@pytest.mark.parametrize(
    ("folders", "skip", "wanted"),
    [
        (["media/2026", "bare"], (), lambda: expected("media/2026", "bare")),
        (["index.php", "code/parts/deep"], (), lambda: expected("index.php", "code/parts/deep")),
        (
            ["code"],
            ("code/parts",),
            lambda: expected("code").keys() - expected("code/parts").keys(),
        ),
        (["nowhere", "code/none"], (), dict),
        (["media/broken"], (), lambda: expected("media/broken")),
    ],
)
def test_folders_that_are_asked_for(
    place: Place, folders: list[str], skip: tuple[str, ...], wanted: Callable[[], dict[str, object]]
) -> None:
    assert set(place.tree.scan(folders, skip)) == set(wanted())


def test_what_is_pruned_is_not_looked_into(place: Place) -> None:
    found = place.tree.scan(TOP, (), ["media/2026/"])
    assert "media/2026" in found and (place.kind == "stored" or "media/2026/edge" not in found)


def test_one_path_is_looked_at(place: Place) -> None:
    tree = place.tree
    listed = tree.scan(TOP)
    paths = ["index.php", "code/parts", "media/latest", "nowhere", "code/parts/new.php"]
    assert [e and (e.path, e.kind, e.size) for e in tree.look_again(paths)] == [
        (e.path, e.kind, e.size) if (e := listed.get(path)) else None for path in paths
    ]
    assert [tree.exists(path) for path in paths] == [True, True, True, False, False]
    assert tree.exists("media/broken")
    assert {e.path: e.kind for e in tree.children("code/parts")} == {
        "code/parts/one.php": "file", "code/parts/deep": "folder",
    }  # fmt: skip
    assert {e.path for e in tree.children(".")} == {"index.php", "code", "media", "bare"}
    assert tree.children("nowhere") == []


def test_folders_and_heads_are_asked_together(place: Place) -> None:
    tree = place.tree
    folders = [".", "code", "nowhere", "media/2026", "index.php", "bare", "code/parts"]
    assert tree.children_of(folders) == [
        tree.children(folder) if folder != "index.php" else [] for folder in folders
    ]
    assert tree.children_of([]) == tree.heads([], 5) == []
    for size in (1, 4096, PIECE + 1):
        paths = [*FILES, "nowhere", "code", *FILES]
        assert tree.heads(paths, size) == [FILES.get(path, b"")[:size] for path in paths]


def test_contents_are_digested(place: Place) -> None:
    tree, local = (
        place.tree,
        {path: xxhash.xxh3_128_hexdigest(text) for path, text in FILES.items()},
    )
    assert {path: tree.digest(path) for path in FILES} == local
    assert tree.algorithms or place.kind == "sftp"  # nothing can run there
    for algorithm in tree.algorithms:
        many = tree.digests([*FILES, "nowhere"], algorithm)
        assert many[-1] is None and len(set(many)) == len(FILES) + 1
        if algorithm == "xxh128":
            assert many[:-1] == list(local.values())
        pieces = tree.pieces("media/film.mp4", algorithm)
        assert len(pieces) == 4 and len(set(pieces)) == 4
        assert tree.pieces("code/empty.txt", algorithm) in (
            [],
            [tree.digests(["code/empty.txt"], algorithm)[0]],
        )


def test_contents_are_read_whole_and_in_parts(place: Place) -> None:
    tree = place.tree
    for path, content in FILES.items():
        assert b"".join(tree.read(path)) == content
    film = FILES["media/film.mp4"]
    for start, size in (
        (0, 5),
        (1000, 2 * PIECE),
        (PIECE - 1, 2),
        (3 * PIECE, None),
        (len(film), None),
    ):
        wanted = film[start:] if size is None else film[start : start + size]
        assert b"".join(tree.read("media/film.mp4", start, size)) == wanted
    with pytest.raises(FilesError, match="nowhere"):
        b"".join(tree.read("code/nowhere"))


def test_many_are_read_in_one_exchange(place: Place) -> None:
    entries = [entry for entry in place.tree.scan(TOP).values() if entry.kind == "file"]
    came = {}
    for entry, blocks in place.tree.read_all(entries):
        # What is not taken does not come with the next one.
        first = bytes(next(iter(blocks), b""))
        rest = b"" if entry.path == "media/film.mp4" else b"".join(map(bytes, blocks))
        came[entry.path] = first + rest
    film = came.pop("media/film.mp4")
    assert film and FILES["media/film.mp4"].startswith(film)
    assert came == {path: text for path, text in FILES.items() if path != "media/film.mp4"}
