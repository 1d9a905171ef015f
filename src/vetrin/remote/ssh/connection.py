"""Connections to other machines over SSH, made when they are needed and shared by all who need them.

The library is asyncssh. Its event loop runs in a thread of its own; everybody else works with pipes and
waits. A connection is opened with what the user's SSH configuration says of the host.
"""

from __future__ import annotations

import asyncio
import atexit
import contextlib
import logging
import sys
import threading
import time
from collections.abc import Awaitable, Coroutine
from pathlib import Path
from typing import Any, TypeVar, cast

import asyncssh

from ...config.host import Host
from ...errors import ConnectionFailed, ConnectionLost, ForwardingForbidden, PortClosed
from ..base import Nobody, Prompter
from ..pace import Pace
from .auth import Login, passphrase_of
from .channel import Pipe

Result = TypeVar("Result")

# Ciphers for which processors have instructions, before all others.
_CIPHERS = "^aes128-gcm@openssh.com,aes256-gcm@openssh.com"
_CONFIGURATIONS = ("~/.ssh/config", "/etc/ssh/ssh_config")
_CONNECT = 20.0  # seconds
_LOGIN = 120.0  # a person may have to type
_ALIVE = 15.0  # seconds between two questions whether the other side is still there
_WINDOW = 2 << 20  # bytes that the other side may send before they are taken


class _Loop:
    """The event loop in its thread."""

    def __init__(self) -> None:
        self.loop = asyncio.new_event_loop()
        # It warns on its own of what is written to a line that broke, which is told as an error in its place.
        logging.getLogger("asyncio").setLevel(logging.ERROR)
        # Of blocks asked for at once, the first that fails is told; the others have nothing to add.
        self.loop.set_exception_handler(
            lambda loop, context: (
                None if "future" in context else loop.default_exception_handler(context)
            )
        )
        # Whoever waits for the loop is let in after half a millisecond, not after Python's usual five:
        # otherwise each block would wait that long.
        sys.setswitchinterval(0.0005)
        self._thread = threading.Thread(target=self.loop.run_forever, name="ssh", daemon=True)
        self._thread.start()

    def run(self, work: Coroutine[Any, Any, Result]) -> Result:
        return asyncio.run_coroutine_threadsafe(work, self.loop).result()

    def stop(self) -> None:
        self.loop.call_soon_threadsafe(self.loop.stop)
        self._thread.join(5)


