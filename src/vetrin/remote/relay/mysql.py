"""A connection to a database server behind a relay, for those who expect a socket that speaks the server's protocol.

Between two requests nothing is held there. So this end plays the server: it lets whoever connects log in, remembers
what is set for the session, and sends statements with all that in front of them, to be carried out on a connection
that lasts for one request. The server's answers go through as they came. What needs more than one statement on one
connection goes as a whole (``transaction``). Protocol: "Client/Server Protocol" of MariaDB's and MySQL's
documentation.
"""

from __future__ import annotations

import base64
import contextlib
import io
import json
import re
import struct
from collections.abc import Iterator, Sequence
from typing import Any

from ...errors import ConnectionFailed, ConnectionLost
from ..helper_protocol import (
    BYTES,
    DATA,
    JSON,
    SPAN,
    BrokenOff,
    ExchangeError,
    Frames,
    Packing,
    escaped,
    record,
)
from .exchange import Exchange, RelayChannel

_WHOLE = 0xFFFFFF
_QUIT, _QUERY, _PING = 0x01, 0x03, 0x0E
_TLS, _COMPRESSED, _NO_EOF, _WITH_DATABASE = 0x800, 0x20, 0x1000000, 0x8
_CLEAR = b"mysql_clear_password"
_REFUSED, _UNKNOWN_COMMAND = 1105, 1047
# What is set for a session, and holds for the statements behind it.
_BEFORE = re.compile(
    r"SET\s+(?:SESSION\s+TRANSACTION\s+(?:ISOLATION|READ)\b|NAMES\b|(?!PASSWORD\b)@?\w+(?=\s*=))",
    re.IGNORECASE,
)
_READS = re.compile(rb"\s*\(*\s*(?:SELECT|SHOW|DESCRIBE|EXPLAIN)\b", re.IGNORECASE)
_IGNORED = re.compile(rb"\s*(?:START\s+TRANSACTION|BEGIN|COMMIT|ROLLBACK)\b", re.IGNORECASE)


class RelayedServer:
    """A database server as a relay reaches it. ``where`` is its name, port and socket, as the site has them;
    ``loads`` says whether rows can go there by bulk load."""

    def __init__(self, exchange: Exchange, where: dict[str, Any], *, loads: bool = True) -> None:
        self.exchange = exchange
        self.loads = loads
        self.where = where
        self._known: set[tuple[str, str, str]] = set()
        (said,) = self.frames("mysql", [], writes=False)[0]
        self.greeting = _greeting(base64.b64decode(said["greeting"]))

    def frames(
        self, do: str, parts: Sequence[bytes], *, writes: bool, **more: Any
    ) -> tuple[list[dict[str, Any]], bytes]:
        """Ask the relay; what it said, and the server's bytes."""
        frames = Frames(RelayChannel(self.exchange, writes=writes))
        answer = frames.begin_with(
            do,
            parts,
            Packing(self.exchange.slow),
            connect=self.where,
            pack=self.exchange.slow,
            **more,
        )
        said, raw = [], []
        for kind, content in answer:
            if kind == JSON:
                said.append(json.loads(content))
            elif kind == DATA:
                raw.append(bytes(content))
        return said, b"".join(raw)

    def login(self, account: dict[str, str], charset: int) -> bytes | None:
        """What the server says to an account that it refuses; None where it lets it in."""
        key = account["user"], account["password"], account["database"]
        if key in self._known:
            return None
        said, _ = self.frames(
            "mysql", [], writes=False, account=account, charset=charset, before=[]
        )
        if said[0]["refused"] is not None:
            return base64.b64decode(said[0]["refused"])
        self._known.add(key)
        return None


def _greeting(payload: bytes) -> bytes:
    """A server's greeting without what this end cannot do: encryption, compression, other ends of rows."""
    if payload[:1] == b"\xff":
        return payload
    at = payload.index(b"\0", 1) + 5  # behind version and thread
    low, high = (
        struct.unpack_from("<H", payload, at + 9)[0],
        struct.unpack_from("<H", payload, at + 14)[0],
    )
    flags = (low | high << 16) & ~(_TLS | _COMPRESSED | _NO_EOF) & 0xFFFFFFFF
    found = bytearray(payload[: at + 27])
    struct.pack_into("<H", found, at + 9, flags & 0xFFFF)
    struct.pack_into("<H", found, at + 14, flags >> 16)
    found[at + 16] = 21
    return bytes(found) + bytes(12) + b"\0" + b"mysql_native_password\0"


def _packet(number: int, payload: bytes) -> bytes:
    return len(payload).to_bytes(3, "little") + bytes([number % 256]) + payload


def _fine(number: int = 1, touched: int = 0, warnings: int = 0) -> bytes:
    return _packet(
        number, b"\0" + _counted(touched) + b"\0" + struct.pack("<HH", 2, min(warnings, 65535))
    )


