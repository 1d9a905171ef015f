"""What is asked for rows, with ``%`` doubled as in all that has values put into it."""

from __future__ import annotations

from collections.abc import Mapping

from ..base import Table
from ..conditions import Replacement, Where
from ..key_ranges import KeyRange, KeyRanges
from ..sql import Dialect, Statement
from .columns import quote

DIALECT = Dialect(lambda name: quote(name).replace("%", "%%"), "%s")


def rows_of(
    table: Table,
    leave: Where | None,
    replacements: Mapping[str, Replacement] | None,
    key_range: KeyRange | KeyRanges | None,
    *,
    named: bool = False,
) -> Statement:
    """The statement that reads the rows of a range; ``named``: its columns have the names of the table's."""
    reads = {column.name: column.read.replace("%", "%%") for column in table.columns}
    condition = range_condition(table, key_range)
    return DIALECT.rows(table.name, reads, leave, replacements, condition, named=named)


def range_condition(table: Table, key_range: KeyRange | KeyRanges | None) -> str:
    """A condition for the rows of a range, with ``%`` doubled as in all that has values put into it."""
    names = [quote(name).replace("%", "%%") for name in table.key]
    return key_range.sql(names) if key_range is not None else ""
