"""Files on this machine: looking at them, reading them, and staging what is to come."""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import secrets
import shutil
import stat
import tempfile
import threading
import time
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from pathlib import Path

from ..append_log import AppendLog, flush_folder
from ..errors import FilesError
from ..private import private_folder
from .base import (
    BLOCK,
    LINK_OUT,
    OWN_FOLDER,
    PIECE,
    SPECIAL,
    UNREADABLE,
    VERSION_CONTROL,
    VERSION_CONTROLS,
    AskedFileByFile,
    Buffer,
    Entry,
    Manifest,
    Move,
    Room,
    Side,
    Span,
    folders_to_scan,
    pruning,
    stays_inside,
)
from .digests import digest_of
from .filesystem import LocalFileSystem, LocalStatus, PlannedFileSystem
from .flushing import begin_writing, flush_file_system
from .open_folders import Below
from .path_gate import admit, must_fit, unfit
from .remote_machine import FileChange
from .swap import Places, exchange, planned, put_back, remembered_identities

_ELSEWHERE = "elsewhere.jsonl"
_BUFFER = 1 << 18
_PLAIN_BITS = 0o777  # who may read, write and run; what is beyond stays with each machine


class _said:  # noqa: N801 – a context manager of a generator's kind costs five times as much
    """Makes an error of the system one that names the path."""

    __slots__ = ("_path",)

    def __init__(self, path: str) -> None:
        self._path = path

    def __enter__(self) -> None:
        return None

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: object
    ) -> None:
        if isinstance(error, OSError):
            told = FilesError(f"{self._path}: {error.strerror or error}")
            told.denied = isinstance(error, PermissionError)
            raise told from error


def own_folder(root: Path) -> Path:
    """Vetrin's own folder below ``root``, made if it is not there.

    It may lie below a web server's root: nothing in it is for visitors, nor for version control.
    """
    own = root / OWN_FOLDER
    if own.is_symlink():
        raise FilesError(f"{own}: it is a link, which is not followed; remove it")
    root.mkdir(parents=True, exist_ok=True)  # which is a site's, or a project's, and not private
    private_folder(own)
    for name, text in ((".htaccess", b"Require all denied\n"), (".gitignore", b"*\n")):
        if not os.path.lexists(own / name):
            handle = os.open(own / name, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o644)
            try:
                os.write(handle, text)
            finally:
                os.close(handle)
    return own


