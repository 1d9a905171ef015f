"""The files of a snapshot, read as any tree is, and as the root of a site."""

from __future__ import annotations

import errno
import fnmatch
import posixpath
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from functools import cached_property

from msgspec import Struct

from ..errors import DamagedObject, FilesError
from ..files import (
    PIECE,
    AskedFileByFile,
    Buffer,
    Entry,
    Manifest,
    Stat,
    admit,
    digest_of,
    selected,
)
from .manifest import StoredFile, StoredFiles, files_as_lists, files_of_list
from .objects import Contents, together


def keep_files(
    contents: Contents, files: Sequence[StoredFile], passed: Mapping[str, str] | None = None
) -> tuple[StoredFiles, int]:
    """Store the lists of files whose contents are stored; they, and how many bytes that added."""
    kept = [contents.keep(content) for content in files_as_lists(files)]
    found = StoredFiles(
        tuple(digest for digest, _ in kept),
        sum(file.entry.kind != "folder" for file in files),
        sum(file.entry.size for file in files),
        dict(passed or {}),
    )
    return found, sum(added for _, added in kept)


def read_files(contents: Contents, digest: str) -> list[StoredFile]:
    """A list of files that is stored. Raises DamagedObject."""
    content = contents.read(digest)
    try:
        return files_of_list(content)
    except ValueError as error:
        raise DamagedObject(digest, str(error)) from error


class SnapshotTree(AskedFileByFile):
    """Implements ``SourceTree``. With ``only``, those are the paths that it tells of, with all below them; the
    folders above them are to be seen as well. ``partly``: of a folder that it does not have, it does not tell
    whether there is one."""

    streams = 2
    grain = 1
    algorithms: tuple[str, ...] = ("xxh128", "sha256")
    folds_names = False

    def __init__(
        self,
        contents: Contents,
        files: Iterable[StoredFile],
        passed: Mapping[str, str],
        only: Sequence[str] = (),
        *,
        partly: bool = False,
    ) -> None:
        self._contents = contents
        self._files = {file.entry.path: file for file in files}
        self._passed = dict(passed)
        self._only = only
        self._partly = partly

    @cached_property
    def entries(self) -> dict[str, Entry]:
        """All that is to be seen, by path."""
        return {
            path: file.entry
            for path, file in self._files.items()
            if not self._only or any(_near(path, one) for one in self._only)
        }

    @cached_property
    def _folders(self) -> dict[str, list[str]]:
        """The names in each folder, whether it has an entry of its own or not."""
        found: dict[str, set[str]] = {"": set()}
        for path in self._files:
            while path:
                above, _, name = path.rpartition("/")
                names = found.setdefault(above, set())
                if name in names:
                    break
                names.add(name)
                path = above
        return {folder: sorted(names) for folder, names in found.items()}

    def scan(
        self, folders: Sequence[str], skip: Collection[str] = (), prune: Sequence[str] = ()
    ) -> Manifest:
        found = selected(self.entries, self._passed, folders, skip)
        found.only = tuple(self._only) or None
        found.partly = self._partly
        return admit(found)

    def look_again(self, paths: Sequence[str]) -> list[Entry | None]:
        return [self.entries.get(path) for path in paths]

    def children(self, folder: str) -> list[Entry]:
        folder = "" if folder in (".", "") else folder.strip("/")
        found = []
        for name in self._folders.get(folder, ()):
            path = f"{folder}/{name}" if folder else name
            file = self._files.get(path)
            found.append(file.entry if file is not None else Entry(path, "folder", mode=0o755))
        return found

    def kind(self, path: str) -> str | None:
        """What is at a path, a folder without an entry of its own included; None for nothing."""
        file = self._files.get(path)
        if file is not None:
            return file.entry.kind
        return "folder" if path in self._folders else None

    def exists(self, path: str) -> bool:
        return self.kind(path) is not None

    def digest(self, path: str) -> str:
        entry = self._file(path).entry
        return entry.digest or digest_of(self.read(path), "xxh128")

    def digests(self, paths: Sequence[str], algorithm: str) -> list[str | None]:
        return [self._digest(path, algorithm) if path in self._files else None for path in paths]

    def _digest(self, path: str, algorithm: str) -> str:
        return self.digest(path) if algorithm == "xxh128" else digest_of(self.read(path), algorithm)

    def pieces(self, path: str, algorithm: str = "xxh128") -> list[str]:
        return [digest_of([piece], algorithm) for piece in self._pieces(path)]

    def _pieces(self, path: str) -> Iterator[bytes]:
        for block in self.read(path):  # all blocks but the last are whole numbers of pieces
            for at in range(0, len(block), PIECE):
                yield block[at : at + PIECE]

    def read(self, path: str, start: int = 0, size: int | None = None) -> Iterator[bytes]:
        at, stop = 0, None if size is None else start + size
        for block in self._contents.blocks(self._file(path).blocks):
            end = at + len(block)
            if end > start and (stop is None or at < stop):
                yield block[max(0, start - at) : None if stop is None else stop - at]
            at = end

    def read_all(self, entries: Iterable[Entry]) -> Iterator[tuple[Entry, Iterator[Buffer]]]:
        for some in together(entries, lambda entry: entry.size):
            files = [self._file(entry.path) for entry in some if entry.kind == "file"]
            self._contents.bring({block for file in files for block in file.blocks[:1]})
            for entry in some:
                yield entry, self.read(entry.path) if entry.kind == "file" else iter(())

    def _file(self, path: str) -> StoredFile:
        file = self._files.get(path)
        if file is None:
            raise FilesError(f"{path} is not among the stored files")
        return file


