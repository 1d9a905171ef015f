"""Which rows: conditions as values, and what stands in a column's place when rows are left out.

A condition knows nothing of an engine; ``Dialect`` (in ``sql.py``) writes it as SQL. A row for
which a condition is neither true nor false (because of NULL) counts as not meeting it.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict


class OneOf(Struct, frozen=True):
    """The column holds one of these values."""

    column: str
    values: tuple[str | int, ...]


class Like(Struct, frozen=True):
    """The column begins with, ends with or contains one of ``texts``, by ``place``."""

    column: str
    place: str
    texts: tuple[str, ...]


class Compared(Struct, frozen=True):
    """The column is below or above ``value``; a whole number compares as a number."""

    column: str
    sign: str
    value: str | int


class InSubquery(Struct, frozen=True):
    """The column's value is among ``key`` of the rows of ``table`` that meet ``condition``.

    With ``replaced``, a text in ``key`` is replaced by another one before it is compared; with ``without``, a text is
    taken out of the column's own value.
    """

    column: str
    table: str
    key: str
    condition: Condition | None = None
    replaced: tuple[str, str] | None = None
    without: str = ""


class AllOf(Struct, frozen=True):
    """All of ``parts`` hold; with none of them, every row meets it."""

    parts: tuple[Condition, ...] = ()


class AnyOf(Struct, frozen=True):
    """One of ``parts`` holds; with none of them, no row meets it."""

    parts: tuple[Condition, ...] = ()


class Not(Struct, frozen=True):
    """The part does not hold."""

    part: Condition


class Sql(Struct, frozen=True):
    """A condition in the engine's own words, as the user wrote it."""

    text: str


Condition = OneOf | Like | Compared | InSubquery | AllOf | AnyOf | Not | Sql
Simple = Mapping[str, "str | int | Sequence[str | int]"]
Where = Simple | Condition
EVERY_ROW = AllOf()


def as_json(part: Condition) -> dict[str, Any]:
    """A condition as a document: its kind, and its fields by name."""

    def plain(value: object) -> object:
        if isinstance(value, Struct):
            own = {name: plain(each) for name, each in asdict(value).items()}
            return {"kind": type(value).__name__, **own}
        return [plain(one) for one in value] if isinstance(value, tuple) else value

    found = plain(part)
    assert isinstance(found, dict)
    return found


def of_json(data: Mapping[str, Any]) -> Condition:
    """Raises KeyError, TypeError or ValueError where it is no such document."""

    def made(value: Any) -> Any:
        if isinstance(value, Mapping):
            return of_json(value)
        return tuple(made(one) for one in value) if isinstance(value, list) else value

    kinds = {kind.__name__: kind for kind in (OneOf, Like, Compared, InSubquery, AllOf, AnyOf, Not)}
    kind = kinds[data["kind"]]
    own = {name: made(data[name]) for name in kind.__struct_fields__}
    return kind(**own)


def condition(where: Where) -> Condition:
    """A condition from columns with the values that each may hold."""
    if not isinstance(where, Mapping):
        return where
    return AllOf(
        tuple(
            OneOf(column, (value,) if isinstance(value, (str, int)) else tuple(value))
            for column, value in where.items()
        )
    )


def any_of(parts: Iterable[Condition]) -> Condition | None:
    """One of several conditions; None where there is none of them."""
    found = tuple(dict.fromkeys(parts))
    if not found:
        return None
    return found[0] if len(found) == 1 else AnyOf(found)


class Cleared(Struct, frozen=True):
    """In place of a column: ``value`` in the rows that meet ``condition``, elsewhere the column."""

    condition: Condition
    value: int | str | None


class Lowered(Struct, frozen=True):
    """In place of a column: it less the number of rows of ``table`` that meet ``condition``.

    Only rows count whose ``column`` holds this row's ``key``.
    """

    key: str
    table: str
    column: str
    condition: Condition


Replacement = Cleared | Lowered
