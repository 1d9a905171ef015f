"""Small databases of what can be had again: where one is damaged, it is begun anew, and nothing depends on it. None
is made where its folder is not there yet: what only looks leaves nothing behind."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Iterator
from pathlib import Path

from .private import private_folder

# What goes wrong with one that is not there, is damaged, or cannot be written to.
UNKEPT = (OSError, sqlite3.Error)


@contextlib.contextmanager
def remembered(path: Path, schema: str) -> Iterator[sqlite3.Connection]:
    """A transaction in the database at ``path``, with the tables that ``schema`` makes where they are not there.

    Raises:
        UNKEPT: it cannot be had now; one that was damaged is gone.
    """
    if not path.parent.is_dir():
        raise FileNotFoundError(path.parent)
    private_folder(path.parent)
    with contextlib.closing(sqlite3.connect(path, timeout=20)) as file:
        try:
            file.execute("PRAGMA journal_mode = WAL")
            file.execute("PRAGMA synchronous = NORMAL")
            file.executescript(schema)
        except sqlite3.OperationalError:
            raise
        except sqlite3.DatabaseError:
            file.close()
            path.unlink(missing_ok=True)
            raise
        with file:
            yield file
