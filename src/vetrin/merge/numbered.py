"""Keys that are numbers given within a value, such as those of widgets: where both sides gave the same one, what
comes gets another, and the names made of it follow."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from ..cms.rules import NumberedRule
from ..database.batch import Cell
from ..database.row_codec import Text
from ..rewrite.structured_values import (
    NoSuchPart,
    as_text,
    inner_text,
    parts_of,
    with_other_keys,
    with_parts,
)
from .conditions import meets, text_of
from .references import Column, Row
from .work import MergeWork

_DEEP = 24
Renames = Mapping[bytes, bytes]


def _clashing_keys(before: Cell, incoming: Cell, target: Cell) -> dict[str, str]:
    """The number keys that both sides added to a value with different parts, and those that are free on both."""
    try:
        sides = [
            {} if not isinstance(cell, bytes) else parts_of(cell)
            for cell in (before, incoming, target)
        ]
    except NoSuchPart:
        return {}
    old, mine, theirs = sides
    numbers = [int(key) for side in sides for key in side if key.isdigit()]
    free = max(numbers, default=0) + 1
    found: dict[str, str] = {}
    for key, part in mine.items():
        if key.isdigit() and key not in old and theirs.get(key, part) != part:
            found[key], free = str(free), free + 1
    return found


def _with_keys(cell: Cell, keys: Mapping[str, str]) -> Cell:
    """A value with other keys for some of its parts, which keep their places."""
    if not isinstance(cell, bytes) or not keys:
        return cell
    value = with_other_keys(bytes(cell), keys)
    return Text(value) if isinstance(cell, Text) else value


def _names_of(
    rule: NumberedRule, names: Sequence[str], row: Row, keys: Mapping[str, str]
) -> Renames:
    """The names made of a row's keys, as they were and as they are: of ``rule.called``, with the row's own name and
    the key in it."""
    own = text_of(row[names.index(rule.name)]).removeprefix(rule.without)
    return {
        rule.called.replace("{name}", own).replace("{key}", old).encode():
        rule.called.replace("{name}", own).replace("{key}", new).encode()
        for old, new in keys.items()
    }  # fmt: skip


def _with_names(
    column: Column, table: str, names: Sequence[str], row: Row, renames: Renames
) -> list[Cell]:
    """A row in which texts of a structured value that are such a name are replaced."""
    found: list[Cell] = []
    for name, cell in zip(names, row, strict=True):
        if isinstance(cell, bytes) and column.fits(table, name, names, row):
            value = _replaced(bytes(cell), renames)
            cell = Text(value) if isinstance(cell, Text) else value
        found.append(cell)
    return found


def _replaced(value: bytes, renames: Renames, depth: int = 0) -> bytes:
    if depth > _DEEP:
        return value
    try:
        parts = parts_of(value)
    except NoSuchPart:
        return renames.get(value, value)
    changed: dict[str, bytes | None] = {}
    for key, part in parts.items():
        inner = inner_text(part)
        new = _replaced(part if inner is None else inner, renames, depth + 1)
        if inner is not None:
            new = part if new == inner else as_text(new, part)
        if new != part:
            changed[key] = new
    return with_parts(value, changed) if changed else value


def give_keys(work: MergeWork) -> None:
    """Have parts of values that come get other keys where the target gave the same ones to parts of its own."""
    for rule in work.rules.definition.numbered:
        table, _, column = rule.at.partition(".")
        where = work.near.incoming.condition(rule.where)
        renames: dict[bytes, bytes] = {}
        for entry in work.entries.get(table, ()):
            names = entry.sides.names
            after, carried = entry.after, entry.carried
            if after is None or carried is None or entry.target_key is None:
                continue
            now = work.now(entry)
            if now is None or not meets(where, names, after, work.near.incoming.within):
                continue
            place = names.index(column)
            before = None if entry.before is None else entry.before[place]
            keys = _clashing_keys(before, carried[place], now[place])
            if keys:
                cells = list(carried)
                cells[place] = _with_keys(carried[place], keys)
                entry.carried = cells
                renames.update(_names_of(rule, names, after, keys))
        for text in rule.in_ if renames else ():
            _follow_keys(work, Column.parse(text), renames)


def _follow_keys(work: MergeWork, column: Column, renames: Renames) -> None:
    for entry in work.entries.get(column.table, ()):
        if entry.carried is None:
            continue
        table, names = entry.sides.name, entry.sides.names
        entry.carried = _with_names(column, table, names, entry.carried, renames)
