"""What has to be possible with the files of another machine, so that a tree of files can live there.

Paths here are absolute, with forward slashes; bytes that are no UTF-8 are surrogate escapes.
"""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, nullcontext
from functools import cached_property
from typing import Any, Literal, NamedTuple, Protocol

from ..spot import SINCE_START, Spot
from .base import Buffer, Room, Span, if_readable

Doing = Literal[
    "folder", "rename", "replace", "swap", "link", "remove", "remove-folder", "mode", "claim"
]


class FileStatus(NamedTuple):
    """What stands at a path; ``modified`` is in nanoseconds, ``identity`` device and inode. A scan tells once more,
    as ``unread``, of a folder that it may not read."""

    kind: Literal["file", "folder", "link", "other", "unread"]
    size: int = 0
    modified: int = 0
    mode: int = 0
    target: str = ""
    identity: tuple[int, int] | None = None


class FileChange(NamedTuple):
    """One small change. A ``rename`` replaces nothing; ``folder`` makes those above it as well and is
    content with one that is there; ``claim`` makes an empty file that must not be there, or gives the one at ``to``
    that name as well; with ``swap`` two names change over. A soft act may fail."""

    do: Doing
    path: str
    to: str = ""
    mode: int = 0
    soft: bool = False


NOW = -1


class Writing(NamedTuple):
    """A file to write; ``base`` is the file that the spans of its content lie in. With ``NOW`` as its time
    it has that of its machine's clock."""

    path: str
    mode: int
    modified: int
    base: str = ""


class AskedEachTime:
    """For machines of which each answer is asked for when it is needed."""

    read: Any

    def looking(self) -> AbstractContextManager[None]:
        return nullcontext()

    @cached_property
    def since_start(self) -> str:
        with contextlib.suppress(UnicodeDecodeError), if_readable():
            return b"".join(self.read(SINCE_START)).decode("ascii").strip()[:64]
        return ""


class ScannedParts(NamedTuple):
    """What a scan found, each with the number of its part; the digest of each part, and the parts that are ``same``
    as they were known, of which nothing is told."""

    found: list[tuple[int, str, FileStatus]]
    digests: Mapping[int, str]
    same: frozenset[int]


class Machine(Protocol):
    """Another machine's files.

    ``grain`` is the step of its times in nanoseconds, ``algorithms`` are the digests that it makes
    itself (none: whoever wants one has to read), ``streams`` the exchanges of many files that it
    serves at a time. Everything raises FilesError, with LookupError's kin chained where a file is
    missing (FileNotFoundError).
    """

    grain: int
    algorithms: tuple[str, ...]
    streams: int

    @property
    def since_start(self) -> str:
        """What tells the machine as it runs now from all others; empty where it does not tell."""

    def looking(self) -> AbstractContextManager[None]:
        """In this context nothing is asked twice, unless something is written in it; contexts may lie in one
        another."""

    def look(self, paths: Sequence[str], *, follow: bool = False) -> list[FileStatus | None]:
        """What stands at paths, each None for nothing; with ``follow``, what links lead to."""

    def scan(
        self,
        folders: Sequence[str],
        skip: Collection[str],
        shut: Collection[str],
        prune: tuple[str, Sequence[str]] = ("", ()),
    ) -> Iterator[tuple[str, FileStatus]]:
        """All below some folders; nothing below one whose name is in ``shut``, and nothing in ``skip``. Nothing
        below one whose path, less the first text of ``prune`` and with a slash behind it, fits one of its
        regular expressions."""

    def scan_parts(
        self,
        folders: Sequence[str],
        skip: Collection[str],
        shut: Collection[str],
        prune: tuple[str, Sequence[str]],
        known: Mapping[int, str],
    ) -> ScannedParts | None:
        """The same in parts, without those of which ``known`` has the digests; None where all can only be told as a
        whole."""

    def names(self, folder: str) -> list[tuple[str, FileStatus]]:
        """What lies directly in a folder, by name; nothing where there is no such folder."""

    def names_of(self, folders: Sequence[str]) -> list[list[tuple[str, FileStatus]]]:
        """The same of many folders, asked together; nothing of what cannot be looked into."""

    def heads(self, paths: Sequence[str], size: int) -> list[bytes]:
        """The first ``size`` bytes of many files, asked together; none of what cannot be read."""

    def read(self, path: str, start: int = 0, size: int | None = None) -> Iterator[bytes]:
        """A file's content, or ``size`` bytes of it from ``start``, in blocks."""

    def read_many(self, files: Sequence[tuple[str, int]]) -> Iterator[Iterator[Buffer]]:
        """The contents of many files (path and likely size), in their order."""

    def write_many(self, files: Iterable[tuple[Writing, Iterable[Buffer | Span]]]) -> None:
        """Write files; the folders above them are made."""

    def act(self, acts: Sequence[FileChange], root: str = "") -> None:
        """Acts in their order; where one fails that is not soft, later ones have no effect or fail too. Below
        ``root``, where there is one, no link of another account is followed, as far as that can be told there."""

    def digests(self, paths: Sequence[str], algorithm: str) -> list[str | None]:
        """Digests of many files by one of ``algorithms``; None where one cannot be read."""

    def pieces(self, path: str, piece: int, algorithm: str) -> list[str]:
        """Digests of a file in pieces of ``piece`` bytes, the last one shorter."""

    def flush(self, folder: str) -> None:
        """Return when what was written below a folder would survive a loss of power."""

    def room(self, folder: str) -> Room:
        """The room where a folder lies, or will lie."""

    def busy(self, path: str) -> bool:
        """True while a process there carries out the switch whose record lies at ``path``."""

    def remove(self, path: str) -> None:
        """Remove a file or a folder with all that is in it, if it is there."""

    def real(self, path: str) -> str:
        """The path without links."""


def spot_there(machine: Machine, name: str, path: str) -> Spot | None:
    """Where something on another machine lies; None where there is nothing. ``name`` tells that machine where it
    does not tell itself."""
    with if_readable():
        look = machine.look([path], follow=True)[0]
        if look is not None:
            return Spot(machine.since_start or name, machine.real(path), look.identity)
    return None
