"""Hosts reached through a relay."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any, cast

import httpx

from ...config import Host, RelayHost, relay_key, relay_variable, web_password
from ...errors import ConnectionFailed, DatabaseUnreachable
from ...files import LookedMachine, Machine, RemotePath
from ..base import Measures, Prompter
from ..executor import ChannelToClose
from ..helper_machine import Hello
from ..helper_protocol import ExchangeError, Frames, unescaped
from ..web import trusted
from .exchange import AGENT, Exchange, Place, RelayChannel
from .machine import RelayHelpers, RelayMachine
from .mysql import RelayedConnection, RelayedServer, where_of
from .sealing import RelayKey

_SOCKETS = "stream_socket_client"  # by which PHP opens connections
# What follows where PHP lacks a function.
_LACKING = {
    _SOCKETS: "the database is asked by its own library, and rows go up by INSERT alone; both take longer",
    "mysqli_init": "it has no library of its own for MariaDB and MySQL",
    "symlink": "links stay behind",
    "disk_free_space": "nothing tells how much room there is",
    "gzcompress": "nothing is compressed",
    "opcache_invalidate": "changed code may be run as it was for some seconds",
}
_PROBE = 1 << 18  # bytes that measure the line


@dataclasses.dataclass(frozen=True)
class Found:
    """What a relay said of its host. Sizes are in bytes, -1 for no limit; ``seconds`` are those of PHP for one
    request, 0 for no limit; ``without`` are functions that PHP lacks there; ``owner`` is that of the relay's file,
    ``user`` PHP's."""

    form: str
    root: str
    own: str
    software: str
    seconds: int
    memory: int
    post: int
    basedir: bool
    without: tuple[str, ...]
    sealed: str
    writes: bool
    writable: bool
    until: int
    user: int
    owner: int


def open_exchange(
    address: RelayHost, key: RelayKey | None = None, *, rate: int | None = None
) -> Exchange:
    """What asks a relay.

    Raises:
        ConnectionFailed: its key is not there, or cannot be used.
    """
    if key is None:
        key = known_key(address.environment)
    auth = None
    if address.web.user:
        auth = httpx.BasicAuth(address.web.user, web_password(address.environment) or "")
    client = httpx.Client(
        auth=auth,
        headers={
            "user-agent": AGENT,
            "accept-encoding": "identity",
            "content-type": "application/octet-stream",
        },
        verify=trusted(address.web, address.environment, address.url),
        limits=httpx.Limits(max_keepalive_connections=4, keepalive_expiry=4.0),
    )
    return Exchange(
        Place(
            url=address.url,
            name=str(address),
            client=client,
            environment=address.environment,
            user=address.web.user,
        ),
        key,
        rate=rate,
    )


def known_key(environment: str) -> RelayKey:
    """The key of an environment's relay. Raises ConnectionFailed where it is not known."""
    text = relay_key(environment)
    where = f"it comes from {relay_variable(environment)} or the keyring (service vetrin, user {environment}-relay)"
    if not text:
        raise ConnectionFailed(
            f"the key of the relay of {environment} is not known",
            f"{where}; vetrin relay {environment} makes a new relay with a new key",
        )
    try:
        return RelayKey.parse(text)
    except ValueError as error:
        raise ConnectionFailed(
            f"the key of the relay of {environment} is none: {error}", where
        ) from None


