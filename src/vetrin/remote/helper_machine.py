"""The files of a machine, through helpers that run there, by whatever reach.

A helper is asked as ``helper_protocol`` describes; nothing that it is asked depends on what it was asked before.
"""

from __future__ import annotations

import errno
import json
import struct
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager
from typing import Any, Protocol

from msgspec import Struct

from ..errors import ConnectionFailed, ConnectionLost, FilesError
from ..files import (
    AskedEachTime,
    Buffer,
    FileChange,
    FileStatus,
    Room,
    ScannedParts,
    Span,
    Writing,
    printable,
)
from .helper_protocol import (
    BEGIN,
    BYTES,
    DATA,
    DONE,
    JSON,
    LOST,
    MALFORMED,
    NO_ANSWER,
    SPAN,
    BrokenOff,
    ExchangeError,
    Frames,
    Packing,
    escaped,
    record,
    records,
    unescaped,
)

_ASKED = 2000  # files in one request
_FOLDERS = 200


class Hello(Struct, frozen=True):
    """What a helper says of itself and its host."""

    form: str
    grain: int
    algorithms: tuple[str, ...]
    home: str
    sqlite: str
    since_start: str | None = None  # ``Machine.since_start``, where it tells that
    parts: bool = False  # it tells scans in parts
    row_digests: bool = False  # and digests of the rows of an embedded database
    prints: bool = False  # and, of rows that a database server sends, their prints

    @classmethod
    def of(cls, said: Mapping[str, Any]) -> Hello:
        """What stands in an answer. Raises LookupError, TypeError and ValueError for one that is none."""
        return cls(
            form=str(said["form"]),
            grain=int(said["grain"]),
            algorithms=tuple(map(str, said["algorithms"])),
            home=unescaped(str(said["home"])),
            sqlite=str(said.get("sqlite", "")),
            since_start=str(said["since start"])[:64] if "since start" in said else None,
            parts=bool(said.get("parts")),
            row_digests=bool(said.get("row digests")),
            prints=bool(said.get("prints")),
        )


class HelperPool(Protocol):
    """The helpers of one machine: as many as work goes on at a time."""

    @property
    def hello(self) -> Hello:
        """What they say of themselves."""

    @property
    def account(self) -> str:
        """How messages name where they are."""

    @property
    def slow(self) -> bool:
        """True where it is worth while to compress what goes there and comes from there."""

    def one(self) -> AbstractContextManager[Frames]:
        """A helper for some requests."""


