"""Where a row names other rows by their numbers, and having these follow rows that get another number."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any, NamedTuple, Protocol

from msgspec import Struct

from ..cms import Definition, LinkRule, ReferenceRule
from ..database import Condition, InSubquery
from ..database.batch import Cell
from ..database.row_codec import Text
from ..rewrite.structured_values import (
    NoSuchPart,
    as_text,
    inner_text,
    literal,
    parts_of,
    with_parts,
)
from .conditions import meets

Row = Sequence[Cell]
_DEEP = 64
_NUMBER = re.compile(rb"[+-]?\d{1,19}")
_PHP_NUMBER = re.compile(rb"i:(\d{1,19});")
_BLOCK = re.compile(rb"<!--\s+wp:([a-z0-9/_-]+)\s+(\{.*?\})\s+/?-->", re.DOTALL)
# The host of an address that ends here, however its slashes are written.
_HOST = re.compile(rb"(?:/|\\/|%2[fF]){2}([^/\\?#&\"'<>\s%]+)[^\"'<>\s]*\Z")
_LONGEST = 400  # bytes of an address before a number in it
_SINGLE = rb"(?<!\d)(\d{1,19})(?!\d)"
_SEVERAL = rb"(\d{1,19}(?:\s*,\s*\d{1,19})*)"


class Side(Protocol):
    """What is asked of the environment that rows are from."""

    def condition(self, where: Mapping[str, Any]) -> Condition:
        """A condition of the definition, for its tables."""

    def within(self, part: InSubquery, value: Cell) -> bool:
        """Whether a value is among those that a condition asks its database for."""


class Reference(NamedTuple):
    """A row of ``table`` (without prefix) that a value names by its number. ``needed``: a row that names it cannot be
    without it."""

    table: str
    id: int
    needed: bool


@dataclass
class IdMaps:
    """Which number a row of the incoming side has in the target, by table (without prefix), where it is another.
    ``away`` are numbers of rows that are not in the target, ``alone`` those of the target's that the incoming side
    has not, as somebody decided so."""

    ids: dict[str, dict[int, int]] = field(default_factory=lambda: defaultdict(dict))
    away: set[tuple[str, int]] = field(default_factory=set)
    alone: set[tuple[str, int]] = field(default_factory=set)

    def there(self, table: str, number: int) -> int:
        """The number that a row has in the target; 0 where it is not there."""
        if (table, number) in self.away:
            return 0
        return self.ids.get(table, {}).get(number, number)

    def taken(self, table: str) -> set[int]:
        """The numbers of the target that stand for others."""
        return set(self.ids.get(table, {}).values())

    @property
    def nothing(self) -> bool:
        return not (self.away or any(self.ids.values()))

    def put(self, table: str, incoming: int, target: int) -> None:
        self.ids.setdefault(table, {})[incoming] = target
        self.away.discard((table, incoming))
        self.alone.discard((table, target))

    def keep(self, table: str, number: int) -> None:
        """A row has the same number on both sides, whatever row had it before."""
        self.ids.get(table, {}).pop(number, None)
        self.away.discard((table, number))
        self.alone.discard((table, number))

    def leave_out(self, table: str, incoming: int) -> None:
        """A row of the incoming side is not to be in the target."""
        self.ids.get(table, {}).pop(incoming, None)
        self.away.add((table, incoming))

    def reversed(self) -> IdMaps:
        """The same, seen from the other side."""
        found = {
            table: {there: here for here, there in ids.items()} for table, ids in self.ids.items()
        }
        return IdMaps(defaultdict(dict, found), set(self.alone), set(self.away))


Follow = Callable[
    [str, int], int
]  # of a table and a number in it: the number that is to stand there
_Change = Callable[[bytes], bytes]


class References:
    """Finds the numbers in the rows of one side, by what a definition says. Within addresses only in those of some
    ``hosts``; without any, in all."""

    def __init__(
        self, definition: Definition, side: Side, hosts: frozenset[bytes] = frozenset()
    ) -> None:
        self._side = side
        self._hosts = hosts
        self._texts = [Column.parse(text) for text in definition.merge.texts]
        self._links: dict[str, list[tuple[LinkRule, Condition]]] = defaultdict(list)
        for link in definition.links:
            if link.through is None:
                self._links[link.table].append((link, side.condition(link.where)))
        self._values: dict[str, list[tuple[str, ReferenceRule, Condition]]] = defaultdict(list)
        for rule in definition.references:
            for place in rule.at:
                table, _, column = place.partition(".")
                self._values[table].append((column, rule, side.condition(rule.where)))
        self._patterns = [
            (rule.table, re.compile(_pattern(text)))
            for rule in definition.references
            for text in rule.patterns
        ]
        self._patterns += [
            (rule.table, _attribute(text))
            for rule in definition.references
            for text in rule.shortcodes
        ]
        self._blocks: dict[bytes, list[tuple[list[str], ReferenceRule]]] = defaultdict(list)
        for rule in definition.references:
            for block in rule.blocks:
                name, _, path = block.partition(" ")
                self._blocks[name.encode()].append((path.split("."), rule))

    def of(self, table: str, names: Sequence[str], row: Row) -> list[Reference]:
        """All rows that a row names."""
        found: list[Reference] = []
        links = {
            link.column: link.then == "leave"
            for link, where in self._links.get(table, ())
            if meets(where, names, row, self._side.within)
        }

        for place, name in enumerate(names):

            def seen(other: str, number: int, name: str = name) -> int:
                found.append(Reference(other, number, links.get(name, False)))
                return number

            self._cell(table, names, row, place, seen)
        return [one for one in found if one.id]

    def renumbered(
        self, table: str, names: Sequence[str], row: Row, like: Row, maps: IdMaps
    ) -> list[Cell]:
        """The row ``like``, which is ``row`` as another environment would have it, with the numbers that it names as
        they are there."""

        if maps.nothing:
            return list(like)
        return [
            self._cell(table, names, row, place, maps.there, like[place])
            for place in range(len(names))
        ]

    def _cell(
        self,
        table: str,
        names: Sequence[str],
        row: Row,
        place: int,
        follow: Follow,
        like: Cell | None = None,
    ) -> Cell:
        """A cell with its numbers as ``follow`` says; ``like`` is what it is made from."""
        name = names[place]
        cell = row[place] if like is None else like
        if cell is None:
            return None
        for link, where in self._links.get(table, ()):
            if link.column == name and meets(where, names, row, self._side.within):
                return _number(cell, partial(follow, link.owner[0]))
        for column, rule, where in self._values.get(table, ()):
            if column == name and meets(where, names, row, self._side.within):
                cell = _value(cell, rule, follow)
        for text in self._texts:
            if text.fits(table, name, names, row) and isinstance(cell, bytes):
                cell = _typed(cell, self._in_texts(cell, follow))
        return cell

    # -- texts ------------------------------------------------------------------------------------------------

    def _in_texts(self, value: bytes, follow: Follow, depth: int = 0) -> bytes:
        """A text, or all texts in a structured value."""
        if depth > _DEEP:
            return value
        try:
            parts = parts_of(value)
        except NoSuchPart:
            return self._in_text(value, follow)
        changed: dict[str, bytes | None] = {}
        for key, part in parts.items():
            inner = inner_text(part)
            new = self._in_texts(part if inner is None else inner, follow, depth + 1)
            if inner is not None:
                new = part if new == inner else as_text(new, part)
            if new != part:
                changed[key] = new
        return with_parts(value, changed) if changed else value

    def _in_text(self, text: bytes, follow: Follow) -> bytes:
        if self._blocks and b"<!--" in text:
            text = _BLOCK.sub(lambda match: self._block(match, follow), text)
        for table, pattern in self._patterns:

            def put(match: re.Match[bytes], table: str = table) -> bytes:
                if self._is_foreign(match):
                    return match[0]
                at = match.start(1) - match.start()
                whole, numbers = match[0], match[1]
                new = _NUMBER.sub(lambda one: b"%d" % follow(table, int(one[0])), numbers)
                return whole[:at] + new + whole[at + len(numbers) :]

            text = pattern.sub(put, text)
        return text

    def _is_foreign(self, match: re.Match[bytes]) -> bool:
        """Whether a number stands in an address of another site."""
        if not self._hosts:
            return False
        before = match.string[max(0, match.start() - _LONGEST) : match.start()]
        found = _HOST.search(before)
        return found is not None and found[1].lower() not in self._hosts

    def _block(self, match: re.Match[bytes], follow: Follow) -> bytes:
        attributes = match[2]
        for path, rule in self._blocks.get(match[1], ()):
            if _has(attributes, rule.block_where):
                attributes = _at_path(attributes, path, partial(follow, rule.table), keys=False)
        at = match.start(2) - match.start()
        return match[0][:at] + attributes + match[0][at + len(match[2]) :]


class Column(Struct, frozen=True):
    """A column of some rows, written as ``table.column`` or ``table.column where key=value``, where the value may end
    with ``*``."""

    table: str
    column: str
    key: str = ""
    value: bytes = b""

    @classmethod
    def parse(cls, text: str) -> Column:
        place, _, where = text.partition(" where ")
        table, _, column = place.partition(".")
        key, _, value = where.partition("=")
        return cls(table, column, key, value.encode())

    def fits(self, table: str, column: str, names: Sequence[str], row: Row) -> bool:
        if table != self.table or column != self.column:
            return False
        if not self.key:
            return True
        found = row[names.index(self.key)]
        if not isinstance(found, bytes):
            return False
        if self.value.endswith(b"*"):
            return found.startswith(self.value[:-1])
        return found == self.value


def _pattern(text: str) -> bytes:
    """A pattern of a definition as a regular expression with one group: the number, or the numbers."""
    before, mark, behind = re.split(r"(\{ids?\})", text, maxsplit=1)
    number = _SINGLE if mark == "{id}" else _SEVERAL
    return re.escape(before.encode()) + number + re.escape(behind.encode())


def _attribute(text: str) -> re.Pattern[bytes]:
    """An attribute of a short code, “name attribute”, as a regular expression with one group."""
    name, _, attribute = text.encode().partition(b" ")
    return re.compile(
        rb"\[" + re.escape(name) + rb"\b[^\]]*?\s" + re.escape(attribute) + rb"=[\"']?" + _SEVERAL
    )


def _has(attributes: bytes, where: Mapping[str, str]) -> bool:
    """Whether the attributes of a block have some values."""
    if not where:
        return True
    try:
        parts = parts_of(attributes)
    except NoSuchPart:
        return False
    return all(inner_text(parts.get(name, b"")) == value.encode() for name, value in where.items())


def _number(cell: Cell, follow: Callable[[int], int]) -> Cell:
    """A whole number, or a text of one, with another number in it; anything else as it is."""
    if isinstance(cell, int):
        return follow(cell)
    if isinstance(cell, bytes) and _NUMBER.fullmatch(cell):
        number = int(cell)
        new = follow(number)
        return cell if new == number else _typed(cell, b"%d" % new)
    return cell


def _typed(like: bytes, value: bytes) -> Cell:
    return Text(value) if isinstance(like, Text) else value


def _value(cell: Cell, rule: ReferenceRule, follow: Follow) -> Cell:
    """A value with the numbers that a rule finds in it changed."""

    def mine(number: int) -> int:
        return follow(rule.table, number)

    if not isinstance(cell, bytes):
        return cell if rule.paths else _number(cell, mine)
    if rule.paths:
        value = bytes(cell)
        for path in rule.paths:
            value = _at_path(value, path.split("."), mine, keys=rule.keys)
        return _typed(cell, value)
    if rule.list_:
        return _typed(cell, _NUMBER.sub(lambda match: b"%d" % mine(int(match[0])), cell))
    return _number(cell, mine)


def _at_path(
    value: bytes, path: Sequence[str], follow: Callable[[int], int], *, keys: bool
) -> bytes:
    """A structured value with the number at a path changed; ``*`` fits any key. Values that have no such path stay as
    they are."""
    try:
        parts = parts_of(value)
    except NoSuchPart:
        return value
    changed: dict[str, bytes | None] = {}
    for key, part in parts.items():
        if path[0] not in ("*", key):
            continue
        if len(path) > 1:
            inner = inner_text(part)
            new = _at_path(part if inner is None else inner, path[1:], follow, keys=keys)
            if inner is not None and new != inner:
                new = as_text(new, part)
            elif inner is not None:
                new = part
        elif keys:
            if key.isdigit() and (number := follow(int(key))) != int(key):
                changed[key] = None
                changed[str(number)] = part
            continue
        else:
            new = _part(part, value, follow)
        if new != part:
            changed[key] = new
    return with_parts(value, changed) if changed else value


def _part(part: bytes, value: bytes, follow: Callable[[int], int]) -> bytes:
    """A number in a structure, as a number or as a text (of one, or of several with commas between them)."""
    inner = inner_text(part)
    if inner is not None:
        if not re.fullmatch(_SEVERAL, inner):
            return part
        new = _NUMBER.sub(lambda match: b"%d" % follow(int(match[0])), inner)
        return part if new == inner else as_text(new, part)
    found = _PHP_NUMBER.fullmatch(part)
    if found is None and not _NUMBER.fullmatch(part):
        return part
    number = int(found[1] if found is not None else part)
    new_number = follow(number)
    return part if new_number == number else literal(new_number, value)
