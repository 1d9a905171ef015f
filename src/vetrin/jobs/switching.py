"""The moment in which a target changes over, and the way back from any point of it.

Before the first of it is exchanged, a record of the whole switch is put beside the target
(``.vetrin/switch.json`` below its root). It is removed when the target is all new or all old again. So a
target with a record is, or was left, neither the one nor the other; whoever looks there can tell, and
whoever writes there, from whichever machine and project, first puts it right. Without a record there is
nothing to be put back, so doing that twice is harmless.
"""

from __future__ import annotations

import contextlib
import getpass
import json
import signal
import socket
import threading
import time
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from typing import Any

from msgspec import Struct

from ..database.base import Exchange, Script, pending
from ..errors import DatabaseUnreachable, FilesError, HalfDone, Refused
from ..files import OWN_FOLDER, FileChange, FileTree
from ..remote.executor import Half
from ..remote.helper_protocol import escaped
from ..site import ReadableSite, Site
from .journal import SWAPPING, Run
from .lock import holder_of, must_hold
from .reconnect import was_cut_off
from .switch import Switch, own_again

RECORD = f"{OWN_FOLDER}/switch.json"
_VERSION = 1
_GRACE = 0.3  # seconds
_PATIENCE = 60.0  # seconds that a switch under way is waited for
SWITCHED, UNSWITCHED = "switched", "unswitched"
_RECORD, _HELD = "record", "held"  # before they are put in their places
wait = time.sleep


class Underway(Struct, frozen=True):
    """A switch that was begun and is not known to have ended. ``undoes`` is the token of the run that it
    takes back, empty where it is none of that kind; ``by`` says whose it is."""

    token: str
    switch: Switch
    undoes: str
    run: int
    kind: str
    by: str
    since: str

    def __str__(self) -> str:
        return f"the switch of run {self.run} ({self.kind}, by {self.by}, {self.since[:16].replace('T', ' ')})"


def _record(run: Run, switch: Switch, undoes: str) -> str:
    """The text of the record."""
    return json.dumps(
        {
            "version": _VERSION,
            "token": run.token,
            "run": run.number,
            "kind": run.kind,
            "by": f"{getpass.getuser()} on {socket.gethostname()}",
            "since": datetime.now().astimezone().isoformat(timespec="seconds"),
            "undoes": undoes,
            "switch": switch.as_json(),
        }
    )


def end(target: Site, token: str) -> None:
    """The target is all new, or all old again, and that is in the journal."""
    target.files.remove(RECORD)
    for how in (SWITCHED, UNSWITCHED):
        target.files.remove(_beside(token, how))


def sweep(tree: FileTree, token: str) -> None:
    """Remove what a switch may have left beside its target that was killed before it began."""
    for what in (_RECORD, _HELD):
        tree.remove(_beside(token, what))


def underway(tree: FileTree) -> Underway | None:
    """What the record beside a target says; None where there is none.

    Raises:
        Refused: there is one that this version of Vetrin cannot read.
    """
    if not tree.exists(RECORD):
        return None
    try:
        data = json.loads(b"".join(tree.read(RECORD)))
        if data["version"] != _VERSION:
            raise ValueError
        return Underway(
            token=str(data["token"]),
            switch=Switch.of_json(data["switch"]),
            undoes=str(data["undoes"]),
            run=int(data["run"]),
            kind=str(data["kind"]),
            by=str(data["by"]),
            since=str(data["since"]),
        )
    except FilesError:
        if not tree.exists(RECORD):  # it ended this moment
            return None
        raise
    except (ValueError, KeyError, TypeError) as error:
        raise Refused(
            f"{RECORD} says that a switch is under way, in a form that is not known",
            "use the version of Vetrin that began it, there or from the project that it belongs to",
        ) from error


def half_switched(site: ReadableSite) -> str:
    """Why an environment is neither old nor new at this moment; empty where it is whole.

    A switch that somebody is carrying out right now is waited for.
    """
    if not isinstance(site, Site):
        return ""  # what is stored does not switch
    until = time.monotonic() + _PATIENCE
    while (found := underway(site.files)) is not None:
        holder = holder_of(site.files)
        left = (holder is None or holder.dead) and not site.files.busy(RECORD)
        if left or time.monotonic() > until:
            return f"{site.environment.name} is half old and half new: {found} was stopped in it"
        wait(0.2)
    return ""


def must_be_whole(site: ReadableSite) -> None:
    """Raises Refused where nothing should be taken from an environment, as it is half old and half new."""
    problem = half_switched(site)
    if problem:
        name = site.environment.name
        raise Refused(
            problem,
            f"`vetrin resume {name}` finishes the switch, `vetrin undo {name}` takes it back",
        )


