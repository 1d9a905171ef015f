"""TLS over a stream that is no socket of this machine, as a channel of an SSH connection is none.

``ssl`` of the standard library wraps sockets of the operating system only; for anything else it has memory
buffers, between which and the stream the bytes are carried here.
"""

from __future__ import annotations

import io
import ssl
from collections.abc import Callable
from typing import Any, TypeVar, cast

_BLOCK = 1 << 16
Some = TypeVar("Some")


class OverStreams:
    """Stands in for an ``SSLContext`` where what is to be wrapped has ``sendall`` and ``makefile`` only."""

    def __init__(self, context: ssl.SSLContext) -> None:
        self._context = context

    def wrap_socket(self, stream: Any, server_hostname: str | None = None) -> Secured:
        """The stream, secured; returns once both sides have agreed.

        Raises:
            ssl.SSLError: they did not.
            OSError: the stream broke.
        """
        return Secured(stream, self._context, server_hostname)


class Secured:
    """As much of a socket as a client of a database asks for."""

    def __init__(self, stream: Any, context: ssl.SSLContext, name: str | None) -> None:
        self._stream = stream
        self._source = stream.makefile("rb", _BLOCK)
        self._in, self._out = ssl.MemoryBIO(), ssl.MemoryBIO()
        self._tls = context.wrap_bio(self._in, self._out, server_hostname=name)
        self.settimeout = stream.settimeout
        self.close = stream.close
        self.shutdown = stream.shutdown
        self._step(self._tls.do_handshake)

    def _step(self, act: Callable[[], Some]) -> Some:
        """Do a step of TLS, with all that it has to say and to hear for that."""
        while True:
            try:
                done = act()
            except ssl.SSLWantReadError:
                self._flush()
                came = self._source.read1(_BLOCK)
                if came:
                    self._in.write(came)
                else:
                    self._in.write_eof()
            else:
                self._flush()
                return done

    def _flush(self) -> None:
        waiting = self._out.read()
        if waiting:
            self._stream.sendall(waiting)

    def sendall(self, data: bytes | bytearray | memoryview) -> None:
        whole = memoryview(data)
        at = 0
        while at < len(whole):
            part = whole[at : at + _BLOCK]
            at += self._step(lambda part=part: self._tls.write(part))  # type: ignore[misc]

    def read_into(self, into: memoryview) -> int:
        """Fill some of ``into``; how many bytes, 0 at the end."""
        try:
            return self._step(lambda: cast(int, self._tls.read(len(into), into)))
        except (ssl.SSLZeroReturnError, ssl.SSLEOFError):
            return 0

    def makefile(self, mode: str, buffering: int = _BLOCK) -> io.BufferedReader:
        """A file to read from, as of a socket."""
        return io.BufferedReader(_Reading(self), buffering)


class _Reading(io.RawIOBase):
    def __init__(self, secured: Secured) -> None:
        self._secured = secured

    def readable(self) -> bool:
        return True

    def readinto(self, into: Any) -> int:
        return self._secured.read_into(memoryview(into))
