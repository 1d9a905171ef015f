"""What changed in an environment since the last transfer that read it or wrote to it, in the words of its CMS.

Of a source that is what waits to be fetched, of a target what the next transfer would overwrite. Addresses that
differ only by the rewriting, what arrival set and what does not travel are no changes.
"""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from msgspec import Struct, structs
from msgspec.structs import asdict

from ..cms import Definition
from ..database import Reader, Table
from ..database.batch import Cell
from ..files import DigestCache, Entry, Patterns
from ..inspect.compare import Expected
from ..merge import Changed, State
from ..merge.conditions import meets
from ..merge.references import Row
from ..rewrite.structured_values import differing_parts
from ..site import (
    ReadableSite,
    part_of_path,
)
from ..store import Store, open_snapshot
from .journal import Run
from .plan import Choices
from .row_changes import TooLarge, by_key, row_changes
from .rows_by_key import RowsByKey
from .since import Since, earlier_of, left_of, own_since

_SECRET = re.compile(
    r"pass|secret|token|salt|nonce|licen[sc]e|credential|session|auth(?!or)|hash|(?:^|[_-])key|key$",
    re.IGNORECASE,
)
_HASH = re.compile(rb"\$(?:P|H|2[aby]|wp|argon2\w*|[156])\$|(?:pbkdf2|bcrypt|scrypt|argon2)\w*\$")
NOT_SHOWN = "(not shown)"
_LONG = 160


@dataclass
class TableChanges:
    """How many rows of a table changed. ``state`` is rows, columns (it has others now), gone, or whole (it differs,
    and cannot be told row by row)."""

    name: str
    state: str = "rows"
    added: int = 0
    changed: int = 0
    removed: int = 0


class EntryChange(Struct, frozen=True):
    """An entry, by its title, that was added, changed or removed."""

    title: str
    kind: str
    id: str
    state: State


class SettingChange(Struct, frozen=True):
    """A setting, or a part of one by its path of keys; ``old`` and ``new`` are None where it was or is not there."""

    name: str
    path: tuple[str, ...]
    old: str | None
    new: str | None


class CellChange(Struct, frozen=True):
    """A row of one table for a person: its key, and its columns that changed with both values."""

    key: str
    state: State
    columns: tuple[tuple[str, str | None, str | None], ...]


class FileChange(Struct, frozen=True):
    """A file, by its path below the root, that was added, changed or removed."""

    path: str
    part: str
    state: State


@dataclass
class Changes:
    """What changed in an environment. ``role`` is source or target of the transfer that is compared with, or
    snapshot; ``since`` says which that is."""

    environment: str
    role: str
    other: str
    since: str
    run: int | None = None
    tables: list[TableChanges] = field(default_factory=list)
    entries: list[EntryChange] = field(default_factory=list)
    settings: list[SettingChange] = field(default_factory=list)
    files: list[FileChange] = field(default_factory=list)
    rows: list[CellChange] = field(default_factory=list)

    @property
    def nothing(self) -> bool:
        return not (self.tables or self.files)

    def only_in(self, names: Collection[str], definition: Definition) -> Changes:
        """What of it is in the rows of some tables, without prefix."""
        entries, settings = definition.entries, definition.settings
        return dataclasses.replace(
            self,
            tables=[item for item in self.tables if item.name in names],
            entries=self.entries if entries is not None and entries.table in names else [],
            settings=self.settings if settings is not None and settings.table in names else [],
        )

    def as_json(self) -> dict[str, Any]:
        return {
            "environment": self.environment,
            "role": self.role,
            "other": self.other or None,
            "since": self.since,
            "run": self.run,
            "same": self.nothing,
            "tables": [vars(item) for item in self.tables],
            "entries": [asdict(item) for item in self.entries],
            "settings": [{**asdict(item), "path": list(item.path)} for item in self.settings],
            "files": [asdict(item) for item in self.files],
            "rows": [
                {
                    "key": item.key,
                    "state": item.state,
                    "columns": [
                        {"name": name, "old": old, "new": new} for name, old, new in item.columns
                    ],
                }
                for item in self.rows
            ],
        }


