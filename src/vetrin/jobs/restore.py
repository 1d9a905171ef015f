"""Putting back what a snapshot holds, all of it or a part, where it came from or elsewhere."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence

from msgspec import Struct
from msgspec.structs import replace

from ..config import Arrival, Environment, Keep, Leave, Project, nearest
from ..errors import Refused
from ..site import ReadableSite, Site
from ..store import Manifest, Store, open_snapshot
from .plan import PARTS, Choices, Part, Plan
from .planner import build_plan


class Wanted(Struct, frozen=True):
    """What is to be put back: parts, or some tables (patterns) and paths; without any, everything."""

    parts: tuple[Part, ...] = ()
    tables: tuple[str, ...] = ()
    paths: tuple[str, ...] = ()
    mirror: bool = False

    @property
    def some(self) -> bool:
        return bool(self.tables or self.paths)


def parts_wanted(manifest: Manifest, wanted: Wanted) -> tuple[Part, ...]:
    """The parts of a snapshot that are concerned.

    Raises:
        Refused: it does not hold what is wanted.
    """
    held: tuple[Part, ...] = tuple(part for part in PARTS if part in manifest.parts)
    for part in wanted.parts:
        if part not in held:
            raise Refused(
                f"snapshot {manifest.id} holds no {part}, but {', '.join(held)}",
                "`vetrin snapshots` lists what each snapshot holds",
            )
    if wanted.tables and "data" not in held:
        raise Refused(f"snapshot {manifest.id} holds no data, but {', '.join(held)}", "")
    if wanted.parts:
        return wanted.parts
    if not wanted.some:
        return held
    files = [part for part in held if part != "data"]
    return (*(("data",) if wanted.tables else ()), *(files if wanted.paths else ()))


def snapshot_site(
    store: Store, manifest: Manifest, project: Project, wanted: Wanted
) -> ReadableSite:
    """A snapshot as a source that shows what is wanted of it.

    Raises:
        Refused: what is wanted is not there.
    """
    if manifest.cms != project.definition.name:
        raise Refused(
            f"snapshot {manifest.id} is of {manifest.cms}, this project's site is of "
            f"{project.definition.name}",
            "",
        )
    wanted = replace(wanted, paths=tuple(path.strip("/") for path in wanted.paths))
    site = open_snapshot(store, manifest, project.definition, wanted.paths)
    for path in wanted.paths:
        if not site.files.exists(path):
            known = [file.entry.path for file in store.files(manifest)]
            raise Refused(f"snapshot {manifest.id} has no {path}{nearest(path, known)}", "")
    for pattern in wanted.tables:
        problem = site.unnamed(pattern)
        if problem:
            raise Refused(problem, "")
    if wanted.paths:
        # Single files are put back among what is there; no folder switches as a whole for them.
        site.definition = replace(site.definition, whole=())
    return site


def build_restore(
    source: ReadableSite,
    target: Site,
    parts: Sequence[Part],
    wanted: Wanted,
    project: Project,
    others: Sequence[Environment] = (),
) -> Plan:
    """The plan that puts back what is wanted.

    Where it came from, everything becomes as it was and nothing is settled; elsewhere, addresses are
    rewritten and the target is settled as by a pull.

    Raises:
        Refused, JobError, DatabaseError, FilesError: as ``build_plan``.
    """
    environment = target.environment
    home = source.environment.name.partition(" ")[0] == environment.name
    choices = Choices(
        leave=Leave(only=wanted.tables),
        keep=Keep() if home else project.keep_for(environment, Keep()),
        arrival=Arrival() if home else project.arrival_for(environment, Arrival()),
        mirror=wanted.mirror,
    )
    if wanted.some and not home:
        choices = replace(choices, arrival=Arrival())
    plan = build_plan(source, target, parts, others, choices)
    return dataclasses.replace(plan, kind="restore")
