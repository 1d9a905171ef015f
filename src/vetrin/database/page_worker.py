"""Pages made by a process of its own, where a table comes as a whole and this one has enough to do.

Of Python only one thread works at a time, and to digest each row takes a good part of that time. The process holds
nothing that is needed: it is given records, and tells what ``PageMaker`` makes of them. Where it cannot be started,
or ends before its time, pages are made here.

What is said between the two: a length (64 bits, little-endian) and so many bytes of ``marshal``, either way.
"""

from __future__ import annotations

import contextlib
import marshal
import struct
import subprocess
import sys
from collections import deque
from collections.abc import Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import IO, Any, Self
from zlib import crc32

import msgspec

from ..process import processors
from .base import Table
from .batch import Batch
from .page_prints import PagePrints, PrintsThere
from .pages import Page, PageMaker, can_copy_in_ranges, records_as_read

WORTH = 16 << 20  # bytes of a table; with fewer, starting a process takes longer
_AHEAD = 1  # batches that are under way while the next one is read
_LENGTH = struct.Struct("<Q")
_FORM = 2  # of marshal: in later ones each value is looked up among those before
_PROGRAM = (
    "import marshal, sys; sys.path[:] = marshal.load(sys.stdin.buffer);"
    "from vetrin.database.page_worker import work; work(sys.stdin.buffer, sys.stdout.buffer)"
)
_PIPE = 1 << 20  # bytes on their way, where the system lets us say so
_BEGIN, _ROWS, _END = range(3)


class PageWorker:
    """Makes the pages of one table after another, while it is used as a context."""

    def __init__(self) -> None:
        self._asking = ThreadPoolExecutor(1, "pages")
        self._process: subprocess.Popen[bytes] | None = None
        self._lost = processors() < 2
        self._begun = 0  # tables

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        self._lost, process = True, self._process
        if process is not None:
            process.kill()  # so that nobody waits for what nobody wants any more
        self._asking.shutdown(cancel_futures=True)
        self._leave()

    def through(
        self, table: Table, batches: Iterable[Batch], prints: PagePrints | None = None
    ) -> Iterator[Batch]:
        """As ``with_pages``; the next batch is read while one is worked on."""
        paged: _Table | None = None
        whole = False
        waiting: deque[tuple[Batch, Future[Any]]] = deque()
        try:
            for batch in batches:
                if paged is None:
                    paged = _Table(self, table, prints, mixed=batch.mixed)
                waiting.append((batch, paged.ask(batch)))
                if len(waiting) > _AHEAD:
                    yield paged.made(*waiting.popleft())
            while waiting and paged is not None:
                yield paged.made(*waiting.popleft())
            whole = True
        finally:
            if paged is not None:
                paged.end(whole=whole)

    def ask(self, *question: Any) -> Future[Any]:
        """Have the process told something; what it says, None where there is none."""
        if not self._lost:
            return self._asking.submit(self._ask, *question)
        nothing: Future[Any] = Future()
        nothing.set_result(None)
        return nothing

    def number(self) -> int:
        """Of the table that is begun now."""
        self._begun += 1
        return self._begun

    def _ask(self, *question: Any) -> Any:
        if self._lost:
            return None
        try:
            process = self._process = self._process or _started()
            assert process.stdin is not None and process.stdout is not None
            _say(process.stdin, question)
            return _heard(process.stdout)
        except (OSError, EOFError, ValueError, TypeError):
            self._leave()
            return None

    def _leave(self) -> None:
        self._lost, process = True, self._process
        self._process = None
        if process is not None:
            for stream in (process.stdin, process.stdout):
                with contextlib.suppress(OSError):
                    if stream is not None:
                        stream.close()
            process.kill()
            process.wait()


