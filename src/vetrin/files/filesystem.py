"""The ground that an exchange stands on: looking at places and renaming them, here or far away."""

from __future__ import annotations

import contextlib
import os
import stat
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Literal, Protocol

from ..atomic import write_whole
from .open_folders import Below
from .remote_machine import FileChange, FileStatus, Machine

Identity = tuple[int, int]


class FileSystem(Protocol):
    """Places are absolute paths as text.

    ``knows_identities``: it can tell a folder that was renamed by its device and inode. Changes may be
    carried out later, in their order, at ``settle``.
    """

    knows_identities: bool

    def foresee(self, places: Sequence[str]) -> None:
        """These places, and what is in folders among them, will be asked about soon."""

    def there(self, place: str) -> bool:
        """True where anything is, a broken link included."""

    def is_folder(self, place: str) -> bool:
        """True for a folder; a link to one is none."""

    def is_link(self, place: str) -> bool:
        """True for a link, wherever it leads."""

    def identity(self, place: str) -> Identity | None:
        """Device and inode of what is there; None for nothing."""

    def children(self, folder: str) -> list[str]:
        """The names in a folder; none where it is not there."""

    def rename(self, one: str, other: str) -> None:
        """Folders above ``other`` are made; folders that may not be written to are opened for a moment."""

    def swap(self, one: str, other: str) -> bool:
        """Let two places change over at once; False where that cannot be done."""

    def make(self, folder: str, like: str) -> None:
        """Make a folder with the mode of another one, where that one is there."""

    def remove_if_empty(self, folder: str) -> None:
        """Remove a folder, unless something is in it or it is not there."""

    def read(self, place: str) -> bytes | None:
        """The content of a small file; None where it is not there."""

    def write(self, place: str, content: bytes) -> None:
        """Write a small file durably, in one step."""

    def settle(self) -> None:
        """Carry out what was put off, and return when it is done."""


class LocalFileSystem:
    """This machine; everything is done at once. Below ``root``, no link of another account is followed."""

    knows_identities = True

    def __init__(self, root: str = "") -> None:
        self._below = Below(os.fsencode(root))

    def foresee(self, places: Sequence[str]) -> None:
        return

    def there(self, place: str) -> bool:
        return os.path.lexists(place)

    def is_folder(self, place: str) -> bool:
        return _is_folder(Path(place))

    def is_link(self, place: str) -> bool:
        return Path(place).is_symlink()

    def identity(self, place: str) -> Identity | None:
        try:
            about = Path(place).lstat()
        except OSError:  # not there, or below a link that leads nowhere
            return None
        return about.st_dev, about.st_ino

    def children(self, folder: str) -> list[str]:
        return sorted(path.name for path in Path(folder).iterdir())

    def rename(self, one: str, other: str) -> None:
        source, target = Path(one), Path(other)
        before, after = os.fsencode(one), os.fsencode(other)
        try:
            self._below.rename(before, after, make=True)
        except PermissionError:
            # Folders that may not be written to: their owner may do so for a moment.
            with _open_up(source.parent, *target.parents):
                mode = stat.S_IMODE(source.lstat().st_mode)
                if _is_folder(source):
                    self._below.mode(before, mode | stat.S_IRWXU)
                self._below.rename(before, after, make=True)
                if _is_folder(target):
                    self._below.mode(after, mode)

    def swap(self, one: str, other: str) -> bool:
        return self._below.swap(os.fsencode(one), os.fsencode(other))

    def make(self, folder: str, like: str) -> None:
        place, model = os.fsencode(folder), Path(like)
        try:
            self._below.make(place)
        except PermissionError:
            with _open_up(*Path(folder).parents):
                self._below.make(place)
        if _is_folder(model):
            self._below.mode(place, model.stat().st_mode & 0o7777)

    def remove_if_empty(self, folder: str) -> None:
        place = os.fsencode(folder)
        with contextlib.suppress(OSError):  # somebody put something in: it stays
            try:
                self._below.remove_folder(place)
            except PermissionError:
                with _open_up(Path(folder).parent):
                    self._below.remove_folder(place)

    def read(self, place: str) -> bytes | None:
        try:
            return Path(place).read_bytes()
        except FileNotFoundError:
            return None

    def write(self, place: str, content: bytes) -> None:
        path = Path(place)
        path.parent.mkdir(parents=True, exist_ok=True)
        write_whole(path, content)

    def settle(self) -> None:
        return


