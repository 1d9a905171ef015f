"""What was seen of an environment's files: digests that hold as long as size and time do.

Kept in ``.vetrin/files/ENVIRONMENT.sqlite`` of the project. A file whose size and time are those of
a row has the row's content; rows of other sizes and times stay, so that what an undo brings back is
known again. ``brought`` marks what a transfer put there. Nothing in it is needed: where it is lost,
files are read again, and nothing counts as brought.
"""

from __future__ import annotations

import contextlib
import os
import sqlite3
import time
from collections.abc import Iterable
from functools import cached_property
from pathlib import Path

from ..private import private_folder
from .base import Entry, SourceTree

_FRESH = 2_000_000_000  # nanoseconds in which a second change may leave the same time
_SCHEMA = """CREATE TABLE IF NOT EXISTS seen (
  path BLOB, size INTEGER, modified INTEGER, digest TEXT NOT NULL, brought INTEGER NOT NULL,
  PRIMARY KEY (path, size, modified)) WITHOUT ROWID"""
# Digests by other algorithms than XXH3-128, for environments on hosts that cannot make that one.
_OTHERS = """CREATE TABLE IF NOT EXISTS others (
  algorithm TEXT, path BLOB, size INTEGER, modified INTEGER, digest TEXT NOT NULL,
  PRIMARY KEY (algorithm, path, size, modified)) WITHOUT ROWID"""
_KEEP = """INSERT INTO seen VALUES (?, ?, ?, ?, ?) ON CONFLICT (path, size, modified) DO UPDATE SET
  digest = excluded.digest, brought = max(brought, excluded.brought)"""


class DigestCache:
    """The digests of one environment's files. Opened when it is first asked."""

    def __init__(self, path: Path | None = None) -> None:
        """Without ``path``, all is forgotten when the program ends."""
        self._path = path

    @cached_property
    def _rows(self) -> sqlite3.Connection:
        if self._path is None:
            return _opened(":memory:")
        private_folder(self._path.parent)
        try:
            return _opened(str(self._path))
        except sqlite3.DatabaseError:
            self._path.unlink(missing_ok=True)  # it is damaged: all of it can be had again
            return _opened(str(self._path))

    def known(self, entry: Entry, algorithm: str = "xxh128") -> str:
        """The digest of a file as it is now; empty where it is not known."""
        if algorithm != "xxh128":
            row = self._rows.execute(
                "SELECT digest FROM others WHERE algorithm = ? AND path = ? AND size = ?"
                " AND modified = ?",
                (algorithm, os.fsencode(entry.path), entry.size, entry.modified),
            ).fetchone()
            return str(row[0]) if row else ""
        return entry.digest or self._look(entry)[0]

    def brought(self, entry: Entry) -> bool:
        """True if a transfer put this file, link or folder there, and it is still as it came."""
        digest, brought = self._look(entry)
        return brought and (entry.kind != "link" or digest == entry.target)

    def ever_brought(self, path: str) -> bool:
        """True if a transfer once put something there."""
        rows = self._rows.execute(
            "SELECT 1 FROM seen WHERE path = ? AND brought LIMIT 1", (os.fsencode(path),)
        )
        return rows.fetchone() is not None

    def digest(self, tree: SourceTree, entry: Entry) -> str:
        """The digest of a file of ``tree``, read only if it is not known.

        Raises:
            FilesError: it cannot be read.
        """
        found = self.known(entry)
        if not found:
            found = tree.digest(entry.path)
            self.keep([entry._replace(digest=found)])
        return found

    def keep(
        self, entries: Iterable[Entry], *, brought: bool = False, algorithm: str = "xxh128"
    ) -> None:
        """Remember digests; with ``brought``, that a transfer put these there."""
        border = time.time_ns() - _FRESH
        if algorithm != "xxh128":
            values = [
                (algorithm, os.fsencode(e.path), e.size, e.modified, e.digest)
                for e in entries
                if e.modified < border
            ]
            with contextlib.suppress(sqlite3.OperationalError), self._rows:
                self._rows.executemany(
                    "INSERT OR REPLACE INTO others VALUES (?, ?, ?, ?, ?)", values
                )
            return
        rows = [
            (os.fsencode(e.path), e.size, e.modified, e.digest or e.target, int(brought))
            for e in entries
            if e.kind != "file" or brought or e.modified < border
        ]
        with contextlib.suppress(sqlite3.OperationalError), self._rows:
            self._rows.executemany(_KEEP, rows)

    def close(self) -> None:
        if "_rows" in self.__dict__:
            self._rows.close()
            del self.__dict__["_rows"]

    def _look(self, entry: Entry) -> tuple[str, bool]:
        row = self._rows.execute(
            "SELECT digest, brought FROM seen WHERE path = ? AND size = ? AND modified = ?",
            (os.fsencode(entry.path), entry.size, entry.modified),
        ).fetchone()
        return (str(row[0]), bool(row[1])) if row else ("", False)


def _opened(name: str) -> sqlite3.Connection:
    rows = sqlite3.connect(name, timeout=20)
    rows.execute("PRAGMA journal_mode = WAL")
    rows.execute("PRAGMA synchronous = NORMAL")
    rows.execute(_SCHEMA)
    rows.execute(_OTHERS)
    return rows
