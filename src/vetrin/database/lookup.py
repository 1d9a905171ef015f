"""What is known of an engine by its name alone."""

from __future__ import annotations

from collections.abc import Callable

from .contract import Attachment


def quote_of(engine: str) -> Callable[[str], str]:
    """How an engine quotes an identifier."""
    if engine == "sqlite":
        from .sqlite import quote
    else:
        from .mysql.columns import quote
    return quote


def fit_of(engine: str) -> Callable[[Attachment], Attachment]:
    """What hangs on a table, as it may leave or arrive: ``lost`` where it does what no text from outside may."""
    if engine == "sqlite":
        from .sqlite_arriving import fit

        return fit
    from .mysql.arriving import fit as fit_for_servers

    return fit_for_servers


def unfit_table_of(engine: str) -> Callable[[str], str]:
    """What forbids to lay out a table by its definition; empty where nothing."""
    if engine == "sqlite":
        from .sqlite_arriving import unfit_table
    else:
        from .mysql.arriving import unfit_table
    return unfit_table
