"""Which rows of a run's tables its baseline has, put on record as they come."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping

from ..append_log import AppendLog
from ..database import KeyRange
from ..errors import NewerLog
from ..store import Chunk
from .journal import Run
from .pieces import Piece, Pieces

_VERSION = 1
_ENDS = ("after", "upto")


class Notes:
    """``baseline.jsonl``: which stretches are kept, one line for each step."""

    def __init__(self, run: Run) -> None:
        self._log = AppendLog(run.folder / "baseline.jsonl", "baseline", _VERSION)
        self.there = self._log.there

    def read(self) -> defaultdict[str, Pieces]:
        """What is kept; nothing where a line cannot be read, for later ones may build on it."""
        tables: defaultdict[str, Pieces] = defaultdict(Pieces)
        try:
            events = self._log.read()
            if not events.sound or events.version != _VERSION:
                return defaultdict(Pieces)
            for line in events.items:
                key_range = KeyRange(*(tuple(line[end]) if line[end] else None for end in _ENDS))
                pieces = tables[line["table"]]
                if "pages" in line:
                    pages = tuple(Chunk.of_list(page) for page in line["pages"])
                    pieces.add(Piece(key_range, pages))
                else:
                    pieces.drop(key_range)
        except (NewerLog, ValueError, KeyError, TypeError, IndexError):
            return defaultdict(Pieces)
        return tables

    def begin(self, tables: Mapping[str, Pieces]) -> None:
        """Begin anew, or go on, with what is kept by now."""
        self._log.remove()
        self._log.begin()
        for table, pieces in tables.items():
            self.keep(table, pieces)

    def keep(self, table: str, pieces: Iterable[Piece]) -> None:
        """Note what is kept by now. A stretch whose note is lost is read once more."""
        lines = (
            _line(table, piece.key_range, pages=[page.as_list() for page in piece.pages])
            for piece in pieces
        )
        self._log.append_all(lines, durable=False)

    def drop(self, table: str, ranges: Iterable[KeyRange]) -> None:
        """Note of which ranges nothing is kept any longer, which must not be lost."""
        self._log.append_all(_line(table, key_range) for key_range in ranges)

    def remove(self) -> None:
        self._log.remove()


def _line(table: str, key_range: KeyRange, **more: object) -> dict[str, object]:
    return {"table": table, "after": key_range.after, "upto": key_range.upto, **more}
