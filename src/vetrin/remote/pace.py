"""Holding what goes over a line to a rate."""

from __future__ import annotations

import threading
import time

_SLOW = 12_000_000  # bytes per second below which compressing costs less than it saves


class Pace:
    """Holds the bytes of one connection, in and out together, to a rate in bytes per second.

    A second's worth may go at once. Without a rate nothing is ever held.
    """

    def __init__(self, rate: int | None = None) -> None:
        self.rate = rate
        self.moved = 0  # bytes so far
        self._lock = threading.Lock()
        self._due = time.monotonic()

    def is_slow(self, measured: float) -> bool:
        """True for a line, ``measured`` at so many bytes per second (0: not yet), on which compressing costs less
        than it saves."""
        limits = [rate for rate in (measured, float(self.rate or 0)) if rate]
        return bool(limits) and min(limits) < _SLOW

    def spend(self, count: int) -> None:
        """Wait until ``count`` more bytes may pass."""
        self.moved += (
            count  # a count for people: that threads may lose one another's does not matter
        )
        if not self.rate:
            return
        with self._lock:
            self._due = max(self._due, time.monotonic() - 0.1) + count / self.rate
            wait = self._due - time.monotonic()
        if wait > 0:
            time.sleep(wait)
