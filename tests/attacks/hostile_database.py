"""A database server that means harm: it stands before a real one, passes on what is said, and at one statement, or as
somebody logs in, answers by itself. The protocol is that of MariaDB and MySQL (packets; Protocol::HandshakeV10,
AuthSwitchRequest, LOCAL INFILE Request)."""

from __future__ import annotations

import contextlib
import socket
import struct
import threading
from typing import Any

_TLS = 1 << 11  # CLIENT_SSL, in the lower half of the capabilities


class HostileDatabase:
    """Answers the statement numbered ``at`` (counted from 1 over all connections, of those that
    are ``about`` something) with ``answer``, and keeps what is
    said to that; ``login`` in place of the answer to somebody's name. ``silent``: it gives no answer at all."""

    def __init__(
        self,
        there: int,
        *,
        at: int = 0,
        answer: bytes = b"",
        login: bytes = b"",
        about: bytes = b"",
        silent: bool = False,
    ) -> None:
        self.there, self.at, self.answer, self.login, self.silent = there, at, answer, login, silent
        self.about = about
        self.said: list[bytes] = []
        self.count = 0
        self._lock = threading.Lock()
        self._listening = socket.create_server(("", 0))
        self.port = int(self._listening.getsockname()[1])
        threading.Thread(target=self._serve, daemon=True).start()

    def close(self) -> None:
        self._listening.close()

    def _serve(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                client, _ = self._listening.accept()
                threading.Thread(target=self._work, args=(client,), daemon=True).start()

    def _work(self, client: socket.socket) -> None:
        with (
            contextlib.suppress(OSError),
            socket.create_connection(("127.0.0.1", self.there)) as real,
        ):
            greeting = packet(real)
            client.sendall(without_tls(greeting))
            name = packet(client)
            if not name:
                return
            if self.login:
                client.sendall(framed(self.login, name[3] + 1))
                self._hear(client)
                return
            real.sendall(name)
            threading.Thread(target=_pass_on, args=(real, client), daemon=True).start()
            self._between(client, real)

    def _between(self, client: socket.socket, real: socket.socket) -> None:
        try:
            while asked := packet(client):
                if asked[3:5] == b"\x00\x03" and self.about in asked:
                    with self._lock:
                        self.count += 1
                        now = self.count == self.at
                    if now:
                        if not self.silent:
                            client.sendall(framed(self.answer, 1))
                        self._hear(client)
                        return
                real.sendall(asked)
        finally:
            # What it held there, locks among them, goes with it, although somebody still listens.
            with contextlib.suppress(OSError):
                real.shutdown(socket.SHUT_RDWR)

    def _hear(self, client: socket.socket) -> None:
        client.settimeout(None if self.silent else 1.0)
        with contextlib.suppress(OSError):
            while heard := packet(client):
                self.said.append(heard[4:])
                if len(heard) == 4:
                    break  # the end of what was to be loaded; there is no answer to that
        client.close()


def packet(source: socket.socket) -> bytes:
    """The next packet with its head; empty at the end."""
    head = _exactly(source, 4)
    return head and head + _exactly(source, int.from_bytes(head[:3], "little"))


def _exactly(source: socket.socket, size: int) -> bytes:
    found = b""
    while len(found) < size:
        block = source.recv(size - len(found))
        if not block:
            return b""
        found += block
    return found


def framed(body: bytes, number: int) -> bytes:
    return struct.pack("<I", len(body))[:3] + bytes([number]) + body


def without_tls(greeting: bytes) -> bytes:
    """A server's greeting as one that knows no TLS would say it."""
    end = greeting.index(b"\0", 5) + 1 + 4 + 8 + 1
    lower = int.from_bytes(greeting[end : end + 2], "little") & ~_TLS
    return greeting[:end] + struct.pack("<H", lower) + greeting[end + 2 :]


def _pass_on(source: socket.socket, target: Any) -> None:
    with contextlib.suppress(OSError):
        while block := source.recv(1 << 16):
            target.sendall(block)
        target.shutdown(socket.SHUT_WR)


def asks_for(path: str) -> bytes:
    """A LOCAL INFILE request."""
    return b"\xfb" + path.encode()


def switches_to(plugin: str, data: bytes = b"0123456789abcdefghij\0") -> bytes:
    """An AuthSwitchRequest."""
    return b"\xfe" + plugin.encode() + b"\0" + data
