"""Putting back what a run replaced; what is undone is parked in its turn."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct
from msgspec.structs import replace

from ..database import Attachment, Database, Exchange, Patch, hidden_name
from ..errors import NothingToDo, Refused
from ..inspect.web_check import Home, look_at_home
from ..merge.conditions import text_of
from ..site import Site
from . import switching
from .events import Listener, Phase, silent
from .identity import is_where
from .journal import DONE, Journals, Run
from .lock import only_run
from .plan import may_write
from .reconnect import persistently
from .recovery import close, let_go, recover, taken_back_on_failure
from .rows_by_key import RowsByKey
from .switch import Switch, own_again


def undoable(target: Site, journals: Journals) -> Run:
    """The run on this environment that can be taken back.

    Raises:
        NothingToDo: there is none.
        Refused: it replaced something else than what the environment is now.
    """
    may_write(target.environment)
    for run in journals.of(target.environment.name):
        if run.can_be_undone:
            _must_be_there(target, run)
            return run
        if run.unfinished:
            return run
    raise NothingToDo(
        f"nothing to undo: no run has replaced anything in {target.environment.name} "
        "that is still kept",
        "`vetrin history` lists the runs",
    )


def _must_be_there(target: Site, run: Run) -> None:
    """Raises Refused where what a run parked is not where the environment is now."""
    name, database = target.environment.name, target.database
    parked = {e.outgoing for e in run.switch.exchanges if e.outgoing is not None}
    parked |= {patch.before for patch in run.switch.patches}
    missing = parked - set(database.hidden_tables()) if parked else set()
    facts = database.facts()
    other = bool(run.switch.exchanges) and not parked and run.database not in ("", facts.identity)
    if missing or other:
        what = (
            f"{len(missing)} of the {len(parked)} tables that it replaced are not kept there"
            if missing
            else "it filled another one"
        )
        raise Refused(
            f"run {run.number} cannot be undone in the database {facts.where}: {what}",
            f"see whether [environment.{name}] still means the same database as when that run was made",
        )
    if run.switch.moves and run.root and not is_where(target, run.root):
        raise Refused(
            f"run {run.number} cannot be undone in {target.root}: it replaced files in another folder, or "
            "what it kept there was removed",
            f"see whether root in [environment.{name}] is still what it was when that run was made",
        )


def undo(
    target: Site, journals: Journals, listener: Listener = silent, *, for_good: bool = False
) -> Run:
    """Put back what the last run on an environment replaced.

    The state that is undone is parked in its turn, so that undoing once more brings it back; ``for_good``,
    it is removed, and the way back that there was before that run stays.

    Raises:
        NothingToDo: there is nothing to undo.
        Refused: another run writes to the environment.
        HalfDone: it was stopped in the switch.
        JobError: something failed; the environment is as it was before.
    """
    with only_run(target):
        last = undoable(target, journals)
        recovered = recover(target, journals)
        if last.number in recovered:
            return last
        last = undoable(target, journals)
        run = journals.begin(
            "undo",
            last.source,
            last.target,
            undoes=last.number,
            root=last.root,
            database=last.database,
            site=last.site,
        )
        with taken_back_on_failure(target, run, journals):
            _undo(target, last, run, listener)
        last.write("undone", by=run.number)
        close(target, run, listener)
        if for_good:
            let_go(target, run)
        return run


class Undone(Struct, frozen=True):
    """What came of an undo: its run, and how the home page answered before and afterwards, where it was looked
    at."""

    run: Run
    before: Home | None = None
    after: Home | None = None

    @property
    def broke(self) -> bool:
        before, after = self.before, self.after
        return (
            before is not None
            and before.state == "fine"
            and after is not None
            and after.state == "broken"
        )


def undo_and_look(target: Site, journals: Journals, listener: Listener = silent) -> Undone:
    """Undo the last run; where that changes code, look at the site as a visitor, like a push. Where it does not,
    nobody visits it: a CMS may write into its data whenever somebody does.

    Raises:
        as ``undo``.
    """
    with only_run(target):
        last = undoable(target, journals)
        if last.number in recover(target, journals):
            return Undone(last)
        first = undoable(target, journals)
        while (before_it := journals.numbered(first.undoes)) is not None:
            first = before_it  # what was undone, and perhaps brought back, again and again
        if not {"code", "core"} & set(first.parts):
            return Undone(undo(target, journals, listener))
        listener(Phase("look"))
        before = look_at_home(target)
        run = undo(target, journals, listener)
        listener(Phase("check"))
        return Undone(run, before, look_at_home(target))


def replaced_routines(database: Database, coming: Sequence[Attachment]) -> list[Attachment]:
    """The stored routines and lone sequences that are there under the names of those that come, and that can be
    brought back."""
    names = {item.name for item in coming if item.kind in ("routine", "sequence")}
    there = database.routines() if names else []
    return own_again(item for item in there if item.name in names and item.sql)


def _undo(target: Site, last: Run, run: Run, listener: Listener) -> None:
    listener(Phase("swap"))
    switch = _back(target, last, run)
    rule = target.definition.maintenance
    text = rule.text if rule is not None else ""
    if rule is not None and last.switch.held and not target.files.exists(rule.file):
        switch = replace(switch, held=rule.file)

    def work() -> int:
        target.files.hand_over(last.token, "old", run.token, "new")
        return switching.perform(target, run, switch, text, last.token)[1]

    changed = persistently(target, work, listener)
    target.forget()
    written = last.report.get("rows", last.report.get("patched_rows"))
    stayed = _stayed(target, switch.patches) if written not in (None, changed) else []
    report = {"undid": last.number, "patched_rows": changed, "stayed": stayed}
    run.write(DONE, report=report)


def _stayed(target: Site, patches: Sequence[Patch]) -> list[str]:
    """The rows that could not be put back, as somebody changed them since: by table, with their keys."""
    found: list[str] = []
    there = {table.name: table for table in target.tables}
    with target.database.reading() as reader:
        for patch in patches:
            table = there.get(patch.table)
            if table is None or list(table.key) != patch.key:
                continue
            names = [column.name for column in table.columns]
            compared = [names.index(name) for name in patch.compared]
            rows = RowsByKey(reader, table)
            before, after = (
                rows.all_of(replace(table, name=name)) for name in (patch.before, patch.after)
            )
            now = rows.of({*before, *after})
            for key in sorted({*before, *after}, key=repr):
                wanted, row = after.get(key), now.get(key)
                if (wanted is None) != (row is None) or (
                    wanted is not None
                    and row is not None
                    and any(wanted[place] != row[place] for place in compared)
                ):
                    found.append(f"{table.name}: {', '.join(map(text_of, key))}")
    return found


def _back(target: Site, last: Run, run: Run) -> Switch:
    """The switch that takes back that of ``last``."""
    done = last.switch
    exchanges = tuple(
        Exchange(
            e.live,
            e.outgoing,
            hidden_name("parked", run.token, index) if e.incoming is not None else None,
        )
        for index, e in enumerate(done.exchanges)
    )
    detach: list[Attachment] = []
    if exchanges:
        # Views that the last run did not deal with stay.
        dealt = {a.name for a in (*done.attach, *done.detach) if a.kind == "view"}
        views = [view for view in target.views if view in dealt]
        detach = own_again(target.database.attachments([e.live for e in exchanges], views))
        detach += replaced_routines(target.database, [*done.attach, *done.detach])
    return Switch(
        exchanges=exchanges,
        detach=tuple(detach),
        attach=done.detach,
        moves=tuple(move.reversed() for move in reversed(done.moves)),
        patches=tuple(patch.reversed() for patch in done.patches),
        recounts=done.recounts,
    )
