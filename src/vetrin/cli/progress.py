"""A run's progress: bars at a terminal, else a plain line every few seconds."""

from __future__ import annotations

import contextlib
import time
from collections import deque
from collections.abc import Callable, Iterator
from types import TracebackType

from rich.progress import (
    BarColumn,
    Progress,
    TaskID,
    TextColumn,
)

from ..files import printable
from ..jobs import Checking, Event, FileMoved, Moved, Phase, Slowed, Started, TableStarted, Waiting
from .console import Out, number, plural, size
from .event_lines import EventLines
from .keys import PauseKey

_EVERY = 5.0
_DRAWN = 0.1
_PATH = 38
_PHASES = {
    "look": "reading",
    "keep": "keeping what is there",
    "check": "looking at the site",
    "tables": "filling hidden tables",
    "files": "staging files",
    "read tables": "reading tables",
    "read files": "reading files",
    "pack tables": "packing tables",
    "pack files": "packing files",
    "swap": "swapping everything in at once",
}


class Bars:
    """A listener for a terminal: the whole in bytes, and below it the table that is under way, or
    how many files there are."""

    def __init__(self, out: Out) -> None:
        bar = BarColumn(
            bar_width=36, style="track", complete_style="done", finished_style="done",
            pulse_style="done",
        )  # fmt: skip
        self._out = out
        self._progress = Progress(
            TextColumn("{task.description}"),
            bar,
            TextColumn("{task.percentage:>3.0f} %"),
            TextColumn("{task.fields[detail]}"),
            console=out.messages,
        )
        self._whole: TaskID | None = None
        self._table: TaskID | None = None
        self._total = self._done = self._rows = self._of = 0
        self._files = self._all_files = 0
        self._since = self._shown = time.monotonic()
        self._recent: deque[tuple[float, int]] = deque(maxlen=60)
        self._key = PauseKey()
        self._phase = ""

    def __enter__(self) -> Bars:
        self._progress.start()
        self._key.__enter__()
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._key.__exit__(kind, error, trace)
        self._end_table()
        if error is None and self._whole is not None:
            # Sizes are the server's estimates; what has come is what there was.
            done = max(self._done, 1)
            detail = size(self._done)
            self._progress.update(self._whole, total=done, completed=done, detail=detail)
        self._progress.stop()

    def __call__(self, event: Event) -> None:
        progress = self._progress
        if self._key.paused and isinstance(event, (Moved, FileMoved)) and self._whole is not None:
            progress.update(self._whole, description="paused", detail="p goes on")
            self._key.hold()
            self._recent.clear()
            progress.update(self._whole, description=self._phase)
        if isinstance(event, Slowed):
            if self._whole is not None:
                detail = f"the host is busy ({event.load:.1f} for each processor): waiting"
                progress.update(self._whole, detail=detail)
        elif isinstance(event, Waiting):
            self._out.warn(f"{event.reason}; trying again in {event.seconds:g} s")
        elif isinstance(event, Started):
            if self._whole is not None:  # once more, after the connection was lost
                progress.remove_task(self._whole)
                self._end_table()
            self._done = self._files = 0
            self._total = event.table_bytes + event.file_bytes
            self._all_files = event.files
            self._since = time.monotonic()
            self._whole = progress.add_task("", total=self._total or None, detail="")
        elif self._whole is None:
            return
        elif isinstance(event, TableStarted):
            self._rows, self._of = 0, event.rows
            self._end_table()
            self._table = progress.add_task(f"  {event.table}", total=event.rows or 1, detail="")
        elif isinstance(event, Checking):
            if self._table is not None:
                progress.update(self._table, detail="taken before: has it changed since?")
        elif isinstance(event, Moved):
            self._rows += event.rows
            if self._table is not None:
                detail = f"{number(self._rows)} of {plural(max(self._of, self._rows), 'row')}"
                progress.update(self._table, completed=self._rows, detail=detail)
            self._advance(event.size)
        elif isinstance(event, FileMoved):
            self._file(event)
        elif isinstance(event, Phase):
            self._end_table()
            if event.name == "swap":
                self._advance(0)
            self._phase = _PHASES.get(event.name, event.name)
            progress.update(self._whole, description=self._phase)

    def _end_table(self) -> None:
        if self._table is not None:
            self._progress.remove_task(self._table)
            self._table = None

    def _file(self, event: FileMoved) -> None:
        """A file more; there are so many of them that most are not worth a new picture."""
        self._files += event.files
        self._done += event.size
        if time.monotonic() - self._shown < _DRAWN and self._files < self._all_files:
            return
        self._shown = time.monotonic()
        if self._table is None:
            self._table = self._progress.add_task("", total=self._all_files or 1, detail="")
        path = event.path if len(event.path) <= _PATH else "…" + event.path[-_PATH:]
        self._progress.update(
            self._table, completed=self._files, description=f"  {printable(path)}",
            detail=f"{number(self._files)} of {plural(self._all_files, 'file')}",
        )  # fmt: skip
        self._advance(0)

    def _advance(self, count: int) -> None:
        self._done += count
        rate = self._rate()
        detail = f"{size(self._done)} of about {size(max(self._total, self._done))}"
        if rate:
            detail += (
                f", {size(int(rate))}/s, {clock(max(self._total - self._done, 0) / rate)} left"
            )
        if self._key.listens and self._out.messages.width >= 110:
            detail += " · p pauses"
        if self._whole is not None:
            self._progress.update(self._whole, completed=self._done, detail=detail)

    def _rate(self) -> float:
        """Bytes per second of late: what counts for the time that is left."""
        now = time.monotonic()
        if not self._recent or now - self._recent[-1][0] > 0.25:
            self._recent.append((now, self._done))
        begun, then = self._recent[0]
        return (self._done - then) / (now - begun) if now - begun > 1 else 0.0