def perform(
    target: Site,
    run: Run,
    switch: Switch,
    text: str = "",
    undoes: str = "",
    *,
    expected: int | None = None,
) -> tuple[list[str], int]:
    """Carry a switch out, or what is missing of it if that was begun; remarks on what could not be made in the
    database, and how many rows were patched.

    It is handed over as one piece to a process where the target is, where one can run there. ``text`` is that of
    the file that holds visitors off, ``undoes`` the token of the run that it takes back. So many rows are
    ``expected`` to be patched, or none is.

    Raises:
        RowsMoved: rows are no longer as they were seen, and none was patched.
        DatabaseUnreachable, ConnectionLost: a connection was lost in it; once it is made anew, the same call goes on.
        DatabaseError, FilesError: it failed; what can be taken back may have been already.
        HalfDone: it failed, and could not be taken back there.
        Overtaken: another run holds the lock by now; nothing was done.
    """
    must_hold(target)
    begun = run.stage == SWAPPING
    if switch.nothing and not begun:
        return [], 0  # nobody is held off, and no process made there
    if begun and run.handed_over:
        outcome = _awaited(target, run.token)
        if outcome == SWITCHED:
            return [], 0
        if outcome == UNSWITCHED:
            raise FilesError(
                f"the switch failed in {target.environment.name}, and was taken back there"
            )
        # It never arrived there, or ended in between: it is handed over once more, from its beginning.
        put_back(target, run.token, switch)
        target.forget()
        begun = run.handed_over = False
    if not begun:
        done = _hand_over(target, run, switch, text, undoes)
        if done is not None:
            return done
        target.files.put(RECORD, _record(run, switch, undoes).encode())
        run.write(SWAPPING, **switch.as_json())
    return _from_here(target, run.token, switch, text, None if begun else expected)


def _from_here(
    target: Site, token: str, switch: Switch, text: str, expected: int | None = None
) -> tuple[list[str], int]:
    """Carry a switch out step by step, from wherever it had come to."""
    remarks: list[str] = []
    patched = 0
    with held_off(target, (switch.held, text) if switch.held else None):
        if switch.exchanges:
            remarks = target.database.swap(switch.exchanges, switch.detach, switch.attach)
        if switch.patches:
            patched = target.database.patch(switch.patches, switch.recounts, expected=expected)
        target.files.exchange(token, switch.moves)
    if switch.moves:
        target.files.flush(token)
    return remarks, patched


def _hand_over(
    target: Site, run: Run, switch: Switch, text: str, undoes: str
) -> tuple[list[str], int] | None:
    """Have a process where the target is carry a switch out; None where none can run there, or where it cannot
    be told beforehand what there is to be done."""
    files = target.files
    # Patches are one transaction, which the server carries out as a whole.
    if switch.patches or not target.runs_processes:
        return None
    script = None
    if switch.exchanges:
        script = target.database.script(switch.exchanges, switch.detach, switch.attach)
        if script is None:
            return None
    acts = files.planned_exchange(run.token, switch.moves) if switch.moves else []
    if acts is None:
        return None
    try:
        executor = target.executor()
    except OSError:
        return None  # no process can be made there
    with contextlib.closing(executor):
        try:
            executor.begin(script.server if script else None)
            if script and script.log_in and not script.log_in(executor.socket):
                return None  # it speaks TLS, which nobody else can go on with
        except DatabaseUnreachable:
            return None  # what is reached from here need not be reached from there
        beside = files.absolute(_beside(run.token, _RECORD))
        record = _record(run, switch, undoes)
        executor.put_record(escaped(files.absolute(RECORD)), escaped(beside), record)
        go = {
            "done": escaped(files.absolute(_beside(run.token, SWITCHED))),
            "undone": escaped(files.absolute(_beside(run.token, UNSWITCHED))),
            "steps": _steps(target, run.token, switch, text, script, acts),
        }
        with _uninterrupted():
            run.write(SWAPPING, **switch.as_json())
            run.handed_over = True
            try:
                done = executor.carry_out(go)
            except Half as error:
                lost = DatabaseUnreachable(str(error), number=error.code)
                if was_cut_off(lost):  # it can be gone on with as soon as the server is there again
                    raise lost from error
                raise HalfDone(str(error), run.target) from error
    return [f"{remark}: it could not be made" for remark in done.remarks], done.patched


