"""Digests (``digests.py``) of pages that the server makes."""

from __future__ import annotations

import re
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from itertools import pairwise

from ..base import Column, Table
from ..conditions import Replacement, Where
from ..digests import NO_ROWS, UNTOLD, digest_of_sum, joint_digest
from ..key_ranges import KeyRange, KeyRanges, joint_ranges
from ..row_codec import NULL
from ..sql import Statement
from .columns import quote
from .row_query import rows_of
from .side_by_side import Query, Work
from .wire import Wire

_PAGES = 32  # digests in one statement
_SORTED = 400  # the same, where rows are sorted out by a key of one column
_GROUP = 64  # pages that are summed up to see whether any of them changed
_GROUPS = 8  # such sums in one statement
SECONDS = 2.0  # that a statement should take where an answer has to come soon


class Pace:
    """How many pages a statement asks for, so that it takes about ``seconds`` at most; as many as one likes where
    nobody waits for its end."""

    def __init__(self, seconds: float | None = None) -> None:
        self._seconds = seconds
        self._pages = _PAGES

    @classmethod
    def at(cls, wire: Wire) -> Pace:
        """That of a server that answers one request at a time, where the answer has to come soon, or of any other."""
        return cls(None if wire.by_request is None else SECONDS)

    @contextmanager
    def of(self, pages: int) -> Iterator[int]:
        """So many of them, or fewer."""
        if self._seconds is None:
            yield pages
            return
        count = min(pages, self._pages)
        start = time.monotonic()
        yield count
        took = time.monotonic() - start
        if took > self._seconds:
            self._pages = max(1, count // 2)
        elif count == self._pages and took < self._seconds / 3:
            self._pages *= 2


class PageDigests:
    """Asks for the digests of a table's rows, as ``Reader.rows`` would read them."""

    def __init__(
        self,
        wire: Wire,
        table: Table,
        leave: Where | None = None,
        replacements: Mapping[str, Replacement] | None = None,
        pace: Pace | None = None,
    ) -> None:
        self._pace = pace or Pace.at(wire)
        self._wire = wire
        self._table = table
        self._leave = leave
        self._replacements = replacements
        record = f"CONCAT({', '.join(map(_cell, table.columns))})"
        bits = f"CAST(CONV(LEFT(SHA2({record}, 256), 16), 16, 10) AS UNSIGNED)"
        # What is longer than a packet is NULL, with a warning only.
        self._made = f"COUNT(*), SUM(IFNULL({bits}, 1{'0' * 30}))"

    def of(self, ranges: Sequence[KeyRange]) -> Work[list[str]]:
        """The digests of any ranges, which are in order."""
        found: list[str] = []
        if len(self._table.key) == 1 and len(ranges) > 1:
            ask, most = self._sorted_out, _SORTED
        else:
            ask, most = self._each, _PAGES
        while len(found) < len(ranges):
            at = len(found)
            with self._pace.of(min(most, len(ranges) - at)) as count:
                found += yield from ask(ranges[at : at + count])
        return found

    def of_known(self, ranges: Sequence[KeyRange], known: Sequence[str]) -> Work[list[str]]:
        """The same, where ``known`` is what they were once.

        A sum over many pages costs the server less than one for each of them: it need not put rows into groups. Pages
        whose joint digest is as it was are as they were. Where that fails, change is likely beyond, too.
        """
        if not _adjoin(ranges):
            return (yield from self.of(ranges))
        found: list[str] = []
        groups = 1
        while len(found) < len(ranges):
            begin = len(found)
            with self._pace.of(min(groups * _GROUP, len(ranges) - begin)) as count:
                stop = begin + count
                parts = [range(at, min(at + _GROUP, stop)) for at in range(begin, stop, _GROUP)]
                sums = yield from self._each(
                    [KeyRange(ranges[part[0]].after, ranges[part[-1]].upto) for part in parts]
                )
            same = {
                part
                for part, now in zip(parts, sums, strict=True)
                if now == joint_digest(known[part.start : part.stop]) != UNTOLD
            }
            missed = parts[-1] not in same
            groups = 1 if missed else min(2 * groups, _GROUPS)
            differ = [number for part in parts if part not in same for number in part]
            if missed:
                differ += range(stop, min(stop + _SORTED - _GROUP, len(ranges)))
                stop = differ[-1] + 1
            found += known[begin:stop]
            for first, last in _runs(differ):
                found[first:last] = yield from self.of(ranges[first:last])
        return found

    def _rows(self, key_range: KeyRange | KeyRanges) -> Statement:
        return rows_of(self._table, self._leave, self._replacements, key_range, named=True)

    def _sorted_out(self, ranges: Sequence[KeyRange]) -> Work[list[str]]:
        """The digests of some ranges of a key of one column, in one pass over their rows: the server tells by binary
        search in which of them a row is."""
        runs = joint_ranges(ranges, len(ranges))
        sql, values = self._rows(runs[0] if len(runs) == 1 else KeyRanges(tuple(runs)))
        borders: list[
            int
        ] = []  # the first key of each range but the first, and of what lies between two
        places: list[int] = []
        for before, one in zip((None, *ranges), ranges, strict=False):
            if before is not None and before.upto is not None:
                borders.append(before.upto[0] + 1)
                if one.after is not None and one.after != before.upto:
                    borders.append(one.after[0] + 1)
            places.append(len(borders))
        key = quote(self._table.key[0]).replace("%", "%%")
        number = f"INTERVAL({key}, {', '.join(map(str, borders))})" if borders else "0"
        rows = yield self._asked(
            f"SELECT {number} _vetrin_n, {self._made} FROM ({sql}) _vetrin_p GROUP BY 1", values
        )
        made = {int(place): digest_of_sum(int(count), int(total)) for place, count, total in rows}
        return [made.get(place, NO_ROWS) for place in places]

    def _each(self, ranges: Sequence[KeyRange]) -> Work[list[str]]:
        """The digests of any ranges, one by one."""
        parts: list[str] = []
        values: list[object] = []
        for key_range in ranges:
            sql, more = self._rows(key_range)
            parts.append(f"SELECT {self._made} FROM ({sql}) _vetrin_p")
            values += more
        rows = yield self._asked(" UNION ALL ".join(parts), values)
        return [
            digest_of_sum(int(count), None if total is None else int(total))
            for count, total in rows
        ]

    def _asked(self, sql: str, values: Sequence[object]) -> list[Query]:
        with self._wire.cursor() as cursor:
            return [Query(str(cursor.mogrify(sql, values)))]


def _adjoin(ranges: Sequence[KeyRange]) -> bool:
    return len(ranges) > 1 and all(
        one.upto is not None and one.upto == other.after for one, other in pairwise(ranges)
    )


def _runs(numbers: Sequence[int]) -> list[tuple[int, int]]:
    """Numbers in their order as stretches: the first of each, and one more than its last."""
    found: list[tuple[int, int]] = []
    for number in numbers:
        if found and found[-1][1] == number:
            found[-1] = found[-1][0], number + 1
        else:
            found.append((number, number + 1))
    return found


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
