"""The durable record of runs: ``.vetrin/runs/NUMBER/journal.jsonl`` in the project.

Each line is one event, written and flushed to disk before the next step begins (see ``append_log``, which
says what it survives). From the events, ``Run`` tells how far a run came, what it parked and how to take it
back. A line that is no event is passed over.
"""

from __future__ import annotations

import contextlib
import secrets
from collections.abc import Collection, Iterator
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any

from ..append_log import AppendLog, Events, flush_folder
from ..errors import JobError, NewerLog
from ..files import own_folder
from ..site import keep_root
from .switch import Switch

STOPPED, RESUMED = "stopped", "resumed"
PLANNED, SWAPPING, DONE, FAILED, TAKEN_BACK = "planned", "swapping", "done", "failed", "taken-back"
TRANSFERS = ("pull", "push", "restore", "import")
_ENDED = (DONE, FAILED, TAKEN_BACK)
_VERSION = 1
_LONG = 1 << 14  # bytes
_SWITCHES = "switches"  # in the outline of a line: whether it tells of anything
_ANYTHING = [
    f'"{name}": [{kind}'.encode()
    for name in ("exchanges", "moves", "patches")
    for kind in ("{", "[")
]
_read: dict[Path, tuple[tuple[int, int, int], Events]] = {}  # of journals, by their size and time


