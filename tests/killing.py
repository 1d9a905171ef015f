"""Work in a child process that is killed at a step of its writing."""

from __future__ import annotations

import os
import signal
from collections.abc import Callable
from pathlib import Path

from vetrin.files import LocalTree
from vetrin.files.open_folders import Below
from vetrin.jobs.journal import Run


def count_down(steps: int) -> Callable[[], None]:
    left = [steps]

    def step() -> None:
        if left[0] == 0:
            os.kill(os.getpid(), signal.SIGKILL)
        left[0] -= 1

    return step


def wrap(owner: type, name: str, step: Callable[[], None]) -> None:
    """Die before or after any call of a method that writes."""
    real = getattr(owner, name)

    def wrapped(*args: object, **more: object) -> object:
        step()
        result = real(*args, **more)
        step()
        return result

    setattr(owner, name, wrapped)


def killed_after(
    steps: int, work: Callable[[], object], *, engine: type, methods: list[str]
) -> bool:
    """Run ``work`` in a child that is killed at its ``steps``-th step; True if it was."""
    child = os.fork()
    if child == 0:
        try:
            step = count_down(steps)
            wrap(Run, "write", step)
            wrap(LocalTree, "stage", step)
            wrap(Path, "rename", step)
            wrap(LocalTree, "put", step)
            wrap(LocalTree, "remove", step)
            wrap(Below, "rename", step)
            wrap(Below, "swap", step)
            for method in methods:
                wrap(engine, method, step)
            work()
        except BaseException:
            os._exit(7)
        os._exit(0)
    _, status = os.waitpid(child, 0)
    if os.WIFSIGNALED(status):
        return True
    assert os.WEXITSTATUS(status) == 0
    return False
