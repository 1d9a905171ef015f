"""Which tables of a database belong to a site, and which to others that share it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence


def owned(names: Iterable[str], prefix: str, marks: Sequence[str]) -> list[str]:
    """Those of ``names`` that the site with this prefix owns.

    A name belongs to it if it begins with the prefix, unless it belongs to another site whose
    longer prefix begins alike: one that has all the ``marks`` (tables that every site of this CMS
    has) to itself.
    """
    mine = [name for name in names if name.startswith(prefix)]
    if not marks:
        return mine
    there = set(mine)
    first = marks[0]
    others = {
        name[: len(name) - len(first)]
        for name in mine
        if name.endswith(first) and name != prefix + first
    }
    others = {other for other in others if all(other + mark in there for mark in marks)}
    return [name for name in mine if not any(name.startswith(other) for other in others)]