@dataclass
class Run:
    """One run as its journal tells it.

    ``stage`` is the last event that says how far it came: planned (hidden tables and staged files
    may exist), swapping (the swap may or may not have happened), done, failed or taken-back
    (nothing of it is left). ``build`` is what was pushed, ``held`` the file that held visitors off
    during the swap, ``checked`` how the last check of the environment with it went. ``signature`` is the
    same for runs that do the same, ``command`` the words to go on with this one. ``saved`` and ``baseline`` are
    snapshots: of what was replaced, and of what came. ``root`` and ``database`` tell which ones it wrote to
    (see ``identity``), ``path`` and ``address`` where that root was then and at what address, ``site`` how the site
    there was configured (nothing secret), ``log_version`` which Vetrin wrote its journal.
    """

    number: int
    folder: Path
    token: str = ""
    kind: str = ""
    source: str = ""
    target: str = ""
    started: str = ""
    ended: str = ""
    stage: str = PLANNED
    undoes: int | None = None
    undone_by: int | None = None
    dropped: bool = False
    error: str = ""
    parts: tuple[str, ...] = ()
    build: dict[str, Any] = field(default_factory=dict)
    checked: dict[str, Any] = field(default_factory=dict)
    took: dict[str, Any] = field(default_factory=dict)
    gist: dict[str, Any] = field(default_factory=dict)  # of its plan
    report: dict[str, Any] = field(default_factory=dict)
    signature: str = ""
    command: tuple[str, ...] = ()
    stopped: str = ""
    resumed: bool = False
    saved: str = ""
    baseline: str = ""
    root: str = ""
    path: str = ""
    address: str = ""
    database: str = ""
    site: dict[str, str] = field(default_factory=dict)
    log_version: int = _VERSION
    handed_over: bool = False  # by this process: the switch goes on where the target is
    _switch: Switch | None = field(default_factory=Switch)  # None where it is still to be read
    _switches: bool = False  # where it is still to be read: there is something in it

    @property
    def can_go_on(self) -> bool:
        """True for a transfer that ended before its swap: what has arrived waits beside the target."""
        return self.stage == PLANNED and bool(self.signature)

    @property
    def unfinished(self) -> bool:
        return self.stage in (PLANNED, SWAPPING)

    @property
    def half(self) -> bool:
        """True for a run that may have left its target half old and half new."""
        return self.stage == SWAPPING

    @property
    def changed(self) -> bool:
        """True if it replaced, brought or removed anything."""
        return self._switches if self._switch is None else not self._switch.nothing

    @property
    def switch(self) -> Switch:
        """What the run exchanges. It may tell of a hundred thousand files, so it is read where it is asked for."""
        if self._switch is None:
            lines = (line for line in self.log.read().items if line.get("event") == SWAPPING)
            *_, last = lines
            self._switch = Switch.of_json(last)
        return self._switch

    @property
    def can_be_undone(self) -> bool:
        there = self.stage == DONE and not self.dropped and self.undone_by is None
        return there and self.changed

    @property
    def log(self) -> AppendLog:
        return AppendLog(self.folder / "journal.jsonl", "journal", _VERSION)

    def write(self, event: str, **values: Any) -> None:
        """Record an event durably and apply it to this object.

        Raises:
            OSError: it could not be written; nothing of it is on record.
        """
        line = {"event": event, "at": _now(), **values}
        self.log.append(line)
        self._apply(line)

    def read(self) -> None:
        """Apply all that is on record; what is no event is passed over.

        Raises:
            JobError: a newer Vetrin wrote it.
        """
        events = _events(self.log)
        self.log_version = events.version
        for line in events.items:
            with contextlib.suppress(KeyError, TypeError, ValueError, AttributeError):
                self._apply(line)

    def _apply(self, line: dict[str, Any]) -> None:
        event = line["event"]
        if event == PLANNED:
            parts = tuple(line.get("parts") or ("data", "media"))
            self.kind, self.source, self.target = line["kind"], line["source"], line["target"]
            self.started, self.undoes = line["at"], line.get("undoes")
            self.parts = parts
            self.build = line.get("build") or {}
            self.signature = line.get("signature") or ""
            self.command = tuple(line.get("command") or ())
            self.root, self.database = line.get("root") or "", line.get("database") or ""
            self.path = line.get("path") or ""
            self.address = str(line.get("address") or "")
            self.site = dict(line.get("site") or {})
            self.gist = dict(line.get("gist") or {})
            self.token = line["token"]
        if event == SWAPPING:
            told = _SWITCHES in line
            self._switch = None if told else Switch.of_json(line)
            self._switches = bool(told and line[_SWITCHES])
        if event in (SWAPPING, *_ENDED):
            self.stage = event
        if event in _ENDED:
            self.ended = line["at"]
            self.report = line.get("report", self.report)
            self.error = line.get("error", self.error)
        if event in (STOPPED, RESUMED):
            self.stopped = line["at"] if event == STOPPED else ""
            self.error = line.get("error", "")
        if event == "undone":
            self.undone_by = line["by"]
        if event == "saved":
            self.saved = line["snapshot"]
        if event == "baseline":
            self.baseline = line["snapshot"]
        if event == "took":
            self.took = {key: line.get(key) for key in ("seconds", "bytes", "repeat")}
        if event == "dropped":
            self.dropped = True
        if event == "checked":
            self.checked = {"good": line["good"], "findings": line["findings"], "at": line["at"]}


def _outline(line: bytes) -> dict[str, Any] | None:
    """What stands for a long line that tells what is exchanged; None for any other."""
    if len(line) < _LONG or not line.startswith(b'{"event": "swapping", ') or line[-1:] != b"}":
        return None
    # Within a text there would be a backslash before these quotation marks.
    switches = any(mark in line for mark in _ANYTHING)
    return {"event": SWAPPING, _SWITCHES: switches}


def _events(log: AppendLog) -> Events:
    """The events of a run. A command asks for those of all runs many times, and most never change again.

    Raises:
        JobError: a newer Vetrin wrote them.
    """
    try:
        about = log.path.stat()
        stamp = about.st_size, about.st_mtime_ns, about.st_ino
    except OSError:
        stamp = None
    if stamp is None or _read.get(log.path, (None,))[0] != stamp:
        try:
            events = log.read(_outline)
        except NewerLog as error:
            raise JobError(str(error), "use that version for this project") from error
        if stamp is None:
            return events
        _read[log.path] = stamp, events
    return _read[log.path][1]


def _now() -> str:
    return datetime.now().astimezone().isoformat(timespec="seconds")


