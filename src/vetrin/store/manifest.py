"""What a snapshot says of itself: whose content it is, of which moment, and where its contents are.

``snapshots/TIME-ID.json.zst`` (TIME in UTC, ID six letters): a JSON object that names its ``version``.
A snapshot knows no path of the machine that it was made on but the site's root, which has to be rewritten
where it goes elsewhere, and no secret.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime
from typing import Any
from zlib import crc32

import msgspec
from msgspec import Struct
from msgspec.structs import asdict

from ..database import Attachment, Column, Table
from ..files import Entry, entry_of
from .git import Commit

VERSION = 1
_SEPARATE = 500  # entries in one list of files, on average
_as_json = msgspec.json.Encoder().encode  # for every file that there is


class BadManifest(ValueError):
    """It is no manifest, or one of a version that this Vetrin does not know."""


class StoredTable(Struct, frozen=True):
    """A table of a snapshot. ``pages`` is the digest of the list of its pages (its blocks). ``taken`` is the
    moment that it is of, where that is not the snapshot's."""

    table: Table
    schema: str
    pages: tuple[str, ...]
    mixed: bool = False
    last_given: int | None = None
    taken: str = ""

    def as_json(self) -> dict[str, Any]:
        table = self.table
        return {
            "name": table.name,
            "columns": [[c.name, c.type, c.text, c.read, c.write] for c in table.columns],
            "key": list(table.key),
            "fixed": sorted(table.fixed),
            "rows": table.rows,
            "bytes": table.size,
            "consistent": table.consistent,
            "notes": list(table.notes),
            "schema": self.schema,
            "pages": list(self.pages),
            "mixed": self.mixed,
            "last_given": self.last_given,
            "taken": self.taken,
        }

    @classmethod
    def of_json(cls, data: dict[str, Any]) -> StoredTable:
        table = Table(
            name=data["name"],
            columns=tuple(Column(*column) for column in data["columns"]),
            key=tuple(data["key"]),
            fixed=frozenset(data["fixed"]),
            rows=data["rows"],
            size=data["bytes"],
            consistent=data["consistent"],
            notes=tuple(data["notes"]),
        )
        return cls(
            table,
            data["schema"],
            tuple(data["pages"]),
            data["mixed"],
            data["last_given"],
            data["taken"],
        )


class StoredData(Struct, frozen=True):
    """The data of a snapshot: tables, what hangs on them, and the server that they were on."""

    engine: str
    facts: dict[str, Any]
    prefix: str
    charset: str
    tables: tuple[StoredTable, ...]
    attachments: tuple[Attachment, ...]
    views: tuple[str, ...]
    size: int

    def as_json(self) -> dict[str, Any]:
        return {
            "engine": self.engine,
            "facts": self.facts,
            "prefix": self.prefix,
            "charset": self.charset,
            "tables": [table.as_json() for table in self.tables],
            "attachments": [asdict(item) for item in self.attachments],
            "views": list(self.views),
            "bytes": self.size,
        }

    @classmethod
    def of_json(cls, data: dict[str, Any]) -> StoredData:
        return cls(
            data["engine"],
            data["facts"],
            data["prefix"],
            data["charset"],
            tuple(StoredTable.of_json(item) for item in data["tables"]),
            tuple(Attachment(**item) for item in data["attachments"]),
            tuple(data["views"]),
            data["bytes"],
        )


class StoredFile(Struct, frozen=True):
    """A file, folder or link; ``blocks`` are the contents that a file is made of."""

    entry: Entry
    blocks: tuple[str, ...] = ()


class StoredFiles(Struct, frozen=True):
    """The files of a snapshot: digests of the lists of them, how many, and their bytes."""

    lists: tuple[str, ...]
    count: int
    size: int
    passed: dict[str, str] = {}

    @classmethod
    def of_json(cls, data: dict[str, Any]) -> StoredFiles:
        return cls(tuple(data["lists"]), data["count"], data["size"], data["passed"])


class StoredBuild(Struct, frozen=True):
    """What makes a snapshot a build: see ``builds.py``."""

    fingerprint: str
    commit: Commit | None = None
    found: bool = False

    def as_json(self) -> dict[str, Any]:
        return {
            "fingerprint": self.fingerprint,
            "commit": asdict(self.commit) if self.commit else None,
            "found": self.found,
        }

    @classmethod
    def of_json(cls, data: dict[str, Any]) -> StoredBuild:
        commit = data["commit"]
        return cls(data["fingerprint"], Commit(**commit) if commit else None, data["found"])


