"""Reading rows and their digests, as they were at one moment."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import pairwise
from typing import Any

from ..base import BATCH_BYTES, Batch, Column, Table
from ..conditions import Replacement, Where
from ..key_ranges import NO_ROWS, KeyRange, KeyRanges, digest_of_sum
from ..row_codec import NULL, cells_of
from ..sql import Dialect, Statement
from .answers import Wires, rows_by_answers
from .columns import quote
from .connect import said
from .wire import Wire

DIALECT = Dialect(lambda name: quote(name).replace("%", "%%"), "%s")
_PAGES = 32  # digests in one statement
_ADJOINING = 400  # the same, of neighbours


class MysqlReader:
    """Implements ``Reader`` over a connection in a transaction that sees one moment."""

    def __init__(self, wire: Wire, wires: Wires | None = None) -> None:
        """``wires`` where the server answers one request at a time, and may cut its answers."""
        self._wire = wire
        self._wires = wires

    def rows(
        self,
        table: Table,
        batch_bytes: int = BATCH_BYTES,
        *,
        leave: Where | None = None,
        replacements: Mapping[str, Replacement] | None = None,
        key_range: KeyRange | KeyRanges | None = None,
    ) -> Iterator[Batch]:
        width = len(table.columns)
        with said(table.name):
            for records in self._records(table, batch_bytes, leave, replacements, key_range):
                # All at once: a call for each row would cost more than the copy.
                joined = b"".join(records)
                yield Batch(width, cells_of(joined, mixed=False), len(joined), records=records)

    def _query(
        self,
        table: Table,
        leave: Where | None,
        replacements: Mapping[str, Replacement] | None,
        key_range: KeyRange | KeyRanges | None,
    ) -> str:
        reads = {column.name: column.read.replace("%", "%%") for column in table.columns}
        sql, values = DIALECT.rows(
            table.name, reads, leave, replacements, range_condition(table, key_range)
        )
        # Other engines than InnoDB would sort, and forbid nothing by their order.
        if table.consistent and table.key:
            sql += f" ORDER BY {', '.join(map(quote, table.key))}".replace("%", "%%")
        with self._wire.cursor() as cursor:
            return str(cursor.mogrify(sql, values))

    def records(
        self,
        table: Table,
        stretch_bytes: int = BATCH_BYTES,
        *,
        leave: Where | None = None,
        replacements: Mapping[str, Replacement] | None = None,
        key_range: KeyRange | KeyRanges | None = None,
    ) -> Iterator[list[bytes]]:
        with said(table.name):
            yield from self._records(table, stretch_bytes, leave, replacements, key_range)

    def _records(
        self,
        table: Table,
        stretch_bytes: int,
        leave: Where | None,
        replacements: Mapping[str, Replacement] | None,
        key_range: KeyRange | KeyRanges | None,
    ) -> Iterator[list[bytes]]:
        if self._wires is None:
            sql = self._query(table, leave, replacements, key_range)
            yield from self._wire.records(sql, stretch_bytes)
            return

        def query(key_range: KeyRange | KeyRanges | None) -> str:
            return self._query(table, leave, replacements, key_range)

        yield from rows_by_answers(self._wires, query, table, key_range, stretch_bytes)

    def digests(
        self,
        table: Table,
        ranges: Sequence[KeyRange],
        *,
        leave: Where | None = None,
        replacements: Mapping[str, Replacement] | None = None,
    ) -> list[str]:
        record = f"CONCAT({', '.join(map(_cell, table.columns))})"
        bits = f"CAST(CONV(LEFT(SHA2({record}, 256), 16), 16, 10) AS UNSIGNED)"
        # What is longer than a packet is NULL, with a warning only.
        made = f"COUNT(*), SUM(IFNULL({bits}, 1{'0' * 30}))"

        def rows(key_range: KeyRange) -> Statement:
            reads = {column.name: column.read.replace("%", "%%") for column in table.columns}
            condition = range_condition(table, key_range)
            return DIALECT.rows(table.name, reads, leave, replacements, condition, named=True)

        found: list[str] = []
        with said(table.name), self._wire.cursor() as cursor:
            if len(table.key) == 1 and _adjoin(ranges):
                for at in range(0, len(ranges), _ADJOINING):
                    found += _adjoining(cursor, table, made, rows, ranges[at : at + _ADJOINING])
            else:
                for at in range(0, len(ranges), _PAGES):
                    found += _one_by_one(cursor, made, rows, ranges[at : at + _PAGES])
        return found

    def count(self, table: str, where: Where | None = None) -> int:
        return count_rows(self._wire, table, where)


def _adjoin(ranges: Sequence[KeyRange]) -> bool:
    return len(ranges) > 1 and all(
        one.upto is not None and one.upto == other.after for one, other in pairwise(ranges)
    )


def _adjoining(
    cursor: Any,
    table: Table,
    made: str,
    rows: Callable[[KeyRange], Statement],
    ranges: Sequence[KeyRange],
) -> list[str]:
    """The digests of neighbouring ranges of a key of one column, in one pass over their rows: the server tells by
    binary search in which of them a row is."""
    sql, values = rows(KeyRange(ranges[0].after, ranges[-1].upto))
    borders = [str(upto[0] + 1) for one in ranges[:-1] if (upto := one.upto) is not None]
    key = quote(table.key[0]).replace("%", "%%")
    number = f"INTERVAL({key}, {', '.join(borders)})" if borders else "0"
    cursor.execute(f"SELECT {number} _vetrin_n, {made} FROM ({sql}) _vetrin_p GROUP BY 1", values)
    found = [NO_ROWS] * len(ranges)
    for place, count, total in cursor.fetchall():
        found[int(place)] = digest_of_sum(int(count), int(total))
    return found


def _one_by_one(
    cursor: Any, made: str, rows: Callable[[KeyRange], Statement], ranges: Sequence[KeyRange]
) -> list[str]:
    """The digests of any ranges."""
    parts: list[str] = []
    values: list[object] = []
    for key_range in ranges:
        sql, more = rows(key_range)
        parts.append(f"SELECT {made} FROM ({sql}) _vetrin_p")
        values += more
    cursor.execute(" UNION ALL ".join(parts), values)
    return [
        digest_of_sum(int(count), None if total is None else int(total))
        for count, total in cursor.fetchall()
    ]


def range_condition(table: Table, key_range: KeyRange | KeyRanges | None) -> str:
    """A condition for the rows of a range, with ``%`` doubled as in all that has values put into it."""
    names = [quote(name).replace("%", "%%") for name in table.key]
    return key_range.sql(names) if key_range is not None else ""


def _cell(column: Column) -> str:
    """A cell as records hold it: its length, then its bytes. Written so that the server makes a copy of a long value
    once, and works out no more than it must."""
    name = quote(column.name).replace("%", "%%")
    length = f"LENGTH({name})"

    def bytes_of(count: int) -> str:
        return ", ".join(f"({length} >> {8 * number}) & 255" for number in range(count))

    before = f"CHAR({length})"
    if not _is_short(column.type.lower()):
        before = (
            f"CASE WHEN {length} < 251 THEN {before} WHEN {length} < 65536 THEN CHAR(252, {bytes_of(2)})"
            f" WHEN {length} < 16777216 THEN CHAR(253, {bytes_of(3)}) ELSE CHAR(254, {bytes_of(8)}) END"
        )
    # A text beside bytes would make texts of the bytes.
    return f"IFNULL(CONCAT({before}, CAST({name} AS BINARY)), CHAR({NULL[0]}))"


_SIZED = re.compile(r"(?:var)?(char|binary)\((\d+)\)")
_SHORT = re.compile(
    r"(?:tiny|small|medium|big)?int|float|double|decimal|bit|enum|set|date|time|year"
)


def _is_short(kind: str) -> bool:
    """True for a type whose values never have 251 bytes."""
    sized = _SIZED.match(kind)
    if sized is not None:
        return int(sized[2]) * (4 if sized[1] == "char" else 1) < 251
    return _SHORT.match(kind) is not None


def count_rows(connection: Any, table: str, where: Where | None) -> int:
    sql, values = DIALECT.count(table, where)
    with said(table), connection.cursor() as cursor:
        cursor.execute(sql, values)
        return int(cursor.fetchone()[0])
