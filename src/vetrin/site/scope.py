"""Which files of two environments belong to the parts of a transfer."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from pathlib import PurePosixPath

from msgspec import Struct

from ..config import Environment
from ..database.engines import engine_of
from ..files import unit_of, withheld
from .open import root_on
from .site import ReadableSite


class FileScope(Struct, frozen=True):
    """Folders to look at, and the paths in them that do not count, at the source and the target.

    ``nested`` are the source's folders that are roots of other environments.
    """

    folders: tuple[str, ...]
    skip: tuple[frozenset[str], frozenset[str]]
    nested: tuple[str, ...] = ()


def file_scope(
    source: ReadableSite,
    target: ReadableSite,
    parts: Collection[str],
    everywhere: Sequence[Environment],
) -> FileScope:
    """The files of some parts; what is neither media nor core is code.

    Configuration files, embedded databases, the mark of a copy and roots of other environments
    (``everywhere`` are all that count) are no part of anything.
    """
    definition = source.definition
    media = definition.parts.get("media", ())
    core = definition.parts.get("core", ())
    folders: list[str] = []
    skip = [own_files(site) | _nested(site, everywhere) for site in (source, target)]
    if "media" in parts:
        folders += media
    if "core" in parts:
        folders += core
    if "code" in parts and "." not in media:
        folders = [".", *folders]
        for paths in skip:
            paths |= set() if "media" in parts else set(media)
            paths |= set() if "core" in parts else set(core)
    nested = _nested(source, everywhere) if folders else set()
    return FileScope(
        tuple(folders), (frozenset(skip[0]), frozenset(skip[1])), tuple(sorted(nested))
    )


def lies_loose(site: ReadableSite, path: str) -> bool:
    """True for a path among the code, but in none of the folders that belong together."""
    return part_of_path(site, path) == "code" and not unit_of(path, site.definition.whole)


def stays_with(site: ReadableSite) -> Callable[[str], str]:
    """What says why a file of a site does not leave it by itself; nothing for one that does."""
    names = {PurePosixPath(name).name for name in site.definition.configuration.files}
    if site.configuration.file is not None:
        names.add(site.configuration.file.name)
    return withheld(
        names,
        lambda path: lies_loose(site, path),
        lambda path: part_of_path(site, path) == "media",
    )


def part_of_path(site: ReadableSite, path: str) -> str:
    """The part that a path below the root belongs to."""
    for part in ("media", "core"):
        for folder in site.definition.parts.get(part, ()):
            if folder == "." or path == folder or path.startswith(folder + "/"):
                return part
    return "code"


def own_files(site: ReadableSite) -> set[str]:
    """Files in the root that belong to the environment itself and never move."""
    root = PurePosixPath(str(site.root))
    found = set()
    if site.definition.copy is not None and site.definition.copy.file:
        found.add(site.definition.copy.file)
    if site.definition.address_rules is not None:
        found.add(site.definition.address_rules.file)
    if site.definition.maintenance is not None:
        found.add(site.definition.maintenance.file)
    paths = [PurePosixPath(str(site.configuration.file))] if site.configuration.file else []
    if engine_of(site.configuration.engine).in_file:
        database = root / site.configuration.database
        paths += [
            database.with_name(database.name + tail) for tail in ("", "-wal", "-shm", "-journal")
        ]
    for path in paths:
        if path.is_relative_to(root):
            found.add(path.relative_to(root).as_posix())
    return found


def _nested(site: ReadableSite, environments: Sequence[Environment]) -> set[str]:
    """Roots of other environments inside this one's."""
    if not site.roots:
        return set()
    root = PurePosixPath(site.roots[-1])
    found = set()
    for other in environments:
        if other.host != site.environment.host:
            continue
        place = PurePosixPath(str(root_on(site.remote_host, other).resolve()))
        if place != root and place.is_relative_to(root):
            found.add(place.relative_to(root).as_posix())
    return found