class Line:
    """One host. The connection is made with the first thing that needs it.

    ``latency`` is a round trip in seconds, ``rate`` bytes per second as far as measured. Where the line
    is slow, a second connection, which compresses, serves what asks for it.

    Raises:
        ConnectionFailed: from everything, where the host cannot be reached; ConnectionLost once it was.
    """

    def __init__(self, host: Host, loop: _Loop, asker: Prompter) -> None:
        self.host = host
        self.pace = Pace()
        self.latency = 0.0
        self.rate = 0.0
        self.account = str(host).removeprefix("ssh://")
        self._loop = loop
        self._asker = asker
        self._connections: dict[bool, asyncssh.SSHClientConnection] = {}
        self._opening = {packed: threading.Lock() for packed in (False, True)}
        self._closed = False
        self.asked = False  # somebody, to let us in

    def open(self) -> None:
        """Make the connection, if there is none."""
        self._connection(False)

    @property
    def slow(self) -> bool:
        """True where it is worth while to compress."""
        return self.pace.is_slow(self.rate)

    def command(self, text: str, *, packed: bool = False) -> Pipe:
        """Run a command on the host's shell."""
        connection = self._connection(packed)

        async def begin() -> Pipe:
            _, pipe = await connection.create_session(
                lambda: self._pipe(packed), text, encoding=None, window=_WINDOW, request_pty=False
            )
            return pipe  # type: ignore[return-value]

        return self.run(begin())

    def dial(self, name: str, port: int, *, bulk: bool = False) -> Pipe:
        """Connect to a port as seen from the host; ``bulk``: for many bytes.

        Raises:
            ForwardingForbidden: the host permits no forwarding.
        """
        packed = bulk and self.slow
        opening = self._connection(packed).create_connection(
            lambda: self._tunnel(packed), name, port, window=_WINDOW
        )
        return self.run(self._channel(opening))

    def dial_socket(self, path: str, *, bulk: bool = False) -> Pipe:
        """Connect to a socket of the host. Raises as ``dial``."""
        packed = bulk and self.slow
        opening = self._connection(packed).create_unix_connection(
            lambda: self._tunnel(packed), path, window=_WINDOW
        )
        return self.run(self._channel(opening))

    async def _channel(self, opening: Coroutine[Any, Any, Any]) -> Pipe:
        try:
            _, pipe = await opening
        except asyncssh.ChannelOpenError as error:
            if error.code == asyncssh.OPEN_ADMINISTRATIVELY_PROHIBITED:
                raise ForwardingForbidden("the host forbids forwarding") from error
            raise PortClosed(error.reason) from error
        return pipe  # type: ignore[no-any-return]

    def sftp(self) -> asyncssh.SFTPClient:
        connection = self._connection(False)
        return self.run(awaited(connection.start_sftp_client()))

    def run(self, work: Coroutine[Any, Any, Result]) -> Result:
        """Do something in the loop's thread and wait for it.

        Raises:
            ConnectionLost: the connection was lost meanwhile.
        """
        try:
            return self._loop.run(work)
        except (asyncssh.ConnectionLost, ConnectionError, asyncssh.SFTPConnectionLost) as error:
            raise ConnectionLost(f"{self.account}: the connection was lost") from error
        except asyncssh.ChannelOpenError as error:
            if not self.alive:
                raise ConnectionLost(f"{self.account}: the connection was lost") from error
            # Some hosts permit no commands, or no more of them at a time.
            raise PortClosed(
                f"{self.account} refuses it: {_one_line(error)}",
                "see what the host's SSH server permits",
            ) from error

    @property
    def alive(self) -> bool:
        connection = self._connections.get(False)
        return connection is not None and not connection.is_closed()

    def close(self) -> None:
        self._closed = True
        for connection in [*self._connections.values()]:
            with contextlib.suppress(OSError, asyncssh.Error):
                self._loop.run(_closed(connection))
        self._connections.clear()

    @property
    def loop(self) -> asyncio.AbstractEventLoop:
        return self._loop.loop

    def _pipe(self, bulk: bool) -> Pipe:
        return Pipe(self._loop.loop, self.pace, bulk=bulk)

    def _tunnel(self, bulk: bool) -> Any:
        return self._pipe(bulk)  # to the library, connections to ports are of another kind

    def _connection(self, packed: bool) -> asyncssh.SSHClientConnection:
        with self._opening[packed]:
            there = self._connections.get(packed)
            if there is None or there.is_closed():
                there = self._connections[packed] = self._open(packed)
                if self._closed:  # while it was made
                    there.abort()
            return there

    def _open(self, packed: bool) -> asyncssh.SSHClientConnection:
        where, options = self._options()
        # Where the configuration names none, or wants none: a host is never believed unseen.
        known: Any = options.known_hosts or [str(_expanded("~/.ssh/known_hosts"))]
        account = f"{options.username}@{options.host}"
        asker = _Noting(self._asker)
        login = Login(self.host, asker, known, account)
        more: dict[str, Any] = {}
        if not options.config.get("Ciphers"):
            more["encryption_algs"] = _CIPHERS
        if packed:
            more["compression_algs"] = ["zlib@openssh.com", "zlib", "none"]
        begun = time.monotonic()
        try:
            connection: asyncssh.SSHClientConnection = self._loop.run(
                awaited(
                    asyncssh.connect(
                        **where,
                        **more,
                        client_factory=lambda: login,
                        known_hosts=[path for path in known if _expanded(str(path)).is_file()]
                        or b"",
                        passphrase=passphrase_of(asker),
                        keepalive_interval=_ALIVE,
                        keepalive_count_max=3,
                        connect_timeout=_CONNECT,
                        login_timeout=_LOGIN,
                    )
                )
            )
            self.account = account
            self.latency = self._loop.run(_round_trip(connection))
        except (OSError, asyncssh.Error, ValueError, TimeoutError) as error:
            raise self._failed(error, login, begun) from error
        self.asked = self.asked or asker.asked
        return connection

    def _where(self) -> dict[str, Any]:
        files = [path for path in map(_expanded, _CONFIGURATIONS) if path.is_file()]
        found: dict[str, Any] = {"host": self.host.name, "config": [str(f) for f in files] or None}
        if self.host.user:
            found["username"] = self.host.user
        if self.host.port:
            found["port"] = self.host.port
        return found

    def _options(self) -> tuple[dict[str, Any], Any]:
        """What the user's SSH configuration says. Keys that it names and that are not there are passed over, as long
        as there is another one."""
        where = self._where()
        try:
            return where, asyncssh.SSHClientConnectionOptions(**where)
        except FileNotFoundError as error:
            missing = error.filename
        except (OSError, ValueError, asyncssh.Error) as error:
            raise ConnectionFailed(
                f"{self.host}: {_one_line(error)}",
                "check your SSH configuration and the host in vetrin.toml",
            ) from error
        bare = asyncssh.SSHClientConnectionOptions(**where, client_keys=None)
        named = cast(list[str], bare.config.get("IdentityFile") or [])
        keys = [str(_expanded(str(name))) for name in named if _expanded(str(name)).is_file()]
        if not keys:
            raise ConnectionFailed(
                f"{self.host}: there is no key {missing}, which your SSH configuration names",
                f"correct IdentityFile for {self.host.name} in it",
            )
        where["client_keys"] = keys
        return where, asyncssh.SSHClientConnectionOptions(**where)

    def _failed(self, error: Exception, login: Login, begun: float) -> ConnectionFailed:
        name = self.account
        if login.refused:
            return ConnectionFailed(login.refused, login.remedy)
        if isinstance(error, asyncssh.PermissionDenied):
            return ConnectionFailed(
                f"{name} does not let us in: {_one_line(error)}",
                f"see that `ssh {self.host.user + '@' if self.host.user else ''}{self.host.name}` "
                "works: the same configuration, keys and agent are used",
            )
        if isinstance(error, (TimeoutError, asyncio.TimeoutError)):
            return ConnectionLost(
                f"{name} did not answer within {time.monotonic() - begun:.0f} seconds",
                "check the name and the port, and that the host is up",
            )
        if isinstance(error, OSError):
            return ConnectionLost(
                f"{name} cannot be reached: {error.strerror or error}",
                "check the name and the port, and that the host is up",
            )
        if isinstance(error, (asyncssh.ConnectionLost, asyncssh.DisconnectError)):
            return ConnectionLost(
                f"{name}: {_one_line(error)}", "see what the host's SSH server logs"
            )
        return ConnectionFailed(
            f"{name}: {_one_line(error)}",
            "check your SSH configuration and the host in vetrin.toml",
        )


