"""What can go wrong with a machine in the middle of something: a connection that is cut, a database server that dies,
a disk that is full. Each at a step of one's choice, counted from where it is watched for."""

from __future__ import annotations

import contextlib
import socket
import struct
import threading
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field


@dataclass
class _Ends:
    """One connection that is passed on: from ``silent`` on the answer is kept back, ``heard`` says that it came."""

    client: socket.socket
    server: socket.socket
    silent: threading.Event = field(default_factory=threading.Event)
    heard: threading.Event = field(default_factory=threading.Event)


class Between:
    """Passes on what goes to a port of this machine and back, piece by piece, until something goes wrong.

    ``watched`` is asked before each piece on its way there; at the piece numbered ``at`` of those for which it says
    yes, counted from 1, ``fault`` happens and all connections are cut. ``seen`` is how many there were.
    """

    def __init__(self, port: int) -> None:
        self.there = port
        self.watched: Callable[[bytes], bool] = lambda piece: False
        self.fault: Callable[[], None] = lambda: None
        self.at = self.seen = 0
        self.answered = (
            False  # the other side still gets the piece, and its answer does not come back
        )
        self.closed = False  # nobody gets through
        self._lock, self._failing = threading.Lock(), threading.Lock()
        self._open: set[socket.socket] = set()
        self._listening = socket.create_server(("127.0.0.1", 0))
        self.port = int(self._listening.getsockname()[1])
        threading.Thread(target=self._serve, daemon=True).start()

    def pieces(self, client: socket.socket) -> Iterator[bytes]:
        """What comes from the one who connected."""
        while block := client.recv(1 << 16):
            yield block

    def arm(
        self,
        at: int,
        watched: Callable[[bytes], bool],
        fault: Callable[[], None] = lambda: None,
        *,
        answered: bool = False,
    ) -> None:
        self.watched, self.fault, self.answered = watched, fault, answered
        self.at, self.seen = at, 0

    def disarm(self) -> bool:
        """Let everything through again, once a fault is over; True where it has happened."""
        self.watched = lambda piece: False
        with self._failing:
            pass
        self.closed = False
        return self.seen >= self.at > 0

    def cut(self) -> None:
        with self._lock:
            for one in self._open:
                with contextlib.suppress(OSError):
                    # Linger 0: the other side is told by a reset, not by an end in order.
                    one.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
                    one.shutdown(socket.SHUT_RDWR)
                    one.close()
            self._open.clear()

    def _serve(self) -> None:
        while True:
            client, _ = self._listening.accept()
            if self.closed:
                client.close()
                continue
            try:
                server = socket.create_connection(("127.0.0.1", self.there))
            except OSError:
                client.close()
                continue
            for one in (client, server):
                one.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            with self._lock:
                self._open |= {client, server}
            ends = _Ends(client, server)
            for passing in (self._forth, self._back):
                threading.Thread(target=passing, args=(ends,), daemon=True).start()

    def _forth(self, ends: _Ends) -> None:
        client, server = ends.client, ends.server
        with contextlib.suppress(OSError):
            for piece in self.pieces(client):
                if self.watched(piece):
                    with self._lock:
                        self.seen += 1
                        now = self.seen == self.at
                        if now:
                            self._failing.acquire()
                    if now:
                        self._fail(ends, piece)
                        return
                server.sendall(piece)
            server.shutdown(socket.SHUT_WR)

    def _fail(self, ends: _Ends, piece: bytes) -> None:
        try:
            if self.answered:
                ends.silent.set()
                ends.server.sendall(piece)
                ends.heard.wait(10)
            self.fault()
            self.cut()
        finally:
            self._failing.release()

    def _back(self, ends: _Ends) -> None:
        client, server = ends.client, ends.server
        with contextlib.suppress(OSError):
            while block := server.recv(1 << 16):
                ends.heard.set() if ends.silent.is_set() else client.sendall(block)
            client.shutdown(socket.SHUT_WR)
        with self._lock:
            self._open -= {client, server}
        for one in (client, server):
            with contextlib.suppress(OSError):
                one.close()


class Packets(Between):
    """The same before a database server: each piece is a packet of its protocol."""

    def pieces(self, client: socket.socket) -> Iterator[bytes]:
        rest = b""
        for block in super().pieces(client):
            rest += block
            while len(rest) >= 4 and len(rest) >= (size := 4 + int.from_bytes(rest[:3], "little")):
                yield rest[:size]
                rest = rest[size:]


def is_statement(packet: bytes) -> bool:
    """True for a packet that asks the server to carry out a statement (COM_QUERY)."""
    return packet[3] == 0 and packet[4:5] == b"\x03"