def clock(seconds: float) -> str:
    """“0:07”, “12:30”, “3:05:00”."""
    minutes, rest = divmod(int(seconds), 60)
    hours, minutes = divmod(minutes, 60)
    return f"{hours}:{minutes:02d}:{rest:02d}" if hours else f"{minutes}:{rest:02d}"


class Lines:
    """A listener without a terminal."""

    def __init__(self, out: Out) -> None:
        self._out = out
        self._last = time.monotonic()
        self._rows = self._bytes = self._files = self._total = 0
        self._since = time.monotonic()
        self._at = ""

    def __enter__(self) -> Lines:
        return self

    def __exit__(self, *_: object) -> None:
        return

    def __call__(self, event: Event) -> None:
        if isinstance(event, Waiting):
            self._out.warn(f"{event.reason}; trying again in {event.seconds:g} s")
        elif isinstance(event, Started):
            self._total = event.table_bytes + event.file_bytes
            self._since = time.monotonic()
            self._rows = self._bytes = self._files = 0
        elif isinstance(event, TableStarted):
            self._at = event.table
        elif isinstance(event, Moved):
            self._rows += event.rows
            self._bytes += event.size
        elif isinstance(event, FileMoved):
            self._at = printable(event.path)
            self._files += event.files
            self._bytes += event.size
        if time.monotonic() - self._last >= _EVERY:
            self._last = time.monotonic()
            rate = self._bytes / max(time.monotonic() - self._since, 0.001)
            left = max(self._total - self._bytes, 0) / rate if rate else 0.0
            self._out.say(
                f"{self._at}: {number(self._rows)} rows, {number(self._files)} files, {size(self._bytes)} of about "
                f"{size(max(self._total, self._bytes))}, {size(int(rate))}/s, "
                f"{clock(left)} left"
            )


def listener(out: Out) -> Bars | Lines | EventLines:
    """The listener that is asked for, or else fits where stderr leads."""
    if out.events:
        return EventLines()
    if out.messages.is_terminal and not out.quiet and not out.json:
        return Bars(out)
    return Lines(out)


@contextlib.contextmanager
def told(out: Out) -> Iterator[Callable[[str], None]]:
    """Say what is being read: on one line at a terminal, not at all elsewhere."""
    if out.quiet or out.json or out.events or not out.messages.is_terminal:
        yield lambda text: None
        return
    with out.messages.status("reading …") as status:
        yield lambda text: status.update(f"reading {text} …")
