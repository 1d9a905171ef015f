"""Streams of rows over one MySQL-protocol connection, as bytes, without conversions.

PyMySQL logs in, sends commands and reads answers; the two streams that carry all the bytes are
read and written here, because a conversion per value costs more than the rest of a transfer. This
leans on PyMySQL's ``_execute_command``, ``_read_packet`` and ``_rfile``, which the dependency's
version range and the engine's tests hold still. Packet layout: the protocol's documentation,
"Text Resultset Row" and "LOCAL INFILE Request".
"""

from __future__ import annotations

import contextlib
import socket
import struct
from collections import deque
from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from functools import partial
from itertools import islice
from typing import Any, NamedTuple, Protocol, TypeVar

import pymysql
from pymysql.connections import Connection
from pymysql.constants import CLIENT, COMMAND, CR
from pymysql.protocol import OKPacketWrapper

from ..strips import Print, Strips
from .raw_rows import RawRows, answered, come, records_in
from .tls import OverStreams

_READ_BUFFER = 1 << 18
_WHOLE = 0xFFFFFF
_CLOSING = 9  # bytes: a packet of fewer that begins so is none of a long cell
_PRINT = struct.Struct("<Q16s")
_REFUSAL = (1 << 64) - 1  # the size of no rows: what the server says follows
_LOST = (1 << 64) - 2  # the same where strips are asked for, and cannot be told
_MOST_TOLD = 256 << 20  # bytes of the rows in a strip
_NO_ANSWER = (
    AssertionError, AttributeError, IndexError, KeyError, OverflowError, TypeError, ValueError, struct.error,
)  # fmt: skip
Answered = TypeVar("Answered")
_PREPARE, _FORGET = 0x16, 0x19  # commands of the protocol
_REFUSED = 2059  # CR_AUTH_PLUGIN_CANNOT_LOAD: not one of those after which anybody tries again


MORE = 65000  # the number of the error that ends an answer which was cut between two rows


class More(Exception):
    """The rows that came were not all: the rest is to be asked for."""


class ToldStrips(NamedTuple):
    """What the rows of a page look like; and of each of its strips that is not as it was what it looks like, and its
    records."""

    whole: Print
    others: list[tuple[Print, list[bytes]] | None]


class ByRequest(Protocol):
    """A connection behind which nothing lasts longer than one statement.

    ``pieces``: the answer to the next one may be cut between two rows (``More``).
    """

    pieces: bool

    @property
    def piece(self) -> int:
        """How many bytes are best sent together."""

    @property
    def loads(self) -> bool:
        """False where no rows go up by bulk load."""

    def transaction(
        self, statements: Sequence[bytes], counted: int, expected: int | None
    ) -> tuple[int, bytes]:
        """Statements, all or nothing: how many rows the first ``counted`` touched, and the server's error. Where they
        are not ``expected``, nothing was done."""


# Ways to log in that hand the password over as it is, or nearly so.
_IN_CLEAR = (b"mysql_clear_password", b"dialog", b"mysql_old_password")