def changes_of(
    site: ReadableSite,
    store: Store,
    since: Since,
    choices: Callable[[Run], Choices],
    *,
    rows_of: str = "",
    source_seen: DigestCache | None = None,
    files: bool = True,
    tell: Callable[[str], None] = lambda text: None,
) -> Changes:
    """Look for what changed. With ``rows_of``, the changed rows of that table (without prefix) are told one by one.
    ``source_seen`` is what is known of the files of the source of a copy; without ``files`` none is looked at.

    Raises:
        DatabaseError, FilesError, StoreError: something could not be read.
    """
    run, manifest = since.run, since.manifest
    source_seen = source_seen or DigestCache()
    found = Changes(
        environment=site.environment.name,
        role=since.role,
        other=since.other,
        since=manifest.taken,
        run=run.number if run else None,
    )
    with open_snapshot(store, manifest, site.definition) as stored:
        chosen = choices(run) if run else Choices()
        work = _Work(
            site=site,
            stored=stored,
            store=store,
            since=since,
            choices=chosen,
            found=found,
            rows_of=rows_of,
            source_seen=source_seen,
        )
        if manifest.data is not None:
            work.tables(tell)
        if files:
            tell("files")
            work.files()
    return found


class _Work:
    def __init__(
        self,
        site: ReadableSite,
        stored: ReadableSite,
        store: Store,
        since: Since,
        choices: Choices,
        found: Changes,
        rows_of: str,
        source_seen: DigestCache,
    ) -> None:
        self._site = site
        self._stored = stored
        self._store = store
        self._since = since
        self._choices = choices
        self._found = found
        self._rows_of = rows_of
        self._source_seen = source_seen
        self._definition: Definition = site.definition
        self._minor = [
            (kind.table, site.condition(kind.where))
            for kind in site.definition.rows
            if kind.suggested
        ]
        self._texts = Patterns(self._definition.text_files)

    def tables(self, tell: Callable[[str], None]) -> None:
        site, stored = self._site, self._stored
        earlier = earlier_of(site, stored, self._store, self._since)
        left = left_of(site, self._since, self._choices)
        own = own_since(site, stored, self._since, self._choices)
        theirs = {table.name.removeprefix(site.prefix): table for table in site.tables}
        items: dict[str, TableChanges] = {}
        compared: list[tuple[Table, Table]] = []
        for table in stored.tables:
            plain = table.name.removeprefix(stored.prefix)
            there, item = theirs.get(plain), TableChanges(plain)
            items[plain] = item
            if there is None:
                item.state, item.removed = "gone", table.rows
            elif {c.name for c in there.columns} != {c.name for c in table.columns}:
                item.state = "columns"
            else:
                compared.append((table, there))
        with site.database.reading() as reader:
            for (table, there), found in row_changes(earlier, compared, reader, left, tell):
                plain = table.name.removeprefix(stored.prefix)
                item = items[plain]
                try:
                    # Their rows have the copy's columns, which may stand in another order there.
                    same = structs.replace(there, columns=table.columns)
                    for change in self._since_merges(plain, same, reader, found):
                        self._count(plain, table, item, change, own)
                except TooLarge:
                    item.state = "whole"
        self._found.tables += [
            item
            for item in items.values()
            if item.state != "rows" or item.added or item.changed or item.removed
        ]

    def _since_merges(
        self, plain: str, table: Table, reader: Reader, found: Iterator[Changed]
    ) -> Iterator[Changed]:
        """The changes that merges did not bring to the other side, or from there."""
        common = self._since.common
        if common is None or not common.rows or not table.key:
            yield from found
            return
        rows = RowsByKey(reader, table)
        name = self._site.environment.name
        yield from common.changes(name, plain, by_key(table, found), rows.of).values()

    def _count(
        self,
        plain: str,
        table: Table,
        item: TableChanges,
        change: Changed,
        own: Expected,
    ) -> None:
        names = [column.name for column in table.columns]
        settings, entries = self._definition.settings, self._definition.entries
        row = change.after if change.after is not None else change.before
        assert row is not None
        values = dict(zip(names, row, strict=True))
        if settings is not None and plain == settings.table:
            name = _text(values[settings.name])
            if own.has_setting(name) or self._is_minor(plain, values):
                return
            self._setting(name, names.index(settings.value), change)
        if entries is not None and plain == entries.table and not self._is_minor(plain, values):
            kind = _text(values[entries.kind]) if entries.kind else ""
            title, key = _text(values[entries.title]), _text(values[entries.id])
            self._found.entries.append(EntryChange(title, kind, key, change.state))
        if change.before is None:
            item.added += 1
        elif change.after is None:
            item.removed += 1
        else:
            item.changed += 1
        if plain == self._rows_of:
            self._found.rows.append(_cells(table, names, change))

    def _is_minor(self, plain: str, values: Mapping[str, Cell]) -> bool:
        """True for a row of a kind that a transfer may well leave out."""
        names, row = list(values), list(values.values())
        return any(
            table == plain and meets(part, names, row, lambda *asked: False)
            for table, part in self._minor
        )

    def _setting(self, name: str, place: int, change: Changed) -> None:
        old, new = (None if row is None else row[place] for row in (change.before, change.after))
        if not isinstance(old, bytes) or not isinstance(new, bytes):
            shown = (None if cell is None else _shown(name, _raw(cell)) for cell in (old, new))
            self._found.settings.append(SettingChange(name, (), *shown))
            return
        for path, one, other in differing_parts(old, new):
            where = "/".join((name, *path))
            shown = (None if text is None else _shown(where, text) for text in (one, other))
            self._found.settings.append(SettingChange(name, path, *shown))

    def files(self) -> None:
        """Media files that are not what the transfer listed."""
        then = {entry.path: entry for entry in self._listed()}
        if not then:
            return
        folders = self._definition.parts.get("media", ())
        now = {
            path: entry
            for path, entry in self._site.files.scan(folders).items()
            if entry.kind != "folder"
        }
        run = self._since.run
        own = set(run.report.get("only_on_target") or ()) if run is not None else set()
        for path in sorted({*then, *now} - own):
            one, other = then.get(path), now.get(path)
            if one is None or other is None:
                state: State = "added" if one is None else "removed"
            elif self._is_as_listed(one, other):
                continue
            else:
                state = "changed"
            if part_of_path(self._site, path) == "media":
                self._found.files.append(FileChange(path, "media", state))

    def _is_as_listed(self, then: Entry, now: Entry) -> bool:
        """Whether a file is what was listed at the source. In a target it may have a time of its own, and where it
        holds addresses other ones."""
        if _as_listed(then) == _as_listed(now):
            return True
        if self._since.role != "target" or then.kind != now.kind or now.kind != "file":
            return False
        if self._site.seen.brought(now):
            return True
        digest = then.digest or self._source_seen.known(then)
        if digest and not self._texts.matches_file(now):
            same = then.size == now.size
            return same and digest == self._site.seen.digest(self._site.files, now)
        # What its content was here nobody knows: it is as the run left it if it is older than the run's end.
        ended = self._since.run.ended if self._since.run is not None else ""
        return now.modified / 1e9 < datetime.fromisoformat(ended).timestamp() + 1

    def _listed(self) -> Iterator[Entry]:
        manifest = self._since.manifest
        entries: Iterator[Entry] = self._store.listed(manifest)
        if self._since.run is None:
            entries = (file.entry for file in self._store.files(manifest))
        return (entry for entry in entries if entry.kind != "folder")