class _Table:
    """One table, whose batches are asked for in their order, and are made in it."""

    def __init__(
        self, worker: PageWorker, table: Table, prints: PagePrints | None, *, mixed: bool
    ) -> None:
        self._worker = worker
        self._table = table
        self._prints = prints
        self._mixed = mixed
        self._number = worker.number()
        self._here: PageMaker | None = None
        self._elsewhere = 0  # batches whose pages were made there
        secret = prints.key if prints is not None else None
        worker.ask(_BEGIN, self._number, plain(table), mixed, secret)

    def ask(self, batch: Batch) -> Future[Any]:
        return self._worker.ask(_ROWS, self._number, records_as_read(batch), batch.size)

    def made(self, batch: Batch, asked: Future[Any]) -> Batch:
        """A batch with what came of it."""
        told = asked.result()
        if told is None:
            batch.pages, batch.sums = self._maker.of(records_as_read(batch), batch.size)
            return batch
        self._elsewhere += 1
        pages, sums, checks, learned = told
        batch.pages = tuple([Page(upto, rows, digest) for upto, rows, digest in pages])
        batch.sums = struct.unpack(f"<{len(sums) // 8}Q", sums)
        batch.checks = struct.unpack(f"<{len(checks) // 4}I", checks)
        if self._prints is not None:
            self._prints.take(learned)
        return batch

    @property
    def _maker(self) -> PageMaker:
        """What goes on here. Of a table that does not go by key, and part of which it has not seen, it remembers
        nothing."""
        if self._here is None:
            all_of_it = can_copy_in_ranges(self._table) or not self._elsewhere
            prints = self._prints if all_of_it else None
            self._here = PageMaker(self._table, prints, mixed=self._mixed)
        return self._here

    def end(self, *, whole: bool) -> None:
        """No batches are left; with ``whole``, these were all."""
        asked = self._worker.ask(_END, self._number, whole)
        if not whole:
            return
        if self._here is not None:
            self._here.end()
        elif self._prints is not None:
            self._prints.take(asked.result() or ())
            self._prints.keep()


def can_go_elsewhere(prints: PagePrints | None) -> bool:
    """Whether a process here makes the same tags."""
    return not isinstance(prints, PrintsThere)


def _started() -> subprocess.Popen[bytes]:
    """The process, in a session of its own, so that no signal for us reaches it; it ends when we do."""
    quiet = ["-B"] if sys.dont_write_bytecode else []
    process = subprocess.Popen(
        [sys.executable, "-I", *quiet, "-c", _PROGRAM],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        start_new_session=True,
        pipesize=_PIPE,
    )
    assert process.stdin is not None
    process.stdin.write(marshal.dumps(sys.path))
    return process


def _say(stream: IO[bytes], words: Any) -> None:
    content = marshal.dumps(words, _FORM)
    stream.write(_LENGTH.pack(len(content)))
    stream.write(content)
    stream.flush()


def _heard(stream: IO[bytes]) -> Any:
    (length,) = _LENGTH.unpack(_all(stream, _LENGTH.size))
    return marshal.loads(_all(stream, length))


def _all(stream: IO[bytes], size: int) -> bytes:
    content = stream.read(size)
    if len(content) < size:
        raise EOFError
    return content


def work(questions: IO[bytes], answers: IO[bytes]) -> None:
    """What the process does, until nobody asks any more."""
    makers: dict[int, tuple[PageMaker, PagePrints | None]] = {}
    with contextlib.suppress(EOFError, BrokenPipeError):
        while True:
            kind, number, *rest = _heard(questions)
            _say(answers, _answer(makers, kind, number, rest))


def _answer(
    makers: dict[int, tuple[PageMaker, PagePrints | None]],
    kind: int,
    number: int,
    rest: list[Any],
) -> Any:
    if kind == _BEGIN:
        content, mixed, secret = rest
        table = msgspec.convert(content, Table)
        prints = PagePrints(key=secret) if secret is not None else None
        makers[number] = PageMaker(table, prints, mixed=mixed), prints
        return True
    if kind == _ROWS:
        maker, prints = makers[number]
        records, size = rest
        pages, sums = maker.of(records, size)
        count = len(records)
        return (
            [(page.upto, page.rows, page.digest) for page in pages],
            struct.pack(f"<{count}Q", *sums),
            struct.pack(f"<{count}I", *map(crc32, records)),
            prints.learned() if prints is not None else [],
        )
    maker, prints = makers.pop(number)
    if rest[0]:
        maker.end()
    return prints.learned() if prints is not None else []


def plain(table: Table) -> Any:
    """A table as ``marshal`` takes it."""
    return msgspec.to_builtins(table)
