"""Settling rows on their way into an export, where there is no server to settle them on afterwards."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence

from ..database import Batch, Table
from ..database.base import Cell
from ..database.mysql.charsets import between
from ..database.mysql.schema.ddl_parser import Field, read_definition
from ..rewrite.structured_values import NoSuchPart
from ..site import ReadableSite
from .arrival import Activate, SetColumns, SetPart, SetSetting, Step

_UTF8 = "utf8mb4"


class SettledRows:
    """Does the steps of an arrival on rows that pass; ``remarks`` say what stood in the way."""

    def __init__(self, site: ReadableSite, steps: Sequence[Step]) -> None:
        self._site = site
        self._settings: dict[str, list[SetSetting | SetPart | Activate]] = {}
        self._columns: dict[str, list[SetColumns]] = {}
        for step in steps:
            if isinstance(step, SetColumns):
                self._columns.setdefault(site.prefix + step.table, []).append(step)
            elif isinstance(step, (SetSetting, SetPart, Activate)):
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
                    at = row * width + value_at
                    cell = batch.cells[at]
                    arrived = cell if isinstance(cell, bytes) else None
                    batch.cells[at] = self._changed(key, steps, arrived, fields[rule.value])
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
        steps: Sequence[SetSetting | SetPart | Activate],
        arrived: bytes | None,
        field: Field,
    ) -> bytes | None:
        """The value with all steps done, in the column's own character set as it came."""
        value = arrived
        for step in steps:
            if isinstance(step, SetPart) and value is None:
                self.remarks.append(f"{step.says()}: no {key} is there to hold it")
                continue
            try:
                new = step.changed(key, value)
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
                        batch.cells[start + places[name]] = str(value).encode()
            yield batch


def _fits(cells: Sequence[Cell], places: Mapping[str, int], where: Mapping[str, object]) -> bool:
    return all(cells[places[name]] == str(value).encode() for name, value in where.items())
