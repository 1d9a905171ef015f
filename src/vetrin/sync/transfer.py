"""Carrying out a plan, and taking it back.

Built to survive an error, Ctrl-C and being killed at any point: until the swap only hidden tables
and Vetrin's own folder are written; the journal says before the swap what will be exchanged; and
``recover`` takes back from there whatever a dead run left, before anything new begins.
"""

from __future__ import annotations

import contextlib
import hashlib
import re
import time
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

from ..check import counts_of
from ..database import (
    Attachment,
    Database,
    DatabaseError,
    DatabaseUnreachable,
    Exchange,
    hidden_name,
)
from ..database.contract import pending
from ..files import FilesError
from ..reach import Keyed, Site
from ..store import Build, Builds, Store
from . import connection
from .baselines import Baseline
from .connection import connect_anew, was_cut_off
from .courtesy import Courtesy
from .errors import JobError, Refused, Stopped
from .events import (
    Event,
    FileMoved,
    Listener,
    Moved,
    Phase,
    Started,
    TableDone,
    TableStarted,
    silent,
)
from .journal import DONE, FAILED, RESUMED, STOPPED, SWAPPING, TAKEN_BACK, Journals, Run, flat
from .keeping import Keeping
from .leaving import can_hang
from .lock import only_run
from .moving import Mover
from .pipeline import ahead
from .plan import Plan, may_write
from .rewriting import Rewriting
from .settling import Step, Tables
from .taking import Record, Taker, rows_of

_GRACE = 0.3  # seconds
_TRIES = 100  # breakdowns in one run
wait = time.sleep
_TOKEN = re.compile(r"_vetrin_(new|old)_([0-9a-f]+)_\d+$")


@dataclass(frozen=True)
class Report:
    """What a run did, beside its plan.

    ``file_bytes`` were sent; ``files_moved`` had their content there already, under another name;
    ``file_places`` were rewritten in files. ``kept`` is what the target held, as a build; ``baseline`` the snapshot
    of what came.
    """

    run: Run
    rows: dict[str, int]
    rewriting: Rewriting
    files: int
    file_bytes: int
    files_gone: int
    files_moved: int
    file_places: int
    counts: dict[str, int]
    keyed: Keyed
    settled: tuple[Step, ...]
    remarks: tuple[str, ...]
    recovered: tuple[int, ...]
    kept: Build | None = None
    baseline: str = ""

    def as_json(self) -> dict[str, Any]:
        return {
            "run": self.run.number,
            "tables": self.rows,
            "rows": sum(self.rows.values()),
            "rewriting": self.rewriting.as_json(),
            "prefixed": {
                "changed": dict(self.keyed.changed),
                "left": {f"{table}: {name}": n for (table, name), n in self.keyed.left.items()},
            },
            "settled": [step.says() for step in self.settled],
            "remarks": list(self.remarks),
            "files": self.files,
            "file_bytes": self.file_bytes,
            "files_gone": self.files_gone,
            "files_moved": self.files_moved,
            "file_places": self.file_places,
            "baseline": self.baseline or None,
            "kept_build": self.kept.fingerprint if self.kept else None,
            "counts": self.counts,
        }


def rewriting_of(plan: Plan) -> Rewriting:
    """The rewriting of a plan, which also counts references to third environments."""
    return Rewriting(plan.mapping, plan.target, plan.others, plan.encoded)


def keyed_of(plan: Plan) -> Keyed:
    """The renaming of values that hold the table prefix, with counts of its own."""
    return Keyed("", "", {}) if plan.keyed is None else replace(
        plan.keyed, changed=Counter(), left=Counter()
    )  # fmt: skip


def preview(plan: Plan, source: Site, listener: Listener = silent) -> Rewriting:
    """Count exactly what the run would rewrite, by reading the source and writing nothing."""
    rewriting, keyed = rewriting_of(plan), keyed_of(plan)
    listener(Phase("look"))
    listener(Started(plan.rows, plan.table_bytes, 0, 0))
    with source.database.reading() as reader:
        for item in plan.tables:
            listener(TableStarted(item.table.name, item.rows))
            with ahead(rows_of(reader, item)) as batches:
                changed = keyed.through(item.table, batches)
                for batch in rewriting.through(item.table, item.rewritten, changed):
                    listener(Moved(item.table.name, batch.rows, batch.size))
            listener(TableDone(item.table.name, item.rows))
    return rewriting


