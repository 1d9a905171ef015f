"""What is set in the target's new tables before they are swapped in.

First what the target keeps of its own (settings, parts of settings, its administrators), then what
arrival asks for. All of it is worked out with the plan, and done on the hidden tables, so that the
live ones are never seen half settled.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from ..cms.rules import CopyRule, ExtensionRule, KeptRows, NamedSetting
from ..config import Arrival, Keep, nearest, similar
from ..database import AllOf, Database, Like, Not, OneOf, Table, Where
from ..errors import ProjectError
from ..rewrite.structured_values import NoSuchPart, list_of, literal, part_of, texts_of, with_part
from ..site import Extension, ReadableSite, active_keys, extensions_of, missing_extensions

_PART = re.compile(r"([^\[\]]+)((?:\[[^\[\]]*\])+)$")


@dataclass(frozen=True)
class Tables:
    """How an environment's tables are reached while it is settled: ``database`` holds the hidden ones.

    ``hidden`` gives the hidden table for a plain name, or None where that table does not travel.
    """

    site: ReadableSite
    database: Database
    hidden: Callable[[str], str | None]
    columns: Mapping[str, Table]


@dataclass(frozen=True)
class KeepSettings:
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


@dataclass(frozen=True)
class SetPart:
    """A part inside a structured setting: kept from the target (``value`` None), or set."""

    key: str
    path: tuple[str, ...]
    value: str | int | bool | None = None

    def says(self) -> str:
        name = self.key + "".join(f"[{part}]" for part in self.path)
        return name if self.value is None else f"{name} = {_shown(self.value)}"

    def do(self, tables: Tables) -> str | None:
        """Do it; what stood in the way, if something did."""
        rule = tables.site.definition.settings
        assert rule is not None
        hidden = tables.hidden(rule.table)
        arrived = None if hidden is None else _value(tables, hidden, self.key)
        if hidden is None or arrived is None:
            return f"{self.says()}: no {self.key} arrived to hold it"
        try:
            if self.value is not None:
                new = self.changed(self.key, arrived)
            else:
                own = tables.site.setting(self.key)
                if own is None:
                    return None
                part = part_of(own.encode("utf-8", "surrogateescape"), self.path)
                new = with_part(arrived, self.path, part)
        except NoSuchPart as error:
            return f"{self.says()} is not as it should be: {error}"
        if new is not None:
            _put(tables, hidden, self.key, new.decode("utf-8", "surrogateescape"))
        return None

    @property
    def keys(self) -> tuple[str, ...]:
        return (self.key,)

    def changed(self, key: str, arrived: bytes | None) -> bytes | None:
        """What becomes of the value that arrived. Raises NoSuchPart."""
        if arrived is None or self.value is None:
            return None
        return with_part(arrived, self.path, literal(self.value, arrived))


@dataclass(frozen=True)
class SetSetting:
    """A setting gets a value."""

    key: str
    value: str
    label: str = ""

    def says(self) -> str:
        return self.label or f"{self.key} = {_shown(self.value)}"

    def do(self, tables: Tables) -> None:
        rule = tables.site.definition.settings
        assert rule is not None
        hidden = tables.hidden(rule.table)
        if hidden is not None:
            _put(tables, hidden, self.key, self.value)

    @property
    def keys(self) -> tuple[str, ...]:
        return (self.key,)

    def changed(self, key: str, arrived: bytes | None) -> bytes | None:
        return self.value.encode("utf-8", "surrogateescape")


@dataclass(frozen=True)
class Activate:
    """Extensions are switched on and off, in the setting that lists the active ones."""

    rule: ExtensionRule
    on: tuple[str, ...]
    off: tuple[str, ...]

    def says(self) -> str:
        parts = [f"on: {', '.join(self.on)}"] if self.on else []
        parts += [f"off: {', '.join(self.off)}"] if self.off else []
        return f"{self.rule.name} {'; '.join(parts)}"

    def do(self, tables: Tables) -> None:
        settings = tables.site.definition.settings
        assert settings is not None
        hidden = tables.hidden(settings.table)
        if hidden is None:
            return
        for key in self.keys:
            new = self.changed(key, _value(tables, hidden, key))
            if new is not None:
                _put(tables, hidden, key, new.decode("utf-8", "surrogateescape"))

    @property
    def keys(self) -> tuple[str, ...]:
        return self.rule.active

    def changed(self, key: str, arrived: bytes | None) -> bytes | None:
        texts = texts_of(arrived) if arrived is not None else None
        if arrived is None or texts is None:
            return None
        wanted = [text for text in dict.fromkeys([*texts, *self.on]) if text not in self.off]
        return list_of(wanted, arrived) if wanted != texts else None


@dataclass(frozen=True)
class KeepRows:
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


@dataclass(frozen=True)
class SetColumns:
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


@dataclass
class Settling:
    """The steps of one transfer, kept things first, and what is to be said about them."""

    kept: list[Step]
    set: list[Step]
    warnings: list[str]
    notes: list[str]

    @property
    def steps(self) -> list[Step]:
        return [*self.kept, *self.set]


def settling(
    source: ReadableSite, target: ReadableSite, keep: Keep, arrival: Arrival, *, code: bool = False
) -> Settling:
    """Work out what is kept and what is set; with ``code``, the source's extensions come along.

    Raises:
        ProjectError: a name is unknown to the definition and to both sites.
    """
    found = Settling([], [], [], [])
    work = _Work(source, target, found, code)
    for name in keep.settings:
        work.keep(name)
    work.arrive(arrival)
    return found


class _Work:
    def __init__(
        self, source: ReadableSite, target: ReadableSite, found: Settling, code: bool
    ) -> None:
        self._code = code
        self._source = source
        self._target = target
        self._found = found
        self._definition = source.definition
        self._kept_keys: list[str] = []

    def keep(self, name: str) -> None:
        definition, target = self._definition, self._target
        if definition.settings is None:
            raise ProjectError(f"keep: {definition.title} has no table of settings")
        if name in definition.kept_rows:
            self._keep_rows(definition.kept_rows[name])
            return
        if not target.has_table(definition.settings.table):
            self._found.notes.append(
                f"{target.environment.name} has no settings yet, so there is nothing of "
                f"{name!r} to keep"
            )
            return
        part = _PART.match(name)
        if part is not None:
            path = tuple(re.findall(r"\[([^\[\]]*)\]", part[2]))
            own = target.setting(part[1])
            if own is None:
                self._unknown(part[1])
            try:
                part_of((own or "").encode("utf-8", "surrogateescape"), path)
            except NoSuchPart as error:
                self._found.warnings.append(
                    f"keep: {name} of {target.environment.name} cannot be kept: {error}"
                )
            self._found.kept.append(SetPart(part[1], path))
            return
        named: NamedSetting | None = definition.named.get(name)
        patterns = named.keys if named is not None else (name,)
        if named is None:
            self._must_be_known(name)
        self._found.kept.append(KeepSettings(name, patterns))
        self._kept_keys += patterns

    def _must_be_known(self, name: str) -> None:
        there = bool(self._target.settings(name) or self._source.settings(name))
        if not there and "*" in name:
            self._found.warnings.append(f"keep: no setting fits {name!r}")
        elif not there:
            self._unknown(name)

    def _unknown(self, name: str) -> None:
        definition = self._definition
        keys = [*definition.named, *definition.kept_rows]
        keys += [key for key in self._target.settings("*") if not key.startswith("_")]
        raise ProjectError(f"keep: no setting {name!r}{nearest(name, keys[:2000])}")

    def _keep_rows(self, rule: KeptRows) -> None:
        target = self._target
        live = target.table(rule.table)
        if live is None:
            self._found.notes.append(f"{target.environment.name} has no {rule.name} to keep yet")
            return
        rows = target.database.select(
            live.name, [rule.same], where=target.condition(rule.where), order=rule.same
        )
        if not rows:
            self._found.warnings.append(f"keep: {target.environment.name} has no {rule.name}")
            return
        self._found.kept.append(KeepRows(rule, tuple(str(row[0]) for row in rows)))

    def arrive(self, arrival: Arrival) -> None:
        if self._definition.settings is not None:
            if arrival.search_engines in ("hidden", "visible"):
                self._search_engines(arrival.search_engines)
            if self._definition.copy is not None:
                self._mark(self._definition.copy, arrival)
            for key, value in arrival.settings.items():
                self._any(key, value)
            self._extensions(arrival)
        self._address_columns()

    def _mark(self, copy: CopyRule, arrival: Arrival) -> None:
        """What shows that it is a copy, and what a copy does not do."""
        if copy.marker:
            name = self._target.environment.name
            text = arrival.marker if isinstance(arrival.marker, str) else name
            if arrival.marker:
                self._set(copy.marker, text, f"marked as {text}")
            else:
                self._set(copy.marker, "", "no marker", off=True)
        if copy.mail and arrival.mail is not None:
            state = "on" if arrival.mail else "off"
            self._set(copy.mail["key"], copy.mail[state], f"mail {state}", off=arrival.mail)
        if copy.closed and arrival.closed is not None:
            state, said = ("on", "closed") if arrival.closed else ("off", "open")
            self._set(
                copy.closed["key"],
                copy.closed[state],
                f"{said} to visitors",
                off=not arrival.closed,
            )

    def _set(self, key: str, value: str, label: str = "", *, off: bool = False) -> None:
        """``off``: the value is what the site takes for granted, so a row need not be made."""
        if any(_fits(key, pattern) for pattern in self._kept_keys):
            return
        if off and self._source.setting(key) is None:
            return
        self._found.set.append(SetSetting(key, value, label))

    def _search_engines(self, wanted: str) -> None:
        named = self._definition.named.get("search-engines")
        if named is not None and wanted in named.values:
            word = "hidden from" if wanted == "hidden" else "visible to"
            self._set(named.keys[0], named.values[wanted], f"{word} search engines")

    def _any(self, key: str, value: str | int | bool) -> None:
        part = _PART.match(key)
        if part is not None:
            path = tuple(re.findall(r"\[([^\[\]]*)\]", part[2]))
            self._found.set.append(SetPart(part[1], path, value))
            return
        named = self._definition.named.get(key)
        if named is not None:
            key = named.keys[0]
            value = named.values.get(str(value), value)
        text = {True: "1", False: ""}[value] if isinstance(value, bool) else str(value)
        self._found.set.append(SetSetting(key, text))

    def _extensions(self, arrival: Arrival) -> None:
        groups = [rule for rule in self._definition.extensions if rule.active]
        there = self._there() if groups else []
        known = {name for item in there for name in _spellings(item)}
        for name in (*arrival.activate, *arrival.deactivate):
            if name not in known and name not in arrival.deactivate:
                self._found.warnings.append(
                    f"activate: {self._target.environment.name} has no {name!r}, so it stays off"
                    + similar(name, sorted(known))
                )
        for rule in groups:
            if len(rule.active) > 1:
                self._missing_theme(rule)
            else:
                self._switch(rule, [item for item in there if item.group == rule.name], arrival)

    def _there(self) -> list[Extension]:
        """The extensions whose files the target will have."""
        found: list[Extension] = []
        for site in (self._target, self._source) if self._code else (self._target,):
            met = {(item.group, item.key) for item in found}
            found += [item for item in extensions_of(site) if (item.group, item.key) not in met]
        return found

    def _switch(self, rule: ExtensionRule, items: list[Extension], arrival: Arrival) -> None:
        """What of a group is switched on or off, and what is on without files to run."""
        on = tuple(item.key for item in items if _is_named(item, arrival.activate))
        off = [item.key for item in items if _is_named(item, arrival.deactivate)]
        off += [
            key
            for key in active_keys(self._source, rule) or []
            if {key, key.partition("/")[0]} & set(arrival.deactivate) and key not in off
        ]
        absent = self._absent(rule)
        if absent and self._keeps(rule):
            off += [key for key in absent if key not in off]
        elif absent:
            self._found.warnings.append(
                f"{', '.join(absent)}: active in {self._source.environment.name}, but "
                f"{self._target.environment.name} has no such files among its {rule.name}"
            )
        if on or off:
            self._found.set.append(Activate(rule, on, tuple(off)))

    def _keeps(self, rule: ExtensionRule) -> bool:
        """True where the target keeps its own list of what is active."""
        return any(_fits(key, pattern) for key in rule.active for pattern in self._kept_keys)

    def _absent(self, rule: ExtensionRule) -> list[str]:
        """What of a group will be active, and has no files there."""
        active = active_keys(self._target if self._keeps(rule) else self._source, rule) or []
        absent = missing_extensions(self._target, rule, active)
        # What comes along with this very transfer is not missing.
        return missing_extensions(self._source, rule, absent) if self._code else absent

    def _missing_theme(self, rule: ExtensionRule) -> None:
        for key in self._absent(rule):
            self._found.warnings.append(
                f"{key}: in use among the {rule.name}, but {self._target.environment.name} has no "
                "such files: its pages will be blank until they are there"
            )

    def _address_columns(self) -> None:
        rule = self._definition.address_columns
        if rule is None or not self._source.has_table(rule.table):
            return
        address = self._target.environment.address
        values: dict[str, str | int] = {rule.host: address.host}
        if rule.port is not None:
            values[rule.port] = address.port or (443 if address.scheme == "https" else 80)
        self._found.set.append(SetColumns(rule.table, rule.where, values))


def _spellings(item: Extension) -> tuple[str, ...]:
    return item.key, item.key.partition("/")[0], item.title


def _is_named(item: Extension, names: Sequence[str]) -> bool:
    return not set(_spellings(item)).isdisjoint(names)


def _fits(key: str, pattern: str) -> bool:
    return key.startswith(pattern[:-1]) if pattern.endswith("*") else key == pattern


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
    return value if isinstance(value, bytes) else str(value).encode("utf-8", "surrogateescape")


def _put(tables: Tables, hidden: str, key: str, value: str) -> None:
    rule = tables.site.definition.settings
    assert rule is not None
    tables.database.put(hidden, {rule.name: key}, {rule.value: value})


def _shown(value: str | int | bool) -> str:
    text = str(value)
    return text if len(text) <= 40 else text[:39] + "…"
