"""What there is in a database: the server's own catalog, asked with as few questions as it takes."""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Iterable
from typing import Any

from ...errors import DatabaseError
from ..base import HIDDEN, Column, Facts, Table
from .asking import Asking
from .columns import WIDE_CHARSETS, read_column
from .dependents import VIEWS
from .schema.translate import Server

_MINE = "WHERE table_schema = DATABASE()"
_COLUMNS = (
    "SELECT table_name, column_name, data_type, column_type, extra, character_set_name"
    f" FROM information_schema.columns {_MINE} ORDER BY table_name, ordinal_position"
)
_KEYS = (
    "SELECT table_name, index_name, column_name, non_unique"
    f" FROM information_schema.statistics {_MINE} ORDER BY table_name, index_name, seq_in_index"
)
_TABLES = (
    "SELECT table_name, table_type, engine, table_rows, data_length + index_length"
    f" FROM information_schema.tables {_MINE} AND table_type <> 'VIEW' ORDER BY table_name"
)
_BROKEN = (
    "SELECT table_name, table_comment FROM information_schema.tables"
    # It opens them where their rows are asked for, and only then.
    " WHERE table_schema = DATABASE() AND table_type = 'BASE TABLE' AND engine IS NULL"
    " AND table_rows IS NULL ORDER BY table_name"
)
_FACTS = (
    "SELECT @@version, @@version_comment, @@max_allowed_packet, @@local_infile,"
    " @@lower_case_table_names, @@character_set_database, @@collation_database, CURRENT_USER(),"
    " CONCAT_WS('|', @@hostname, @@port, @@datadir, DATABASE())"
)
_ENGINES = "SELECT engine FROM information_schema.engines WHERE support IN ('YES', 'DEFAULT')"
_COLLATIONS = "SELECT collation_name FROM information_schema.collations"
_WHOLE_COLLATIONS = (
    "SELECT full_collation_name FROM information_schema.collation_character_set_applicability"
)
# All that makes two tables alike but for their rows, in an order that holds.
_DEFINITIONS = (
    "SELECT table_name, 0, ordinal_position, column_name, column_type, is_nullable, column_default,"
    " collation_name, extra, column_comment, generation_expression"
    " FROM information_schema.columns WHERE table_schema = DATABASE()"
    " UNION ALL SELECT table_name, 1, seq_in_index, index_name, column_name, non_unique, sub_part, collation,"
    " index_type, index_comment, NULL FROM information_schema.statistics WHERE table_schema = DATABASE()"
    " UNION ALL SELECT table_name, 2, 0, engine, row_format, table_collation, table_comment, create_options,"
    " NULL, NULL, NULL FROM information_schema.tables WHERE table_schema = DATABASE()"
    " ORDER BY 1, 2, 4, 3"
)


class Catalog:
    """The catalog of the database ``name`` at ``where``."""

    def __init__(self, name: str, where: str, asking: Asking) -> None:
        self._name = name
        self._where = where
        self._asking = asking

    def facts(self, where: str) -> Facts:
        ((version, comment, packet, infile, lower, charset, collation, user, server),) = (
            self._asking.rows(self._name, _FACTS)
        )
        return Facts(
            engine="mysql",
            product="MariaDB" if "mariadb" in f"{version} {comment}".lower() else "MySQL",
            version=str(version).split("-")[0],
            charset=str(charset),
            max_statement=int(packet),
            bulk_load=bool(infile),
            where=where,
            identity=str(server),
            details={
                "collation": str(collation),
                "account": str(user),
                "lower-case table names": str(lower),
            },
        )

    def tables(self) -> list[Table]:
        name = self._name
        self._asking.together((_COLUMNS, _KEYS, _TABLES, _FACTS, VIEWS, _BROKEN))
        columns: dict[str, list[Column]] = {}
        notes: dict[str, list[str]] = {}
        for table, column, kind, whole, extra, charset in self._asking.rows(name, _COLUMNS):
            if "GENERATED" in str(extra).upper().replace("DEFAULT_GENERATED", ""):
                continue
            columns.setdefault(table, []).append(read_column(column, str(kind).lower(), str(whole)))
            if charset in WIDE_CHARSETS:
                notes.setdefault(table, []).append(
                    f"column {column} is stored as {charset}: addresses in it are not rewritten"
                )
        keys: dict[str, list[str]] = {}
        fixed: dict[str, set[str]] = {}
        for table, index, column, unique in self._asking.rows(name, _KEYS):
            if not int(unique) and column is not None:
                fixed.setdefault(table, set()).add(column)
                if index == "PRIMARY":
                    keys.setdefault(table, []).append(column)
        found: list[Table] = []
        for table, kind, engine, rows, size in self._asking.rows(name, _TABLES):
            if table.startswith(HIDDEN) or kind == "SEQUENCE" or table not in columns:
                continue
            if engine is None:  # the server itself cannot open it
                continue
            consistent = str(engine).lower() == "innodb"
            if not consistent:
                notes.setdefault(table, []).append(
                    f"{engine} has no consistent view: rows may be of different moments"
                )
            if kind == "SYSTEM VERSIONED":
                notes.setdefault(table, []).append("its history of versions is not copied")
            found.append(
                Table(
                    name=table,
                    columns=tuple(columns[table]),
                    key=tuple(keys.get(table, ())),
                    fixed=frozenset(fixed.get(table, ())),
                    rows=int(rows or 0),
                    size=int(size or 0),
                    consistent=consistent,
                    notes=tuple(notes.get(table, ())),
                )
            )
        return found

    def broken(self) -> dict[str, str]:
        rows = self._asking.rows(self._name, _BROKEN)
        return {str(name): str(said) for name, said in rows if not str(name).startswith(HIDDEN)}

    def size(self) -> int:
        ((total,),) = self._asking.rows(
            self._name,
            "SELECT COALESCE(SUM(data_length + index_length), 0) FROM information_schema.tables"
            " WHERE table_schema = DATABASE()",
        )
        return int(total)

    def server(self, facts: Facts) -> Server:
        """What this server knows, for schemas that come from another one."""
        name = self._where
        self._asking.together((_ENGINES, _COLLATIONS, _WHOLE_COLLATIONS))
        return Server(
            facts.product,
            facts.version,
            self._collations(),
            frozenset(str(row[0]).lower() for row in self._asking.rows(name, _ENGINES)),
        )

    def _collations(self) -> frozenset[str]:
        where = self._where
        found = self._asking.rows(where, _COLLATIONS)
        # MariaDB lists those of all character sets together without the set's name; their whole names are here.
        with contextlib.suppress(DatabaseError):
            found += self._asking.rows(where, _WHOLE_COLLATIONS)
        return frozenset(str(row[0]).lower() for row in found)

    def definitions(self, tables: Iterable[str]) -> dict[str, str]:
        wanted = set(tables)
        found: dict[str, Any] = {}
        for table, *said_of_it in self._asking.rows(self._name, _DEFINITIONS):
            if table in wanted:
                digest = found.setdefault(str(table), hashlib.sha256())
                digest.update(repr([_plain(value) for value in said_of_it]).encode())
        return {table: digest.hexdigest() for table, digest in found.items()}


def _plain(value: object) -> str | None:
    if isinstance(value, bytes):
        return value.decode("utf-8", "replace")
    return None if value is None else str(value)