class Wire(Connection):
    """A connection whose result rows and bulk loads are streams of bytes.

    A server may answer any statement by asking for a file of the client's (LOCAL INFILE Request). Here none ever
    gets one: ``load`` sends the rows that it was given, whatever name was asked for, and everything else refuses.
    ``in_clear`` permits ways to log in by which the server learns the password.
    """

    def __init__(self, *, fills: bool = False, in_clear: bool = False, **more: Any) -> None:
        self._ahead: deque[str] = deque()  # queries that were asked before their rows are read
        self._come = memoryview(b"")  # what was read of the answer to the first of them
        super().__init__(local_infile=fills, **more)
        self._local_infile = False  # that is for what the driver would do by itself
        self._in_clear = in_clear
        self.by_request: ByRequest | None = None
        self.one_by_one = False  # the server loses what comes before it has answered

    def _read_query_result(self, unbuffered: bool = False) -> Any:
        with self._well_formed():
            try:
                return super()._read_query_result(unbuffered)  # type: ignore[misc]
            except RuntimeError as error:
                raise self._asked_for_a_file() from error

    @contextlib.contextmanager
    def _well_formed(self) -> Iterator[None]:
        """The driver believes that answers are what they should be; one that is not ends as an error of its kind."""
        try:
            yield
        except _NO_ANSWER as error:
            self._cut()
            raise pymysql.InternalError(
                CR.CR_MALFORMED_PACKET, "the server gave an answer that is none"
            ) from error

    def _asked_for_a_file(self) -> pymysql.Error:
        self._cut()
        return pymysql.InternalError(
            _REFUSED, "the server asked for a file of this machine; nothing was sent"
        )

    def _process_auth(self, plugin_name: bytes, auth_packet: Any, handler: Any = None) -> Any:
        if plugin_name in _IN_CLEAR and not self._in_clear:
            self._cut()
            raise pymysql.OperationalError(
                _REFUSED,
                f"the server asks for the password in clear ({plugin_name.decode()}); it was not sent",
            )
        return super()._process_auth(plugin_name, auth_packet, handler)  # type: ignore[misc]

    def several(self, statements: Sequence[str]) -> list[list[Any] | pymysql.Error]:
        """The rows that some statements give, or what the server says of one: all are sent before the first answer is
        read, so that they cost one way there and back together. None of them may be long.

        Raises:
            pymysql.Error: the connection broke.
        """
        return self._answered(statements, lambda answer: list(answer.rows or ()))

    def touched(self, statements: Sequence[str]) -> list[int | pymysql.Error]:
        """How many rows some statements touched, asked as ``several``: each is carried out whatever comes of those
        before it.

        Raises:
            pymysql.Error: the connection broke.
        """
        return self._answered(statements, lambda answer: int(answer.affected_rows))

    def _answered(
        self, statements: Sequence[str], what: Callable[[Any], Answered]
    ) -> list[Answered | pymysql.Error]:
        found: list[Answered | pymysql.Error] = []
        for sql in () if self.one_by_one else statements:
            self.ask(sql)
        for sql in statements:
            if self.one_by_one:
                self.ask(sql)
            try:
                found.append(what(self._answer()))
            except pymysql.Error as error:
                code = error.args[0] if error.args else 0
                # What is no word of the server's, but the client's of it: nothing that follows can be made sense of.
                if not isinstance(code, int) or code in range(2000, 3000):
                    self._cut()
                    raise
                found.append(error)
        return found

    def ask(self, sql: str) -> None:
        """Send a statement, which may not be long where others wait for their answers.

        Raises:
            pymysql.Error: the connection broke.
        """
        self._send(COMMAND.COM_QUERY, sql.encode("utf-8", "surrogateescape"))

    def answer(self) -> list[Any]:
        """The rows that the statement gives which was asked longest ago.

        Raises:
            pymysql.Error: the server said so, or the connection broke.
        """
        return list(self._answer().rows or ())

    def _answer(self) -> Any:
        self._next_seq_id = 1
        self._read_query_result()
        return self._result  # type: ignore[attr-defined]

    def give_up(self) -> None:
        """Close the connection without a word, as answers are under way that nobody waits for; whoever waits for one
        in another thread is told that it is lost."""
        shut = getattr(self._sock, "shutdown", None)  # type: ignore[attr-defined]
        if shut is not None:
            with contextlib.suppress(OSError):
                shut(socket.SHUT_RDWR)
        self._cut()

    def silence(self, seconds: float) -> None:
        """From now on the server may be silent for so long."""
        self._read_timeout = seconds

    @contextlib.contextmanager
    def patience(self, seconds: float) -> Iterator[None]:
        """The server may be silent for so long while it works."""
        usual = self._read_timeout
        self._read_timeout = seconds
        try:
            yield
        finally:
            self._read_timeout = usual

    def connect(self, sock: Any = None) -> None:
        if sock is not None and self.ssl:
            self.ctx: Any = OverStreams(self.ctx)
        with self._well_formed():
            super().connect(sock)
        if hasattr(sock, "transaction"):
            self.by_request = sock
        connected: Any = self._sock  # type: ignore[attr-defined]
        self._rfile: Any = connected.makefile("rb", _READ_BUFFER)

    @property
    def offers_tls(self) -> bool:
        """True where the server said that it knows TLS; false as well before it has said anything."""
        return bool(getattr(self, "server_capabilities", 0) & CLIENT.SSL)

    @property
    def speaks_tls(self) -> bool:
        return bool(self.ssl) and self.offers_tls

    @property
    def tells_prints(self) -> bool:
        """True where somebody on the way tells the prints of rows, if he can read what the server says."""
        return hasattr(self._sock, "ask_for_prints") and not self.speaks_tls  # type: ignore[attr-defined]

    def ask_for_prints(
        self, queries: Sequence[str], key: bytes, seen: Sequence[Sequence[Print]]
    ) -> None:
        """Ask for the prints of the rows that some short queries give, made on the way by ``PrintsThere``; where they
        are those that were ``seen`` of each, as a whole or in several stretches, that takes less.

        Raises:
            pymysql.Error: the connection broke.
        """
        self._pass_over()
        with self._telling():
            self._sock.ask_for_prints(queries, key, seen)  # type: ignore[attr-defined]

    def prints(self, count: int) -> list[Print]:
        """So many prints that were asked for.

        Raises:
            pymysql.Error: the server said so, or the connection broke; nothing more can be asked.
        """
        with self._telling():
            return [self._next_print() for _ in range(count)]

    def ask_for_strips(self, queries: Sequence[str], key: bytes, seen: Sequence[Strips]) -> None:
        """Ask what the strips look like of the rows that some short queries give, of which some were ``seen``.

        Raises:
            pymysql.Error: the connection broke.
        """
        self._pass_over()
        with self._telling():
            asked = [[*zip(some.rows, some.sizes, some.tags, strict=True)] for some in seen]
            self._sock.ask_for_strips(queries, key, asked)  # type: ignore[attr-defined]

    def strips(self, seen: Sequence[Strips]) -> Iterator[ToldStrips | None]:
        """What is told of each of some queries, of which it was asked; None where other numbers of rows are in its
        strips. Stopping earlier closes the connection.

        Raises:
            pymysql.Error: the server said so, or the connection broke; nothing more can be asked.
        """
        with self._telling():
            for some in seen:
                yield self._next_strips(some)

    def _next_strips(self, seen: Strips) -> ToldStrips | None:
        found: list[tuple[Print, list[bytes]] | None] = []
        for rows, *before in zip(seen.rows, seen.sizes, seen.tags, strict=True):
            now = self._next_print()
            if now.size == _LOST:
                return None
            if [*now] == before:
                found.append(None)
                continue
            with self._well_formed():
                if now.size > _MOST_TOLD:
                    raise ValueError("a strip that is too large")
                found.append((now, records_in(self._exactly(now.size), rows)))
        whole = self._next_print()
        return None if whole.size == _LOST else ToldStrips(whole, found)

    @contextlib.contextmanager
    def _telling(self) -> Iterator[None]:
        done = False
        try:
            self._sock.settimeout(self._read_timeout)  # type: ignore[attr-defined]
            yield
            done = True
        except OSError as error:
            raise pymysql.OperationalError(2013, f"Lost connection: {error}") from error
        finally:
            if not done:
                self._cut()

    def _next_print(self) -> Print:
        size, tag = _PRINT.unpack(self._exactly(_PRINT.size))
        if size == _REFUSAL:
            (length,) = struct.unpack("<I", self._exactly(4))
            said = self._exactly(min(length, _WHOLE))
            with self._well_formed():
                pymysql.err.raise_mysql_exception(said)
        return Print(size, tag)

    def _exactly(self, count: int) -> bytes:
        found: bytes = self._rfile.read(count)
        if len(found) < count:
            raise pymysql.OperationalError(2013, "Lost connection to the server during a query")
        return found

    def _packet(self) -> Any:
        with self._well_formed():
            return self._read_packet()  # type: ignore[no-untyped-call]

    def _send(self, command: int, sql: bytes) -> None:
        self._execute_command(command, sql)

    def _execute_command(self, command: int, sql: str | bytes) -> None:
        self._pass_over()
        super()._execute_command(command, sql)  # type: ignore[misc]

    def _pass_over(self) -> None:
        """Read what was asked ahead, and is not wanted after all."""
        while self._ahead:
            try:
                for _ in self._rows_of_the_next(_READ_BUFFER):
                    pass
            except pymysql.Error:  # which nobody has to know, if that is all
                if not self.open:
                    raise

    def _read_bytes(self, count: int) -> bytes:
        come = bytes(self._come[:count])
        self._come = self._come[count:]
        if len(come) < count:
            come += super()._read_bytes(count - len(come))  # type: ignore[misc]
        return come

    def _cut(self) -> None:
        self._force_close()

    def _force_close(self) -> None:
        self._ahead.clear()
        self._come = memoryview(b"")
        super()._force_close()  # type: ignore[misc]

    def records(
        self, sql: str, stretch_bytes: int, behind: Sequence[str] = ()
    ) -> Iterator[list[bytes]]:
        """Run a query; yield its rows as they come, about ``stretch_bytes`` of them at a time.

        The connection can do nothing else until the stream has been read to its end; closing it
        earlier closes the connection. ``behind`` are queries that will follow: they are asked for at once.

        Raises:
            pymysql.Error: the server said so, or the connection broke.
            More: these are the first of them.
        """
        if self.by_request is not None:
            self.by_request.pieces = True
        if not self._ahead or self._ahead[0] != sql:
            self._pass_over()
            self._ask_ahead(sql)
        for more in islice(behind, len(self._ahead) - 1, None):
            self._ask_ahead(more)
        yield from self._rows_of_the_next(stretch_bytes)

    def _ask_ahead(self, sql: str) -> None:
        super()._execute_command(COMMAND.COM_QUERY, sql)  # type: ignore[misc]
        self._ahead.append(sql)

    def _rows_of_the_next(self, stretch_bytes: int) -> Iterator[list[bytes]]:
        """The rows of the query that was asked ahead of all others."""
        self._ahead.popleft()
        self._next_seq_id = 1
        first = self._packet()
        if first.is_load_local_packet():
            raise self._asked_for_a_file()
        with self._well_formed():
            columns = int(first.read_length_encoded_integer())
        for _ in range(columns + 1):
            self._packet()
        done = False
        try:
            yield from self._bodies(stretch_bytes)
            done = True
        except More:
            done = True
            raise
        finally:
            if not done:
                self._cut()

    def answers(self, statements: Sequence[str]) -> Generator[RawRows, None, None]:
        """For each of some short queries its rows, until the next one is asked for; some queries are sent ahead.
        The connection can do nothing else until all are through; stopping earlier closes it.

        Raises:
            pymysql.Error: the server said so, or the connection broke.
        """
        done = False
        try:
            yield from answered(statements, self.ask, RawRows(self._read_into))
            done = True
        finally:
            if not done:
                self._cut()

    def lent(self) -> socket.socket | None:
        """The connection itself, with nothing under way over it, for a process that reads answers there; None where
        more than the protocol's own bytes go over it."""
        self._pass_over()
        connected = self._sock  # type: ignore[attr-defined]
        return connected if type(connected) is socket.socket else None

    def _read_into(self, room: memoryview) -> int:
        """Put what comes next into some room: at least a byte."""
        # Not from the reader, which is empty between two answers: it would wait until the room is full.
        size: int = come(partial(self._rfile.raw.readinto, room))
        return size

    def _bodies(self, stretch_bytes: int) -> Iterator[list[bytes]]:
        """The bodies of row packets, taken out of the buffer as they lie there."""
        source = self._rfile
        buffer, at = bytes(self._come), 0
        self._come, limit = memoryview(b""), len(buffer)
        more_behind = bool(self._ahead)
        found: list[bytes] = []
        append = found.append
        total = 0
        while True:
            begin, stop, first = at, min(limit - 3, at + stretch_bytes - total), len(found)
            while at < stop:  # for every row that there is, so nothing else is asked here
                start = at + 4
                end = start + (buffer[at] | buffer[at + 1] << 8 | buffer[at + 2] << 16)
                if end > limit:
                    break
                append(buffer[start:end])
                at = end
            total += at - begin
            if more_behind and begin < at and (place := _end_among(found, first)) is not None:
                # What was read behind it answers the next query.
                at = begin + sum(map(len, found[first : place + 1])) + 4 * (place + 1 - first)
                del found[place + 1 :]
                self._come, limit = memoryview(buffer)[at:], at
            # A packet that is no row is the last one, and nothing comes behind it.
            if at == limit > begin and found[-1][:1] >= b"\xfe":
                last = found.pop()
                more = last[0] == 0xFF and last[1:3] == MORE.to_bytes(2, "little")
                if last[0] == 0xFF and not more:
                    pymysql.err.raise_mysql_exception(last)
                self._next_seq_id = (buffer[limit - len(last) - 1] + 1) % 256
                if found:
                    yield found
                if more:
                    raise More
                return
            if total >= stretch_bytes:
                yield found
                found = []
                append = found.append
                total = 0
                continue
            buffer = self._more(source, buffer[at:])
            # Such a packet stands at the front when it has come as a whole: no more is read ahead.
            if len(buffer) >= 4 + _WHOLE and buffer.startswith(b"\xff\xff\xff"):
                body, buffer = self._continued(source, buffer[4:])
                append(body)
                total += len(body)
            at, limit = 0, len(buffer)

    @staticmethod
    def _more(source: Any, rest: bytes) -> bytes:
        """``rest`` with more bytes behind it: at least enough for a packet's next step."""
        wanted = 4
        if len(rest) >= 4:
            wanted = 4 + int.from_bytes(rest[:3], "little")
        parts = [rest]
        size = len(rest)
        while size < wanted:
            part = come(partial(source.read1, max(_READ_BUFFER, min(wanted - size, _WHOLE))))
            parts.append(part)
            size += len(part)
        return b"".join(parts)

    def _continued(self, source: Any, rest: bytes) -> tuple[bytes, bytes]:
        """A row of 16 MB and more: the pieces of its packets joined, and what follows them."""
        parts, rest = [rest[:_WHOLE]], rest[_WHOLE:]
        while True:
            rest = self._more(source, rest)
            if len(rest) < 4:
                continue
            size = int.from_bytes(rest[:3], "little")
            while len(rest) < 4 + size:
                rest = self._more(source, rest)
            parts.append(rest[4 : 4 + size])
            rest = rest[4 + size :]
            if size < _WHOLE:
                return b"".join(parts), rest

    def transaction(
        self, statements: Sequence[bytes], counted: int, expected: int | None
    ) -> int | None:
        """Carry out statements as a whole, where a connection lasts for one request; how many rows the first
        ``counted`` of them touched. None elsewhere, where they are carried out one after the other.

        Raises:
            pymysql.Error: the server said so; nothing was done.
        """
        if self.by_request is None:
            return None
        with self._as_lost():
            touched, wrong = self.by_request.transaction(statements, counted, expected)
        if wrong:
            pymysql.err.raise_mysql_exception(wrong)
        return touched

    @contextlib.contextmanager
    def _as_lost(self) -> Iterator[None]:
        try:
            yield
        except OSError as error:
            self._cut()
            raise pymysql.OperationalError(
                CR.CR_SERVER_LOST, f"Lost connection: {error}"
            ) from error

    def command(self, content: bytes) -> None:
        """Send a command as the protocol has it, of less than 16 MB.

        Raises:
            pymysql.Error: the connection broke.
        """
        self._pass_over()
        self._write_bytes(len(content).to_bytes(3, "little") + b"\0" + content)  # type: ignore[attr-defined]

    def done(self) -> Any:
        """What the server says of a command without rows that was sent.

        Raises:
            pymysql.Error: the server said so, or the connection broke.
        """
        self._next_seq_id = 1
        with self._well_formed():
            return OKPacketWrapper(self._packet())

    def prepare(self, sql: str, values: int) -> int:
        """Have the server prepare a statement without rows, which takes so many values, at least one; its number.

        Raises:
            pymysql.Error: the server said so, or the connection broke.
        """
        self.command(bytes([_PREPARE]) + sql.encode("utf-8", "surrogateescape"))
        self._next_seq_id = 1
        first = self._packet()
        with self._well_formed():
            kind, number, columns, taken = struct.unpack_from("<BIHH", first.get_all_data())
            if (kind, columns, taken) != (0, 0, values):
                raise ValueError("another statement than the one that was sent")
        # It tells of each value in a packet, all of which are alike, and then that these were all.
        with self._telling():
            size = int.from_bytes(self._exactly(4)[:3], "little")
            with self._well_formed():
                if size > 250:
                    raise ValueError("it says more of a value than there is to say")
            told = self._exactly(size + (values - 1) * (4 + size))
            end = self._exactly(4 + 5)
        with self._well_formed():
            if end[4:5] != b"\xfe" or told[size :: 4 + size].strip(bytes([size])):
                raise ValueError("it tells otherwise of its values than is usual")
        return int(number)

    def forget(self, number: int) -> None:
        """Let go of a prepared statement. Raises as ``command``."""
        self.command(struct.pack("<BI", _FORGET, number))

    def load(self, sql: str, blocks: Iterable[bytes]) -> tuple[int, int]:
        """Run ``LOAD DATA LOCAL`` and feed it ``blocks``; (rows stored, warnings).

        If ``blocks`` fails, the connection is cut so that the server throws the load away.

        Raises:
            pymysql.Error: the server refuses local loads, or said something else.
        """
        self._send(COMMAND.COM_QUERY, sql.encode())
        first = self._packet()
        if not first.is_load_local_packet():
            raise pymysql.OperationalError(1148, "the server did not ask for the data")
        try:
            for block in blocks:
                for at in range(0, len(block), _WHOLE - 1):
                    self.write_packet(block[at : at + _WHOLE - 1])
        except BaseException:
            self._cut()
            raise
        self.write_packet(b"")
        with self._well_formed():
            answer = OKPacketWrapper(self._packet())
        return answer.affected_rows, answer.warning_count


def _end_among(packets: Sequence[bytes], first: int) -> int | None:
    """The place of the first one from there on that is no row; None where all are."""
    # Seldom there, and looked for all the time: rows begin with less, but those whose first cell is very long.
    if max(packets[first:]) < b"\xfe":
        return None
    for place in range(first, len(packets)):
        lead = packets[place][:1]
        if lead == b"\xff" or (lead == b"\xfe" and len(packets[place]) < _CLOSING):
            return place
    return None
