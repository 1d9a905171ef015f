"""What is known of an engine by its name alone."""

from __future__ import annotations

from collections.abc import Callable


def quote_of(engine: str) -> Callable[[str], str]:
    """How an engine quotes an identifier."""
    if engine == "sqlite":
        from .sqlite import quote
    else:
        from .mysql.columns import quote
    return quote
