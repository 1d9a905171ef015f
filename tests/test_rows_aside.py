"""Rows that are put aside are as they were, or not there."""

from __future__ import annotations

from pathlib import Path

import pytest

from vetrin.database import RowsAside
from vetrin.database.rows_aside import PageRows

ROWS = [b"\x01a", b"", b"\xfb" * 300]


def test_they_are_there_once(tmp_path: Path) -> None:
    with RowsAside(tmp_path) as aside:
        aside.put(3, ROWS)
        aside.put(1, [])
        page = PageRows(aside, 2)
        page.add(ROWS[:1])
        page.add(ROWS[1:])
        assert 2 not in aside
        page.put()
        assert [aside.take(page) for page in (2, 3, 1)] == [ROWS, ROWS, []]
        assert not any(page in aside for page in (1, 2, 3))
        assert not list(tmp_path.iterdir())  # the file has no name


def test_what_would_take_too_much_is_not_kept(tmp_path: Path) -> None:
    with RowsAside(tmp_path, most=2000) as aside:
        for page in range(10):
            aside.put(page, ROWS)
        kept = [page for page in range(10) if page in aside]
        assert 3 <= len(kept) < 10 and all(aside.take(page) == ROWS for page in kept)
        large = PageRows(aside, 11)
        for _ in range(5):
            large.add([b"x" * (1 << 20)])
        large.put()
        assert 11 not in aside


def test_a_full_disk_and_a_folder_that_is_gone(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with RowsAside(tmp_path / "gone") as aside:
        aside.put(1, ROWS)
        assert 1 not in aside
    with RowsAside(tmp_path) as aside:
        aside.put(1, ROWS)
        file = aside._file
        assert file is not None

        class Full:
            def __getattr__(self, name: str) -> object:
                return getattr(file, name)

            def write(self, data: bytes) -> int:
                return file.write(data[:7])

        monkeypatch.setattr(aside, "_file", Full())
        aside.put(2, ROWS)
        aside.put(3, ROWS)
        assert [page in aside for page in (1, 2, 3)] == [True, False, False]
        assert aside.take(1) == ROWS
