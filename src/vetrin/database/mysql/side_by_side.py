"""Works that ask a server again and again, several of them over one connection.

Each is a generator: it yields what it asks, and gets the answer to what it asked longest ago. What one asks goes on
its way before the answers to others have come, so that a hundred tables behind a slow line take little longer than
one.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Generator, Iterable, Iterator, Sequence, Sized
from dataclasses import dataclass
from typing import Any, Generic, NamedTuple, Protocol, TypeVar

import pymysql

from ..strips import Print, Strips
from .wire import ToldStrips, Wire

_MOST = 16  # works at a time
# Bytes of requests under way: whoever answers may have to wait until somebody reads, and reads nothing meanwhile.
_BYTES = 256 << 10

Found = TypeVar("Found")
Seen = TypeVar("Seen", bound=Sized)


class Request(Protocol):
    """Something that is asked over a connection. Requests that are not ``told`` alike are not under way together: of
    what the server answers to one of them a helper would believe that it answers another."""

    @property
    def told(self) -> bool:
        """Whether a helper answers."""

    @property
    def size(self) -> int:
        """About how many bytes it has."""

    def send(self, wire: Wire) -> None:
        """Ask it. Raises pymysql.Error: the connection broke."""

    def read(self, wire: Wire) -> Any:
        """The answer, which is to be taken before anything else is done. Raises pymysql.Error: the server said so."""


Work = Generator[Sequence[Request], Any, Found]


@dataclass(frozen=True)
class Query:
    """Asks the server for the rows that a query gives."""

    sql: str
    told = False

    @property
    def size(self) -> int:
        return len(self.sql)

    def send(self, wire: Wire) -> None:
        wire.ask(self.sql)

    def read(self, wire: Wire) -> list[Any]:
        return wire.answer()


@dataclass(frozen=True)
class _OfHelper(Generic[Seen]):
    """What a helper is asked about the rows that some queries give, of which each was ``seen`` before."""

    queries: Sequence[str]
    key: bytes
    seen: Sequence[Seen]
    told = True

    @property
    def size(self) -> int:
        return sum(map(len, self.queries)) + 60 * sum(map(len, self.seen))


class AskedPrints(_OfHelper[Sequence[Print]]):
    """Asks for the prints of the rows (``Wire.prints``)."""

    def send(self, wire: Wire) -> None:
        wire.ask_for_prints(self.queries, self.key, self.seen)

    def read(self, wire: Wire) -> list[Print]:
        return wire.prints(len(self.queries))


class AskedStrips(_OfHelper[Strips]):
    """Asks what their strips look like (``Wire.strips``)."""

    def send(self, wire: Wire) -> None:
        wire.ask_for_strips(self.queries, self.key, self.seen)

    def read(self, wire: Wire) -> Iterator[ToldStrips | None]:
        return wire.strips(self.seen)


class _Asked(NamedTuple):
    number: int  # of the work
    request: Request


def side_by_side(
    wire: Wire, works: Iterable[Work[Found]], *, most: int = _MOST
) -> Generator[Found, None, None]:
    """Carry out some works, at most so many at a time; what each of them found, in their order. Until all are through
    the connection can do nothing else; stopping while an answer is under way closes it.

    Raises:
        pymysql.Error: the server said so, or the connection broke; or what a work makes of that.
    """
    under_way = _UnderWay(wire, works)
    told = 0
    try:
        while under_way.begin(most) or under_way.go_on():
            while told in under_way.found:
                yield under_way.found.pop(told)
                told += 1
    finally:
        under_way.stop()


class _UnderWay(Generic[Found]):
    """``found`` is what the works found that are through, by their numbers."""

    def __init__(self, wire: Wire, works: Iterable[Work[Found]]) -> None:
        self._wire = wire
        self._coming = enumerate(works)
        self._works: dict[int, Work[Found]] = {}
        self._ready: deque[_Asked] = deque()  # to be sent
        self._sent: deque[_Asked] = deque()  # to be answered
        self._bytes = 0
        self.found: dict[int, Found] = {}

    def begin(self, most: int) -> bool:
        """Begin another work, where there is room for it; False where there is none."""
        if self._ready or len(self._works) >= most:
            return False
        number, work = next(self._coming, (0, None))
        if work is None:
            return False
        self._works[number] = work
        self._advance(number, lambda: next(work))
        return True

    def go_on(self) -> bool:
        """Take the next answer, and go on with the work that waits for it; False where nobody waits."""
        if not self._sent:
            return False
        number, request = self._sent.popleft()
        self._bytes -= request.size
        work = self._works[number]
        try:
            answer = request.read(self._wire)
        except pymysql.Error as error:
            wrong = error  # the name ends with this block
            self._advance(number, lambda: work.throw(wrong))
        else:
            self._advance(number, lambda: work.send(answer))
        return True

    def _advance(self, number: int, step: Callable[[], Sequence[Request]]) -> None:
        try:
            self._ready += [_Asked(number, request) for request in step()]
        except StopIteration as end:
            self.found[number] = end.value
            del self._works[number]
        while self._ready and self._fits(self._ready[0].request):
            asked = self._ready.popleft()
            asked.request.send(self._wire)
            self._sent.append(asked)
            self._bytes += asked.request.size

    def _fits(self, request: Request) -> bool:
        if not self._sent:
            return True
        return self._bytes + request.size <= _BYTES and request.told == self._sent[-1].request.told

    def stop(self) -> None:
        """Give up what is not through."""
        for work in self._works.values():
            work.close()
        if self._sent:
            self._wire.give_up()