# From the beginning, or from the moment at which the record of a switch is put in its place, creating and writing fail
# (or, with __all__, every change of names as well) from the __at__-th time on.
_PYTHON = """
import os, errno, builtins, io
_left, _armed, _create = [__at__], [not __inside__], builtins.open
def _failing(name, real, applies):
    def call(*values, **more):
        if _armed[0] and applies(values):
            _left[0] -= 1
            if _left[0] <= 0:
                with _create("__mark__", "w"): pass
                raise OSError(errno.ENOSPC, "No space left on device", os.fspath(values[0]) if name != "write" else None)
        found = real(*values, **more)
        if name == "replace" and os.fsencode(values[1]).endswith(b"/switch.json"):
            _armed[0] = True
        return found
    return call
_all = lambda values: True
_names = lambda values: __all__
os.open = _failing("open", os.open, lambda values: bool(values[1] & os.O_CREAT))
os.write = _failing("write", os.write, lambda values: values[0] > 2)
for _name, _applies in (("mkdir", _all), ("symlink", _all), ("rename", _names), ("replace", _names)):
    setattr(os, _name, _failing(_name, getattr(os, _name), _applies))
builtins.open = io.open = _failing("open", _create, lambda values: not isinstance(values[0], int) and set("wax+") & {*"".join(map(str, values[1:2]))})
"""
_PHP = """
function vf_full($counts) {
    static $left = __at__;
    global $vf_armed;
    if ((!$vf_armed && __inside__) || !$counts || --$left > 0) { return false; }
    \\touch('__mark__');
    \\trigger_error('No space left on device', E_USER_WARNING);
    return true;
}
function fopen($path, $mode) { return $mode[0] !== 'r' && vf_full(true) ? false : \\fopen($path, $mode); }
function file_put_contents($path, $text) { return vf_full(true) ? false : \\file_put_contents($path, $text); }
function mkdir($path, $mode = 0777, $deep = false) { return vf_full(true) ? false : \\mkdir($path, $mode, $deep); }
function symlink($one, $other) { return vf_full(true) ? false : \\symlink($one, $other); }
function rename($one, $other) {
    global $vf_armed;
    if (vf_full(__all__)) { return false; }
    $done = \\rename($one, $other);
    if (substr($other, -12) === '/switch.json') { $vf_armed = true; }
    return $done;
}
"""
# Where no helper is: the client library of SFTP is told so by the server.
_SFTP = """
import asyncssh
_left, _armed = [__at__], [not __inside__]
def _failing(name, applies):
    real = getattr(asyncssh.SFTPClient, name)
    async def call(self, *values, **more):
        if _armed[0] and applies(values):
            _left[0] -= 1
            if _left[0] <= 0:
                open("__mark__", "w").close()
                raise asyncssh.SFTPFailure("No space left on device")
        found = await real(self, *values, **more)
        if name == "posix_rename" and values[1].endswith(b"/switch.json"):
            _armed[0] = True
        return found
    setattr(asyncssh.SFTPClient, name, call)
_all = lambda values: True
_names = lambda values: __all__
_failing("open", lambda values: values[1][0] in "wx")
for _name, _applies in (("mkdir", _all), ("symlink", _all), ("rename", _names), ("posix_rename", _names)):
    _failing(_name, _applies)
"""


def full_disk(at: int, way: str, mark: str, *, names: bool = False, inside: bool = True) -> str:
    """A script for the program to begin with: its helper, or its SFTP server, finds the disk full, ``inside`` the
    switch or from its beginning; by no ``way`` at all, the program itself does.

    From the ``at``-th time on creating and writing fails there, with ``names`` renaming as well. The file ``mark``
    tells that it has come to that.
    """
    form = {"php": _PHP, "sftp": _SFTP}.get(way, _PYTHON)

    def word(value: bool) -> str:
        return str(value).lower() if way == "php" else str(value)

    values = {"at": str(at), "mark": mark, "all": word(names), "inside": word(inside)}
    for name, value in values.items():
        form = form.replace(f"__{name}__", value)
    if way in ("sftp", ""):
        return form
    return (
        "from vetrin.remote import executor, helper_scripts\n"
        "from vetrin.remote.ssh import helper_client\n"
        "real = helper_scripts.source\n"
        "def source(name):\n"
        "    text = real(name)\n"
        f"    form = {form!r}.encode()\n"
        "    if name.endswith('.py'):\n"
        "        return form + text\n"
        # Functions of PHP give way to those of the same name in one's own namespace; classes do not.
        "    for kind in (b'Exception', b'SQLite3', b'Throwable'):\n"
        "        for word in (b'extends ', b'catch (', b'new '):\n"
        "            text = text.replace(word + kind, word + bytes([92]) + kind)\n"
        "    text = text.replace(b'SQLite3::', bytes([92]) + b'SQLite3::')\n"
        "    for name in (b'path_of', b'place', b'escaped', b'v_'):\n"
        '        text = text.replace(b"\'" + name + b"\'", b"\'Faulty" + bytes([92]) + name + b"\'")\n'
        "    return b'<?php namespace Faulty;' + form + text[5:]\n"
        "helper_client.source = executor.source = source\n"
    )
