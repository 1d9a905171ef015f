"""Rows on their way into a hidden table: by prepared statements, by ``LOAD DATA LOCAL``, or by INSERT where a server
takes neither."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Iterable, Iterator
from functools import cached_property
from itertools import chain

import pymysql

from ...errors import RowsDiffer
from ...prefetch import ahead
from ..base import Table
from ..batch import Batch
from ..digests import NO_ROWS, joint_digest
from ..pages import digest_of_rows
from .columns import quote
from .connect import said
from .prepared_rows import Packed, PreparedRows
from .row_text import LOAD_OPTIONS, insert_statements, load_block
from .wire import Wire

_INSERT_BYTES = 1 << 20
_FEW = 64 << 10  # bytes of rows that a load stores as quickly as prepared statements
_IDLE = 30.0  # seconds after which nobody knows whether a connection that nothing came by is still there


class Filling:
    """Fills hidden tables over a connection of its own, which is kept from one table to the next, and where ``close``
    from another thread can cut a running load."""

    def __init__(
        self,
        *,
        connect: Callable[[], Wire],
        takes_loads: Callable[[], bool],
        may_prepare: Callable[[], bool],
        most: Callable[[], int],
        digest: Callable[[str, Table], str],
    ) -> None:
        """``takes_loads`` and ``may_prepare`` tell what the server takes, ``most`` how many bytes in a packet, and
        ``digest`` that of all rows in a hidden table."""
        self._connect = connect
        self._ask_loads = takes_loads
        self._ask_prepare = may_prepare
        self._most = most
        self._digest = digest
        self._wire: Wire | None = None
        self._filled = 0.0  # when rows were stored last, by a clock
        self._last: tuple[tuple[Wire, str, list[str]], PreparedRows] | None = None

    @cached_property
    def _loads(self) -> bool:
        return self._ask_loads()

    @cached_property
    def _prepares(self) -> bool:
        return self._ask_prepare()

    def close(self) -> None:
        """Raises pymysql.Error where the connection is broken."""
        if self._wire is not None:
            self._wire.close()

    def fill(
        self,
        hidden: str,
        table: Table,
        batches: Iterable[Batch],
        moved: Callable[[int, int], None] | None,
        warned: Callable[[str], None] | None,
    ) -> int:
        """As ``Database.fill``."""
        comparing = warned is None
        before = self._digest(hidden, table) if comparing else NO_ROWS
        passed: list[str] = []
        wire = self._connected()
        sent = empty = 0
        # An ENUM's empty value is one that the server never takes without a warning.
        enums = [i for i, c in enumerate(table.columns) if c.type.lower().startswith("enum")]

        def counted() -> Iterator[Batch]:
            nonlocal sent, empty
            for batch in batches:
                sent += batch.rows
                for index in enums:
                    empty += batch.cells[index :: batch.width].count(b"0")
                if comparing:
                    # What they were made of is not what they have become on their way.
                    made = Batch(batch.width, batch.cells, batch.size, batch.mixed)
                    passed.append(digest_of_rows([made]))
                yield batch
                if moved is not None:
                    moved(batch.rows, batch.size)

        told = None
        try:
            with said(table.name):
                coming = counted()
                first = next(coming, None)
                stored = warnings = 0
                if first is not None:
                    prepared = not comparing and self._goes_prepared(table, first)
                    write = self._prepared if prepared else self._written
                    stored, warnings = write(wire, hidden, table, chain([first], coming))
                if warnings:
                    with wire.cursor() as cursor:
                        cursor.execute("SHOW WARNINGS LIMIT 1")
                        told = cursor.fetchone()
            self._filled = time.monotonic()
        except BaseException:
            self._wire = None
            with contextlib.suppress(pymysql.Error):
                wire.close()
            raise
        if stored != sent:
            raise RowsDiffer(f"{table.name}: {sent} rows were sent, {stored} arrived")
        if warnings and warnings != empty:
            said_of_it = told[2].decode("latin1") if told else "something"
            if warned is not None:
                warned(said_of_it)
            elif self._digest(hidden, table) != joint_digest([before, *passed]):
                raise RowsDiffer(
                    f"{table.name}: the server changed values on arrival; it warned {warnings} times, "
                    f"for one: {said_of_it}"
                )
        return sent

    def _connected(self) -> Wire:
        wire = self._wire
        if wire is None or not wire.open or time.monotonic() - self._filled > _IDLE:
            if wire is not None:
                with contextlib.suppress(pymysql.Error):
                    wire.close()
            wire = self._wire = self._connect()
        return wire

    def _goes_prepared(self, table: Table, first: Batch) -> bool:
        """Whether rows go in by prepared statements, given the first batch of them; few are stored as quickly by a
        load."""
        return (
            self._prepares
            and not first.mixed
            and all(column.write == "{}" for column in table.columns)
            and (first.size > _FEW or not self._loads)
        )

    def _prepared(
        self, wire: Wire, hidden: str, table: Table, batches: Iterator[Batch]
    ) -> tuple[int, int]:
        """Write by prepared statements in one transaction; (rows stored, warnings)."""
        rows = self._preparing(wire, hidden, table)
        if rows is None:
            return self._written(wire, hidden, table, batches)
        stored = warned = 0
        wire.begin()
        with ahead(rows.packed(batches)) as coming:  # so that the server need not wait for that
            for one in coming:
                if isinstance(one, Packed):
                    rows.send(one)
                    continue
                write = _load if self._loads else _insert
                for some, more in (rows.finish(), write(wire, hidden, table, iter([one]))):
                    stored, warned = stored + some, warned + more
        some, more = rows.finish()
        wire.commit()
        return stored + some, warned + more

    def _preparing(self, wire: Wire, hidden: str, table: Table) -> PreparedRows | None:
        """What stores rows in a table: as long as it is the same one, with the statements that are prepared; None if
        the server has no room for those."""
        names = [quote(column.name) for column in table.columns]
        mine = wire, hidden, names
        if self._last is None or self._last[0] != mine:
            if self._last is not None and self._last[0][0] is wire:
                self._last[1].close()
            self._last = None
            rows = PreparedRows(wire, quote(hidden), names, self._most())
            if not rows.prepare():
                return None
            self._last = mine, rows
        return self._last[1]

    def _written(
        self, wire: Wire, hidden: str, table: Table, batches: Iterator[Batch]
    ) -> tuple[int, int]:
        """Write by bulk load, or by INSERT where that is not to be had; (rows stored, warnings)."""
        if self._loads:
            return _load(wire, hidden, table, batches)
        wire.begin()
        found = _insert(wire, hidden, table, batches)
        wire.commit()
        return found


def _load(wire: Wire, hidden: str, table: Table, batches: Iterator[Batch]) -> tuple[int, int]:
    """Write by bulk load; (rows stored, warnings), as the server counts them."""
    targets: list[str] = []
    settings: list[str] = []
    for number, column in enumerate(table.columns):
        if column.write == "{}":
            targets.append(quote(column.name))
        else:
            targets.append(f"@v{number}")
            settings.append(f"{quote(column.name)} = {column.write.format(f'@v{number}')}")
    sql = (
        f"LOAD DATA LOCAL INFILE 'rows' INTO TABLE {quote(hidden)} CHARACTER SET binary"
        f" {LOAD_OPTIONS} ({', '.join(targets)})"
    )
    if settings:
        sql += " SET " + ", ".join(settings)
    if wire.by_request is not None:
        batches = _smaller(batches, wire)
    return wire.load(sql, map(load_block, batches))


def _insert(wire: Wire, hidden: str, table: Table, batches: Iterator[Batch]) -> tuple[int, int]:
    """Write by INSERT; (rows stored, warnings)."""
    names = ", ".join(quote(column.name) for column in table.columns)
    head = f"INSERT INTO {quote(hidden)} ({names}) VALUES ".encode()
    stored = warned = 0
    with wire.cursor() as cursor:
        cursor.execute("SELECT @@max_allowed_packet")
        most = int(cursor.fetchall()[0][0]) - 1024
    limit = min(_INSERT_BYTES, most)
    if wire.by_request is not None:
        limit, batches = min(limit, wire.by_request.piece), _smaller(batches, wire)
    for batch in batches:
        for statement in insert_statements(head, table.columns, batch, limit, most):
            stored += wire.query(statement)
            warned += wire._result.warning_count  # type: ignore[attr-defined]
    return stored, warned


def _smaller(batches: Iterator[Batch], wire: Wire) -> Iterator[Batch]:
    """Batches that make texts of about a piece at most, where rows are of a size."""
    for batch in batches:
        assert wire.by_request is not None
        count = max(1, -(-batch.size * 5 // (wire.by_request.piece * 4)))
        rows = max(1, -(-batch.rows // count))
        for at in range(0, batch.rows, rows):
            cells = batch.cells[at * batch.width : (at + rows) * batch.width]
            yield Batch(batch.width, cells, batch.size // count, batch.mixed)