def _near(path: str, one: str) -> bool:
    """True for a path that is ``one``, or lies above or below it."""
    return path == one or path.startswith(f"{one}/") or one.startswith(f"{path}/")


class SnapshotPath(Struct, frozen=True):
    """A path in a stored tree; ``root`` is what its site's root was called. Implements ``Place``."""

    tree: SnapshotTree
    path: str
    root: str
    real: str

    def __str__(self) -> str:
        return posixpath.join(self.root, self.path) if self.path else self.root

    @property
    def name(self) -> str:
        return posixpath.basename(str(self))

    @property
    def parent(self) -> SnapshotPath:
        return self / ".."

    def __truediv__(self, other: str) -> SnapshotPath:
        return self.joinpath(other)

    def joinpath(self, *others: str) -> SnapshotPath:
        path = posixpath.normpath(posixpath.join(self.path, *others))
        return SnapshotPath(self.tree, "" if path == "." else path, self.root, self.real)

    def with_suffix(self, suffix: str) -> SnapshotPath:
        path = posixpath.splitext(self.path)[0] + suffix
        return SnapshotPath(self.tree, path, self.root, self.real)

    def exists(self) -> bool:
        return not self.path or self.tree.exists(self.path)

    def is_file(self) -> bool:
        return self.tree.kind(self.path) == "file"

    def is_dir(self) -> bool:
        return not self.path or self.tree.kind(self.path) == "folder"

    def is_socket(self) -> bool:
        return False

    def iterdir(self) -> Iterator[SnapshotPath]:
        for entry in self.tree.children(self.path):
            yield SnapshotPath(self.tree, entry.path, self.root, self.real)

    def glob(self, pattern: str) -> Iterator[SnapshotPath]:
        first, _, rest = pattern.partition("/")
        if "*" not in first:
            found = [self / first] if (self / first).exists() else []
        else:
            found = [place for place in self.iterdir() if fnmatch.fnmatchcase(place.name, first)]
        for place in found:
            if rest:
                yield from place.glob(rest)
            else:
                yield place

    def read_bytes(self) -> bytes:
        if not self.is_file():
            raise FileNotFoundError(errno.ENOENT, "No such file or directory", str(self))
        return b"".join(self.tree.read(self.path))

    def read_text(self, encoding: str) -> str:
        return self.read_bytes().decode(encoding)

    def stat(self) -> Stat:
        if not self.exists():
            raise FileNotFoundError(errno.ENOENT, "No such file or directory", str(self))
        entry = self.tree.entries.get(self.path)
        return Stat(entry.mode if entry else 0o755, entry.size if entry else 0)

    def resolve(self) -> SnapshotPath:
        return SnapshotPath(self.tree, self.path, self.real, self.real)
