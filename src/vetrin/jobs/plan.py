"""What a transfer will do, worked out from a look at both sides before anything is touched."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any, Literal

import msgspec
from msgspec import Struct
from msgspec.structs import asdict

from ..cms import Definition, Place
from ..config import Arrival, Environment, Keep, Leave, defaults
from ..database import Attachment, Condition, Replacement, Table
from ..errors import Refused
from ..files import Difference, Entry, Move
from ..remark import Remark
from ..rewrite import Mapping
from ..site import Encoded, Names, PrefixedValues, Signed, Site, Summary, is_empty
from ..store import Build, Commit
from .arrival import Settling
from .exclusions import Leaving
from .generated_files import Placed

Kind = Literal["pull", "push", "restore", "import"]
Part = Literal["data", "media", "code", "core"]
PARTS: tuple[Part, ...] = ("data", "media", "code", "core")
USUAL_PARTS: tuple[Part, ...] = ("data", "media")
PUSHED_PARTS: tuple[Part, ...] = ("code",)


class TablePlan(Struct, frozen=True):
    """One table to copy: its rows at the source, and at the target where it is there.

    ``rewritten`` are the columns that are looked through for addresses and paths;
    ``exact`` is False where the table is so large that the server's estimate has to do. ``schema``
    is fit for the target's server, ``original`` is the source's; ``leave`` and ``replacements`` are what is
    left out of the rows, and ``left`` how many of them that are.
    """

    table: Table
    target: str
    rows: int
    target_rows: int | None
    rewritten: tuple[int, ...]
    exact: bool
    schema: str
    leave: Condition | None = None
    replacements: dict[str, Replacement] = {}
    left: int = 0
    original: str = ""

    def as_json(self) -> dict[str, Any]:
        return {
            "name": self.table.name,
            "rows": self.rows,
            "bytes": self.table.size,
            "target_rows": self.target_rows,
            "exact": self.exact,
            "target": self.target,
            "left_rows": self.left,
        }


class Choices(Struct, frozen=True):
    """What was chosen for one transfer, put together from the project, the route and the command. ``full``: all rows
    come, also those that are there already."""

    leave: Leave = msgspec.field(default_factory=Leave)
    keep: Keep = msgspec.field(default_factory=Keep)
    arrival: Arrival = msgspec.field(default_factory=lambda: defaults("local"))
    mirror: bool = False
    full: bool = False


class Program(Struct, frozen=True):
    """A trigger, view or stored routine that comes along; ``table`` is what a trigger hangs on, and ``does`` says in
    a line what it does."""

    kind: str
    name: str
    table: str
    does: str


class FolderChange(Struct, frozen=True):
    """What changes in one folder of one part: files and bytes that are new or changed, files that go."""

    part: str
    folder: str
    new: int = 0
    changed: int = 0
    gone: int = 0
    size: int = 0


class BuildChange(Struct, frozen=True):
    """A ``build`` that is pushed, the one ``before`` it that the target is known to hold, the ``commits`` that the
    one has beyond the other, and the inverse, those that are taken ``back``."""

    build: Build
    before: Build | None
    commits: tuple[Commit, ...]
    back: tuple[Commit, ...]


@dataclass(frozen=True)
class Plan:
    """A transfer as a plain value. ``risks`` and ``notes`` are sentences for the user.

    ``runtime`` is the language that the source's CMS runs in, with its version, empty where that is not told.
    ``full``: all rows are to be taken, also those that are there already. ``pushed`` is the build of a push.
    ``holds`` is the file that holds visitors off during the swap, and its text.
    """

    source: Environment
    target: Environment
    parts: tuple[Part, ...]
    mapping: Mapping
    arriving: Summary
    overwritten: Summary
    tables: tuple[TablePlan, ...] = ()
    staying: tuple[str, ...] = ()
    views: tuple[str, ...] = ()
    routines: tuple[Attachment, ...] = ()
    programs: tuple[Program, ...] = ()
    left_programs: tuple[str, ...] = ()
    files: Difference | None = None
    kept: tuple[str, ...] = ()
    notes: tuple[Remark, ...] = ()
    risks: tuple[Remark, ...] = ()
    others: tuple[Environment, ...] = ()
    encoded: Encoded = field(default_factory=dict)
    names: Names | None = None
    prefixed: PrefixedValues | None = None
    leaving: Leaving = field(default_factory=Leaving)
    settling: Settling = field(default_factory=lambda: Settling([], [], [], []))
    placed: tuple[Placed, ...] = ()
    cached: tuple[Move, ...] = ()
    creates: str = ""
    folders: tuple[FolderChange, ...] = ()
    holds: tuple[str, str] | None = None
    pushed: BuildChange | None = None
    kind: Kind = "pull"
    full: bool = False
    runtime: str = ""
    signed: Signed = field(default_factory=dict, repr=False)

    @property
    def file_parts(self) -> tuple[Part, ...]:
        return tuple(part for part in self.parts if part != "data")

    @property
    def rows(self) -> int:
        return sum(item.rows for item in self.tables)

    @property
    def table_bytes(self) -> int:
        return sum(item.table.size for item in self.tables)

    @property
    def goes_by_last_copy(self) -> bool:
        """True where only rows have to move that differ from what the last transfer left."""
        return not self.full and bool(self.tables) and self.kind in ("pull", "push")

    @property
    def build(self) -> Build | None:
        """What is pushed; None where that is no build."""
        return self.pushed.build if self.pushed else None

    def gist(self) -> dict[str, Any]:
        """What a person need not read again where it is as last time."""
        newest = self.arriving.newest
        return {
            "data": [self.arriving.counts, newest and [newest.title, newest.changed]],
            "tables": {item.table.name: item.rows for item in self.tables},
            "pairs": [[pair.old_text, pair.new_text] for pair in self.mapping.pairs],
            "settled": [step.says() for step in self.settling.steps],
            "programs": [[item.kind, item.name, item.does] for item in self.programs],
            "runtime": self.runtime,
        }

    def as_json(self) -> dict[str, Any]:
        pushed = self.pushed
        return {
            "source": self.source.name,
            "target": self.target.name,
            "parts": list(self.parts),
            "pairs": [
                {"kind": pair.kind, "old": pair.old_text, "new": pair.new_text}
                for pair in self.mapping.pairs
            ],
            "tables": [item.as_json() for item in self.tables],
            "left": [
                {"kind": kind.name, "table": kind.table, "rows": kind.rows}
                for kind in self.leaving.kinds
            ],
            "left_tables": sorted(self.leaving.tables),
            "kept_settings": [step.says() for step in self.settling.kept],
            "arrival": [step.says() for step in self.settling.set],
            "placed": [{"path": item.path, "why": item.why} for item in self.placed],
            "cached_files_dropped": sum(move.goes == "file" for move in self.cached),
            "creates": self.creates or None,
            "views": list(self.views),
            "routines": [item.name for item in self.routines],
            "programs": [asdict(item) for item in self.programs],
            "left_programs": list(self.left_programs),
            "staying_tables": list(self.staying),
            "files": None if self.files is None else self._files(self.files),
            "build": pushed.build.as_json() if pushed else None,
            "before": pushed.before.as_json() if pushed and pushed.before else None,
            "commits": [asdict(commit) for commit in pushed.commits] if pushed else [],
            "commits_taken_back": [asdict(commit) for commit in pushed.back] if pushed else [],
            "maintenance": self.holds[0] if self.holds else None,
            "arriving": self.arriving.as_json(),
            "overwritten": self.overwritten.as_json(),
            "kept": list(self.kept),
            "notes": list(self.notes),
            "risks": list(self.risks),
            "remarks": [
                {"kind": kind, "code": remark.code, "text": str(remark)}
                for kind, remarks in (("risk", self.risks), ("note", self.notes))
                for remark in remarks
            ],
        }

    def _files(self, files: Difference) -> dict[str, Any]:
        def named(entries: Iterable[Entry]) -> list[str]:
            return [entry.path for entry in entries if entry.kind != "folder"]

        return {
            "new": len(named(files.new)),
            "changed": len(named(files.changed)),
            "same": files.same,
            "gone": named(files.gone),
            "new_files": named(files.new),
            "changed_files": named(files.changed),
            "only_on_target": len(files.only_there),
            "bytes": files.size,
            "moved": dict(files.reused),
            "by_pieces": sorted(files.pieced),
            "rewritten": sorted(files.texts),
            "whole_folders": [unit.path for unit in files.units],
            "left_by_themselves": {
                **{entry.path: "archive" for entry in files.archives},
                **dict(files.passed),
            },
            "folders": [asdict(item) for item in self.folders],
        }


def usual_parts(
    kind: Literal["pull", "push"], root: Place, definition: Definition
) -> tuple[Part, ...]:
    """What a transfer brings where nobody says otherwise: into an empty root, everything."""
    if is_empty(root, definition):
        return PARTS
    return USUAL_PARTS if kind == "pull" else PUSHED_PARTS


def may_write(environment: Environment) -> None:
    """Raises Refused where the environment's owner permits no writing."""
    if environment.access != "read-write":
        raise Refused(
            f"{environment.name} is {environment.access}: nothing may be written to it",
            f'its owner can permit it with access = "read-write" in '
            f"[environment.{environment.name}]",
        )


def can_be_written(site: Site) -> None:
    """Raises Refused where the way to a site's database permits reading only."""
    if site.database.unwritable:
        raise Refused(
            f"nothing can be written to the database of {site.environment.name}: "
            f"{site.database.unwritable}",
            "give the account a shell with Python 3 or PHP; code and media can be pushed as it is",
        )


def may_read(environment: Environment) -> None:
    """Raises Refused where the environment is closed."""
    if environment.access == "closed":
        raise Refused(
            f"{environment.name} is closed: nothing may be read from it",
            f'its owner can permit it with access = "read-only" in [environment.{environment.name}]',
        )
