"""The files of a host through its relay.

As through a helper, but a request is to be short: what the relay did not get done of it within its time is asked for
again, from where it stopped.
"""

from __future__ import annotations

import json
import struct
from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any

from ...errors import FilesError
from ...files import Buffer, Span, Writing, digest_of
from ..helper_machine import Hello, HelperMachine, lost_content
from ..helper_protocol import (
    BEGIN,
    BYTES,
    DATA,
    DONE,
    LOST,
    SPAN,
    Frames,
    Packing,
    escaped,
    record,
    records,
)
from .exchange import Exchange, RelayChannel

_PATHS = 1000  # in one request
_COPIED = 32 << 20  # bytes of a file there that are copied by one request
_LIKELY = 4 << 20  # bytes of files that are asked for together, by what they likely have


class RelayHelpers:
    """As many askers as one likes, of one relay."""

    def __init__(self, exchange: Exchange, hello: Hello) -> None:
        self.exchange = exchange
        self.hello = hello

    @property
    def account(self) -> str:
        return self.exchange.place.name

    @property
    def slow(self) -> bool:
        return self.exchange.slow

    @contextmanager
    def one(self) -> Iterator[Frames]:
        yield Frames(RelayChannel(self.exchange))


class RelayMachine(HelperMachine):
    """Implements ``Machine``."""

    portion = 400

    def __init__(self, helpers: RelayHelpers) -> None:
        super().__init__(helpers)
        self._relay = helpers

    def read(self, path: str, start: int = 0, size: int | None = None) -> Iterator[bytes]:
        for part in _Contents(self, [(path, start, size)]).next():
            yield bytes(part)

    def read_many(self, files: Sequence[tuple[str, int]]) -> Iterator[Iterator[Buffer]]:
        items = [(path, 0, None) for path, _ in files]
        yield from _one_by_one(_Contents(self, items, [size for _, size in files]), len(files))

    def _parts(self, items: Sequence[tuple[str, int, int | None]]) -> Iterator[Iterator[Buffer]]:
        sizes = [size or 0 for _, _, size in items]
        yield from _one_by_one(_Contents(self, items, sizes), len(items))

    def write_many(self, files: Iterable[tuple[Writing, Iterable[Buffer | Span]]]) -> None:
        waiting = _Waiting(self)
        for writing, parts in files:
            waiting.begin(writing)
            for part in parts:
                if isinstance(part, Span):
                    for at in range(part.start, part.start + part.size, _COPIED):
                        count = min(_COPIED, part.start + part.size - at)
                        waiting.add(record(SPAN, struct.pack(">QQ", at, count)), count, count // 32)
                    continue
                view = memoryview(part)
                step = waiting.step
                for at in range(0, len(view), step):
                    piece = bytes(view[at : at + step])
                    waiting.add(record(BYTES, piece), len(piece), len(piece))
            waiting.end()
        waiting.send()

    def send_records(self, content: list[bytes]) -> None:
        with self._asked() as frames:
            frames.send("write", content, Packing(self._helpers.slow))

    @property
    def piece(self) -> int:
        """Bytes that are best sent together."""
        return self._relay.exchange.limits.piece

    def _digested(self, paths: Sequence[str], algorithm: str, piece: int) -> list[Any]:
        found: list[Any] = []
        while len(found) < len(paths):
            some = paths[len(found) : len(found) + _PATHS]
            digests = self._some_digests(some, algorithm, piece, 0)
            for path, digest in zip(some, digests, strict=False):
                found.append(self._read_for(path, algorithm) if digest is False else digest)
        return found

    def _read_for(self, path: str, algorithm: str) -> str | None:
        """The digest of a file for which a request is too short there: it is read, by as many as that takes."""
        try:
            return digest_of(self.read(path), algorithm)
        except FilesError as error:
            if error.lost:
                raise
            return None

    def _some_digests(
        self, paths: Sequence[str], algorithm: str, piece: int, start: int
    ) -> list[Any]:
        found: list[Any] = []
        with self._asked() as frames:
            names = list(map(escaped, paths))
            answer = frames.begin(
                "digest", paths=names, algorithm=algorithm, piece=piece, **{"from": start}
            )
            for kind, content in answer:
                if kind == DATA:
                    found += json.loads(content)
        if not found:
            raise FilesError(f"{paths[0]}: its digest takes longer than one request may")
        return found

    def pieces(self, path: str, piece: int, algorithm: str) -> list[str]:
        found: list[str] = []
        (status,) = self.look([path], follow=True)
        if status is None:
            raise FilesError(f"{path}: it cannot be read")
        while True:
            (more,) = self._some_digests([path], algorithm, piece, len(found))
            if more is None:
                raise FilesError(f"{path}: it cannot be read")
            found += more
            if not more or len(found) * piece >= status.size:
                return found

    def flush(self, folder: str) -> None:
        """Nothing: PHP has no way to have all of it written out, and of each file it would take longer than all
        else."""


def _one_by_one(contents: _Contents, count: int) -> Iterator[Iterator[Buffer]]:
    for _ in range(count):
        one = contents.next()
        yield one
        for _ in one:  # what was not taken is passed over
            pass


class _Contents:
    """Contents of files, asked for many at a time, each from where the last answer ended."""

    def __init__(
        self,
        machine: RelayMachine,
        items: Sequence[tuple[str, int, int | None]],
        likely: Sequence[int] = (),
    ) -> None:
        self._machine = machine
        self._items = deque(items)
        self._likely = deque(likely or [0] * len(items))
        self._records: deque[tuple[int, bytes | memoryview]] = deque()

    def next(self) -> Iterator[memoryview]:
        """The content of the next file."""
        path, start, size = self._items[0]
        while True:
            if not self._records:
                self._items[0] = path, start, size
                self._ask()
                if not self._records:
                    raise FilesError(f"{path}: nothing of it came")
            kind, content = self._records.popleft()
            if kind == BYTES:
                start += len(content)
                size = None if size is None else size - len(content)
                yield memoryview(content)
                continue
            self._items.popleft()
            self._likely.popleft()
            if kind == LOST:
                lost_content(bytes(content), path)
            return

    def _ask(self) -> None:
        some: list[tuple[str, int, int | None]] = []
        total = 0
        for item, size in zip(self._items, self._likely, strict=True):
            some.append((escaped(item[0]), item[1], item[2]))
            total += size
            if len(some) == _PATHS or total > _LIKELY:
                break
        machine = self._machine
        with machine._asked() as frames:
            answer = frames.begin("read", items=some, pack=machine._helpers.slow)
            self._records.extend((kind, content) for kind, content in records(answer))


class _Waiting:
    """Records of files to write, sent when they make a piece; of a file that is larger, as much as there is."""

    def __init__(self, machine: RelayMachine) -> None:
        self._machine = machine
        self._records: list[bytes] = []
        self._weight = 0
        self._writing: Writing | None = None
        self._at = 0  # in the file that is written

    @property
    def step(self) -> int:
        return min(1 << 18, self._machine.piece // 2)

    def begin(self, writing: Writing) -> None:
        self._writing, self._at = writing, 0
        self._head()

    def _head(self) -> None:
        assert self._writing is not None
        one = self._writing
        head = (escaped(one.path), one.mode, one.modified, escaped(one.base), self._at)
        content = record(BEGIN, json.dumps(head).encode())
        self._records.append(content)
        self._weight += len(content)

    def add(self, content: bytes, size: int, weight: int) -> None:
        if self._weight + weight > self._machine.piece - 1024 and self._at:
            self._records.append(record(DONE, b"+"))
            self.send()
            self._head()
        self._records.append(content)
        self._weight += weight + 5
        self._at += size

    def end(self) -> None:
        self._records.append(record(DONE))
        self._weight += 5
        self._writing = None
        if self._weight > self._machine.piece - 16_384:
            self.send()

    def send(self) -> None:
        if self._records:
            content, self._records = self._records, []
            self._weight = 0
            self._machine.send_records(content)
