"""Rows that come and would lead to something that is gone, or that does not come."""

from __future__ import annotations

from .conditions import meets
from .identities import Entry
from .sides import Changed, whole
from .work import MergeWork


class Dangling:
    """Finds them, and has them stay out where somebody wants that."""

    def __init__(self, work: MergeWork) -> None:
        self._work = work

    def leave_out(self) -> None:
        """Rows that came and name one that the target removed are asked about; what needs a row that does not come
        does not come either."""
        gone = {
            (name, whole(key[0]))
            for name, sides in self._work.tables.items()
            if sides.counts_up
            for key, changed in sides.target.items()
            if changed.after is None and (name, key) not in self._work.moved
        }
        lost: set[tuple[str, int]] = set()  # by the numbers of the incoming side
        again = True
        while again:
            again = False
            for entries in self._work.entries.values():
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
        new = self._work.names_newly(self._work.theirs, sides, Changed(entry.before, entry.after))
        for one in self._work.theirs.of(sides.name, sides.names, entry.after):
            if one.needed and (one.table, one.id) in lost:
                return True
            there = self._work.maps.there(one.table, one.id)
            away = (one.table, there) in gone or not there
            if away and one[:2] in new and (one.table, one.id) not in lost:
                decided = self._work.decide(
                    "leads-nowhere", entry, path=(f"{one.table} {there}",), row=entry.after
                )
                if decided.take == "target":
                    return True
        return False

    def _with_what_it_is_of(self, entry: Entry, lost: set[tuple[str, int]]) -> bool:
        """A row that another one cannot be without takes that along: so the entry of a menu goes with the data that
        says where it leads."""
        again = False
        for link in self._work.rules.definition.links:
            if link.through is None or link.then != "leave":
                continue
            table, _, column = link.through.partition(".")
            owner = self._work.entries.get(link.table, ())
            if table != entry.sides.name or entry.after is None:
                continue
            names = entry.sides.names
            where = self._work.near.incoming.condition(link.through_where)
            if not meets(where, names, entry.after, self._work.near.incoming.within):
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
            self._work.maps.leave_out(entry.sides.name, number)