class HelperMachine(AskedEachTime):
    """The files of a host, through its helpers."""

    streams = 2
    portion = _ASKED  # of acts in one request

    def __init__(self, helpers: HelperPool) -> None:
        self._helpers = helpers
        if helpers.hello.since_start is not None:
            self.since_start = helpers.hello.since_start
        self.grain = helpers.hello.grain
        self.algorithms = helpers.hello.algorithms

    def look(self, paths: Sequence[str], *, follow: bool = False) -> list[FileStatus | None]:
        found: list[FileStatus | None] = []
        for some in _portions(paths):
            with self._asked() as frames:
                said = frames.ask("look", paths=list(map(escaped, some)), follow=follow)
            found += [status_of(item) for item in said["found"]]
        return found

    def scan(
        self,
        folders: Sequence[str],
        skip: Collection[str],
        shut: Collection[str],
        prune: tuple[str, Sequence[str]] = ("", ()),
    ) -> Iterator[tuple[str, FileStatus]]:
        rest = list(map(escaped, folders))
        while rest:
            with self._asked() as frames:
                answer = frames.begin(
                    "scan", folders=rest, skip=list(map(escaped, skip)), shut=list(shut), root=escaped(prune[0]),
                    prune=list(prune[1]), pack=self._helpers.slow,
                )  # fmt: skip
                rest = []
                for kind, content in answer:
                    if kind == JSON:  # a helper that is short of time tells where it stopped
                        rest = [str(path) for path in json.loads(content)["rest"]]
                    elif kind == DATA:
                        for path, item in json.loads(content):
                            yield unescaped(path), _must(status_of(item))

    def scan_parts(
        self,
        folders: Sequence[str],
        skip: Collection[str],
        shut: Collection[str],
        prune: tuple[str, Sequence[str]],
        known: Mapping[int, str],
    ) -> ScannedParts | None:
        if not self._helpers.hello.parts:
            return None
        found: list[tuple[int, str, FileStatus]] = []
        digests: dict[int, str] = {}
        same: frozenset[int] = frozenset()
        with self._asked() as frames:
            answer = frames.begin(
                "scan", folders=list(map(escaped, folders)), skip=list(map(escaped, skip)), shut=list(shut),
                root=escaped(prune[0]), prune=list(prune[1]), pack=self._helpers.slow, known=known,
            )  # fmt: skip
            for kind, content in answer:
                if kind == JSON:
                    said = json.loads(content)
                    digests = {int(part): str(digest) for part, digest in said["parts"].items()}
                    same = frozenset(map(int, said["same"]))
                elif kind == DATA:
                    for part, rows in json.loads(content):
                        for path, item in rows:
                            found.append((int(part), unescaped(path), _must(status_of(item))))
            if any(part not in known or digests.get(part) != known[part] for part in same):
                raise ExchangeError(NO_ANSWER)
        return ScannedParts(found, digests, same)

    def names(self, folder: str) -> list[tuple[str, FileStatus]]:
        # The folders in it are told and not entered.
        with self._asked() as frames:
            said = frames.ask("names", path=escaped(folder))
            return _names(folder, said["found"])

    def names_of(self, folders: Sequence[str]) -> list[list[tuple[str, FileStatus]]]:
        found: list[list[tuple[str, FileStatus]]] = []
        while len(found) < len(folders):
            some = folders[len(found) : len(found) + _FOLDERS]
            with self._asked() as frames:
                told = frames.ask("names", paths=list(map(escaped, some)))["each"]
                if not 0 < len(told) <= len(some):
                    raise ExchangeError(NO_ANSWER)
                # A helper that is short of time tells of as many as it can.
                found += [_names(folder, names) for folder, names in zip(some, told, strict=False)]
        return found

    def heads(self, paths: Sequence[str], size: int) -> list[bytes]:
        found = []
        for content in self._parts([(path, 0, size) for path in paths]):
            try:
                found.append(b"".join(map(bytes, content)))
            except FilesError as error:
                if error.lost:
                    raise
                found.append(b"")
        return found

    def _parts(self, items: Sequence[tuple[str, int, int | None]]) -> Iterator[Iterator[Buffer]]:
        """Parts of files, in their order."""
        for some in _portions(items):
            yield from self._contents(some)

    def read(self, path: str, start: int = 0, size: int | None = None) -> Iterator[bytes]:
        for block in self._contents([(path, start, size)]):
            for part in block:
                yield bytes(part)

    def read_many(self, files: Sequence[tuple[str, int]]) -> Iterator[Iterator[Buffer]]:
        for some in _portions(files):
            yield from self._contents([(path, 0, None) for path, _ in some])

    def _contents(self, items: Sequence[tuple[str, int, int | None]]) -> Iterator[Iterator[Buffer]]:
        with self._asked() as frames:
            answer = frames.begin(
                "read", items=[(escaped(path), start, size) for path, start, size in items],
                pack=self._helpers.slow,
            )  # fmt: skip
            stream = records(answer)
            for path, _, _ in items:
                content = _Content(self._helpers.account, path, stream)
                yield content
                for _ in content:  # what was not taken is passed over
                    pass
            for _ in stream:
                pass

    def write_many(self, files: Iterable[tuple[Writing, Iterable[Buffer | Span]]]) -> None:
        with self._asked() as frames:
            frames.send("write", _written(files), Packing(self._helpers.slow))

    def act(self, acts: Sequence[FileChange], root: str = "") -> None:
        at = 0
        while at < len(acts):
            rows = [
                (do, escaped(path), escaped(to), mode, soft)
                for do, path, to, mode, soft in acts[at : at + self.portion]
            ]
            with self._asked() as frames:
                said = frames.ask("act", acts=rows, root=escaped(root))
            at += int(said.get("at", len(rows)))

    def digests(self, paths: Sequence[str], algorithm: str) -> list[str | None]:
        return self._digested(paths, algorithm, 0)

    def pieces(self, path: str, piece: int, algorithm: str) -> list[str]:
        (found,) = self._digested([path], algorithm, piece)
        if found is None:
            raise FilesError(f"{path}: it cannot be read")
        return list(found)

    def _digested(self, paths: Sequence[str], algorithm: str, piece: int) -> list[Any]:
        found: list[Any] = []
        with self._asked() as frames:
            names = list(map(escaped, paths))
            answer = frames.begin("digest", paths=names, algorithm=algorithm, piece=piece)
            for kind, content in answer:
                if kind == DATA:
                    found += json.loads(content)
        return found

    def flush(self, folder: str) -> None:
        with self._asked() as frames:
            frames.ask("flush")

    def room(self, folder: str) -> Room:
        with self._asked() as frames:
            said = frames.ask("room", path=escaped(folder))
        return Room(said["disk"], said["free"])

    def busy(self, path: str) -> bool:
        with self._asked() as frames:
            return bool(frames.ask("busy", path=escaped(path))["busy"])

    def remove(self, path: str) -> None:
        rest = True
        while rest:
            with self._asked() as frames:
                rest = bool(frames.ask("remove", path=escaped(path)).get("rest"))

    def real(self, path: str) -> str:
        with self._asked() as frames:
            return unescaped(frames.ask("real", path=escaped(path))["path"])

    @contextmanager
    def _asked(self) -> Iterator[Frames]:
        with of_files(self._helpers.account), self._helpers.one() as frames:
            yield frames


