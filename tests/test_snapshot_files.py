"""Files in the store are read as those on a disk are: one tree, told by both, for any tree."""

from __future__ import annotations

import itertools
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from vetrin.errors import FilesError
from vetrin.files import BLOCK, PIECE, LocalTree
from vetrin.store import Contents, FolderBackend, SnapshotPath, SnapshotTree, StoredFile, keep_files
from vetrin.store.manifest import files_of_list

NAMES = st.sampled_from(
    ["a", "b", "wp-content", ".htaccess", "é ü", "x.php", "x.css", "deep", "2026"]
)
PATHS = st.lists(NAMES, min_size=1, max_size=4).map("/".join)
CONTENTS = st.one_of(
    st.binary(max_size=300),
    st.tuples(
        st.binary(min_size=1, max_size=9), st.sampled_from([PIECE, BLOCK, (4 << 20) + 5])
    ).map(lambda some: (some[0] * (some[1] // len(some[0]) + 1))[: some[1]]),
)
ITEMS = st.one_of(
    CONTENTS.map(lambda content: ("file", content)), st.just(("folder", b"")),
    st.sampled_from(["a", "../b", "nowhere", "x.php"]).map(lambda to: ("link", to.encode())),
)  # fmt: skip
TREES = st.dictionaries(PATHS, ITEMS, max_size=9)


@contextmanager
def both(tree: dict[str, tuple[str, bytes]]) -> Iterator[tuple[LocalTree, SnapshotTree, Path]]:
    """The same tree on a disk and in a store."""
    with tempfile.TemporaryDirectory() as name:
        root = Path(name, "root")
        root.mkdir()
        for path, (kind, content) in tree.items():
            place = root / path
            if any(above.is_symlink() or above.is_file() for above in (place, *place.parents)):
                continue
            place.parent.mkdir(parents=True, exist_ok=True)
            if kind == "folder":
                place.mkdir(exist_ok=True)
            elif place.is_dir():
                continue
            elif kind == "link":
                place.symlink_to(content.decode())
            else:
                place.write_bytes(content)
                place.chmod(0o604)
        local = LocalTree(root)
        contents = Contents(FolderBackend(Path(name, "store")))
        found = local.scan(["."])
        files = [
            StoredFile(
                entry,
                tuple(contents.keep_blocks(local.read(path))[0]) if entry.kind == "file" else (),
            )
            for path, entry in found.items()
        ]
        stored, _ = keep_files(contents, files, found.passed)
        again = [file for digest in stored.lists for file in files_of_list(contents.read(digest))]
        assert sorted(again, key=lambda file: file.entry.path) == sorted(
            files, key=lambda file: file.entry.path
        )
        assert stored.count == sum(entry.kind != "folder" for entry in found.values())
        yield local, SnapshotTree(contents, again, stored.passed), root


@settings(deadline=None, max_examples=60)
@given(TREES, st.lists(PATHS, max_size=3), st.lists(PATHS, max_size=2))
@example({"a/a": ("file", b"")}, ["a/a"], ["a"])
def test_a_stored_tree_tells_what_a_tree_on_a_disk_tells(
    tree: dict[str, tuple[str, bytes]], folders: list[str], skip: list[str]
) -> None:
    with both(tree) as (local, stored, root):
        assert stored.scan(["."]) == local.scan(["."]) and stored.scan(["."], skip) == local.scan(
            ["."], skip
        )
        assert stored.scan(["."]).passed == local.scan(["."]).passed
        # A folder that is a link is not followed in a store: what it led to was stored by its name.
        plain = [
            path for path in folders
            if not any(place.is_symlink() for place in (root / path, *(root / path).parents))
        ]  # fmt: skip
        assert stored.scan(plain, skip) == local.scan(plain, skip)
        for path in {"", *plain, *local.scan(["."])}:
            # Of links out of the root, a store knows only that they were there.
            if not path or not (root / path).is_symlink():
                assert stored.exists(path or ".") or path == "" or not local.exists(path)
                assert {e.path: e.kind for e in stored.children(path)} == {
                    e.path: e.kind for e in local.children(path)
                }
        files = [path for path, entry in local.scan(["."]).items() if entry.kind == "file"]
        for algorithm in ("xxh128", "sha256"):
            assert stored.digests(files, algorithm) == local.digests(files, algorithm)
        for path in files:
            size = (root / path).stat().st_size
            assert stored.digest(path) == local.digest(path)
            assert stored.pieces(path) == local.pieces(path)
            for start, length in itertools.product(
                (0, 1, size // 2, PIECE), (None, 0, 5, PIECE + 1)
            ):
                assert b"".join(stored.read(path, start, length)) == b"".join(
                    local.read(path, start, length)
                ), (path, start, length)
        entries = [entry for entry in local.scan(["."]).values() if entry.kind != "folder"]
        came = {entry.path: b"".join(blocks) for entry, blocks in stored.read_all(entries)}
        assert set(came) == {entry.path for entry in entries}
        assert all(came[path] == (root / path).read_bytes() for path in files)
        with pytest.raises(FilesError, match="not among the stored files"):
            stored.digest("not/there")


@settings(deadline=None, max_examples=60)
@given(TREES, st.sampled_from(["*", "*.php", "a/*", "*/x.*", "wp-content/*/b", "a", "nowhere/*"]))
def test_a_stored_place_is_a_path(tree: dict[str, tuple[str, bytes]], pattern: str) -> None:
    """As far as reading a site's configuration asks of one."""
    links = {path for path, (kind, _) in tree.items() if kind == "link"}
    with both({path: item for path, item in tree.items() if path not in links}) as (
        _,
        stored,
        root,
    ):
        place = SnapshotPath(stored, "", "/srv/site", "/mnt/site")
        assert str(place) == "/srv/site" and place.name == "site" and place.is_dir()
        assert sorted(one.path for one in place.glob(pattern)) == sorted(
            path.relative_to(root).as_posix() for path in root.glob(pattern)
        )
        for path in [*root.rglob("*"), root / "nowhere"]:
            name = path.relative_to(root).as_posix()
            one = place / name
            assert str(one) == f"/srv/site/{name}" and one.name == path.name
            assert str(one.resolve()) == f"/mnt/site/{name}"
            assert (one.exists(), one.is_file(), one.is_dir()) == (
                path.exists(),
                path.is_file(),
                path.is_dir(),
            )
            assert one.parent / one.name == one and place.joinpath("x", "..", name) == one
            assert str(one.with_suffix(".bak")) == f"/srv/site/{Path(name).with_suffix('.bak')}"
            if path.is_file():
                assert one.read_bytes() == path.read_bytes()
                assert one.stat().st_size == path.stat().st_size
                assert one.stat().st_mode & 0o777 == path.stat().st_mode & 0o777
            elif path.is_dir():
                assert sorted(item.name for item in one.iterdir()) == sorted(
                    item.name for item in path.iterdir()
                )
            else:
                with pytest.raises(FileNotFoundError):
                    one.stat()
                with pytest.raises(FileNotFoundError):
                    one.read_text("utf-8")
