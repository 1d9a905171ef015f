"""What is set in a copy before it is seen, step by step, and the two ways in which that is done.

A transfer does the steps on the hidden tables, so that the live ones are never seen half settled; in an export, where
there is no server to do it on afterwards, they are done on rows that pass (``SettledRows``).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

from msgspec import Struct

from ..cms import Definition
from ..cms.rules import ExtensionRule, KeptRows
from ..database import AllOf, Batch, Database, Like, Not, OneOf, Table, Where
from ..database.batch import Cell
from ..database.mysql.charsets import between
from ..database.mysql.schema.ddl_parser import Field, read_definition
from ..rewrite.structured_values import NoSuchPart, list_of, literal, part_of, texts_of, with_part
from ..site import ReadableSite

_UTF8 = "utf8mb4"
Own = Callable[[], bytes | None]  # the target's value of a setting


class Tables(Struct, frozen=True):
    """How an environment's tables are reached while it is settled: ``database`` holds the hidden ones.

    ``hidden`` gives the hidden table for a plain name, or None where that table does not travel.
    """

    site: ReadableSite
    database: Database
    hidden: Callable[[str], str | None]
    columns: Mapping[str, Table]


class KeepSettings(Struct, frozen=True):
    """All settings that fit ``patterns`` are as they were on the target, also by not being there."""

    label: str
    patterns: tuple[str, ...]

    def says(self) -> str:
        return self.label

    def do(self, tables: Tables) -> None:
        rule = tables.site.definition.settings
        assert rule is not None
        hidden = tables.hidden(rule.table)
        live = tables.site.table(rule.table)
        if hidden is None or live is None:
            return
        where = _matching(rule.name, self.patterns)
        tables.database.remove(hidden, where)
        names = _shared(tables.columns[rule.table], live, rule.id)
        tables.database.take_over(hidden, live.name, names, where)


class SettingStep:
    """A step that changes the values of single settings. What becomes of a value is one rule, ``changed``; ``do``
    applies it to a table that is laid ready, ``SettledRows`` to rows that pass."""

    @property
    def keys(self) -> tuple[str, ...]:
        """The settings that it is about."""
        raise NotImplementedError

    def changed(self, key: str, arrived: bytes | None, own: Own) -> bytes | None:
        """What becomes of a setting, from the value that ``arrived`` and the target's ``own``, which is asked for
        where it counts; None for no change.

        Raises:
            NoSuchPart: the value has no such part.
        """
        raise NotImplementedError

    def lacking(self, key: str) -> str:
        """What to say where the setting did not arrive; empty where that is nothing to speak of."""
        return ""

    def says(self) -> str:
        raise NotImplementedError

    def do(self, tables: Tables) -> str | None:
        """Do it in the hidden table; what stood in the way, if something did."""
        rule = tables.site.definition.settings
        assert rule is not None
        hidden = tables.hidden(rule.table)
        if hidden is None:
            return self.lacking(self.keys[0]) or None
        for key in self.keys:
            arrived = _value(tables, hidden, key)
            if arrived is None and (lacking := self.lacking(key)):
                return lacking
            try:
                new = self.changed(key, arrived, partial(_own, tables, key))
            except NoSuchPart as error:
                return f"{self.says()} is not as it should be: {error}"
            if new is not None:
                text = new.decode("utf-8", "surrogateescape")
                tables.database.put(hidden, {rule.name: key}, {rule.value: text})
        return None


@dataclass(frozen=True)
class SetPart(SettingStep):
    """A part inside a structured setting: kept from the target (``value`` None), or set."""

    key: str
    path: tuple[str, ...]
    value: str | int | bool | None = None

    def says(self) -> str:
        name = self.key + "".join(f"[{part}]" for part in self.path)
        return name if self.value is None else f"{name} = {_shown(self.value)}"

    @property
    def keys(self) -> tuple[str, ...]:
        return (self.key,)

    def lacking(self, key: str) -> str:
        return f"{self.says()}: no {key} arrived to hold it"

    def changed(self, key: str, arrived: bytes | None, own: Own) -> bytes | None:
        if arrived is None:
            return None
        if self.value is not None:
            return with_part(arrived, self.path, literal(self.value, arrived))
        kept = own()
        return None if kept is None else with_part(arrived, self.path, part_of(kept, self.path))


@dataclass(frozen=True)
class SetSetting(SettingStep):
    """A setting gets a value."""

    key: str
    value: str
    label: str = ""

    def says(self) -> str:
        return self.label or f"{self.key} = {_shown(self.value)}"

    @property
    def keys(self) -> tuple[str, ...]:
        return (self.key,)

    def changed(self, key: str, arrived: bytes | None, own: Own) -> bytes | None:
        return _bytes(self.value)


@dataclass(frozen=True)
class Activate(SettingStep):
    """Extensions are switched on and off, in the setting that lists the active ones."""

    rule: ExtensionRule
    on: tuple[str, ...]
    off: tuple[str, ...]

    def says(self) -> str:
        parts = [f"on: {', '.join(self.on)}"] if self.on else []
        parts += [f"off: {', '.join(self.off)}"] if self.off else []
        return f"{self.rule.name} {'; '.join(parts)}"

    @property
    def keys(self) -> tuple[str, ...]:
        return self.rule.active

    def changed(self, key: str, arrived: bytes | None, own: Own) -> bytes | None:
        texts = texts_of(arrived) if arrived is not None else None
        if arrived is None or texts is None:
            return None
        wanted = [text for text in dict.fromkeys([*texts, *self.on]) if text not in self.off]
        return list_of(wanted, arrived) if wanted != texts else None


class KeepRows(Struct, frozen=True):
    """Rows of the target that stay, such as its administrators, with what hangs on them."""

    rule: KeptRows
    same: tuple[str, ...]

    def says(self) -> str:
        return f"{self.rule.name} ({', '.join(self.same)})"

    def do(self, tables: Tables) -> None:
        rule, site = self.rule, tables.site
        hidden, live = tables.hidden(rule.table), site.table(rule.table)
        if hidden is None or live is None:
            return
        database = tables.database
        names = _shared(tables.columns[rule.table], live, rule.id)
        for name in self.same:
            where = {rule.same: name}
            own = database.select(live.name, [rule.id], where=where, limit=1)
            if not own:
                continue
            arrived = database.select(hidden, [rule.id], where=where, limit=1)
            fixed = {rule.id: arrived[0][0]} if arrived else {}
            database.remove(hidden, where)
            database.take_over(hidden, live.name, names, where, fixed)
            new = database.select(hidden, [rule.id], where=where, limit=1)
            for place in rule.with_:
                self._hanging(tables, place, own[0][0], new[0][0])

    def _hanging(self, tables: Tables, place: str, own: Any, new: Any) -> None:
        table, _, column = place.partition(".")
        hidden, live = tables.hidden(table), tables.site.table(table)
        if hidden is None or live is None:
            return
        arrived = tables.columns[table]
        database = tables.database
        database.remove(hidden, {column: new})
        names = _shared(arrived, live, *(key for key in arrived.key if key != column))
        database.take_over(hidden, live.name, names, {column: own}, {column: new})


class SetColumns(Struct, frozen=True):
    """Columns of a row that hold the site's host and port."""

    table: str
    where: Mapping[str, Any]
    values: Mapping[str, str | int]

    def says(self) -> str:
        return f"{self.table}: " + ", ".join(f"{k} = {v}" for k, v in self.values.items())

    def do(self, tables: Tables) -> None:
        hidden = tables.hidden(self.table)
        if hidden is not None:
            found = tables.database.count(hidden, self.where)
            if found:
                tables.database.put(hidden, self.where, self.values)


