"""What two environments changed since they were one, read out of both, and what else a merge asks of the target."""

from __future__ import annotations

import fnmatch
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from msgspec import Struct

from ..database import (
    AllOf,
    Condition,
    InSubquery,
    OneOf,
    Reader,
    Table,
)
from ..database.batch import Cell
from ..database.engines import engine_of
from ..errors import Refused
from ..inspect.compare import Expected
from ..merge import Changed, CommonState, Key, TableSides
from ..merge.conditions import meets, text_of
from ..merge.references import Row
from ..site import (
    PrefixedValues,
    ReadableSite,
    Rewriting,
    RowPipeline,
    Site,
    TableRows,
    mapping_for,
    signed_between,
)
from ..store import Store, open_snapshot
from .common_states import common_since
from .journal import Journals, Run
from .last_copy import given_in
from .plan import Choices
from .row_changes import TooLarge, by_key, row_changes
from .rows_by_key import RowsByKey, batch_of
from .since import Since, earlier_of, last_written, left_of, own_since

_AT_ONCE = 500  # values that one question asks for
_APART = ("log", "cache", "index")  # roles of tables that each environment has for itself


class Shared(Struct, frozen=True):
    """What two environments had in common last: a ``manifest`` of ``run``'s source, and what later merges made of
    it. ``choices`` are those of that run."""

    since: Since
    run: Run
    common: CommonState
    choices: Choices

    def role(self, environment: str) -> Since:
        """The same, as one of both took part in it."""
        role = "source" if environment == self.run.source else "target"
        return Since(self.since.manifest, role, self.run, written=self.since.written)


def shared_state(
    store: Store, journals: Journals, one: str, other: str, choices: Callable[[Run], Choices]
) -> Shared:
    """The last transfer between two environments that still stands, with the merges that came after it.

    Raises:
        Refused: there is none of which enough is kept.
    """
    manifests = {item.id: item for item in store.snapshots() if item.purpose == "baseline"}
    found: list[Run] = []
    for source, target in ((one, other), (other, one)):
        for run in journals.standing(target):
            if "data" in run.parts:
                if run.source == source and run.baseline in manifests:
                    found.append(run)
                break
    if not found:
        raise Refused(
            f"{one} and {other} have no common state on record: nothing tells what either of them changed",
            f"`vetrin pull {one} --to {other}` (or the other way round) makes one, and overwrites what is there",
        )
    run = max(found, key=lambda item: item.number)
    manifest = manifests[run.baseline]
    common = common_since(journals, run, manifest)
    since = Since(manifest, "source", run, written=last_written(journals, run))
    return Shared(since, run, common, choices(run))


@dataclass
class SideChanges:
    """What one environment changed, by table (without prefix). ``odd`` are tables that cannot be merged, with why."""

    tables: dict[str, dict[Key, Changed]] = field(default_factory=dict)
    odd: dict[str, str] = field(default_factory=dict)


def read_changes(
    site: ReadableSite,
    reader: Reader,
    store: Store,
    shared: Shared,
    tell: Callable[[str], None] = lambda name: None,
) -> SideChanges:
    """Read what an environment changed since both were one, in the view of a reader.

    Raises:
        DatabaseError, StoreError: something could not be read.
    """
    since = shared.role(site.environment.name)
    found = SideChanges()
    with open_snapshot(store, since.manifest, site.definition) as stored:
        earlier = earlier_of(site, stored, store, since)
        left = left_of(site, since, shared.choices)
        there = {table.name.removeprefix(site.prefix): table for table in site.tables}
        tables: list[tuple[Table, Table]] = []
        for then in stored.tables:
            name = then.name.removeprefix(stored.prefix)
            now = there.get(name)
            if now is None or is_apart(site, name):
                continue
            if [one.name for one in now.columns] != [one.name for one in then.columns]:
                found.odd[name] = "its columns are not what they were"
                continue
            tables.append((then, now))
        different: list[tuple[str, Table, list[Changed]]] = []
        for (_, now), rows_that_differ in row_changes(earlier, tables, reader, left, tell):
            name = now.name.removeprefix(site.prefix)
            try:
                different.append((name, now, [*rows_that_differ]))
            except TooLarge:
                found.odd[name] = "it has no key, and is too large to be compared"
        for name, now, changes in different:
            if changes and not now.key:
                found.odd[name] = "it has no key"
                continue
            rows = RowsByKey(reader, now)
            mine = shared.common.changes(site.environment.name, name, by_key(now, changes), rows.of)
            if mine:
                found.tables[name] = mine
    return found


def is_apart(site: ReadableSite, name: str) -> bool:
    """Whether each environment has a table for itself, by what the definition says of its name."""
    return any(
        fnmatch.fnmatchcase(name, pattern)
        for role in _APART
        for pattern in site.definition.roles.get(role, ())
    )


def is_of_visitors(site: ReadableSite, name: str) -> bool:
    """Whether a table's rows come from visitors, by what the definition says of its name."""
    patterns = site.definition.roles.get("visitors", ())
    return any(fnmatch.fnmatchcase(name, pattern) for pattern in patterns)