def run_plan(
    plan: Plan,
    source: Site,
    target: Site,
    journals: Journals,
    listener: Listener = silent,
    builds: Builds | None = None,
    command: Sequence[str] = (),
    keeping: Keeping | None = None,
    baselines: Store | None = None,
) -> Report:
    """Do what the plan says, or go on with a run that was stopped while it did the same.

    With ``builds``, what a push to production replaces is kept there too. ``command`` is what is put on
    record as the way to go on. With ``keeping``, a snapshot of what will be replaced is taken first, and
    proved. With ``baselines``, what is taken of the source is kept there.

    Raises:
        Refused: another run writes to the target.
        Stopped: it was interrupted, or a connection was lost for good; the target is as it was before,
            and what has arrived waits beside it.
        JobError: something failed; the target is as it was before.
    """
    key = signature(plan)
    with only_run(target):
        run = resumable(journals, target.environment.name, key)
        recovered = recover(target, journals, but=run)
        if run is None:
            run = journals.begin(
                plan.kind,
                plan.source.name,
                plan.target.name,
                parts=list(plan.parts),
                build=plan.build.as_json() if plan.build else None,
                signature=key,
                command=list(command),
            )
        else:
            run.resumed = True
            run.write(RESUMED)
        with Baseline(baselines, plan, source, run) as baseline:
            with taken_back_on_failure(target, run, journals):
                if keeping is not None and not run.saved:
                    listener(Phase("keep"))
                    run.write("saved", snapshot=keeping.keep(target, plan, run.number, listener))
                kept = None
                if builds is not None and plan.target.role == "production":
                    listener(Phase("keep"))
                    kept = keep_what_goes(plan, target, builds)
                report = _persistently(
                    plan, source, target, run, baseline, listener, recovered, kept
                )
            # From here nothing can be taken back any more because of a failure.
            report = replace(report, baseline=baseline.finish(journals))
            if baseline.lost:
                remark = f"no baseline for a later merge was kept: {baseline.lost}"
                report = replace(report, remarks=(*report.remarks, remark))
        if run.changed:  # otherwise the way back is still the one before
            drop_parked(target, journals, keep=run)
        return report


def signature(plan: Plan) -> str:
    """The same for two plans of the same transfer, whatever has changed at the source meanwhile."""
    parts: list[object] = [
        plan.kind, plan.source.name, plan.target.name, plan.parts,
        plan.build.fingerprint if plan.build else "",
        [(pair.old_text, pair.new_text) for pair in plan.mapping.pairs],
        sorted((t.table.name, t.target, repr(t.leave), repr(sorted(t.instead.items()))) for t in plan.tables),
        sorted((k, repr(v)) for k, v in plan.encoded.items()),
    ]  # fmt: skip
    return hashlib.sha256(repr(parts).encode()).hexdigest()[:16]


def resumable(journals: Journals, environment: str, key: str = "") -> Run | None:
    """The run on an environment that was stopped in between and can be gone on with (as this plan)."""
    for run in journals.of(environment):
        if run.can_go_on and key in ("", run.signature):
            return run
    return None


def _persistently(
    plan: Plan,
    source: Site,
    target: Site,
    run: Run,
    baseline: Baseline,
    listener: Listener,
    recovered: tuple[int, ...],
    kept: Build | None,
) -> Report:
    """Carry out; a connection that breaks is made anew, after pauses that grow, and the run goes on."""
    moved = 0

    def heard(event: Event) -> None:
        nonlocal moved
        if isinstance(event, (Moved, FileMoved)) and event.size:
            moved += 1
        listener(event)

    pauses, tries = iter(connection.PAUSES), 0
    work = _Transfer(plan, source, target, run, baseline, heard)
    while True:
        try:
            return work.carry_out(recovered, kept)
        except Exception as error:
            if not was_cut_off(error):
                raise
            broken = error
        if moved and tries < _TRIES:  # it went on for a while: that is another breakdown
            pauses, moved, tries = iter(connection.PAUSES), 0, tries + 1
        connect_anew((source, target), broken, pauses, listener)
        run.resumed = True
        if run.stage != SWAPPING:
            work = _Transfer(plan, source, target, run, baseline, heard)


def keep_what_goes(plan: Plan, target: Site, builds: Builds) -> Build | None:
    """Keep, as a build, what the target holds in place of the one that comes."""
    files, build = plan.files, plan.build
    if files is None or build is None or files.nothing:
        return None
    coming = {entry.path for entry in files.coming}
    entries = [entry for entry in build.entries if entry.path not in coming]
    entries += [*files.replaced.values(), *files.gone]
    mine = {entry.path for entry in (*files.replaced.values(), *files.gone)}
    if not mine:
        return None
    return builds.keep(
        target.files,
        [e if e.path not in mine else e._replace(digest="") for e in entries],
        target.environment.name,
        plan.parts,
        found=True,
        remembered=target.seen,
    )


