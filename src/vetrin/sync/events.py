"""What a run tells while it works. The terminal, the log and the JSON stream listen."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Phase:
    """A new phase begins: look, tables, files, swap, settle."""

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
    table: str
    rows: int


@dataclass(frozen=True)
class FileMoved:
    """Bytes of a file have arrived; ``files`` is 1 when it is all there."""

    path: str
    size: int
    files: int


Event = Phase | Started | TableStarted | Moved | TableDone | FileMoved
Listener = Callable[[Event], None]


def silent(event: Event) -> None:
    """A listener that hears nothing."""
