"""What a merge works with: both sides' changes, which row is which, and who decides."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from ..database.batch import Cell
from .conditions import meets, text_of
from .conflicts import Conflict, Decision, Decisions, Kind
from .identities import Entry, Identities
from .references import IdMaps, References, Row
from .sides import Changed, Key, MergeRules, Neighbours, TableSides


class MergeWork:
    """All that the steps of one merge share."""

    def __init__(
        self,
        tables: Sequence[TableSides],
        rules: MergeRules,
        near: Neighbours,
        maps: IdMaps,
        decisions: Decisions,
    ) -> None:
        self.rules = rules
        self.near = near
        self.maps = maps
        self.decisions = decisions
        self.links = [link for link in rules.definition.links if link.through is None]
        self.theirs = References(rules.definition, near.incoming, rules.hosts)
        self.ours = References(rules.definition, near.target, rules.hosts)
        found = Identities(tables=tables, rules=rules, near=near, maps=maps, references=self.theirs)
        self.tables, self.entries, self.moved = found.tables, found.entries, found.moved
        self.there: dict[tuple[str, Key], Row] = {}
        self._look_at_targets()

    def _look_at_targets(self) -> None:
        """Read the target's rows of all that changed."""
        for name, entries in self.entries.items():
            keys = [entry.target_key for entry in entries if entry.target_key is not None]
            if keys:
                for key, row in self.near.rows(name, keys).items():
                    self.there[name, key] = row

    def now(self, entry: Entry) -> Row | None:
        """The target's row as it is now."""
        assert entry.target_key is not None
        return self.there.get((entry.sides.name, entry.target_key))

    def then(self, entry: Entry) -> Row | None:
        """The target's row in the common state: as it is now where the target did not change it."""
        if entry.then_key is None:
            return None
        changed = entry.sides.target.get(entry.then_key)
        return self.now(entry) if changed is None else changed.before

    def sets(self, sides: TableSides, row: Row, column: str) -> Callable[[tuple[str, ...]], bool]:
        """Which paths of a column lead to lists that are sets."""
        paths = [
            path.split(".") if path else []
            for rule in self.rules.definition.sets
            if rule.at == f"{sides.name}.{column}"
            and meets(
                self.near.target.condition(rule.where), sides.names, row, self.near.target.within
            )
            for path in rule.paths
        ]
        return lambda path: any(
            len(path) == len(one) and all(a in ("*", b) for a, b in zip(one, path, strict=True))
            for one in paths
        )

    def conflict(
        self, kind: Kind, entry: Entry, column: str, path: tuple[str, ...], row: Row,
        base: bytes | None, incoming: bytes | None, target: bytes | None,
    ) -> Conflict:  # fmt: skip
        """What both sides changed of a row: ``row`` is what it is called by."""
        sides = entry.sides
        key = ", ".join(
            f"{name}={text_of(cell)}"
            for name, cell in zip(sides.table.key, entry.target_key or entry.key, strict=True)
        )
        name = self.rules.setting_name(sides.name, sides.names, row)
        title = self.rules.title(sides.name, sides.names, row)
        return Conflict(
            kind=kind,
            table=sides.name,
            key=key,
            column=column,
            path=path,
            base=base,
            incoming=incoming,
            target=target,
            name=name,
            title=title,
        )

    def decide(
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
        conflict = self.conflict(kind, entry, "", path, row, None, *shown)
        return self.decisions.of(conflict)

    @staticmethod
    def names_newly(
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


def raw(cell: Cell) -> bytes | None:
    """A cell as bytes."""
    return cell if cell is None or isinstance(cell, bytes) else str(cell).encode()


def _line(sides: TableSides, row: Row) -> bytes:
    """A row as a person reads it."""
    return b", ".join(
        name.encode() + b"=" + (raw(cell) or b"")
        for name, cell in zip(sides.names, row, strict=True)
    )
