"""This process: what it may use, and what tells others of its machine whether it is still there.

Only those can see the latter which share its space of process numbers: a container has its own.
"""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from .spot import this_machine


def this_process() -> dict[str, Any]:
    """What tells this process from all others, for a JSON document."""
    return {
        "machine": this_machine(),
        "space": _space(),
        "process": os.getpid(),
        "started": _started(os.getpid()),
    }


def is_near(told: Mapping[str, Any]) -> bool:
    """Whether ``is_gone`` can tell of a process, by what ``this_process`` said there; anything may stand in it."""
    return told.get("machine") == this_machine() and told.get("space", "") == _space()


def is_gone(told: Mapping[str, Any]) -> bool:
    """True for a process near by that has ended for certain, also where another one has its number by now."""
    number = told.get("process")
    if not is_near(told) or not isinstance(number, int) or number <= 0:
        return False
    try:
        os.kill(number, 0)
    except (ProcessLookupError, OverflowError):
        return True
    except PermissionError:
        pass
    return bool(told.get("started", "") != _started(number))


def processors() -> int:
    """How many processors this process may use."""
    if hasattr(os, "sched_getaffinity"):
        return len(os.sched_getaffinity(0))
    return os.cpu_count() or 1


def _space() -> str:
    """The space that a process number of this process is from; the same number in another one is another process."""
    try:
        return str(Path("/proc/self/ns/pid").readlink())
    except OSError:
        return ""


def _started(process: int) -> str:
    """When a process began, in ticks since the machine's start; empty where that is not told."""
    try:
        return Path(f"/proc/{process}/stat").read_text("ascii").rpartition(")")[2].split()[19]
    except (OSError, IndexError):
        return ""