class LocalTree(AskedFileByFile):
    """The files below ``root``, a folder on this machine.

    Where a folder of the tree is on another file system (a mount, or a link to one), it has a
    ``.vetrin`` of its own for what is staged and parked there; ``.vetrin/elsewhere.jsonl`` of the root
    lists these folders. Reading and staging may go on in several threads at a time.
    """

    streams = 2
    grain = 1
    algorithms: tuple[str, ...] = ("xxh128", "sha256")

    def __init__(self, root: Path) -> None:
        self.root = root
        self._bases: dict[str, str] = {}
        self._folders: dict[tuple[str, str], str] = {}
        self._making = threading.Lock()
        self._modes: dict[str, int] = {}
        self._folds: bool | None = None

    def scan(
        self, folders: Sequence[str], skip: Collection[str] = (), prune: Sequence[str] = ()
    ) -> Manifest:
        manifest = Manifest()
        names = folders_to_scan(folders, skip)
        apart = frozenset(skip) | frozenset(names)
        pruned = pruning(prune)
        for name in names:
            start = os.path.join(self.root, name) if name else str(self.root)
            if not os.path.lexists(start):
                manifest.untold.add(name)
                continue
            with _said(name or "."):
                about = os.lstat(start)
                if stat.S_ISREG(about.st_mode):
                    mode = about.st_mode & 0o7777
                    manifest[name] = Entry(name, "file", about.st_size, about.st_mtime_ns, mode)
                    continue
                if os.path.isdir(start):
                    if name:
                        mode = stat.S_IMODE(os.stat(start).st_mode)
                        manifest[name] = Entry(name, "folder", mode=mode)
                    self._scan(start, name, manifest, apart, pruned)
                elif stat.S_ISLNK(about.st_mode):
                    self._link(start, name, manifest)
        return admit(manifest)

    def _scan(
        self,
        start: str,
        name: str,
        manifest: Manifest,
        apart: frozenset[str],
        pruned: Callable[[str], bool] | None = None,
    ) -> None:
        waiting = [(start, f"{name}/" if name else "")]
        folder_bits, file_bits = stat.S_IFDIR, stat.S_IFREG
        make = tuple.__new__  # half the time of the named tuple's own way, for each of thousands
        while waiting:
            folder, prefix = waiting.pop()
            try:
                items = os.scandir(folder)
            except FileNotFoundError:  # a live site goes on: what vanishes meanwhile is not there
                continue
            except PermissionError:
                path = prefix.removesuffix("/")
                manifest.pop(path, None)
                manifest.passed[path] = UNREADABLE
                continue
            with items:
                for item in items:
                    path = prefix + item.name
                    if path in apart:
                        continue
                    try:
                        about = item.stat(follow_symlinks=False)
                    except FileNotFoundError:
                        continue
                    except PermissionError:
                        manifest.passed[path] = UNREADABLE
                        continue
                    mode = about.st_mode
                    kind = mode & 0o170000
                    if kind == file_bits:
                        manifest[path] = make(
                            Entry,
                            (path, "file", about.st_size, about.st_mtime_ns, mode & 0o7777, "", ""),
                        )
                    elif kind == folder_bits:
                        if item.name == OWN_FOLDER:
                            continue
                        if item.name in VERSION_CONTROLS:
                            manifest.passed[path] = VERSION_CONTROL
                            continue
                        manifest[path] = Entry(path, "folder", mode=mode & 0o7777)
                        if pruned is None or not pruned(path + "/"):
                            waiting.append((item.path, path + "/"))
                    else:
                        self._odd(item, path, manifest)

    def look_again(self, paths: Sequence[str]) -> list[Entry | None]:
        found: list[Entry | None] = []
        for path in paths:
            manifest = Manifest()
            try:
                about = os.lstat(os.path.join(self.root, path))
            except OSError:
                found.append(None)
                continue
            if stat.S_ISREG(about.st_mode):
                mode = about.st_mode & 0o7777
                manifest[path] = Entry(path, "file", about.st_size, about.st_mtime_ns, mode)
            elif stat.S_ISDIR(about.st_mode):
                manifest[path] = Entry(path, "folder", mode=about.st_mode & 0o7777)
            elif stat.S_ISLNK(about.st_mode):
                self._link(os.path.join(self.root, path), path, manifest)
            found.append(manifest.get(path))
        return found

    def _odd(self, item: os.DirEntry[str], path: str, manifest: Manifest) -> None:
        if item.is_symlink():
            self._link(item.path, path, manifest)
        else:
            manifest.passed[path] = SPECIAL

    def _link(self, place: str, path: str, manifest: Manifest) -> None:
        try:
            target = os.readlink(place)
        except FileNotFoundError:
            return
        if stays_inside(path, target):
            manifest[path] = Entry(path, "link", target=target)
        else:
            manifest.passed[path] = LINK_OUT

    def children(self, folder: str) -> list[Entry]:
        name = "" if folder in ("", ".") else folder.strip("/")
        place = self.root / name
        if not place.is_dir():
            return []
        found = Manifest()
        with _said(folder), os.scandir(place) as items:
            for item in items:
                path = f"{name}/{item.name}" if name else item.name
                if item.name == OWN_FOLDER or item.name in VERSION_CONTROLS:
                    continue
                about = item.stat(follow_symlinks=False)
                if stat.S_ISDIR(about.st_mode):
                    found[path] = Entry(path, "folder", mode=about.st_mode & 0o7777)
                elif stat.S_ISREG(about.st_mode):
                    found[path] = Entry(
                        path, "file", about.st_size, about.st_mtime_ns, about.st_mode & 0o7777
                    )
                else:
                    self._odd(item, path, found)
        return sorted(found.values(), key=lambda entry: entry.path)

    def exists(self, path: str) -> bool:
        return os.path.lexists(self.root / path if path else self.root)

    @property
    def folds_names(self) -> bool:
        if self._folds is None:
            # Asked of something that is there: a look does not write.
            known = [self.root / name for name in os.listdir(self.root)] if self.exists("") else []
            known += [self.root, *self.root.parents]
            cased = next((p for p in known if p.name.swapcase() != p.name and p.exists()), None)
            self._folds = cased is not None and cased.with_name(cased.name.swapcase()).exists()
        return self._folds

    def digest(self, path: str) -> str:
        return digest_of(self.read(path))

    def digests(self, paths: Sequence[str], algorithm: str) -> list[str | None]:
        found: list[str | None] = []
        for path in paths:
            try:
                found.append(digest_of(self.read(path), algorithm))
            except FilesError:
                found.append(None)
        return found

    def pieces(self, path: str, algorithm: str = "xxh128") -> list[str]:
        with _said(path), (self.root / path).open("rb", buffering=0) as file:
            found = []
            while block := file.read(PIECE):
                found.append(digest_of([block], algorithm))
            return found

    def read(self, path: str, start: int = 0, size: int | None = None) -> Iterator[bytes]:
        with _said(path):
            handle = os.open(os.path.join(self.root, path), os.O_RDONLY)
            try:
                if start:
                    os.lseek(handle, start, os.SEEK_SET)
                left = size
                while left is None or left > 0:
                    block = os.read(handle, BLOCK if left is None else min(BLOCK, left))
                    if not block:
                        return
                    if left is not None:
                        left -= len(block)
                    yield block
            finally:
                os.close(handle)

    def read_all(self, entries: Iterable[Entry]) -> Iterator[tuple[Entry, Iterator[Buffer]]]:
        # One buffer for all: fresh memory for each block would cost as much as the copying.
        whole = memoryview(bytearray(_BUFFER))
        for entry in entries:
            yield entry, self._into(entry.path, whole) if entry.kind == "file" else iter(())

    def _into(self, path: str, whole: memoryview) -> Iterator[Buffer]:
        with _said(path):
            handle = os.open(f"{self.root}/{path}", os.O_RDONLY)
            try:
                while count := os.readv(handle, [whole]):
                    yield whole[:count]
                    if count < _BUFFER:
                        return  # a short read is a regular file's end
            finally:
                os.close(handle)

    def room(self, folder: str) -> Room:
        wanted = self.root / folder
        there = next((p for p in (wanted, *wanted.parents) if p.is_dir()), self.root)
        with _said(str(there)):
            return Room(str(there.stat().st_dev), shutil.disk_usage(there).free)

    # Staging

    def stage(self, token: str, entry: Entry, blocks: Iterable[Buffer] = ()) -> None:
        with _said(entry.path):
            place = self._waiting(token, entry.path)
            if entry.kind == "link":
                with contextlib.suppress(FileNotFoundError):
                    os.unlink(place)  # from before an interruption
                os.symlink(entry.target, place)
            elif entry.kind == "folder":
                os.makedirs(place, exist_ok=True)
                self._modes[place] = entry.mode & _PLAIN_BITS
            else:
                handle = _begun(place)
                try:
                    for block in blocks:
                        _write(handle, block)
                    _dress(handle, entry)
                    if entry.size >= _BUFFER:
                        begin_writing(handle)
                finally:
                    os.close(handle)

    def staged(self, token: str) -> Manifest:
        manifest = Manifest()
        with _said(token):
            for base in ("", *self._elsewhere()):
                place = os.path.join(self.root, base, OWN_FOLDER, token, "new")
                if os.path.isdir(place):
                    self._scan(place, "", manifest, frozenset())
        return manifest

    def unstage(self, token: str, paths: Sequence[str]) -> None:
        for path in paths:
            with _said(path), contextlib.suppress(FileNotFoundError, IsADirectoryError):
                os.unlink(self._waiting(token, path))

    def set_aside(self, token: str, path: str) -> str:
        with _said(path):
            place = self._waiting(token, path)
            aside = place.replace(f"/{token}/new/", f"/{token}/part/", 1)
            os.makedirs(os.path.dirname(aside), exist_ok=True)
            os.replace(place, aside)
        return aside[len(str(self.root)) + 1 :]

    def stage_others(self, token: str, entries: Sequence[Entry]) -> None:
        for entry in entries:
            self.stage(token, entry)

    def stage_all(self, token: str, items: Iterable[tuple[Entry, Iterable[Buffer]]]) -> None:
        for entry, blocks in items:
            self.stage(token, entry, blocks)

    def stage_copy(self, token: str, entry: Entry, path: str) -> None:
        if entry.kind != "file":
            self.stage(token, entry)
            return
        self.stage_changes(token, entry, path, [Span(0, entry.size)])

    def stage_copies(self, token: str, copies: Sequence[tuple[Entry, str]]) -> None:
        for entry, path in copies:
            self.stage_copy(token, entry, path)

    def stage_changes(
        self, token: str, entry: Entry, path: str, parts: Iterable[bytes | Span]
    ) -> None:
        with _said(entry.path):
            place = self._waiting(token, entry.path)
            base = os.open(os.path.join(self.root, path), os.O_RDONLY | os.O_NOFOLLOW)
            try:
                handle = _begun(place)
                try:
                    for part in parts:
                        if isinstance(part, Span):
                            _copy_span(base, handle, part)
                        else:
                            _write(handle, part)
                    _dress(handle, entry)
                finally:
                    os.close(handle)
            finally:
                os.close(base)

    def flush(self, token: str) -> None:
        with _said(OWN_FOLDER):
            # Inner folders first: one that may not be written to would keep them from it.
            for place in sorted(self._modes, key=len, reverse=True):
                with contextlib.suppress(FileNotFoundError):
                    os.chmod(place, self._modes[place] | (os.stat(place).st_mode & 0o7000))
            self._modes.clear()
            for base in ("", *self._elsewhere()):
                flush_file_system(str(own_folder(self.root / base)))

    def _waiting(self, token: str, path: str) -> str:
        """Where what is staged for ``path`` waits; the folder above it is made."""
        must_fit(path)
        folder, _, name = path.rpartition("/")
        place = self._folders.get((token, folder))
        if place is None:
            with self._making:
                base = self._base(path)
                own = own_folder(self.root / base)
                place = _real_folder(str(own), f"{token}/new/{folder}")
            self._folders[token, folder] = place
        return f"{place}/{name}"

    # Exchanging

    def exchange(self, token: str, moves: Sequence[Move]) -> None:
        with self._places(token) as places:
            exchange(places, moves)

    def planned_exchange(self, token: str, moves: Sequence[Move]) -> list[FileChange] | None:
        ground = PlannedFileSystem(LocalStatus(), swaps=self._swaps())
        places = Places(
            root=str(self.root), own=OWN_FOLDER, token=token, base=self._base, ground=ground
        )
        return planned(places, ground, moves)

    def _swaps(self) -> bool:
        """True where two names can change over at once."""
        with _said(OWN_FOLDER):
            own = own_folder(self.root)
            one, other = (tempfile.mkdtemp(prefix="swap-", dir=own) for _ in range(2))
            try:
                return Below().swap(os.fsencode(one), os.fsencode(other))
            finally:
                os.rmdir(one)
                os.rmdir(other)

    def absolute(self, path: str) -> str:
        return os.path.join(os.path.abspath(self.root), path)

    def busy(self, path: str) -> bool:
        try:
            handle = os.open(self.root / path, os.O_RDONLY)
        except FileNotFoundError:
            return False
        try:
            fcntl.flock(handle, fcntl.LOCK_SH | fcntl.LOCK_NB)
        except OSError:
            return True
        finally:
            os.close(handle)
        return False

    def put_back(self, token: str, moves: Sequence[Move]) -> None:
        with self._places(token) as places:
            put_back(places, moves)

    @contextlib.contextmanager
    def _places(self, token: str) -> Iterator[Places]:
        places = Places(
            root=str(self.root),
            own=OWN_FOLDER,
            token=token,
            base=self._base,
            ground=LocalFileSystem(str(self.root)),
        )
        try:
            yield places
        except OSError as error:
            raise FilesError(f"{places.at or token}: {error.strerror or error}") from error

    def hand_over(self, token: str, side: Side, to: str, to_side: Side) -> None:
        with _said(token):
            for base in ("", *self._elsewhere()):
                own = self.root / base / OWN_FOLDER
                ours, theirs = own / token / side, own / to / to_side
                if ours.is_dir() and not theirs.exists():
                    theirs.parent.mkdir(parents=True, exist_ok=True)
                    ours.rename(theirs)
            # Another direction: what was new is now old, and is told apart anew.
            for name in (token, to):
                home = self.root / OWN_FOLDER / name
                Path(remembered_identities(str(home))).unlink(missing_ok=True)

    def discard(self, token: str) -> None:
        with _said(token):
            for base in ("", *self._elsewhere()):
                folder = self.root / base / OWN_FOLDER / token
                if folder.exists():
                    _remove_tree(folder)
            self._folders.clear()

    def put(self, path: str, content: bytes) -> None:
        with _said(path):
            # A name of its own: several threads may put something, and a link that lies there is not followed.
            handle, beside = tempfile.mkstemp(prefix="put-", dir=own_folder(self.root))
            try:
                _write(handle, content)
                os.fchmod(handle, 0o644)
                os.fsync(handle)
            finally:
                os.close(handle)
            place = self.root / path
            place.parent.mkdir(parents=True, exist_ok=True)
            os.replace(beside, place)
            flush_folder(place.parent)

    def claim(self, path: str, content: bytes) -> bool:
        with _said(path):
            # With its content from the first moment: a file that is not full yet would tell nobody whose it is.
            handle, beside = tempfile.mkstemp(prefix="put-", dir=own_folder(self.root))
            try:
                with os.fdopen(handle, "wb", buffering=0) as file:
                    _write(handle, content)
                    os.fchmod(file.fileno(), 0o644)
                return _second_name(beside, str(self.root / path))
            finally:
                os.unlink(beside)

    def take_away(self, path: str, content: bytes) -> bool:
        place = self.root / path
        # Made for nothing but this: an end of a run must not need room on a full disk.
        aside = self.root / OWN_FOLDER / f"away-{secrets.token_hex(4)}"
        with _said(path):
            try:
                if place.read_bytes() != content:
                    return False
                os.rename(place, aside)
            except FileNotFoundError:
                return False
            try:
                if aside.read_bytes() == content:
                    return True
                # It became another one in between, which gets its name back.
                _second_name(str(aside), str(place))
                return False
            finally:
                aside.unlink()

    def age(self, path: str) -> float | None:
        try:
            return time.time() - os.stat(self.root / path).st_mtime
        except FileNotFoundError:
            return None

    def remove(self, path: str) -> None:
        with _said(path):
            (self.root / path).unlink(missing_ok=True)

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
                except OSError:  # not there, or a link that leads nowhere
                    return found  # not remembered: the rest may come into being
                if here != device:
                    found, device = place, here
            self._bases[folder] = found
            if found and found not in self._elsewhere():
                own_folder(self.root / found)
                own_folder(self.root)
                self._list_of_elsewhere.append({"folder": found})
        return self._bases[folder]

    @property
    def _list_of_elsewhere(self) -> AppendLog:
        return AppendLog(self.root / OWN_FOLDER / _ELSEWHERE, "folders on other file systems", 1)

    def _elsewhere(self) -> list[str]:
        """Folders on other file systems that have been staged or parked in."""
        found = [line.get("folder") for line in self._list_of_elsewhere.read().items]
        with contextlib.suppress(FileNotFoundError, ValueError):  # as an earlier version wrote it
            for line in (self.root / OWN_FOLDER / "elsewhere").read_text("utf-8").splitlines():
                found.append(json.loads(line))
        return list(
            dict.fromkeys(name for name in found if isinstance(name, str) and not unfit(name))
        )


