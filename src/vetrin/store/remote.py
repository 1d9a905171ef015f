"""A backend on another machine: ``sftp://user@host:port/folder``, by the user's own SSH configuration."""

from __future__ import annotations

import contextlib
import posixpath
import secrets
import threading
import time
from collections.abc import Iterator, Sequence

from ..config import Host
from ..errors import FilesError, HostError, MissingPiece, ProjectError, StoreError
from ..files import FileChange, Machine, Writing
from ..files.remote_machine import NOW
from ..remote import Hosts

_TOGETHER = 8 << 20  # bytes that are written in one exchange
_LIKELY = 128 << 10  # bytes of a piece whose size was not asked
_BESIDE = ".new-"


def remote_backend(hosts: Hosts, address: str) -> RemoteBackend:
    """Connect to where an ``sftp://`` address leads.

    Raises:
        ProjectError: it is not well formed.
        ReachError: the host cannot be reached.
    """
    rest = address.removeprefix("sftp://")
    line, slash, folder = rest.partition("/")
    try:
        host = Host.parse(f"ssh://{line}")
    except HostError as error:
        raise ProjectError(f"[store] place: {error}") from error
    if not slash or not folder:
        raise ProjectError(f"[store] place: {address!r} names no folder")
    remote_host = hosts.at(host, "the store")
    path = folder if folder.startswith("~") else f"/{folder}"
    return RemoteBackend(remote_host.machine, str(remote_host.place(path)), address)


class RemoteBackend:
    """Implements ``Backend``. Pieces wait here until there are enough of them for an exchange; they are
    written beside their places and renamed."""

    is_remote = True
    writers = 2

    def __init__(self, machine: Machine, folder: str, where: str) -> None:
        self._machine = machine
        self._folder = folder
        self.where = where
        self._lock = threading.RLock()
        self._waiting: dict[str, bytes] = {}
        self._size = 0
        self._names: dict[str, dict[str, int]] = {}
        self._token = secrets.token_hex(4)
        self._count = 0

    def read(self, name: str) -> bytes:
        with self._lock, self._said(name):
            if name in self._waiting:
                return self._waiting[name]
            return b"".join(self._machine.read(self._path(name)))

    def fetch(self, names: Sequence[str]) -> dict[str, bytes]:
        with self._lock, self._said(""):
            asked = [name for name in names if name not in self._waiting]
            found = {name: self._waiting[name] for name in names if name in self._waiting}
            sizes = self._names.get("objects", {})
            contents = self._machine.read_many(
                [(self._path(name), sizes.get(name, _LIKELY)) for name in asked]
            )
            for name, blocks in zip(asked, contents, strict=False):
                with contextlib.suppress(FilesError):
                    found[name] = b"".join(blocks)
            for _ in contents:  # to its end, for another exchange comes behind it
                pass
        return found

    def write(self, name: str, content: bytes) -> None:
        with self._lock:
            self._waiting[name] = content
            self._size += len(content)
            for folder, names in self._names.items():
                if name.startswith(f"{folder}/"):
                    names[name] = len(content)
            if self._size >= _TOGETHER:
                self.settle()

    def settle(self) -> None:
        with self._lock, self._said(""):
            waiting, self._waiting, self._size = self._waiting, {}, 0
            if not waiting:
                return
            beside = {}
            for name in waiting:
                self._count += 1
                beside[name] = self._path(f"{_BESIDE}{self._token}-{self._count}")
            self._machine.write_many(
                (Writing(beside[name], 0o600, NOW), [content]) for name, content in waiting.items()
            )
            self._machine.flush(self._folder)
            folders = {posixpath.dirname(self._path(name)) for name in waiting}
            acts = [FileChange("folder", folder, mode=0o700) for folder in sorted(folders)]
            acts += [FileChange("replace", beside[name], self._path(name)) for name in waiting]
            self._machine.act(acts)

    def has(self, name: str) -> bool:
        with self._lock:
            if name in self._waiting:
                return True
            folder = name.rpartition("/")[0]
            if not folder:
                with self._said(name):
                    return self._machine.look([self._path(name)])[0] is not None
            top = folder.partition("/")[0]
            if top not in self._names:
                self._names[top] = dict(self.names(top))
            return name in self._names[top]

    def names(self, folder: str) -> Iterator[tuple[str, int]]:
        with self._lock, self._said(folder):
            self.settle()
            path = self._path(folder)
            if self._machine.look([path])[0] is None:
                return
            found = [
                (place[len(self._folder) + 1 :], look.size)
                for place, look in self._machine.scan([path], (), ())
                if look.kind == "file"
            ]
        yield from sorted(found)

    def age(self, name: str) -> float | None:
        with self._lock, self._said(name):
            self.settle()
            look = self._machine.look([self._path(name)])[0]
        return None if look is None else max(0.0, time.time() - look.modified / 1e9)

    def remove(self, name: str) -> None:
        with self._lock, self._said(name):
            self._waiting.pop(name, None)
            self._machine.act([FileChange("remove", self._path(name), soft=True)])
            for names in self._names.values():
                names.pop(name, None)

    def rename(self, old: str, new: str) -> None:
        with self._lock, self._said(old):
            self.settle()
            above = posixpath.dirname(self._path(new))
            self._machine.act(
                [
                    FileChange("folder", above, mode=0o700),
                    FileChange("replace", self._path(old), self._path(new)),
                ]
            )
            for names in self._names.values():
                names.pop(old, None)

    def give_up(self) -> None:
        with self._lock:
            self._waiting, self._size = {}, 0
            self._names.clear()

    def sweep(self) -> None:
        with self._lock, self._said(""):
            if self._machine.look([self._folder])[0] is None:
                return
            for name, _ in self._machine.names(self._folder):
                if name.startswith(_BESIDE):
                    self._machine.remove(self._path(name))

    def _path(self, name: str) -> str:
        return f"{self._folder}/{name}"

    @contextlib.contextmanager
    def _said(self, name: str) -> Iterator[None]:
        try:
            yield
        except StoreError:
            raise
        except FilesError as error:
            if isinstance(error.__cause__, FileNotFoundError):
                raise MissingPiece(f"{self.where}/{name} is missing") from error
            raise StoreError(f"{self.where}/{name}: {error}") from error
