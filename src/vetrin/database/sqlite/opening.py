"""Opening a SQLite file, as a site's configuration names it."""

from __future__ import annotations

from ..engines import Wanted
from .database import SqliteDatabase


def open_database(wanted: Wanted) -> SqliteDatabase:
    """Open it.

    Raises:
        DatabaseUnreachable: there is no such file, or it is no database.
    """
    return SqliteDatabase(
        str(wanted.root / wanted.name),
        read_only=wanted.read_only,
        may_be_missing=wanted.may_be_missing,
        opener=wanted.remote.sqlite_opener() if wanted.remote is not None else None,
    )
