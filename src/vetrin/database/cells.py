"""Taking rows apart: see ``row_codec.py`` for the form of their records."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any


def take_cells(body: bytes, append: Callable[[Any], object]) -> None:
    """Take the cells of records apart."""
    at, stop = 0, len(body)
    while at < stop:
        length = body[at]
        at += 1
        if length < 251:
            end = at + length
        elif length == 251:
            append(None)
            continue
        else:
            width = 2 if length == 252 else 3 if length == 253 else 8
            end = at + width
            at, end = end, end + int.from_bytes(body[at:end], "little")
        append(body[at:end])
        at = end