def _second_name(place: str, other: str) -> bool:
    """Give a file a second name, which must not be there; a copy where a disk has no second names. False where it is
    there."""
    try:
        os.link(place, other)
    except FileExistsError:
        return False
    except OSError:
        try:
            handle = os.open(other, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o644)
        except FileExistsError:
            return False
        try:
            _write(handle, Path(place).read_bytes())
        except OSError:
            os.unlink(other)
            raise
        finally:
            os.close(handle)
    return True


def _real_folder(start: str, inside: str) -> str:
    """A folder below ``start``, made part by part: what lies in the way and is no folder, a link for one, goes."""
    place = start
    for part in inside.strip("/").split("/"):
        place = f"{place}/{part}"
        try:
            os.mkdir(place)
        except FileExistsError:
            if not stat.S_ISDIR(os.lstat(place).st_mode):
                os.unlink(place)
                os.mkdir(place)
    return place


def _begun(place: str) -> int:
    """A file to write to, empty; a link that lies there, from before an interruption, is not followed."""
    how = os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW
    try:
        return os.open(place, how, 0o600)
    except OSError:
        if not os.path.islink(place):
            raise
        os.unlink(place)
        return os.open(place, how, 0o600)


def _write(handle: int, block: Buffer) -> None:
    done = os.write(handle, block)
    while done < len(block):
        done += os.write(handle, block[done:])


def _dress(handle: int, entry: Entry) -> None:
    mode = entry.mode & _PLAIN_BITS
    if mode != 0o600:
        os.fchmod(handle, mode)
    os.utime(handle, ns=(entry.modified, entry.modified))


def _copy_span(base: int, handle: int, span: Span) -> None:
    """Copy within the kernel, where it can; it shares the bytes where the file system can."""
    start, left = span
    while left > 0:
        try:
            done = os.copy_file_range(base, handle, min(left, 1 << 30), offset_src=start)
        except (AttributeError, OSError):
            break
        if not done:
            return
        start, left = start + done, left - done
    while left > 0:
        block = os.pread(base, min(left, BLOCK), start)
        if not block:
            return
        _write(handle, block)
        start, left = start + len(block), left - len(block)


def _remove_tree(folder: Path) -> None:
    def open_up(_: object, path: str, problem: BaseException) -> None:
        """What lies in a folder that may not be written to can go once it may."""
        os.chmod(os.path.dirname(path), 0o700)
        os.chmod(path, 0o700)
        if os.path.isdir(path) and not os.path.islink(path):
            shutil.rmtree(path)
        else:
            os.unlink(path)

    shutil.rmtree(folder, onerror=lambda f, path, info: open_up(f, path, info[1]))
