"""Working out what is set in a copy before it is seen: the steps (``arrival_steps.py``), in their order.

First what the target keeps of its own (settings, parts of settings, its administrators), then what
arrival asks for. All of it is worked out with the plan.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from ..cms.rules import CopyRule, ExtensionRule, KeptRows, NamedSetting
from ..config import ARRIVAL_WORDS, Arrival, Keep, nearest, similar
from ..errors import ProjectError
from ..remark import Remark
from ..rewrite.structured_values import NoSuchPart, part_of
from ..site import Extension, ReadableSite, active_keys, extensions_of, missing_extensions
from .arrival_steps import Activate, KeepRows, KeepSettings, SetColumns, SetPart, SetSetting, Step

_PART = re.compile(r"([^\[\]]+)((?:\[[^\[\]]*\])+)$")


@dataclass
class Settling:
    """The steps of one transfer, kept things first, and what is to be said about them."""

    kept: list[Step]
    set: list[Step]
    warnings: list[Remark]
    notes: list[Remark]

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
                Remark(
                    "nothing-to-keep",
                    f"{target.environment.name} has no settings yet, so there is nothing of "
                    f"{name!r} to keep",
                )
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
                    Remark(
                        "cannot-be-kept",
                        f"keep: {name} of {target.environment.name} cannot be kept: {error}",
                    )
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
            self._found.warnings.append(
                Remark("keep-fits-nothing", f"keep: no setting fits {name!r}")
            )
        elif not there:
            self._unknown(name)

    def _must_be_settable(self, key: str) -> None:
        """A name that neither side has but that is nearly one of them is mistyped; any other may be new."""
        if self._target.settings(key) or self._source.settings(key):
            return
        known = [*ARRIVAL_WORDS, *self._target.settings("*"), *self._source.settings("*")]
        near = similar(key, known[:4000])
        if near:
            raise ProjectError(f"arrival: no setting {key!r}{near}")

    def _unknown(self, name: str) -> None:
        definition = self._definition
        keys = [*definition.named, *definition.kept_rows]
        keys += [key for key in self._target.settings("*") if not key.startswith("_")]
        raise ProjectError(f"keep: no setting {name!r}{nearest(name, keys[:2000])}")

    def _keep_rows(self, rule: KeptRows) -> None:
        target = self._target
        live = target.table(rule.table)
        if live is None:
            self._found.notes.append(
                Remark(
                    "nothing-to-keep", f"{target.environment.name} has no {rule.name} to keep yet"
                )
            )
            return
        rows = target.database.select(
            live.name, [rule.same], where=target.condition(rule.where), order=[rule.same]
        )
        if not rows:
            self._found.warnings.append(
                Remark("nothing-to-keep", f"keep: {target.environment.name} has no {rule.name}")
            )
            return
        self._found.kept.append(KeepRows(rule, tuple(str(row[0]) for row in rows)))

    def arrive(self, arrival: Arrival) -> None:
        if self._definition.settings is not None:
            if arrival.search_engines in ("hidden", "visible"):
                self._search_engines(arrival.search_engines)
            if self._definition.copy is not None:
                self._mark(self._definition.copy, arrival)
            for key, value in arrival.settings.items():
                self._must_be_settable(key)
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
                    Remark(
                        "cannot-be-activated",
                        f"activate: {self._target.environment.name} has no {name!r}, so it stays off"
                        + similar(name, sorted(known)),
                    )
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
                Remark(
                    "extension-missing",
                    f"{', '.join(absent)}: active in {self._source.environment.name}, but "
                    f"{self._target.environment.name} has no such files among its {rule.name}",
                )
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
                Remark(
                    "extension-missing",
                    f"{key}: in use among the {rule.name}, but {self._target.environment.name} has no "
                    "such files: its pages will be blank until they are there",
                )
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
