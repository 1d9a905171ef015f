"""Bytes both ways through one channel of a connection, for a thread that waits.

The connection lives in the event loop's thread; whoever works with a pipe does so in another one, as
with a socket. What has come and was not yet taken is bounded: beyond that the other side is let wait.
"""

from __future__ import annotations

import asyncio
import io
import json
import struct
import threading
from collections.abc import Sequence
from typing import Any

import asyncssh

from ...errors import ConnectionFailed, ConnectionLost
from ..pace import Pace
from .backlog import Backlog

_BEYOND = (
    64 << 20
)  # bytes of many that may have come beyond what is held in memory, before the sender is held
_SLICE = 1 << 18  # bytes that go out in one step
_COMPLAINT = 4096  # bytes of what a command says on stderr that are kept


class Pipe(asyncssh.SSHClientSession[bytes]):
    """One channel: a command's input and output, or a connection to a port or a socket.

    Raises:
        ConnectionLost: from reading and writing, once the connection is lost.
    """

    def __init__(self, loop: asyncio.AbstractEventLoop, pace: Pace, *, bulk: bool = False) -> None:
        """``bulk``: many bytes will come, over a line that is slower than whoever takes them is on the whole."""
        self._loop = loop
        self._pace = pace
        self._channel: Any = None
        # What a rate holds back is not to come.
        self._waiting = Backlog(_BEYOND if bulk and not pace.rate else 0)
        self._change = threading.Condition()
        self._paused = False
        self._resuming = False
        self._ended = False
        self._broken: BaseException | None = None
        self._writable = threading.Event()
        self._writable.set()
        self._timeout: float | None = None
        self.complaint = b""
        self.received = 0

    # In the loop's thread

    def connection_made(self, chan: Any) -> None:
        self._channel = chan
        chan.set_write_buffer_limits(high=1 << 20)

    def data_received(self, data: bytes, datatype: Any) -> None:
        if datatype is not None:
            self.complaint = (self.complaint + data)[:_COMPLAINT]
            return
        with self._change:
            self._waiting.put(data)
            self.received += len(data)
            if not self._resuming:
                self._hold_back()
            self._change.notify()

    def _hold_back(self) -> None:
        if self._waiting.full and not self._paused:
            self._paused = True
            self._channel.pause_reading()

    def _resume(self) -> None:
        """Have what the channel holds by now delivered, all of it: held back before that, it would each time let the
        other side send as much once more, and hold more and more."""
        self._resuming = True
        try:
            self._channel.resume_reading()
        finally:
            self._resuming = False
        with self._change:
            self._hold_back()

    def eof_received(self) -> bool:
        with self._change:
            self._ended = True
            self._change.notify_all()
        return True  # what we still write may go

    def connection_lost(self, exc: BaseException | None) -> None:
        with self._change:
            self._ended = True
            self._broken = exc
            self._change.notify_all()
        self._writable.set()

    def pause_writing(self) -> None:
        self._writable.clear()

    def resume_writing(self) -> None:
        self._writable.set()

    # In the thread that works with it

    def take_into(self, into: memoryview) -> int:
        """Fill some of ``into`` with what has come; how many bytes. Waits for the first; 0 at the end.

        Raises:
            TimeoutError: nothing came within the time that ``settimeout`` set.
        """
        with self._change:
            if not self._waiting and not self._ended:
                came = self._change.wait_for(lambda: self._waiting or self._ended, self._timeout)
                if not came:
                    raise TimeoutError("the other side does not answer")
            if not self._waiting and self._broken is not None:
                raise ConnectionLost("the connection was lost") from self._broken
            size = self._waiting.take_into(into)
            resume = self._paused and self._waiting.half_empty
            if resume:
                self._paused = False
        if resume:
            self._loop.call_soon_threadsafe(self._resume)
        self._pace.spend(size)
        return size

    def sendall(self, data: bytes | bytearray | memoryview) -> None:
        """Send all of it; returns when it is on its way, not when it has arrived.

        Raises:
            TimeoutError: nothing was taken within the time that ``settimeout`` set.
        """
        whole = memoryview(data)
        for at in range(0, len(whole), _SLICE):
            if not self._writable.wait(self._timeout):
                raise TimeoutError("the other side takes nothing")
            if self._ended and (self._broken is not None or self._channel.is_closing()):
                raise ConnectionLost("the connection was lost") from self._broken
            part = bytes(whole[at : at + _SLICE])
            self._pace.spend(len(part))
            done = threading.Event()
            self._loop.call_soon_threadsafe(self._write, part, done)
            if len(whole) > _SLICE:
                done.wait()

    def _write(self, part: bytes, done: threading.Event) -> None:
        try:
            self._channel.write(part)
        except (OSError, asyncssh.Error, BrokenPipeError) as error:
            with self._change:
                self._broken = self._broken or error
                self._ended = True
                self._change.notify_all()
        finally:
            done.set()

    @property
    def ended(self) -> bool:
        """True once the other side has nothing more to say."""
        return self._ended

    def settimeout(self, seconds: float | None) -> None:
        self._timeout = seconds

    def makefile(self, mode: str, buffering: int = 1 << 16) -> io.BufferedReader:
        """A file to read from, as of a socket."""
        return io.BufferedReader(_Reading(self), buffering)

    def close(self) -> None:
        with self._change:
            self._waiting.close()
        if self._channel is not None and not self._loop.is_closed():
            self._loop.call_soon_threadsafe(self._channel.close)

    def shutdown(self, how: int) -> None:
        self.close()