def _counted(value: int) -> bytes:
    if value < 251:
        return bytes([value])
    if value < 1 << 16:
        return b"\xfc" + value.to_bytes(2, "little")
    return b"\xfe" + value.to_bytes(8, "little")


def _number(payload: bytes, at: int) -> tuple[int, int]:
    """A length-encoded number, and where it ends."""
    first = payload[at]
    if first < 251:
        return first, at + 1
    width = {252: 2, 253: 3, 254: 8}[first]
    return int.from_bytes(payload[at + 1 : at + 1 + width], "little"), at + 1 + width


def _wrong(number: int, code: int, text: str) -> bytes:
    return _packet(number, b"\xff" + struct.pack("<H", code) + b"#HY000" + text.encode()[:500])


class RelayedConnection:
    """As much of a socket as the driver uses. ``pieces``: the answer to the next statement may be cut between two
    rows, which its last packet then says."""

    def __init__(self, server: RelayedServer) -> None:
        self._server = server
        self.pieces = False
        self._came = b""
        self._parts: list[bytes] = []  # of a packet in several
        self._out = bytearray(_packet(0, server.greeting))
        self._take = self._logs_in
        self._account: dict[str, str] = {}
        self._charset = 45
        self._before: dict[str, str] = {}
        self._once: list[str] = []
        self._commands: list[bytes] = []
        self._answers: list[int] = []  # the numbers of the packets that answer these
        self._load = _Load(b"")
        self._warnings = b""

    @property
    def loads(self) -> bool:
        """False where no rows go up by bulk load."""
        return self._server.loads

    @property
    def piece(self) -> int:
        """Bytes of statements that are best sent together."""
        return max(4096, self._server.exchange.limits.piece - 4096)

    # What a socket has

    def sendall(self, data: bytes | bytearray | memoryview) -> None:
        self._came += bytes(data)
        while len(self._came) >= 4:
            size = int.from_bytes(self._came[:3], "little")
            if len(self._came) < 4 + size:
                return
            number = self._came[3]
            part, self._came = self._came[4 : 4 + size], self._came[4 + size :]
            if self._take != self._loads:
                self._parts.append(part)
                if size == _WHOLE:
                    continue
                part = b"".join(self._parts)
                self._parts.clear()
            self._take(number, part)

    def makefile(self, mode: str, buffering: int = 1 << 16) -> io.BufferedReader:
        return io.BufferedReader(_Reading(self), buffering)

    def settimeout(self, seconds: float | None) -> None:
        return

    def close(self) -> None:
        self._commands.clear()

    def shutdown(self, how: int) -> None:
        return

    def take(self, size: int) -> bytes:
        """Some of what the server said."""
        if not self._out:
            self._carry_out()
        found = bytes(self._out[:size])
        del self._out[:size]
        return found

    # What a server does

    def _logs_in(self, number: int, payload: bytes) -> None:
        flags = struct.unpack_from("<I", payload)[0]
        self._charset = payload[8]
        user, _, rest = payload[32:].partition(b"\0")
        database = b""
        if flags & _WITH_DATABASE:
            size, at = _number(rest, 0)
            database = rest[at + size :].partition(b"\0")[0]
        self._account = {
            "user": user.decode("utf-8", "surrogateescape"),
            "database": database.decode(),
        }
        self._out += _packet(number + 1, b"\xfe" + _CLEAR + b"\0")
        self._take = self._gets_password

    def _gets_password(self, number: int, payload: bytes) -> None:
        self._account["password"] = payload.removesuffix(b"\0").decode("utf-8", "surrogateescape")
        with _as_reset():
            refused = self._server.login(self._account, self._charset)
        self._out += _packet(number + 1, refused) if refused is not None else _fine(number + 1)
        self._take = self._commanded

    def _commanded(self, number: int, payload: bytes) -> None:
        kind, sql = payload[0], payload[1:]
        if kind == _QUIT:
            return
        if kind == _PING:
            self._said(_fine())
        elif kind != _QUERY:
            self._said(_wrong(1, _UNKNOWN_COMMAND, "a relay carries out statements alone"))
        elif match := _BEFORE.match(sql.decode("utf-8", "surrogateescape")):
            self._sets(match)
            self._said(_fine())
        elif _IGNORED.match(sql):
            self._said(_fine())
        elif sql.startswith(b"LOAD DATA LOCAL"):
            self._load = _Load(payload)
            self._said(_packet(1, b"\xfbrows"))
            self._take = self._loads
        elif sql.startswith(b"SHOW WARNINGS") and self._warnings:
            self._said(self._warnings)
        else:
            self._warnings = b""
            self._commands.append(payload)
            self._answers.append((number + 1) % 256)

    def _sets(self, match: re.Match[str]) -> None:
        sql, name = match.string, " ".join(match[0].upper().split())
        if sql[4:5] == "@":  # for the next statement alone
            self._once.append(sql)
            return
        self._before.pop(name, None)
        self._before[name] = sql

    def _said(self, answer: bytes) -> None:
        """An answer of this end's own, behind those to what was asked before."""
        if self._commands:
            self._carry_out()
        self._out += answer

    def _carry_out(self) -> None:
        commands, self._commands = self._commands, []
        answers, self._answers = self._answers, []
        pieces, self.pieces = self.pieces, False
        if not commands:
            raise ConnectionResetError(104, "nothing was asked")
        writes = not all(_READS.match(command, 1) for command in commands)
        said, raw = self._asked(
            [record(BYTES, one) for one in commands], answers[0], writes=writes, pieces=pieces
        )
        if said and said[0].get("refused") is not None:
            refused = base64.b64decode(said[0]["refused"])
            raw = b"".join(_packet(number, refused) for number in answers)
        self._out += raw

    def _asked(
        self, parts: list[bytes], answer: int = 1, *, writes: bool, **more: Any
    ) -> tuple[list[dict[str, Any]], bytes]:
        before = [*self._before.values(), *self._once]
        self._once = []
        try:
            with _as_reset():
                return self._server.frames(
                    "mysql", parts, writes=writes, account=self._account, charset=self._charset,
                    before=before, **more,
                )  # fmt: skip
        except ExchangeError as error:
            return [], _wrong(answer, _REFUSED, str(error))

    def transaction(
        self, statements: Sequence[bytes], counted: int, expected: int | None
    ) -> tuple[int, bytes]:
        """Some statements, all or nothing, on one connection: how many rows the first ``counted`` of them touched,
        and the server's error where there was one. Where that is not ``expected``, nothing was done."""
        parts = [record(BYTES, bytes([_QUERY]) + sql) for sql in statements]
        said, raw = self._asked(parts, writes=True, whole=True, counted=counted, expected=expected)
        touched = next((int(one["touched"]) for one in said if "touched" in one), 0)
        for payload in _payloads(raw):
            if payload[:1] == b"\xff":
                return touched, payload
        return touched, b""

    def _loads(self, number: int, payload: bytes) -> None:
        """Rows of a bulk load, each packet carried out by itself; an empty one ends it."""
        load = self._load
        if payload:
            load.waiting.append(payload)
        if load.waiting and len(payload) < _WHOLE - 1:
            block = b"".join(load.waiting)
            load.waiting.clear()
            self._load_some(load, block)
        if not payload:
            told = (
                b"\0"
                + _counted(load.rows)
                + b"\0"
                + struct.pack("<HH", 2, min(load.warnings, 65535))
            )
            self._out += _packet(number + 1, load.wrong or told)
            self._take = self._commanded

    def _load_some(self, load: _Load, block: bytes) -> None:
        if load.wrong:
            return
        parts = [
            record(BYTES, load.command),
            record(SPAN, block),
            record(BYTES, b"\x03SHOW WARNINGS LIMIT 1"),
        ]
        _, raw = self._asked(parts, writes=True)
        payloads = list(_payloads(raw, 3))
        # The first packet asks for the rows, unless something was wrong before that.
        done = payloads[0]
        end = 4 + len(done)
        if done[:1] == b"\xff":
            load.wrong = done
            return
        rows, at = _number(done, 1)
        _, at = _number(done, at)
        warnings = struct.unpack_from("<HH", done, at)[1]
        load.rows += rows
        load.warnings += warnings
        if warnings:
            self._warnings = raw[end:]


