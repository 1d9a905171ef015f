"""A process where a target is, which carries out a switch as one piece, whatever becomes of us and of the line.

It is the helper in Python or PHP (``helper_scripts/``): on another machine in a session of its own, on this one a
process of its own that outlives us. The exchange is that of ``helper_protocol``, with one request, ``switch``:

1. ``{"do": "switch", "connect": SERVER or null}``; it connects to the database server and says so;
2. DATA frames both ways carry what the log-in to that server needs, so that no password is known there;
3. ``{"path": …, "beside": …, "text": …}`` has it put the record of the switch at ``path``, which it holds locked
   for as long as it sees to it, and which it removes where nothing follows; it says ``ready``;
4. ``{"done": …, "undone": …, "steps": […]}`` and END hand the switch over. From here on it ends there, forwards
   or backwards: the record is renamed to ``done``, or, all taken back, to ``undone``;
5. the answer: ``remarks`` and ``patched``, or ``failed`` with the server's ``code``, and ``half`` where it could
   not be taken back either.

Steps: ``put`` (a file; ``{now}`` in its text is the time there), ``wait``, ``remove``, ``sync``, ``acts`` (as in
``files/remote_machine.py``), ``sql`` and ``sqlite`` (each with what takes it back).
"""

from __future__ import annotations

import contextlib
import io
import json
import select
import subprocess
import sys
from collections.abc import Callable
from typing import Any, Protocol

from msgspec import Struct

from ..database.base import in_words
from ..errors import DatabaseError, DatabaseUnreachable, FilesError
from ..files import printable
from .helper_protocol import (
    DATA,
    END,
    ERROR,
    HEAD,
    JSON,
    Channel,
    ExchangeError,
    escaped,
    exactly,
    frame,
)
from .helper_scripts import PYTHON, source


class ExecutorLost(ConnectionError):
    """It was handed the switch, and then no more was heard of it: it goes on there, or has ended."""


class Switched(Struct, frozen=True):
    """What came of a switch. ``remarks`` are those of the database."""

    remarks: tuple[str, ...]
    patched: int


class ChannelToClose(Channel, Protocol):
    """A channel to one process. Taking from it raises TimeoutError where nothing comes for so long as was set."""

    def settimeout(self, seconds: float | None) -> None:
        """How long is waited for what comes; None for without an end."""

    def close(self) -> None:
        """Close it; what was handed over goes on."""


class Executor:
    """One process, for one switch; ``channel`` leads to it."""

    def __init__(self, channel: ChannelToClose) -> None:
        self._channel = channel

    def begin(self, server: dict[str, Any] | None) -> None:
        """Have it connect to a database server, where there is one to connect to.

        Raises:
            DatabaseUnreachable: it does not reach it.
        """
        where = None
        if server is not None:
            where = {**server, "socket": escaped(server["socket"])}
        self._channel.sendall(frame(JSON, json.dumps({"do": "switch", "connect": where}).encode()))
        kind, content = self._frame()
        if kind == ERROR:
            raise DatabaseUnreachable(str(json.loads(content)["message"]))

    @property
    def socket(self) -> Handed:
        """The connection to the database server, for as long as it is not handed over."""
        return Handed(self._channel, self._frame)

    def put_record(self, path: str, beside: str, text: str) -> None:
        """Have it put the record of the switch at a path, by way of the file ``beside``; paths are ``escaped``.

        Raises:
            FilesError: it cannot be written.
        """
        ask = {"path": path, "beside": beside, "text": text}
        self._channel.sendall(frame(JSON, json.dumps(ask).encode()))
        kind, content = self._frame()
        if kind == ERROR:
            raise FilesError(printable(str(json.loads(content)["message"])))

    def carry_out(self, go: dict[str, Any]) -> Switched:
        """Hand the switch over, and wait for its end.

        Raises:
            ExecutorLost: nothing more was heard of it.
            DatabaseError, FilesError: it failed, and was taken back there.
            Half: it failed, and could not be taken back.
        """
        try:
            self._channel.sendall(frame(JSON, json.dumps(go).encode()) + frame(END))
            kind, content = self._frame()
        except (OSError, ExchangeError) as error:
            raise ExecutorLost(str(error)) from error
        except Exception as error:  # the line's own
            raise ExecutorLost(str(error)) from error
        said = json.loads(content)
        if kind == ERROR:
            raise FilesError(printable(str(said["message"])))
        if "half" in said:
            raise Half(
                printable(f"{said['failed']}; taking it back: {said['half']}"),
                int(said.get("code") or 0),
            )
        if "failed" in said:
            code = int(said.get("code") or 0)
            text = printable(in_words(code, str(said["failed"])))
            raise DatabaseError(f"{text} (error {code})") if code else FilesError(text)
        return Switched(tuple(map(str, said["remarks"])), int(said["patched"]))

    def close(self) -> None:
        """Let go of it; what was handed over goes on."""
        with contextlib.suppress(Exception):
            self._channel.close()

    def _frame(self, patience: float | None = None) -> tuple[int, bytes]:
        self._channel.settimeout(patience)
        try:
            length, kind = HEAD.unpack(self._exactly(HEAD.size))
            return kind, self._exactly(length)
        finally:
            self._channel.settimeout(None)  # all but a log-in may last

    def _exactly(self, size: int) -> bytes:
        return bytes(exactly(self._channel, size, "the process there ended"))


