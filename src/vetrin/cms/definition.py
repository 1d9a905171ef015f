"""What Vetrin knows of one CMS, read from its definition file."""

from __future__ import annotations

import difflib
import re
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache
from importlib import resources
from pathlib import Path
from typing import Any

Where = Mapping[str, "str | int | Sequence[str | int]"]


class DefinitionError(ValueError):
    """A definition is missing or has a key that does not belong there."""


@dataclass(frozen=True)
class ValueAt:
    """A value inside a file: the file, how to read it, and the value's name there."""

    file: str
    reader: str
    value: str


@dataclass(frozen=True)
class ConfigurationRule:
    """Where the CMS keeps its database's name, account and prefix."""

    files: tuple[str, ...]
    reader: str
    engine: str
    values: Mapping[str, str | Sequence[str]]
    stop_at: tuple[str, ...] = ()


@dataclass(frozen=True)
class SettingsRule:
    """The table of settings, and which of them hold the site's title and addresses."""

    table: str
    name: str
    value: str
    title: str | None = None
    addresses: tuple[str, ...] = ()


@dataclass(frozen=True)
class EntriesRule:
    """The table of entries that visitors see, for samples and for the newest one."""

    table: str
    id: str
    title: str
    changed: str
    link: str
    where: Where = field(default_factory=dict)


@dataclass(frozen=True)
class CountRule:
    name: str
    table: str
    where: Where = field(default_factory=dict)


@dataclass(frozen=True)
class EncodedRule:
    """A column that holds encoded payloads, in all rows or where ``key`` is ``is_``.

    Written as ``table.column`` or ``table.column where key=value``.
    """

    table: str
    column: str
    key: str | None = None
    is_: str | None = None

    @classmethod
    def parse(cls, text: str) -> EncodedRule:
        """Raises DefinitionError where the text is not of this form."""
        match = _ENCODED.match(text)
        if match is None:
            raise DefinitionError(f"{text!r}: write table.column, or table.column where key=value")
        return cls(*match.groups())


@dataclass(frozen=True)
class CheckRule:
    login: str | None = None
    login_mark: str | None = None


@dataclass(frozen=True)
class Definition:
    """One CMS. Table names are without the site's prefix; paths are relative to its root."""

    name: str
    title: str
    markers: tuple[str, ...]
    version: ValueAt | None
    configuration: ConfigurationRule
    parts: Mapping[str, tuple[str, ...]]
    marks: tuple[str, ...]
    settings: SettingsRule | None
    fixed: tuple[str, ...]
    encoded: tuple[EncodedRule, ...]
    entries: EntriesRule | None
    counts: tuple[CountRule, ...]
    check: CheckRule

    def is_site(self, root: Path) -> bool:
        """True if all marker files of the CMS are below ``root``."""
        return all((root / marker).exists() for marker in self.markers)


_ENCODED = re.compile(r"(\w+)\.(\w+)(?: where (\w+)=(.+))?$")
_TOP = ("name", "title", "site", "version", "configuration", "parts", "tables", "settings",
        "rewrite", "entries", "count", "check")  # fmt: skip


def _table(data: Mapping[str, Any], where: str, allowed: Sequence[str]) -> dict[str, Any]:
    for key in data:
        if key not in allowed:
            near = difflib.get_close_matches(key, allowed, 1)
            hint = f"; did you mean {near[0]}?" if near else ""
            raise DefinitionError(f"{where}: unknown key {key}{hint}")
    return {key.replace("-", "_"): value for key, value in data.items()}


def _tuples(values: dict[str, Any]) -> dict[str, Any]:
    return {k: tuple(v) if isinstance(v, list) else v for k, v in values.items()}


def parse_definition(text: str, where: str) -> Definition:
    """Read a definition file's text.

    Raises:
        DefinitionError: it is no TOML, lacks something, or has an unknown key.
    """
    try:
        data = tomllib.loads(text)
        _table(data, where, _TOP)
        site = _table(data["site"], f"{where} [site]", ("markers",))
        version = data.get("version")
        configuration = _table(
            data["configuration"],
            f"{where} [configuration]",
            ("files", "reader", "engine", "values", "stop-at"),
        )
        settings = data.get("settings")
        entries = data.get("entries")
        return Definition(
            name=data["name"],
            title=data["title"],
            markers=tuple(site["markers"]),
            version=ValueAt(**_table(version, f"{where} [version]", ("file", "reader", "value")))
            if version
            else None,
            configuration=ConfigurationRule(**_tuples(configuration)),
            parts={
                name: tuple(folders)
                for name, folders in _table(
                    data.get("parts", {}), f"{where} [parts]", ("media", "code", "core")
                ).items()
            },
            marks=tuple(_table(data["tables"], f"{where} [tables]", ("marks",))["marks"]),
            settings=SettingsRule(
                **_tuples(
                    _table(
                        settings,
                        f"{where} [settings]",
                        ("table", "name", "value", "title", "addresses"),
                    )
                )
            )
            if settings
            else None,
            fixed=tuple(
                _table(data.get("rewrite", {}), f"{where} [rewrite]", ("fixed", "encoded")).get(
                    "fixed", ()
                )
            ),
            encoded=tuple(
                EncodedRule.parse(item) for item in data.get("rewrite", {}).get("encoded", ())
            ),
            entries=EntriesRule(
                **_table(
                    entries,
                    f"{where} [entries]",
                    ("table", "id", "title", "changed", "link", "where"),
                )
            )
            if entries
            else None,
            counts=tuple(
                CountRule(**_table(item, f"{where} [[count]]", ("name", "table", "where")))
                for item in data.get("count", ())
            ),
            check=CheckRule(
                **_tuples(
                    _table(data.get("check", {}), f"{where} [check]", ("login", "login-mark"))
                )
            ),
        )
    except tomllib.TOMLDecodeError as error:
        raise DefinitionError(f"{where}: {error}") from error
    except (KeyError, TypeError) as error:
        raise DefinitionError(f"{where}: lacks {error}") from error


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


def detect(root: Path) -> Definition | None:
    """The shipped definition whose marker files are in ``root``."""
    for definition in shipped().values():
        if definition.is_site(root):
            return definition
    return None


def find_root(folder: Path) -> tuple[Path, Definition] | None:
    """The site's root in ``folder`` or up to two levels below it, nearest first."""
    level = [folder]
    for _ in range(3):
        for root in level:
            definition = detect(root)
            if definition is not None:
                return root, definition
        level = [
            child
            for root in level
            for child in sorted(root.iterdir())
            if child.is_dir() and not child.is_symlink() and not child.name.startswith(".")
        ][:500]
    return None
