"""A site's extensions: plugins and themes that are there, which of them are active, and versions."""

from __future__ import annotations

import json
import re
import tomllib
from collections.abc import Sequence
from fnmatch import fnmatchcase
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict

from ..cms import ExtensionRule
from ..files import Entry
from ..rewrite.structured_values import texts_of
from .site import ReadableSite

_HEADER = 8192  # bytes of a file in which its header stands
_HEAD = 65536  # or, of a file of another form, the whole of it


class Extension(Struct, frozen=True):
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
        return asdict(self)


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
    rules = site.definition.extensions
    files = [
        (rule, entry.path)
        for rule, entries in zip(rules, _files(site, rules), strict=True)
        for entry in entries
        if entry.path != own
    ]
    active = {rule.name: active_keys(site, rule) for rule in rules}
    for (rule, path), head in zip(files, _heads(site, files), strict=True):
        key = path[len(rule.folder) + 1 :]
        if rule.by == "folder":
            key = key.rpartition("/")[0]
        title, version, needs = _header(rule, head)
        # Files without a header are parts of an extension, not extensions.
        if not title and rule.reader == "header" and rule.active:
            continue
        top = key.partition("/")[0]
        keys = active[rule.name]
        found.append(
            Extension(
                group=rule.name,
                key=key,
                title=title or key,
                version=version,
                active=keys is None or key in keys,
                folder=f"{rule.folder}/{top}",
                needs=needs,
            )
        )
    return sorted(found, key=lambda item: (item.group, item.title.lower()))


def missing_extensions(site: ReadableSite, rule: ExtensionRule, keys: list[str]) -> list[str]:
    """Those of ``keys`` whose files are not there."""
    (files,) = _files(site, [rule])
    there = {entry.path for entry in files}
    folders = {path.rpartition("/")[0] for path in there}
    return [
        key
        for key in keys
        if (f"{rule.folder}/{key}" not in (folders if rule.by == "folder" else there))
    ]


def _files(site: ReadableSite, rules: Sequence[ExtensionRule]) -> list[list[Entry]]:
    """The files that the patterns of each rule name; at most one folder deep. All folders are asked for together."""
    tops = site.files.children_of([rule.folder for rule in rules])
    deep = [[pattern for pattern in rule.files if "/" in pattern] for rule in rules]
    folders = [
        [entry.path for entry in top if entry.kind == "folder" and patterns]
        for top, patterns in zip(tops, deep, strict=True)
    ]
    below = iter(site.files.children_of([path for some in folders for path in some]))
    found = []
    for rule, top, patterns, some in zip(rules, tops, deep, folders, strict=True):
        flat = [pattern for pattern in rule.files if "/" not in pattern]
        files = [entry for entry in top if _fits(_name(entry), flat)]
        start = len(rule.folder) + 1
        for _ in some:
            files += [entry for entry in next(below) if _fits(entry.path[start:], patterns)]
        found.append([entry for entry in files if entry.kind == "file"])
    return found


def _fits(name: str, patterns: Sequence[str]) -> bool:
    return any(fnmatchcase(name, pattern) for pattern in patterns)


def _heads(site: ReadableSite, files: Sequence[tuple[ExtensionRule, str]]) -> list[bytes]:
    """As much of each file as tells of the extension."""
    found: dict[str, bytes] = {}
    for size, headers in ((_HEADER, True), (_HEAD, False)):
        paths = [path for rule, path in files if (rule.reader == "header") == headers]
        found |= zip(paths, site.files.heads(paths, size), strict=True)
    return [found[path] for _, path in files]


def _name(entry: Entry) -> str:
    return entry.path.rpartition("/")[2]


def _header(rule: ExtensionRule, head: bytes) -> list[str]:
    """Title, version and needs of an extension, empty where they are not there."""
    if rule.reader == "header":
        text = head[:_HEADER].decode("utf-8", "replace")
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
