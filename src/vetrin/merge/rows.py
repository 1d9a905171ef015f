"""A three-way merge of the rows of several tables.

Rows are the same by their key, or by what a definition says makes them so. What one side changed of a row is told
column by column; a row that both made under one number becomes two, and all that names the one that came follows.
"""

from __future__ import annotations

import contextlib
from collections.abc import Sequence

from ..database import Condition
from ..database.batch import Cell
from ..database.row_codec import Text
from .conditions import meets, text_of
from .conflicts import Decisions, Kind
from .dangling import Dangling
from .identities import Entry
from .numbered import give_keys
from .references import IdMaps, Row
from .removals import Removals
from .sides import MergeRules, Neighbours, TableSides
from .steps import Agreed, Merged, RowStep
from .values import ValueMerge, Versions, merge_value
from .work import MergeWork, raw


def merge_tables(
    tables: Sequence[TableSides],
    rules: MergeRules,
    near: Neighbours,
    maps: IdMaps,
    decisions: Decisions,
) -> Merged:
    """The steps that bring what the incoming side changed into the target. ``maps`` are the numbers that earlier
    merges gave; those that are new are added."""
    return _Rows(
        MergeWork(tables=tables, rules=rules, near=near, maps=maps, decisions=decisions)
    ).done()


class _Rows:
    def __init__(self, work: MergeWork) -> None:
        self._work = work
        self._found = Merged(maps=work.maps)
        self._removals = Removals(work, self._found)

    def done(self) -> Merged:
        give_keys(self._work)
        Dangling(self._work).leave_out()
        everything = [entry for entries in self._work.entries.values() for entry in entries]
        for entry in everything:
            if entry.after is None:
                self._agree(entry, None)
                self._removals.remove(entry)
        for entry in everything:
            if entry.after is not None:
                self._came(entry)
        return self._found

    def _came(self, entry: Entry) -> None:
        sides, key = entry.sides, entry.target_key
        assert key is not None and entry.after is not None and entry.carried is not None
        new = self._work.theirs.renumbered(
            sides.name, sides.names, entry.after, entry.carried, self._work.maps
        )
        for place, cell in zip(sides.places, key, strict=True):
            new[place] = cell
        if entry.before is None and not entry.twice and not entry.out:
            self._make_distinct(entry, new)
        if entry.out and entry.before is None:
            # The target never had it: only the incoming side does.
            self._found.agreed.append(
                Agreed(
                    table=sides.name,
                    incoming_key=entry.key,
                    incoming=entry.after,
                    target_key=None,
                    target=None,
                )
            )
            return
        self._agree(entry, new)
        if entry.out:
            return
        now = self._work.now(entry)
        if (sides.name, key) in self._removals.removing:
            now = None
        if now is None:
            if entry.before is not None:
                decided = self._work.decide("removed-there", entry, row=new, incoming=new)
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
        for link in self._work.links:
            other = self._work.tables.get(link.table)
            if link.owner[0] != sides.name or link.then != "leave" or other is None:
                continue
            where = self._work.near.incoming.condition(link.where)
            for own, carried in self._work.near.brought(link.table, link.column, number):
                key = other.key_of(own)
                if key in other.incoming or not meets(
                    where, other.names, own, self._work.near.incoming.within
                ):
                    continue
                new = self._work.theirs.renumbered(
                    other.name, other.names, own, carried, self._work.maps
                )
                there = other.key_of(new)
                if other.counts_up:
                    there = (key[0],)
                if self._work.near.rows(other.name, [there]) or there not in other.target:
                    continue
                for place, cell in zip(other.places, there, strict=True):
                    new[place] = cell
                self._found.steps.append(RowStep(other.name, there, None, new))
                self._found.agreed.append(
                    Agreed(
                        table=other.name,
                        incoming_key=key,
                        incoming=own,
                        target_key=there,
                        target=new,
                    )
                )
                self._bring_back(other, key[0])

    def _make_distinct(self, entry: Entry, new: list[Cell]) -> None:
        """Give a row that comes another name where one that is there has its own."""
        sides, names = entry.sides, entry.sides.names
        for rule in self._work.rules.definition.distinct:
            if rule.table != sides.name or not (text := text_of(new[names.index(rule.column)])):
                continue
            where, within = (
                self._work.near.target.condition(rule.where),
                self._work.near.target.within,
            )
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
                rows = self._work.near.find(sides.name, names[place], [name])
                coming = [one.after for one in self._found.steps if one.table == sides.name]
                return any(
                    row is not None
                    and row[place] == name
                    and all(row[at] == new[at] for at in among)
                    and sides.key_of(row) != entry.target_key
                    and (sides.name, sides.key_of(row)) not in self._removals.removing
                    and meets(where, names, row, self._work.near.target.within)
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
        then = self._work.then(entry)
        rule = self._work.rules.definition.natural(sides.name)
        own = set(rule.own) if rule is not None and entry.twice else set()
        own |= self._work.rules.definition.counted(sides.name) | set(sides.table.key)
        latest = self._work.rules.latest(sides.name)
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
            conflict = self._work.conflict(
                made, entry, column.name, path, now, base, incoming, target
            )
            return self._work.decisions.value(conflict)

        is_set = self._work.sets(sides, now, column.name)
        values = [raw(cell) for cell in cells]
        value = merge_value(Versions(*values), ValueMerge(choose, is_set, column.text))
        for cell, same in ((cells[4], values[4]), (cells[2], values[2])):
            if value == same:
                return cell
        return _typed(cells[4] if cells[4] is not None else cells[2], value)

    def _agree(self, entry: Entry, new: Row | None) -> None:
        """Put on record what both have in common from now on."""
        target = new
        then = self._work.then(entry)
        if new is not None and then is not None and entry.before is not None:
            target = list(then)
            for place, column in enumerate(entry.sides.table.columns):
                cells = _cells(entry, new, then, then, place)
                if cells[0] == cells[1] or column.name in entry.sides.table.key:
                    continue
                values = [raw(cell) for cell in cells]
                how = ValueMerge(
                    lambda path, base, incoming, there: incoming,
                    self._work.sets(entry.sides, then, column.name),
                    column.text,
                )
                value = merge_value(Versions(*values), how)
                target[place] = _typed(cells[4] if cells[4] is not None else cells[2], value)
        self._found.agreed.append(
            Agreed(
                table=entry.sides.name,
                incoming_key=entry.key,
                incoming=entry.after,
                target_key=entry.target_key,
                target=target,
            )
        )
        if entry.key != entry.base_key:
            self._found.agreed.append(
                Agreed(
                    table=entry.sides.name,
                    incoming_key=entry.base_key,
                    incoming=None,
                    target_key=None,
                    target=None,
                )
            )


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


def _typed(like: Cell, value: bytes | None) -> Cell:
    """A value of the type that another one has."""
    if value is None:
        return None
    with contextlib.suppress(ValueError):
        if isinstance(like, (int, float)):
            return type(like)(value.decode())
    return Text(value) if isinstance(like, Text) else value
