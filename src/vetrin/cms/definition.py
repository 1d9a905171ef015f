"""What Vetrin knows of one CMS, read from its definition file."""

from __future__ import annotations

import tomllib
from collections.abc import Collection, Mapping
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct

from ..errors import DefinitionError
from .rules import (
    AddressColumns,
    AddressRules,
    ArrivalRule,
    CheckRule,
    ConfigurationRule,
    CopyRule,
    CountRule,
    DistinctRule,
    EncodedRule,
    EntriesRule,
    ExtensionRule,
    KeptRows,
    LinkRule,
    MaintenanceRule,
    MergeRule,
    NamedSetting,
    NaturalRule,
    NumberedRule,
    RecountRule,
    ReferenceRule,
    RowsRule,
    RuntimeRule,
    ServeRule,
    SetRule,
    SettingsRule,
    SignedRule,
    ValueAt,
    VisitorsRule,
    known,
    read_rule,
)
from .site_path import Place

ROLES = ("visitors", "log", "cache", "index")


class Definition(Struct, frozen=True):
    """One CMS. Table names are without the site's prefix; paths are relative to its root."""

    name: str
    title: str
    configuration: ConfigurationRule
    markers: tuple[str, ...] = ()
    version: ValueAt | None = None
    runtime: RuntimeRule | None = None
    serve: ServeRule | None = None
    parts: Mapping[str, tuple[str, ...]] = {}
    whole: tuple[str, ...] = ()
    maintenance: MaintenanceRule | None = None
    marks: tuple[str, ...] = ()
    roles: Mapping[str, tuple[str, ...]] = {}
    settings: SettingsRule | None = None
    named: Mapping[str, NamedSetting] = {}
    fixed: tuple[str, ...] = ()
    text_files: tuple[str, ...] = ()
    encoded: tuple[EncodedRule, ...] = ()
    signed: tuple[SignedRule, ...] = ()
    prefixed: Mapping[str, tuple[str, ...]] = {}
    entries: EntriesRule | None = None
    counts: tuple[CountRule, ...] = ()
    rows: tuple[RowsRule, ...] = ()
    links: tuple[LinkRule, ...] = ()
    references: tuple[ReferenceRule, ...] = ()
    naturals: tuple[NaturalRule, ...] = ()
    sets: tuple[SetRule, ...] = ()
    distinct: tuple[DistinctRule, ...] = ()
    numbered: tuple[NumberedRule, ...] = ()
    visitors: tuple[VisitorsRule, ...] = ()
    merge: MergeRule = msgspec.field(default_factory=MergeRule)
    recounts: tuple[RecountRule, ...] = ()
    kept_rows: Mapping[str, KeptRows] = {}
    extensions: tuple[ExtensionRule, ...] = ()
    arrival: ArrivalRule = msgspec.field(default_factory=ArrivalRule)
    address_rules: AddressRules | None = None
    address_columns: AddressColumns | None = None
    copy: CopyRule | None = None
    check: CheckRule = msgspec.field(default_factory=CheckRule)

    def is_site(self, root: Place) -> bool:
        """True if all marker files of the CMS are below ``root``."""
        return all((root / marker).exists() for marker in self.markers)

    def counted(self, table: str) -> set[str]:
        """The columns of a table that only count other rows."""
        places = (rule.column.partition(".") for rule in self.recounts)
        return {column for one, _, column in places if one == table}

    def natural(self, table: str) -> NaturalRule | None:
        """By what two rows of a table are the same."""
        return next((rule for rule in self.naturals if rule.table == table), None)

    @property
    def kinds(self) -> tuple[str, ...]:
        """The names of the kinds of rows."""
        return tuple(dict.fromkeys(rule.name for rule in self.rows))


_TOP = ("name", "title", "site", "version", "runtime", "serve", "configuration", "parts", "maintenance", "tables",
        "settings", "setting", "rewrite", "signed", "prefix", "entries", "count", "rows", "link", "reference",
        "natural", "set", "distinct", "numbered", "visitors", "merge", "recount", "keep", "extension", "arrival",
        "address-rules", "address-columns", "copy", "check")  # fmt: skip


