"""What a run tells while it works. The terminal, the log and the JSON stream listen."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Phase:
    """A new phase begins: look, keep, tables, files, swap, check; read and pack, tables and files, where
    nothing is written to an environment."""

    name: str


@dataclass(frozen=True)
class Started:
    """How much there is to move, as far as known: bytes and rows of tables, bytes of files."""

    rows: int
    table_bytes: int
    files: int
    file_bytes: int


@dataclass(frozen=True)
class TableStarted:
    """A table is about to move; ``rows`` is how many it has, as far as known."""

    table: str
    rows: int


@dataclass(frozen=True)
class Moved:
    """Rows of a table have arrived."""

    table: str
    rows: int
    size: int


@dataclass(frozen=True)
class TableDone:
    """All rows of a table have arrived."""

    table: str
    rows: int


@dataclass(frozen=True)
class FileMoved:
    """Bytes of a file have arrived; ``files`` is 1 when it is all there."""

    path: str
    size: int
    files: int


@dataclass(frozen=True)
class Checking:
    """A table that was taken before is asked whether it has changed since."""

    table: str


@dataclass(frozen=True)
class Waiting:
    """The connection is lost; it is made anew in ``seconds``."""

    reason: str
    seconds: float


@dataclass(frozen=True)
class Slowed:
    """A live host is busy: the transfer waits. ``load`` is processes for each processor."""

    load: float


Event = Checking | Slowed | Waiting | Phase | Started | TableStarted | Moved | TableDone | FileMoved
Listener = Callable[[Event], None]


def silent(event: Event) -> None:
    """A listener that hears nothing."""
