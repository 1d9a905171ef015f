"""Files on this machine.

Built to survive being killed at any point of ``exchange``: a new file waits in
``.vetrin/TOKEN/new/PATH``, a replaced one is parked in ``.vetrin/TOKEN/old/PATH``, and each step is
one rename within the file system. What lies in those two folders tells how far it came. Where a
folder of the tree is on another file system (a mount, or a link to one), it has a ``.vetrin`` of its
own for what lies in it; ``.vetrin/elsewhere`` of the root lists these folders.
"""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import stat
from collections.abc import Collection, Iterable, Iterator, Sequence
from pathlib import Path

import xxhash

from .contract import BLOCK, Entry, FilesError, Manifest, Move, Side

OWN_FOLDER = ".vetrin"
_ELSEWHERE = "elsewhere"
_SKIPPED = frozenset({OWN_FOLDER, ".git", ".hg", ".svn"})


@contextlib.contextmanager
def _said(path: str) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise FilesError(f"{path}: {error.strerror or error}") from error


def own_folder(root: Path) -> Path:
    """Vetrin's own folder below ``root``, made if it is not there.

    It may lie below a web server's root: nothing in it is for visitors, nor for version control.
    """
    own = root / OWN_FOLDER
    own.mkdir(mode=0o700, parents=True, exist_ok=True)
    for name, text in ((".htaccess", "Require all denied\n"), (".gitignore", "*\n")):
        if not (own / name).exists():
            (own / name).write_text(text, encoding="ascii")
    return own


