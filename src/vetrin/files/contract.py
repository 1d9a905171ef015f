"""What every tree of files offers to a transfer, and the values that pass between them.

Paths are text with forward slashes, relative to the tree's root; bytes of a name that are not
UTF-8 are carried as Python's surrogate escapes, so every name goes in as it came out.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Literal, Protocol

BLOCK = 1 << 20


class FilesError(Exception):
    """A file could not be read or written; the message is fit for the user."""


@dataclass(frozen=True)
class Entry:
    """A file, folder or link. ``modified`` is in nanoseconds; ``target`` is a link's text."""

    path: str
    kind: Literal["file", "folder", "link"]
    size: int = 0
    modified: int = 0
    mode: int = 0o644
    target: str = ""


Manifest = dict[str, Entry]
Side = Literal["new", "old"]


Kind = Literal["file", "folder"]


@dataclass(frozen=True)
class Move:
    """In an exchange, at ``path``, what stands there goes and what was staged comes.

    Each is a file (or link), a folder, or None where nothing goes or comes. A folder that comes is
    made; one that only goes is removed if nothing is left in it.
    """

    path: str
    goes: Kind | None
    comes: Kind | None

    def reversed(self) -> Move:
        """The move that takes this one back, with what was parked as what is staged."""
        return Move(self.path, self.comes, self.goes)


class FileTree(Protocol):
    """The files below one root.

    Guarantees: ``stage`` touches Vetrin's own hidden folder in the tree only; ``exchange`` parks
    what it replaces and can be repeated after an interruption; ``put_back`` undoes it from any
    point, using nothing but what lies in the hidden folder, and loses neither side.
    """

    def scan(self, folders: Sequence[str], skip: Collection[str] = ()) -> Manifest:
        """Everything below ``folders`` but Vetrin's own folder and version control's.

        ``"."`` is the whole tree; paths in ``skip`` are left out with all below them.
        """

    def children(self, folder: str) -> list[Entry]:
        """What lies directly in a folder, by name; nothing where there is no such folder."""

    def exists(self, path: str) -> bool:
        """True where something is at ``path``, a broken link included."""

    def digest(self, path: str) -> str:
        """XXH3-128 of a file's content, 32 hexadecimal digits."""

    def read(self, path: str) -> Iterator[bytes]: ...

    def free_space(self) -> int: ...

    def stage(self, token: str, entry: Entry, blocks: Iterable[bytes]) -> None: ...

    def exchange(self, token: str, moves: Sequence[Move]) -> None: ...

    def put_back(self, token: str, moves: Sequence[Move]) -> None: ...

    def hand_over(self, token: str, side: Side, to: str, to_side: Side) -> None:
        """Make what one run staged or parked that of another; repeating it does nothing."""

    def discard(self, token: str) -> None:
        """Remove what a run staged and parked."""
