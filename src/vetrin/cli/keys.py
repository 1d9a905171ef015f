"""The one key that a running transfer listens to."""

from __future__ import annotations

import contextlib
import os
import select
import sys
import threading
import time
from types import TracebackType


class PauseKey:
    """``p`` pauses and goes on, while the context lasts and where there is a terminal.

    Whoever works calls ``hold`` between two steps; it returns when it may go on.
    """

    def __init__(self) -> None:
        self._paused = threading.Event()
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None
        self._before: object = None
        self.held = 0.0  # seconds

    @property
    def paused(self) -> bool:
        return self._paused.is_set()

    @property
    def listens(self) -> bool:
        return self._thread is not None

    def __enter__(self) -> PauseKey:
        with contextlib.suppress(ImportError, OSError, ValueError):
            # Only where there is a terminal.
            import termios
            import tty

            handle = sys.stdin.fileno()
            if os.isatty(handle):
                self._before = termios.tcgetattr(handle)
                tty.setcbreak(handle)
                self._thread = threading.Thread(target=self._listen, args=(handle,), daemon=True)
                self._thread.start()
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._stop.set()
        if self._thread is not None:
            # Only where there is a terminal.
            import termios

            self._thread.join(1)
            termios.tcsetattr(sys.stdin.fileno(), termios.TCSADRAIN, self._before)  # type: ignore[arg-type]

    def hold(self) -> None:
        begun = time.monotonic()
        while self._paused.is_set() and not self._stop.is_set():
            time.sleep(0.1)
        if time.monotonic() - begun > 0.05:
            self.held += time.monotonic() - begun

    def _listen(self, handle: int) -> None:
        while not self._stop.is_set():
            if select.select([handle], [], [], 0.2)[0] and os.read(handle, 1) in (b"p", b"P"):
                if self._paused.is_set():
                    self._paused.clear()
                else:
                    self._paused.set()
