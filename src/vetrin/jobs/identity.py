"""Which folder and which database a run replaced, whatever the project calls them later."""

from __future__ import annotations

import re
import secrets
from typing import Any

from ..cms import SiteConfiguration
from ..files import OWN_FOLDER, if_readable
from ..site import Site
from .journal import Run

_PATH = f"{OWN_FOLDER}/id"
_ID = re.compile(rb"[0-9a-f]{16}")


def root_id(target: Site) -> str:
    """The ID of the root of an environment, given to it where it has none; 16 hexadecimal digits.

    It lies in the root itself, so it goes along when the folder above is renamed or mounted elsewhere.
    """
    found = _read(target)
    if not found:
        found = secrets.token_hex(8)
        target.files.put(_PATH, found.encode())
    return found


def where(target: Site) -> dict[str, Any]:
    """What a run puts on record of where it writes, to be told again by ``is_where`` and ``as_it_was``."""
    found, database = target.configuration, target.database
    return {
        "root": root_id(target),
        "path": str(target.root),
        "address": str(target.environment.address),
        "database": "" if database.missing else database.facts().identity,
        "site": {"engine": found.engine, "database": found.database, "prefix": found.prefix},
    }


def as_it_was(run: Run) -> SiteConfiguration | None:
    """How the site was configured that a run wrote to; None where that is not on record."""
    try:
        return SiteConfiguration(
            run.site["engine"], run.site["database"], run.site.get("prefix", "")
        )
    except KeyError:
        return None


def is_where(target: Site, root: str) -> bool:
    """True if the root of an environment is the one with this ID."""
    return _read(target) == root


def _read(target: Site) -> str:
    text = b""
    with if_readable():
        if target.files.exists(_PATH):
            text = b"".join(target.files.read(_PATH, 0, 16))
    return text.decode() if _ID.fullmatch(text) else ""
