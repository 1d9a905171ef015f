"""What two environments have in common, where merges moved that on since the last transfer between them.

A merge brings one side's changes into the other. From then on what was merged is common: what the side that it came
from has, and, in the other one, that as it is there. So the next merge begins where this one ended, and what the
target has of its own is still news to the other side.
"""

from __future__ import annotations

import base64
import copy
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

from ..database import Batch
from ..database.row_codec import cells_of, records_of
from .references import IdMaps, Row
from .sides import Changed, Key
from .steps import Agreed

Rows = dict[Key, Row | None]  # None for a row that is not there


@dataclass
class CommonState:
    """Rows of the common state that are not those of the transfer, by environment and table (without prefix), and the
    numbers that rows of the environment ``first`` have in the other one, where they are others."""

    first: str
    rows: dict[str, dict[str, Rows]] = field(
        default_factory=lambda: defaultdict(lambda: defaultdict(dict))
    )
    maps: IdMaps = field(default_factory=IdMaps)

    def maps_from(self, environment: str) -> IdMaps:
        """The numbers that rows of an environment have in the other one."""
        return copy.deepcopy(self.maps if environment == self.first else self.maps.reversed())

    def add(self, incoming: str, target: str, agreed: Iterable[Agreed], maps: IdMaps) -> None:
        """Put on record what a merge made common; ``maps`` are all numbers from ``incoming`` to ``target``."""
        for one in agreed:
            self.rows[incoming][one.table][one.incoming_key] = one.incoming
            if one.target_key is not None:
                self.rows[target][one.table][one.target_key] = one.target
        self.maps = maps if incoming == self.first else maps.reversed()

    def changes(
        self,
        environment: str,
        table: str,
        found: Mapping[Key, Changed],
        now: Callable[[Iterable[Key]], Mapping[Key, Row]],
    ) -> dict[Key, Changed]:
        """What an environment changed in a table since then, out of what it changed since the transfer; ``now`` reads
        its rows."""
        mine = self.rows[environment][table] if environment in self.rows else {}
        if not mine:
            return dict(found)
        changes = dict(found)
        there = now([key for key in mine if key not in found])
        for key, row in mine.items():
            after = found[key].after if key in found else there.get(key)
            if same(row, after):
                changes.pop(key, None)
            else:
                changes[key] = Changed(row, after)
        return changes

    def lines(self, *, mixed: bool) -> Iterator[dict[str, Any]]:
        """For keeping: one document for each row, and one for the numbers."""
        for environment, tables in self.rows.items():
            for table, rows in tables.items():
                for key, row in rows.items():
                    yield {
                        "environment": environment,
                        "table": table,
                        "key": _packed(key, mixed=mixed),
                        "row": None if row is None else _packed(row, mixed=mixed),
                    }
        for table, ids in self.maps.ids.items():
            yield {"table": table, "numbers": sorted(ids.items())}
        yield {"away": sorted(self.maps.away), "alone": sorted(self.maps.alone)}

    @classmethod
    def of_lines(
        cls, first: str, lines: Iterable[Mapping[str, Any]], *, mixed: bool
    ) -> CommonState:
        """Raises KeyError, TypeError or ValueError where they are no such lines."""
        found = cls(first)
        for line in lines:
            if "numbers" in line:
                for here, there in line["numbers"]:
                    found.maps.put(str(line["table"]), int(here), int(there))
                continue
            if "away" in line:
                for name, rows in (("away", found.maps.away), ("alone", found.maps.alone)):
                    rows.update((str(table), int(number)) for table, number in line[name])
                continue
            row = line["row"]
            mine = found.rows[str(line["environment"])][str(line["table"])]
            mine[tuple(_unpacked(line["key"], mixed=mixed))] = (
                None if row is None else _unpacked(row, mixed=mixed)
            )
        return found


def same(one: Row | None, other: Row | None) -> bool:
    """Whether two rows are equal, cell by cell."""
    if one is None or other is None:
        return one is other
    return list(one) == list(other)


def _packed(row: Row, *, mixed: bool) -> str:
    batch = Batch(len(row), list(row), 0, mixed)
    return base64.b64encode(records_of(batch)[0]).decode()


def _unpacked(text: str, *, mixed: bool) -> Row:
    return cells_of(base64.b64decode(text, validate=True), mixed)
