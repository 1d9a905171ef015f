"""Sequences of MariaDB, and columns whose defaults draw from them.

A table that is laid out under another name must not draw from the sequence of the one that it is to replace: such
defaults are taken out of its definition and put again when it has its name.
"""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Mapping, Sequence

from msgspec.structs import replace

from ..base import Attachment
from .columns import quote
from .schema.ddl_parser import Definition, plain
from .schema.ddl_text import SchemaText

_QUOTED = r"`(?:[^`]|``)*`"
DRAWS = re.compile(
    rf"\b(?:nextval|lastval|setval)\(\s*(?:({_QUOTED})\.)?`((?:[^`]|``)*)`", re.IGNORECASE
)
_NAME = rf"(?:{_QUOTED}|[^\s`,();.]+)(?:\s*\.\s*(?:{_QUOTED}|[^\s`,();.]+))?"
CREATE = re.compile(
    rf"CREATE\s+(?:OR\s+REPLACE\s+)?SEQUENCE\s+(?:IF\s+NOT\s+EXISTS\s+)?({_NAME})\s*(.*)$",
    re.IGNORECASE | re.DOTALL,
)
GIVES_NEXT = re.compile(
    rf"(?:DO|SELECT)\s+SETVAL\s*\(\s*({_NAME})\s*,\s*(-?\d+)\s*(?:,\s*(\d+)\s*)?(?:,.*)?\)\s*$"
    rf"|ALTER\s+SEQUENCE\s+({_NAME})\s+RESTART\s+(?:WITH\s+)?(-?\d+)\s*$",
    re.IGNORECASE | re.DOTALL,
)
_SET_DEFAULT = re.compile(
    rf"ALTER\s+TABLE\s+{_NAME}\s+ALTER\s+(?:COLUMN\s+)?({_QUOTED}|[^\s`]+)\s+SET\s+DEFAULT\s*(.*)$",
    re.IGNORECASE | re.DOTALL,
)


def default(table: str, column: str, value: str) -> Attachment:
    """A default that draws from a sequence, put on its own."""
    sql = f"ALTER TABLE {quote(table)} ALTER COLUMN {quote(column)} SET DEFAULT ({value})"
    return Attachment("default", column, table, sql)


def sequence(name: str, table: str, sql: str, following: int) -> Attachment:
    """A sequence for a table, or for none, by the text that makes it and the number that it gives next."""
    text = sql.replace("CREATE SEQUENCE", "CREATE OR REPLACE SEQUENCE", 1)
    return Attachment(kind="sequence", name=name, table=table, sql=text, mode=str(following))


def without_draws(sql: str) -> str:
    """The definition of a table without such defaults."""
    if "val(" not in sql:
        return sql
    text = SchemaText(sql)
    text.put_defaults(lambda kind, value: None if DRAWS.search(value) else value)
    return text.sql


def taken_out(definition: Definition) -> list[Attachment]:
    """Take such defaults out of the definition that a dump gives; what they are."""
    found: list[Attachment] = []
    for at, item in enumerate(definition.fields):
        if not DRAWS.search(item.text):
            continue
        text = SchemaText(f"CREATE TABLE `x` (\n  `x` {item.text}\n)")
        values: list[str] = []

        def settle(kind: str, value: str, values: list[str] = values) -> str | None:
            if not DRAWS.search(value):
                return value
            values.append(value)
            return None

        text.put_defaults(settle)
        rest = text.sql.removeprefix("CREATE TABLE `x` (\n  `x` ").removesuffix("\n)")
        definition.fields[at] = dataclasses.replace(item, text=rest.strip(), default=None)
        found += [default(definition.name, item.name, value) for value in values]
    return found


def set_default(definition: Definition, sql: str) -> Attachment | None:
    """The default that an ALTER TABLE statement of a dump puts, where it draws from a sequence."""
    match = _SET_DEFAULT.match(sql)
    if match is None or not DRAWS.search(match[2]):
        return None
    value = match[2].strip()
    if value.startswith("(") and value.endswith(")"):
        value = value[1:-1]
    return default(definition.name, plain(match[1]), value)


def with_sequences(
    items: Sequence[Attachment], known: Mapping[str, Attachment]
) -> list[Attachment]:
    """What hangs on tables with the sequences that ``known`` holds by their names, each for the first table that
    draws from it; a default whose sequence is not known is lost."""
    found: list[Attachment] = []
    drawn: dict[str, str] = {}
    for item in items:
        if item.kind == "default":
            names = [match[2].replace("``", "`") for match in DRAWS.finditer(item.sql)]
            missing = [name for name in names if name not in known]
            if missing and not item.lost:
                item = replace(item, lost=f"the sequence {missing[0]} is not there")
            if not item.lost:
                for name in names:
                    drawn.setdefault(name, item.table)
        found.append(item)
    numbers = [replace(item, table=drawn.get(name, "")) for name, item in known.items()]
    return [*numbers, *found]
