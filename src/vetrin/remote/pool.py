"""The hosts that a command works with, each connected once, by whatever reach its address names."""

from __future__ import annotations

from collections.abc import Mapping
from importlib import import_module
from typing import Self, cast

from ..config import Environment, Host, RelayHost
from ..errors import ConnectionFailed, ReachError, described
from .base import Prompter, Reach, RemoteHost

# By the scheme of a host's address, the module whose ``reach`` makes one; loaded only where a host has that scheme,
# as libraries for a network take long to load.
REACHES = {"ssh": "ssh.host", "relay": "relay.host"}


class Hosts:
    """Connects to hosts, and closes all of them in the end; threads may share it, and it can be used again after
    ``close``.

    ``prompter`` is asked for what a connection needs, where it is given. ``rate`` is a limit in bytes per second that
    goes before that of an environment, ``usual_rate`` one that counts where neither says anything. ``reaches`` go
    before those of ``REACHES``.
    """

    def __init__(
        self,
        prompter: Prompter | None = None,
        *,
        rate: int | None = None,
        usual_rate: int | None = None,
        reaches: Mapping[str, Reach] | None = None,
    ) -> None:
        self._known: dict[Host | RelayHost, RemoteHost] = {}
        self._reaches = dict(reaches or {})
        self._prompter = prompter
        self._rate = rate
        self._usual_rate = usual_rate

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        self.close()

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
                host,
                rate=self._rate or rate or self._usual_rate,
                gentle=gentle,
                prompter=self._prompter,
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
            self._reaches[scheme] = cast(Reach, module.reach())
        return self._reaches[scheme]

    def close(self) -> None:
        """Close all; what is needed again is connected anew."""
        for remote_host in self._known.values():
            remote_host.close()
        for reach in self._reaches.values():
            reach.close()
        self._known.clear()
