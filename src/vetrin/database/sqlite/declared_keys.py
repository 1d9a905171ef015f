"""Foreign keys as SQLite reads them: parts of a table's definition."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from ..base import Attachment, ForeignKey, clears_where
from .incoming_sql import forbid, unfit_table
from .names import quote


def declared_keys(
    schemas: Mapping[str, str], attachments: Sequence[Attachment]
) -> list[ForeignKey]:
    """The foreign keys of tables, by their schemas: SQLite is asked, of tables without rows.

    A schema that does what none from outside may is passed over; it comes in nowhere either.
    """
    found: list[ForeignKey] = []
    with contextlib.closing(sqlite3.connect(":memory:", isolation_level=None)) as connection:
        forbid(connection)
        for table, schema in schemas.items():
            if unfit_table(schema):
                continue
            with contextlib.suppress(sqlite3.Error):
                connection.execute(schema)
                found += keys_of(connection.execute, table)
    return found


def questions_of_keys(table: str) -> tuple[str, str]:
    """What is asked for a table's foreign keys."""
    return f"PRAGMA table_info({quote(table)})", f"PRAGMA foreign_key_list({quote(table)})"


def keys_of(ask: Callable[[str], Iterable[Any]], table: str) -> list[ForeignKey]:
    """The foreign keys of a table, as the answers of its database tell them."""
    of_columns, of_keys = questions_of_keys(table)
    filled = {_text(row[1]).lower() for row in ask(of_columns) if row[3]}
    keys: dict[int, list[tuple[str, str, str, bool]]] = {}
    for number, _, *names, _, then, _ in ask(of_keys):
        parent, column, to = map(_text, names)
        clears = clears_where(_text(then), column.lower() not in filled)
        keys.setdefault(int(number), []).append((parent, column, to, clears))
    return [
        ForeignKey(
            name=f"{table} {number}",
            table=table,
            columns=tuple(part[1] for part in parts),
            parent=parts[0][0],
            parent_columns=tuple(part[2] for part in parts),
            clears=all(part[3] for part in parts),
        )
        for number, parts in keys.items()
    ]


def _text(value: str | bytes | None) -> str:
    return value.decode() if isinstance(value, bytes) else value or ""