def parse_definition(text: str, where: str) -> Definition:
    """Read a definition file's text.

    Raises:
        DefinitionError: it is no TOML, lacks something, or has an unknown key.
    """
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise DefinitionError(f"{where}: {error}") from error
    known(data, _TOP, where)
    for key in ("name", "title"):
        if not isinstance(data.get(key), str):
            raise DefinitionError(f"{where}: lacks {key}")

    def part(key: str, allowed: tuple[str, ...]) -> dict[str, Any]:
        table = data.get(key, {})
        if not isinstance(table, dict):
            raise DefinitionError(f"{where} [{key}]: write a table")
        known(table, allowed, f"{where} [{key}]")
        return table

    def one(key: str, rule: Any) -> Any:
        return read_rule(rule, data[key], f"{where} [{key}]") if key in data else None

    def several(key: str, rule: Any) -> tuple[Any, ...]:
        items = data.get(key, [])
        if not isinstance(items, list):
            raise DefinitionError(f"{where}: write [[{key}]]")
        return tuple(read_rule(rule, item, f"{where} [[{key}]]") for item in items)

    tables = part("tables", ("marks", "roles"))
    roles = tables.get("roles", {})
    known(roles, ROLES, f"{where} [tables.roles]")
    parts = part("parts", ("media", "code", "core", "whole"))
    rewrite = part("rewrite", ("fixed", "encoded", "files"))
    return Definition(
        name=data["name"],
        title=data["title"],
        configuration=one("configuration", ConfigurationRule) or ConfigurationRule(),
        markers=tuple(part("site", ("markers",)).get("markers", ())),
        version=one("version", ValueAt),
        runtime=one("runtime", RuntimeRule),
        serve=one("serve", ServeRule),
        parts={key: tuple(item) for key, item in parts.items() if key != "whole"},
        whole=tuple(parts.get("whole", ())),
        maintenance=one("maintenance", MaintenanceRule),
        marks=tuple(tables.get("marks", ())),
        roles={key: tuple(item) for key, item in roles.items()},
        settings=one("settings", SettingsRule),
        named={item.name: item for item in several("setting", NamedSetting)},
        fixed=tuple(rewrite.get("fixed", ())),
        text_files=tuple(rewrite.get("files", ())),
        encoded=tuple(EncodedRule.parse(item) for item in rewrite.get("encoded", ())),
        signed=several("signed", SignedRule),
        prefixed={key: tuple(item) for key, item in data.get("prefix", {}).items()},
        entries=one("entries", EntriesRule),
        counts=several("count", CountRule),
        rows=several("rows", RowsRule),
        links=several("link", LinkRule),
        references=several("reference", ReferenceRule),
        naturals=several("natural", NaturalRule),
        sets=several("set", SetRule),
        distinct=several("distinct", DistinctRule),
        numbered=several("numbered", NumberedRule),
        visitors=several("visitors", VisitorsRule),
        merge=one("merge", MergeRule) or MergeRule(),
        recounts=several("recount", RecountRule),
        kept_rows={item.name: item for item in several("keep", KeptRows)},
        extensions=several("extension", ExtensionRule),
        arrival=one("arrival", ArrivalRule) or ArrivalRule(),
        address_rules=one("address-rules", AddressRules),
        address_columns=one("address-columns", AddressColumns),
        copy=one("copy", CopyRule),
        check=one("check", CheckRule) or CheckRule(),
    )


@cache
def shipped() -> dict[str, Definition]:
    """The definitions that come with Vetrin, by name."""
    folder = resources.files("vetrin.cms") / "definitions"
    found = {}
    for item in sorted(folder.iterdir(), key=lambda entry: entry.name):
        if item.name.endswith(".toml"):
            definition = parse_definition(item.read_text(encoding="utf-8"), item.name)
            found[definition.name] = definition
    return found


def load_definition(name: str, base: Path) -> Definition:
    """A shipped definition by name, or one from a file (a path relative to ``base``).

    Raises:
        DefinitionError: there is no such definition.
    """
    if name in shipped():
        return shipped()[name]
    path = base / name
    if name.endswith(".toml") and path.is_file():
        return parse_definition(path.read_text(encoding="utf-8"), str(path))
    known = ", ".join(shipped())
    raise DefinitionError(f"no definition {name!r}; known are {known}, or the path of a .toml file")


def is_shipped(rule: RuntimeRule | ServeRule) -> bool:
    """True for a rule with a command that is one of Vetrin's own, False for one that a project brings along."""
    return any(rule in (one.runtime, one.serve) for one in shipped().values())


def detect(root: Place, names: Collection[str] | None = None) -> Definition | None:
    """The shipped definition whose marker files are in ``root``; ``names`` is what lies directly in it, where that is
    known."""
    for definition in shipped().values():
        if not definition.markers:
            continue
        # On another machine, each look costs a way there and back.
        if names is not None and not {m.split("/")[0] for m in definition.markers} <= set(names):
            continue
        if definition.is_site(root):
            return definition
    return None
