"""What both sides changed to different things, and who decides what stands."""

from __future__ import annotations

import fnmatch
import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

from msgspec import Struct

Kind = Literal[
    "value", "removed-there", "removed-here", "removed-from-visitors", "made-twice", "leads-nowhere"
]  # fmt: skip
Take = Literal["incoming", "target"]


class Conflict(Struct, frozen=True):
    """One thing that both sides changed. ``table`` is without prefix; ``key`` is the row's, as a person reads it;
    ``column`` is empty for a row as a whole. ``path`` leads to a part of a structured value, or to a place in a text.

    The three values are as the target would have them, None where there is none: ``base`` in the common state.
    ``id`` is the same for the same conflict in every run. ``name`` is that of a setting, empty for any other row.
    """

    kind: Kind
    table: str
    key: str
    column: str = ""
    path: tuple[str, ...] = ()
    base: bytes | None = None
    incoming: bytes | None = None
    target: bytes | None = None
    name: str = ""
    title: str = ""

    @property
    def id(self) -> str:
        """Ten hexadecimal digits."""
        parts = [self.kind, self.table, self.key, self.column, self.path]
        values = [self.base, self.incoming, self.target]
        return hashlib.sha256(repr([parts, values]).encode()).hexdigest()[:10]

    @property
    def place(self) -> str:
        """Where it is, for a person and for rules: ``table.column/path`` or, of a setting, ``settings.name/path``."""
        if self.name:
            return "/".join((f"settings.{self.name}", *self.path))
        column = f".{self.column}" if self.column else ""
        return "/".join((f"{self.table}{column}", *self.path))


class Decision(Struct, frozen=True):
    """What was decided of a conflict: a side, or a text of its own in place of both."""

    take: Take = "target"
    text: bytes | None = None


class Rules(Struct, frozen=True):
    """Who wins where both changed something, by what it is: patterns of places with ``*``, the first that fits."""

    prefer: Sequence[tuple[str, Take]] = ()

    def decide(self, conflict: Conflict) -> Decision | None:
        """None where no rule fits."""
        for pattern, take in self.prefer:
            names = {conflict.table, f"{conflict.table}.{conflict.column}", conflict.place}
            if conflict.name:
                names = {"settings", f"settings.{conflict.name}", conflict.place, conflict.table}
            if any(fnmatch.fnmatchcase(name, pattern) for name in names):
                return Decision(take)
        return None

    def of_table(self, table: str) -> Take | None:
        """Who wins in a table as a whole, where a rule names it."""
        for pattern, take in self.prefer:
            if pattern.strip("*") and fnmatch.fnmatchcase(table, pattern):
                return take
        return None


@dataclass
class Decisions:
    """Decides conflicts, and keeps them. ``made`` are those of a person, by the id of the conflict. ``open`` are the
    conflicts that nobody decided: the target's value stands in them. ``decided`` are all others."""

    rules: Rules = field(default_factory=Rules)
    made: Mapping[str, Decision] = field(default_factory=dict)
    open: list[Conflict] = field(default_factory=list)
    decided: list[tuple[Conflict, Decision]] = field(default_factory=list)
    _known: dict[str, Decision] = field(default_factory=dict, repr=False)

    def of(self, conflict: Conflict) -> Decision:
        """What is to stand. A conflict that is met again is the same one."""
        if conflict.id in self._known:
            return self._known[conflict.id]
        found = self.made.get(conflict.id) or self.rules.decide(conflict)
        if found is None:
            self.open.append(conflict)
        else:
            self.decided.append((conflict, found))
        self._known[conflict.id] = found or Decision()
        return self._known[conflict.id]

    def value(self, conflict: Conflict) -> bytes | None:
        """The value that is to stand."""
        found = self.of(conflict)
        if found.text is not None:
            return found.text
        return conflict.incoming if found.take == "incoming" else conflict.target


def take_of(name: str, incoming: str, target: str) -> Take | None:
    """The side that an environment's name means; None for any other name."""
    return "incoming" if name == incoming else "target" if name == target else None
