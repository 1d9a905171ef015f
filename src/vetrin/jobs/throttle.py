"""Leaving a live host room to breathe."""

from __future__ import annotations

import time

from ..remote import RemoteHost
from .events import Event, FileMoved, Listener, Moved, Slowed

ASKED = 5.0  # seconds between two looks at the host's load
_BUSY = 3.0  # processes that wait for each processor; beyond that we step back
STEP = 2.0  # seconds of stepping back before the next look
_LONGEST = 60.0  # seconds after which we go on for a while all the same


class Courtesy:
    """A listener that passes everything on, and lets a transfer wait while the host is busy.

    The load is what the host itself says (the average over one minute), asked through its helper.
    """

    def __init__(self, listener: Listener, remote_host: RemoteHost) -> None:
        self._listener = listener
        self._remote_host = remote_host
        self._asked = time.monotonic()

    def __call__(self, event: Event) -> None:
        if isinstance(event, (Moved, FileMoved)) and time.monotonic() - self._asked > ASKED:
            begun = time.monotonic()
            while (
                load := self._remote_host.load()
            ) > _BUSY and time.monotonic() - begun < _LONGEST:
                self._listener(Slowed(load))
                time.sleep(STEP)
            self._asked = time.monotonic()
        self._listener(event)
