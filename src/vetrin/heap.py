"""Memory that was freed, back to the system: the C library of Linux keeps it, for each thread apart, where a small
block that is still needed lies behind it, so threads that hand large blocks to one another take more and more."""

from __future__ import annotations

import contextlib
import ctypes


def give_back() -> None:
    """By malloc_trim(3), where there is one. It takes some milliseconds."""
    with contextlib.suppress(AttributeError, OSError):
        ctypes.CDLL(None).malloc_trim(0)
