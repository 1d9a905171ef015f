"""Reading rows and their digests, as they were at one moment."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any

import pymysql

from ..condition import Instead, Where
from ..contract import BATCH_BYTES, Batch, Hashing, Table
from ..pages import JOIN, NULL, KeyRange
from ..query import Dialect
from ..records import cells_of
from .columns import quote
from .connecting import said
from .wire import Wire

DIALECT = Dialect(lambda name: quote(name).replace("%", "%%"), "%s")
_PAGES = 32  # digests in one statement


class MysqlReader:
    """Implements ``Reader`` over a connection in a transaction that sees one moment."""

    def __init__(self, wire: Wire) -> None:
        self._wire = wire

    @cached_property
    def hashing(self) -> Hashing:
        with self._wire.cursor() as cursor:
            try:
                cursor.execute("SELECT MD5('')")
            except pymysql.Error:
                return "sha256"
            return "md5"

    def _hashed(self, text: str) -> str:
        return f"MD5({text})" if self.hashing == "md5" else f"SHA2({text}, 256)"

    def rows(
        self,
        table: Table,
        batch_bytes: int = BATCH_BYTES,
        *,
        leave: Where | None = None,
        instead: Mapping[str, Instead] | None = None,
        among: KeyRange | None = None,
    ) -> Iterator[Batch]:
        sql = self._query(table, leave, instead, among)
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
        instead: Mapping[str, Instead] | None,
        among: KeyRange | None,
    ) -> str:
        reads = {column.name: column.read.replace("%", "%%") for column in table.columns}
        sql, values = DIALECT.rows(table.name, reads, leave, instead, key_range(table, among))
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
        instead: Mapping[str, Instead] | None = None,
    ) -> list[str]:
        names = [column.name for column in table.columns]
        reads = {column.name: column.read.replace("%", "%%") for column in table.columns}
        cells = ", ".join(
            f"IFNULL(CAST({quote(name)} AS BINARY), 0x{NULL.hex()})" for name in names
        ).replace("%", "%%")
        row = f"CONCAT_WS(0x{JOIN.hex()}, {cells})"
        found: list[str] = []
        with said(table.name), self._wire.cursor() as cursor:
            cursor.execute("SET SESSION group_concat_max_len = 1073741824")
            for at in range(0, len(ranges), _PAGES):
                parts, values = [], []
                for among in ranges[at : at + _PAGES]:
                    sql, more = DIALECT.rows(
                        table.name, reads, leave, instead, key_range(table, among), named=True
                    )
                    if among == KeyRange():
                        half = f"CONV(LEFT({self._hashed(row)}, 15), 16, 10)"
                        made = f"CONCAT_WS('-', COUNT(*), SUM(CAST({half} AS UNSIGNED)))"
                    else:
                        order = ", ".join(map(quote, table.key)).replace("%", "%%")
                        made = self._hashed(
                            f"GROUP_CONCAT({row} ORDER BY {order} SEPARATOR 0x{JOIN.hex()})"
                        )
                    parts.append(f"(SELECT {made} FROM ({sql}) _vetrin_p)")
                    values += more
                cursor.execute(" UNION ALL ".join(parts), values)
                found += [_digest_text(row[0]) for row in cursor.fetchall()]
        return found

    def count(self, table: str, where: Where | None = None) -> int:
        return count_rows(self._wire, table, where)


def key_range(table: Table, among: KeyRange | None) -> str:
    """A condition for the rows of a range, with ``%`` doubled as in all that has values put into it."""
    names = [quote(name).replace("%", "%%") for name in table.key]
    return among.sql(names) if among is not None else ""


def _digest_text(value: Any) -> str:
    return value.decode("ascii") if isinstance(value, bytes) else str(value or "")


def count_rows(connection: Any, table: str, where: Where | None) -> int:
    sql, values = DIALECT.count(table, where)
    with said(table), connection.cursor() as cursor:
        cursor.execute(sql, values)
        return int(cursor.fetchone()[0])
