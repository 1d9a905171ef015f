"""The engines, and what other rooms have to know of each. A further one is a package beside this file, and a line in
``ENGINES``."""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import dataclass
from importlib import import_module
from typing import Any

from .base import Attachment


@dataclass(frozen=True)
class Engine:
    """An engine by its name, and what it can do.

    ``in_file``: the data are a file, without server or account. ``any_type``: a column holds values of any type, so
    each stored cell has to tell its own. ``writes_sql``: its data can be written as an SQL file for servers.
    ``renames_as_text``: a table's definition is given another name before it is adapted, not by it. ``quoting``,
    ``incoming`` and ``connecting`` are the modules of ``quote``, ``fit`` and ``was_lost``, loaded when they are first
    needed.
    """

    name: str
    in_file: bool = False
    any_type: bool = False
    writes_sql: bool = False
    renames_as_text: bool = False
    quoting: str = ""
    incoming: str = ""
    connecting: str = ""

    def quote(self, name: str) -> str:
        """An identifier as it is written in a statement."""
        return str(self._module(self.quoting).quote(name))

    @property
    def fit(self) -> Callable[[Attachment], Attachment]:
        """What hangs on a table, as it may leave or arrive: ``lost`` where it does what no text from outside may."""
        found: Callable[[Attachment], Attachment] = self._module(self.incoming).fit
        return found

    def was_lost(self, error: BaseException) -> bool:
        """True for an error of this engine that says that a connection to a database is lost."""
        module = sys.modules.get(f"{__package__}.{self.connecting}")
        return module is not None and bool(
            module.was_lost(error)
        )  # what was never loaded raised nothing

    def _module(self, name: str) -> Any:
        if not name:
            raise LookupError(f"{self.name!r} is no engine")
        return import_module(f"{__package__}.{name}")


ENGINES = {
    engine.name: engine
    for engine in (
        Engine(
            "mysql", writes_sql=True,
            quoting="mysql.columns", incoming="mysql.incoming_sql", connecting="mysql.connect",
        ),
        Engine(
            "sqlite", in_file=True, any_type=True, renames_as_text=True,
            quoting="sqlite.database", incoming="sqlite.incoming_sql", connecting="sqlite.database",
        ),
    )
}  # fmt: skip


def engine_of(name: str) -> Engine:
    """The engine of this name; one that can do nothing for a site without a database."""
    return ENGINES.get(name, Engine(name))
