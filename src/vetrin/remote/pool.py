"""A host as it can be worked with: by which ways, and why by these."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from ..config import Environment, Host
from ..errors import (
    ConnectionFailed,
    ConnectionLost,
    DatabaseUnreachable,
    ForwardingForbidden,
    PortClosed,
    ReachError,
)
from ..files import Machine, RemotePath

if TYPE_CHECKING:
    # The SSH library is loaded only where a host is reached.
    from .ssh import Helpers, Line, Prompter


@dataclass
class RemoteHost:
    """One host. ``helpers`` is None where there is only SFTP, for the reason ``why``; ``ways`` says, by
    what is reached, how that is done."""

    line: Line
    machine: Machine
    helpers: Helpers | None
    why: str = ""
    ways: dict[str, str] = field(default_factory=dict)
    _forwards: bool = True

    def place(self, path: str) -> RemotePath:
        """A path as vetrin.toml gives it: absolute, or below the home of the account."""
        if path.startswith("/"):
            return RemotePath(self.machine, path.rstrip("/") or "/")
        home = self.helpers.hello.home if self.helpers else self.machine.real(".")
        return RemotePath(self.machine, home) / path.removeprefix("~/").removeprefix("~")

    def load(self) -> float:
        """How many processes wait for each processor of the host; 0 where it does not say."""
        if self.helpers is None:
            return 0.0
        try:
            with self.helpers.one() as frames:
                said = frames.ask("load")
        except Exception:  # whatever it is, it is met again where it matters
            return 0.0
        return float(said["load"]) / max(1, int(said["processors"]))

    def dial(self, name: str, port: int, socket: str | None) -> Any:
        """A connection to a database server as seen from the host.

        Raises:
            DatabaseUnreachable: nothing answers there, or the host permits no way to it.
        """
        # The SSH library is loaded only where a host is reached.
        from .ssh import Socket

        where = socket or f"{name}:{port}"
        try:
            if self._forwards:
                try:
                    pipe = self.line.dial_socket(socket) if socket else self.line.dial(name, port)
                    self.ways["database"] = f"{where}, through a channel of the connection"
                    return Socket(pipe)
                except ForwardingForbidden:
                    self._forwards = False
                except PortClosed:
                    # Of a socket the host does not say whether it may not be reached or is not there.
                    if not socket or self.helpers is None:
                        raise
            if self.helpers is None:
                raise DatabaseUnreachable(
                    f"{self.line.account} forbids forwarding, and has no shell to reach {where} with "
                    f"({self.why})",
                    "let the host's SSH server permit forwarding to the database, or give the account "
                    "a shell with Python 3 or PHP",
                )
            if socket:
                pipe = self.helpers.relay(socket=socket)
            else:
                pipe = self.helpers.relay(name=name, port=port)
            self.ways["database"] = f"{where}, through the helper, for forwarding is forbidden"
            return Socket(pipe)
        except ConnectionLost as error:
            raise DatabaseUnreachable(str(error), error.remedy) from error
        except ConnectionFailed as error:
            remedy = (
                "check the database's host in the site's configuration, and that the server runs"
            )
            if socket and self.helpers is None:
                remedy += "; the host's SSH server may also forbid forwarding to it"
            raise DatabaseUnreachable(f"{self.line.account}, {where}: {error}", remedy) from error


class Hosts:
    """The hosts that this process works with. ``asker`` is who is asked for what a connection needs,
    ``rate`` a limit in bytes per second that goes before that of an environment."""

    def __init__(self) -> None:
        self._known: dict[Host, RemoteHost] = {}
        self.asker: Prompter | None = None
        self.rate: int | None = None

    def of(self, environment: Environment) -> RemoteHost:
        """The host of a remote environment, connected.

        Raises:
            ReachError: it cannot be reached.
        """
        assert environment.host is not None
        gentle = environment.role == "production"
        return self.at(environment.host, environment.name, rate=environment.rate, gentle=gentle)

    def at(
        self, host: Host, name: str, *, rate: int | None = None, gentle: bool = False
    ) -> RemoteHost:
        """A host, connected; ``name`` is who is said to be there where it cannot be reached.

        Raises:
            ReachError: it cannot be reached.
        """
        # The SSH library is loaded only where a host is reached.
        from .ssh import lines

        known = self._known.get(host)
        if known is not None and known.line.alive:
            return known
        if self.asker is not None:
            lines.asker = self.asker
        try:
            line = lines.to(host)
            line.pace.rate = self.rate or rate
            line.open()
            found = _landed(line, gentle=gentle)
        except ConnectionFailed as error:
            reached = ReachError(name, "host", str(error), error.remedy)
            raise reached from error
        self._known[host] = found
        return found

    def forget(self) -> None:
        """Close all; what is needed again is connected anew."""
        for far in self._known.values():
            if far.helpers is not None:
                far.helpers.close()
        if self._known:
            # The SSH library is loaded only where a host is reached.
            from .ssh import lines

            lines.close()
        self._known.clear()


def _landed(line: Line, *, gentle: bool) -> RemoteHost:
    # The SSH library is loaded only where a host is reached.
    from .ssh import HelperMachine, Helpers, NoHelper, SftpMachine

    try:
        helpers = Helpers(line, gentle=gentle)
    except NoHelper as error:
        try:
            return RemoteHost(line, SftpMachine(line), None, str(error), {"files": "SFTP"})
        except ConnectionLost:
            raise
        except Exception as problem:
            raise ConnectionFailed(
                f"{line.account} offers neither SFTP ({problem}) nor a shell with Python 3 or PHP",
                "let the host's SSH server offer SFTP",
            ) from problem
    way = f"a helper in {helpers.hello.form}"
    return RemoteHost(line, HelperMachine(helpers), helpers, "", {"files": way})


hosts = Hosts()
