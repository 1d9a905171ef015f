"""A three-way merge of the rows of several tables.

Rows are the same by their key, or by what a definition says makes them so. What one side changed of a row is told
column by column; a row that both made under one number becomes two, and all that names the one that came follows.
"""

from __future__ import annotations

import contextlib
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Literal

from ..database import Condition
from ..database.base import Cell
from ..database.row_codec import Text
from .conditions import meets, text_of
from .conflicts import Conflict, Decision, Decisions, Kind
from .identities import Entry, Identities
from .numbered import Renames, clashing_keys, names_of, with_keys, with_names
from .references import Column, IdMaps, References, Row
from .sides import Changed, Key, MergeRules, Neighbours, TableSides, whole
from .values import ValueMerge, Versions, merge_value


@dataclass(frozen=True)
class RowStep:
    """What is to be done to a row of the target: from ``before``, as it is there, to ``after``; None where it is not
    there, or is not to be. ``table`` is without prefix."""

    table: str
    key: Key
    before: Row | None
    after: Row | None

    @property
    def kind(self) -> Literal["added", "changed", "removed"]:
        if self.before is None:
            return "added"
        return "removed" if self.after is None else "changed"


@dataclass(frozen=True)
class Agreed:
    """A row of the state that both sides have in common once the merge is done: what it is in the incoming side, and
    in the target. None where it is not there."""

    table: str
    incoming_key: Key
    incoming: Row | None
    target_key: Key | None
    target: Row | None


@dataclass
class Merged:
    """What becomes of the target. ``kept`` are rows that visitors made and that stay although the incoming side
    removed its copy, by table; ``maps`` the numbers that rows of the incoming side have in the target. ``renamed``
    are names that the target had already: the table, and the name as it came and as it is now."""

    steps: list[RowStep] = field(default_factory=list)
    agreed: list[Agreed] = field(default_factory=list)
    kept: Counter[str] = field(default_factory=Counter)
    maps: IdMaps = field(default_factory=IdMaps)
    renamed: list[tuple[str, str, str]] = field(default_factory=list)


def merge_tables(
    tables: Sequence[TableSides],
    rules: MergeRules,
    near: Neighbours,
    maps: IdMaps,
    decisions: Decisions,
) -> Merged:
    """The steps that bring what the incoming side changed into the target. ``maps`` are the numbers that earlier
    merges gave; those that are new are added."""
    return _Merge(tables, rules, near, maps, decisions).done()


