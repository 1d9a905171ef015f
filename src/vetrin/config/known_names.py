"""Names that vetrin.toml and the command line know, and what is said of one that they do not."""

from __future__ import annotations

import difflib
from collections.abc import Mapping, Sequence
from typing import Any

from ..errors import ProjectError


def similar(name: str, known: Sequence[str]) -> str:
    """The end of a remark about a name: the nearest known one, where there is one."""
    near = difflib.get_close_matches(name, known, 1)
    return f"; did you mean {near[0]}?" if near else ""


def nearest(name: str, known: Sequence[str]) -> str:
    """The end of a message about an unknown name: the nearest known one, or all of them."""
    return similar(name, known) or (f"; known are {', '.join(known)}" if known else "")


def known_keys(data: Mapping[str, Any], allowed: Sequence[str], where: str) -> None:
    """Raises ProjectError for a key that is not allowed there."""
    for key in data:
        if key not in allowed:
            raise ProjectError(f"{where}: unknown key {key!r}{nearest(key, allowed)}")