class Journals:
    """All runs of a project."""

    def __init__(self, state: Path) -> None:
        self._folder = state / "runs"
        self.state = state

    def begin(
        self, kind: str, source: str, target: str, undoes: int | None = None, **more: Any
    ) -> Run:
        """Make the journal of a new run, and its first entry; ``more`` are parts and build."""
        own_folder(self.state.parent)
        if not self._folder.is_dir():
            self._folder.mkdir(exist_ok=True)
            flush_folder(self.state)
        number = max((run.number for run in self.runs()), default=0)
        while True:
            number += 1
            folder = self._folder / f"{number:04d}"
            try:
                folder.mkdir()
            except FileExistsError:
                continue
            break
        if more.get("path"):
            keep_root(self.state, target, more["path"])
        run = Run(number, folder)
        run.write(
            PLANNED,
            token=secrets.token_hex(4),
            kind=kind,
            source=source,
            target=target,
            undoes=undoes,
            **more,
        )
        return run

    def runs(self) -> Iterator[Run]:
        """All runs, oldest first."""
        if not self._folder.is_dir():
            return
        for folder in sorted(self._folder.iterdir()):
            if not folder.name.isdigit():
                continue
            run = Run(int(folder.name), folder)
            run.read()
            if run.token:
                yield run

    def numbered(self, number: int | None) -> Run | None:
        """The run of this number; None where there is none."""
        return next((run for run in self.runs() if run.number == number), None)

    def of(self, environment: str) -> list[Run]:
        """The runs that wrote to an environment, newest first."""
        return [run for run in self.runs() if run.target == environment][::-1]

    def last_transfer(self, environment: str, part: str | None = None) -> Run | None:
        """The transfer whose content (of ``part``) the environment holds now, if one is known."""
        for run in self.standing(environment):
            if part is None or part in run.parts:
                return run
        return None

    def last_of(self, kind: str, source: str, target: str) -> Run | None:
        """The last run of a kind between two environments that came to its end."""
        for run in self.of(target):
            if run.stage == DONE and (run.kind, run.source) == (kind, source):
                return run
        return None

    def baseline(self, source: str, target: str) -> str:
        """The ID of the baseline of the last transfer between two environments that has one."""
        for run in self.standing(target):
            if run.source == source and run.baseline:
                return run.baseline
        return ""

    def standing(self, environment: str, kinds: Collection[str] = TRANSFERS) -> Iterator[Run]:
        """The transfers into an environment, newest first; or runs of other ``kinds``.

        An undone run does not count, and an undone undo counts as what it brought back. One that found nothing to do
        rests on the run before it. A change in place does not alter where the content came from.
        """
        skipped: set[int] = set()
        resting: list[Run] = []
        for run in self.of(environment):
            if run.stage != DONE:
                continue
            if run.number in skipped:
                resting = []
                continue
            if run.changed:
                yield from resting
                resting = []
            if run.kind == "undo" and run.undoes is not None:
                skipped.add(run.undoes)
                continue
            if run.kind in kinds:
                resting.append(run)
                if run.changed:
                    yield resting.pop()
        yield from resting

    def build_on(self, environment: str) -> Run | None:
        """The push whose build an environment holds now, as far as is known."""
        run = self.last_transfer(environment, "code")
        return run if run is not None and run.build else None

    def builds_of(self, environment: str) -> list[str]:
        """The fingerprints of the build that an environment holds, and of what its last push replaced."""
        pushes = [run for run in self.standing(environment) if run.build][:2]
        found = [str(run.build["fingerprint"]) for run in pushes]
        replaced = pushes[0].report.get("kept_build") if pushes else None
        return [*found, *([replaced] if replaced else [])]

    def proven(self, fingerprint: str, environments: Collection[str]) -> Run | None:
        """The last checked push of a build to one of these environments, if nothing was found."""
        checked = [
            run
            for run in self.runs()
            if run.target in environments
            and run.build.get("fingerprint") == fingerprint
            and run.checked
        ]
        return checked[-1] if checked and checked[-1].checked["good"] else None