@contextmanager
def of_files(account: str) -> Iterator[None]:
    """Errors of the exchange as those of files."""
    try:
        yield
    except BrokenOff as error:
        broken = ConnectionLost(f"{account}: {error}")
        raise _lost(str(broken)) from broken
    except ExchangeError as error:
        raise _said(error) from error
    except ConnectionFailed as error:
        told = str(error) if account in str(error) else f"{account}: {error}"
        raise (_lost(told) if isinstance(error, ConnectionLost) else FilesError(told)) from error
    except MALFORMED as error:
        raise FilesError(f"{account}: {NO_ANSWER}") from error


_NOTHING = memoryview(b"")


class _Content(Iterator[memoryview]):
    """One file's records out of the stream of all. It is read by whoever took it, outside of what asked for it."""

    def __init__(self, account: str, path: str, stream: Iterator[tuple[int, memoryview]]) -> None:
        self._account = account
        self._path = path
        self._stream = stream
        self._done = False

    def __next__(self) -> memoryview:
        if self._done:
            raise StopIteration
        with of_files(self._account):
            kind, content = next(self._stream, (DONE, _NOTHING))
        if kind == BYTES:
            return content
        self._done = True
        if kind == LOST:
            lost_content(bytes(content), self._path)
        raise StopIteration


def lost_content(told: bytes, path: str) -> None:
    """Raise what a helper told of a file in place of its content."""
    said = json.loads(told)
    denied = bool(said.get("denied"))
    error = ExchangeError(said["message"], path, said["missing"], denied)
    cause = FileNotFoundError(errno.ENOENT, said["message"]) if said["missing"] else error
    raise _said(error) from cause


def _written(files: Iterable[tuple[Writing, Iterable[Buffer | Span]]]) -> Iterator[bytes]:
    for writing, parts in files:
        head = (escaped(writing.path), writing.mode, writing.modified, escaped(writing.base))
        yield record(BEGIN, json.dumps(head).encode())
        for part in parts:
            if isinstance(part, Span):
                yield record(SPAN, struct.pack(">QQ", *part))
            else:
                yield record(BYTES, bytes(part))
        yield record(DONE)


def _lost(message: str) -> FilesError:
    found = FilesError(message)
    found.lost = True
    return found


def _said(error: ExchangeError) -> FilesError:
    found = FilesError(f"{printable(error.path)}: {error}" if error.path else str(error))
    found.denied = error.denied
    return found


def status_of(item: list[Any] | None) -> FileStatus | None:
    if item is None:
        return None
    kind, size, modified, mode, target, device, inode = item
    return FileStatus(kind, size, modified, mode, unescaped(target), (device, inode))


def _must(look: FileStatus | None) -> FileStatus:
    assert look is not None
    return look


def _names(folder: str, found: Sequence[Any]) -> list[tuple[str, FileStatus]]:
    start = folder.rstrip("/") + "/"
    return [(unescaped(name)[len(start) :], _must(status_of(item))) for name, item in found]


def _portions(items: Sequence[Any]) -> Iterator[Sequence[Any]]:
    for at in range(0, len(items), _ASKED):
        yield items[at : at + _ASKED]