class RelayedHost:
    """Implements ``RemoteHost``."""

    def __init__(self, address: RelayHost, exchange: Exchange, said: dict[str, Any]) -> None:
        self.host: Host | RelayHost = address
        self.exchange = exchange
        hello = Hello.of(said)
        self.found = Found(
            form=said["form"],
            root=unescaped(said["home"]),
            own=unescaped(said["own"]),
            software=str(said["software"]),
            seconds=int(said["seconds"]),
            memory=int(said["memory"]),
            post=int(said["post"]),
            basedir=bool(said["basedir"]),
            without=tuple(map(str, said["without"])),
            sealed=str(said["sealed"]),
            writes=bool(said["writes"]),
            writable=bool(said["writable"]),
            until=int(said["until"]),
            user=int(said["user"]),
            owner=int(said["owner"]),
        )
        self._helpers = RelayHelpers(exchange, hello)
        self.machine = cast(Machine, LookedMachine(RelayMachine(self._helpers)))
        self.ways = {"files": f"a relay, by {hello.form}"}
        self._servers: dict[tuple[str, int, str | None], RelayedServer] = {}

    @property
    def account(self) -> str:
        return self.exchange.place.name

    @property
    def alive(self) -> bool:
        return self.exchange.alive

    @property
    def runs_processes(self) -> bool:
        return False

    @property
    def resolves_names(self) -> bool:
        return True

    def place(self, path: str) -> RemotePath:
        return RemotePath(self.machine, self.found.root) / path

    def load(self) -> float:
        try:
            said = Frames(RelayChannel(self.exchange)).ask("load")
        except Exception:  # whatever it is, it is met again where it matters
            return 0.0
        return float(said["load"]) / max(1, int(said["processors"]))

    def version_of(self, command: Sequence[str]) -> str | None:
        # Nothing is run there; what runs the relay runs the site.
        language, _, version = self.found.form.partition(" ")
        return version if command and language.lower() == command[0] else None

    @property
    def tells_prints(self) -> bool:
        return False

    def dial(
        self, name: str, port: int, socket: str | None, *, bulk: bool = False, prints: bool = False
    ) -> Any:
        key = name, port, socket
        where = socket or f"{name}:{port}"
        if key not in self._servers:
            try:
                self._servers[key] = RelayedServer(
                    self.exchange,
                    where_of(name, port, socket),
                    loads=_SOCKETS not in self.found.without,
                )
            except (ConnectionFailed, ExchangeError) as error:
                raise DatabaseUnreachable(
                    f"{self.account}, {where}: {error}",
                    "check the database's host in the site's configuration, and that the server runs",
                ) from error
        self.ways["database"] = f"{where}, by the relay, a request for each statement"
        return RelayedConnection(self._servers[key])

    def expect_bulk(self) -> None:
        return  # each request is a connection of its own

    def sqlite_opener(self) -> Any:
        # An engine's library is loaded only where a site needs it.
        from ..copied_sqlite import CopyOpener

        self.ways["database"] = "a copy of its file, for reading only"
        return CopyOpener(self.machine, self.account, self.host.name)

    def process(self) -> ChannelToClose:
        raise ConnectionFailed(f"{self.account}: no process of ours runs there")

    def measured(self) -> Measures:
        exchange = self.exchange
        return Measures(
            latency=exchange.latency,
            rate=exchange.rate,
            compresses=exchange.slow,
            limit=exchange.pace.rate,
            moved=exchange.pace.moved,
        )

    @property
    def findings(self) -> tuple[tuple[str, str], ...]:
        found, limits = self.found, self.exchange.limits
        until = datetime.fromtimestamp(found.until, UTC).strftime("%Y-%m-%d %H:%M")
        says = [
            f"{'reads and writes' if found.writes else 'reads only'}, until {until} UTC; sealed by {found.sealed}"
        ]
        seconds = f"{found.seconds} s" if found.seconds else "no limit of time"
        memory = f"{found.memory >> 20} MB" if found.memory > 0 else "no limit of memory"
        says.append(
            f"PHP has {seconds} and {memory}; a request works for {limits.seconds:.0f} s at most, and brings "
            f"{min(limits.answer, found.memory // 8 if found.memory > 0 else limits.answer) / 1e6:.1f} MB"
        )
        if found.basedir:
            says.append("open_basedir holds PHP to some folders: looking at files takes longer")
        if found.writes and found.user >= 0 and found.owner >= 0 and found.user != found.owner:
            says.append(
                "PHP runs as another account than that of the files: what it writes belongs to its own"
            )
        says += [
            f"PHP lacks {name}: {_LACKING[name]}" for name in found.without if name in _LACKING
        ]
        return ("relay", says[0]), *(("limits", text) for text in says[1:])

    @property
    def file_way(self) -> str:
        return f"through the relay, {self.found.form} in {self.found.software or 'a web server'}"

    def close(self) -> None:
        self.exchange.alive = False
        self.exchange.bye()
        self.exchange.place.client.close()


class RelayReach:
    """Implements ``Reach``."""

    def connect(
        self, host: Host | RelayHost, *, rate: int | None, gentle: bool, prompter: Prompter | None
    ) -> RelayedHost:
        assert isinstance(host, RelayHost)
        exchange = open_exchange(host, rate=rate)
        said = exchange.hello()
        exchange.measure(_PROBE)
        return RelayedHost(host, exchange, said)

    def close(self) -> None:
        return


reach = RelayReach
