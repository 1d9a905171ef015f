"""Tables and rows: one contract, one module per engine."""

from .contract import (
    HIDDEN,
    Attachment,
    Batch,
    Column,
    Database,
    DatabaseError,
    DatabaseUnreachable,
    Exchange,
    Facts,
    Patch,
    Reader,
    RowsDiffer,
    Table,
    hidden_name,
    row_key,
)

__all__ = [
    "HIDDEN",
    "Attachment",
    "Batch",
    "Column",
    "Database",
    "DatabaseError",
    "DatabaseUnreachable",
    "Exchange",
    "Facts",
    "Patch",
    "Reader",
    "RowsDiffer",
    "Table",
    "hidden_name",
    "row_key",
]
