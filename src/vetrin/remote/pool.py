"""The hosts that a command works with, each connected once, by whatever reach its address names."""

from __future__ import annotations

from importlib import import_module
from typing import cast

from ..config import Environment, Host, RelayHost
from ..errors import ConnectionFailed, ReachError, described
from .base import Prompter, Reach, RemoteHost

# By the scheme of a host's address, the module with its ``reach``; loaded only where a host has that scheme, as
# libraries for a network take long to load.
REACHES = {"ssh": "ssh.host", "relay": "relay.host"}


class Hosts:
    """The hosts that this process works with. ``asker`` is who is asked for what a connection needs,
    ``rate`` a limit in bytes per second that goes before that of an environment, ``usual_rate`` one that counts
    where neither says anything."""

    def __init__(self) -> None:
        self._known: dict[Host | RelayHost, RemoteHost] = {}
        self._reaches: dict[str, Reach] = {}
        self.asker: Prompter | None = None
        self.rate: int | None = None
        self.usual_rate: int | None = None

    def of(self, environment: Environment) -> RemoteHost:
        """The host of a remote environment, connected.

        Raises:
            ReachError: it cannot be reached.
        """
        assert environment.host is not None
        gentle = environment.role == "production"
        return self.at(environment.host, environment.name, rate=environment.rate, gentle=gentle)

    def at(
        self, host: Host | RelayHost, name: str, *, rate: int | None = None, gentle: bool = False
    ) -> RemoteHost:
        """A host, connected; ``name`` is who is said to be there where it cannot be reached.

        Raises:
            ReachError: it cannot be reached.
        """
        known = self._known.get(host)
        if known is not None and known.alive:
            return known
        try:
            found = self._reach(host.scheme).connect(
                host, rate=self.rate or rate or self.usual_rate, gentle=gentle, prompter=self.asker
            )
        except ConnectionFailed as error:
            raise ReachError(name, "host", str(error), error.remedy) from error
        self._known[host] = found
        return found

    def _reach(self, scheme: str) -> Reach:
        if scheme not in self._reaches:
            try:
                module = import_module(f"{__package__}.{REACHES[scheme]}")
            except OSError as error:  # it may need a folder for temporary files when it is loaded
                raise ConnectionFailed(
                    f"what speaks {scheme} cannot be loaded: {described(error)}",
                    "see that there is room in the folder for temporary files",
                ) from error
            self._reaches[scheme] = cast(Reach, module.reach)
        return self._reaches[scheme]

    def forget(self) -> None:
        """Close all; what is needed again is connected anew."""
        for remote_host in self._known.values():
            remote_host.close()
        for reach in self._reaches.values():
            reach.close()
        self._known.clear()


hosts = Hosts()
