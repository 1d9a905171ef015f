"""Where the roots of environments were when something was written for them.

Rows name the root as a transfer knew it. Where a project's folder is moved later, they still name the old one, and
what takes them to another environment has to know it.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from ..atomic import write_whole
from ..private import private_folder

_FILE = "roots.json"  # in the project's state, which moves along
_MOST = 8  # that are remembered of an environment


def former_roots(state: Path, name: str, root: str) -> tuple[str, ...]:
    """The paths at which an environment was, other than ``root``, where it is now; the latest first."""
    return tuple(one for one in _known(state).get(name, ()) if one != root)


def keep_root(state: Path, name: str, root: str) -> None:
    """Put on record where the root of an environment is.

    Raises:
        OSError: it cannot be written.
    """
    known = _known(state)
    before = known.get(name, [])
    if before[:1] == [root]:
        return
    known[name] = [root, *(one for one in before if one != root)][:_MOST]
    private_folder(state)
    write_whole(state / _FILE, json.dumps(known, indent=1).encode())


def _known(state: Path) -> dict[str, list[str]]:
    """A file that cannot be read counts as none."""
    try:
        said: Any = json.loads((state / _FILE).read_bytes())
        found = {str(name): [str(one) for one in roots] for name, roots in said.items()}
    except (OSError, ValueError, AttributeError, TypeError):
        return {}
    return {name: [one for one in roots if one.startswith("/")] for name, roots in found.items()}
