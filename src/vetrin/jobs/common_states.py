"""What merges left in common, as it is kept in their runs' folders (``common.jsonl``)."""

from __future__ import annotations

from ..append_log import AppendLog
from ..database.engines import engine_of
from ..errors import NewerLog, Refused
from ..merge import CommonState
from ..store import Manifest
from .journal import Journals, Run

FILE = "common.jsonl"
_VERSION = 1


def common_since(journals: Journals, run: Run, manifest: Manifest) -> CommonState:
    """What the two environments of a transfer have in common by now, as merges between them moved it on since.

    Raises:
        Refused: what a merge left is not on record any more.
    """
    pair = {run.source, run.target}
    merges = [
        merged
        for target in pair
        for merged in journals.standing(target, ("merge",))
        if merged.report.get("since") == run.number and {merged.source, merged.target} == pair
    ]
    if not merges:
        return CommonState(run.source)
    mixed = engine_of(manifest.data.engine).any_type if manifest.data is not None else False
    return _kept(max(merges, key=lambda one: one.number), run.source, mixed=mixed)


def _kept(merge: Run, first: str, *, mixed: bool) -> CommonState:
    log = AppendLog(merge.folder / FILE, "common state", _VERSION)
    try:
        events = log.read()
        if log.there and events.sound and events.version == _VERSION:
            return CommonState.of_lines(first, events.items, mixed=mixed)
    except (NewerLog, KeyError, TypeError, ValueError):
        pass
    raise Refused(
        f"what run {merge.number} merged is not on record any more, so that nothing tells what is new since",
        "a pull brings both to one state again",
    )


def keep_common(run: Run, common: CommonState, *, mixed: bool) -> None:
    """Put on record, in a run's folder, what both have in common after it. Raises OSError."""
    log = AppendLog(run.folder / FILE, "common state", _VERSION)
    log.remove()
    log.begin()
    for line in common.lines(mixed=mixed):
        log.append(line, durable="away" in line)  # the last one
