"""A path on another machine, with what reading a site's configuration needs of one."""

from __future__ import annotations

import contextlib
import errno
import fnmatch
import posixpath
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from msgspec import Struct

from ..errors import FilesError
from .remote_machine import FileStatus, Machine


class Stat(NamedTuple):
    """As of ``os.stat``, as far as it goes."""

    st_mode: int
    st_size: int


@contextlib.contextmanager
def looking_at(place: object, names: Iterable[str]) -> Iterator[None]:
    """Where a place is on another machine: have it looked at together with some paths below it, for what is asked of
    them in this context."""
    if not isinstance(place, RemotePath):
        yield
        return
    with place.machine.looking():
        plain = ((place / name).path for name in names if "*" not in name)
        paths = list(dict.fromkeys([place.path, *plain]))
        place.machine.look(paths)
        place.machine.look(paths, follow=True)
        yield


class RemotePath(Struct, frozen=True):
    """An absolute path on ``machine``. What it says of a file is asked anew each time."""

    machine: Machine
    path: str

    def __str__(self) -> str:
        return self.path

    @property
    def name(self) -> str:
        return posixpath.basename(self.path)

    @property
    def parent(self) -> RemotePath:
        return RemotePath(self.machine, posixpath.dirname(self.path))

    def __truediv__(self, other: str) -> RemotePath:
        return RemotePath(self.machine, posixpath.normpath(posixpath.join(self.path, other)))

    def joinpath(self, *others: str) -> RemotePath:
        return RemotePath(self.machine, posixpath.normpath(posixpath.join(self.path, *others)))

    def with_suffix(self, suffix: str) -> RemotePath:
        return RemotePath(self.machine, posixpath.splitext(self.path)[0] + suffix)

    def exists(self) -> bool:
        return self._look() is not None

    def is_file(self) -> bool:
        found = self._look()
        return found is not None and found.kind == "file"

    def is_dir(self) -> bool:
        found = self._look()
        return found is not None and found.kind == "folder"

    def is_socket(self) -> bool:
        found = self._look()
        return found is not None and found.kind == "other"

    def iterdir(self) -> Iterator[RemotePath]:
        for name, _ in self.machine.names(self.path):
            yield self / name

    def glob(self, pattern: str) -> Iterator[RemotePath]:
        folder, _, name = pattern.rpartition("/")
        place = self / folder if folder else self
        if "*" in folder:
            for one in self.glob(folder):
                yield from one.glob(name)
        elif place.is_dir():
            for one in place.iterdir():
                if fnmatch.fnmatchcase(one.name, name):
                    yield one

    def read_bytes(self) -> bytes:
        try:
            return b"".join(self.machine.read(self.path))
        except FilesError as error:
            missing = isinstance(error.__cause__, FileNotFoundError)
            raise OSError(errno.ENOENT if missing else errno.EIO, str(error)) from error

    def read_text(self, encoding: str) -> str:
        return self.read_bytes().decode(encoding)

    def stat(self) -> Stat:
        found = self._look()
        if found is None:
            raise FileNotFoundError(errno.ENOENT, "No such file or directory", self.path)
        return Stat(found.mode, found.size)

    def resolve(self) -> RemotePath:
        return RemotePath(self.machine, self.machine.real(self.path))

    def _look(self) -> FileStatus | None:
        return self.machine.look([self.path], follow=True)[0]
