"""What every tree of files offers to a transfer, and the values that pass between them.

Paths are text with forward slashes, relative to the tree's root; bytes of a name that are not
UTF-8 are carried as Python's surrogate escapes, so every name goes in as it came out.
"""

from __future__ import annotations

import contextlib
import posixpath
import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from itertools import repeat
from typing import TYPE_CHECKING, Any, Literal, NamedTuple, Protocol

from msgspec import Struct

from ..errors import FilesError

if TYPE_CHECKING:
    from .remote_machine import FileChange

BLOCK = 1 << 20
PIECE = 1 << 18  # of a big file, the least that is sent again when something in it changed
Kind = Literal["file", "folder"]
Side = Literal["new", "old"]
Buffer = bytes | memoryview


@contextlib.contextmanager
def if_readable() -> Iterator[None]:
    """Do what is inside as far as its files can be read; a lost connection is no answer, and passes on."""
    try:
        yield
    except FilesError as error:
        if error.lost:
            raise


class Entry(NamedTuple):
    """A file, folder or link. ``modified`` is in nanoseconds; ``target`` is a link's text.

    ``digest`` is XXH3-128 of the content, 32 hexadecimal digits, where it is known.
    """

    path: str
    kind: Literal["file", "folder", "link"]
    size: int = 0
    modified: int = 0
    mode: int = 0o644
    target: str = ""
    digest: str = ""


class Manifest(dict[str, Entry]):
    """Entries by path. ``passed`` says, by path, why something that is there is not among them.

    A manifest need not tell of everything: ``only``, where given, are the paths that it tells of, ``untold``
    are folders of which it tells nothing, and ``partly`` says that it tells of a folder's content only where it
    has that folder. What it does not tell of is not known to be missing (``tells_of``).
    """

    def __init__(self) -> None:
        super().__init__()
        self.passed: dict[str, str] = {}
        self.untold: set[str] = set()
        self.only: tuple[str, ...] | None = None
        self.partly = False

    def enter(
        self,
        paths: Sequence[str],
        kinds: Iterable[Any],
        sizes: Iterable[int],
        times: Iterable[int],
        modes: Iterable[int],
        targets: Iterable[str],
    ) -> None:
        """Enter entries by columns, which takes a fraction of what they would one by one. Raises ValueError where one
        is shorter than that of the paths."""
        rows = zip(paths, kinds, sizes, times, modes, targets, repeat(""), strict=False)
        self.update(zip(paths, map(tuple.__new__, repeat(Entry), rows), strict=True))

    def copy(self) -> Manifest:
        found = Manifest()
        found.update(self)
        found.passed.update(self.passed)
        found.untold |= self.untold
        found.only, found.partly = self.only, self.partly
        return found

    def tells_of(self, path: str) -> bool:
        """True where a path that is not among the entries is known to be missing."""
        if self.only is not None and not any(
            not one or path == one or path.startswith(f"{one}/") for one in self.only
        ):
            return False
        if self.partly and "/" in path and path.rpartition("/")[0] not in self:
            return False
        while path:
            if path in self.passed or path in self.untold:
                return False
            path = path.rpartition("/")[0]
        return "" not in self.untold


def folders_to_scan(folders: Iterable[str], skip: Collection[str]) -> list[str]:
    """What ``SourceTree.scan`` is asked for, the whole tree as "", without what lies in ``skip``."""
    names = ["" if folder in (".", "") else folder.strip("/") for folder in folders]
    shut = tuple(f"{path}/" for path in skip)
    return [name for name in names if name not in skip and not name.startswith(shut)]


def pruning(prune: Sequence[str]) -> Callable[[str], bool] | None:
    """Whether a folder's path, with a slash behind it, fits one of some regular expressions."""
    if not prune:
        return None
    fits = [re.compile(text).match for text in prune]
    return lambda path: any(fit(path) for fit in fits)


def selected(
    entries: Mapping[str, Entry],
    passed: Mapping[str, str],
    folders: Sequence[str],
    skip: Collection[str],
) -> Manifest:
    """What ``SourceTree.scan`` gives of a tree whose entries are known."""
    found = Manifest()
    found.untold |= {
        name
        for name in folders_to_scan(folders, skip)
        if name and not any(path == name or path.startswith(f"{name}/") for path in entries)
    }
    shut = tuple(f"{path}/" for path in skip)
    for name in folders_to_scan(folders, skip):

        def counts(path: str, name: str = name) -> bool:
            inside = not name or path == name or path.startswith(f"{name}/")
            return inside and path not in skip and not path.startswith(shut)

        found.update({path: entry for path, entry in entries.items() if counts(path)})
        found.passed.update({path: why for path, why in passed.items() if counts(path)})
    return found


