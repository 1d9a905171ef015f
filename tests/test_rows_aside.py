"""What is known of pages that differ is kept: rows that are put aside are as they were, or not there."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from vetrin.database import KeyRange, Part, RowsAside

ROWS = [b"\x01a", b"", b"\xfb" * 300]


def part(records: list[bytes] | None, upto: int = 7) -> Part:
    return Part(KeyRange(None, (upto,)), ("1-2", "3-4"), records)


def lacking(one: Part) -> Part:
    return one._replace(records=None)


def test_they_are_there_once(tmp_path: Path) -> None:
    with RowsAside(tmp_path) as aside:
        aside.put(3, [part(ROWS), part([], 8)])
        aside.put(1, [part(None)])
        for page in range(10, 20):  # enough to be written
            aside.put(page, [part([b"x" * (1 << 20)])])
        assert aside.take(3) == [part(ROWS), part([], 8)]
        assert aside.take(1) == [lacking(part(None))]
        assert all(aside.take(page) == [part([b"x" * (1 << 20)])] for page in range(19, 9, -1))
        assert not any(aside.take(page) for page in range(20))
        assert not list(tmp_path.iterdir())  # the file has no name


def test_rows_that_would_take_too_much_are_not_kept(tmp_path: Path) -> None:
    with RowsAside(tmp_path, most=2000) as aside:
        for page in range(10):
            aside.put(page, [part(ROWS)])
        found = [aside.take(page) for page in range(10)]
        kept = [one for one in found if one == [part(ROWS)]]
        assert 3 <= len(kept) < 10
        assert all(one in ([part(ROWS)], [lacking(part(ROWS))]) for one in found)


def test_a_full_disk_and_a_folder_that_is_gone(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    large = [b"x" * (5 << 20)]
    with RowsAside(tmp_path / "gone") as aside:
        aside.put(1, [part(large)])
        assert aside.take(1) == [lacking(part(large))]
    with RowsAside(tmp_path) as aside:
        aside.put(1, [part(large)])
        file = aside._file._file
        assert file is not None

        class Full:
            def __getattr__(self, name: str) -> object:
                return getattr(file, name)

            def write(self, data: bytes) -> int:
                return file.write(data[:7])

        monkeypatch.setattr(aside._file, "_file", Full())
        aside.put(2, [part(large)])
        aside.put(3, [part(ROWS)])
        assert [aside.take(page) for page in (3, 2, 1)] == [
            [lacking(part(ROWS))],
            [lacking(part(large))],
            [part(large)],
        ]


def test_what_is_put_aside_beside_others_is_apart_but_for_the_room(tmp_path: Path) -> None:
    def put(one: RowsAside, page: int) -> None:
        for at in range(20):
            one.put(at, [part([b"%d" % page * (40 << 10)])])
        one.lay_down()

    with RowsAside(tmp_path, most=20 << 20) as aside:
        stretches = [aside.beside() for _ in range(8)]
        with ThreadPoolExecutor(4) as threads:
            list(threads.map(put, stretches, range(8)))
        aside.put(0, [part(ROWS)])
        found = [[one.take(page) for page in range(20)] for one in stretches]
        assert found == [[[part([b"%d" % at * (40 << 10)])]] * 20 for at in range(8)]
        assert aside.take(0) == [part(ROWS)]
        for page in range(20):
            aside.put(page, [part([b"x" * (1 << 20)])])
        kept = [aside.take(page) != [lacking(part([]))] for page in range(20)]
        assert 10 < sum(kept) < 16