@contextlib.contextmanager
def _uninterrupted() -> Iterator[None]:
    """Ctrl-C comes too late once the switch is handed over, which ends within a moment."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    before = signal.signal(signal.SIGINT, lambda number, at: None)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)


def _steps(
    target: Site,
    token: str,
    switch: Switch,
    text: str,
    script: Script | None,
    acts: Sequence[FileChange],
) -> list[dict[str, Any]]:
    held, files = switch.held, target.files
    runtime = target.definition.runtime
    steps: list[dict[str, Any]] = []
    if held:
        beside = _beside(token, _HELD)
        settles = runtime.settles if runtime is not None else 0
        release = {"path": escaped(files.absolute(held)), "after": settles}
        steps += [
            {"do": "put", "beside": escaped(files.absolute(beside)), "text": text, **release},
            {"do": "wait", "seconds": _GRACE},
        ]
    if script is not None:
        steps.append({**script.step, **_where(script.step)})
    if acts:
        rows = [[act.do, escaped(act.path), escaped(act.to), act.mode, act.soft] for act in acts]
        steps.append({"do": "acts", "acts": rows, "root": escaped(files.absolute("").rstrip("/"))})
    if held:
        steps.append({"do": "remove", **release})
    if acts:  # what a busy machine takes long for; until then the record stands, and visitors need not wait for it
        steps.append({"do": "sync"})
    return steps


def _where(step: Mapping[str, Any]) -> dict[str, str]:
    return {"path": escaped(step["path"])} if "path" in step else {}


def _beside(token: str, what: str) -> str:
    return f"{OWN_FOLDER}/{token}-{what}"


def outcome_of(tree: FileTree, token: str) -> str:
    """How a switch ended that was handed over: ``switched`` or ``unswitched``; empty where that is not known."""
    return next((how for how in (SWITCHED, UNSWITCHED) if tree.exists(_beside(token, how))), "")


def _awaited(target: Site, token: str) -> str:
    """The same, of one that may still be under way there."""
    let_end(target.files)
    return outcome_of(target.files, token)


def let_end(tree: FileTree) -> None:
    """Wait for a switch that a process near the target is carrying out.

    Raises:
        Refused: it takes longer than anybody would wait.
    """
    until = time.monotonic() + _PATIENCE
    while tree.busy(RECORD):
        if time.monotonic() > until:
            raise Refused(
                "a switch is being carried out there, and has not come to its end yet",
                "wait a little, then run the command again",
            )
        wait(0.05)


def finish(target: Site, found: Underway, text: str) -> None:
    """Carry out what is missing of a switch that was left in between."""
    _from_here(target, found.token, found.switch, text)


def put_back(target: Site, token: str, switch: Switch, undoes: str = "") -> None:
    """Make the target what it was before a switch, from whatever point that came to. ``undoes`` is the token
    of the run that it took back."""
    database = target.database
    if (switch.exchanges or switch.patches) and database.unwritable:
        raise DatabaseUnreachable(
            f"a switch of tables was left in between, and the database cannot be written to: "
            f"{database.unwritable}"
        )
    there = {*database.hidden_tables(), *(table.name for table in database.tables())}
    # Putting back may have been stopped as well, between the tables and what hangs on them.
    if switch.exchanges and not (
        pending(switch.exchanges, there) and _hangs_as_before(target, switch)
    ):
        back = [Exchange(e.live, e.outgoing, e.incoming) for e in switch.exchanges]
        database.swap(back, switch.attach, switch.detach)
    if switch.patches and all(patch.after in there for patch in switch.patches):
        database.patch([patch.reversed() for patch in switch.patches], switch.recounts)
    target.files.put_back(token, switch.moves)
    if switch.held and target.files.exists(switch.held):
        _let_settle(target)
        target.files.remove(switch.held)
    if undoes:
        target.files.hand_over(token, "new", undoes, "old")


def _hangs_as_before(target: Site, switch: Switch) -> bool:
    """Whether all that is to be put on the tables again is on them, and nothing of what came."""
    database = target.database
    names = {item.name for item in (*switch.detach, *switch.attach) if item.kind == "view"}
    tables = [e.live for e in switch.exchanges if e.outgoing is not None]
    found = database.attachments(tables, [view for view in database.views() if view in names])
    if any(item.kind == "routine" for item in (*switch.detach, *switch.attach)):
        found += database.routines()
    wanted = {item for item in switch.detach if item.kind != "sequence"}  # which goes on counting
    known = {(item.kind, item.name) for item in wanted}
    came = {(item.kind, item.name) for item in switch.attach} - known
    found = own_again(found)
    return wanted <= set(found) and not {(item.kind, item.name) for item in found} & came


@contextlib.contextmanager
def held_off(target: Site, holds: tuple[str, str] | None) -> Iterator[None]:
    """Put the site into its CMS's maintenance state while the context lasts.

    Where it fails, or the process is killed, the state lasts until the run is taken back: what a
    visitor gets is old or new, never a mixture.
    """
    if holds is None:
        yield
        return
    target.files.put(holds[0], holds[1].replace("{now}", str(int(time.time()))).encode())
    wait(_GRACE)  # pages that are being made are let finish
    yield
    _let_settle(target)
    target.files.remove(holds[0])


def _let_settle(target: Site) -> None:
    """Wait until the runtime can no longer run single files as they were."""
    runtime = target.definition.runtime
    wait(runtime.settles if runtime is not None else 0)
