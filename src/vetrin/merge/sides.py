"""What two sides changed in a table, what else is asked of them, and what a definition says of merging."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Literal, Protocol

from msgspec import Struct

from ..cms import Definition
from ..database import Table
from ..database.batch import Cell
from .conditions import text_of
from .references import Row, Side

Key = tuple[Cell, ...]
State = Literal["added", "changed", "removed"]


class Changed(Struct, frozen=True):
    """A row as it was and as it is, in one environment: ``before`` is None where it came, ``after`` where it went."""

    before: Row | None
    after: Row | None

    @property
    def state(self) -> State:
        if self.before is None:
            return "added"
        return "removed" if self.after is None else "changed"


@dataclass
class TableSides:
    """What both sides changed in a table, by key. ``name`` is without prefix, ``table`` that of the target, whose
    columns both have. ``carried`` are the rows that the incoming side changed as the target would have them, but for
    numbers. ``visitors``: its rows come from visitors of the site."""

    name: str
    table: Table
    incoming: dict[Key, Changed]
    carried: dict[Key, Row]
    target: dict[Key, Changed]
    visitors: bool = False

    @property
    def names(self) -> list[str]:
        return [column.name for column in self.table.columns]

    @property
    def places(self) -> list[int]:
        """Where the columns of its key are."""
        names = self.names
        return [names.index(name) for name in self.table.key]

    def key_of(self, row: Row) -> Key:
        return tuple(row[place] for place in self.places)

    @property
    def counts_up(self) -> bool:
        """Whether a row is known by one whole number."""
        places = self.places
        if len(places) != 1:
            return False
        for changes in (self.incoming, self.target):
            for key in changes:
                return _is_number(key[0])
        return not self.table.columns[places[0]].text


class Neighbours(Protocol):
    """What is asked of both environments beyond what changed in them; of the target as it is now."""

    @property
    def incoming(self) -> Side:
        """The environment that rows come from."""

    @property
    def target(self) -> Side:
        """The environment that they go to."""

    def rows(self, table: str, keys: Iterable[Key]) -> dict[Key, Row]:
        """The target's rows of some keys."""

    def find(self, table: str, column: str, values: Iterable[Cell]) -> list[Row]:
        """The target's rows of which a column has one of some values."""

    def brought(self, table: str, column: str, value: Cell) -> list[tuple[Row, Row]]:
        """The incoming side's rows of which a column has a value, each as it is and as the target would have it."""

    def next_number(self, table: str) -> int:
        """A number above all that the target gave to rows of a table."""


class MergeRules(Struct, frozen=True):
    """What else decides how rows are merged. ``keep_visitors``: nothing that visitors made is removed unless asked.
    ``title`` names a row for a person; ``hosts`` are those of both sides' addresses, with their ports."""

    definition: Definition
    keep_visitors: bool = True
    hosts: frozenset[bytes] = frozenset()
    title: Callable[[str, Sequence[str], Row], str] = lambda table, names, row: ""

    def latest(self, table: str) -> set[str]:
        places = (place.partition(".") for place in self.definition.merge.latest)
        return {column for one, _, column in places if one == table}

    def setting_name(self, table: str, names: Sequence[str], row: Row) -> str:
        rule = self.definition.settings
        if rule is None or rule.table != table:
            return ""
        return text_of(row[names.index(rule.name)])


def _is_number(cell: Cell) -> bool:
    if isinstance(cell, bytes):
        return cell.isdigit()
    return isinstance(cell, int)


def whole(cell: Cell) -> int:
    """A cell as a whole number; 0 for any other."""
    with contextlib.suppress(TypeError, ValueError):
        return int(cell)  # type: ignore[arg-type]
    return 0
