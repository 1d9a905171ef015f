"""Carrying out a plan.

Built to survive an error, Ctrl-C and being killed at any point: until the switch only hidden tables
and Vetrin's own folder are written; what will be exchanged is put on record before (``switching``); and
``recovery`` takes back from there whatever a dead run left, before anything new begins.
"""

from __future__ import annotations

import contextlib
import dataclasses
import hashlib
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import Any, NamedTuple

from msgspec import Struct
from msgspec.structs import replace

from ..database import Attachment, Exchange
from ..errors import DatabaseError, FilesError, JobError
from ..inspect import StrayScanner
from ..prefetch import ahead
from ..site import PrefixedValues, ReadableSite, Rewriting, RowPipeline, Site, counts_of
from ..store import Build, Builds
from . import reconnect, switching
from .arrival_steps import Step, Tables
from .baseline import Baseline
from .duration import Stopwatch
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
from .exclusions import can_hang
from .file_copy import FileCopier
from .identity import where
from .journal import DONE, RESUMED, SWAPPING, Journals, Run
from .kept_tables import KeptTable, KeptTables, form_of
from .last_copy import KnownTable, LastCopy, forget_older, hanging_signature, last_copy
from .lock import only_run
from .plan import Plan
from .reconnect import connect_anew, repeated, was_cut_off
from .recovery import drop_parked, recover, taken_back_on_failure
from .run_context import RunContext
from .switch import Switch, own_again
from .table_copy import TableCopier
from .throttle import Courtesy
from .undo import replaced_routines

_TRIES = 100  # breakdowns in one run