class Socket:
    """A pipe as those know it who expect a socket: its loss is a reset connection."""

    def __init__(self, pipe: Pipe) -> None:
        self._pipe = pipe
        self.settimeout = pipe.settimeout
        self.makefile = pipe.makefile
        self.close = pipe.close
        self.shutdown = pipe.shutdown

    def sendall(self, data: bytes | bytearray | memoryview) -> None:
        try:
            self._pipe.sendall(data)
        except ConnectionFailed as error:
            raise ConnectionResetError(104, str(error)) from error


class PrintingSocket(Socket):
    """A connection to a database server through a helper, which can tell the prints of rows in place of them.
    ``word`` is what a request begins with that is meant for the helper."""

    def __init__(self, pipe: Pipe, word: bytes) -> None:
        super().__init__(pipe)
        self._word = word

    def ask_for_prints(
        self, queries: Sequence[str], key: bytes, seen: Sequence[Sequence[tuple[int, bytes]]]
    ) -> None:
        """Ask for those of the rows that some short queries give, which may be those that were ``seen`` of each, as a
        whole or in several stretches; they come as ``helper_scripts/helper.py`` says."""
        before = [[(size, tag.hex()) for size, tag in some] for some in seen]
        self._ask({"queries": list(queries), "key": key.hex(), "seen": before, "strips": False})

    def ask_for_strips(
        self, queries: Sequence[str], key: bytes, seen: Sequence[Sequence[tuple[int, int, bytes]]]
    ) -> None:
        """The same for stretches of the rows of each query: how many rows each had, and what these looked like."""
        before = [[(rows, size, tag.hex()) for rows, size, tag in some] for some in seen]
        self._ask({"queries": list(queries), "key": key.hex(), "seen": before, "strips": True})

    def _ask(self, request: dict[str, object]) -> None:
        text = json.dumps(request).encode("ascii")
        self.sendall(self._word + struct.pack(">I", len(text)) + text)


class _Reading(io.RawIOBase):
    def __init__(self, pipe: Pipe) -> None:
        self._pipe = pipe

    def readable(self) -> bool:
        return True

    def readinto(self, into: Any) -> int:
        try:
            return self._pipe.take_into(memoryview(into))
        except ConnectionFailed as error:
            raise ConnectionResetError(104, str(error)) from error
