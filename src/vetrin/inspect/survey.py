"""What an environment consists of, where its bytes are, and what a transfer could leave out."""

from __future__ import annotations

import fnmatch
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict

from ..cms.definition import ROLES
from ..database import Table
from ..files import Manifest
from ..site import (
    Extension,
    ReadableSite,
    extensions_of,
    own_files,
    part_of_path,
    runtime_of,
)
from ..site.summary import Summary, standing

CONTENT = "content"
# Files that a copy seldom needs: patterns as in .gitignore, with what they are.
_SPARE = (
    ("*.log", "logs"),
    ("cache/", "cached files"),
    ("*.sql", "database dumps"),
    ("*.sql.gz", "database dumps"),
    ("*.zip", "archives"),
    ("*.tar.gz", "archives"),
    ("*.tgz", "archives"),
)


class TableSize(Struct, frozen=True):
    """A table: rows as far as the server tells, bytes with its indexes, and what it is for."""

    name: str
    rows: int
    size: int
    role: str


class FolderSize(Struct, frozen=True):
    """How many files a folder holds, and how many bytes."""

    path: str
    files: int
    size: int
    part: str


class KindCount(Struct, frozen=True):
    """A kind of rows; ``size`` is their share of their tables, in bytes."""

    name: str
    rows: int
    size: int


class Suggestion(Struct, frozen=True):
    """Something to leave out: the key of ``[leave]``, what to write there, what it saves."""

    key: str
    value: str
    size: int
    why: str


@dataclass
class Survey:
    """Everything about one environment. Sizes are in bytes."""

    standing: Summary
    runtime: str | None
    tables: list[TableSize]
    folders: list[FolderSize]
    entries: list[tuple[str, str, int]] = field(default_factory=list)
    kinds: list[KindCount] = field(default_factory=list)
    extensions: list[Extension] = field(default_factory=list)
    suggestions: list[Suggestion] = field(default_factory=list)

    def as_json(self) -> dict[str, Any]:
        return {
            "environment": self.standing.environment,
            "standing": self.standing.as_json(),
            "runtime": self.runtime,
            "tables": [asdict(item) for item in self.tables],
            "folders": [asdict(item) for item in self.folders],
            "entries": [
                {"type": kind, "state": state, "count": count}
                for kind, state, count in self.entries
            ],
            "kinds": [asdict(item) for item in self.kinds],
            "extensions": [item.as_json() for item in self.extensions],
            "suggestions": [asdict(item) for item in self.suggestions],
        }


def role_of(site: ReadableSite, table: Table) -> str:
    """What a table is for, by the definition's patterns: content where none fits."""
    for role in ROLES:
        if any(site.named(table.name, pattern) for pattern in site.definition.roles.get(role, ())):
            return role
    return CONTENT


def entries_by_kind(site: ReadableSite) -> list[tuple[str, str, int]]:
    """(type, state, count) of all entries, most frequent first."""
    rule = site.definition.entries
    if rule is None or not site.has_table(rule.table) or not rule.kind or not rule.state:
        return []
    rows = site.database.groups(site.prefix + rule.table, [rule.kind, rule.state])
    return [(str(kind), str(state), int(count)) for kind, state, count in rows]


def survey(site: ReadableSite) -> Survey:
    """Look at everything that an environment, an archive or a snapshot consists of.

    Raises:
        DatabaseError, FilesError: something could not be read.
    """
    tables = sorted(
        (TableSize(t.name, t.rows, t.size, role_of(site, t)) for t in site.tables),
        key=lambda item: (-item.size, item.name),
    )
    # Its configuration and an embedded database are no files that would move.
    files = site.files.scan(["."], own_files(site))
    kinds = _kinds(site)
    extensions = extensions_of(site)
    found = Survey(
        standing=standing(site),
        runtime=runtime_of(site),
        tables=tables,
        folders=_folders(site, files),
        entries=entries_by_kind(site),
        kinds=kinds,
        extensions=extensions,
    )
    found.suggestions = _suggestions(site, found, files)
    return found


