"""A definition's conditions, made into conditions on the tables of one site."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from typing import Any

from msgspec import Struct

from ..database import AllOf, AnyOf, Compared, Condition, InSubquery, Like, Not, OneOf

NO_ROW = AnyOf(())


class _Look(Struct, frozen=True):
    """What conditions are made for: a site's ``prefix``, the moment, and which tables it has."""

    prefix: str
    now: datetime
    has_table: Callable[[str], bool]

    def condition(self, where: Mapping[str, Any]) -> Condition:
        return AllOf(tuple(_column(column, wanted, self) for column, wanted in where.items()))


def site_condition(
    where: Mapping[str, Any],
    prefix: str,
    now: datetime | None = None,
    has_table: Callable[[str], bool] = lambda name: True,
) -> Condition:
    """The condition that ``where`` (see docs/definitions.md) means for a site with this prefix.

    ``now`` stands for the moment of the look; without it, the clock is asked. ``has_table`` is asked whether the site
    has a table, by its name without the prefix: nothing is among the rows of one that is not there.
    """
    return _Look(prefix, now or datetime.now(UTC), has_table).condition(where)


def _column(column: str, wanted: Any, look: _Look) -> Condition:
    prefix, now = look.prefix, look.now
    if not isinstance(wanted, Mapping):
        return OneOf(column, _values(wanted, prefix, now))
    parts: list[Condition] = []
    for test in ("begins", "ends", "contains"):
        if test in wanted:
            texts = tuple(str(value) for value in _values(wanted[test], prefix, now))
            parts.append(Like(column, test, texts))
    for test, sign in (("below", "<"), ("above", ">")):
        if test in wanted:
            (value,) = _values(wanted[test], prefix, now)
            parts.append(Compared(column, sign, value))
    if "not" in wanted:
        parts.append(Not(OneOf(column, _values(wanted["not"], prefix, now))))
    for test in ("in", "not-in"):
        if test in wanted:
            table, _, key = str(wanted[test]).partition(".")
            inner = look.condition(wanted["where"]) if wanted.get("where") else None
            replaced = tuple(wanted["replaced"]) if "replaced" in wanted else None
            without = str(wanted.get("without", ""))
            within: Condition = NO_ROW
            if look.has_table(table):
                within = InSubquery(
                    column=column,
                    table=prefix + table,
                    key=key,
                    condition=inner,
                    replaced=replaced,
                    without=without,
                )
            parts.append(within if test == "in" else Not(within))
    return AllOf(tuple(parts))


def _values(wanted: Any, prefix: str, now: datetime) -> tuple[str | int, ...]:
    return tuple(
        _value(item, prefix, now) for item in (wanted if isinstance(wanted, list) else [wanted])
    )


def _value(value: str | int, prefix: str, now: datetime) -> str | int:
    if value == "now":
        return now.strftime("%Y-%m-%d %H:%M:%S")
    if value == "now-unix":
        return int(now.timestamp())
    return value.replace("{prefix}", prefix) if isinstance(value, str) else value
