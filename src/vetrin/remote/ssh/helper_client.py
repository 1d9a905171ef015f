"""A host's files through the helper that runs there for as long as the connection lasts.

It is Python or PHP, whichever the host has, started by the account's shell and fed with its own text; not
a file of it lies on the host. Each thread that works with it has a helper of its own.
"""

from __future__ import annotations

import errno
import json
import queue
import struct
import time
from collections.abc import Collection, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

from ...errors import ConnectionFailed, ConnectionLost, FilesError, PortClosed
from ...files import AskedEachTime, Buffer, FileChange, FileStatus, Room, Span, Writing, printable
from ..helper_protocol import (
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
from ..helper_scripts import PHP, PYTHON, source
from .channel import Pipe
from .connection import Line

_FORMS = (
    # What starts it, how its text is named, and how it is told apart in messages.
    ("helper.py", f"exec python3 -I -c '{PYTHON}'", "Python 3"),
    ("helper.php", f"exec php -d display_errors=stderr -r '{PHP}'", "PHP"),
)
_ANSWERS = 20.0  # seconds in which a helper says hello, beyond the way there and back
_PROBE = 1 << 16  # bytes that measure the line
_ASKED = 2000  # files in one request


class NoHelper(Exception):
    """The host runs no helper; the message says why."""


@dataclass(frozen=True)
class Hello:
    """What a helper says of itself and its host."""

    form: str
    grain: int
    algorithms: tuple[str, ...]
    home: str
    sqlite: str


class Helpers:
    """The helpers of one host: as many as work goes on at a time.

    Raises:
        NoHelper: the account has no shell, or neither Python 3 nor PHP.
        ConnectionFailed: the host cannot be reached.
    """

    def __init__(self, line: Line, *, gentle: bool = False, forms: Sequence[str] = ()) -> None:
        self.line = line
        self._gentle = gentle
        self._idle: queue.SimpleQueue[_Helper] = queue.SimpleQueue()
        reasons = []
        self._name = self._command = ""
        for name, command, title in _FORMS:
            if forms and name not in forms:
                continue
            try:
                self._name, self._command = name, command
                first = _Helper(line, name, command, gentle, _PROBE)
            except NoHelper as error:
                reasons.append(f"{title}: {error}")
                continue
            self.hello = first.hello
            self._idle.put(first)
            return
        raise NoHelper("; ".join(reasons))

    @contextmanager
    def one(self) -> Iterator[Frames]:
        """A helper for some requests; it is given back if they ended well."""
        helper = self._taken()
        try:
            yield helper.frames
        except ExchangeError as error:
            if helper.ended:
                raise ConnectionLost(
                    f"{self.line.account}: the helper ended{helper.complaint}"
                ) from error
            self._idle.put(helper)
            raise
        except BaseException:
            helper.pipe.close()
            raise
        else:
            self._idle.put(helper)

    def relay(self, *, bulk: bool = False, **where: Any) -> Pipe:
        """A connection from the host to a port or a socket there, through a helper of its own; ``bulk``: for many
        bytes.

        Raises:
            ConnectionFailed: nothing answers there.
        """
        helper = self._another(packed=bulk and self.line.slow)
        try:
            helper.frames.ask("relay", **where)
        except ExchangeError as error:
            raise ConnectionFailed(f"{error.path}: {error}") from error
        return helper.pipe

    def session(self, *, bulk: bool = False) -> tuple[Frames, Pipe]:
        """A helper of one's own, for as long as one likes; ``bulk``: for many bytes."""
        helper = self._another(packed=bulk and self.line.slow)
        return helper.frames, helper.pipe

    def close(self) -> None:
        while not self._idle.empty():
            self._idle.get().pipe.close()

    def _taken(self) -> _Helper:
        while not self._idle.empty():
            helper = self._idle.get()
            if not helper.ended:
                return helper
        return self._another(gentle=self._gentle)

    def _another(self, *, gentle: bool = False, packed: bool = False) -> _Helper:
        """One more. That the host runs such is known, so one that does not come is a line that broke."""
        try:
            return _Helper(self.line, self._name, self._command, gentle, 0, packed=packed)
        except NoHelper as error:
            raise ConnectionLost(
                f"{self.line.account}: no further helper came up ({error})"
            ) from error


class _Helper:
    def __init__(
        self,
        line: Line,
        name: str,
        command: str,
        gentle: bool,
        probe: int,
        *,
        packed: bool = False,
    ) -> None:
        text = source(name)
        try:
            self.pipe = line.command(command, packed=packed)
        except PortClosed as error:
            raise NoHelper(str(error)) from error
        self.frames = Frames(self.pipe)
        self.pipe.settimeout(_ANSWERS + 10 * line.latency)
        begun = time.perf_counter()
        try:
            self.pipe.sendall(b"%d\n%s" % (len(text), text))
            said: dict[str, Any] = {}
            for kind, content in self.frames.begin("hello", gentle=gentle, probe=probe):
                if kind == JSON:
                    said = json.loads(content)
                    begun = time.perf_counter()
                elif probe:
                    line.rate = len(content) / max(time.perf_counter() - begun, 0.0005)
        except (ExchangeError, ConnectionLost, TimeoutError, ValueError, struct.error) as error:
            self.pipe.close()
            if isinstance(error, ConnectionLost) and not line.alive:
                raise
            raise NoHelper(self.complaint.lstrip(" :(").rstrip(")") or str(error)) from error
        self.pipe.settimeout(None)
        self.hello = Hello(
            said["form"], said["grain"], tuple(said["algorithms"]), unescaped(said["home"]),
            said["sqlite"],
        )  # fmt: skip

    @property
    def ended(self) -> bool:
        return self.pipe.ended

    @property
    def complaint(self) -> str:
        lines = self.pipe.complaint.decode("utf-8", "replace").strip().splitlines()
        return f" ({printable(lines[-1][:200])})" if lines else ""


class HelperMachine(AskedEachTime):
    """The files of a host, through its helpers."""

    streams = 2

    def __init__(self, helpers: Helpers) -> None:
        self._helpers = helpers
        self.grain = helpers.hello.grain
        self.algorithms = helpers.hello.algorithms

    def look(self, paths: Sequence[str], *, follow: bool = False) -> list[FileStatus | None]:
        found: list[FileStatus | None] = []
        for some in _portions(paths):
            with self._asked() as frames:
                said = frames.ask("look", paths=list(map(escaped, some)), follow=follow)
            found += [_look(item) for item in said["found"]]
        return found

    def scan(
        self,
        folders: Sequence[str],
        skip: Collection[str],
        shut: Collection[str],
        prune: tuple[str, Sequence[str]] = ("", ()),
    ) -> Iterator[tuple[str, FileStatus]]:
        with self._asked() as frames:
            answer = frames.begin(
                "scan", folders=list(map(escaped, folders)), skip=list(map(escaped, skip)),
                shut=list(shut), root=escaped(prune[0]), prune=list(prune[1]), pack=self._helpers.line.slow,
            )  # fmt: skip
            for kind, content in answer:
                if kind == DATA:
                    for path, item in json.loads(content):
                        found = _look(item)
                        assert found is not None
                        yield unescaped(path), found

    def names(self, folder: str) -> list[tuple[str, FileStatus]]:
        start = folder.rstrip("/") + "/"
        # The folders in it are told and not entered.
        with self._asked() as frames:
            said = frames.ask("names", path=escaped(folder))
        return [(unescaped(name)[len(start) :], _must(_look(item))) for name, item in said["found"]]

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
                pack=self._helpers.line.slow,
            )  # fmt: skip
            stream = records(answer)
            for path, _, _ in items:
                content = _Content(self._helpers.line.account, path, stream)
                yield content
                for _ in content:  # what was not taken is passed over
                    pass
            for _ in stream:
                pass

    def write_many(self, files: Iterable[tuple[Writing, Iterable[Buffer | Span]]]) -> None:
        with self._asked() as frames:
            frames.send("write", _written(files), Packing(self._helpers.line.slow))

    def act(self, acts: Sequence[FileChange], root: str = "") -> None:
        for some in _portions(acts):
            with self._asked() as frames:
                rows = [
                    (do, escaped(path), escaped(to), mode, soft)
                    for do, path, to, mode, soft in some
                ]
                frames.ask("act", acts=rows, root=escaped(root))

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
        with self._asked() as frames:
            frames.ask("remove", path=escaped(path))

    def real(self, path: str) -> str:
        with self._asked() as frames:
            return unescaped(frames.ask("real", path=escaped(path))["path"])

    @contextmanager
    def _asked(self) -> Iterator[Frames]:
        with _of_files(self._helpers.line.account), self._helpers.one() as frames:
            yield frames


@contextmanager
def _of_files(account: str) -> Iterator[None]:
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
        with _of_files(self._account):
            kind, content = next(self._stream, (DONE, _NOTHING))
        if kind == BYTES:
            return content
        self._done = True
        if kind == LOST:
            said = json.loads(bytes(content))
            denied = bool(said.get("denied"))
            error = ExchangeError(said["message"], self._path, said["missing"], denied)
            cause = FileNotFoundError(errno.ENOENT, said["message"]) if said["missing"] else error
            raise _said(error) from cause
        raise StopIteration


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


def _look(item: list[Any] | None) -> FileStatus | None:
    if item is None:
        return None
    kind, size, modified, mode, target, device, inode = item
    return FileStatus(kind, size, modified, mode, unescaped(target), (device, inode))


def _must(look: FileStatus | None) -> FileStatus:
    assert look is not None
    return look


def _portions(items: Sequence[Any]) -> Iterator[Sequence[Any]]:
    for at in range(0, len(items), _ASKED):
        yield items[at : at + _ASKED]
