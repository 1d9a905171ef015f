"""Names on their way from a source's tables to a target's: another prefix, another letter case.

The prefix hides in the names of tables and views, in the text of views, triggers and foreign keys,
and in values that the CMS derives from it. Names that only begin alike are not touched.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from msgspec import Struct
from msgspec.structs import replace

from ..cms import Definition
from ..database import Attachment, Batch, Condition, OneOf, Table
from ..database.engines import Engine, engine_of
from ..database.sql_names import rename
from .site import ReadableSite

_FOLDS = ("1", "2")  # values of lower_case_table_names for servers to which A and a are one


def _folds(site: ReadableSite) -> bool:
    return site.database.facts().details.get("lower-case table names") in _FOLDS


class OneName(ValueError):
    """Two tables of a source would have one name at its target."""


class Names(Struct, frozen=True):
    """How the source's tables, views and what hangs on them are called at the target."""

    old: str
    new: str
    tables: dict[str, str]
    engine: Engine
    shared: bool = False

    @classmethod
    def between(cls, source: ReadableSite, target: ReadableSite, shared: bool) -> Names:
        """``shared``: both have their tables in one database.

        Raises:
            OneName: two tables would have one name.
        """
        there = {table.name.lower(): table.name for table in target.tables}
        folds, source_folds = _folds(target), _folds(source)
        found: dict[str, str] = {}
        for name in [*(table.name for table in source.tables), *source.views]:
            new = target.prefix + name[len(source.prefix) :]
            if folds:
                new = new.lower()
            elif source_folds and new not in there.values():
                new = there.get(new, new)
            if new in found.values():
                twin = next(old for old, other in found.items() if other == new)
                raise OneName(
                    f"{name} and {twin} are two tables in {source.environment.name}, but one to the "
                    f"server of {target.environment.name}, which does not tell A from a"
                )
            found[name] = new
        return cls(source.prefix, target.prefix, found, engine_of(source.database.engine), shared)

    @property
    def changes(self) -> bool:
        return any(old != new for old, new in self.tables.items())

    def table(self, name: str) -> str:
        return self.tables.get(name, name)

    def sql(self, text: str, further: Mapping[str, str] | None = None) -> str:
        """SQL text with the names of tables, views and ``further`` things changed."""
        names = {old: new for old, new in self.tables.items() if old != new}
        if further:
            names.update(further)
        if not names:
            return text
        return rename(
            text, names, self.engine.quote, double_quoted_text=self.engine.double_quoted_text
        )

    def routines(self, items: Iterable[Attachment]) -> dict[str, str]:
        """Stored routines and sequences that get another name; of two sites in one database, no others are to
        come."""
        if self.old == self.new or not self.old:
            return {}
        names = {item.name for item in items if item.name.startswith(self.old)}
        return {name: self.new + name[len(self.old) :] for name in names}

    def attachment(self, item: Attachment, routines: Mapping[str, str] | None = None) -> Attachment:
        """A trigger, view, index, foreign key or stored routine for the target."""
        if not self.changes:
            return item
        routines = routines or {}
        if item.kind == "default":  # its name is a column's
            return replace(item, table=self.table(item.table), sql=self.sql(item.sql, routines))
        if item.kind == "sequence":
            name = routines.get(item.name, item.name)
            further = {**routines, item.name: name} if name != item.name else routines
            return replace(
                item, name=name, table=self.table(item.table), sql=self.sql(item.sql, further)
            )
        if item.kind == "routine":
            name = routines.get(item.name, item.name)
            return replace(item, name=name, sql=self.sql(item.sql, routines))
        name = self.table(item.name)
        if name == item.name:
            if self.old != self.new and self.old and name.startswith(self.old):
                name = self.new + name[len(self.old) :]
            elif self.shared:
                # In one database a name can be given once.
                name = self.new + name
        further = {**routines, **({item.name: name} if name != item.name else {})}
        return replace(
            item, name=name, table=self.table(item.table), sql=self.sql(item.sql, further)
        )


@dataclass
class PrefixedValues:
    """Values of columns that begin with the prefix because the CMS puts it there."""

    old: str
    new: str
    rules: dict[str, tuple[str, ...]]
    changed: Counter[str] = field(default_factory=Counter)
    left: Counter[tuple[str, str]] = field(default_factory=Counter)

    @classmethod
    def between(cls, source: ReadableSite, target: ReadableSite) -> PrefixedValues:
        definition: Definition = source.definition
        rules = definition.prefixed if source.prefix != target.prefix else {}
        return cls(source.prefix, target.prefix, dict(rules))

    def through(self, table: Table, batches: Iterable[Batch]) -> Iterable[Batch]:
        """Pass batches on with such values changed."""
        plain = table.name[len(self.old) :]
        wanted = [
            (index, self.rules[f"{plain}.{column.name}"])
            for index, column in enumerate(table.columns)
            if f"{plain}.{column.name}" in self.rules
        ]
        if not wanted:
            return batches
        return self._changed(plain, wanted, batches)

    def _changed(
        self, table: str, wanted: list[tuple[int, tuple[str, ...]]], batches: Iterable[Batch]
    ) -> Iterable[Batch]:
        old = self.old.encode()
        patterns = [(index, self._pattern(self.old, keys)) for index, keys in wanted]
        for batch in batches:
            for index, pattern in patterns:
                put: dict[int, bytes] = {}
                for row, value in enumerate(batch.texts(index)):
                    if value is None or not value.startswith(old):
                        continue
                    if pattern.fullmatch(value):
                        put[row] = self.new.encode() + value[len(old) :]
                    elif old:
                        self.left[table, value.decode("utf-8", "replace")] += 1
                if put:
                    batch.put(index, put)
                    self.changed[table] += len(put)
            yield batch

    @staticmethod
    def _pattern(prefix: str, keys: tuple[str, ...]) -> re.Pattern[bytes]:
        # A site of a network has its number behind the prefix.
        names = "|".join(map(re.escape, keys))
        return re.compile(rf"{re.escape(prefix)}(?:\d+_)?(?:{names})".encode())

    def stale(self, source: ReadableSite) -> dict[str, list[Condition]]:
        """Rows that bear the target's prefix already, from an earlier life of the source.

        They would stand in the way of those that get it now.
        """
        found: dict[str, list[Condition]] = {}
        if re.fullmatch(re.escape(self.old) + r"\d+_", self.new):
            return found  # these belong to a site of the source's own network
        for place, keys in self.rules.items():
            table, _, column = place.partition(".")
            known = source.table(table)
            if known is not None:
                there = OneOf(column, tuple(self.new + key for key in keys))
                found.setdefault(known.name, []).append(there)
        return found
