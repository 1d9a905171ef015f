"""Where a store keeps its bytes: named pieces, each written whole or not at all.

One contract, and one file for each kind of place: a folder here, a host over SSH (``remote.py``), any
place that the file-system library fsspec has a driver for (``cloud.py``).
"""

from __future__ import annotations

import contextlib
import os
import secrets
import threading
import time
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Protocol

from ..errors import MissingPiece, StoreError
from ..files.flushing import flush_file_system
from ..private import private_file

_BESIDE = ".new-"


class Backend(Protocol):
    """Named pieces of bytes; a name is ``folder/name`` or deeper, of plain ASCII.

    Guarantees: a piece is there as a whole or not at all, whenever a writer dies; two writers of one name
    leave the whole piece of one of them. Calls may come from several threads. Every method raises
    StoreError.

    ``is_remote`` is true where each call costs a way there and back, so that pieces are better fetched many at
    a time; ``writers`` is how many threads that write are worth their while.
    """

    where: str
    is_remote: bool
    writers: int

    def read(self, name: str) -> bytes:
        """Raises MissingPiece where there is no such piece."""

    def fetch(self, names: Sequence[str]) -> dict[str, bytes]:
        """Many pieces in one go. What is not there, or cannot be read, is not among them."""

    def write(self, name: str, content: bytes) -> None:
        """Write a piece, or replace it. It is safe from a loss of power once ``settle`` has returned."""

    def settle(self) -> None:
        """Return when all that was written is there for good."""

    def has(self, name: str) -> bool:
        """True where there is such a piece."""

    def names(self, folder: str) -> Iterator[tuple[str, int]]:
        """The names below a folder, at any depth, with their sizes in bytes; none where it is not there."""

    def age(self, name: str) -> float | None:
        """Seconds since a piece was written, by the clock of its own machine; None where there is none."""

    def remove(self, name: str) -> None:
        """Remove a piece, if it is there."""

    def rename(self, old: str, new: str) -> None:
        """Give a piece another name; what had that name is replaced."""

    def give_up(self) -> None:
        """Let go of what was written and not settled."""

    def sweep(self) -> None:
        """Remove what dead writers left half-written. Only while nobody writes."""


class FolderBackend:
    """A folder of this machine. It is made, with all above it, when something is first written.

    Pieces are written beside their places. They get their names when they are settled, after everything
    is safely on disk, so that a piece that has its name is whole also after a loss of power.
    """

    is_remote = False
    writers = 2

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.where = str(folder)
        self._token = secrets.token_hex(4)
        self._lock = threading.Lock()
        self._settling = threading.Lock()
        self._written: dict[str, Path] = {}
        self._count = 0

    def read(self, name: str) -> bytes:
        with self._lock:
            beside = self._written.get(name)
        with self._said(name):
            return (beside or self.folder / name).read_bytes()

    def fetch(self, names: Sequence[str]) -> dict[str, bytes]:
        found = {}
        for name in names:
            with contextlib.suppress(StoreError):
                found[name] = self.read(name)
        return found

    def write(self, name: str, content: bytes) -> None:
        with self._lock:
            self._count += 1
            beside = self.folder / f"{_BESIDE}{self._token}-{self._count}"
        with self._said(name):
            if self._count == 1:
                # It holds what visitors left on the site.
                self.folder.mkdir(mode=0o700, parents=True, exist_ok=True)
            try:
                with private_file(beside) as file:
                    file.write(content)
            except OSError:
                beside.unlink(missing_ok=True)
                raise
        with self._lock:
            old = self._written.pop(name, None)
            self._written[name] = beside
        if old is not None:
            old.unlink(missing_ok=True)

    def settle(self) -> None:
        with self._settling:
            with self._lock:
                written = dict(self._written)
            if not written:
                return
            with self._said(""):
                flush_file_system(str(self.folder))
                for name, beside in written.items():
                    self._name(name, beside)

    def _name(self, name: str, beside: Path) -> None:
        with self._lock:
            if self._written.get(name) != beside:
                return  # it was written anew, or removed
            place = self.folder / name
            try:
                beside.rename(place)
            except FileNotFoundError:
                place.parent.mkdir(parents=True, exist_ok=True)
                beside.rename(place)
            del self._written[name]

    def has(self, name: str) -> bool:
        return name in self._written or (self.folder / name).exists()

    def names(self, folder: str) -> Iterator[tuple[str, int]]:
        base = str(self.folder)
        for at, _, files in os.walk(self.folder / folder):
            for name in files:
                if not name.startswith(_BESIDE):
                    path = f"{at}/{name}"
                    with contextlib.suppress(FileNotFoundError):
                        yield path[len(base) + 1 :], os.stat(path).st_size  # noqa: PTH116

    def age(self, name: str) -> float | None:
        try:
            return max(0.0, time.time() - (self.folder / name).stat().st_mtime)
        except FileNotFoundError:
            return None

    def remove(self, name: str) -> None:
        with self._lock:
            beside = self._written.pop(name, None)
        with self._said(name):
            if beside is not None:
                beside.unlink(missing_ok=True)
            (self.folder / name).unlink(missing_ok=True)

    def rename(self, old: str, new: str) -> None:
        with self._said(old):
            (self.folder / new).parent.mkdir(parents=True, exist_ok=True)
            (self.folder / old).rename(self.folder / new)

    def sweep(self) -> None:
        if self.folder.is_dir():
            for path in self.folder.glob(f"{_BESIDE}*"):
                if not path.name.startswith(f"{_BESIDE}{self._token}-"):
                    path.unlink(missing_ok=True)

    def give_up(self) -> None:
        with self._lock:
            written, self._written = self._written, {}
        for beside in written.values():
            beside.unlink(missing_ok=True)

    @contextlib.contextmanager
    def _said(self, name: str) -> Iterator[None]:
        try:
            yield
        except FileNotFoundError as error:
            raise MissingPiece(f"{self.folder / name} is missing") from error
        except OSError as error:
            raise StoreError(f"{self.folder / name}: {error.strerror or error}") from error