class Report(Struct, frozen=True):
    """What a run did, beside its plan.

    ``file_bytes`` were sent; ``files_moved`` had their content there already, under another name;
    ``file_places`` were rewritten in files. ``kept`` is what the target held, as a build; ``baseline`` the snapshot
    of what came; ``own`` the files that only the target has. It took ``seconds``, and ``line_bytes`` went over lines
    to other machines, None where there is none. ``written`` is how many rows of each table were written; all of them,
    where they were not told to be there by what the run ``since`` left.
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
    prefixed: PrefixedValues
    settled: tuple[Step, ...]
    remarks: tuple[str, ...]
    recovered: tuple[int, ...]
    kept: Build | None = None
    baseline: str = ""
    own: tuple[str, ...] = ()
    seconds: float = 0.0
    line_bytes: int | None = None
    written: dict[str, int] = {}
    since: int | None = None

    def as_json(self) -> dict[str, Any]:
        return {
            "run": self.run.number,
            "tables": self.rows,
            "rows": sum(self.rows.values()),
            "rewriting": self.rewriting.as_json(),
            "prefixed": {
                "changed": dict(self.prefixed.changed),
                "left": {f"{table}: {name}": n for (table, name), n in self.prefixed.left.items()},
            },
            "settled": [step.says() for step in self.settled],
            "remarks": list(self.remarks),
            "files": self.files,
            "file_bytes": self.file_bytes,
            "files_gone": self.files_gone,
            "files_moved": self.files_moved,
            "file_places": self.file_places,
            "baseline": self.baseline or None,
            "only_on_target": list(self.own),
            "kept_build": self.kept.fingerprint if self.kept else None,
            "counts": self.counts,
            "seconds": self.seconds,
            "line_bytes": self.line_bytes,
            "written_rows": self.written,
            "since_run": self.since,
        }


def rewriting_of(plan: Plan) -> Rewriting:
    """The rewriting of a plan, which also counts references to third environments."""
    finder = StrayScanner(plan.target, plan.others) if plan.others else None
    return Rewriting(plan.mapping, finder, plan.target.name, plan.encoded, signed=dict(plan.signed))


def prefixed_of(plan: Plan) -> PrefixedValues:
    """The renaming of values that hold the table prefix, with counts of its own."""
    return PrefixedValues("", "", {}) if plan.prefixed is None else dataclasses.replace(
        plan.prefixed, changed=Counter(), left=Counter()
    )  # fmt: skip


def preview(plan: Plan, source: ReadableSite, listener: Listener = silent) -> Rewriting:
    """Count exactly what the run would rewrite, by reading the source and writing nothing."""
    rewriting = rewriting_of(plan)
    pipeline = RowPipeline(rewriting, prefixed_of(plan))
    listener(Phase("look"))
    listener(Started(plan.rows, plan.table_bytes, 0, 0))
    with source.database.reading() as reader:
        reader.expect([pipeline.wanted(item) for item in plan.tables])
        for item in plan.tables:
            listener(TableStarted(item.table.name, item.rows))
            with ahead(pipeline.read(reader, item)) as batches:
                for batch in pipeline.change(item, batches):
                    listener(Moved(item.table.name, batch.rows, batch.size))
            listener(TableDone(item.table.name, item.rows))
    return rewriting


def run_plan(plan: Plan, context: RunContext, *, keep_earlier: bool = False) -> Report:
    """Do what the plan says, or go on with a run that was stopped while it did the same.

    With ``keep_earlier``, what earlier runs parked stays until ``let_go_of_earlier``.

    Raises:
        Refused: another run writes to the target.
        Stopped: it was interrupted, or a connection was lost for good; the target is as it was before,
            and what has arrived waits beside it.
        JobError: something failed; the target is as it was before.
    """
    source, target, journals = context.source, context.target, context.journals
    remarks: list[str] = []
    watch = Stopwatch(source, target)
    with only_run(target):
        run, recovered = _begun(plan, context)
        last = _last_copy(plan, journals)
        earlier = last[1] if last is not None else None
        with Baseline(
            store=context.baselines, plan=plan, source=source, run=run, earlier=earlier
        ) as baseline:
            with taken_back_on_failure(target, run, journals):
                kept = _kept_first(plan, context, run)
                before = _Before(recovered, kept, last[0] if last is not None else None)
                report, work = _persistently(plan, context, run, baseline, before)
            # From here on what came stays, and what goes wrong is a remark.
            if run.changed:
                with _remarked("the record of the switch could not be removed", remarks):
                    switching.end(target, run.token)
            with _remarked("no baseline for a later merge was kept", remarks):
                report = replace(report, baseline=baseline.finish(journals))
            if baseline.lost:
                remarks.append(f"no baseline for a later merge was kept: {baseline.lost}")
            with _remarked("what it left is not on record: the next one takes all again", remarks):
                work.remember(journals)
            with _remarked("how long it took is not on record", remarks):
                watch.record(run, plan, repeat=report.since is not None)
        report = replace(report, seconds=watch.seconds, line_bytes=watch.line_bytes)
        report = replace(report, remarks=(*report.remarks, *remarks))
        return report if keep_earlier else let_go_of_earlier(target, journals, report)


def _begun(plan: Plan, context: RunContext) -> tuple[Run, tuple[int, ...]]:
    """The run that does a plan, new or stopped before, and the runs that were taken back for it."""
    target, journals, key = context.target, context.journals, signature(plan)
    run = resumable(journals, target.environment.name, key)
    recovered = recover(target, journals, but=run)
    if run is not None:
        run.resumed = True
        run.write(RESUMED)
        return run, recovered
    run = journals.begin(
        plan.kind,
        plan.source.name,
        plan.target.name,
        parts=list(plan.parts),
        build=plan.build.as_json() if plan.build else None,
        signature=key,
        gist=plan.gist(),
        command=list(context.command),
        **where(target),
    )
    return run, recovered


def _last_copy(plan: Plan, journals: Journals) -> tuple[LastCopy, Run] | None:
    """What the last transfer of this kind left, where the plan goes by it."""
    if not plan.goes_by_last_copy:
        return None
    return last_copy(journals, plan.source.name, plan.target.name)


def _kept_first(plan: Plan, context: RunContext, run: Run) -> Build | None:
    """Keep what the run replaces: in a snapshot, and of a push to production in a build."""
    keeping, builds, listener = context.keeping, context.builds, context.listener
    if keeping is not None and not run.saved:
        listener(Phase("keep"))
        run.write("saved", snapshot=keeping.keep(context.target, plan, run.number, listener))
    if builds is None or plan.target.role != "production":
        return None
    listener(Phase("keep"))
    return keep_what_goes(plan, context.target, builds)


def let_go_of_earlier(target: Site, journals: Journals, report: Report) -> Report:
    """Once a run is to stay: remove what earlier ones parked, as its own way back takes their place."""
    remarks: list[str] = []
    if report.run.changed:  # otherwise the way back is still the one before
        with only_run(target), _remarked("what earlier runs parked is still there", remarks):
            drop_parked(target, journals, keep=report.run)
    return replace(report, remarks=(*report.remarks, *remarks))


@contextlib.contextmanager
def _remarked(what: str, remarks: list[str]) -> Iterator[None]:
    """An error of what is done when all is there already becomes a remark."""
    try:
        yield
    except (OSError, DatabaseError, FilesError, JobError) as error:
        remarks.append(f"{what}: {error}")
    except Exception as error:
        if not was_cut_off(error):
            raise
        remarks.append(f"{what}: {error}")


def signature(plan: Plan) -> str:
    """The same for two plans of the same transfer, whatever has changed at the source meanwhile."""
    parts: list[object] = [
        plan.kind, plan.source.name, plan.target.name, plan.parts,
        plan.build.fingerprint if plan.build else "",
        [(pair.old_text, pair.new_text) for pair in plan.mapping.pairs],
        sorted((t.table.name, t.target, repr(t.leave), repr(sorted(t.replacements.items()))) for t in plan.tables),
        sorted((k, repr(v)) for k, v in plan.encoded.items()),
    ]  # fmt: skip
    return hashlib.sha256(repr(parts).encode()).hexdigest()[:16]


def resumable(journals: Journals, environment: str, key: str = "") -> Run | None:
    """The run on an environment that was stopped in between and can be gone on with (as this plan)."""
    for run in journals.of(environment):
        if run.can_go_on and key in ("", run.signature):
            return run
    return None


class _Before(NamedTuple):
    """What there was before the first row: runs that were taken back, the build that was kept, and what the last
    transfer left."""

    recovered: tuple[int, ...]
    kept: Build | None
    last: LastCopy | None


def _persistently(
    plan: Plan, context: RunContext, run: Run, baseline: Baseline, before: _Before
) -> tuple[Report, _Transfer]:
    """Carry out; a connection that breaks is made anew, after pauses that grow, and the run goes on."""
    moved = 0

    def heard(event: Event) -> None:
        nonlocal moved
        if isinstance(event, (Moved, FileMoved)) and event.size:
            moved += 1
        context.listener(event)

    listening = replace(context, listener=heard)
    pauses, tries = iter(reconnect.PAUSES), 0
    work = _Transfer(plan=plan, context=listening, run=run, baseline=baseline, before=before)

    def connect(broken: Exception) -> None:
        nonlocal pauses, moved, tries, work
        if moved and tries < _TRIES:  # it went on for a while: that is another breakdown
            pauses, moved, tries = iter(reconnect.PAUSES), 0, tries + 1
        connect_anew((context.source, context.target), broken, pauses, context.listener)
        run.resumed = True
        if run.stage != SWAPPING:
            work = _Transfer(
                plan=plan, context=listening, run=run, baseline=baseline, before=before
            )

    report = repeated(lambda: work.carry_out(), connect)
    return report, work


def keep_what_goes(plan: Plan, target: Site, builds: Builds) -> Build | None:
    """Keep, as a build, what the target holds in place of the one that comes."""
    files, build = plan.files, plan.build
    if files is None or build is None or files.nothing:
        return None
    mine = [*files.replaced.values(), *files.gone]
    if not mine:
        return None
    theirs = {entry.path for entry in (*files.coming, *mine)}
    same = {file.entry.path: file for file in build.stored if file.entry.path not in theirs}
    entries = [*(file.entry for file in same.values()), *(e._replace(digest="") for e in mine)]
    return builds.keep(target, entries, plan.parts, found=True, known=same)


class _Transfer:
    def __init__(
        self, plan: Plan, context: RunContext, run: Run, baseline: Baseline, before: _Before
    ) -> None:
        listener = context.listener
        for site in (context.source, context.target):
            if site.remote_host is not None and site.environment.role == "production":
                listener = Courtesy(listener, site.remote_host)
        context = replace(context, listener=listener)
        self._plan = plan
        self._source = context.source
        self._target = context.target
        self._run = run
        self._baseline = baseline
        self._tell = listener
        self._rewriting = rewriting_of(plan)
        self._prefixed = prefixed_of(plan)
        self._mover = FileCopier(plan, context, run)
        pipeline = RowPipeline(self._rewriting, self._prefixed)
        self._before = before
        last = before.last
        if last is not None and last.hanging != self._hanging_signature():
            last = None  # what hangs on the tables comes with the tables
        self._taker = TableCopier(
            plan=plan, context=context, run=run, pipeline=pipeline, baseline=baseline, last=last
        )
        self._remarks: tuple[str, ...] = ()

    def carry_out(self) -> Report:
        plan, files, run, before = self._plan, self._plan.files, self._run, self._before
        switch, anew = run.switch, run.stage != SWAPPING
        if anew:  # otherwise the connection was lost after that was written
            switch = self._prepare()
        self._tell(Phase("swap"))
        text = plan.holds[1] if plan.holds else ""
        lost, patched = switching.perform(self._target, run, switch, text)
        wanted = sum(self._taker.written.values())
        # All of them in one transaction: what was done before the connection was lost changes nothing more.
        if switch.patches and patched != wanted and (anew or patched):
            raise JobError(
                f"somebody wrote to {wanted - patched} of the rows that change at the same time",
                f"{plan.target.name} is as it was before; run the command again",
            )
        self._remarks += tuple(lost)
        self._target.forget()
        report = Report(
            run=run,
            rows=self._taker.rows,
            rewriting=self._rewriting,
            files=files.files - len(self._mover.vanished) if files else 0,
            file_bytes=self._mover.sent,
            files_gone=sum(entry.kind != "folder" for entry in files.gone) if files else 0,
            files_moved=len(files.reused) if files else 0,
            file_places=self._mover.rewritten.total,
            counts=self._counts(switch),
            prefixed=self._prefixed,
            settled=tuple(plan.settling.steps),
            remarks=(*self._remarks, *self._mover.remarks(), *_moment(self._taker)),
            recovered=before.recovered,
            kept=before.kept,
            own=tuple(e.path for e in files.only_there if e.kind != "folder") if files else (),
            written=self._taker.written,
            since=self._taker.since_run,
        )
        run.write(DONE, report=report.as_json())
        with contextlib.suppress(OSError):
            self._mover.remember()
        return report

    def _counts(self, switch: Switch) -> dict[str, int]:
        """What stands in the target now; nobody is asked again where nothing was written since the plan."""
        if not self._plan.tables:
            return self._plan.arriving.counts
        if switch.exchanges or switch.patches:
            return counts_of(self._target)
        return self._plan.overwritten.counts

    def _prepare(self) -> Switch:
        """Lay everything ready; what the switch has to do."""
        plan, files = self._plan, self._plan.files
        self._tell(
            Started(
                plan.rows, plan.table_bytes, files.files if files else 0, files.size if files else 0
            )
        )
        self._tell(Phase("tables"))
        if self._target.database.missing:
            self._target.database.create()
        self._taker.take()
        self._settle()
        exchanges, patches = self._taker.staged()
        self._tell(Phase("files"))
        moves = self._mover.stage()
        detach, attach = self._attachments(exchanges)
        if moves:  # otherwise it would wait for what others write to the same disk
            self._target.files.flush(self._run.token)
        held = plan.holds[0] if plan.holds else ""
        return Switch(
            exchanges=tuple(exchanges),
            detach=tuple(detach),
            attach=tuple(attach),
            moves=tuple(moves),
            patches=tuple(patches),
            held=held,
        )

    def _settle(self) -> None:
        """Set in the new tables, still hidden, what the target keeps and what arrival asks for."""
        plan, prefix = self._plan, len(self._source.prefix)
        columns = {item.table.name[prefix:]: item.table for item in plan.tables}
        tables = Tables(
            self._target,
            self._target.database,
            lambda name: self._taker.to_settle(self._source.prefix + name),
            columns,
        )
        said = [step.do(tables) for step in plan.settling.steps if not self._taker.stays(step)]
        self._remarks = tuple(remark for remark in said if remark)

    @cached_property
    def _hanging(self) -> list[Attachment]:
        """What hangs on the tables that come."""
        plan = self._plan
        tables = [item.table.name for item in plan.tables]
        return [
            *(
                item
                for item in self._source.database.attachments(tables, plan.views)
                if item.kind != "trigger" or "triggers" not in plan.left_programs
            ),
            *plan.routines,
        ]

    def _hanging_signature(self) -> str:
        """The digest of what hangs on both sides, as it is now."""
        target = self._target
        wanted = {item.target for item in self._plan.tables}
        names = [table.name for table in target.tables if table.name in wanted]
        theirs = target.database.attachments(names, target.views)
        return hanging_signature(self._plan, self._hanging, theirs, target.views)

    def remember(self, journals: Journals) -> None:
        """Put on record what both sides hold now, for the next transfer. Raises OSError, DatabaseError."""
        plan, database = self._plan, self._target.database
        (self._run.folder / "taken.jsonl").unlink(missing_ok=True)
        if plan.tables and plan.kind in ("pull", "push"):
            definitions = database.definitions(item.target for item in plan.tables)
            left = LastCopy(self._hanging_signature(), self._taker.left(definitions))
            left.write(self._run.folder)
            forget_older(journals, plan.target.name)
            self._remember_source(journals.state, left.tables)
        else:
            (self._run.folder / "baseline.jsonl").unlink(missing_ok=True)

    def _remember_source(self, state: Path, tables: Mapping[str, KnownTable]) -> None:
        """Of tables that came whole the store has what a snapshot of the source holds, which goes by that where rows
        come over a line."""
        if self._plan.source.host is None:
            return
        facts, kept = self._source.database.facts(), {}
        for item in self._plan.tables:
            name, pieces = item.table.name, self._baseline.pieces(item.table)
            if pieces is None or item.leave is not None or item.replacements:
                continue
            known = tables.get(name)
            if known is not None:
                known = replace(known, signature=form_of(item.table, facts), definition="")
                kept[name] = KeptTable(known, tuple(pieces))
        KeptTables(state, self._plan.source.name).put(kept)

    def _attachments(
        self, exchanges: Sequence[Exchange]
    ) -> tuple[list[Attachment], list[Attachment]]:
        hanging = self._hanging if self._plan.tables else []
        self._baseline.hang(hanging)
        if not exchanges:
            return [], []
        names = [exchange.live for exchange in exchanges]
        source, target = self._source.database, self._target.database
        detach = own_again(target.attachments(names, self._target.views))
        facts, renamed = source.facts(), self._plan.names
        assert renamed is not None
        called = renamed.routines(
            [*self._plan.routines, *(item for item in hanging if item.kind == "sequence")]
        )
        attach = [
            target.adapt_attachment(renamed.attachment(item, called), facts) for item in hanging
        ]
        self._remarks += tuple(
            f"the {item.kind} {item.name} stays behind: {item.lost}" for item in attach if item.lost
        )
        attach = [item for item in attach if not item.lost]
        detach += replaced_routines(target, attach)
        views = {renamed.table(view) for view in self._plan.views}
        there = {*names, *(table.name for table in self._target.tables)}
        attach = [
            item
            for item in attach
            if item.kind in ("routine", "sequence")
            or (item.table in {*names, *views} and can_hang(item, there))
        ]
        # What hangs on tables that stay goes off and on again, with the tables that it points at.
        coming = {(item.kind, item.name, item.table) for item in attach}
        attach += [
            item
            for item in detach
            if item.kind in ("constraint", "view")
            and item.table not in names
            and (item.kind, item.name, item.table) not in coming
        ]
        return detach, attach


def _moment(taker: TableCopier) -> Iterator[str]:
    """To which moment the copy belongs, where it was taken with interruptions."""
    if taker.restless:
        names = ", ".join(sorted(taker.restless))
        yield (
            f"the source was written to whenever it was looked at again, so not all rows are of one moment: {names}"
        )
    elif taker.again:
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
