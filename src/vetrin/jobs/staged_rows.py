"""Rows that are laid ready in a hidden table of their own, as they are or as they will be."""

from __future__ import annotations

from collections.abc import Sequence

from ..database import Batch, Database, Table


def stage_rows(
    database: Database, hidden: str, table: Table, schema: str, batches: Sequence[Batch]
) -> None:
    """Make a hidden table after a ``schema``, with some rows of ``table`` in it.

    Raises:
        DatabaseError: it could not be made.
        RowsDiffer: the server altered, cut or dropped something.
    """
    database.lay_out(hidden, table, schema)
    if not batches:
        return
    said: list[str] = []
    database.fill(hidden, table, batches, warned=said.append)
    if said:
        # That need not mean that it changed a value: once more, comparing.
        database.lay_out(hidden, table, schema)
        database.fill(hidden, table, batches)