def _folders(site: ReadableSite, files: Manifest) -> list[FolderSize]:
    """Files by their folder, at most two deep."""
    counts: Counter[str] = Counter()
    sizes: Counter[str] = Counter()
    for entry in files.values():
        if entry.kind == "folder":
            continue
        folder = "/".join(entry.path.split("/")[:-1][:2]) or "."
        counts[folder] += 1
        sizes[folder] += entry.size
    return sorted(
        (FolderSize(f, counts[f], sizes[f], part_of_path(site, f)) for f in counts),
        key=lambda item: (-item.size, item.path),
    )


def _kinds(site: ReadableSite) -> list[KindCount]:
    rows: Counter[str] = Counter()
    sizes: Counter[str] = Counter()
    for rule in site.definition.rows:
        table = site.table(rule.table)
        if table is None:
            continue
        count = site.database.count(table.name, site.condition(rule.where))
        rows[rule.name] += count
        if count:
            sizes[rule.name] += table.size * count // max(table.rows, count)
    return [
        KindCount(name, rows[name], sizes[name]) for name in site.definition.kinds if name in rows
    ]


def _suggestions(site: ReadableSite, found: Survey, files: Manifest) -> list[Suggestion]:
    # What arrival drops by itself need not be left out as well.
    dropped = {*site.definition.arrival.caches, *site.definition.arrival.address_rules}
    useful = {rule.name for rule in site.definition.rows if rule.suggested} - dropped
    if dropped:
        useful.discard("expired-values")
    covered = {
        site.prefix + rule.table
        for rule in site.definition.rows
        if rule.name in dropped and not rule.where
    }
    suggested = [
        Suggestion(
            "rows", kind.name, kind.size, f"{kind.rows:,} {'row' if kind.rows == 1 else 'rows'}"
        )
        for kind in found.kinds
        if kind.rows and kind.name in useful
    ]
    suggested += [
        Suggestion("empty", table.name.removeprefix(site.prefix), table.size, f"{table.role} table")
        for table in found.tables
        if table.role in ("log", "cache", "index") and table.rows and table.name not in covered
    ]
    suggested += _spare_files(files)
    for rule in site.definition.extensions:
        idle = {
            item.folder
            for item in found.extensions
            if item.group == rule.name and not item.active and rule.active
        } - {item.folder for item in found.extensions if item.active}
        size = sum(_size_below(files, folder) for folder in idle)
        if size:
            suggested.append(Suggestion("inactive", rule.name, size, f"{len(idle)} not active"))
    return sorted(suggested, key=lambda item: (-item.size, item.key, item.value))


def _spare_files(files: Manifest) -> list[Suggestion]:
    entries = [entry for entry in files.values() if entry.kind == "file"]
    found: list[Suggestion] = []
    for pattern, what in _SPARE:
        sizes: Sequence[int]
        if pattern.endswith("/"):
            name = pattern[:-1]
            sizes = [e.size for e in entries if name in e.path.split("/")[:-1]]
        else:
            sizes = [e.size for e in entries if fnmatch.fnmatch(e.path.rpartition("/")[2], pattern)]
        if sum(sizes):
            found.append(Suggestion("files", pattern, sum(sizes), f"{what}, {len(sizes):,} files"))
    return found


def _size_below(files: Manifest, folder: str) -> int:
    return sum(
        entry.size
        for path, entry in files.items()
        if path == folder or path.startswith(folder + "/")
    )


def leave_table(suggestions: Sequence[Suggestion]) -> str:
    """The suggestions as they are written in vetrin.toml."""
    lines = ["[leave]"]
    for key in ("rows", "empty", "files", "inactive"):
        values = [item.value for item in suggestions if item.key == key]
        if values:
            lines.append(
                f"{key} = [{', '.join(repr(v).replace(chr(39), chr(34)) for v in values)}]"
            )
    return "\n".join(lines)
