"""Pages read by a process of its own (``side_process.py``), over the connection of this one: of two sides that are
compared neither waits for the other, nor for what is done here meanwhile.

The connection does nothing else until the process has told what it found. Where that is never told, the connection is
closed, as there is no knowing what comes next over it; pages are read here from then on.
"""

from __future__ import annotations

import os
import selectors
import socket
import struct
import threading
from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import IO, Any, Self

import pymysql
from pymysql.constants import COMMAND, CR

from ...process import processors
from ..key_ranges import KeyRange
from ..page_prints import Known, PagePrints, PrintsThere
from ..rows_aside import Part, RowsAside, packed
from ..side_process import LOST, WORTH, SideProcess, answer_all, plain, say, table_of
from .asked_pages import KnownPages
from .connect import SCANS
from .raw_rows import RawRows, answered, come
from .read_digests import Groups, PageReading
from .wire import Wire

_FOUND, _ASIDE = "", "aside"  # what an answer begins with, but for the name of an error
_AT_ONCE = 1 << 20  # bytes of rows that are told of together
_MOST = 1000  # pages of which the same is done


class DigestWorker:
    """Implements ``Elsewhere`` over one connection, while it is used as a context."""

    _pays = False

    def __init__(self, wire: Wire, lost: threading.Event) -> None:
        """``lost`` is set once a process could not be had, or ended before its time: then none is tried again."""
        self._wire = wire
        self._lost = lost
        self._process: SideProcess | None = None

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        if self._process is not None:
            self._process.end()
            self._process = None

    def pays(self) -> None:
        self._pays = True

    def __call__(
        self,
        pages: KnownPages,
        prints: PagePrints,
        groups: Groups,
        queries: Sequence[str],
        aside: RowsAside | None,
    ) -> list[str] | None:
        connected = self._wire.lent() if self._takes(pages, prints) else None
        if connected is None:
            return None
        try:
            process = self._process = self._process or SideProcess(__name__, [connected.fileno()])
        except OSError:
            self._lost.set()
            return None
        prints.keep()  # what it is to know
        through = False
        try:
            kind, *told = process.ask(
                connected.fileno(),
                (plain(pages.table), [*map(_plain, pages.ranges)], [*pages.known]),
                (str(prints.path), prints.key, prints.told(pages.known)),
                [[*group] for group in groups],
                [*queries],
                aside is not None,
            )
            while kind == _ASIDE and aside is not None:
                for number, parts, content in told:
                    aside.put_packed(number, [*map(_part, parts)], content)
                kind, *told = process.hear()
            through = kind == _FOUND
        except LOST as error:
            self._lost.set()
            raise pymysql.OperationalError(
                CR.CR_SERVER_LOST, "Lost connection: the process that read from it ended"
            ) from error
        finally:
            if not through:
                self._wire.give_up()
        if not through:
            raise getattr(pymysql, kind)(*told)
        found, learned = told
        prints.take(learned)
        return list(found)

    def _takes(self, pages: KnownPages, prints: PagePrints) -> bool:
        return (
            self._pays
            and pages.table.size >= WORTH
            and prints.path is not None
            and not isinstance(prints, PrintsThere)
            and processors() > 1
            and not self._lost.is_set()
        )


def _plain(one: KeyRange) -> tuple[Any, Any]:
    return one.after, one.upto


def _part(told: tuple[tuple[Any, Any], tuple[str, str]]) -> Part:
    key_range, digests = told
    return Part(KeyRange(*key_range), digests)


class _Telling:
    """Implements ``Aside``: tells who asked, some pages at a time."""

    def __init__(self, answers: IO[bytes]) -> None:
        self._answers = answers
        self._waiting: list[tuple[Any, ...]] = []
        self._size = 0

    def put(self, page: int, parts: Sequence[Part]) -> None:
        content = packed(parts)
        told = [(_plain(part.key_range), part.digests) for part in parts]
        self._waiting.append((page, told, content))
        self._size += len(content)
        if self._size > _AT_ONCE or len(self._waiting) > _MOST:
            self.end()

    def end(self) -> None:
        """Tell what waits."""
        if self._waiting:
            say(self._answers, (_ASIDE, *self._waiting))
        self._waiting, self._size = [], 0


def work(questions: IO[bytes], answers: IO[bytes]) -> None:
    """What the process does."""
    answer_all(questions, answers, partial(_answer, questions, answers, {}))


def _answer(
    questions: IO[bytes],
    answers: IO[bytes],
    prints: dict[str, PagePrints],
    number: int,
    known: tuple[Any, ...],
    kept: tuple[str, bytes, list[Known]],
    groups: Groups,
    queries: Sequence[str],
    wanted: bool,
) -> Sequence[Any]:
    table, ranges, digests = known
    path, key, told = kept
    seen = prints.setdefault(path, PagePrints(Path(path), key))
    seen.believe(digests, told)
    aside = _Telling(answers)
    pages = KnownPages(table_of(table), [KeyRange(*one) for one in ranges], digests)
    reading = PageReading(pages, seen, aside if wanted else None)
    with (
        socket.socket(fileno=os.dup(number)) as connection,
        selectors.DefaultSelector() as waiting,
    ):
        connection.settimeout(SCANS)
        for one in (connection, questions):
            waiting.register(one, selectors.EVENT_READ)

        def read(room: memoryview) -> int:
            ready = waiting.select(SCANS)
            if any(key.fileobj is questions for key, _ in ready):
                raise EOFError  # nobody waits for an answer any more
            return come(partial(connection.recv_into, room))

        def send(sql: str) -> None:
            try:
                connection.sendall(_command(sql))
            except OSError as error:
                raise pymysql.OperationalError(
                    CR.CR_SERVER_GONE_ERROR, f"MySQL server has gone away ({error})"
                ) from error

        try:
            found = reading.through(groups, answered(queries, send, RawRows(read)))
        except pymysql.Error as error:
            return type(error).__name__, *error.args
    seen.keep()
    aside.end()
    return _FOUND, found, seen.learned()


def _command(sql: str) -> bytes:
    """A query of less than 16 MB as the protocol has it ("COM_QUERY")."""
    content = bytes([COMMAND.COM_QUERY]) + sql.encode("utf-8", "surrogateescape")
    return struct.pack("<I", len(content)) + content
