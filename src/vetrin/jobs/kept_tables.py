"""Which tables of an environment the store has, and by what they are known again, so that the next snapshot need not
read all of them.

Nothing depends on it: pages are taken from the store only where the server gives their digests once more, and the
store has them still. Where it is lost, all is read.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from msgspec import Struct

from ..database import Facts, KeyRange, Table
from ..remembered import UNKEPT, remembered
from ..store import Chunk
from .last_copy import KnownTable
from .pieces import Piece

_SCHEMA = """
CREATE TABLE IF NOT EXISTS kept (
  environment TEXT NOT NULL, name TEXT NOT NULL, content BLOB NOT NULL, PRIMARY KEY (environment, name)
) WITHOUT ROWID;
"""
_VERSION = 1


class KeptTable(Struct, frozen=True):
    """A table as it was read: the digests of its pages, or of all its rows, and the ``pieces`` that hold them. The
    signature of ``known`` is that of ``form_of``."""

    known: KnownTable
    pieces: tuple[Piece, ...]


class KeptTables:
    """What is kept of one environment, in a file of the project's folder ``state``; without one, nothing is."""

    def __init__(self, state: Path | None, environment: str) -> None:
        self._path = state / "kept.sqlite" if state is not None else None
        self._environment = environment

    def read(self) -> dict[str, KeptTable]:
        """By name, all tables that can be read."""
        found: dict[str, KeptTable] = {}
        for name, content in self._rows():
            with contextlib.suppress(ValueError, KeyError, TypeError, IndexError):
                found[name] = _of_json(json.loads(content))
        return found

    def _rows(self) -> Iterator[tuple[str, bytes]]:
        if self._path is None or not self._path.is_file():
            return
        with contextlib.suppress(*UNKEPT), remembered(self._path, _SCHEMA) as file:
            sql = "SELECT name, content FROM kept WHERE environment = ?"
            yield from file.execute(sql, (self._environment,)).fetchall()

    def put(self, tables: Mapping[str, KeptTable]) -> None:
        """Keep some tables in the place of what was kept of them, where that can be."""
        if self._path is None or not tables:
            return
        rows = [(self._environment, name, _as_json(table)) for name, table in tables.items()]
        with contextlib.suppress(*UNKEPT), remembered(self._path, _SCHEMA) as file:
            file.executemany("INSERT OR REPLACE INTO kept VALUES (?, ?, ?)", rows)


def form_of(table: Table, facts: Facts) -> str:
    """The same as long as a table's rows have the same records, and their digests mean the same."""
    parts = [facts.product, facts.version, facts.charset, table.columns, table.key]
    return hashlib.sha256(repr([_VERSION, *parts]).encode()).hexdigest()


def _as_json(table: KeptTable) -> bytes:
    pieces = [
        [piece.key_range.upto, [page.as_list() for page in piece.pages]] for piece in table.pieces
    ]
    return json.dumps([table.known.as_json(), pieces], separators=(",", ":")).encode()


def _of_json(data: Any) -> KeptTable:
    """Raises ValueError, KeyError, TypeError or IndexError where it is none."""
    known, listed = data
    pieces, after = list[Piece](), None
    for upto, pages in listed:
        key = tuple(map(int, upto)) if upto is not None else None
        pieces.append(Piece(KeyRange(after, key), tuple(map(Chunk.of_list, pages))))
        after = key
    return KeptTable(KnownTable.of_json(known), tuple(pieces))