OWN_FOLDER = ".vetrin"
VERSION_CONTROLS = frozenset({".git", ".hg", ".svn", ".bzr", "CVS"})
LINK_OUT = "link out of the root"
VERSION_CONTROL = "version control"
SPECIAL = "no ordinary file"
UNREADABLE = "not readable for the account"


class Move(Struct, frozen=True):
    """In an exchange, at ``path``, what stands there goes and what was staged comes.

    Each is a file (or link), a folder, or None where nothing goes or comes. A folder that comes is
    made; one that only goes is removed if nothing is left in it. ``whole``: a folder that comes or
    goes does so with all that is in it, at once.
    """

    path: str
    goes: Kind | None
    comes: Kind | None
    whole: bool = False

    def reversed(self) -> Move:
        """The move that takes this one back, with what was parked as what is staged."""
        return Move(self.path, self.comes, self.goes, self.whole)


class Span(NamedTuple):
    """Bytes of a file that the target has already: ``size`` of them from ``start``."""

    start: int
    size: int


class Room(NamedTuple):
    """A disk, by a name that tells it from others, and the bytes that are free on it."""

    disk: str
    free: int


class SourceTree(Protocol):
    """Files that can be read.

    ``streams`` is how many exchanges of many files it serves at a time, each in a thread of its own.
    ``grain`` is the step of its times, in nanoseconds. ``algorithms`` are the digests that it makes
    where the files are, without sending their contents; the one that is liked best comes first.
    """

    @property
    def streams(self) -> int:
        """How many exchanges of many files it serves at a time."""

    @property
    def grain(self) -> int:
        """The step of its times, in nanoseconds."""

    @property
    def algorithms(self) -> tuple[str, ...]:
        """The digests that it makes where the files are, the one that is liked best first."""

    @property
    def folds_names(self) -> bool:
        """True where names that differ in letter case, or in how accents are composed, are one."""

    def scan(
        self, folders: Sequence[str], skip: Collection[str] = (), prune: Sequence[str] = ()
    ) -> Manifest:
        """Everything in ``folders``, themselves included, but Vetrin's own folder.

        ``"."`` is the whole tree, and the name of a file is that file; paths in ``skip`` are left out
        with all below them. Folders whose path, with a slash behind it, fits one of the regular expressions
        ``prune`` from its beginning are told and not looked into. Links are never followed, but for a folder
        that is asked for by name. Links out of the root, folders of version control, sockets, devices and
        folders that may not be read are passed over; of a folder in ``folders`` that is not there, nothing is
        told.
        """

    def look_again(self, paths: Sequence[str]) -> list[Entry | None]:
        """What stands at some paths by now, as ``scan`` would tell it; None for nothing."""

    def children(self, folder: str) -> list[Entry]:
        """What lies directly in a folder, by name; nothing where there is no such folder."""

    def children_of(self, folders: Sequence[str]) -> list[list[Entry]]:
        """The same of many folders, asked together."""

    def heads(self, paths: Sequence[str], size: int) -> list[bytes]:
        """The first ``size`` bytes of many files, asked together; none of what cannot be read."""

    def exists(self, path: str) -> bool:
        """True where something is at ``path``, a broken link included."""

    def digest(self, path: str) -> str:
        """XXH3-128 of a file's content, 32 hexadecimal digits."""

    def digests(self, paths: Sequence[str], algorithm: str) -> list[str | None]:
        """Digests of many files' contents by one of ``algorithms``; None where one cannot be read."""

    def pieces(self, path: str, algorithm: str = "xxh128") -> list[str]:
        """Digests of a file's content in pieces of ``PIECE`` bytes, the last one shorter."""

    def read(self, path: str, start: int = 0, size: int | None = None) -> Iterator[bytes]:
        """A file's content, or ``size`` bytes of it from ``start``, in blocks."""

    def read_all(self, entries: Iterable[Entry]) -> Iterator[tuple[Entry, Iterator[Buffer]]]:
        """Many files in one exchange. A block holds only until the next one is asked for."""


class AskedFileByFile:
    """For trees of which an answer costs no way there and back."""

    def children_of(self: SourceTree, folders: Sequence[str]) -> list[list[Entry]]:
        return [self.children(folder) for folder in folders]

    def heads(self: SourceTree, paths: Sequence[str], size: int) -> list[bytes]:
        return [head_of(self.read(path, 0, size)) for path in paths]


def head_of(content: Iterator[bytes]) -> bytes:
    """A part of a file as a whole; empty where it cannot be read."""
    with if_readable():
        return b"".join(content)
    return b""


