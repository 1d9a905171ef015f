"""Stretches of a table by its key, which is made of whole numbers."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from msgspec import Struct


class KeyRange(Struct, frozen=True):
    """Rows whose key is beyond ``after`` and not beyond ``upto``; None is no border."""

    after: tuple[int, ...] | None = None
    upto: tuple[int, ...] | None = None

    def holds(self, key: tuple[int, ...]) -> bool:
        """True for a key in the range."""
        return (self.after is None or key > self.after) and (self.upto is None or key <= self.upto)

    def meets(self, other: KeyRange) -> bool:
        """True where a key can be in both ranges."""
        return not any(
            a.upto is not None and b.after is not None and a.upto <= b.after
            for a, b in ((self, other), (other, self))
        )

    def sql(self, names: Sequence[str]) -> str:
        """A condition on key columns, whose names are quoted already; empty for all rows."""
        parts = []
        if self.after is not None:
            parts.append(_beyond(names, self.after, ">"))
        if self.upto is not None:
            parts.append(f"NOT {_beyond(names, self.upto, '>')}")
        return " AND ".join(parts)


class KeyRanges(Struct, frozen=True):
    """Rows whose key is in one of some ranges, or that have one of some ``keys``."""

    ranges: tuple[KeyRange, ...] = ()
    keys: frozenset[tuple[int, ...]] = frozenset()

    def holds(self, key: tuple[int, ...]) -> bool:
        """True for a key that is wanted."""
        return key in self.keys or any(one.holds(key) for one in self.ranges)

    def sql(self, names: Sequence[str]) -> str:
        """A condition on key columns, whose names are quoted already."""
        parts = [f"({one.sql(names) or '1 = 1'})" for one in self.ranges]
        keys = sorted(self.keys)
        if len(names) == 1 and keys:
            parts.append(f"{names[0]} IN ({', '.join(str(int(key[0])) for key in keys)})")
        else:
            parts += [f"({_equal(names, key)})" for key in keys]
        return f"({' OR '.join(parts) or '1 = 0'})"


def _equal(names: Sequence[str], values: Sequence[int]) -> str:
    return " AND ".join(f"{name} = {int(value)}" for name, value in zip(names, values, strict=True))


def _beyond(names: Sequence[str], values: Sequence[int], sign: str) -> str:
    name, value = names[0], int(values[0])
    if len(names) == 1:
        return f"({name} {sign} {value})"
    rest = _beyond(names[1:], values[1:], sign)
    return f"({name} {sign} {value} OR ({name} = {value} AND {rest}))"


def joint_ranges(ranges: Iterable[KeyRange], most: int) -> list[KeyRange]:
    """Ranges in their order, of neighbours at most so many as one."""
    found: list[KeyRange] = []
    joined = 0
    for one in ranges:
        joined += 1
        if joined <= most and found and found[-1].upto == one.after is not None:
            found[-1] = KeyRange(found[-1].after, one.upto)
        else:
            found.append(one)
            joined = 1
    return found