Step = KeepSettings | SetPart | SetSetting | Activate | KeepRows | SetColumns


def tables_of(step: Step, definition: Definition) -> frozenset[str]:
    """The tables that a step reads or sets something in, without their prefix."""
    if isinstance(step, KeepRows):
        return frozenset([step.rule.table, *(place.partition(".")[0] for place in step.rule.with_)])
    if isinstance(step, SetColumns):
        return frozenset([step.table])
    return frozenset([definition.settings.table] if definition.settings is not None else ())


class SettledRows:
    """Does the steps of an arrival on rows that pass; ``remarks`` say what stood in the way."""

    def __init__(self, site: ReadableSite, steps: Sequence[Step]) -> None:
        self._site = site
        self._settings: dict[str, list[SettingStep]] = {}
        self._columns: dict[str, list[SetColumns]] = {}
        for step in steps:
            if isinstance(step, SetColumns):
                self._columns.setdefault(site.prefix + step.table, []).append(step)
            elif isinstance(step, SettingStep):
                for key in step.keys:
                    self._settings.setdefault(key, []).append(step)
        self.remarks: list[str] = []

    def through(self, table: Table, schema: str, batches: Iterable[Batch]) -> Iterator[Batch]:
        """Pass a table's rows on; rows that have to be made come last."""
        rule = self._site.definition.settings
        if rule is not None and table.name == self._site.prefix + rule.table and self._settings:
            batches = self._set(table, schema, batches)
        for step in self._columns.get(table.name, ()):
            batches = self._put(table, step, batches)
        return iter(batches)

    def _set(self, table: Table, schema: str, batches: Iterable[Batch]) -> Iterator[Batch]:
        rule = self._site.definition.settings
        assert rule is not None
        definition = read_definition(schema)
        fields = {field.name: field for field in definition.fields} if definition else {}
        names = [column.name for column in table.columns]
        key_at, value_at = names.index(rule.name), names.index(rule.value)
        id_at = names.index(rule.id) if rule.id in names else None
        missing, highest = dict(self._settings), 0
        width = len(names)
        for batch in batches:
            for row, name in enumerate(batch.texts(key_at)):
                key = str(name or b"", "utf-8", "replace")
                steps = missing.pop(key, ())
                if steps:
                    cell = batch.cells[row * width + value_at]
                    arrived = cell if isinstance(cell, bytes) else None
                    batch.set(row, value_at, self._changed(key, steps, arrived, fields[rule.value]))
            if id_at is not None:
                highest = max([highest, *(int(i) for i in batch.cells[id_at::width] if i)])
            yield batch
        made: list[Cell] = []
        for key, steps in missing.items():
            value = self._changed(key, steps, None, fields[rule.value])
            if value is None:
                continue
            highest += 1
            cells: list[Cell] = [fields[name].default for name in names]
            cells[key_at], cells[value_at] = key.encode(), value
            if id_at is not None:
                cells[id_at] = b"%d" % highest
            made += cells
        if made:
            yield Batch(width, made, sum(len(cell) for cell in made if isinstance(cell, bytes)))

    def _changed(
        self,
        key: str,
        steps: Sequence[SettingStep],
        arrived: bytes | None,
        field: Field,
    ) -> bytes | None:
        """The value with all steps done, in the column's own character set as it came."""
        value = arrived
        for step in steps:
            if value is None and (lacking := step.lacking(key)):
                self.remarks.append(lacking)
                continue
            try:
                new = step.changed(key, value, lambda: None)  # an archive has no values of its own
            except NoSuchPart as error:
                self.remarks.append(f"{step.says()} is not as it should be: {error}")
                continue
            if new is None:
                continue
            convert = between(_UTF8, field.charset) if isinstance(step, SetSetting) else None
            value = convert(new) if convert is not None else new
        return value

    def _put(self, table: Table, step: SetColumns, batches: Iterable[Batch]) -> Iterator[Batch]:
        places = {column.name: at for at, column in enumerate(table.columns)}
        for batch in batches:
            for row in range(batch.rows):
                start = row * batch.width
                if _fits(batch.cells[start : start + batch.width], places, step.where):
                    for name, value in step.values.items():
                        batch.set(row, places[name], str(value).encode())
            yield batch