class LocalTree:
    """The files below ``root``, a folder on this machine."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self._bases: dict[str, str] = {}

    def scan(self, folders: Sequence[str], skip: Collection[str] = ()) -> Manifest:
        manifest: Manifest = {}
        for folder in folders:
            start = self.root / folder
            if start.is_dir():
                with _said(folder):
                    relative = "" if folder == "." else folder.strip("/")
                    self._scan(str(start), relative, manifest, frozenset(skip))
        return manifest

    def children(self, folder: str) -> list[Entry]:
        place = self.root / folder
        if not place.is_dir():
            return []
        base = "" if folder in ("", ".") else folder.strip("/") + "/"
        with _said(folder), os.scandir(place) as items:
            found = [
                self._entry(item, base + item.name) for item in items if item.name not in _SKIPPED
            ]
        return sorted((entry for entry in found if entry is not None), key=lambda e: e.path)

    def exists(self, path: str) -> bool:
        return os.path.lexists(self.root / path)

    def _scan(self, start: str, relative: str, manifest: Manifest, skip: frozenset[str]) -> None:
        waiting = [(start, relative)]
        while waiting:
            folder, prefix = waiting.pop()
            with os.scandir(folder) as items:
                for item in items:
                    if item.name in _SKIPPED:
                        continue
                    path = f"{prefix}/{item.name}" if prefix else item.name
                    if path in skip:
                        continue
                    entry = self._entry(item, path)
                    if entry is None:
                        continue
                    manifest[path] = entry
                    if entry.kind == "folder":
                        waiting.append((item.path, path))

    def _entry(self, item: os.DirEntry[str], path: str) -> Entry | None:
        if item.is_symlink():
            target = str(Path(item.path).readlink())
            if not self._stays_inside(item.path, target):
                return None
            return Entry(path, "link", target=target)
        about = item.stat(follow_symlinks=False)
        mode = stat.S_IMODE(about.st_mode)
        if item.is_dir(follow_symlinks=False):
            return Entry(path, "folder", mode=mode)
        if not stat.S_ISREG(about.st_mode):
            return None
        return Entry(path, "file", about.st_size, about.st_mtime_ns, mode)

    def _stays_inside(self, link: str, target: str) -> bool:
        """True for a relative link that leads to something below the root."""
        if Path(target).is_absolute():
            return False
        end = os.path.normpath(Path(link).parent / target)
        return Path(end).is_relative_to(self.root)

    def digest(self, path: str) -> str:
        hasher = xxhash.xxh3_128()
        for block in self.read(path):
            hasher.update(block)
        return hasher.hexdigest()

    def read(self, path: str) -> Iterator[bytes]:
        with _said(path), (self.root / path).open("rb") as file:
            while block := file.read(BLOCK):
                yield block

    def free_space(self) -> int:
        with _said(str(self.root)):
            return shutil.disk_usage(self.root).free

    def _own(self, token: str, side: Side, base: str = "") -> Path:
        return self.root / base / OWN_FOLDER / token / side

    def _base(self, path: str) -> str:
        """The folder on whose file system ``path`` lies: the root, or one below it."""
        folder = path.rpartition("/")[0]
        if folder not in self._bases:
            found, device = "", self.root.stat().st_dev
            parts = folder.split("/") if folder else []
            for end in range(1, len(parts) + 1):
                place = "/".join(parts[:end])
                try:
                    here = (self.root / place).stat().st_dev
                except (FileNotFoundError, NotADirectoryError):
                    return found  # not remembered: the rest may come into being
                if here != device:
                    found, device = place, here
            self._bases[folder] = found
            if found and found not in self._elsewhere():
                own_folder(self.root / found)
                with (own_folder(self.root) / _ELSEWHERE).open("a", encoding="utf-8") as file:
                    file.write(json.dumps(found) + "\n")
        return self._bases[folder]

    def _elsewhere(self) -> list[str]:
        """Folders on other file systems that have been staged or parked in."""
        with contextlib.suppress(FileNotFoundError):
            lines = (self.root / OWN_FOLDER / _ELSEWHERE).read_text(encoding="utf-8").splitlines()
            return [str(json.loads(line)) for line in lines]
        return []

    def stage(self, token: str, entry: Entry, blocks: Iterable[bytes]) -> None:
        with _said(entry.path):
            own_folder(self.root)
            path = self._own(token, "new", self._base(entry.path)) / entry.path
            path.parent.mkdir(parents=True, exist_ok=True)
            if entry.kind == "link":
                path.symlink_to(entry.target)
                return
            with path.open("wb") as file:
                for block in blocks:
                    file.write(block)
                file.flush()
                os.fsync(file.fileno())
            path.chmod(entry.mode)
            os.utime(path, ns=(entry.modified, entry.modified))

    def exchange(self, token: str, moves: Sequence[Move]) -> None:
        for move in moves:
            with _said(move.path):
                live, waiting, parked = self._places(token, move.path)
                if move.goes == "folder" and move.comes is None:
                    _remove_if_empty(live)
                    continue
                # What stands there may be of the new kind already, from before an interruption.
                if move.goes and _there(live) and _is_folder(live) == (move.goes == "folder"):
                    _park(live, parked)
                if move.comes == "folder" and not (move.goes and _is_folder(waiting)):
                    live.mkdir(parents=True, exist_ok=True)
                elif move.comes and _there(waiting) and not _there(live):
                    live.parent.mkdir(parents=True, exist_ok=True)
                    waiting.rename(live)

    def put_back(self, token: str, moves: Sequence[Move]) -> None:
        for move in reversed(moves):
            with _said(move.path):
                live, waiting, parked = self._places(token, move.path)
                if move.comes == "folder" and (move.goes is None or _there(waiting)):
                    if move.goes is None or _there(parked):
                        _remove_if_empty(live)
                elif (
                    move.comes
                    and _there(live)
                    and not _there(waiting)
                    and (move.goes is None or _there(parked))
                ):
                    waiting.parent.mkdir(parents=True, exist_ok=True)
                    live.rename(waiting)
                if move.goes == "folder" and move.comes is None:
                    live.mkdir(parents=True, exist_ok=True)
                elif _there(parked) and not _there(live):
                    live.parent.mkdir(parents=True, exist_ok=True)
                    parked.rename(live)

    def _places(self, token: str, path: str) -> tuple[Path, Path, Path]:
        base = self._base(path)
        new, old = self._own(token, "new", base), self._own(token, "old", base)
        return self.root / path, new / path, old / path

    def hand_over(self, token: str, side: Side, to: str, to_side: Side) -> None:
        with _said(token):
            for base in ("", *self._elsewhere()):
                ours, theirs = self._own(token, side, base), self._own(to, to_side, base)
                if ours.is_dir() and not theirs.exists():
                    theirs.parent.mkdir(parents=True, exist_ok=True)
                    ours.rename(theirs)

    def discard(self, token: str) -> None:
        with _said(token):
            for base in ("", *self._elsewhere()):
                folder = self.root / base / OWN_FOLDER / token
                if folder.exists():
                    shutil.rmtree(folder)


def _there(path: Path) -> bool:
    return os.path.lexists(path)


def _is_folder(path: Path) -> bool:
    return path.is_dir() and not path.is_symlink()


def _park(live: Path, parked: Path) -> None:
    """Rename ``live`` to ``parked``; a folder of which parts are parked already joins them."""
    if _is_folder(live) and parked.is_dir():
        for child in live.iterdir():
            _park(child, parked / child.name)
        live.rmdir()
    elif not _there(parked):
        parked.parent.mkdir(parents=True, exist_ok=True)
        live.rename(parked)


def _remove_if_empty(folder: Path) -> None:
    with contextlib.suppress(OSError):  # somebody put something in: it stays
        folder.rmdir()
