"""A site's extensions: plugins and themes that are there, which of them are active, and versions."""

from __future__ import annotations

import json
import re
import tomllib
from collections.abc import Iterator
from dataclasses import dataclass
from fnmatch import fnmatchcase
from typing import Any

from ..cms import ExtensionRule
from ..files import Entry, if_readable
from ..rewrite.structured_values import texts_of
from .site import ReadableSite

_HEAD = 8192  # bytes of a file in which its header stands


@dataclass(frozen=True)
class Extension:
    """One extension. ``key`` is how the site's setting names it; ``folder`` all that belongs to it; ``needs`` the
    least version of the runtime that it says it needs, empty for none."""

    group: str
    key: str
    title: str
    version: str
    active: bool
    folder: str
    needs: str = ""

    def as_json(self) -> dict[str, Any]:
        return vars(self)


def active_keys(site: ReadableSite, rule: ExtensionRule) -> list[str] | None:
    """What the site's settings say is active; None where all that are there are."""
    if not rule.active:
        return None
    found: list[str] = []
    for name in rule.active:
        value = site.setting(name)
        if value:
            texts = texts_of(value.encode("utf-8", "surrogateescape"))
            found += [value] if texts is None else texts
    return list(dict.fromkeys(found))


def extensions_of(site: ReadableSite) -> list[Extension]:
    """All extensions whose files are there, by group and title."""
    found: list[Extension] = []
    own = site.definition.copy.file if site.definition.copy else None
    for rule in site.definition.extensions:
        active = active_keys(site, rule)
        for entry in _files(site, rule):
            if entry.path == own:
                continue
            key = entry.path[len(rule.folder) + 1 :]
            if rule.by == "folder":
                key = key.rpartition("/")[0]
            title, version, needs = _header(site, rule, entry.path)
            # Files without a header are parts of an extension, not extensions.
            if not title and rule.reader == "header" and rule.active:
                continue
            top = key.partition("/")[0]
            found.append(
                Extension(
                    group=rule.name,
                    key=key,
                    title=title or key,
                    version=version,
                    active=active is None or key in active,
                    folder=f"{rule.folder}/{top}",
                    needs=needs,
                )
            )
    return sorted(found, key=lambda item: (item.group, item.title.lower()))


def missing_extensions(site: ReadableSite, rule: ExtensionRule, keys: list[str]) -> list[str]:
    """Those of ``keys`` whose files are not there."""
    there = {entry.path for entry in _files(site, rule)}
    folders = {path.rpartition("/")[0] for path in there}
    return [
        key
        for key in keys
        if (f"{rule.folder}/{key}" not in (folders if rule.by == "folder" else there))
    ]


def _files(site: ReadableSite, rule: ExtensionRule) -> Iterator[Entry]:
    """The files that the rule's patterns name; at most one folder deep."""
    children = site.files.children(rule.folder)
    for entry in children:
        if entry.kind == "file" and any(
            fnmatchcase(_name(entry), pattern) for pattern in rule.files if "/" not in pattern
        ):
            yield entry
    deep = [pattern for pattern in rule.files if "/" in pattern]
    if not deep:
        return
    for folder in children:
        if folder.kind == "folder":
            for entry in site.files.children(folder.path):
                below = entry.path[len(rule.folder) + 1 :]
                if entry.kind == "file" and any(fnmatchcase(below, item) for item in deep):
                    yield entry


def _name(entry: Entry) -> str:
    return entry.path.rpartition("/")[2]


def _header(site: ReadableSite, rule: ExtensionRule, path: str) -> list[str]:
    """Title, version and needs of an extension, empty where they are not there."""
    head = b""
    with if_readable():
        head = next(iter(site.files.read(path)), b"")
    if rule.reader == "header":
        text = head[:_HEAD].decode("utf-8", "replace")
        return [
            _line(text, name) if name else "" for name in (rule.title, rule.version, rule.needs)
        ]
    try:
        data = tomllib.loads(head.decode()) if rule.reader == "toml" else json.loads(head)
    except ValueError:
        return ["", "", ""]
    return [str(data.get(name, "")) for name in (rule.title, rule.version, rule.needs)]


def _line(text: str, name: str) -> str:
    """The value of a line ``Name: value`` in a comment, as PHP and CSS files begin with."""
    match = re.search(
        rf"^(?:[ \t/*#@]|<\?php)*{re.escape(name)}:(.*)$", text, re.MULTILINE | re.IGNORECASE
    )
    return re.sub(r"\s*(?:\*/|\?>).*", "", match[1]).strip() if match else ""
