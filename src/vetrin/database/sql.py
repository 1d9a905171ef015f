"""The few statements that look at a table or edit a hidden one, the same for every engine.

What differs between engines is how a name is quoted and the mark that stands for a value.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from msgspec import Struct

from .base import Recount
from .conditions import (
    AllOf,
    AnyOf,
    Cleared,
    Compared,
    Condition,
    InSubquery,
    Like,
    Not,
    OneOf,
    Replacement,
    Sql,
    Where,
    condition,
)
from .questions import Counting, Selecting

Statement = tuple[str, list[object]]
_AROUND = {"begins": ("", "%"), "ends": ("%", ""), "contains": ("%", "%")}


class Dialect(Struct, frozen=True):
    """How an engine quotes a name, and the mark that stands for a value."""

    quote: Callable[[str], str]
    mark: str

    def count(self, table: str, where: Where | None) -> Statement:
        """A statement that counts rows, and its values."""
        clause, values = self.where(where)
        return f"SELECT COUNT(*) FROM {self.quote(table)}{clause}", values

    def select(
        self,
        table: str,
        columns: Sequence[str],
        where: Where | None,
        order: Sequence[str],
        descending: bool,
        limit: int | None,
    ) -> Statement:
        """A statement that reads a few rows, and its values. Among equals in one column of ``order``, the other
        columns give it; of several ones all."""
        clause, values = self.where(where)
        sql = f"SELECT {', '.join(map(self.quote, columns))} FROM {self.quote(table)}{clause}"
        if order:
            way = " DESC" if descending else ""
            more = [column for column in columns if column not in order] if len(order) == 1 else []
            sql += " ORDER BY " + ", ".join(self.quote(column) + way for column in [*order, *more])
        if limit is not None:
            sql += f" LIMIT {int(limit)}"
        return sql, values

    def question(self, asked: Counting | Selecting) -> Statement:
        """A question that is known before its answer is needed, as the statement by which it is asked then."""
        if isinstance(asked, Counting):
            return self.count(asked.table, asked.where)
        return self.select(
            asked.table, asked.columns, asked.where, asked.order, asked.descending, asked.limit
        )

    def groups(self, table: str, columns: Sequence[str], where: Where | None) -> Statement:
        """A statement that counts rows by the values of ``columns``, most frequent first."""
        names = ", ".join(map(self.quote, columns))
        clause, values = self.where(where)
        return (
            f"SELECT {names}, COUNT(*) FROM {self.quote(table)}{clause}"
            f" GROUP BY {names} ORDER BY COUNT(*) DESC, {names}",
            values,
        )

    def insert(self, table: str, row: Mapping[str, object]) -> Statement:
        names = ", ".join(map(self.quote, row))
        marks = ", ".join([self.mark] * len(row))
        return f"INSERT INTO {self.quote(table)} ({names}) VALUES ({marks})", list(row.values())

    def update(self, table: str, where: Where, row: Mapping[str, object]) -> Statement:
        clause, values = self.where(where)
        pairs = ", ".join(f"{self.quote(name)} = {self.mark}" for name in row)
        return f"UPDATE {self.quote(table)} SET {pairs}{clause}", [*row.values(), *values]

    def delete(self, table: str, where: Where) -> Statement:
        clause, values = self.where(where)
        return f"DELETE FROM {self.quote(table)}{clause}", values

    def take_over(
        self,
        table: str,
        source: str,
        columns: Sequence[str],
        where: Where | None,
        fixed: Mapping[str, object],
    ) -> Statement:
        """A statement that copies rows between two tables of one database, and its values."""
        names = [self.quote(name) for name in columns if name not in fixed]
        clause, values = self.where(where)
        into = ", ".join([*names, *map(self.quote, fixed)])
        what = ", ".join([*names, *([self.mark] * len(fixed))])
        return (
            f"INSERT INTO {self.quote(table)} ({into}) SELECT {what} FROM {self.quote(source)}{clause}",
            [*fixed.values(), *values],
        )

    def recount(self, part: Recount) -> Statement:
        """Have a column hold how many rows of another table belong to its row."""
        table, column, key, of, owner = map(
            self.quote, (part.table, part.column, part.key, part.of, part.owner)
        )
        sql, values = self.condition(part.where)
        keys = ", ".join([self.mark] * len(part.keys))
        return (
            f"UPDATE {table} SET {column} = (SELECT COUNT(*) FROM {of} WHERE {of}.{owner} = {table}.{key}"
            f" AND {sql}) WHERE {key} IN ({keys})",
            [*values, *part.keys],
        )

    def where(self, where: Where | None, *, left: bool = False) -> Statement:
        """A WHERE clause; with ``left``, of the rows that do not meet the condition."""
        if where is None:
            return "", []
        sql, values = self.condition(condition(where))
        return (f" WHERE ({sql}) IS NOT TRUE" if left else f" WHERE {sql}"), values

    def condition(self, part: Condition) -> Statement:
        """A condition as SQL, in brackets where it needs them."""
        if isinstance(part, Sql):
            # Where values are put in by formatting, a percent sign of the user's stands for itself.
            text = part.text.replace("%", "%%") if self.mark == "%s" else part.text
            return f"({text})", []
        if isinstance(part, (AllOf, AnyOf)):
            return self._joined(part)
        if isinstance(part, Not):
            sql, values = self.condition(part.part)
            return f"({sql}) IS NOT TRUE", values
        name = self.quote(part.column)
        if isinstance(part, OneOf):
            if not part.values:
                return "1 = 0", []
            return f"{name} IN ({', '.join([self.mark] * len(part.values))})", list(part.values)
        if isinstance(part, Like):
            before, behind = _AROUND[part.place]
            sql = " OR ".join([f"{name} LIKE {self.mark} ESCAPE '|'"] * len(part.texts))
            return f"({sql})", [before + _plain(text) + behind for text in part.texts]
        if isinstance(part, Compared):
            # A number in a column of text would compare as text.
            left = f"({name} + 0)" if isinstance(part.value, int) else name
            return f"{left} {part.sign} {self.mark}", [part.value]
        return self._within(part, name)

    def _joined(self, part: AllOf | AnyOf) -> Statement:
        if not part.parts:
            return ("1 = 1" if isinstance(part, AllOf) else "1 = 0"), []
        word = " AND " if isinstance(part, AllOf) else " OR "
        pieces = [self.condition(item) for item in part.parts]
        return (
            "(" + word.join(sql for sql, _ in pieces) + ")",
            [value for _, values in pieces for value in values],
        )

    def _within(self, part: InSubquery, name: str) -> Statement:
        key = self.quote(part.key)
        values: list[object] = []
        if part.without:
            name = f"REPLACE({name}, {self.mark}, '')"
            values.append(part.without)
        if part.replaced is not None:
            key = f"REPLACE({key}, {self.mark}, {self.mark})"
            values += part.replaced
        clause, more = self.where(part.condition)
        return f"{name} IN (SELECT {key} FROM {self.quote(part.table)}{clause})", [*values, *more]

    def rows(
        self,
        table: str,
        reads: Mapping[str, str],
        leave: Where | None,
        replacements: Mapping[str, Replacement] | None,
        key_range: str = "",
        named: bool = False,
    ) -> Statement:
        """A statement that reads a table: ``reads`` says how each of its columns is read, ``key_range``
        is a further condition. With ``named``, each is called as its column."""
        columns: list[str] = []
        values: list[object] = []
        for name, read in reads.items():
            if replacements and name in replacements:
                read, more = self.replacement(table, name, replacements[name])
                values += more
            columns.append(f"{read} AS {self.quote(name)}" if named else read)
        clause, more = self.where(leave, left=True)
        if key_range:
            clause = f"{clause} AND {key_range}" if clause else f" WHERE {key_range}"
        return f"SELECT {', '.join(columns)} FROM {self.quote(table)}{clause}", [*values, *more]

    def replacement(self, table: str, column: str, part: Replacement) -> Statement:
        """What is read in place of a column of ``table``."""
        name = self.quote(column)
        sql, values = self.condition(part.condition)
        if isinstance(part, Cleared):
            return f"CASE WHEN {sql} THEN {self.mark} ELSE {name} END", [*values, part.value]
        number = (
            f"(SELECT COUNT(*) FROM {self.quote(part.table)} _vetrin_n"
            f" WHERE _vetrin_n.{self.quote(part.column)} = {self.quote(table)}.{self.quote(part.key)}"
            f" AND {sql})"
        )
        # A count that was wrong before must not fall below nothing, which some columns cannot hold.
        return (
            f"CASE WHEN {number} = 0 THEN {name} WHEN {name} > {number} THEN {name} - {number}"
            " ELSE 0 END",
            values * 3,
        )


def _plain(text: str) -> str:
    """A text for LIKE in which nothing is a wildcard."""
    return text.replace("|", "||").replace("%", "|%").replace("_", "|_")
