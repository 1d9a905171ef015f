"""Names of files that would have something written where no site's files are: from a host, a store, a build; and links
that lie where Vetrin writes."""

from __future__ import annotations

import errno
import os
import re
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from systems import Mariadb
from test_command_line import vetrin
from vetrin.demo.sample import Sample
from vetrin.errors import FilesError
from vetrin.files import Entry, LocalTree, Manifest, admit, entry_of, leads_inside, unfit
from ways import Line, line_by

UNFIT = [
    "", "/etc/passwd", "../x", "a/../../x", "a/..", "..", ".", "a/./b", "a//b", "a/", "a\0b", "C:/x", "c:\\x", "a/..\\..\\x",
    ".vetrin/lock", "a/.vetrin/x", ".VETRIN/x", ".ve\u200btrin/x", ".vetrin./x", ".git/hooks/post-checkout", "a/.GIT/config",
    ".git", "theme/.gi\u200ct/hooks/x", ".\uff47it/x", ".git /x", ".svn/x", ".hg/hgrc", "x/CVS/Entries", "x/.bzr/y",
]  # fmt: skip
FIT = [
    "a", "a/b.php", ".htaccess", "a/.well-known/x", "..a", "a..", "...", "a/...b", "a:b", "back\\slash", "cvs/x", "a/CVSS.txt",
    "gitolite/.gitignore", ".gitmodules", "vetrin/x", "new\nline", "é/ü 🚂", os.fsdecode(b"not\xffutf8/x"), "a\u200db",
]  # fmt: skip


@pytest.mark.parametrize("path", UNFIT)
def test_what_is_no_path_of_a_site(path: str, tmp_path: Path) -> None:
    assert unfit(path)
    manifest = Manifest()
    manifest[path] = Entry(path, "file")
    manifest["beside"] = Entry("beside", "file")
    assert list(admit(manifest)) == ["beside"] and path in manifest.passed
    # Nothing is written there either, should it come by another way.
    root = tmp_path / "deep/er/root"
    root.mkdir(parents=True)
    before = sorted(tmp_path.rglob("*"))
    with pytest.raises((FilesError, ValueError)):
        LocalTree(root).stage("token", Entry(path, "file"), [b"x"])
    assert sorted(tmp_path.rglob("*")) == before


@pytest.mark.parametrize("path", FIT)
def test_what_is_one(path: str) -> None:
    assert unfit(path) == ""
    assert entry_of([path, "file", 1, 2, 3, "", ""]).path == path


_names = st.sampled_from(["a", "b", "c", "d"])
_paths = st.lists(_names, min_size=1, max_size=3).map("/".join)
_targets = st.lists(st.sampled_from(["a", "b", "c", "d", "..", ".", ""]), max_size=6).map("/".join)


def goes_round(path: Path) -> bool:
    try:
        path.stat()
    except OSError as error:
        return error.errno == errno.ELOOP
    return False


@given(st.dictionaries(_paths, _targets, min_size=1, max_size=5), st.sets(_paths, max_size=5))
@example({"b": "a/../b//a"}, set())
def test_no_set_of_links_leads_out(links: dict[str, str], folders: set[str]) -> None:
    """Against the system's own way of following them, in a folder."""
    manifest = Manifest()
    for path in sorted({"/".join(p.split("/")[:n]) for p in {*links, *folders} for n in (1, 2, 3)}):
        kind = "link" if path in links else "folder"
        manifest[path] = Entry(path, kind, target=links.get(path, ""))  # type: ignore[arg-type]
    admit(manifest)
    with tempfile.TemporaryDirectory() as name:
        root = Path(name).resolve() / "o/u/t/root"
        root.mkdir(parents=True)
        for path, entry in manifest.items():
            place = root / path
            assert place.parent.is_dir() and not place.is_symlink()
            # Two slashes are one; but of a link to itself, Python takes what is behind two for a path from the top.
            target = re.sub("/+", "/", entry.target)
            place.symlink_to(target) if entry.kind == "link" else place.mkdir()
        for path, entry in manifest.items():
            if entry.kind == "link" and not goes_round(root / path):
                end = Path(os.path.realpath(root / path))
                assert end == root or root in end.parents, (path, entry.target)


def test_a_link_that_only_others_lead_out() -> None:
    assert not leads_inside("out", "x/up/..", {"x/up": ".."})
    assert leads_inside("out", "x/up/y", {"x/up": ".."})
    assert not leads_inside("out", ".git/hooks", {})
    assert leads_inside("round", "round", {"round": "round"})


def test_an_entry_below_a_link_is_left_with_all_that_is_in_it() -> None:
    manifest = Manifest()
    for path, kind in (
        ("d", "link"),
        ("d/e", "folder"),
        ("d/e/f", "file"),
        ("g", "file"),
        ("g/h", "file"),
    ):
        manifest[path] = Entry(path, kind, target="." if kind == "link" else "")  # type: ignore[arg-type]
    assert list(admit(manifest)) == ["d", "g"]


@pytest.mark.parametrize(
    "data",
    [["a", "file", "1", 2, 3, "", ""], ["a", "socket", 1, 2, 3, "", ""], [1, "file", 1, 2, 3, "", ""], ["a"],
     ["../a", "file", 1, 2, 3, "", ""], ["a", "file", True, 2, 3, "", ""], ["a", "file", 1, 2, 3, None, ""]],
)  # fmt: skip
def test_what_is_no_entry(data: list[object]) -> None:
    with pytest.raises(ValueError):
        entry_of(data)