class _Load:
    """A bulk load under way."""

    def __init__(self, command: bytes) -> None:
        self.command = command
        self.waiting: list[bytes] = []  # of a block that is longer than a packet
        self.rows = self.warnings = 0
        self.wrong = b""


def _payloads(raw: bytes, most: int = 1 << 30) -> Iterator[bytes]:
    at = 0
    while at + 4 <= len(raw) and most:
        size = int.from_bytes(raw[at : at + 3], "little")
        yield raw[at + 4 : at + 4 + size]
        at += 4 + size
        most -= 1


@contextlib.contextmanager
def _as_reset() -> Iterator[None]:
    """What is lost on the way, as a socket tells it."""
    try:
        yield
    except (ConnectionLost, BrokenOff) as error:
        raise ConnectionResetError(104, str(error)) from error
    except ConnectionFailed as error:
        raise ConnectionRefusedError(111, str(error)) from error
    except ExchangeError as error:
        if "lost" not in str(error):
            raise
        raise ConnectionResetError(104, str(error)) from error


class _Reading(io.RawIOBase):
    def __init__(self, connection: RelayedConnection) -> None:
        self._connection = connection

    def readable(self) -> bool:
        return True

    def readinto(self, into: Any) -> int:
        view = memoryview(into)
        found = self._connection.take(len(view))
        view[: len(found)] = found
        return len(found)


def where_of(name: str, port: int, socket: str | None) -> dict[str, Any]:
    return {"name": name, "port": port, "socket": escaped(socket or "")}
