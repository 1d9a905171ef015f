"""The engines, and what other rooms have to know of each. A further one is a package beside this file, and a line in
``ENGINES``."""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from importlib import import_module
from typing import Any, Protocol

from msgspec import Struct

from ..cms import Place
from .base import Attachment, Database, ForeignKey
from .page_prints import PagePrints


class Transport(Protocol):
    """As much of another machine as an engine needs to get at a database there."""

    @property
    def resolves_names(self) -> bool:
        """True where "localhost", as the host of a database, is what the site itself means by it."""

    @property
    def tells_prints(self) -> bool:
        """True where a connection with ``prints`` can tell the prints of rows in place of them."""

    def dial(
        self, name: str, port: int, socket: str | None, *, bulk: bool = False, prints: bool = False
    ) -> Any:
        """A connection to a port or a socket as seen from there."""

    def sqlite_opener(self) -> Any:
        """What opens SQLite files there (``sqlite.database.Opener``)."""


@dataclass(frozen=True)
class Wanted:
    """A database to be opened, as a site's configuration and its project describe it.

    ``name`` is the server's name of it, or the path of its file, absolute or from ``root``, the site's folder on
    whatever machine; ``remote`` is that machine where it is not this one. ``host_port_socket`` is as the site
    says it, ``options`` are those of ``[environment.NAME.database]``. With ``may_be_missing``, what does not exist
    yet is opened as an empty one; ``creator_password`` is that of the account which may make it. ``prints`` are what
    its pages looked like.
    """

    name: str
    root: Place
    remote: Transport | None
    host_port_socket: tuple[str, int | None, str | None]
    user: str
    password: str = field(repr=False)
    creator_password: Callable[[], str] = field(repr=False)
    options: Mapping[str, str]
    read_only: bool
    may_be_missing: bool
    prints: PagePrints | None = None


class Engine(Struct, frozen=True):
    """An engine by its name, and what it can do.

    ``in_file``: the data are a file, without server or account. ``any_type``: a column holds values of any type, so
    each stored cell has to tell its own. ``writes_sql``: its data can be written as an SQL file for servers.
    ``renames_as_text``: a table's definition is given another name before it is adapted, not by it.
    ``double_quoted_text``: in its statements, what stands between double quotes is a text, not a name. Its
    package is ``database/NAME``; ``quoting``, ``incoming`` and ``connecting`` are the modules there of ``quote``,
    ``fit`` and ``was_lost``, ``opening`` is that of ``open_database``, and ``declared_keys`` that of the function of
    its name; each is loaded when it is first needed.
    """

    name: str
    in_file: bool = False
    any_type: bool = False
    writes_sql: bool = False
    renames_as_text: bool = False
    double_quoted_text: bool = False
    quoting: str = ""
    incoming: str = ""
    connecting: str = ""

    def open(self, wanted: Wanted) -> Database:
        """Connect to a database.

        Raises:
            DatabaseUnreachable: it does not answer, is not there, or refuses the account.
        """
        found: Database = self._module("opening").open_database(wanted)
        return found

    def quote(self, name: str) -> str:
        """An identifier as it is written in a statement."""
        return str(self._module(self.quoting).quote(name))

    @property
    def fit(self) -> Callable[[Attachment], Attachment]:
        """What hangs on a table, as it may leave or arrive: ``lost`` where it does what no text from outside may."""
        found: Callable[[Attachment], Attachment] = self._module(self.incoming).fit
        return found

    def declared_keys(
        self, schemas: Mapping[str, str], attachments: Sequence[Attachment]
    ) -> list[ForeignKey]:
        """The foreign keys of tables that are not in a database, by their schemas and what hangs on them."""
        found: list[ForeignKey] = self._module("declared_keys").declared_keys(schemas, attachments)
        return found

    def was_lost(self, error: BaseException) -> bool:
        """True for an error of this engine that says that a connection to a database is lost."""
        module = sys.modules.get(f"{__package__}.{self.name}.{self.connecting}")
        return module is not None and bool(
            module.was_lost(error)
        )  # what was never loaded raised nothing

    def _module(self, name: str) -> Any:
        if not name or not self.quoting:
            raise LookupError(f"{self.name!r} is no engine")
        return import_module(f"{__package__}.{self.name}.{name}")


ENGINES = {
    engine.name: engine
    for engine in (
        Engine(
            "mysql", writes_sql=True, double_quoted_text=True,
            quoting="columns", incoming="incoming_sql", connecting="connect",
        ),
        Engine(
            "sqlite", in_file=True, any_type=True, renames_as_text=True,
            quoting="names", incoming="incoming_sql", connecting="database",
        ),
    )
}  # fmt: skip


def engine_of(name: str) -> Engine:
    """The engine of this name; one that can do nothing for a site without a database."""
    return ENGINES.get(name, Engine(name))
