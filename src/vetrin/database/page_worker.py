"""Pages made by a process of its own (``side_process.py``), where a table comes as a whole and this one has enough to
do: to digest each row takes a good part of its time.

The process is given records, and tells what ``PageMaker`` makes of them. Where it cannot be started, or ends before
its time, pages are made here.
"""

from __future__ import annotations

import struct
from collections import deque
from collections.abc import Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from functools import partial
from typing import IO, Any, Self
from zlib import crc32

from ..process import processors
from .base import Table
from .batch import Batch
from .page_prints import PagePrints, PrintsThere
from .pages import Page, PageMaker, can_copy_in_ranges, records_as_read
from .side_process import LOST, SideProcess, answer_all, plain, table_of

_AHEAD = 1  # batches that are under way while the next one is read
_BEGIN, _ROWS, _END = range(3)


class PageWorker:
    """Makes the pages of one table after another, while it is used as a context."""

    def __init__(self) -> None:
        self._asking = ThreadPoolExecutor(1, "pages")
        self._process: SideProcess | None = None
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
            process = self._process = self._process or SideProcess(__name__)
            return process.ask(*question)
        except LOST:
            self._leave()
            return None

    def _leave(self) -> None:
        self._lost, process = True, self._process
        self._process = None
        if process is not None:
            process.end()


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


def work(questions: IO[bytes], answers: IO[bytes]) -> None:
    """What the process does."""
    answer_all(questions, answers, partial(_answer, {}))


def _answer(
    makers: dict[int, tuple[PageMaker, PagePrints | None]], kind: int, number: int, *rest: Any
) -> Any:
    if kind == _BEGIN:
        content, mixed, secret = rest
        table = table_of(content)
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
