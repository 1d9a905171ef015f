"""What a run tells while it works. The terminal, the log and the JSON stream listen."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct


class Phase(Struct, frozen=True):
    """A new phase begins: look, keep, tables, files, swap, check; read and pack, tables and files, where
    nothing is written to an environment."""

    name: str


class Started(Struct, frozen=True):
    """How much there is to move, as far as known: bytes and rows of tables, bytes of files."""

    rows: int
    table_bytes: int
    files: int
    file_bytes: int


class TableStarted(Struct, frozen=True):
    """A table is about to move; ``rows`` is how many it has, as far as known."""

    table: str
    rows: int


class Moved(Struct, frozen=True):
    """Rows of a table have arrived."""

    table: str
    rows: int
    size: int


class TableDone(Struct, frozen=True):
    """All rows of a table have arrived."""

    table: str
    rows: int


class FileMoved(Struct, frozen=True):
    """Bytes of a file have arrived; ``files`` is 1 when it is all there."""

    path: str
    size: int
    files: int


class Checking(Struct, frozen=True):
    """A table that was taken before is asked whether it has changed since."""

    table: str


class Waiting(Struct, frozen=True):
    """The connection is lost; it is made anew in ``seconds``."""

    reason: str
    seconds: float


class Slowed(Struct, frozen=True):
    """A live host is busy: the transfer waits. ``load`` is processes for each processor."""

    load: float


Event = Checking | Slowed | Waiting | Phase | Started | TableStarted | Moved | TableDone | FileMoved
Listener = Callable[[Event], None]


def silent(event: Event) -> None:
    """A listener that hears nothing."""
