"""Hosts reached over SSH: which transports each permits, and why these are used."""

from __future__ import annotations

import contextlib
import secrets
import shlex
from collections.abc import Sequence
from typing import Any, cast

from ...config import Host, RelayHost
from ...errors import (
    ConnectionFailed,
    ConnectionLost,
    DatabaseUnreachable,
    ForwardingForbidden,
    PortClosed,
)
from ...files import LookedMachine, Machine, RemotePath
from ..base import Measures, Prompter
from ..helper_machine import HelperMachine
from .channel import Pipe, PrintingSocket, Socket
from .connection import Line, Lines
from .helper_client import Helpers, NoHelper
from .sftp import SftpMachine

_VERSION = 20.0  # seconds in which a program says its version
_LONGEST = 200  # bytes of what it says


class SshHost:
    """Implements ``RemoteHost``. ``helpers`` is None where there is only SFTP, for the reason ``why``."""

    def __init__(
        self, line: Line, machine: Machine, helpers: Helpers | None, why: str = ""
    ) -> None:
        self.host: Host | RelayHost = line.host
        self.machine = cast(Machine, LookedMachine(machine))
        self.helpers = helpers
        self.ways = {
            "files": f"a helper in {helpers.hello.form}" if helpers is not None else "SFTP"
        }
        self._line = line
        self._why = why
        self._forwards = True

    @property
    def account(self) -> str:
        return self._line.account

    @property
    def alive(self) -> bool:
        return self._line.alive

    @property
    def runs_processes(self) -> bool:
        return self.helpers is not None

    @property
    def resolves_names(self) -> bool:
        return False

    def place(self, path: str) -> RemotePath:
        if path.startswith("/"):
            return RemotePath(self.machine, path.rstrip("/") or "/")
        home = self.helpers.hello.home if self.helpers else self.machine.real(".")
        return RemotePath(self.machine, home) / path.removeprefix("~/").removeprefix("~")

    def load(self) -> float:
        if self.helpers is None:
            return 0.0
        try:
            with self.helpers.one() as frames:
                said = frames.ask("load")
        except Exception:  # whatever it is, it is met again where it matters
            return 0.0
        return float(said["load"]) / max(1, int(said["processors"]))

    def version_of(self, command: Sequence[str]) -> str | None:
        try:
            pipe = self._line.command(shlex.join(command))
        except ConnectionFailed:  # whatever it is, it is met again where it matters
            return None
        pipe.settimeout(_VERSION)
        said = bytearray(_LONGEST)
        size = 0
        try:
            while size < len(said) and (came := pipe.take_into(memoryview(said)[size:])):
                size += came
        except (ConnectionLost, TimeoutError):
            return None
        finally:
            pipe.close()
        return said[:size].decode("utf-8", "replace").strip() or None

    def process(self) -> Pipe:
        assert self.helpers is not None
        return self.helpers.session()[1]

    def expect_bulk(self) -> None:
        if self.helpers is not None:
            self.helpers.expect_bulk()

    def sqlite_opener(self) -> Any:
        # An engine's library is loaded only where a site needs it.
        from ..copied_sqlite import CopyOpener
        from .sqlite import HelperOpener

        if self.helpers is None:
            self.ways["database"] = "a copy of its file, for reading only"
            return CopyOpener(self.machine, self.account, self.host.name)
        self.ways["database"] = f"its file, by SQLite {self.helpers.hello.sqlite} in the helper"
        return HelperOpener(self.helpers, self.machine)

    @property
    def tells_prints(self) -> bool:
        return self.helpers is not None and self.helpers.hello.prints

    def dial(
        self,
        name: str,
        port: int,
        socket: str | None,
        *,
        bulk: bool = False,
        prints: bool = False,
    ) -> Any:
        where = socket or f"{name}:{port}"
        if prints and self.tells_prints and self.helpers is not None:
            # What is wrong with that way is told on the usual one.
            with contextlib.suppress(ConnectionFailed):
                word = secrets.token_bytes(16)
                pipe = self.helpers.relay(bulk=bulk, word=word.hex(), **_there(name, port, socket))
                return PrintingSocket(pipe, word)
        try:
            pipe, way = self._dialled(name, port, socket, where, bulk)
        except ConnectionLost as error:
            raise DatabaseUnreachable(str(error), error.remedy) from error
        except ConnectionFailed as error:
            remedy = (
                "check the database's host in the site's configuration, and that the server runs"
            )
            if socket and self.helpers is None:
                remedy += "; the host's SSH server may also forbid forwarding to it"
            raise DatabaseUnreachable(f"{self.account}, {where}: {error}", remedy) from error
        self.ways["database"] = f"{where}, through {way}"
        return Socket(pipe)

    def _dialled(
        self, name: str, port: int, socket: str | None, where: str, bulk: bool
    ) -> tuple[Pipe, str]:
        """A pipe to a database server, and through what it leads."""
        if self._forwards:
            try:
                line = self._line
                pipe = (
                    line.dial_socket(socket, bulk=bulk)
                    if socket
                    else line.dial(name, port, bulk=bulk)
                )
            except ForwardingForbidden:
                self._forwards = False
            except PortClosed:
                # Of a socket the host does not say whether it may not be reached or is not there.
                if not socket or self.helpers is None:
                    raise
            else:
                return pipe, "a channel of the connection"
        if self.helpers is None:
            raise DatabaseUnreachable(
                f"{self.account} forbids forwarding, and has no shell to reach {where} with ({self._why})",
                "let the host's SSH server permit forwarding to the database, or give the account "
                "a shell with Python 3 or PHP",
            )
        pipe = self.helpers.relay(bulk=bulk, **_there(name, port, socket))
        return pipe, "the helper, for forwarding is forbidden"

    def measured(self) -> Measures:
        line = self._line
        return Measures(
            latency=line.latency,
            rate=line.rate,
            compresses=line.slow,
            limit=line.pace.rate,
            moved=line.pace.moved,
        )

    @property
    def findings(self) -> tuple[tuple[str, str], ...]:
        return ()

    @property
    def file_way(self) -> str:
        if self.helpers is None:
            return f"by SFTP alone, which takes longer; no helper: {self._why}"
        form = self.helpers.hello.form
        return f"through a helper in {form}, sent for as long as the connection lasts"

    def close(self) -> None:
        if self.helpers is not None:
            self.helpers.close()


def _there(name: str, port: int, socket: str | None) -> dict[str, Any]:
    """A port or a socket as a helper is told of it."""
    return {"socket": socket} if socket else {"name": name, "port": port}


class SshReach:
    """Implements ``Reach``."""

    def __init__(self) -> None:
        self._lines = Lines()

    def connect(
        self, host: Host | RelayHost, *, rate: int | None, gentle: bool, prompter: Prompter | None
    ) -> SshHost:
        assert isinstance(host, Host)
        if prompter is not None:
            self._lines.asker = prompter
        line = self._lines.to(host)
        line.pace.rate = rate
        line.open()
        try:
            helpers = Helpers(line, gentle=gentle)
        except NoHelper as error:
            return self._by_sftp(line, str(error))
        return SshHost(line, HelperMachine(helpers), helpers)

    def _by_sftp(self, line: Line, why: str) -> SshHost:
        try:
            return SshHost(line, SftpMachine(line), None, why)
        except ConnectionLost:
            raise
        except Exception as problem:
            raise ConnectionFailed(
                f"{line.account} offers neither SFTP ({problem}) nor a shell with Python 3 or PHP",
                "let the host's SSH server offer SFTP",
            ) from problem

    def close(self) -> None:
        self._lines.close()


reach = SshReach
