"""Bringing into an environment what an archive or a dump holds of a site."""

from __future__ import annotations

import contextlib
import dataclasses
from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from ..config import Environment, Project
from ..database.mysql.charsets import KNOWN_EXACTLY, Between, ByServer, Conversion, between
from ..errors import DatabaseError, FilesError, ReachError
from ..remark import Remark
from ..remote import Hosts
from ..site import ReadableSite, Site, open_site
from ..store import Manifest
from .plan import PARTS, Choices, Part, Plan
from .planner import build_plan


@contextlib.contextmanager
def conversions_at(hosts: Hosts, project: Project, environment: Environment) -> Iterator[Between]:
    """Conversions between character sets by the tables of an environment's own database server, which is connected
    to when the first text needs it; by Python's where there is none that answers."""
    # An engine's library is loaded only where a site needs it.
    from ..database.mysql.database import MysqlDatabase

    with contextlib.ExitStack() as stack:
        found: list[Between] = []

        def conversion(old: str, new: str) -> Conversion | None:
            if not {old.lower(), new.lower()} - KNOWN_EXACTLY:
                return between(old, new)
            if not found:
                found.append(between)
                with contextlib.suppress(DatabaseError, FilesError, ReachError, OSError):
                    site = stack.enter_context(open_site(hosts, project, environment))
                    if isinstance(site.database, MysqlDatabase):
                        found.append(ByServer(site.database.ask).between)
            return found[-1](old, new)

        yield conversion


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
    source: ReadableSite,
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
    notes = (Remark("of-the-archive", text) for text in manifest.notes)
    return dataclasses.replace(plan, kind="import", notes=(*notes, *plan.notes))
