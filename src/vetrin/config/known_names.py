"""Names that vetrin.toml and the command line know, and what is said of one that they do not."""

from __future__ import annotations

import difflib
from collections.abc import Mapping, Sequence
from typing import Any

from ..errors import ProjectError

_LISTED = 20  # names that are listed where none is near


def similar(name: str, known: Sequence[str]) -> str:
    """The end of a remark about a name: the nearest known one, where there is one."""
    near = difflib.get_close_matches(name, known, 1)
    return f"; did you mean {near[0]}?" if near else ""


def nearest(name: str, known: Sequence[str]) -> str:
    """The end of a message about an unknown name: the nearest known one, or those that are known."""
    near = similar(name, known)
    if near or not known:
        return near
    names = list(dict.fromkeys(known))
    more = f" and {len(names) - _LISTED} more" if len(names) > _LISTED else ""
    return f"; known are {', '.join(names[:_LISTED])}{more}"


def known_keys(data: Mapping[str, Any], allowed: Sequence[str], where: str) -> None:
    """Raises ProjectError for a key that is not allowed there."""
    for key in data:
        if key not in allowed:
            raise ProjectError(f"{where}: unknown key {key!r}{nearest(key, allowed)}")
