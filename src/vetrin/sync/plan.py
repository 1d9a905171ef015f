"""What a transfer will do, worked out from a look at both sides before anything is touched."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from ..check import Standing, standing
from ..database import Table
from ..files import Difference, compare_trees
from ..project import Environment
from ..reach import Site
from ..rewrite import Address, Mapping
from .errors import JobError, Refused
from .rewriting import Encoded

Part = Literal["data", "media"]
PARTS: tuple[Part, ...] = ("data", "media")


_COUNTED = 32_000_000  # bytes; counting the rows of a larger table would take longer than a look


@dataclass(frozen=True)
class TablePlan:
    """One table to copy: its rows at the source, and at the target where it is there.

    ``rewritten`` are the columns that are looked through for addresses and paths;
    ``exact`` is False where the table is so large that the server's estimate has to do.
    """

    table: Table
    target: str
    rows: int
    target_rows: int | None
    rewritten: tuple[int, ...]
    exact: bool


@dataclass(frozen=True)
class Plan:
    """A transfer as a plain value. ``risks`` and ``notes`` are sentences for the user."""

    source: Environment
    target: Environment
    parts: tuple[Part, ...]
    mapping: Mapping
    arriving: Standing
    overwritten: Standing
    tables: tuple[TablePlan, ...] = ()
    staying: tuple[str, ...] = ()
    views: tuple[str, ...] = ()
    files: Difference | None = None
    kept: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    risks: tuple[str, ...] = ()
    others: tuple[Environment, ...] = ()
    encoded: Encoded = field(default_factory=dict)

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
                }
                for item in self.tables
            ],
            "views": list(self.views),
            "staying_tables": list(self.staying),
            "files": None
            if self.files is None
            else {
                "new": sum(entry.kind != "folder" for entry in self.files.new),
                "changed": len(self.files.changed),
                "same": self.files.same,
                "only_on_target": len(self.files.only_there),
                "bytes": self.files.size,
            },
            "arriving": self.arriving.as_json(),
            "overwritten": self.overwritten.as_json(),
            "kept": list(self.kept),
            "notes": list(self.notes),
            "risks": list(self.risks),
        }


def build_plan(
    source: Site,
    target: Site,
    parts: Sequence[Part] = PARTS,
    others: Sequence[Environment] = (),
) -> Plan:
    """Look at both sides and work out the transfer.

    ``others`` are further environments of the project; references to them are counted.

    Raises:
        Refused: a guard forbids it, or the two sites do not fit.
        JobError, DatabaseError, FilesError: something could not be looked at.
    """
    may_write(target.environment)
    may_read(source.environment)
    notes: list[str] = []
    risks: list[str] = []
    mapping = mapping_for(source, target, notes)
    tables: tuple[TablePlan, ...] = ()
    staying: tuple[str, ...] = ()
    views: tuple[str, ...] = ()
    if "data" in parts:
        _fit(source, target)
        tables, staying = _tables(source, target)
        views = source.views
        _weigh(source, target, tables, risks)
    files = None
    if "media" in parts:
        files = compare_trees(source.files, target.files, source.definition.parts.get("media", ()))
        free = target.files.free_space()
        if files.size > free:
            raise JobError(
                f"{target.environment.name} has {free:,} bytes free, the files need {files.size:,}",
                "make room there, or transfer the data alone with --parts data",
            )
        if files.only_there:
            count = sum(entry.kind != "folder" for entry in files.only_there)
            stay = "1 file stays" if count == 1 else f"{count} files stay"
            notes.append(f"{stay} that only {target.environment.name} has")
    kept = ["its own code and the CMS's files"]
    if target.configuration.file is not None:
        kept.insert(0, f"{target.configuration.file.name} and its credentials")
    if source.definition.fixed and "data" in parts:
        names = ", ".join(sorted(source.prefix + name for name in source.definition.fixed))
        notes.append(f"not rewritten, because it identifies entries for good: {names}")
    return Plan(
        source=source.environment,
        target=target.environment,
        parts=tuple(parts),
        mapping=mapping,
        arriving=standing(source),
        overwritten=standing(target),
        tables=tables,
        staying=staying,
        views=views,
        files=files,
        kept=tuple(kept),
        notes=tuple(notes),
        risks=tuple(risks),
        others=tuple(others),
        encoded=source.encoded,
    )


def may_write(environment: Environment) -> None:
    """Raises Refused where the environment's owner permits no writing."""
    if environment.access != "read-write":
        raise Refused(
            f"{environment.name} is {environment.access}: nothing may be written to it",
            f'its owner can permit it with access = "read-write" in '
            f"[environment.{environment.name}]",
        )


