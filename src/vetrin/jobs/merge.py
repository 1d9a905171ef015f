"""Merging: bringing what one environment changed into another one that changed as well.

Built to survive what a transfer survives: until its one transaction only hidden tables are written, which hold the
rows as they are and as they will be; a row that is no longer as it was seen stops it, and then it looks again.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from msgspec import Struct

from ..database import Patch, hidden_name, schemas_of
from ..database.engines import engine_of
from ..errors import RowsMoved
from ..merge import RowStep, TableSides
from ..site import ReadableSite, Site
from . import switching
from .common_states import keep_common
from .events import Listener, Phase, silent
from .identity import where
from .journal import DONE, Journals, Run
from .lock import only_run
from .merge_files import stage_files
from .merge_new_tables import lay_out_tables
from .merge_plan import MergePlan
from .merge_sides import merge_pipeline, merge_rewriting
from .reconnect import was_cut_off
from .recovery import close, recover, taken_back_on_failure
from .rows_by_key import batch_of
from .snapshot import Keeping
from .staged_rows import stage_rows
from .switch import Switch


class MergeReport(Struct, frozen=True):
    """What a merge did: its run, and the rows by table."""

    run: Run
    rows: Mapping[str, int]

    def as_json(self) -> dict[str, Any]:
        return {"run": self.run.number, "written_rows": dict(self.rows)}


@dataclass
class KeepOnce:
    """Keeps what a target holds before the first of several tries of a merge; the next ones have that one, too."""

    keeping: Keeping
    saved: str = ""

    def keep(self, target: Site, run: int, listener: Listener) -> str:
        """The ID of the snapshot. Raises JobError as ``Keeping.keep``."""
        if not self.saved:
            self.saved = self.keeping.keep_parts(target, ("data",), run, listener)
        return self.saved


def merge(
    plan: MergePlan,
    incoming: ReadableSite,
    target: Site,
    journals: Journals,
    *,
    keeping: KeepOnce | None = None,
    command: Sequence[str] = (),
    listener: Listener = silent,
) -> MergeReport:
    """Carry a plan out.

    Raises:
        RowsMoved: somebody changed rows of it meanwhile; nothing was changed, and it has to be planned anew.
        Refused: another run writes to the target.
        JobError: something failed; the target is as it was before.
    """
    with only_run(target):
        half = switching.underway(target.files) is not None
        recover(target, journals)
        if half:
            raise RowsMoved(0)  # what was looked at is not what there is now
        run = journals.begin(
            "merge",
            plan.incoming.name,
            plan.target.name,
            parts=["data", "media"] if plan.files.entries else ["data"],
            command=list(command),
            **where(target),
        )
        with taken_back_on_failure(target, run, journals):
            if keeping is not None and not plan.nothing:
                listener(Phase("keep"))
                saved = keeping.keep(target, run.number, listener)
                run.write("saved", snapshot=saved)
            rows = _carry_out(plan, incoming, target, run, listener)
        close(target, run, listener, journals=journals)
        return MergeReport(run, rows)


def _carry_out(
    plan: MergePlan, incoming: ReadableSite, target: Site, run: Run, listener: Listener
) -> dict[str, int]:
    mixed = engine_of(target.database.engine).any_type
    plan.common.add(plan.incoming.name, plan.target.name, plan.merged.agreed, plan.merged.maps)
    keep_common(run, plan.common, mixed=mixed)
    by_table: dict[str, list[RowStep]] = defaultdict(list)
    for step in plan.steps:
        by_table[step.table].append(step)
    rewriting = merge_rewriting(incoming, target)
    moves = stage_files(plan.files, incoming, target, rewriting.mapping, run.token, listener)
    listener(Phase("tables"))
    pipeline = merge_pipeline(incoming, target, rewriting)
    exchanges = lay_out_tables(
        plan.new, incoming, target, pipeline, plan.merged.maps, run.token, listener
    )
    schemas = schemas_of(target.database, [plan.sides[name].table.name for name in by_table])
    patches = [
        _staged(target, plan.sides[name], steps, run.token, 2 * number, schemas, mixed=mixed)
        for number, (name, steps) in enumerate(by_table.items())
    ]
    report = {name: len(steps) for name, steps in by_table.items()}
    switch = Switch(
        tuple(exchanges), moves=tuple(moves), patches=tuple(patches), recounts=plan.recounts
    )
    listener(Phase("swap"))
    switching.perform(target, run, switch, expected=len(plan.steps))
    target.forget()
    run.write(
        DONE,
        report={
            "since": plan.since.number,
            "rows": len(plan.steps),
            "tables": report,
            "files": len(plan.files.entries),
            "file_bytes": plan.files.size,
            "conflicts": len(plan.decisions.open) + len(plan.decisions.decided),
        },
    )
    return report


def _staged(
    target: Site,
    sides: TableSides,
    steps: Sequence[RowStep],
    token: str,
    number: int,
    schemas: Mapping[str, str],
    *,
    mixed: bool,
) -> Patch:
    """Lay the rows of a table ready, as they are and as they will be."""
    table = sides.table
    names = hidden_name("parked", token, number), hidden_name("parked", token, number + 1)
    found = ([one.before for one in steps], [one.after for one in steps])
    for hidden, rows in zip(names, found, strict=True):
        there = [row for row in rows if row is not None]
        batches = [batch_of(there, mixed=mixed)] if there else []
        stage_rows(target.database, hidden, table, schemas[table.name], batches)
    counted = target.definition.counted(sides.name)
    rest = [
        column.name
        for column in table.columns
        if column.name not in table.key and column.name not in counted
    ]
    return Patch(
        table.name,
        *names,
        list(table.key),
        rest,
        rest,
        whole=True,
        born=[column.name for column in table.columns if column.name in counted],
    )


Ask = Callable[[MergePlan, bool], None]
# Numbers that are left free below those of new rows, try by try: where visitors add rows all the time, they would
# have taken the next ones by then.
ROOM = (0, 64, 512, 4096, 4096, 4096)


def agreed_merge(
    plan: MergePlan,
    make: Callable[[int], MergePlan],
    ask: Ask,
    carry_out: Callable[[MergePlan], MergeReport],
    *,
    waits: bool,
    room: Sequence[int] = ROOM,
    connect: Callable[[Exception], None] | None = None,
) -> tuple[MergePlan, MergeReport]:
    """Ask about a plan and carry it out; what somebody changes in the meantime is looked at again, and asked about
    where that makes another plan of it.

    ``make`` plans with so much ``room`` for rows that others add. ``ask`` comes back if a plan is agreed to, told
    whether it takes the place of one that no longer held; where it ``waits`` for somebody, time passes in it.
    ``connect`` makes connections anew; then it is planned anew, too, as nobody knows what has come of it.
    """
    ask(plan, False)
    tries = iter(room)
    left = next(tries)
    found = make(left) if waits else plan
    while True:
        if found.signature() != plan.signature():
            plan = found
            ask(plan, True)
            found = make(left) if waits else plan
            continue
        try:
            return found, carry_out(found)
        except RowsMoved:
            more = next(tries, None)
            if more is None:
                raise
            left = more
            found = make(left)
        except Exception as error:
            if connect is None or not was_cut_off(error):
                raise
            connect(error)
            found = make(left)
