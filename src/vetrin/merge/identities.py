"""Which row of one side is which of the other, and the numbers of rows that both made."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ..cms import LinkRule, NaturalRule
from ..database.batch import Cell
from .references import IdMaps, References, Row
from .sides import Changed, Key, MergeRules, Neighbours, TableSides, whole


@dataclass
class Entry:
    """A change of the incoming side. ``base_key`` is its key in the common state, and ``then_key`` the one that the
    target had there; ``target_key`` is the one in the target now. ``twice``: the target made a row of its own that is
    the same. ``out``: it does not come, as it would lead nowhere."""

    sides: TableSides
    key: Key
    before: Row | None
    after: Row | None
    carried: Row | None
    base_key: Key
    then_key: Key | None = None
    target_key: Key | None = None
    twice: bool = False
    out: bool = False


class Identities:
    """Tells of each row that came which one it is in the target. Numbers that are given anew are put into ``maps``;
    ``moved`` are the keys of rows that the target made anew under another key."""

    def __init__(
        self,
        tables: Sequence[TableSides],
        rules: MergeRules,
        near: Neighbours,
        maps: IdMaps,
        references: References,
    ) -> None:
        self._rules = rules
        self._near = near
        self._maps = maps
        self._theirs = references
        self._links = [link for link in rules.definition.links if link.through is None]
        self.tables = {sides.name: sides for sides in _owners_first(tables, self._links)}
        self.moved: dict[tuple[str, Key], Key] = {}
        self.entries: dict[str, list[Entry]] = {}
        for sides in self.tables.values():
            self._identify(sides)

    def _identify(self, sides: TableSides) -> None:
        """Tell of each row that came which one it is in the target."""
        natural = self._rules.definition.natural(sides.name)
        mine, moved = _paired(sides, sides.incoming, natural)
        for old, now in _paired(sides, sides.target, natural)[1].items():
            self.moved[sides.name, old] = now
        came = {now: old for old, now in moved.items()}
        entries = [
            Entry(
                sides,
                key,
                changed.before,
                changed.after,
                sides.carried.get(key),
                came.get(key, key),
            )
            for key, changed in mine.items()
        ]
        self.entries[sides.name] = entries
        for entry in entries:
            if entry.before is not None:
                key = entry.then_key = self._key_there(sides, entry.before, entry.base_key)
                entry.target_key = self.moved.get((sides.name, key), key)
                if entry.key != entry.base_key:
                    self._number(sides, entry.key, entry.target_key)
        new = [entry for entry in entries if entry.before is None]
        if natural is not None and new:
            self._same_by_nature(sides, natural, new)
        new = [entry for entry in new if entry.target_key is None]
        if not new:
            return
        if sides.counts_up and not self._is_linked(sides):
            self._give_numbers(sides, new)
            return
        keys = {id(entry): self._key_there(sides, entry.after or (), entry.key) for entry in new}
        there = self._near.rows(sides.name, keys.values())
        for entry in new:
            key = entry.target_key = keys[id(entry)]
            entry.twice = key in there
            self._number(sides, entry.key, key)

    def _key_there(self, sides: TableSides, row: Row, key: Key) -> Key:
        """The key of a row of the incoming side in the target."""
        if sides.counts_up and not self._is_linked(sides):
            number = whole(key[0])
            new = self._maps.there(sides.name, number)
            return (_like(key[0], new),)
        row = self._theirs.renumbered(sides.name, sides.names, row, row, self._maps)
        return sides.key_of(row)

    def _is_linked(self, sides: TableSides) -> bool:
        """Whether a table's only key is a number of another table's row."""
        return any(
            link.table == sides.name and link.column == sides.table.key[0] for link in self._links
        )

    def _number(self, sides: TableSides, key: Key, there: Key) -> None:
        """Keep which number a row has in the target."""
        if sides.counts_up and key != there:
            self._maps.put(sides.name, whole(key[0]), whole(there[0]))

    def _give_numbers(self, sides: TableSides, new: Sequence[Entry]) -> None:
        """Rows keep the numbers that they have where these are above all that the target gave."""
        least = self._near.next_number(sides.name)
        numbers = [whole(entry.key[0]) for entry in new]
        taken = self._maps.taken(sides.name)
        free = max([least, *(number + 1 for number in (*numbers, *taken) if number >= least)])
        for entry, number in zip(new, numbers, strict=True):
            if number >= least and number not in taken:
                entry.target_key = entry.key
                self._maps.keep(sides.name, number)
            else:
                entry.target_key = (_like(entry.key[0], free),)
                self._maps.put(sides.name, number, free)
                free += 1

    def _same_by_nature(self, sides: TableSides, rule: NaturalRule, new: Sequence[Entry]) -> None:
        """Find rows that the target has already, under whatever number."""
        names = sides.names
        wanted: dict[Key, list[Entry]] = defaultdict(list)
        row: Row
        for entry in new:
            assert entry.after is not None and entry.carried is not None
            row = self._theirs.renumbered(sides.name, names, entry.after, entry.carried, self._maps)
            key = (*_natural(rule, names, row), *self._also(rule, sides, entry.key[0]))
            wanted[key].append(entry)
        there: dict[Key, list[Row]] = defaultdict(list)
        rows = self._near.find(sides.name, rule.key[0], {key[0] for key in wanted})
        own = self._also_there(rule, [row[sides.places[0]] for row in rows])
        for row in rows:
            for also in own.get(row[sides.places[0]], [()] if not rule.also else []):
                there[(*_natural(rule, names, row), *also)].append(row)
        for key, entries in wanted.items():
            found = there.get(key, [])
            if rule.several and (len(found) != 1 or len(entries) != 1):
                _match_equal(sides, entries, found)
            elif found:
                for entry in entries:
                    entry.target_key, entry.twice = sides.key_of(found[0]), True
            for entry in entries:
                if entry.target_key is not None:
                    self._number(sides, entry.key, entry.target_key)

    def _also(self, rule: NaturalRule, sides: TableSides, number: Cell) -> Key:
        """What else makes a row of the incoming side the same, from the row of another table."""
        if rule.through is None:
            return ()
        table, _, column = rule.through.partition(".")
        other = self.tables.get(table)
        if other is None:
            return (None,) * len(rule.also)
        names = other.names
        for changed in other.incoming.values():
            if changed.after is not None and changed.after[names.index(column)] == number:
                return tuple(changed.after[names.index(name)] for name in rule.also)
        return (None,) * len(rule.also)

    def _also_there(self, rule: NaturalRule, numbers: Sequence[Cell]) -> dict[Cell, list[Key]]:
        found: dict[Cell, list[Key]] = defaultdict(list)
        if rule.through is None:
            return found
        table, _, column = rule.through.partition(".")
        other = self.tables.get(table)
        if other is None:
            return found
        names = other.names
        for row in self._near.find(table, column, numbers):
            number = row[names.index(column)]
            found[number].append(tuple(row[names.index(name)] for name in rule.also))
        return found


def _paired(
    sides: TableSides, changes: Mapping[Key, Changed], rule: NaturalRule | None
) -> tuple[dict[Key, Changed], dict[Key, Key]]:
    """The changes of one side, where a row that went and one that came are the same by nature as one change; the keys
    of such, as they were and as they are."""
    if rule is None or rule.through is not None:
        return dict(changes), {}
    names = sides.names
    went: dict[Key, list[Key]] = defaultdict(list)
    came: dict[Key, list[Key]] = defaultdict(list)
    for key, changed in changes.items():
        if changed.after is None and changed.before is not None:
            went[_natural(rule, names, changed.before)].append(key)
        elif changed.before is None and changed.after is not None:
            came[_natural(rule, names, changed.after)].append(key)
    found, moved = dict(changes), {}
    for nature, keys in went.items():
        if len(keys) == len(came.get(nature, ())) == 1:
            old, new = keys[0], came[nature][0]
            found[new] = Changed(changes[old].before, changes[new].after)
            del found[old]
            moved[old] = new
    return found, moved


def _natural(rule: NaturalRule, names: Sequence[str], row: Row) -> Key:
    return tuple(_folded(row[names.index(name)]) for name in rule.key)


def _folded(cell: Cell) -> Cell:
    return bytes(cell) if isinstance(cell, bytes) else cell


def _match_equal(sides: TableSides, entries: Sequence[Entry], found: Sequence[Row]) -> None:
    """Of rows that may be there several times, those of equal content are the same."""
    rest = list(found)
    free = [place for place in range(len(sides.names)) if place not in sides.places]
    for entry in entries:
        assert entry.carried is not None
        for row in rest:
            if all(row[place] == entry.carried[place] for place in free):
                entry.target_key, entry.twice = sides.key_of(row), True
                rest.remove(row)
                break


def _owners_first(tables: Sequence[TableSides], links: Sequence[LinkRule]) -> list[TableSides]:
    """Tables in an order in which those come first whose rows others name."""
    rest, found = {sides.name: sides for sides in tables}, []
    while rest:
        for name in rest:
            owners = {link.owner[0] for link in links if link.table == name} - {name}
            if not owners & rest.keys():
                break
        else:
            name = next(iter(rest))
        found.append(rest.pop(name))
    return found


def _like(cell: Cell, number: int) -> Cell:
    return b"%d" % number if isinstance(cell, bytes) else number
