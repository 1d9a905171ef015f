"""Bringing into an environment what an archive or a dump holds of a site."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from ..project import Environment, Project
from ..reach import Site
from ..store import Manifest
from .plan import PARTS, Choices, Part, Plan
from .planning import build_plan


def parts_held(manifest: Manifest) -> tuple[Part, ...]:
    """The parts that were found in an archive."""
    return tuple(part for part in PARTS if part in manifest.parts)


def recognised(manifest: Manifest, project: Project, target: Environment) -> Manifest:
    """The snapshot of an archive, with all that is known of its environment where it is one of the project's.

    Its own settings tell one address; the project may know more of them, and the path of its root.
    """
    spoken = {manifest.address, *manifest.also}
    for environment in project.environments.values():
        known = [str(address) for address in environment.addresses]
        if environment.name == target.name or not spoken & set(known):
            continue
        root = str(environment.root)
        roots = tuple(
            dict.fromkeys(filter(None, [root if root.startswith("/") else "", *manifest.roots]))
        )
        also = [one for one in (*known, *manifest.also) if one != manifest.address]
        note = f"it is of {environment.name}: what vetrin.toml says of its addresses counts"
        return replace(
            manifest,
            also=tuple(dict.fromkeys(also)),
            roots=roots[:2] or ("",),
            notes=(*manifest.notes, note),
        )
    return manifest


def build_import(
    source: Site,
    target: Site,
    parts: Sequence[Part],
    choices: Choices,
    project: Project,
    manifest: Manifest,
) -> Plan:
    """The plan that brings in what was found; the target keeps its own configuration.

    Raises:
        Refused, JobError, DatabaseError, FilesError: as ``build_plan``.
    """
    others: list[Environment] = [
        item
        for item in project.environments.values()
        if item.name != target.environment.name
        and not set(map(str, item.addresses)) & {manifest.address, *manifest.also}
    ]
    plan = build_plan(source, target, parts, others, choices)
    return replace(plan, kind="import", notes=(*manifest.notes, *plan.notes))
