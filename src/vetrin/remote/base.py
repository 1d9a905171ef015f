"""What every way to other machines offers. A further one is a package, and a line in ``pool.REACHES``."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, Protocol

from msgspec import Struct

from ..config import Host, RelayHost
from ..files import Machine, RemotePath

if TYPE_CHECKING:
    # An engine's library is loaded only where a site needs it.
    from ..database.sqlite.database import Opener
    from .executor import ChannelToClose


class Prompter(Protocol):
    """Asks the person at the terminal."""

    def trusts(self, host: str, kind: str, fingerprint: str) -> bool:
        """True if a host's key, seen for the first time, is the right one."""

    def secret(self, question: str) -> str | None:
        """A password or passphrase, typed without being shown; None where there is none."""


class Nobody:
    """There is no terminal: nothing is trusted, nothing known."""

    def trusts(self, host: str, kind: str, fingerprint: str) -> bool:
        return False

    def secret(self, question: str) -> str | None:
        return None


class Measures(Struct, frozen=True):
    """A connection: a round trip in seconds, bytes per second (0 where nothing was measured yet), whether what
    shrinks is compressed, the limit in bytes per second that it keeps to, and the bytes that went over it so far."""

    latency: float
    rate: float
    compresses: bool
    limit: int | None
    moved: int = 0


class RemoteHost(Protocol):
    """A connected host and the transports in use.

    ``host`` is what vetrin.toml calls it, ``account`` how messages name it. ``ways`` says, by what is reached
    (``files``, ``database``), how that is done. ``runs_processes``: a process of ours can run there.
    A connection that is lost raises ConnectionLost, or a FilesError that is ``lost``.
    """

    host: Host | RelayHost
    ways: dict[str, str]

    @property
    def account(self) -> str:
        """How messages name it: the user and the host."""

    @property
    def machine(self) -> Machine:
        """Its files."""

    @property
    def alive(self) -> bool:
        """False once the connection is known to be lost."""

    @property
    def runs_processes(self) -> bool:
        """True where a process of ours can run there."""

    @property
    def resolves_names(self) -> bool:
        """True where "localhost", as the host of a database, is what the site itself means by it."""

    def place(self, path: str) -> RemotePath:
        """A path as vetrin.toml gives it: absolute, or below the home of the account."""

    def load(self) -> float:
        """How many processes wait for each processor of the host; 0 where it does not say."""

    def version_of(self, command: Sequence[str]) -> str | None:
        """What a command that prints the version of a program prints there; None where nothing tells it. A host that
        runs no command may know it otherwise."""

    @property
    def tells_prints(self) -> bool:
        """True where a connection with ``prints`` can tell the prints of rows in place of them."""

    def dial(
        self, name: str, port: int, socket: str | None, *, bulk: bool = False, prints: bool = False
    ) -> Any:
        """A connection to a database server as seen from the host; ``bulk``: for many bytes, where a slow line is
        worth compressing them; ``prints``: by a way that can tell the prints of rows, if there is one.

        Raises:
            DatabaseUnreachable: nothing answers there, or the host permits no way to it.
        """

    def expect_bulk(self) -> None:
        """Many bytes will be asked for soon: what that takes is made meanwhile, where nobody has to be asked."""

    def sqlite_opener(self) -> Opener:
        """What opens SQLite files there."""

    def process(self) -> ChannelToClose:
        """A process of our helper there, for one switch; only where ``runs_processes``.

        Raises:
            ConnectionFailed: it does not come.
        """

    def measured(self) -> Measures:
        """What is known of the connection by now."""

    @property
    def findings(self) -> Sequence[tuple[str, str]]:
        """For a person: what limits it has, and what follows, each with a word of what it is about."""

    @property
    def file_way(self) -> str:
        """For a person: which way files take, and why."""

    def close(self) -> None:
        """Let go of what was begun there; the connection is the reach's."""


class Reach(Protocol):
    """A kind of way to other machines."""

    def connect(
        self, host: Host | RelayHost, *, rate: int | None, gentle: bool, prompter: Prompter | None
    ) -> RemoteHost:
        """A connected host. ``rate`` is a limit in bytes per second; with ``gentle``, what runs there gives way to
        all else.

        Raises:
            ConnectionFailed: it cannot be reached.
        """

    def close(self) -> None:
        """Close all connections; what is needed again is connected anew."""
