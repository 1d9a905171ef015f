"""An environment that is open: its files, its database, and which tables are the site's own."""

from __future__ import annotations

import contextlib
import fnmatch
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self

from msgspec import Struct

from ..cms import Definition, EncodedRule, Place, SiteConfiguration, owned
from ..config import Environment, similar
from ..database import Condition, Database, Like, ReadableDatabase, Selecting, Table
from ..errors import AddressError
from ..files import DigestCache, FileTree, SourceTree, looking_at
from ..remark import Remark
from ..remote.base import RemoteHost
from ..rewrite import Address
from .conditions import site_condition

if TYPE_CHECKING:
    from ..remote.executor import Executor


class Looked(Struct, frozen=True):
    """What was counted when a snapshot was taken: asking its stored rows would take longer than a look."""

    counts: dict[str, int]
    newest: tuple[str, str] | None


@dataclass
class ReadableSite:
    """What can be read as an environment: one that is open, a snapshot, an archive. A context manager that closes its
    database.

    ``seen`` is what is remembered of its files, ``place`` the folder that they are in, and ``remote_host`` the host
    where that is not on this machine.
    """

    environment: Environment
    definition: Definition
    configuration: SiteConfiguration
    database: ReadableDatabase
    files: SourceTree
    seen: DigestCache = field(default_factory=DigestCache)
    place: Place | None = None
    remote_host: RemoteHost | None = None
    again: Callable[[], Any] | None = field(default=None, repr=False)
    looked: Looked | None = None
    former_roots: tuple[str, ...] = ()  # where it was before, as far as rows may still say so

    def reopen(self) -> None:
        """Connect anew to what may have been lost.

        Raises:
            ReachError, DatabaseUnreachable: it cannot be got at (yet).
        """
        if self.again is not None:
            with contextlib.suppress(Exception):
                self.database.close()
            fresh = self.again()
            self.database, self.files, self.remote_host = (
                fresh.database,
                fresh.files,
                fresh.remote_host,
            )
            self.place = fresh.place

    @property
    def root(self) -> Place:
        return self.place if self.place is not None else self.environment.root

    @cached_property
    def roots(self) -> tuple[str, ...]:
        """The root as it is given, those before it, and the root without links, which is the last; nothing for an
        archive that does not tell it."""
        root, real = str(self.root), str(self.root.resolve())
        if self.former_roots:
            return root, *self.former_roots, real
        return tuple(filter(None, dict.fromkeys([root, real])))

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.database.close()
        self.seen.close()

    def expect_bulk(self) -> None:
        """Many rows will come or go: what has to be made for that on another machine is made meanwhile."""
        if self.remote_host is not None:
            self.remote_host.expect_bulk()

    def forget(self) -> None:
        """Tables and views are not what they were: ask for them anew."""
        for name in ("tables", "views", "roots"):
            self.__dict__.pop(name, None)

    @contextlib.contextmanager
    def looking(self) -> Iterator[None]:
        """What is asked of the database, or of another machine's files, in this context counts for all of it; the
        settings that most who look ask for are at hand."""
        with self.database.looking(), looking_at(self.root, self._usual_files()):
            self.database.ahead(map(self._asking, self._usual_settings()))
            yield

    def _usual_settings(self) -> Iterator[str]:
        definition = self.definition
        rule = definition.settings
        if rule is None or not self.has_table(rule.table):
            return
        yield from filter(None, (rule.title, *rule.addresses))
        for extension in definition.extensions:
            yield from extension.active
        for signed in definition.signed:
            yield from signed.settings

    def _usual_files(self) -> Iterator[str]:
        definition = self.definition
        yield from definition.parts.get("media", ())
        yield from definition.arrival.cache_folders
        for extension in definition.extensions:
            yield extension.folder
        rules = definition.version, definition.copy, definition.address_rules
        yield from (rule.file for rule in rules if rule is not None and rule.file)

    def _asking(self, name: str) -> Selecting:
        rule = self.definition.settings
        assert rule is not None
        return Selecting(self.prefix + rule.table, (rule.value,), {rule.name: name}, limit=1)

    @property
    def prefix(self) -> str:
        return self.configuration.prefix

    @cached_property
    def tables(self) -> tuple[Table, ...]:
        """The site's own tables, without those of other applications in the same database."""
        found = {table.name: table for table in self.database.tables()}
        return tuple(found[name] for name in owned(found, self.prefix, self.definition.marks))

    @cached_property
    def views(self) -> tuple[str, ...]:
        names = [*(table.name for table in self.tables), *self.database.views()]
        mine = set(owned(names, self.prefix, self.definition.marks))
        return tuple(view for view in self.database.views() if view in mine)

    @property
    def encoded(self) -> dict[tuple[str, str], tuple[EncodedRule, ...]]:
        """Columns that hold encoded payloads, by table and column."""
        found: dict[tuple[str, str], tuple[EncodedRule, ...]] = {}
        for rule in self.definition.encoded:
            key = (self.prefix + rule.table, rule.column)
            found[key] = (*found.get(key, ()), rule)
        return found

    def rewritable(self, table: Table) -> list[int]:
        """The columns of a table that may hold addresses: texts that are no key and not fixed."""
        fixed = {self.prefix + name for name in self.definition.fixed}
        return [
            index
            for index, column in enumerate(table.columns)
            if column.text
            and column.name not in table.fixed
            and f"{table.name}.{column.name}" not in fixed
        ]

    def has_table(self, name: str) -> bool:
        return any(table.name == self.prefix + name for table in self.tables)

    def table(self, name: str) -> Table | None:
        """The table that the definition calls ``name``; None where the site has none."""
        return next((table for table in self.tables if table.name == self.prefix + name), None)

    def condition(self, where: Mapping[str, Any]) -> Condition:
        """A condition of the definition, for this site's tables."""
        return site_condition(where, self.prefix, has_table=self.has_table)

    def named(self, table: str, pattern: str) -> bool:
        """True if a table's name, with or without the prefix, fits a pattern with ``*``."""
        names = {table, table.removeprefix(self.prefix)}
        return any(fnmatch.fnmatchcase(name, pattern) for name in names)

    def unnamed(self, pattern: str) -> str:
        """What to say of a pattern that fits no table: empty where it fits one."""
        if any(self.named(table.name, pattern) for table in self.tables):
            return ""
        known = [table.name.removeprefix(self.prefix) for table in self.tables]
        return f"no table of {self.environment.name} fits {pattern!r}{similar(pattern, known)}"

    @property
    def title(self) -> str | None:
        """The site's title, from its settings or its configuration."""
        rule = self.definition.settings
        found = self.setting(rule.title) if rule is not None and rule.title else None
        return found or self.configuration.title or None

    def setting(self, name: str) -> str | None:
        """A setting's text; None where there is no such setting."""
        rule = self.definition.settings
        if rule is None or not self.has_table(rule.table):
            return None
        asking = self._asking(name)
        rows = self.database.select(
            asking.table, asking.columns, where=asking.where, limit=asking.limit
        )
        return None if not rows or rows[0][0] is None else _text(rows[0][0])

    def settings(self, pattern: str) -> dict[str, str]:
        """The settings whose names fit a pattern with ``*``, or the one of this name."""
        rule = self.definition.settings
        if rule is None or not self.has_table(rule.table):
            return {}
        if "*" not in pattern:
            value = self.setting(pattern)
            return {} if value is None else {pattern: value}
        begins = pattern.partition("*")[0]
        rows = self.database.select(
            self.prefix + rule.table,
            [rule.name, rule.value],
            where=Like(rule.name, "begins", (begins,)) if begins else None,
        )
        return {
            str(name): "" if value is None else _text(value)
            for name, value in rows
            if fnmatch.fnmatchcase(str(name), pattern)
        }

    def recorded_addresses(self) -> list[tuple[str, Address]]:
        """Addresses that the site itself holds, with where: in its configuration or settings."""
        found: list[tuple[str, Address]] = []
        rule = self.definition.settings
        texts = [("configuration", text) for text in self.configuration.addresses]
        if rule is not None:
            texts += [(name, self.setting(name) or "") for name in rule.addresses]
        for where, text in texts:
            try:
                found.append((where, Address.parse(text)))
            except AddressError:
                continue
        return found


@dataclass
class Site(ReadableSite):
    """An environment that is open, and may be written to where it was opened for that.

    ``unsure`` says what could not be made sure of before it may be written to. ``takes_over``: whoever holds its lock
    has to let go of it. ``lock`` is what the lock says that this process holds, ``unsure_lock`` what one says that
    may be there, as it was taken or let go of when a connection broke.
    """

    database: Database
    files: FileTree
    again: Callable[[], Site] | None = field(default=None, repr=False)
    unsure: tuple[Remark, ...] = ()
    takes_over: bool = False
    lock: bytes = field(default=b"", repr=False)
    unsure_lock: bytes = field(default=b"", repr=False)

    @property
    def runs_processes(self) -> bool:
        """True where a process of ours can run where the environment is."""
        return self.remote_host is None or self.remote_host.runs_processes

    def executor(self) -> Executor:
        """A process where the environment is, for one switch.

        Raises:
            OSError: it could not be started.
        """
        # Loaded only for a switch.
        from ..remote.executor import Executor, Process

        if self.remote_host is None:
            return Executor(Process())
        return Executor(self.remote_host.process())


def _text(value: Any) -> str:
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