class MergeSide:
    """Implements ``merge.Side`` on an open environment."""

    def __init__(self, site: ReadableSite) -> None:
        self._site = site
        self._known: dict[tuple[InSubquery, Cell], bool] = {}

    def condition(self, where: Any) -> Condition:
        """A condition of the definition, for its tables."""
        return self._site.condition(where)

    def within(self, part: InSubquery, value: Cell) -> bool:
        """Whether a value is among those that a condition asks its database for."""
        asked = part, value
        if asked not in self._known:
            text = text_of(value)
            if part.without:
                text = text.replace(part.without, "")
            parts: list[Condition] = [OneOf(part.key, (text,))]
            if part.condition is not None:
                parts.append(part.condition)
            self._known[asked] = self._site.database.count(part.table, AllOf(tuple(parts))) > 0
        return self._known[asked]


class MergeNeighbours:
    """Implements ``merge.Neighbours`` on two open environments; the target is read through ``reader``, the incoming
    side through ``theirs``. ``room`` numbers are left to rows that others add to a table meanwhile."""

    def __init__(
        self, incoming: ReadableSite, target: Site, reader: Reader, theirs: Reader, room: int = 0
    ) -> None:
        self.incoming = MergeSide(incoming)
        self.target = MergeSide(target)
        self._from = incoming
        self._site = target
        self._reader = reader
        self._theirs = theirs
        self._room = room

    @cached_property
    def _pipeline(self) -> RowPipeline:
        rewriting = merge_rewriting(self._from, self._site)
        return merge_pipeline(self._from, self._site, rewriting)

    def rows(self, table: str, keys: Iterable[Key]) -> dict[Key, Row]:
        """The target's rows of some keys."""
        there = self._site.table(table)
        return {} if there is None else RowsByKey(self._reader, there).of(keys)

    def find(self, table: str, column: str, values: Iterable[Cell]) -> list[Row]:
        """The target's rows of which a column has one of some values."""
        there, wanted = self._site.table(table), {value for value in values if value is not None}
        if there is None or not wanted:
            return []
        texts, found = sorted({text_of(value) for value in wanted}), []
        for at in range(0, len(texts), _AT_ONCE):
            where = OneOf(column, tuple(texts[at : at + _AT_ONCE]))
            found += self.meeting(there, where)
        place = [one.name for one in there.columns].index(column)
        return [row for row in found if row[place] in wanted]

    def brought(self, table: str, column: str, value: Cell) -> list[tuple[Row, Row]]:
        """The incoming side's rows of which a column has a value, each as it is and as the target would have it."""
        there = self._from.table(table)
        if there is None or value is None:
            return []
        where = OneOf(column, (text_of(value),))
        rows = _meeting(self._from, self._theirs, there, where)
        changes: dict[Key, Changed] = {
            (number,): Changed(None, row) for number, row in enumerate(rows)
        }
        carried = _carried(self._from, there, self._pipeline, changes)
        return [(row, carried[(number,)]) for number, row in enumerate(rows)]

    def meeting(self, table: Table, where: Condition) -> list[Row]:
        """The target's rows that meet a condition."""
        return _meeting(self._site, self._reader, table, where)

    def next_number(self, table: str) -> int:
        """A number above all that the target gave, or gives meanwhile, to rows of a table."""
        there = self._site.table(table)
        if there is None:
            return 1
        database = self._site.database
        given = [
            database.last_given(there.name) or 0,
            given_in(database.schema(there.name)) or 0,
        ]
        highest = database.select(
            there.name, [there.key[0]], order=[there.key[0]], descending=True, limit=1
        )
        given += [int(row[0]) for row in highest if str(row[0]).isdigit()]
        return max(given) + 1 + self._room


def _meeting(site: ReadableSite, reader: Reader, table: Table, where: Condition) -> list[Row]:
    """Rows of a site that meet a condition."""
    keys = site.database.select(table.name, list(table.key), where=where)
    mixed = engine_of(site.database.engine).any_type
    cells = [tuple(_as_cell(one, mixed=mixed) for one in key) for key in keys]
    return [*RowsByKey(reader, table).of(cells).values()]


def _as_cell(value: Any, *, mixed: bool) -> Cell:
    """A value that was selected, as it is in a row."""
    if isinstance(value, bytes) or (mixed and isinstance(value, (int, float))):
        return value
    return str(value).encode()


