"""The rows of a query from a server that is asked by requests, each with an answer that may be cut between two rows.

The rest is asked for behind the key of the last row, or, where rows do not come in the order of a key of whole
numbers, behind so many of them. Answers are under way while others are worked with: how far one answer went in the
key's first number says about how far the next ones will, so that two stretches are asked for at a time, the rows of
which follow one another all the same. A guess that was too far is an answer that is cut; one that was short
is a small answer. Where keys lie thin, the rest is asked for as a whole.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from queue import SimpleQueue
from typing import NamedTuple, Protocol

import pymysql
from pymysql.constants import CR

from ..base import Table
from ..key_ranges import KeyRange, KeyRanges
from ..pages import can_copy_in_ranges
from ..row_codec import cells_of
from .wire import More, Wire

_ALL = (1 << 64) - 1  # rows
_AT_A_TIME = 2  # answers under way
_SURE = 0.85  # of the keys that an answer took, so that the next one is not cut near its end
_THIN = 0.5  # of the bytes that were expected


class Answer(NamedTuple):
    """Rows in stretches, and whether there are more."""

    stretches: list[list[bytes]]
    more: bool

    @property
    def size(self) -> int:
        return sum(len(row) for rows in self.stretches for row in rows)


@dataclass
class Wires:
    """Connections to such a server: the first, and others that ``open`` makes when two answers are under way."""

    first: Wire
    open: Callable[[], Wire]
    _free: SimpleQueue[Wire | None] = field(default_factory=SimpleQueue)
    _others: list[Wire] = field(default_factory=list)

    def __post_init__(self) -> None:
        self._free.put(self.first)
        for _ in range(_AT_A_TIME - 1):
            self._free.put(None)

    def answer(self, sql: str, stretch_bytes: int) -> Answer:
        """Raises pymysql.Error: the server said so, or the connection broke."""
        wire = self._free.get()
        try:
            if wire is None:
                wire = self.open()
                self._others.append(wire)
            return _answer(wire, sql, stretch_bytes)
        finally:
            self._free.put(wire)

    def close(self) -> None:
        """Close those that were opened here."""
        for wire in self._others:
            wire.close()


def _answer(wire: Wire, sql: str, stretch_bytes: int) -> Answer:
    found: list[list[bytes]] = []
    try:
        for records in wire.records(sql, stretch_bytes):
            found.append(records)
    except More as more:
        if not found:
            raise pymysql.OperationalError(
                CR.CR_SERVER_LOST, "no row came within the time of one request"
            ) from more
        return Answer(found, True)
    return Answer(found, False)


class Answering(Protocol):
    """Whom is asked."""

    def answer(self, sql: str, stretch_bytes: int) -> Answer:
        """The rows that a statement gives, or the first of them."""


Query = Callable[[KeyRange | KeyRanges | None], str]


def rows_by_answers(
    wires: Answering,
    query: Query,
    table: Table,
    key_range: KeyRange | KeyRanges | None,
    stretch_bytes: int,
) -> Iterator[list[bytes]]:
    """The rows of a table, in stretches of about so many bytes. ``query`` is the statement for a range of keys."""
    with ThreadPoolExecutor(_AT_A_TIME, "answers") as ahead:

        def ask(sql: str) -> Future[Answer]:
            return ahead.submit(wires.answer, sql, stretch_bytes)

        if isinstance(key_range, KeyRanges) or not can_copy_in_ranges(table):
            yield from _by_number(ask, query(key_range))
        else:
            yield from _by_key(ask, query, table, key_range or KeyRange())


def _by_number(ask: Callable[[str], Future[Answer]], sql: str) -> Iterator[list[bytes]]:
    taken = 0
    coming = ask(sql)
    while True:
        answer = coming.result()
        taken += sum(map(len, answer.stretches))
        if answer.more:
            coming = ask(f"{sql} LIMIT {taken}, {_ALL}")
        yield from answer.stretches
        if not answer.more:
            return


def _by_key(
    ask: Callable[[str], Future[Answer]], query: Query, table: Table, whole: KeyRange
) -> Iterator[list[bytes]]:
    under_way = deque([(whole, ask(query(whole)))])
    rest: KeyRange | None = None  # what was asked of nobody yet
    pace = _Pace()
    while under_way:
        asked, coming = under_way.popleft()
        answer = coming.result()
        keys = _keys(table, answer)
        pace.learns(asked, answer, keys)
        if answer.more and keys is not None:
            beyond = KeyRange(keys[1], asked.upto)
            if under_way or rest is not None:  # what follows it was planned already
                under_way.appendleft((beyond, ask(query(beyond))))
            else:
                rest = beyond
        while rest is not None and len(under_way) < _AT_A_TIME:
            piece, rest = pace.cut(rest)
            under_way.append((piece, ask(query(piece))))
        yield from answer.stretches


def _keys(table: Table, answer: Answer) -> tuple[tuple[int, ...], tuple[int, ...]] | None:
    """The first and the last key of an answer; None where there are no rows in it."""
    if not answer.stretches:
        return None
    return key_of(table, answer.stretches[0][0]), key_of(table, answer.stretches[-1][-1])


def key_of(table: Table, record: bytes) -> tuple[int, ...]:
    """The key of a row, of a table whose key is made of whole numbers."""
    names = [column.name for column in table.columns]
    cells = cells_of(record, mixed=False)
    return tuple(int(cells[names.index(name)]) for name in table.key)  # type: ignore[arg-type]


class _Pace:
    """How far one answer goes in the first number of a table's key, as the last ones tell."""

    def __init__(self) -> None:
        self._keys = 0  # where it cannot be told
        self._full = 0  # bytes of an answer that was cut

    def learns(
        self,
        asked: KeyRange,
        answer: Answer,
        keys: tuple[tuple[int, ...], tuple[int, ...]] | None,
    ) -> None:
        if keys is None:
            self._keys = 0
        elif answer.more:
            first = asked.after or keys[0]
            self._full = answer.size
            self._keys = int((keys[1][0] - first[0]) * _SURE)
        elif answer.size < self._full * _THIN:
            self._keys = 0

    def cut(self, rest: KeyRange) -> tuple[KeyRange, KeyRange | None]:
        """A stretch of what is left that probably is one answer, and what is left then."""
        if not self._keys or rest.after is None:
            return rest, None
        # Any key is a border, whether there is a row with it or not.
        upto = (rest.after[0] + self._keys, *(0 for _ in rest.after[1:]))
        if rest.upto is not None and upto >= rest.upto:
            return rest, None
        return KeyRange(rest.after, upto), KeyRange(upto, rest.upto)
