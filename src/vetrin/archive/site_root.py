"""Finding the site's root among the entries of an archive, and what of them belongs to the site."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from ..errors import BadArchive
from ..files import LINK_OUT, OWN_FOLDER, VERSION_CONTROL, VERSION_CONTROLS, stays_inside
from ..store.manifest import StoredFile


def roots_in(paths: Collection[str], markers: Sequence[str]) -> list[str]:
    """The folders that have all markers of a CMS, those at the least depth; several are several sites."""
    first = markers[0]
    known = {*paths, *(path.rpartition("/")[0] for path in paths)}
    found = []
    for path in known:
        if path == first or path.endswith("/" + first):
            root = path[: -len(first)].rstrip("/")
            if all((f"{root}/{mark}" if root else mark) in known for mark in markers):
                found.append(root)
    depths = {root: root.count("/") + bool(root) for root in found}
    least = min(depths.values(), default=0)
    return sorted(root for root in found if depths[root] == least)


def proved(files: Mapping[str, StoredFile]) -> None:
    """Raises BadArchive where an entry lies below one that is no folder: it would be written elsewhere."""
    for path in files:
        above = path.rpartition("/")[0]
        while above:
            entry = files.get(above)
            if entry is not None and entry.entry.kind != "folder":
                raise BadArchive(f"the entry {path!r} lies below {above!r}, which is no folder")
            above = above.rpartition("/")[0]


def below(
    files: Mapping[str, StoredFile], folder: str
) -> tuple[dict[str, StoredFile], dict[str, str]]:
    """What lies below a folder, by its path from there; and what of it a site's files never are, with why:
    links that lead out of that folder, version control."""
    start = f"{folder}/" if folder else ""
    found: dict[str, StoredFile] = {}
    passed: dict[str, str] = {}
    for name, file in files.items():
        if not name.startswith(start):
            continue
        path = name[len(start) :]
        parts = path.split("/")
        odd = next((at for at, part in enumerate(parts) if part in _NEVER), None)
        if odd is not None:
            if parts[odd] in VERSION_CONTROLS:
                passed["/".join(parts[: odd + 1])] = VERSION_CONTROL
        elif file.entry.kind == "link" and not stays_inside(path, file.entry.target):
            passed[path] = LINK_OUT
        else:
            found[path] = StoredFile(file.entry._replace(path=path), file.blocks)
    return found, passed


_NEVER = VERSION_CONTROLS | {OWN_FOLDER}