def _as_listed(entry: Entry) -> tuple[object, ...]:
    return entry.kind, entry.size, entry.modified if entry.kind == "file" else entry.target


def _cells(table: Table, names: Sequence[str], change: Changed) -> CellChange:
    known: Row = change.after if change.after is not None else change.before or ()
    key = ", ".join(f"{name}={_text(known[names.index(name)])}" for name in table.key)
    columns = []
    for place, name in enumerate(names):
        old, new = (None if row is None else row[place] for row in (change.before, change.after))
        if old != new and name not in table.key:
            shown = (None if cell is None else _shown(name, _raw(cell)) for cell in (old, new))
            columns.append((name, *shown))
    return CellChange(key, change.state, tuple(columns))  # type: ignore[arg-type]


def _raw(cell: Cell) -> bytes:
    return cell if isinstance(cell, bytes) else str(cell).encode()


def _text(cell: Cell) -> str:
    return "" if cell is None else _raw(cell).decode("utf-8", "replace")


def is_secret(name: str, text: bytes) -> bool:
    """Whether a value, or what it is called, looks like a secret: such is never shown."""
    return bool(_SECRET.search(name) or _HASH.search(text))


def _shown(name: str, text: bytes) -> str:
    """A value for a person: cut where it is long, and nothing of what looks like a secret."""
    if is_secret(name, text):
        return NOT_SHOWN
    whole = text.decode("utf-8", "replace")
    return whole if len(whole) <= _LONG else whole[: _LONG - 1] + "…"
