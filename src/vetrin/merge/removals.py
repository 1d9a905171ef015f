"""Rows that the incoming side removed, with all that belongs to them."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator
from functools import cached_property

from ..database.batch import Cell
from .conditions import meets
from .conflicts import Kind
from .identities import Entry
from .references import Row
from .sides import Key, TableSides, whole
from .steps import Merged, RowStep
from .work import MergeWork


class Removals:
    """Works out which rows of the target go. ``removing`` are those that do."""

    def __init__(self, work: MergeWork, found: Merged) -> None:
        self._work = work
        self._found = found
        self.removing: set[tuple[str, Key]] = set()
        # Rows that the incoming side removed, and that stay.
        self._staying: set[tuple[str, int]] = set()

    def remove(self, entry: Entry) -> None:
        """What becomes of a row that the incoming side removed."""
        sides, key = entry.sides, entry.target_key
        assert key is not None
        now = self._work.now(entry)
        if now is None or (sides.name, key) in self.removing:
            return
        asked = self._work.decisions.rules.of_table(sides.name)
        if sides.visitors and self._work.rules.keep_visitors and asked != "incoming":
            self._found.kept[sides.name] += 1
            return
        if self._belongs_to_what_stays(entry):
            self._stay(sides, key)
            return
        gained = self._gained(sides, key)
        kind: Kind | None = None
        if self._is_edited(sides, key) or gained:
            kind = "removed-here"
        elif self._may_be_of_visitors(sides, now):
            kind = "removed-from-visitors"
        if kind is not None:
            path = tuple(f"{count} in {table}" for table, count in sorted(gained.items()))
            if self._work.decide(kind, entry, path=path, row=now, target=now).take == "target":
                self._stay(sides, key)
                return
        self._take_away(sides, key, now)

    def _may_be_of_visitors(self, sides: TableSides, row: Row) -> bool:
        """Whether visitors may have made a row of a table that holds others as well."""
        target = self._work.near.target
        return self._work.rules.keep_visitors and any(
            meets(target.condition(rule.where), sides.names, row, target.within)
            for rule in self._work.rules.definition.visitors
            if rule.table == sides.name
        )

    def _stay(self, sides: TableSides, key: Key) -> None:
        if sides.counts_up:
            self._staying.add((sides.name, whole(key[0])))

    def _belongs_to_what_stays(self, entry: Entry) -> bool:
        """Whether a row cannot be without one that stays: then that keeps it."""
        sides = entry.sides
        return any(
            one.needed and (one.table, self._work.maps.there(one.table, one.id)) in self._staying
            for one in self._work.theirs.of(sides.name, sides.names, entry.before or ())
        )

    def _take_away(self, sides: TableSides, key: Key, row: Row) -> None:
        """Remove a row of the target with all that cannot be without it."""
        if (sides.name, key) in self.removing:
            return
        self.removing.add((sides.name, key))
        self._found.steps.append(RowStep(sides.name, key, row, None))
        if not sides.counts_up:
            return
        for other, dependent in self._dependents(sides.name, key[0]):
            self._take_away(other, other.key_of(dependent), dependent)

    def _dependents(self, table: str, number: Cell) -> Iterator[tuple[TableSides, Row]]:
        for link in self._work.links:
            other = self._work.tables.get(link.table)
            if link.owner[0] != table or link.then != "leave" or other is None:
                continue
            where = self._work.near.target.condition(link.where)
            for row in self._work.near.find(link.table, link.column, [number]):
                if meets(where, other.names, row, self._work.near.target.within):
                    yield other, row

    def _is_edited(self, sides: TableSides, key: Key) -> bool:
        """Whether the target changed a row otherwise than by counting what belongs to it."""
        changed = sides.target.get(key)
        if changed is None or changed.before is None or changed.after is None:
            return changed is not None
        counted = self._work.rules.definition.counted(sides.name) | self._work.rules.latest(
            sides.name
        )
        return any(
            one != other and name not in counted
            for name, one, other in zip(sides.names, changed.before, changed.after, strict=True)
        )

    def _gained(self, sides: TableSides, key: Key) -> Counter[str]:
        """What the target newly leads to a row, what it changed of all that belongs to it, and what visitors have
        there, by table."""
        found: Counter[str] = Counter()
        if not sides.counts_up:
            return found
        named = self._newly_named.get((sides.name, whole(key[0])), set())
        for other, row in self._dependents(sides.name, key[0]):
            there = other.key_of(row)
            visited = other.visitors and self._work.rules.keep_visitors
            if (visited or self._is_edited(other, there)) and (other.name, there) not in named:
                found[other.name] += 1
        found.update(name for name, _ in named)
        return found

    @cached_property
    def _newly_named(self) -> dict[tuple[str, int], set[tuple[str, Key]]]:
        """In which rows the target came to name another row, by the table and the number of that."""
        found: dict[tuple[str, int], set[tuple[str, Key]]] = defaultdict(set)
        for name, sides in self._work.tables.items():
            for key, changed in sides.target.items():
                for one in self._work.names_newly(self._work.ours, sides, changed):
                    found[one].add((name, key))
        return found