# -- links that lie where Vetrin writes ----------------------------------------------------------------


@pytest.fixture
def outside(tmp_path: Path) -> Path:
    path = tmp_path / "outside"
    path.mkdir()
    (path / "precious").write_text("precious")
    return path


def test_links_in_its_own_folder_are_not_followed(tmp_path: Path, outside: Path) -> None:
    root = tmp_path / "root"
    root.mkdir()
    (root / ".vetrin").symlink_to(outside)
    tree = LocalTree(root)
    for work in (
        lambda: tree.put("a", b"x"),
        lambda: tree.stage("t", Entry("a", "file"), [b"x"]),
        lambda: tree.claim("a", b"x"),
    ):
        with pytest.raises(FilesError, match="is a link"):
            work()
    (root / ".vetrin").unlink()
    (root / ".vetrin").mkdir()
    (root / ".vetrin/.htaccess").symlink_to(outside / "new")
    (root / ".vetrin/t").symlink_to(outside)
    (root / ".vetrin/elsewhere.jsonl").write_text('{"folder": "../outside"}\n')
    tree.stage("t", Entry("a/b", "file"), [b"x"])
    tree.put(".vetrin/put", b"x")
    tree.discard("precious")
    assert [path.name for path in outside.iterdir()] == ["precious"]


def test_a_link_that_was_staged_before_is_not_written_through(tmp_path: Path) -> None:
    tree = LocalTree(tmp_path)
    tree.stage("t", Entry("a", "link", target="b"))
    tree.stage("t", Entry("f", "link", target="b"))
    tree.stage("t", Entry("b/x", "file"), [b"good"])
    tree.stage("t", Entry("a/x", "file"), [b"other"])
    tree.stage("t", Entry("f", "file"), [b"file"])
    new = tmp_path / ".vetrin/t/new"
    assert (new / "b/x").read_bytes() == b"good" and (new / "a/x").read_bytes() == b"other"
    assert (new / "f").read_bytes() == b"file" and not (new / "f").is_symlink()


# -- a host that names what it likes -------------------------------------------------------------------

# The helper there tells of more than there is; each of it can be read on that host.
LIES = [
    ("/../../../../planted", "file", ""),
    ("/.git/hooks/post-checkout", "file", ""),
    ("/.vetrin/lock", "file", ""),
    ("/door", "link", "."),
    ("/door/inside.txt", "file", ""),
    ("/up", "link", ".."),
    ("/out", "link", "up/../../../.."),
]
SCRIPT = """
from vetrin.remote.ssh import helper_client
real = helper_client.source
def source(name):
    lies = {lies!r}
    told = "            found.extend([escaped(folder + x.encode()), [k, 6, 10**18, 420, t, 1, 1]] for x, k, t in %r" % (lies,)
    told += " if folder.endswith(b'/uploads'))\\n            for item in items:\\n                if item.path in skip:"
    old = "            for item in items:\\n                if item.path in skip:"
    text = real(name).decode()
    assert old in text
    return text.replace(old, told, 1).encode()
helper_client.source = source
"""


@pytest.fixture
def line(mariadb_server: Mariadb) -> Iterator[Line]:
    with line_by("python", mariadb_server) as found:
        yield found


def listed(folder: Path) -> set[str]:
    return {str(p.relative_to(folder)) for p in folder.rglob("*") if ".vetrin" not in p.parts}


def test_a_host_that_names_files_outside_of_its_root(line: Line) -> None:
    uploads = line.root / "wp-content/uploads"
    for name, kind, _ in LIES:
        if kind == "file" and "door" not in name:
            path = Path(os.path.normpath(f"{uploads}{name}"))
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text("lie no")
    words = ("pull", "staging", "--to", "local", "--parts", "media", "--yes", "--list")
    before = listed(line.folder)
    _, said = line.vetrin(*words, script=SCRIPT.format(lies=LIES))
    came = {name for name in listed(line.folder) - before if not name.startswith("look")}
    link, *files = sorted(came, key=lambda name: not name.endswith("/door"))
    assert link == "local/wp-content/uploads/door"
    assert files and all(name.endswith((".jpg", "/up")) for name in files), came
    # What was left is named.
    for name in ("planted", "out", "inside.txt"):
        assert name in said, said


# -- a store and a build of somebody else's ------------------------------------------------------------


def test_a_store_that_names_files_outside_of_a_root(sample: Sample) -> None:
    folder = sample.folder
    script = (
        "from vetrin.store import snapshot_files\n"
        "from vetrin.files import Entry\n"
        "real = snapshot_files.files_as_lists\n"
        "def lying(files):\n"
        "    files = list(files)\n"
        "    one = next(f for f in files if f.entry.kind == 'file')\n"
        "    more = type(one)(one.entry._replace(path='media/../../../planted'), one.blocks)\n"
        "    return real([*files, more])\n"
        "snapshot_files.files_as_lists = lying\n"
        "from vetrin.cli import main\n"
        "main(['backup', 'production', '--label', 'planted'])\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", script], cwd=folder, capture_output=True, text=True
    )
    assert done.returncode == 0, done.stderr
    before = listed(folder.parent)
    said = vetrin(folder, "restore", "local", "planted", "--yes", code=None)
    assert said.returncode in (1, 5) and "planted" in said.stderr, said.stderr
    assert "did not expect" not in said.stderr
    assert listed(folder.parent) == before
