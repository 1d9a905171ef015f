"""Rows from a server whose answers may be cut anywhere between two rows."""

from __future__ import annotations

import threading
import time

from hypothesis import given, settings
from hypothesis import strategies as some

from vetrin.database.base import Column, Table
from vetrin.database.batch import Batch
from vetrin.database.key_ranges import KeyRange, KeyRanges
from vetrin.database.mysql.answers import Answer, rows_by_answers
from vetrin.database.row_codec import records_of

Key = tuple[int, ...]


class Cutting:
    """Answers as a relay does, from a model of a table: ``sizes`` are the rows of each answer, over and over."""

    def __init__(self, keys: list[Key], sizes: list[int], seconds: float = 0) -> None:
        self.keys, self.sizes, self.seconds = sorted(keys), sizes, seconds
        self.asked = self.at_once = self.most = 0
        self._ranges: dict[str, KeyRange | KeyRanges | None] = {}
        self._lock = threading.Lock()

    def query(self, key_range: KeyRange | KeyRanges | None) -> str:
        name = repr(key_range)
        self._ranges[name] = key_range
        return name

    def answer(self, sql: str, stretch_bytes: int) -> Answer:
        name, _, limit = sql.partition(" LIMIT ")
        wanted = self._ranges[name]
        with self._lock:
            size = self.sizes[self.asked % len(self.sizes)]
            self.asked += 1
            self.at_once += 1
            self.most = max(self.most, self.at_once)
        time.sleep(self.seconds)
        rows = [key for key in self.keys if wanted is None or wanted.holds(key)]
        rows = rows[int(limit.partition(",")[0]) if limit else 0 :]
        found = [record(key) for key in rows[:size]]
        with self._lock:
            self.at_once -= 1
        return Answer([found[at : at + 3] for at in range(0, len(found), 3)], len(rows) > size)


def record(key: Key) -> bytes:
    return records_of(Batch(len(key), [str(part).encode() for part in key], 1))[0]


def table(width: int, *, numbers: bool = True) -> Table:
    names = [f"k{number}" for number in range(width)]
    columns = [Column(name, "bigint(20)" if numbers else "varchar(20)", False) for name in names]
    return Table(
        "t", columns=tuple(columns), key=tuple(names), fixed=frozenset(names), rows=0, size=0
    )


numbers = some.integers(-50, 400) | some.integers(-(1 << 63), (1 << 64) - 1)


@settings(max_examples=300)
@given(some.data())
def test_every_row_comes_once_and_in_order(data: some.DataObject) -> None:
    width = data.draw(some.integers(1, 3))
    key = some.tuples(*[numbers] * width)
    keys = data.draw(some.lists(key, unique=True, max_size=120))
    sizes = data.draw(some.lists(some.integers(1, 40), min_size=1, max_size=5))
    by_key = data.draw(some.booleans())
    borders = sorted(data.draw(some.lists(key, max_size=2)))
    wanted: KeyRange | KeyRanges | None = None
    if len(borders) == 2:
        wanted = KeyRange(*borders)
    elif borders:
        wanted = data.draw(
            some.sampled_from([KeyRange(None, borders[0]), KeyRanges((KeyRange(borders[0]),))])
        )
    server = Cutting(keys, sizes)
    rows = rows_by_answers(server, server.query, table(width, numbers=by_key), wanted, 1000)
    expected = [record(one) for one in sorted(keys) if wanted is None or wanted.holds(one)]
    assert [one for stretch in rows for one in stretch] == expected
    assert server.asked <= 4 * len(expected) + 4


def test_two_answers_are_under_way_and_few_are_small() -> None:
    keys = [(number,) for number in range(0, 60_000, 3)]
    server = Cutting(keys, [500], 0.002)
    rows = [
        one for part in rows_by_answers(server, server.query, table(1), None, 1000) for one in part
    ]
    assert len(rows) == len(keys)
    assert server.asked <= 1.3 * len(keys) / 500 and server.most == 2
