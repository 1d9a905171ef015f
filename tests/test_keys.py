"""The key that pauses a transfer, at a real terminal's other end."""

from __future__ import annotations

import os
import pty
import threading
import time
from pathlib import Path

import pytest

from vetrin.cli import keys


def test_p_pauses_and_goes_on(monkeypatch: pytest.MonkeyPatch) -> None:
    ours, theirs = pty.openpty()
    with os.fdopen(theirs) as terminal:
        monkeypatch.setattr(keys.sys, "stdin", terminal)
        with keys.PauseKey() as key:
            assert key.listens
            key.hold()  # nothing was pressed
            os.write(ours, b"xp")
            deadline = time.monotonic() + 5
            while not key.paused and time.monotonic() < deadline:
                time.sleep(0.01)
            assert key.paused
            released = threading.Event()
            waiting = threading.Thread(target=lambda: (key.hold(), released.set()))
            waiting.start()
            assert not released.wait(0.3)
            os.write(ours, b"p")
            assert released.wait(5)
            waiting.join()
    os.close(ours)


def test_without_a_terminal_there_is_no_key() -> None:
    with Path(os.devnull).open() as nothing, pytest.MonkeyPatch.context() as patched:
        patched.setattr(keys.sys, "stdin", nothing)
        with keys.PauseKey() as key:
            assert not key.listens
            key.hold()