class Half(Exception):
    """The switch failed there, and could not be taken back either. ``code`` is that of the database server when it
    was to be taken back, 0 for none of its errors."""

    def __init__(self, message: str, code: int) -> None:
        super().__init__(message)
        self.code = code


class Handed:
    """A connection that passes through the executor, as those know it who expect a socket. Closing it does
    nothing: the executor goes on with it. Once it has ended, there is no other."""

    def __init__(self, channel: Channel, take: Callable[[float | None], tuple[int, bytes]]) -> None:
        self._channel = channel
        self._take = take
        self._timeout: float | None = None
        self._ended = ""  # what is said of its end

    def sendall(self, data: bytes | bytearray | memoryview) -> None:
        self._channel.sendall(frame(DATA, bytes(data)))

    def makefile(self, mode: str, buffering: int = 1 << 16) -> io.BufferedReader:
        return io.BufferedReader(_Reading(self.take), buffering)

    def take(self) -> bytes:
        """What comes next. Raises OSError at its end, and ever after."""
        if not self._ended:
            try:
                kind, content = self._take(self._timeout)
            except TimeoutError:
                self._ended = "the server does not answer"
                raise
            except ExchangeError as error:
                self._ended = str(error)
            else:
                if kind == DATA:
                    return content
                said = json.loads(content) if kind == ERROR else {}
                self._ended = str(said.get("message") or "the connection ended")
        raise ConnectionResetError(104, self._ended)

    def settimeout(self, seconds: float | None) -> None:
        self._timeout = seconds

    def close(self) -> None:
        return

    def shutdown(self, how: int) -> None:
        return


class _Reading(io.RawIOBase):
    def __init__(self, take: Callable[[], bytes]) -> None:
        self._take = take
        self._rest = b""

    def readable(self) -> bool:
        return True

    def readinto(self, into: Any) -> int:
        self._rest = self._rest or self._take()
        view = memoryview(into)
        count = min(len(view), len(self._rest))
        view[:count] = self._rest[:count]
        self._rest = self._rest[count:]
        return count


class Process:
    """A helper on this machine, in a session of its own: no signal for us reaches it."""

    def __init__(self) -> None:
        self._process = subprocess.Popen(
            [sys.executable, "-I", "-c", PYTHON],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            start_new_session=True,
            bufsize=0,
        )
        self._timeout: float | None = None
        text = source("helper.py")
        self.sendall(b"%d\n%s" % (len(text), text))

    def sendall(self, data: bytes | bytearray | memoryview) -> None:
        assert self._process.stdin is not None
        rest = memoryview(data)
        while rest:
            rest = rest[self._process.stdin.write(rest) :]

    def take_into(self, into: memoryview) -> int:
        assert self._process.stdout is not None
        if not select.select([self._process.stdout], [], [], self._timeout)[0]:
            raise TimeoutError("the process does not answer")
        return self._process.stdout.readinto(into) or 0  # type: ignore[attr-defined]

    def settimeout(self, seconds: float | None) -> None:
        self._timeout = seconds

    def close(self) -> None:
        for stream in (self._process.stdin, self._process.stdout):
            if stream is not None:
                stream.close()
        self._process.wait(10)
