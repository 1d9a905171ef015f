"""Progress as JSON lines on standard error, for programs that watch a long run (--events).

Each line is one object: ``event`` names its kind, ``at`` is the time. A line comes with each phase and table, and,
while something moves, at most twice a second.
"""

from __future__ import annotations

import json
import sys
import time
from datetime import datetime
from typing import Any

from ..jobs import Event, FileMoved, Moved, Phase, Slowed, Started, TableDone, TableStarted, Waiting
from .outlets import as_json

_EVERY = 0.5  # seconds


class EventLines:
    """A listener. Rows, files and bytes are what has moved since the last ``started``."""

    def __init__(self) -> None:
        self._of = 0
        self._begin()

    def _begin(self) -> None:
        self._rows = self._files = self._bytes = 0
        self._since = self._told = time.monotonic()
        self._at = ""

    def __enter__(self) -> EventLines:
        return self

    def __exit__(self, *_: object) -> None:
        if self._rows or self._files:
            self._moved()

    def __call__(self, event: Event) -> None:
        if isinstance(event, Started):
            self._begin()
            self._of = event.table_bytes + event.file_bytes
            tell("started", rows=event.rows, files=event.files, bytes=self._of)
        elif isinstance(event, Phase):
            tell("phase", name=event.name)
        elif isinstance(event, TableStarted):
            self._at = event.table
            tell("table", table=event.table, rows=event.rows)
        elif isinstance(event, TableDone):
            tell("table-done", table=event.table, rows=event.rows)
        elif isinstance(event, Waiting):
            tell("waiting", reason=event.reason, seconds=event.seconds)
        elif isinstance(event, Slowed):
            tell("slowed", load=event.load)
        elif isinstance(event, (Moved, FileMoved)):
            if isinstance(event, Moved):
                self._at = event.table
                self._rows += event.rows
            else:
                self._at = event.path
                self._files += event.files
            self._bytes += event.size
            if time.monotonic() - self._told >= _EVERY:
                self._moved()

    def _moved(self) -> None:
        self._told = time.monotonic()
        tell(
            "moved", item=self._at, rows=self._rows, files=self._files, bytes=self._bytes,
            of_bytes=max(self._of, self._bytes), seconds=round(self._told - self._since, 1),
        )  # fmt: skip


def tell(event: str, **data: Any) -> None:
    """Write one line."""
    line = {"event": event, "at": datetime.now().astimezone().isoformat(timespec="milliseconds")}
    print(as_json(json.dumps({**line, **data}, ensure_ascii=False)), file=sys.stderr, flush=True)