@dataclass(frozen=True)
class Filter:
    """Which changes of the incoming side are not to be merged: settings that each environment has for itself, kinds
    of rows that the definition names, and tables that are its own."""

    site: ReadableSite
    own: Expected
    kept: Sequence[str] = ()

    def table(self, name: str) -> bool:
        """Whether a table stays out."""
        kept = any(fnmatch.fnmatchcase(name, pattern) for pattern in self.kept)
        return kept or name in self.own.tables

    def row(self, name: str, names: Sequence[str], row: Row) -> bool:
        """Whether a row stays out."""
        definition = self.site.definition
        rule = definition.settings
        if rule is not None and rule.table == name:
            setting = text_of(row[names.index(rule.name)])
            if self.own.has_setting(setting):
                return True
            if any(fnmatch.fnmatchcase(setting, one) for one in definition.merge.own):
                return True
        return any(
            meets(where, names, row, self._side.within)
            for table, where in self._left
            if table == name
        )

    @cached_property
    def _side(self) -> MergeSide:
        return MergeSide(self.site)

    @cached_property
    def _left(self) -> list[tuple[str, Condition]]:
        """The kinds of rows that are not merged: their tables, and what they meet."""
        definition = self.site.definition
        return [
            (kind.table, self.site.condition(kind.where))
            for kind in definition.rows
            if kind.name in definition.merge.leave
        ]


def merge_rewriting(incoming: ReadableSite, target: Site) -> Rewriting:
    """What makes values of the one environment those of the other."""
    mapping = mapping_for(incoming, target, [])
    return Rewriting(mapping, encoded=incoming.encoded, signed=signed_between(incoming, target))


def merge_pipeline(incoming: ReadableSite, target: Site, rewriting: Rewriting) -> RowPipeline:
    """What makes rows of the one environment those of the other."""
    return RowPipeline(rewriting, PrefixedValues.between(incoming, target))


# Rows of a table, by key, with the names of files changed: of the table, its columns, the rows as the target would
# have them and as they are.
Rename = Callable[[str, Sequence[str], Mapping[Key, Row], Mapping[Key, Row]], dict[Key, Row]]


def table_sides(
    incoming: ReadableSite,
    target: Site,
    shared: Shared,
    came: SideChanges,
    there: SideChanges,
    rename: Rename = lambda table, names, rows, own: dict(rows),
) -> tuple[list[TableSides], dict[str, str]]:
    """What both sides changed, table by table, with the rows that come as the target would have them; and the tables
    that cannot be merged, with why."""
    rewriting = merge_rewriting(incoming, target)
    pipeline = merge_pipeline(incoming, target, rewriting)
    # What either of them keeps for itself does not come.
    filters = _filter(incoming, target, shared), _filter(target, incoming, shared)
    odd = {**there.odd, **came.odd}
    found: list[TableSides] = []
    for table in target.tables:
        name = table.name.removeprefix(target.prefix)
        here = incoming.table(name)
        if here is None or name in odd or is_apart(target, name):
            continue
        names = [column.name for column in here.columns]
        if names != [column.name for column in table.columns]:
            if name in came.tables:
                odd[name] = "it has other columns on the two sides"
            continue
        if any(one.table(name) for one in filters):
            if name in came.tables:
                odd[name] = "an environment keeps its own"
            continue
        changes = {
            key: changed
            for key, changed in came.tables.get(name, {}).items()
            if not any(
                one.row(name, names, changed.after or changed.before or ()) for one in filters
            )
        }
        rows = _carried(incoming, here, pipeline, changes)
        for key in _broken(incoming, here, rewriting, changes):
            # What cannot be rewritten would bring addresses of the one environment to the other.
            said = ", ".join(map(text_of, key))
            odd[f"{name} {said}"] = (
                f"a value there is broken; `vetrin heal {incoming.environment.name}` first"
            )
            del changes[key]
            rows.pop(key, None)
        own = {key: one.after for key, one in changes.items() if one.after is not None}
        rows = rename(name, names, rows, own)
        visitors = target.environment.role == "production" and is_of_visitors(target, name)
        found.append(
            TableSides(
                name=name,
                table=table,
                incoming=changes,
                carried=rows,
                target=there.tables.get(name, {}),
                visitors=visitors,
            )
        )
    return found, odd


def _filter(site: ReadableSite, other: ReadableSite, shared: Shared) -> Filter:
    since = shared.role(site.environment.name)
    if since.role != "target":
        return Filter(site, Expected())
    own = own_since(site, other, since, shared.choices)
    return Filter(site, own, shared.choices.keep.tables)


def _carried(
    site: ReadableSite, table: Table, pipeline: RowPipeline, changes: dict[Key, Changed]
) -> dict[Key, Row]:
    """The rows that came as the target would have them."""
    coming = [(key, changed.after) for key, changed in changes.items() if changed.after is not None]
    if not coming:
        return {}
    mixed = engine_of(site.database.engine).any_type
    batch = batch_of([row for _, row in coming], mixed=mixed)
    rows = [
        row
        for changed in pipeline.change(TableRows(table, site.rewritable(table)), [batch])
        for row in changed.each()
    ]
    return {key: row for (key, _), row in zip(coming, rows, strict=True)}


def _broken(
    site: ReadableSite, table: Table, rewriting: Rewriting, changes: dict[Key, Changed]
) -> list[Key]:
    """The rows of which a value could not be rewritten."""
    if not rewriting.left:
        return []
    rewriting.left.clear()
    found: list[Key] = []
    for key, changed in changes.items():
        one = rewriting.again()
        _carried(site, table, RowPipeline(one), {key: changed})
        if one.left:
            found.append(key)
    return found
