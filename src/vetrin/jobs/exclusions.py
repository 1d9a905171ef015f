"""What a transfer leaves out, worked out for the source's tables.

From the chosen tables and kinds of rows follows what else cannot stay: rows that belong to a row
that is left out go with it or lose the reference, and columns that count them are put right. All of
it becomes conditions that the source's database evaluates while it is read, so that the cost in
memory is nothing and everything is of one moment.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, field
from functools import cached_property

from msgspec import Struct

from ..cms import Definition, LinkRule
from ..config import Arrival, Leave, nearest, similar
from ..database import (
    EVERY_ROW,
    AllOf,
    Attachment,
    Cleared,
    Condition,
    Counting,
    InSubquery,
    Lowered,
    Replacement,
    Sql,
    any_of,
    condition,
)
from ..errors import DatabaseError, ProjectError
from ..files import Patterns
from ..remark import Remark
from ..site import ReadableSite, extensions_of

ENTRIES = "entries:"

_CHAIN = 12  # links followed one after another, from a row that is left out; SQLite's parser goes no deeper
_WORDS = re.compile(r"[\w$]+")
_REFERENCES = re.compile(r"REFERENCES `((?:[^`]|``)*)` \(")


class LeftKind(Struct, frozen=True):
    """One choice, and the rows of one table that it names (not those that hang on them)."""

    name: str
    table: str
    rows: int


@dataclass
class Leaving:
    """What stays behind. Tables are named as in the source's database.

    ``tables`` do not travel at all; ``leave`` and ``replacements`` are what the reader needs for the
    others.
    """

    tables: frozenset[str] = frozenset()
    leave: dict[str, Condition] = field(default_factory=dict)
    replacements: dict[str, dict[str, Replacement]] = field(default_factory=dict)
    kinds: list[LeftKind] = field(default_factory=list)
    warnings: list[Remark] = field(default_factory=list)


def dropped(definition: Definition, arrival: Arrival) -> tuple[str, ...]:
    """The kinds of rows that arrival would drop at once."""
    rule = definition.arrival
    return (
        *(rule.caches if arrival.caches else ()),
        *(rule.address_rules if arrival.address_rules else ()),
    )


def left_kinds(definition: Definition, leave: Leave, arrival: Arrival) -> tuple[str, ...]:
    """The kinds of rows that stay behind: those that were chosen, and what arrival would drop at once."""
    return tuple(dict.fromkeys([*leave.rows, *dropped(definition, arrival)]))


def views_without(
    source: ReadableSite, absent: Collection[str]
) -> tuple[tuple[str, ...], list[str]]:
    """The views that can do without some tables and routines, and those that cannot."""
    views, gone = list(source.views), set(absent)
    lost_ones: list[str] = []
    while True:
        texts = {
            item.name: item.sql
            for item in source.database.attachments((), views)
            if item.kind == "view"
        }
        lost = [
            view
            for view in views
            if any(re.search(rf"\b{re.escape(name)}\b", texts.get(view, "")) for name in gone)
        ]
        if not lost:
            return tuple(views), lost_ones
        gone.update(lost)
        lost_ones += lost
        views = [view for view in views if view not in lost]


def routines_with(
    source: ReadableSite, tables: Collection[str], views: Collection[str], *, partly: bool = False
) -> list[Attachment]:
    """The stored routines that go with some tables and views: those that speak of one of them, and those that
    speak of no table at all, unless the tables are but a part (``partly``) of the site's.

    Of several sites in one database, none gets what only speaks of another one's tables.
    """
    database = source.database
    found = []
    known: set[str] = set()
    for item in database.routines():
        known = known or {*(table.name for table in database.tables()), *database.views()}
        spoken = known.intersection(_WORDS.findall(item.sql))
        if spoken & {*tables, *views} or not (spoken or partly):
            found.append(item)
    return found


def can_hang(item: Attachment, there: Collection[str]) -> bool:
    """False for a foreign key to a table that will not be there."""
    match = _REFERENCES.search(item.sql) if item.kind == "constraint" else None
    return match is None or match[1].replace("``", "`") in there


def patterns_of(lines: Sequence[str], where: str) -> Patterns:
    """Raises ProjectError where one of them is none."""
    try:
        return Patterns(lines)
    except ValueError as error:
        raise ProjectError(f"{where} files: {error}") from error


def left_files(source: ReadableSite, leave: Leave) -> Patterns:
    """What is left of the files: by their names, and the folders of extensions that are not active.

    Raises:
        ProjectError: a pattern is none, or there are no such extensions.
    """
    groups = {rule.name for rule in source.definition.extensions if rule.active}
    for name in leave.inactive:
        if name not in groups:
            raise ProjectError(f"leave inactive: {name!r} is none of {', '.join(sorted(groups))}")
    found = extensions_of(source) if leave.inactive else []
    used = {item.folder for item in found if item.active}
    folders = {
        f"/{item.folder}"
        for item in found
        if item.group in leave.inactive and item.folder not in used
    }
    return patterns_of([*leave.files, *sorted(folders)], "leave")


def work_out(
    source: ReadableSite,
    leave: Leave,
    further: dict[str, list[Condition]] | None = None,
    stay: frozenset[str] = frozenset(),
) -> Leaving:
    """Work out what a choice means for a site.

    ``further`` are conditions, by table, for rows that are left for reasons of their own; ``stay``
    are tables that do not travel because the target keeps its own.

    Raises:
        ProjectError: a kind of rows is unknown, or a condition is no SQL.
    """
    work = _Work(source, leave)
    away = work.tables() | stay
    # Where a whole table stays behind, its dependents lose their parent. But of tables that
    # are asked for by name, all rows are meant.
    for table in away if not leave.only else ():
        work.own[table] = [EVERY_ROW]
    for pattern in leave.empty:
        work.choose_empty(pattern, away)
    source.database.ahead(asked for name in leave.rows for asked in work.of_kind(name))
    for name in leave.rows:
        work.choose_kind(name)
    for table, text in leave.where.items():
        work.choose_where(table, text)
    for table, conditions in (further or {}).items():
        for stale in conditions:
            work.choose("keys of another prefix", table, stale)
    found = work.result(away)
    if leave.only:
        found.warnings += _without_parents(source, away)
    return found


def _without_parents(source: ReadableSite, away: Collection[str]) -> list[Remark]:
    """Of tables that come all by themselves: what the rows in them refer to, and what does not come."""
    there = {table.name for table in source.tables} - set(away)
    return [
        Remark(
            "foreign-key-open",
            f"rows of {key.table} refer to rows of {key.parent}, which does not come along: they may refer to what "
            f"is not there (foreign key {key.name})",
        )
        for key in source.database.foreign_keys()
        if key.table in there and key.parent not in there
    ]


class _Work:
    def __init__(self, source: ReadableSite, leave: Leave) -> None:
        self._source = source
        self._leave = leave
        self._names = {table.name for table in source.tables}
        self._kinds: list[LeftKind] = []
        self._warnings: list[Remark] = []
        self.own: dict[str, list[Condition]] = {}

    def tables(self) -> frozenset[str]:
        source, leave = self._source, self._leave
        for pattern in (*leave.tables, *leave.only):
            if said := source.unnamed(pattern):
                self._warnings.append(Remark("leave-fits-nothing", f"leave: {said}"))
        return frozenset(
            name
            for name in self._names
            if any(source.named(name, pattern) for pattern in leave.tables)
            or (leave.only and not any(source.named(name, pattern) for pattern in leave.only))
        )

    def choose_empty(self, pattern: str, away: frozenset[str]) -> None:
        if said := self._source.unnamed(pattern):
            self._warnings.append(Remark("leave-fits-nothing", f"leave: {said}"))
        for name in sorted(self._names - away):
            if self._source.named(name, pattern):
                self.choose("empty tables", name, EVERY_ROW)

    def choose_kind(self, name: str) -> None:
        definition = self._source.definition
        if name.startswith(ENTRIES):
            self._choose_entries(name)
            return
        if name not in definition.kinds:
            known = [*definition.kinds, *([f"{ENTRIES}TYPE"] if definition.entries else [])]
            raise ProjectError(
                f"leave: {definition.title} has no kind of rows {name!r}{nearest(name, known)}"
            )
        for asked in self.of_kind(name):
            assert asked.where is not None
            self.choose(name, asked.table, condition(asked.where))

    def of_kind(self, name: str) -> list[Counting]:
        """The rows of a kind, by table."""
        source = self._source
        return [
            Counting(source.prefix + rule.table, source.condition(rule.where))
            for rule in source.definition.rows
            if rule.name == name
            and source.prefix + rule.table in self._names
            and _all_there(rule.where, source)
        ]

    def _choose_entries(self, name: str) -> None:
        rule = self._source.definition.entries
        kind = name.removeprefix(ENTRIES)
        if rule is None or rule.kind is None or not self._source.has_table(rule.table):
            raise ProjectError(
                f"leave: {self._source.definition.title} does not tell types of entries apart"
            )
        table = self._source.prefix + rule.table
        known = [str(row[0]) for row in self._source.database.groups(table, [rule.kind])]
        if kind not in known:
            self._warnings.append(
                Remark(
                    "leave-fits-nothing",
                    f"leave: {self._source.environment.name} has no entries of the type {kind!r}"
                    + similar(kind, known),
                )
            )
            return
        self.choose(name, table, self._source.condition({rule.kind: kind}))

    def choose_where(self, pattern: str, text: str) -> None:
        if said := self._source.unnamed(pattern):
            self._warnings.append(Remark("leave-fits-nothing", f"leave where: {said}"))
        for name in sorted(self._names):
            if self._source.named(name, pattern):
                try:
                    self.choose("where", name, Sql(text))
                except DatabaseError as error:
                    raise ProjectError(f"leave where.{pattern}: {error}") from error

    def choose(self, kind: str, table: str, condition: Condition) -> None:
        """Leave the rows of a table that meet a condition, on record as of this kind."""
        rows = self._source.database.count(table, condition)
        self._kinds.append(LeftKind(kind, table, rows))
        if rows:
            self.own.setdefault(table, []).append(condition)

    def result(self, away: frozenset[str]) -> Leaving:
        leave: dict[str, Condition] = {}
        replacements: dict[str, dict[str, Replacement]] = {}
        for name in sorted(self._names - away):
            if (left := self._leaving(name, ())) is not None:
                leave[name] = left
            cleared = self._cleared(name)
            if cleared:
                replacements[name] = cleared
        kinds = [kind for kind in self._kinds if kind.table not in away]
        return Leaving(
            tables=away,
            leave=leave,
            replacements=replacements,
            kinds=kinds,
            warnings=self._warnings,
        )

    def _leaving(self, name: str, followed: tuple[LinkRule, ...]) -> Condition | None:
        """Which rows of a table are left out; each link is followed once on a way, a declared one from a table
        to itself as far as such chains go."""
        parts = list(self.own.get(name, ()))
        declared = self._declared.get(name, ()) if self.own else ()
        for link in self._links(name):
            own = link.owner[0] == link.table and any(link is one for one in declared)
            again = any(link is one for one in followed)
            if link.then == "leave" and (own or not again) and len(followed) < _CHAIN:
                hanging = self._hanging(link, followed)
                if hanging is not None:
                    parts.append(hanging)
        return any_of(parts)

    def _links(self, name: str) -> Iterable[LinkRule]:
        prefix = self._source.prefix
        for link in self._source.definition.links:
            needed = {link.table, link.owner[0]}
            if link.through is not None:
                needed.add(link.through.partition(".")[0])
            if (
                prefix + link.table == name
                and {prefix + one for one in needed} <= self._names
                and _all_there(link.where, self._source)
            ):
                yield link
        if self.own:
            yield from self._declared.get(name, ())

    @cached_property
    def _declared(self) -> dict[str, list[LinkRule]]:
        """Foreign keys as links, by table: what the database itself says hangs on what."""
        prefix = len(self._source.prefix)
        known = {(link.table, link.column) for link in self._source.definition.links}
        found: dict[str, list[LinkRule]] = {}
        for key in self._source.database.foreign_keys():
            if not {key.table, key.parent} <= self._names:
                continue
            if len(key.columns) > 1 or not key.parent_columns[0]:
                if key.parent in self.own:
                    self._warnings.append(
                        Remark(
                            "foreign-key-open",
                            f"rows of {key.table} may refer to rows of {key.parent} that are left out, by the "
                            f"foreign key {key.name}",
                        )
                    )
                continue
            child, parent = key.table[prefix:], key.parent[prefix:]
            if (child, key.columns[0]) not in known:
                found.setdefault(key.table, []).append(
                    LinkRule(
                        f"{child}.{key.columns[0]}",
                        f"{parent}.{key.parent_columns[0]}",
                        then="clear" if key.clears else "leave",
                        value=None,
                    )
                )
        return found

    def _hanging(self, link: LinkRule, followed: tuple[LinkRule, ...]) -> Condition | None:
        """The rows that refer, by a link, to rows that are left out."""
        prefix = self._source.prefix
        table, key = link.owner
        owner = self._leaving(prefix + table, (*followed, link))
        if owner is None:
            return None
        inner = None if owner == EVERY_ROW else owner
        if link.through is None:
            reference: Condition = InSubquery(link.column, prefix + table, key, inner)
        else:
            middle, _, column = link.through.partition(".")
            reference = InSubquery(
                link.column,
                prefix + middle,
                column,
                AllOf(
                    (
                        self._source.condition(link.through_where),
                        InSubquery(link.through_column or column, prefix + table, key, inner),
                    )
                ),
            )
        if not link.where:
            return reference
        return AllOf((self._source.condition(link.where), reference))

    def _cleared(self, name: str) -> dict[str, Replacement]:
        found: dict[str, Replacement] = {}
        for link in self._links(name):
            if link.then == "clear":
                hanging = self._hanging(link, ())
                if hanging is not None:
                    found[link.column] = Cleared(hanging, link.value)
        prefix = self._source.prefix
        for rule in self._source.definition.recounts:
            table, _, column = rule.column.partition(".")
            counted, _, reference = rule.of.partition(".")
            if prefix + table != name or prefix + counted not in self._names:
                continue
            left = self._leaving(prefix + counted, ())
            if left is not None:
                parts = (self._source.condition(rule.where), left)
                found[column] = Lowered(rule.key, prefix + counted, reference, AllOf(parts))
        return found


def _all_there(where: object, source: ReadableSite) -> bool:
    """True if all tables that a condition asks are there."""
    if not isinstance(where, dict):
        return True
    for key, item in where.items():
        if key in ("in", "not-in") and not source.has_table(str(item).partition(".")[0]):
            return False
        if isinstance(item, dict) and not _all_there(item, source):
            return False
    return True