class _Noting:
    """A prompter of whom it is known whether he was asked anything."""

    def __init__(self, prompter: Prompter) -> None:
        self._prompter = prompter
        self.asked = False

    def trusts(self, host: str, kind: str, fingerprint: str) -> bool:
        self.asked = True
        return self._prompter.trusts(host, kind, fingerprint)

    def secret(self, question: str) -> str | None:
        self.asked = True
        return self._prompter.secret(question)


class Lines:
    """Connections that share a thread, by host. ``asker`` is who is asked where something is."""

    def __init__(self) -> None:
        self.asker: Prompter = Nobody()
        self._loop: _Loop | None = None
        self._lines: dict[Host, Line] = {}

    def to(self, host: Host) -> Line:
        """The line to a host, not opened yet where it is new."""
        if self._loop is None:
            self._loop = _Loop()
            atexit.register(self.close)
        if host not in self._lines:
            self._lines[host] = Line(host, self._loop, self.asker)
        return self._lines[host]

    def close(self) -> None:
        for line in self._lines.values():
            line.close()
        self._lines.clear()
        if self._loop is not None:
            atexit.unregister(self.close)
            self._loop.stop()
            self._loop = None


async def awaited(work: Awaitable[Result]) -> Result:
    return await work


async def _round_trip(connection: asyncssh.SSHClientConnection) -> float:
    """What a question and its answer take, in seconds.

    A channel to a port that is none is refused at once, on any server and for any account.
    """
    begun = time.perf_counter()
    with contextlib.suppress(asyncssh.ChannelOpenError):
        await connection.create_connection(asyncssh.SSHTCPSession, "127.0.0.1", 0)
    return time.perf_counter() - begun


async def _closed(connection: asyncssh.SSHClientConnection) -> None:
    connection.close()
    with contextlib.suppress(asyncio.TimeoutError):
        await asyncio.wait_for(connection.wait_closed(), 3)


def _expanded(path: str) -> Path:
    return Path(path).expanduser()


def _one_line(error: BaseException) -> str:
    return " ".join(str(error).split()) or type(error).__name__
