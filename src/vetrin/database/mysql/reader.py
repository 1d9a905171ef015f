"""Reading rows and their digests, as they were at one moment."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from ..base import BATCH_BYTES, Batch, Table
from ..conditions import Replacement, Where
from ..key_ranges import KeyRange, digest_of_sum
from ..row_codec import NULL, cells_of
from ..sql import Dialect
from .columns import quote
from .connect import said
from .wire import Wire

DIALECT = Dialect(lambda name: quote(name).replace("%", "%%"), "%s")
_PAGES = 32  # digests in one statement


class MysqlReader:
    """Implements ``Reader`` over a connection in a transaction that sees one moment."""

    def __init__(self, wire: Wire) -> None:
        self._wire = wire

    def rows(
        self,
        table: Table,
        batch_bytes: int = BATCH_BYTES,
        *,
        leave: Where | None = None,
        replacements: Mapping[str, Replacement] | None = None,
        key_range: KeyRange | None = None,
    ) -> Iterator[Batch]:
        sql = self._query(table, leave, replacements, key_range)
        width = len(table.columns)
        with said(table.name):
            for records in self._wire.records(sql, batch_bytes):
                # All at once: a call for each row would cost more than the copy.
                joined = b"".join(records)
                yield Batch(width, cells_of(joined, mixed=False), len(joined), records=records)

    def _query(
        self,
        table: Table,
        leave: Where | None,
        replacements: Mapping[str, Replacement] | None,
        key_range: KeyRange | None,
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

    def records(self, table: Table, stretch_bytes: int = BATCH_BYTES) -> Iterator[list[bytes]]:
        sql = self._query(table, None, None, None)
        with said(table.name):
            yield from self._wire.records(sql, stretch_bytes)

    def digests(
        self,
        table: Table,
        ranges: Sequence[KeyRange],
        *,
        leave: Where | None = None,
        replacements: Mapping[str, Replacement] | None = None,
    ) -> list[str]:
        names = [quote(column.name).replace("%", "%%") for column in table.columns]
        reads = {column.name: column.read.replace("%", "%%") for column in table.columns}
        record = f"CONCAT({', '.join(map(_cell, names))})"
        bits = f"CAST(CONV(LEFT(SHA2({record}, 256), 16), 16, 10) AS UNSIGNED)"
        found: list[str] = []
        with said(table.name), self._wire.cursor() as cursor:
            for at in range(0, len(ranges), _PAGES):
                parts, values = [], []
                for key_range in ranges[at : at + _PAGES]:
                    sql, more = DIALECT.rows(
                        table.name,
                        reads,
                        leave,
                        replacements,
                        range_condition(table, key_range),
                        named=True,
                    )
                    # What is longer than a packet is NULL, with a warning only.
                    made = f"COUNT(*), SUM(IFNULL({bits}, 1{'0' * 30}))"
                    parts.append(f"SELECT {made} FROM ({sql}) _vetrin_p")
                    values += more
                cursor.execute(" UNION ALL ".join(parts), values)
                found += [
                    digest_of_sum(int(count), None if total is None else int(total))
                    for count, total in cursor.fetchall()
                ]
        return found

    def count(self, table: str, where: Where | None = None) -> int:
        return count_rows(self._wire, table, where)


def range_condition(table: Table, key_range: KeyRange | None) -> str:
    """A condition for the rows of a range, with ``%`` doubled as in all that has values put into it."""
    names = [quote(name).replace("%", "%%") for name in table.key]
    return key_range.sql(names) if key_range is not None else ""


def _cell(name: str) -> str:
    """A cell as records hold it: its length, then its bytes."""
    value = f"CAST({name} AS BINARY)"
    length = f"LENGTH({value})"

    def bytes_of(count: int) -> str:
        return ", ".join(f"({length} >> {8 * number}) & 255" for number in range(count))

    before = (
        f"CASE WHEN {length} < 251 THEN CHAR({length}) WHEN {length} < 65536 THEN CHAR(252, {bytes_of(2)})"
        f" WHEN {length} < 16777216 THEN CHAR(253, {bytes_of(3)}) ELSE CHAR(254, {bytes_of(8)}) END"
    )
    return f"IF({name} IS NULL, 0x{NULL.hex()}, CONCAT({before}, {value}))"


def count_rows(connection: Any, table: str, where: Where | None) -> int:
    sql, values = DIALECT.count(table, where)
    with said(table), connection.cursor() as cursor:
        cursor.execute(sql, values)
        return int(cursor.fetchone()[0])
