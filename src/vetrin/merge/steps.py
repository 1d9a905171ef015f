"""What a merge does to the rows of its target, and what both sides have in common afterwards."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field

from msgspec import Struct

from .references import IdMaps, Row
from .sides import Changed, Key, State


class RowStep(Struct, frozen=True):
    """What is to be done to a row of the target: from ``before``, as it is there, to ``after``; None where it is not
    there, or is not to be. ``table`` is without prefix."""

    table: str
    key: Key
    before: Row | None
    after: Row | None

    @property
    def kind(self) -> State:
        return Changed(self.before, self.after).state


class Agreed(Struct, frozen=True):
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
