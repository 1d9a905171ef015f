"""From a look to a run that does what was agreed to, although time passes in between.

Order: hold the lock, put right what a dead run left, look and plan; let go of the lock while a person thinks;
hold it again, look again, and carry out only what still is what was agreed to, else ask again.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

from ..database import Table
from ..site import ReadableSite, Site
from .journal import Journals
from .lock import only_run
from .plan import Plan, TablePlan
from .recovery import put_right
from .switching import must_be_whole

Result = TypeVar("Result")


def agreed(
    source: ReadableSite,
    target: Site,
    journals: Journals,
    make: Callable[[], Plan],
    ask: Callable[[Plan, bool], None],
    carry_out: Callable[[Plan], Result],
    *,
    beforehand: bool,
) -> Result:
    """Plan, ask and carry out.

    ``make`` looks at both sides and plans; ``ask`` shows a plan and comes back if it is agreed to, told whether
    it takes the place of one that no longer held; ``carry_out`` does it. With ``beforehand``, ``ask`` does not
    wait for anybody.

    Raises:
        Refused: another run writes to the target, the source is half old and half new, or ``ask`` says no.
    """
    plan: Plan | None = None
    while True:
        with only_run(target):
            put_right(target, journals)
            if source.database is not target.database:
                must_be_whole(source)
            source.forget()
            target.forget()
            found = make()
            if plan is not None and holds_still(plan, found):
                return carry_out(found)
            if beforehand:
                ask(found, False)
                return carry_out(found)
        ask(found, plan is not None)
        plan = found


def holds_still(agreed_to: Plan, found: Plan) -> bool:
    """True if a plan made anew overwrites, removes and risks nothing beyond what was agreed to."""
    before, now = agreed_to.files, found.files
    if (before is None) != (now is None):
        return False
    if before is not None and now is not None:
        known = {*before.gone, *before.replaced.values()}
        if not {*now.gone, *now.replaced.values()} <= known or before.units != now.units:
            return False
    if agreed_to.tables:
        ours, theirs = agreed_to.overwritten, found.overwritten
        if (ours.counts, ours.newest) != (theirs.counts, theirs.newest):
            return False
    return (
        list(map(_shape, agreed_to.tables)) == list(map(_shape, found.tables))
        and agreed_to.mapping.pairs == found.mapping.pairs
        and (agreed_to.staying, agreed_to.views, agreed_to.routines, agreed_to.creates)
        == (found.staying, found.views, found.routines, found.creates)
        and set(found.risks) <= set(agreed_to.risks)
    )


def _shape(item: TablePlan) -> tuple[object, ...]:
    table: Table = item.table
    return (
        table.name,
        table.columns,
        table.key,
        item.target,
        item.target_rows is None,
        repr(item.leave),
        repr(sorted(item.replacements.items())),
    )