def _fits(cells: Sequence[Cell], places: Mapping[str, int], where: Mapping[str, object]) -> bool:
    return all(cells[places[name]] == str(value).encode() for name, value in where.items())


def _matching(column: str, patterns: Sequence[str]) -> Where:
    exact = tuple(pattern for pattern in patterns if "*" not in pattern)
    begins = tuple(pattern[:-1] for pattern in patterns if pattern.endswith("*"))
    parts: list[Any] = []
    if exact:
        parts.append(OneOf(column, exact))
    if begins:
        parts.append(Like(column, "begins", begins))
    # One of them holds: not all of them fail.
    return Not(AllOf(tuple(Not(part) for part in parts)))


def _shared(arrived: Table, live: Table, *without: str | None) -> list[str]:
    """The columns that both tables have."""
    there = {column.name for column in live.columns}
    return [c.name for c in arrived.columns if c.name in there and c.name not in without]


def _value(tables: Tables, hidden: str, key: str) -> bytes | None:
    rule = tables.site.definition.settings
    assert rule is not None
    rows = tables.database.select(hidden, [rule.value], where={rule.name: key}, limit=1)
    if not rows or rows[0][0] is None:
        return None
    value = rows[0][0]
    return value if isinstance(value, bytes) else _bytes(str(value))


def _shown(value: str | int | bool) -> str:
    text = str(value)
    return text if len(text) <= 40 else text[:39] + "…"


def _own(tables: Tables, key: str) -> bytes | None:
    own = tables.site.setting(key)
    return None if own is None else _bytes(own)


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")