class RemoteFileSystem:
    """Another machine: places are looked at many at a time and remembered, and changes are gathered
    and sent together. Between the look and the change the far side must be ours, which the lock of
    the environment sees to; a rename that would replace something fails."""

    # Without a call that lets two names trade places, where things lie tells how far it came.
    knows_identities = False

    def __init__(self, machine: Machine, root: str = "") -> None:
        self._machine = machine
        self._root = root
        self._known: dict[str, FileStatus | None] = {}
        self._inside: dict[str, set[str]] = {}
        self._acts: list[FileChange] = []

    def foresee(self, places: Sequence[str]) -> None:
        wanted = list(dict.fromkeys(p for place in places for p in (place, _above(place))))
        wanted = [place for place in wanted if place not in self._known]
        for place, found in zip(wanted, self._machine.look(wanted), strict=True):
            self._known[place] = found

    def there(self, place: str) -> bool:
        return self._look(place) is not None

    def is_folder(self, place: str) -> bool:
        found = self._look(place)
        return found is not None and found.kind == "folder"

    def is_link(self, place: str) -> bool:
        found = self._look(place)
        return found is not None and found.kind == "link"

    def identity(self, place: str) -> Identity | None:
        found = self._look(place)
        return found.identity if found is not None else None

    def children(self, folder: str) -> list[str]:
        self.settle()
        found = self._machine.names(folder)
        for name, look in found:
            self._known[f"{folder}/{name}"] = look
        return sorted(name for name, _ in found)

    def rename(self, one: str, other: str) -> None:
        found = self._look(one)
        self._parents(other)
        shut = [self._opened(one), self._opened(other)]
        self._acts.append(FileChange("rename", one, other))
        for act in filter(None, shut):
            self._acts.append(act)
        if found is not None and found.kind == "folder":  # of which there are few
            below = one + "/"
            moved = {place: look for place, look in self._known.items() if place.startswith(below)}
            for place, look in moved.items():
                self._known[place] = None
                self._known[other + place[len(one) :]] = look
        self._known[one] = None
        self._known[other] = found

    def swap(self, one: str, other: str) -> bool:
        return False

    def make(self, folder: str, like: str) -> None:
        model = self._look(like)
        self._parents(folder + "/x")
        if model is not None and model.kind == "folder":
            self._acts.append(FileChange("mode", folder, mode=model.mode))

    def remove_if_empty(self, folder: str) -> None:
        self._acts.append(FileChange("remove-folder", folder, soft=True))
        self._known.pop(folder, None)  # who knows what is in it

    def read(self, place: str) -> bytes | None:
        if not self.there(place):
            return None
        return b"".join(self._machine.read(place))

    def write(self, place: str, content: bytes) -> None:
        raise NotImplementedError("only for identities, which are not known here")

    def settle(self) -> None:
        acts, self._acts = self._acts, []
        if acts:
            self._machine.act(acts, self._root)

    def _look(self, place: str) -> FileStatus | None:
        if place not in self._known:
            self.settle()
            (self._known[place],) = self._machine.look([place])
        return self._known[place]

    def _parents(self, place: str) -> None:
        folder = _above(place)
        if not self.is_folder(folder):
            found = self._look(folder)
            if found is None:
                self._acts.append(FileChange("folder", folder))
                while self._known.get(folder) is None and folder != "/":
                    self._known[folder] = FileStatus("folder", mode=0o755)
                    folder = _above(folder)

    def _opened(self, place: str) -> FileChange | None:
        """Let the owner write into the folder above; the act that closes it again."""
        folder = _above(place)
        found = self._known.get(folder)
        if found is None or found.kind != "folder" or found.mode & 0o300 == 0o300:
            return None
        self._acts.append(FileChange("mode", folder, mode=found.mode | stat.S_IRWXU, soft=True))
        return FileChange("mode", folder, mode=found.mode, soft=True)


