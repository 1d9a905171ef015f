"""Running the program to be measured, as whoever has it installed runs it."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path


def vetrin(folder: Path, *words: str, codes: tuple[int, ...] = (0,)) -> tuple[float, float]:
    """Run a command in a project, which is to end with one of ``codes``; its seconds and peak megabytes."""
    # An installed program has its bytecode; without it, each start would be a compilation.
    environ = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
    start = time.perf_counter()
    process = subprocess.Popen(
        [sys.executable, "-m", "vetrin", *words, "--quiet"],
        cwd=folder, stdout=subprocess.DEVNULL, env=environ,
    )  # fmt: skip
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode not in codes:
        raise RuntimeError(f"vetrin {' '.join(words)} failed")
    return time.perf_counter() - start, usage.ru_maxrss / 1024


def fresh(folder: Path) -> None:
    """Let a project have no runs and no store.

    They are put away, not removed: ext4 is slow at making files for some seconds after many were removed.
    """
    used = folder / ".vetrin"
    if used.exists():
        used.rename(folder / f".before-{time.monotonic_ns()}")