@contextlib.contextmanager
def taken_back_on_failure(target: Site, run: Run, journals: Journals) -> Iterator[None]:
    """Whatever ends the context early, an error or Ctrl-C, is taken back and put on record.

    Raises:
        JobError: in place of an error of the database or the files.
    """
    try:
        yield
    except BaseException as error:
        cut_off = isinstance(error, Exception) and was_cut_off(error)
        interrupted = isinstance(error, KeyboardInterrupt)
        if (interrupted or cut_off) and run.can_go_on:
            reason = "interrupted" if interrupted else str(error)
            with contextlib.suppress(OSError):
                run.write(STOPPED, error=reason)
            raise Stopped(reason, run.target) from error
        if cut_off:
            # What it began is taken back by the next command; from here it can not be reached.
            raise JobError(
                f"{error}; it was in the middle of the swap",
                f"run `vetrin undo {run.target}` as soon as it can be reached: it takes the run back",
            ) from error
        take_back(target, run, journals)
        run.write(FAILED, error="interrupted" if interrupted else str(error))
        if isinstance(error, (DatabaseError, FilesError)):
            remedy = f"{target.environment.name} is as it was before"
            if isinstance(error, DatabaseUnreachable) and error.remedy:
                remedy = f"{error.remedy}\n{remedy}"
            raise JobError(str(error), remedy) from error
        raise


class _Transfer:
    def __init__(
        self,
        plan: Plan,
        source: Site,
        target: Site,
        run: Run,
        baseline: Baseline,
        listener: Listener,
    ) -> None:
        for site in (source, target):
            if site.far is not None and site.environment.role == "production":
                listener = Courtesy(listener, site.far)
        self._plan = plan
        self._source = source
        self._target = target
        self._run = run
        self._baseline = baseline
        self._tell = listener
        self._rewriting = rewriting_of(plan)
        self._keyed = keyed_of(plan)
        self._mover = Mover(plan, source, target, run.token, listener, going_on=run.resumed)
        self._taker = Taker(
            plan,
            source,
            target,
            run.token,
            Record(run.folder),
            self._rewriting,
            self._keyed,
            baseline,
            listener,
        )
        self._remarks: tuple[str, ...] = ()

    def carry_out(self, recovered: tuple[int, ...], kept: Build | None) -> Report:
        plan, files, run = self._plan, self._plan.files, self._run
        if run.stage != SWAPPING:  # otherwise the connection was lost after that was written
            self._prepare()
        self._tell(Phase("swap"))
        with held_off(self._target, plan.holds):
            if run.exchanges:
                lost = self._target.database.swap(run.exchanges, run.detach, run.attach)
                self._remarks += tuple(lost)
            self._target.files.exchange(run.token, run.moves)
        if run.moves:
            self._target.files.flush(run.token)
        report = Report(
            run,
            self._taker.rows,
            self._rewriting,
            files.files - len(self._mover.vanished) if files else 0,
            self._mover.sent,
            sum(entry.kind != "folder" for entry in files.gone) if files else 0,
            len(files.reused) if files else 0,
            self._mover.rewritten.total,
            # A copy of the site without what it remembers of its old tables.
            counts_of(replace(self._target)) if plan.tables else plan.arriving.counts,
            self._keyed,
            tuple(plan.settling.steps),
            (*self._remarks, *self._mover.remarks(), *_moment(self._taker)),
            recovered,
            kept,
        )
        run.write(DONE, report=report.as_json())
        self._mover.remember()
        return report

    def _prepare(self) -> None:
        """Lay everything ready, and put on record what the swap will do."""
        plan, files = self._plan, self._plan.files
        self._tell(
            Started(
                plan.rows, plan.table_bytes, files.files if files else 0, files.size if files else 0
            )
        )
        self._tell(Phase("tables"))
        if self._target.database.missing:
            self._target.database.create()
        exchanges = self._taker.take()
        self._settle()
        self._tell(Phase("files"))
        moves = self._mover.stage()
        detach, attach = self._attachments(exchanges)
        if moves:  # otherwise it would wait for what others write to the same disk
            self._target.files.flush(self._run.token)
        self._run.write(
            SWAPPING,
            held=plan.holds[0] if plan.holds else "",
            exchanges=[flat(item) for item in exchanges],
            detach=[flat(item) for item in detach],
            attach=[flat(item) for item in attach],
            moves=[flat(item) for item in moves],
        )

    def _settle(self) -> None:
        """Set in the new tables, still hidden, what the target keeps and what arrival asks for."""
        plan, prefix = self._plan, len(self._source.prefix)
        columns = {item.table.name[prefix:]: item.table for item in plan.tables}
        tables = Tables(
            self._target, lambda name: self._taker.to_settle(self._source.prefix + name), columns
        )
        said = [step.do(tables) for step in plan.settling.steps]
        self._remarks = tuple(remark for remark in said if remark)

    def _attachments(
        self, exchanges: Sequence[Exchange]
    ) -> tuple[list[Attachment], list[Attachment]]:
        if not exchanges:
            return [], []
        names = [exchange.live for exchange in exchanges]
        source, target = self._source.database, self._target.database
        detach = target.attachments(names, self._target.views)
        facts, renamed = source.facts(), self._plan.names
        assert renamed is not None
        hanging = [
            *source.attachments([item.table.name for item in self._plan.tables], self._plan.views),
            *self._plan.routines,
        ]
        self._baseline.hang(hanging)
        called = renamed.routines(self._plan.routines)
        attach = [
            target.adapt_attachment(renamed.attachment(item, called), facts) for item in hanging
        ]
        detach += replaced_routines(target, attach)
        views = {renamed.table(view) for view in self._plan.views}
        there = {*names, *(table.name for table in self._target.tables)}
        # What hangs on tables that only the target has goes off and on again, with the tables
        # that it points at.
        coming = {(item.kind, item.name, item.table) for item in attach}
        attach = [
            item
            for item in attach
            if item.kind == "routine" or (item.table in {*names, *views} and can_hang(item, there))
        ]
        attach += [
            item
            for item in detach
            if item.kind in ("constraint", "view")
            and item.table not in names
            and (item.kind, item.name, item.table) not in coming
        ]
        return detach, attach


