"""Telling of which CMS an archive holds a site, by the names in it."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from ..cms import Definition, shipped
from .openpgp import is_sealed
from .reader import kind_of, members, watching
from .site_root import roots_in


def definition_in(paths: Sequence[Path], password: str | None = None) -> Definition | None:
    """The shipped definition whose marker files lie below one folder of the archives; None where none does, as in a
    dump alone.

    Raises:
        BadArchive: one cannot be read.
    """
    names: set[str] = set()
    watch = watching(paths)
    for path in paths:
        if is_sealed(path):
            continue
        kind, packing = kind_of(path)
        if kind != "sql":
            names |= {one.entry.path for one in members(path, kind, packing, watch, password)}
    fitting = (one for one in shipped().values() if one.markers and roots_in(names, one.markers))
    return next(fitting, None)