class Manifest(Struct, frozen=True):
    """A snapshot. ``address`` and ``also`` are whose addresses it speaks, ``roots`` the paths. ``purpose`` is
    backup, before (a run), baseline (of a transfer to ``target``), import or build. ``listed`` are files of which
    only the list is kept, not what is in them."""

    id: str
    taken: str
    environment: str
    role: str
    cms: str
    parts: tuple[str, ...]
    address: str
    also: tuple[str, ...]
    roots: tuple[str, ...]
    label: str = ""
    purpose: str = "backup"
    target: str = ""
    title: str = ""
    cms_version: str = ""
    addresses: tuple[str, ...] = ()
    counts: dict[str, int] | None = None
    newest: tuple[str, str] | None = None
    data: StoredData | None = None
    files: StoredFiles | None = None
    listed: StoredFiles | None = None
    added: int = 0
    notes: tuple[str, ...] = ()
    build: StoredBuild | None = None

    @property
    def is_backup(self) -> bool:
        """False for what runs keep for themselves: baselines of transfers, and builds."""
        return self.purpose not in ("baseline", "build")

    @property
    def name(self) -> str:
        """The name on the backend."""
        moment = datetime.fromisoformat(self.taken).astimezone(UTC)
        return f"snapshots/{moment:%Y-%m-%dT%H%M%SZ}-{self.id}.json.zst"

    @property
    def size(self) -> int:
        """Bytes of what it holds, as it is in use."""
        rows = sum(t.table.size for t in self.data.tables) if self.data else 0
        return rows + (self.files.size if self.files else 0)

    @property
    def lists(self) -> tuple[str, ...]:
        """The digests of all its lists of files."""
        return tuple(
            digest
            for some in (self.files, self.listed)
            if some is not None
            for digest in some.lists
        )

    @property
    def rows(self) -> int:
        return sum(t.table.rows for t in self.data.tables) if self.data else 0

    def as_json(self) -> dict[str, Any]:
        return {
            "version": VERSION,
            **asdict(self),
            "data": self.data.as_json() if self.data else None,
            "files": asdict(self.files) if self.files else None,
            "listed": asdict(self.listed) if self.listed else None,
            "build": self.build.as_json() if self.build else None,
        }

    def encode(self) -> bytes:
        return json.dumps(self.as_json(), ensure_ascii=True).encode()

    @classmethod
    def decode(cls, content: bytes) -> Manifest:
        """Raises BadManifest."""
        try:
            data = json.loads(content)
            if data.pop("version") != VERSION:
                raise BadManifest("it was written by another version of Vetrin")
            for key in ("parts", "also", "roots", "addresses", "notes"):
                data[key] = tuple(data[key])
            if data["newest"] is not None:
                data["newest"] = tuple(data["newest"])
            if data["data"] is not None:
                data["data"] = StoredData.of_json(data["data"])
            for key in ("files", "listed"):
                if data[key] is not None:
                    data[key] = StoredFiles.of_json(data[key])
            if data.get("build") is not None:
                data["build"] = StoredBuild.of_json(data["build"])
            return cls(**data)
        except (ValueError, KeyError, TypeError, AttributeError) as error:
            if isinstance(error, BadManifest):
                raise
            raise BadManifest(f"it is no manifest: {error}") from error


def files_as_lists(files: Iterable[StoredFile]) -> Iterator[bytes]:
    """Files in the order of their paths as lists to store, cut where the paths say so."""
    lines: list[bytes] = []
    for file in sorted(files, key=lambda file: file.entry.path):
        lines.append(_line([*file.entry, file.blocks] if file.blocks else file.entry) + b"\n")
        if crc32(file.entry.path.encode("utf-8", "surrogateescape")) % _SEPARATE == 0:
            yield b"".join(lines)
            lines = []
    if lines:
        yield b"".join(lines)


def _line(values: Sequence[object]) -> bytes:
    try:
        return _as_json(values)
    except UnicodeEncodeError:  # a name that is no UTF-8
        return json.dumps(values).encode()


def files_of_list(content: bytes) -> list[StoredFile]:
    """Raises ValueError where it is no such list."""
    found = []
    try:
        for line in content.splitlines():
            data = json.loads(line)
            count = len(Entry._fields)
            blocks: Sequence[str] = data[count] if len(data) > count else ()
            found.append(StoredFile(entry_of(data[:count]), tuple(blocks)))
    except (KeyError, TypeError, IndexError) as error:
        raise ValueError(f"no list of files: {error}") from error
    return found