class _Merge:
    def __init__(
        self,
        tables: Sequence[TableSides],
        rules: MergeRules,
        near: Neighbours,
        maps: IdMaps,
        decisions: Decisions,
    ) -> None:
        self._rules = rules
        self._near = near
        self._maps = maps
        self._decisions = decisions
        self._links = [link for link in rules.definition.links if link.through is None]
        self._theirs = References(rules.definition, near.incoming, rules.hosts)
        self._ours = References(rules.definition, near.target, rules.hosts)
        found = Identities(tables, rules, near, maps, self._theirs)
        self._tables, self._entries, self._moved = found.tables, found.entries, found.moved
        self._there: dict[tuple[str, Key], Row] = {}
        self._removing: set[tuple[str, Key]] = set()
        self._staying: set[tuple[str, int]] = (
            set()
        )  # rows that the incoming side removed, and that stay
        self._found = Merged(maps=maps)

    def done(self) -> Merged:
        self._look_at_targets()
        self._give_keys()
        self._leading_nowhere()
        for entries in self._entries.values():
            for entry in entries:
                if entry.after is None:
                    self._removed(entry)
        for entries in self._entries.values():
            for entry in entries:
                if entry.after is not None:
                    self._came(entry)
        return self._found

    def _look_at_targets(self) -> None:
        """Read the target's rows of all that changed."""
        for name, entries in self._entries.items():
            keys = [entry.target_key for entry in entries if entry.target_key is not None]
            if keys:
                for key, row in self._near.rows(name, keys).items():
                    self._there[name, key] = row

    def _give_keys(self) -> None:
        """Have parts of values that come get other keys where the target gave the same ones to parts of its own."""
        for rule in self._rules.definition.numbered:
            table, _, column = rule.at.partition(".")
            where = self._near.incoming.condition(rule.where)
            renames: dict[bytes, bytes] = {}
            for entry in self._entries.get(table, ()):
                names = entry.sides.names
                after, carried = entry.after, entry.carried
                if after is None or carried is None or entry.target_key is None:
                    continue
                now = self._now(entry)
                if now is None or not meets(where, names, after, self._near.incoming.within):
                    continue
                place = names.index(column)
                before = None if entry.before is None else entry.before[place]
                keys = clashing_keys(before, carried[place], now[place])
                if keys:
                    cells = list(carried)
                    cells[place] = with_keys(carried[place], keys)
                    entry.carried = cells
                    renames.update(names_of(rule, names, after, keys))
            for text in rule.in_ if renames else ():
                self._follow_keys(Column.parse(text), renames)

    def _follow_keys(self, column: Column, renames: Renames) -> None:
        for entry in self._entries.get(column.table, ()):
            if entry.carried is None:
                continue
            table, names = entry.sides.name, entry.sides.names
            entry.carried = with_names(column, table, names, entry.carried, renames)

    def _now(self, entry: Entry) -> Row | None:
        assert entry.target_key is not None
        return self._there.get((entry.sides.name, entry.target_key))

    def _then(self, entry: Entry) -> Row | None:
        """The target's row in the common state: as it is now where the target did not change it."""
        if entry.then_key is None:
            return None
        changed = entry.sides.target.get(entry.then_key)
        return self._now(entry) if changed is None else changed.before

    # -- what would lead nowhere ------------------------------------------------------------------------------

    def _leading_nowhere(self) -> None:
        """Rows that came and name one that the target removed are asked about; what needs a row that does not come
        does not come either."""
        gone = {
            (name, whole(key[0]))
            for name, sides in self._tables.items()
            if sides.counts_up
            for key, changed in sides.target.items()
            if changed.after is None and (name, key) not in self._moved
        }
        lost: set[tuple[str, int]] = set()  # by the numbers of the incoming side
        again = True
        while again:
            again = False
            for entries in self._entries.values():
                for entry in entries:
                    if entry.after is None or entry.out:
                        continue
                    if self._leads_nowhere(entry, gone, lost):
                        entry.out = again = True
                        self._stays_away(entry, lost)
                        again = self._with_what_it_is_of(entry, lost) or again

    def _leads_nowhere(
        self, entry: Entry, gone: set[tuple[str, int]], lost: set[tuple[str, int]]
    ) -> bool:
        sides = entry.sides
        assert entry.after is not None
        new = self._names_newly(self._theirs, sides, Changed(entry.before, entry.after))
        for one in self._theirs.of(sides.name, sides.names, entry.after):
            if one.needed and (one.table, one.id) in lost:
                return True
            there = self._maps.there(one.table, one.id)
            away = (one.table, there) in gone or not there
            if away and one[:2] in new and (one.table, one.id) not in lost:
                decided = self._decide(
                    "leads-nowhere", entry, path=(f"{one.table} {there}",), row=entry.after
                )
                if decided.take == "target":
                    return True
        return False

    def _with_what_it_is_of(self, entry: Entry, lost: set[tuple[str, int]]) -> bool:
        """A row that another one cannot be without takes that along: so the entry of a menu goes with the data that
        says where it leads."""
        again = False
        for link in self._rules.definition.links:
            if link.through is None or link.then != "leave":
                continue
            table, _, column = link.through.partition(".")
            owner = self._entries.get(link.table, ())
            if table != entry.sides.name or entry.after is None:
                continue
            names = entry.sides.names
            where = self._near.incoming.condition(link.through_where)
            if not meets(where, names, entry.after, self._near.incoming.within):
                continue
            number = whole(entry.after[names.index(column)])
            for other in owner:
                if other.before is None and not other.out and whole(other.key[0]) == number:
                    other.out = again = True
                    self._stays_away(other, lost)
        return again

    def _stays_away(self, entry: Entry, lost: set[tuple[str, int]]) -> None:
        """A row that does not come has no number in the target."""
        if entry.before is None and entry.sides.counts_up:
            number = whole(entry.key[0])
            lost.add((entry.sides.name, number))
            self._maps.leave_out(entry.sides.name, number)

    # -- what becomes of it -----------------------------------------------------------------------------------

    def _removed(self, entry: Entry) -> None:
        sides, key = entry.sides, entry.target_key
        assert key is not None
        now = self._now(entry)
        self._agree(entry, None)
        if now is None or (sides.name, key) in self._removing:
            return
        if sides.visitors and self._rules.keep_visitors:
            self._found.kept[sides.name] += 1
            return
        if self._belongs_to_what_stays(entry):
            self._stay(sides, key)
            return
        gained = self._gained(sides, key)
        if self._is_edited(sides, key) or gained:
            path = tuple(f"{count} in {table}" for table, count in sorted(gained.items()))
            if self._decide("removed-here", entry, path=path, row=now, target=now).take == "target":
                self._stay(sides, key)
                return
        self._take_away(sides, key, now)

    def _stay(self, sides: TableSides, key: Key) -> None:
        if sides.counts_up:
            self._staying.add((sides.name, whole(key[0])))

    def _belongs_to_what_stays(self, entry: Entry) -> bool:
        """Whether a row cannot be without one that stays: then that keeps it."""
        sides = entry.sides
        return any(
            one.needed and (one.table, self._maps.there(one.table, one.id)) in self._staying
            for one in self._theirs.of(sides.name, sides.names, entry.before or ())
        )

    def _take_away(self, sides: TableSides, key: Key, row: Row) -> None:
        """Remove a row of the target with all that cannot be without it."""
        if (sides.name, key) in self._removing:
            return
        self._removing.add((sides.name, key))
        self._found.steps.append(RowStep(sides.name, key, row, None))
        if not sides.counts_up:
            return
        for other, dependent in self._dependents(sides.name, key[0]):
            self._take_away(other, other.key_of(dependent), dependent)

    def _dependents(self, table: str, number: Cell) -> Iterator[tuple[TableSides, Row]]:
        for link in self._links:
            other = self._tables.get(link.table)
            if link.owner[0] != table or link.then != "leave" or other is None:
                continue
            where = self._near.target.condition(link.where)
            for row in self._near.find(link.table, link.column, [number]):
                if meets(where, other.names, row, self._near.target.within):
                    yield other, row

    def _is_edited(self, sides: TableSides, key: Key) -> bool:
        """Whether the target changed a row otherwise than by counting what belongs to it."""
        changed = sides.target.get(key)
        if changed is None or changed.before is None or changed.after is None:
            return changed is not None
        counted = self._rules.counted(sides.name) | self._rules.latest(sides.name)
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
            visited = other.visitors and self._rules.keep_visitors
            if (visited or self._is_edited(other, there)) and (other.name, there) not in named:
                found[other.name] += 1
        found.update(name for name, _ in named)
        return found

    @cached_property
    def _newly_named(self) -> dict[tuple[str, int], set[tuple[str, Key]]]:
        """In which rows the target came to name another row, by the table and the number of that."""
        found: dict[tuple[str, int], set[tuple[str, Key]]] = defaultdict(set)
        for name, sides in self._tables.items():
            for key, changed in sides.target.items():
                for one in self._names_newly(self._ours, sides, changed):
                    found[one].add((name, key))
        return found

    @staticmethod
    def _names_newly(
        references: References, sides: TableSides, changed: Changed
    ) -> set[tuple[str, int]]:
        """The rows that a row names, and did not name before."""
        after, before = (
            set()
            if row is None
            else {one[:2] for one in references.of(sides.name, sides.names, row)}
            for row in (changed.after, changed.before)
        )
        return after - before

    def _came(self, entry: Entry) -> None:
        sides, key = entry.sides, entry.target_key
        assert key is not None and entry.after is not None and entry.carried is not None
        new = self._theirs.renumbered(
            sides.name, sides.names, entry.after, entry.carried, self._maps
        )
        for place, cell in zip(sides.places, key, strict=True):
            new[place] = cell
        if entry.before is None and not entry.twice and not entry.out:
            self._make_distinct(entry, new)
        if entry.out and entry.before is None:
            # The target never had it: only the incoming side does.
            self._found.agreed.append(Agreed(sides.name, entry.key, entry.after, None, None))
            return
        self._agree(entry, new)
        if entry.out:
            return
        now = self._now(entry)
        if (sides.name, key) in self._removing:
            now = None
        if now is None:
            if entry.before is not None:
                decided = self._decide("removed-there", entry, row=new, incoming=new)
                if decided.take == "target":
                    return
                self._bring_back(sides, entry.key[0])
            self._found.steps.append(RowStep(sides.name, key, None, new))
            return
        after = self._merged(entry, new, now)
        if list(after) != list(now):
            self._found.steps.append(RowStep(sides.name, key, now, after))

    def _bring_back(self, sides: TableSides, number: Cell) -> None:
        """Have what cannot be without a row come back with it, as the target removed it along with that."""
        if not sides.counts_up:
            return
        for link in self._links:
            other = self._tables.get(link.table)
            if link.owner[0] != sides.name or link.then != "leave" or other is None:
                continue
            where = self._near.incoming.condition(link.where)
            for own, carried in self._near.brought(link.table, link.column, number):
                key = other.key_of(own)
                if key in other.incoming or not meets(
                    where, other.names, own, self._near.incoming.within
                ):
                    continue
                new = self._theirs.renumbered(other.name, other.names, own, carried, self._maps)
                there = other.key_of(new)
                if other.counts_up:
                    there = (key[0],)
                if self._near.rows(other.name, [there]) or there not in other.target:
                    continue
                for place, cell in zip(other.places, there, strict=True):
                    new[place] = cell
                self._found.steps.append(RowStep(other.name, there, None, new))
                self._found.agreed.append(Agreed(other.name, key, own, there, new))
                self._bring_back(other, key[0])

    def _make_distinct(self, entry: Entry, new: list[Cell]) -> None:
        """Give a row that comes another name where one that is there has its own."""
        sides, names = entry.sides, entry.sides.names
        for rule in self._rules.definition.distinct:
            if rule.table != sides.name or not (text := text_of(new[names.index(rule.column)])):
                continue
            where, within = self._near.target.condition(rule.where), self._near.target.within
            if not meets(where, names, new, within):
                continue
            place, among = names.index(rule.column), [names.index(name) for name in rule.among]

            def is_taken(
                text: str,
                place: int = place,
                among: list[int] = among,
                where: Condition = where,
            ) -> bool:
                name = _typed(new[place], text.encode())
                rows = self._near.find(sides.name, names[place], [name])
                coming = [one.after for one in self._found.steps if one.table == sides.name]
                return any(
                    row is not None
                    and row[place] == name
                    and all(row[at] == new[at] for at in among)
                    and sides.key_of(row) != entry.target_key
                    and (sides.name, sides.key_of(row)) not in self._removing
                    and meets(where, names, row, self._near.target.within)
                    for row in (*rows, *coming)
                )

            number, found = 2, text
            while is_taken(found):
                found, number = f"{text}-{number}", number + 1
            if found != text:
                new[place] = _typed(new[place], found.encode())
                self._found.renamed.append((sides.name, text, found))

    def _merged(self, entry: Entry, new: Row, now: Row) -> Row:
        """A row that both have, column by column."""
        sides = entry.sides
        then = self._then(entry)
        rule = self._rules.natural(sides.name)
        own = set(rule.own) if rule is not None and entry.twice else set()
        own |= self._rules.counted(sides.name) | set(sides.table.key)
        latest = self._rules.latest(sides.name)
        found = list(now)
        for place, column in enumerate(sides.table.columns):
            if column.name in own:
                continue
            cells = _cells(entry, new, then, now, place)
            if cells[2] == cells[4] or (entry.before is not None and cells[0] == cells[1]):
                continue
            if column.name in latest:
                found[place] = max((cells[2], cells[4]), key=text_of)
                continue
            found[place] = self._cell(entry, now, place, cells)
        return found

    def _cell(self, entry: Entry, now: Row, place: int, cells: Sequence[Cell]) -> Cell:
        """One cell that the incoming side changed, out of its five versions."""
        sides = entry.sides
        column = sides.table.columns[place]
        made: Kind = "made-twice" if entry.twice else "value"

        def choose(
            path: tuple[str, ...], base: bytes | None, incoming: bytes | None, target: bytes | None
        ) -> bytes | None:
            conflict = self._conflict(made, entry, column.name, path, now, base, incoming, target)
            return self._decisions.value(conflict)

        is_set = self._sets(sides, now, column.name)
        values = [_raw(cell) for cell in cells]
        value = merge_value(Versions(*values), ValueMerge(choose, is_set, column.text))
        for cell, raw in ((cells[4], values[4]), (cells[2], values[2])):
            if value == raw:
                return cell
        return _typed(cells[4] if cells[4] is not None else cells[2], value)

    def _sets(self, sides: TableSides, row: Row, column: str) -> Callable[[tuple[str, ...]], bool]:
        paths = [
            path.split(".") if path else []
            for rule in self._rules.definition.sets
            if rule.at == f"{sides.name}.{column}"
            and meets(
                self._near.target.condition(rule.where), sides.names, row, self._near.target.within
            )
            for path in rule.paths
        ]
        return lambda path: any(
            len(path) == len(one) and all(a in ("*", b) for a, b in zip(one, path, strict=True))
            for one in paths
        )

    # -- conflicts, and what both have in common ----------------------------------------------------------------

    def _conflict(
        self, kind: Kind, entry: Entry, column: str, path: tuple[str, ...], row: Row,
        base: bytes | None, incoming: bytes | None, target: bytes | None,
    ) -> Conflict:  # fmt: skip
        sides = entry.sides
        key = ", ".join(
            f"{name}={text_of(cell)}"
            for name, cell in zip(sides.table.key, entry.target_key or entry.key, strict=True)
        )
        name = self._rules.setting_name(sides.name, sides.names, row)
        title = self._rules.title(sides.name, sides.names, row)
        return Conflict(
            kind, sides.name, key, column, path, base, incoming, target, name=name, title=title
        )

    def _decide(
        self,
        kind: Kind,
        entry: Entry,
        *,
        path: tuple[str, ...] = (),
        row: Row,
        incoming: Row | None = None,
        target: Row | None = None,
    ) -> Decision:
        """What becomes of a row as a whole."""
        shown = (None if one is None else _line(entry.sides, one) for one in (incoming, target))
        conflict = self._conflict(kind, entry, "", path, row, None, *shown)
        return self._decisions.of(conflict)

    def _agree(self, entry: Entry, new: Row | None) -> None:
        """Put on record what both have in common from now on."""
        target = new
        then = self._then(entry)
        if new is not None and then is not None and entry.before is not None:
            target = list(then)
            for place, column in enumerate(entry.sides.table.columns):
                cells = _cells(entry, new, then, then, place)
                if cells[0] == cells[1] or column.name in entry.sides.table.key:
                    continue
                values = [_raw(cell) for cell in cells]
                how = ValueMerge(
                    lambda path, base, incoming, there: incoming,
                    self._sets(entry.sides, then, column.name),
                    column.text,
                )
                value = merge_value(Versions(*values), how)
                target[place] = _typed(cells[4] if cells[4] is not None else cells[2], value)
        self._found.agreed.append(
            Agreed(entry.sides.name, entry.key, entry.after, entry.target_key, target)
        )
        if entry.key != entry.base_key:
            self._found.agreed.append(Agreed(entry.sides.name, entry.base_key, None, None, None))


def _cells(entry: Entry, new: Row, then: Row | None, now: Row, place: int) -> list[Cell]:
    """A cell five times, as ``Versions`` has them."""
    assert entry.after is not None
    return [
        None if entry.before is None else entry.before[place],
        entry.after[place],
        new[place],
        None if then is None or entry.before is None else then[place],
        now[place],
    ]


def _raw(cell: Cell) -> bytes | None:
    return cell if cell is None or isinstance(cell, bytes) else str(cell).encode()


def _typed(like: Cell, value: bytes | None) -> Cell:
    """A value of the type that another one has."""
    if value is None:
        return None
    with contextlib.suppress(ValueError):
        if isinstance(like, (int, float)):
            return type(like)(value.decode())
    return Text(value) if isinstance(like, Text) else value


def _line(sides: TableSides, row: Row) -> bytes:
    """A row as a person reads it."""
    return b", ".join(
        name.encode() + b"=" + (_raw(cell) or b"")
        for name, cell in zip(sides.names, row, strict=True)
    )
