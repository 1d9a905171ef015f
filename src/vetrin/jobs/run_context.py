"""What a transfer works with, beside its plan."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from ..site import ReadableSite, Site
from ..store import Builds, Store
from .events import Listener, silent
from .journal import Journals
from .snapshot import Keeping


class RunContext(Struct, frozen=True):
    """The two sides, the record of runs, and what else a run needs.

    With ``builds``, what a push to production replaces is kept there. ``command`` is put on record as the way
    to go on. With ``keeping``, a snapshot of what will be replaced is taken first, and proved. With ``baselines``,
    what is taken of the source is kept there.
    """

    source: ReadableSite
    target: Site
    journals: Journals
    listener: Listener = silent
    builds: Builds | None = None
    command: Sequence[str] = ()
    keeping: Keeping | None = None
    baselines: Store | None = None