def may_read(environment: Environment) -> None:
    """Raises Refused where the environment is closed."""
    if environment.access == "closed":
        raise Refused(
            f"{environment.name} is closed: nothing may be read from it",
            f'its owner can permit it with access = "read-only" in [environment.{environment.name}]',
        )


def mapping_for(source: Site, target: Site, notes: list[str]) -> Mapping:
    """All addresses and roots of the source, onto the target's.

    Addresses that the source's own settings hold count as its own, even where the project does not
    list them, unless they belong to another environment.
    """
    addresses: list[Address] = [
        address
        for address in source.environment.addresses
        if address not in target.environment.addresses
    ]
    for where, recorded in source.recorded_addresses():
        if any(known.covers(recorded) for known in addresses):
            continue
        if any(known.covers(recorded) for known in target.environment.addresses):
            continue
        addresses.append(recorded)
        notes.append(
            f"{source.environment.name} calls itself {recorded} (its {where}); "
            "that is rewritten as well"
        )
    roots = list(
        dict.fromkeys([str(source.environment.root), str(source.environment.root.resolve())])
    )
    return Mapping.build(
        addresses=addresses,
        address=target.environment.address,
        roots=roots,
        root=str(target.environment.root),
        bare_host=source.environment.bare_host,
    )


def _fit(source: Site, target: Site) -> None:
    ours, theirs = target.environment.name, source.environment.name
    if source.database.engine != target.database.engine:
        raise Refused(
            f"{theirs} keeps its data in {source.database.engine}, {ours} in "
            f"{target.database.engine}: rows can not pass from one to the other",
            "set up both with the same kind of database",
        )
    one_database = source.database.facts().identity == target.database.facts().identity
    if one_database and source.prefix == target.prefix:
        raise Refused(
            f"{theirs} and {ours} use the same tables of the same database",
            f"give {ours} a database of its own, or another prefix",
        )
    if source.prefix != target.prefix:
        raise Refused(
            f"the tables of {theirs} begin with {source.prefix!r}, those of {ours} with "
            f"{target.prefix!r}: this version does not change prefixes",
            f"set the prefix {source.prefix!r} in the configuration of {ours}",
        )
    if not source.tables:
        raise Refused(
            f"{theirs} has no tables that begin with {source.prefix!r}",
            "check the prefix and the database in its configuration",
        )


def _tables(source: Site, target: Site) -> tuple[tuple[TablePlan, ...], tuple[str, ...]]:
    there = {table.name: table for table in target.tables}
    plans = tuple(
        TablePlan(
            table,
            table.name,
            _rows(source, table),
            _rows(target, there[table.name]) if table.name in there else None,
            tuple(source.rewritable(table)),
            table.size <= _COUNTED,
        )
        for table in source.tables
    )
    coming = {plan.target for plan in plans}
    return plans, tuple(sorted(set(there) - coming))


def _rows(site: Site, table: Table) -> int:
    return site.database.count(table.name) if table.size <= _COUNTED else table.rows


def _weigh(source: Site, target: Site, tables: Sequence[TablePlan], risks: list[str]) -> None:
    for item in tables:
        risks += [f"{item.table.name}: {note}" for note in item.table.notes]
    ours, theirs = target.database.facts(), source.database.facts()
    if ours.max_statement and theirs.max_statement and ours.max_statement < theirs.max_statement:
        risks.append(
            f"{target.environment.name} takes packets of {ours.max_statement:,} bytes, "
            f"{source.environment.name} of {theirs.max_statement:,}: a larger value could be refused"
        )
    if ours.bulk_load is False:
        risks.append(
            f"{target.environment.name} forbids LOAD DATA LOCAL: rows go in by INSERT, which takes "
            "about twice as long"
        )
    if ours.product != theirs.product:
        risks.append(
            f"{theirs.product} {theirs.version} goes into {ours.product} {ours.version}: "
            "a table that it does not know is refused before anything changes"
        )
