"""What a transfer will do, worked out from a look at both sides before anything is touched."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Literal

from ..cms import Place
from ..config import Arrival, Environment, Keep, Leave, defaults
from ..database import Attachment, Condition, Instead, Table
from ..errors import Refused
from ..files import Difference, Move
from ..rewrite import Mapping
from ..site import Names, PrefixedValues, Signed, Site, Summary, is_empty
from ..store import Build, Commit
from .arrival import Settling
from .exclusions import Leaving
from .generated_files import Placed
from .row_rewriting import Encoded

Kind = Literal["pull", "push", "restore", "import"]
Part = Literal["data", "media", "code", "core"]
PARTS: tuple[Part, ...] = ("data", "media", "code", "core")
USUAL_PARTS: tuple[Part, ...] = ("data", "media")
PUSHED_PARTS: tuple[Part, ...] = ("code",)


@dataclass(frozen=True)
class TablePlan:
    """One table to copy: its rows at the source, and at the target where it is there.

    ``rewritten`` are the columns that are looked through for addresses and paths;
    ``exact`` is False where the table is so large that the server's estimate has to do. ``schema``
    is fit for the target's server, ``original`` is the source's; ``leave`` and ``instead`` are what is
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
    instead: dict[str, Instead] = field(default_factory=dict)
    left: int = 0
    original: str = ""


@dataclass(frozen=True)
class Choices:
    """What was chosen for one transfer, put together from the project, the route and the command."""

    leave: Leave = field(default_factory=Leave)
    keep: Keep = field(default_factory=Keep)
    arrival: Arrival = field(default_factory=lambda: defaults("local"))
    mirror: bool = False


@dataclass(frozen=True)
class Program:
    """A trigger, view or stored routine that comes along; ``table`` is what a trigger hangs on, and ``does`` says in
    a line what it does."""

    kind: str
    name: str
    table: str
    does: str


@dataclass(frozen=True)
class FolderChange:
    """What changes in one folder of one part: files and bytes that are new or changed, files that go."""

    part: str
    folder: str
    new: int = 0
    changed: int = 0
    gone: int = 0
    size: int = 0


@dataclass(frozen=True)
class Plan:
    """A transfer as a plain value. ``risks`` and ``notes`` are sentences for the user.

    ``build`` is what is pushed, ``before`` the one that the target is known to hold, ``commits`` those
    that the one has beyond the other, and ``back`` the inverse. ``holds`` is the file that holds
    visitors off during the swap, and its text.
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
    notes: tuple[str, ...] = ()
    risks: tuple[str, ...] = ()
    others: tuple[Environment, ...] = ()
    encoded: Encoded = field(default_factory=dict)
    names: Names | None = None
    keyed: PrefixedValues | None = None
    leaving: Leaving = field(default_factory=Leaving)
    settling: Settling = field(default_factory=lambda: Settling([], [], [], []))
    placed: tuple[Placed, ...] = ()
    cached: tuple[Move, ...] = ()
    creates: str = ""
    folders: tuple[FolderChange, ...] = ()
    holds: tuple[str, str] | None = None
    build: Build | None = None
    before: Build | None = None
    commits: tuple[Commit, ...] = ()
    back: tuple[Commit, ...] = ()
    kind: Kind = "pull"
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

    def as_json(self) -> dict[str, Any]:
        return {
            "source": self.source.name,
            "target": self.target.name,
            "parts": list(self.parts),
            "pairs": [
                {"kind": pair.kind, "old": pair.old_text, "new": pair.new_text}
                for pair in self.mapping.pairs
            ],
            "tables": [
                {
                    "name": item.table.name,
                    "rows": item.rows,
                    "bytes": item.table.size,
                    "target_rows": item.target_rows,
                    "exact": item.exact,
                    "target": item.target,
                    "left_rows": item.left,
                }
                for item in self.tables
            ],
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
            "programs": [vars(item) for item in self.programs],
            "left_programs": list(self.left_programs),
            "staying_tables": list(self.staying),
            "files": None
            if self.files is None
            else {
                "new": sum(entry.kind != "folder" for entry in self.files.new),
                "changed": sum(entry.kind != "folder" for entry in self.files.changed),
                "same": self.files.same,
                "gone": [e.path for e in self.files.gone if e.kind != "folder"],
                "new_files": [e.path for e in self.files.new if e.kind != "folder"],
                "changed_files": [e.path for e in self.files.changed if e.kind != "folder"],
                "only_on_target": len(self.files.only_there),
                "bytes": self.files.size,
                "moved": dict(self.files.reused),
                "by_pieces": sorted(self.files.pieced),
                "rewritten": sorted(self.files.texts),
                "whole_folders": [unit.path for unit in self.files.units],
                "left_by_themselves": {
                    **{entry.path: "archive" for entry in self.files.archives},
                    **dict(self.files.passed),
                },
                "folders": [vars(item) for item in self.folders],
            },
            "build": self.build.as_json() if self.build else None,
            "before": self.before.as_json() if self.before else None,
            "commits": [vars(commit) for commit in self.commits],
            "commits_taken_back": [vars(commit) for commit in self.back],
            "maintenance": self.holds[0] if self.holds else None,
            "arriving": self.arriving.as_json(),
            "overwritten": self.overwritten.as_json(),
            "kept": list(self.kept),
            "notes": list(self.notes),
            "risks": list(self.risks),
        }


def usual_parts(kind: Literal["pull", "push"], root: Place) -> tuple[Part, ...]:
    """What a transfer brings where nobody says otherwise: into an empty root, everything."""
    if is_empty(root):
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
