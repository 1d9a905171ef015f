"""Telling of which CMS an archive holds a site, by the names in it."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from ..cms import Definition, shipped
from .openpgp import is_sealed
from .reader import kind_of, members, watching


def definition_in(paths: Sequence[Path], password: str | None = None) -> Definition | None:
    """The shipped definition whose marker files lie below one folder of the archives; None where none does, as in a
    dump alone.

    Raises:
        BadArchive: one cannot be read.
    """
    # By definition and marker, the folders below which the marker lies.
    roots: dict[str, list[set[str]]] = {
        name: [set() for _ in definition.markers] for name, definition in shipped().items()
    }
    watch = watching(paths)
    for path in paths:
        if is_sealed(path):
            continue
        kind, packing = kind_of(path)
        if kind == "sql":
            continue
        for member in members(path, kind, packing, watch, password):
            for name, definition in shipped().items():
                for at, marker in enumerate(definition.markers):
                    if f"/{member.entry.path}".endswith(f"/{marker}"):
                        roots[name][at].add(member.entry.path[: -len(marker)])
    for name, found in roots.items():
        if found and set.intersection(*found):
            return shipped()[name]
    return None