def changed_since(tree: SourceTree, entries: Sequence[Entry]) -> list[Entry]:
    """Of files that were read just now, those that are not as they were listed any more, as they are now.

    What was read of them may be of two editions.
    """
    found = tree.look_again([entry.path for entry in entries]) if entries else []
    return [
        now
        for entry, now in zip(entries, found, strict=True)
        if now is not None
        and now.kind == "file"
        and (now.size, now.modified) != (entry.size, entry.modified)
    ]


class FileTree(SourceTree, Protocol):
    """The files below one root.

    Guarantees: staging touches Vetrin's own hidden folder in the tree only; ``exchange`` parks
    what it replaces and can be repeated after an interruption; ``put_back`` undoes it from any
    point, using nothing but what lies in the hidden folder, and loses neither side.
    """

    def room(self, folder: str) -> Room:
        """The disk that ``folder`` lies on, or would."""

    def stage(self, token: str, entry: Entry, blocks: Iterable[Buffer] = ()) -> None:
        """Make ready what is to come: a file with its content, mode and time, a link, a folder."""

    def staged(self, token: str) -> Manifest:
        """What lies ready for a run, whole or not: entries by the path that they are for."""

    def unstage(self, token: str, paths: Sequence[str]) -> None:
        """Take away staged files and links, as those of a plan that was another one."""

    def set_aside(self, token: str, path: str) -> str:
        """Move a staged file out of the way; the path (from the root) by which it can be read."""

    def stage_others(self, token: str, entries: Sequence[Entry]) -> None:
        """Stage many links and folders in one exchange."""

    def stage_all(self, token: str, items: Iterable[tuple[Entry, Iterable[Buffer]]]) -> None:
        """Stage many files in one exchange."""

    def stage_copy(self, token: str, entry: Entry, path: str) -> None:
        """Stage a file whose content the tree has already, at ``path``."""

    def stage_copies(self, token: str, copies: Sequence[tuple[Entry, str]]) -> None:
        """``stage_copy`` of many in one exchange."""

    def stage_changes(
        self, token: str, entry: Entry, path: str, parts: Iterable[bytes | Span]
    ) -> None:
        """Stage a file made of new bytes and of spans of the file at ``path``, in order."""

    def flush(self, token: str) -> None:
        """Return when all that was staged or renamed so far would survive a loss of power."""

    def exchange(self, token: str, moves: Sequence[Move]) -> None:
        """Let what was staged take its place, and park what was there; repeating it goes on where it was stopped."""

    def planned_exchange(self, token: str, moves: Sequence[Move]) -> list[FileChange] | None:
        """What ``exchange`` would do, for a process on the machine of the files; None where that cannot be told
        beforehand. ``put_back`` takes it back just as well. Paths are absolute there."""

    def absolute(self, path: str) -> str:
        """A path as a process on the machine of the files finds it."""

    def busy(self, path: str) -> bool:
        """True while a process there carries out the switch whose record lies at ``path``."""

    def put_back(self, token: str, moves: Sequence[Move]) -> None:
        """Take an exchange back, however far it came; repeating it does nothing."""

    def hand_over(self, token: str, side: Side, to: str, to_side: Side) -> None:
        """Make what one run staged or parked that of another; repeating it does nothing."""

    def discard(self, token: str) -> None:
        """Remove what a run staged and parked."""

    def put(self, path: str, content: bytes) -> None:
        """Write a small file at once, outside of any exchange."""

    def claim(self, path: str, content: bytes) -> bool:
        """Make a small file that must not be there; False where it is. Of several, one succeeds."""

    def take_away(self, path: str, content: bytes) -> bool:
        """Remove a small file if it holds just this; False where it is gone, or another. Of several, one succeeds,
        and what somebody put there meanwhile stays."""

    def age(self, path: str) -> float | None:
        """Seconds since a file was written, by the clock of its own machine; None where there is none."""

    def remove(self, path: str) -> None:
        """Remove a file, if it is there."""


def stays_inside(path: str, target: str) -> bool:
    """True if a link at ``path`` is relative and leads to something below the root."""
    if target.startswith("/"):
        return False
    end = posixpath.normpath(posixpath.join(posixpath.dirname(path), target))
    return end != ".." and not end.startswith("../")


def some_of(paths: Sequence[str], most: int = 4) -> str:
    """The first of several paths, fit for any terminal; “…” stands for the others."""
    return ", ".join(map(printable, paths[:most])) + (" …" if len(paths) > most else "")


def printable(path: str) -> str:
    """A path on one line of any terminal: what is no text or would move the cursor is escaped."""
    if path.isprintable():
        return path
    return "".join(
        letter
        if letter.isprintable()
        else f"\\x{ord(letter) - 0xDC00:02x}"
        if "\udc80" <= letter <= "\udcff"
        else letter.encode("unicode_escape").decode("ascii")
        for letter in path
    )
