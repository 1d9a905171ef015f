"""Indexes that a table gets once its rows are there: sorted together, they take a server less time than one row after
the other, and the rows of the next table come meanwhile."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor

import pymysql

from .columns import quote
from .connect import said
from .wire import Wire

_THERE_ALREADY = 1061  # ER_DUP_KEYNAME
_INDEX = re.compile(r"  KEY (`(?:[^`]|``)+`) ")
_KEY = re.compile(r"  PRIMARY KEY \((`(?:[^`]|``)+`)")
_NUMBERED = re.compile(r"  (`(?:[^`]|``)+`) .* AUTO_INCREMENT\b")
# Beside these, what is listed may need an index, or comes in an order of its own.
_BOUND = re.compile(
    r"  (?:(?:FULLTEXT|SPATIAL|VECTOR) KEY|CONSTRAINT|FOREIGN KEY|PERIOD) |.* (?:GENERATED ALWAYS|AS) \("
)


def without_indexes(schema: str) -> tuple[str, list[str]]:
    """A table's definition without the indexes that it can get later, and these as it lists them; all of it, and
    none, where that is not sure."""
    head, *lines = schema.split("\n")
    stop = next((at for at, line in enumerate(lines) if line.startswith(")")), len(lines))
    body, rest = [line.removesuffix(",") for line in lines[:stop]], lines[stop:]
    indexes = [line for line in body if _INDEX.match(line)]
    keys = [found[1] for line in body if (found := _KEY.match(line))]
    numbered = [found[1] for line in body if (found := _NUMBERED.match(line))]
    bound = any(map(_BOUND.match, body)) or len(keys) != 1 or numbered not in ([], keys)
    if not indexes or bound or "ENGINE=InnoDB" not in "".join(rest[:1]):
        return schema, []
    kept = [line for line in body if line not in indexes]
    return "\n".join([head, ",\n".join(kept), *rest]), indexes


class LaterIndexes:
    """Makes indexes on a connection of its own, which ``connect`` opens."""

    def __init__(self, connect: Callable[[], Wire]) -> None:
        self._connect = connect
        self._lacking: dict[str, list[str]] = {}
        self._pool: ThreadPoolExecutor | None = None
        self._begun: list[Future[None]] = []
        self._wire: Wire | None = None

    def lacks(self, hidden: str, indexes: Sequence[str]) -> None:
        """A hidden table was laid out without these."""
        self._lacking[hidden] = list(indexes)

    def lacks_of(self, hidden: str, schema: str, there: str) -> None:
        """A hidden table that somebody laid out before is defined as ``there``, and should be as ``schema``."""
        self.lacks(hidden, _lacking(without_indexes(schema)[1], there))

    def begin(self, hidden: str) -> None:
        """Begin to make what a table lacks, all rows of which are there."""
        indexes = self._lacking.pop(hidden, [])
        if indexes:
            if self._pool is None:
                self._pool = ThreadPoolExecutor(1, "indexes")
            self._begun.append(self._pool.submit(self._make, hidden, indexes))

    def _make(self, hidden: str, indexes: Sequence[str]) -> None:
        with said(hidden):
            wire = self._wire = self._wire or self._connect()
            with wire.cursor() as cursor:
                while indexes:
                    added = ", ".join(f"ADD {line.strip()}" for line in indexes)
                    try:
                        cursor.execute(
                            f"ALTER TABLE {quote(hidden)} {added}".replace("%", "%%"), ()
                        )
                        return
                    except pymysql.Error as error:
                        if error.args[:1] != (_THERE_ALREADY,):
                            raise
                    # The server went on with what a process began that was killed.
                    cursor.execute(f"SHOW CREATE TABLE {quote(hidden)}".replace("%", "%%"), ())
                    indexes = _lacking(indexes, str(cursor.fetchall()[0][1]))

    def wait(self) -> None:
        """Return when all that was begun is done. Raises DatabaseError."""
        begun, self._begun = self._begun, []
        for future in begun:
            future.result()

    def close(self) -> None:
        """Give up what is under way."""
        if self._wire is not None:
            with contextlib.suppress(pymysql.Error):
                self._wire.give_up()
        if self._pool is not None:
            self._pool.shutdown(cancel_futures=True)


def _lacking(indexes: Sequence[str], there: str) -> list[str]:
    """Those of some indexes that a definition does not have, by their names."""
    names = {found[1] for line in there.split("\n") if (found := _INDEX.match(line))}
    return [line for line in indexes if (found := _INDEX.match(line)) and found[1] not in names]
