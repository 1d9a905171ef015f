"""What dead and failed runs leave behind is taken back, before anything new begins."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterator

from ..errors import (
    DatabaseError,
    DatabaseUnreachable,
    FilesError,
    HalfDone,
    JobError,
    Overtaken,
    Refused,
    RowsMoved,
    Stopped,
    described,
)
from ..site import Site
from . import switching
from .events import Listener, silent
from .journal import DONE, FAILED, STOPPED, SWAPPING, TAKEN_BACK, Journals, Run
from .lock import only_run
from .reconnect import persistently, was_cut_off

_TOKEN = re.compile(r"_vetrin_(arriving|parked|new|old)_([0-9a-f]+)_\d+$")


def recover(target: Site, journals: Journals, but: Run | None = None) -> tuple[int, ...]:
    """Take back what dead runs left, ``but`` one; the numbers of those runs. Needs the lock.

    Raises:
        JobError, DatabaseError, FilesError: it could not be taken back; it is tried again by the next run.
    """
    recovered = list(put_right(target, journals))
    known, newest = set(), True
    for run in journals.of(target.environment.name):
        known.add(run.token)
        # What a run left in a database that cannot be written to now is taken back by the next one that can.
        beyond = bool(target.database.unwritable) and "data" in run.parts
        if run.unfinished and not beyond and (but is None or run.number != but.number):
            # An older Vetrin put no record beside the target; a later run has taken its run back already.
            if run.stage == SWAPPING and run.log_version == 0 and newest:
                switching.put_back(target, run.token, run.switch, _undone_by(run, journals))
            clear_away(target, run, journals)
            run.write(TAKEN_BACK, error="it was stopped in between")
            recovered.append(run.number)
        newest = False
    # Half-filled tables of runs that this project knows nothing of: nobody is filling them, for
    # their run would hold the lock.
    for name in target.database.hidden_tables():
        match = _TOKEN.match(name)
        if match and match[1] in ("arriving", "new") and match[2] not in known:
            target.database.drop([name])
    return tuple(recovered)


def put_right(target: Site, journals: Journals) -> tuple[int, ...]:
    """Take back a switch that was left in between, whoever began it; the runs of this project that end with
    that. Needs the lock."""
    switching.let_end(target.files)
    ended = tuple(_ended_there(target, journals))
    found = switching.underway(target.files)
    if found is None:
        return ended
    run = next(
        (one for one in journals.of(target.environment.name) if one.token == found.token), None
    )
    if run is None or run.unfinished:
        switching.put_back(target, found.token, found.switch, found.undoes)
        target.forget()
        if run is None:
            target.database.drop(_hidden_of(target, found.token))
            target.files.discard(found.token)
        else:
            clear_away(target, run, journals)
            run.write(TAKEN_BACK, error="it was stopped in between")
    switching.end(target, found.token)
    return (*ended, *((run.number,) if run is not None and run.stage == TAKEN_BACK else ()))


def _ended_there(target: Site, journals: Journals) -> Iterator[int]:
    """Put on record how switches ended that were handed over; the runs that were taken back."""
    for run in journals.of(target.environment.name):
        if run.stage != SWAPPING:
            continue
        how = switching.outcome_of(target.files, run.token)
        if how == switching.SWITCHED:
            _finished(target, run, journals)
        elif how == switching.UNSWITCHED:
            clear_away(target, run, journals)
            run.write(TAKEN_BACK, error="its switch failed, and was taken back")
            switching.end(target, run.token)
            yield run.number


def _finished(target: Site, run: Run, journals: Journals) -> None:
    """Put on record that a switch came to its end, although whoever began it could not."""
    run.write(DONE, report={"finished": True})
    for file in ("taken.jsonl", "baseline.jsonl"):
        (run.folder / file).unlink(missing_ok=True)
    undone = journals.numbered(run.undoes)
    if undone is not None:
        undone.write("undone", by=run.number)
    switching.end(target, run.token)
    target.forget()


def take_back_of_others(target: Site, journals: Journals) -> bool:
    """Take back a switch that a run of another project was stopped in; False where there is none."""
    with only_run(target):
        found = switching.underway(target.files)
        known = {run.token for run in journals.of(target.environment.name)}
        if found is None or found.token in known:
            return False
        put_right(target, journals)
        return True


def finish(target: Site, journals: Journals) -> Run | None:
    """Carry out the rest of a switch that was left in between; the run that is done with that. A switch of
    another project is taken back instead, as only that one can know its way back; then None.

    Raises:
        Refused: there is none, or another run writes to the environment.
        HalfDone, JobError: as any run.
    """
    name = target.environment.name
    with only_run(target):
        found = switching.underway(target.files)
        if found is None:
            raise Refused(
                f"no run of {name} was stopped in between", "`vetrin history` lists the runs"
            )
        run = next((one for one in journals.of(name) if one.token == found.token), None)
        if run is None or not run.unfinished:
            put_right(target, journals)
            return None
        if run.stage != SWAPPING:  # its journal could not be written any more
            run.write(SWAPPING, **found.switch.as_json())
        rule = target.definition.maintenance
        with taken_back_on_failure(target, run, journals):
            if found.undoes:
                target.files.hand_over(found.undoes, "old", run.token, "new")
            switching.finish(target, found, rule.text if rule is not None else "")
        _finished(target, run, journals)
        return run


def _undone_by(run: Run, journals: Journals) -> str:
    """The token of the run that this one undoes; empty where it is no undo."""
    undone = journals.numbered(run.undoes)
    return undone.token if undone is not None else ""


def clear_away(target: Site, run: Run, journals: Journals) -> None:
    """Remove what a run that was taken back, or that never came to its switch, laid ready."""
    undone = _undone_by(run, journals)
    if undone:  # what it would have brought back is still the way back
        target.files.hand_over(run.token, "new", undone, "old")
    target.database.drop(_hidden_of(target, run.token))
    target.files.discard(run.token)
    switching.sweep(target.files, run.token)
    for name in ("taken.jsonl", "baseline.jsonl"):
        (run.folder / name).unlink(missing_ok=True)
    for spool in run.folder.glob("rows-*"):
        spool.unlink()


def drop_parked(target: Site, journals: Journals, keep: Run) -> None:
    """Let go of what earlier runs parked: one way back is kept for each environment."""
    for run in journals.of(target.environment.name):
        if run.number != keep.number and run.stage == DONE and not run.dropped:
            let_go(target, run)


def close(
    target: Site, run: Run, listener: Listener = silent, *, journals: Journals | None = None
) -> None:
    """Remove the record of a switch that is done; with ``journals``, also what earlier runs parked. The run stands
    whatever goes wrong here: a connection that breaks is made anew, and what cannot be removed is left to whoever
    writes next."""

    def work() -> None:
        switching.end(target, run.token)
        if journals is not None and run.changed:
            drop_parked(target, journals, keep=run)

    with contextlib.suppress(DatabaseError, FilesError, OSError):
        persistently(target, work, listener)


def let_go(target: Site, run: Run) -> None:
    """Remove what a run parked; it cannot be undone any more."""
    parked = _hidden_of(target, run.token)
    if (parked or run.switch.exchanges) and target.database.unwritable:
        return  # let go of by the next run that can
    target.database.drop(parked)
    target.files.discard(run.token)
    run.write("dropped")


def _hidden_of(target: Site, token: str) -> list[str]:
    found = ((name, _TOKEN.match(name)) for name in target.database.hidden_tables())
    return [name for name, match in found if match and match[2] == token]


@contextlib.contextmanager
def taken_back_on_failure(target: Site, run: Run, journals: Journals) -> Iterator[None]:
    """Whatever ends the context early, an error or Ctrl-C, is taken back and put on record.

    Raises:
        Stopped: it ended before the switch, and can be gone on with.
        HalfDone: it ended in the switch, and could not be taken back either.
        Overtaken: another run took over; nothing is taken back.
        JobError: in place of an error of the database or the files; the target is as it was before.
    """
    try:
        yield
    except Overtaken:
        raise  # what stands there is another run's affair
    except BaseException as error:
        cut_off = isinstance(error, Exception) and was_cut_off(error)
        interrupted = isinstance(error, KeyboardInterrupt)
        reason = "interrupted" if interrupted else described(error)
        if (interrupted or cut_off) and run.can_go_on:
            with contextlib.suppress(OSError):
                run.write(STOPPED, error=reason)
            raise Stopped(reason, run.target) from error
        if cut_off and run.stage == SWAPPING:
            raise HalfDone(reason, run.target) from error
        try:
            _take_back(target, run, journals)
        except BaseException as second:
            if run.stage == SWAPPING:
                raise HalfDone(
                    f"{reason}; taking it back: {described(second)}", run.target
                ) from error
            # Hidden leftovers only, which the next run removes.
        with contextlib.suppress(OSError):
            run.write(FAILED, error=reason)
        try:
            switching.end(target, run.token)
        except Exception as second:
            # On a line that is gone: whoever comes next finds the record, and puts right what it tells of.
            if not isinstance(second, (OSError, FilesError)) and not was_cut_off(second):
                raise
        if isinstance(error, RowsMoved):
            raise  # whoever asked for it looks again
        if isinstance(error, (DatabaseError, FilesError, OSError, HalfDone)):
            remedy = f"{target.environment.name} is as it was before"
            if isinstance(error, DatabaseUnreachable) and error.remedy:
                remedy = f"{error.remedy}\n{remedy}"
            raise JobError(reason, remedy) from error
        raise


def _take_back(target: Site, run: Run, journals: Journals) -> None:
    if run.stage == SWAPPING:
        switching.put_back(target, run.token, run.switch, _undone_by(run, journals))
        target.forget()
    clear_away(target, run, journals)
