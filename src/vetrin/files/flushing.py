"""Everything to disk: what Python's own library has no call for."""

from __future__ import annotations

import contextlib
import ctypes
import os
from functools import cache
from typing import Any

_SYNC_FILE_RANGE_WRITE = 2  # <linux/fs.h>


@cache
def _library() -> Any:
    return ctypes.CDLL(None, use_errno=True)


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