def _moment(taker: Taker) -> Iterator[str]:
    """To which moment the copy belongs, where it was taken with interruptions."""
    if taker.again:
        changed = len(taker.renewed)
        count = len(taker.again)
        tables = "1 table" if count == 1 else f"{count} tables"
        what = (
            "nothing in them had changed"
            if not changed
            else f"{', '.join(sorted(taker.renewed))} had changed and {'was' if changed == 1 else 'were'} brought "
            "up to date"
        )
        yield (
            f"the data is that of {taker.since.replace('T', ' ')[:19]}: {tables} had been taken before, {what}"
        )


@contextlib.contextmanager
def held_off(target: Site, holds: tuple[str, str] | None) -> Iterator[None]:
    """Put the site into its CMS's maintenance state while the context lasts.

    Where it fails, or the process is killed, the state lasts until the run is taken back: what a
    visitor gets is old or new, never a mixture.
    """
    if holds is None:
        yield
        return
    target.files.put(holds[0], holds[1].encode())
    wait(_GRACE)  # pages that are being made are let finish
    yield
    _let_settle(target)
    target.files.remove(holds[0])


def _let_settle(target: Site) -> None:
    """Wait until the runtime can no longer run single files as they were."""
    runtime = target.definition.runtime
    wait(runtime.settles if runtime is not None else 0)


def drop_parked(target: Site, journals: Journals, keep: Run) -> None:
    """Let go of what earlier runs parked: one way back is kept for each environment."""
    for run in journals.of(target.environment.name):
        if run.number != keep.number and run.stage == DONE and not run.dropped:
            parked = _hidden_of(target, run)
            if parked and target.database.unwritable:
                continue  # let go of by the next run that can
            target.database.drop(parked)
            target.files.discard(run.token)
            run.write("dropped")


def _hidden_of(target: Site, run: Run) -> list[str]:
    found = ((name, _TOKEN.match(name)) for name in target.database.hidden_tables())
    return [name for name, match in found if match and match[2] == run.token]


def recover(target: Site, journals: Journals, but: Run | None = None) -> tuple[int, ...]:
    """Take back what dead runs left, ``but`` one; the numbers of those runs. Needs the lock."""
    recovered = []
    known = set()
    for run in journals.of(target.environment.name):
        known.add(run.token)
        if run.unfinished and (but is None or run.number != but.number):
            take_back(target, run, journals)
            run.write(TAKEN_BACK, error="it was stopped in between")
            recovered.append(run.number)
    # Half-filled tables of runs that this project knows nothing of: nobody is filling them, for
    # their run would hold the lock.
    for name in target.database.hidden_tables():
        match = _TOKEN.match(name)
        if match and match[1] == "new" and match[2] not in known:
            target.database.drop([name])
    return tuple(recovered)


