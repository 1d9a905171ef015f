"""A run's progress: bars at a terminal, else a plain line every few seconds."""

from __future__ import annotations

import time
from types import TracebackType

from rich.progress import (
    BarColumn,
    DownloadColumn,
    Progress,
    TaskID,
    TextColumn,
    TimeRemainingColumn,
    TransferSpeedColumn,
)

from ..sync import Event, FileMoved, Moved, Phase, Started, TableDone
from .console import Out, number, size

_EVERY = 5.0
_PHASES = {
    "look": "reading",
    "tables": "filling hidden tables",
    "files": "staging files",
    "swap": "swapping everything in at once",
}


class Bars:
    """A listener for a terminal: the whole, and the table that is under way."""

    def __init__(self, out: Out) -> None:
        self._progress = Progress(
            TextColumn("{task.description}", table_column=None),
            BarColumn(bar_width=30),
            TextColumn("{task.percentage:>3.0f} %"),
            DownloadColumn(),
            TransferSpeedColumn(),
            TimeRemainingColumn(compact=True),
            console=out.messages,
            transient=False,
        )
        self._whole: TaskID | None = None
        self._tables: dict[str, TaskID] = {}
        self._sizes = 0

    def __enter__(self) -> Bars:
        self._progress.start()
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._progress.stop()

    def __call__(self, event: Event) -> None:
        progress = self._progress
        if isinstance(event, Started):
            self._whole = progress.add_task(
                "all", total=event.table_bytes + event.file_bytes or None
            )
        elif self._whole is None:
            return
        elif isinstance(event, Moved):
            if event.table not in self._tables:
                self._tables[event.table] = progress.add_task(f"  {event.table}", total=None)
            progress.advance(self._tables[event.table], event.size)
            progress.advance(self._whole, event.size)
        elif isinstance(event, TableDone):
            task = self._tables.pop(event.table, None)
            if task is not None:
                progress.remove_task(task)
        elif isinstance(event, FileMoved):
            progress.advance(self._whole, event.size)
        elif isinstance(event, Phase):
            progress.update(self._whole, description=_PHASES.get(event.name, event.name))
            if event.name == "swap":
                done = next(t.completed for t in progress.tasks if t.id == self._whole)
                # Sizes are the server's estimates; what has come is what there was.
                progress.update(self._whole, total=done)


class Lines:
    """A listener without a terminal."""

    def __init__(self, out: Out) -> None:
        self._out = out
        self._last = time.monotonic()
        self._rows = self._bytes = self._files = 0

    def __enter__(self) -> Lines:
        return self

    def __exit__(self, *_: object) -> None:
        return

    def __call__(self, event: Event) -> None:
        if isinstance(event, Moved):
            self._rows += event.rows
            self._bytes += event.size
        elif isinstance(event, FileMoved):
            self._files += 1
            self._bytes += event.size
        if time.monotonic() - self._last >= _EVERY:
            self._last = time.monotonic()
            self._out.say(
                f"{number(self._rows)} rows, {number(self._files)} files, {size(self._bytes)}"
            )


def listener(out: Out) -> Bars | Lines:
    """The listener that fits where stderr leads."""
    if out.messages.is_terminal and not out.quiet and not out.json:
        return Bars(out)
    return Lines(out)
