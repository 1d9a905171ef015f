"""Foreign keys as MariaDB and MySQL print them: constraints beside a table's definition."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from ..base import Attachment, ForeignKey, clears_where

_REFERENCE = re.compile(
    r"CONSTRAINT `((?:[^`]|``)*)` FOREIGN KEY \(([^)]*)\) REFERENCES `((?:[^`]|``)*)` \(([^)]*)\)(.*)",
    re.DOTALL,
)
_QUOTED = re.compile(r"`((?:[^`]|``)*)`")
_ON_DELETE = re.compile(r"ON DELETE (SET NULL|\w+)", re.IGNORECASE)


def foreign_key_of(table: str, schema: str, sql: str) -> ForeignKey | None:
    """A foreign key of ``table`` as MariaDB and MySQL print both; None where it is none, or in another database."""
    match = _REFERENCE.match(sql)
    if match is None:
        return None

    def names(text: str) -> tuple[str, ...]:
        return tuple(name.replace("``", "`") for name in _QUOTED.findall(text))

    name, parent = (match[n].replace("``", "`") for n in (1, 3))
    rule = _ON_DELETE.search(match[5])
    clears = all(
        clears_where(
            rule[1] if rule else "",
            re.search(rf"^\s*`{re.escape(column)}` .*\bNOT NULL\b", schema, re.MULTILINE) is None,
        )
        for column in _QUOTED.findall(match[2])
    )
    return ForeignKey(
        name=name,
        table=table,
        columns=names(match[2]),
        parent=parent,
        parent_columns=names(match[4]),
        clears=clears,
    )


def declared_keys(
    schemas: Mapping[str, str], attachments: Sequence[Attachment]
) -> list[ForeignKey]:
    """The foreign keys of tables, by their schemas and what hangs on them."""
    found = [
        foreign_key_of(item.table, schemas[item.table], item.sql)
        for item in attachments
        if item.kind == "constraint" and item.table in schemas
    ]
    return [key for key in found if key is not None]
