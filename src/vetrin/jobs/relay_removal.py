"""Taking off a host what Vetrin left there, before its relay goes."""

from __future__ import annotations

from ..files import OWN_FOLDER
from ..site import Site
from .lock import only_run


def clear_away(site: Site) -> list[str]:
    """Remove staged and parked files and tables, and all else of ours; what was removed. What a last run replaced
    cannot be put back thereafter.

    Raises:
        Refused: another run is at work there.
        FilesError, DatabaseError: something could not be removed.
    """
    removed: list[str] = []
    with only_run(site):
        hidden = site.database.hidden_tables()
        site.database.drop(hidden)
        removed += hidden
        own = site.root / OWN_FOLDER
        for place in list(own.iterdir()) if own.is_dir() else ():
            if place.name != "lock" and not place.name.startswith("alive-"):
                site.files.remove(f"{OWN_FOLDER}/{place.name}")
                removed.append(f"{OWN_FOLDER}/{place.name}")
    return removed