def take_back(target: Site, run: Run, journals: Journals) -> None:
    if run.stage == SWAPPING:
        database = target.database
        there = {*database.hidden_tables(), *(table.name for table in database.tables())}
        if run.exchanges and not pending(run.exchanges, there):
            back = [Exchange(e.live, e.outgoing, e.incoming) for e in run.exchanges]
            database.swap(back, run.attach, run.detach)
        if run.patches and all(patch.after in there for patch in run.patches):
            database.patch([patch.reversed() for patch in run.patches])
        target.files.put_back(run.token, run.moves)
    if run.held and target.files.exists(run.held):
        _let_settle(target)
        target.files.remove(run.held)
    undone = next((one for one in journals.runs() if one.number == run.undoes), None)
    if undone is not None:
        target.files.hand_over(run.token, "new", undone.token, "old")
    target.database.drop(_hidden_of(target, run))
    target.files.discard(run.token)
    for name in ("taken.jsonl", "baseline.jsonl"):
        (run.folder / name).unlink(missing_ok=True)
    for spool in run.folder.glob("rows-*"):
        spool.unlink()


def undoable(target: Site, journals: Journals) -> Run:
    """The run on this environment that can be taken back.

    Raises:
        Refused: there is none.
    """
    may_write(target.environment)
    for run in journals.of(target.environment.name):
        if run.can_be_undone:
            return run
        if run.unfinished:
            return run
    raise Refused(
        f"nothing to undo: no run has replaced anything in {target.environment.name} "
        "that is still kept",
        "`vetrin history` lists the runs",
    )


def undo(target: Site, journals: Journals, listener: Listener = silent) -> Run:
    """Put back what the last run on an environment replaced.

    The state that is undone is parked in its turn, so that undoing once more brings it back.

    Raises:
        Refused: there is nothing to undo, or another run writes to the environment.
        JobError: something failed; the environment is as it was before.
    """
    with only_run(target):
        last = undoable(target, journals)
        recovered = recover(target, journals)
        if last.number in recovered:
            return last
        last = undoable(target, journals)
        run = journals.begin("undo", last.source, last.target, undoes=last.number)
        with taken_back_on_failure(target, run, journals):
            _undo(target, last, run, listener)
        last.write("undone", by=run.number)
        return run


def replaced_routines(database: Database, coming: Sequence[Attachment]) -> list[Attachment]:
    """The stored routines that are there under the names of those that come, and that can be brought back."""
    names = {item.name for item in coming if item.kind == "routine"}
    there = database.routines() if names else []
    return [item for item in there if item.name in names and item.sql]


def _undo(target: Site, last: Run, run: Run, listener: Listener) -> None:
    listener(Phase("swap"))
    exchanges = [
        Exchange(
            e.live,
            e.outgoing,
            hidden_name("old", run.token, index) if e.incoming is not None else None,
        )
        for index, e in enumerate(last.exchanges)
    ]
    detach: list[Attachment] = []
    if exchanges:
        # Views that the last run did not deal with stay.
        dealt = {a.name for a in (*last.attach, *last.detach) if a.kind == "view"}
        views = [view for view in target.views if view in dealt]
        detach = target.database.attachments([e.live for e in exchanges], views)
        detach += replaced_routines(target.database, [*last.attach, *last.detach])
    moves = [move.reversed() for move in reversed(last.moves)]
    patches = [patch.reversed() for patch in last.patches]
    rule = target.definition.maintenance
    holds = (rule.file, rule.text) if rule is not None and last.held else None
    if holds is not None and target.files.exists(holds[0]):
        holds = None
    run.write(
        SWAPPING,
        held=holds[0] if holds else "",
        exchanges=[flat(item) for item in exchanges],
        detach=[flat(item) for item in detach],
        attach=[flat(item) for item in last.detach],
        moves=[flat(item) for item in moves],
        patches=[flat(item) for item in patches],
    )
    target.files.hand_over(last.token, "old", run.token, "new")
    with held_off(target, holds):
        if exchanges:
            target.database.swap(exchanges, detach, last.detach)
        changed = target.database.patch(patches) if patches else 0
        target.files.exchange(run.token, moves)
    if moves:
        target.files.flush(run.token)
    run.write(DONE, report={"undid": last.number, "patched_rows": changed})
