"""Two names in one step, and everything to disk: what Python's own library has no call for."""

from __future__ import annotations

import contextlib
import ctypes
import os
import sys
from functools import cache
from typing import Any

_AT_FDCWD = -100
_RENAME_EXCHANGE = 2  # <linux/fs.h>
_SYNC_FILE_RANGE_WRITE = 2  # <linux/fs.h>
_RENAME_SWAP = 2  # <sys/stdio.h> of macOS


@cache
def _library() -> Any:
    return ctypes.CDLL(None, use_errno=True)


def swap_names(one: str, other: str) -> bool:
    """Let two paths of one file system trade places atomically; False where that can not be done.

    By renameat2(2) on Linux and renamex_np(2) on macOS. Some file systems can not; then nothing has
    changed.
    """
    first, second = os.fsencode(one), os.fsencode(other)
    with contextlib.suppress(AttributeError, OSError):
        if sys.platform == "darwin":
            return bool(_library().renamex_np(first, second, _RENAME_SWAP) == 0)
        done = _library().renameat2(_AT_FDCWD, first, _AT_FDCWD, second, _RENAME_EXCHANGE)
        return bool(done == 0)
    return False


def begin_writing(handle: int) -> None:
    """Let the disk begin with what was written to a file, without waiting for it.

    By sync_file_range(2), where there is one; it promises nothing, but there is less left to wait for.
    """
    with contextlib.suppress(AttributeError):
        _library().sync_file_range(
            handle, ctypes.c_int64(0), ctypes.c_int64(0), _SYNC_FILE_RANGE_WRITE
        )


def flush_file_system(folder: str) -> None:
    """Write everything that waits for the disk of ``folder``: one call for any number of files."""
    handle = os.open(folder, os.O_RDONLY)
    try:
        with contextlib.suppress(AttributeError, OSError):
            if _library().syncfs(handle) == 0:
                return
        os.sync()
    finally:
        os.close(handle)
