"""Whether a row that is at hand meets a condition, without asking a database for it."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from ..database import AllOf, AnyOf, Compared, Condition, InSubquery, Like, Not, OneOf
from ..database.batch import Cell

Row = Sequence[Cell]
# Whether a value is among those that a condition asks a database for.
Within = Callable[[InSubquery, Cell], bool]


def meets(part: Condition, names: Sequence[str], row: Row, within: Within) -> bool:
    """Whether a row meets a condition; a condition in an engine's own words is met by none."""
    if isinstance(part, AllOf):
        return all(meets(one, names, row, within) for one in part.parts)
    if isinstance(part, AnyOf):
        return any(meets(one, names, row, within) for one in part.parts)
    if isinstance(part, Not):
        return not meets(part.part, names, row, within)
    if not isinstance(part, (OneOf, Like, Compared, InSubquery)) or part.column not in names:
        return False
    cell = row[names.index(part.column)]
    if isinstance(part, OneOf):
        return text_of(cell) in map(str, part.values)
    if isinstance(part, Like):
        text = text_of(cell)
        if part.place == "begins":
            return text.startswith(part.texts)
        if part.place == "ends":
            return text.endswith(part.texts)
        return any(one in text for one in part.texts)
    if isinstance(part, InSubquery):
        return within(part, cell)
    return _compared(part, cell)


def _compared(part: Compared, cell: Cell) -> bool:
    if cell is None:
        return False
    if isinstance(part.value, int):
        try:
            value, other = float(text_of(cell)), float(part.value)
        except ValueError:
            return False
        return value < other if part.sign == "<" else value > other
    text = text_of(cell)
    return text < part.value if part.sign == "<" else text > part.value


def text_of(cell: Cell) -> str:
    """A cell as a text; NULL as the empty one."""
    if cell is None:
        return ""
    return cell.decode("utf-8", "replace") if isinstance(cell, bytes) else str(cell)