class PlannedFileSystem(RemoteFileSystem):
    """Nothing is done: the changes are gathered in ``acts``, for another process to carry them out.

    ``looks`` is what tells what stands at places; ``swaps`` that two names can change over there, and then
    folders are told by their identities.

    Raises:
        Unforeseen: it cannot be told what will be there by then.
    """

    def __init__(self, looks: StatusSource, *, swaps: bool) -> None:
        super().__init__(looks)  # type: ignore[arg-type]
        self.knows_identities = swaps

    @property
    def acts(self) -> list[FileChange]:
        return self._acts

    def settle(self) -> None:
        return

    def children(self, folder: str) -> list[str]:
        raise Unforeseen(folder)

    def swap(self, one: str, other: str) -> bool:
        if not self.knows_identities:
            return False
        self._acts.append(FileChange("swap", one, other))
        known = self._known
        below = {
            place: look
            for place, look in known.items()
            if place in (one, other) or place.startswith((f"{one}/", f"{other}/"))
        }
        for place in below:
            known[place] = None
        for place, look in below.items():
            inside = place == one or place.startswith(f"{one}/")
            known[other + place[len(one) :] if inside else one + place[len(other) :]] = look
        return True

    def write(self, place: str, content: bytes) -> None:
        LocalFileSystem().write(place, content)

    def read(self, place: str) -> bytes | None:
        return LocalFileSystem().read(place) if self.knows_identities else super().read(place)


class StatusSource(Protocol):
    """What tells what stands at paths, many at a time."""

    def look(self, paths: Sequence[str], *, follow: bool = False) -> list[FileStatus | None]:
        """What stands at paths, each None for nothing; with ``follow``, what links lead to."""


class LocalStatus:
    """This machine's paths."""

    def look(self, paths: Sequence[str], *, follow: bool = False) -> list[FileStatus | None]:
        return [_seen(path) for path in paths]


class Unforeseen(Exception):
    """What an exchange will find at a path depends on what it does before."""


_KINDS: dict[int, Literal["file", "folder", "link", "other"]] = {
    stat.S_IFREG: "file", stat.S_IFDIR: "folder", stat.S_IFLNK: "link",
}  # fmt: skip


def _seen(path: str) -> FileStatus | None:
    try:
        about = os.lstat(path)
    except OSError:
        return None
    kind = _KINDS.get(stat.S_IFMT(about.st_mode), "other")
    mode, identity = stat.S_IMODE(about.st_mode), (about.st_dev, about.st_ino)
    return FileStatus(kind, about.st_size, about.st_mtime_ns, mode, "", identity)


def _above(place: str) -> str:
    return place.rpartition("/")[0] or "/"


@contextlib.contextmanager
def _open_up(*folders: Path) -> Iterator[None]:
    """Let the owner write into these folders while the context lasts, as far as they are there."""
    shut = {}
    for folder in folders:
        if folder.is_dir() and not os.access(folder, os.W_OK | os.X_OK):
            mode = stat.S_IMODE(folder.stat().st_mode)
            try:
                folder.chmod(mode | stat.S_IRWXU)
            except PermissionError:
                continue  # if it matters, the step itself says so
            shut[folder] = mode
    try:
        yield
    finally:
        for folder, mode in shut.items():
            if folder.is_dir():
                folder.chmod(mode)


def _is_folder(path: Path) -> bool:
    return path.is_dir() and not path.is_symlink()
