"""Work grows with how much there is, not with its square, and not with what earlier runs did: counted in calls."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from pathlib import Path
from types import FrameType
from typing import Any

from vetrin.files import FileStatus, Move
from vetrin.files.filesystem import PlannedFileSystem
from vetrin.files.swap import Places, planned
from vetrin.jobs import Journals
from vetrin.jobs.journal import DONE, SWAPPING
from vetrin.jobs.switch import Switch


def calls(work: Callable[[], Any]) -> int:
    """How many functions, the interpreter's own included, some work calls."""
    found = 0

    def heard(frame: FrameType, event: str, argument: object) -> None:
        nonlocal found
        found += event in ("call", "c_call")

    before = sys.getprofile()
    sys.setprofile(heard)
    try:
        work()
    finally:
        sys.setprofile(before)
    return found


class Waiting:
    """A tree in which every file waits to be brought in."""

    def look(self, paths: Sequence[str], *, follow: bool = False) -> list[FileStatus | None]:
        return [
            FileStatus("folder" if path.rpartition("/")[2].isdigit() else "file", mode=0o755)
            if "/new/" in path or path.endswith("/uploads")
            else None
            for path in paths
        ]


def moves(count: int) -> list[Move]:
    return [
        Move(f"uploads/{number % 12}/photo-{number}.jpg", None, "file") for number in range(count)
    ]


def test_a_switch_of_many_files() -> None:
    def plan(count: int) -> int:
        ground = PlannedFileSystem(Waiting(), swaps=False)
        places = Places("/srv/live", ".vetrin", "token", lambda path: "", ground)
        acts: list[Any] = []
        found = calls(lambda: acts.extend(planned(places, ground, moves(count)) or ()))
        assert sum(act.do == "rename" for act in acts) == count
        return found

    assert plan(1000) < 2.3 * plan(500)


def test_earlier_runs_of_many_files(tmp_path: Path) -> None:
    journals = Journals(tmp_path / ".vetrin")
    for count in (10, 5000, 0):
        run = journals.begin("pull", "production", "local", signature="x")
        run.write(SWAPPING, **Switch(moves=tuple(moves(count))).as_json())
        run.write(DONE)
    found = Journals(tmp_path / ".vetrin").of("local")
    assert calls(lambda: Journals(tmp_path / ".vetrin").of("local")) < 2000
    assert [run.changed for run in found] == [False, True, True]
    assert [len(run.switch.moves) for run in found] == [0, 5000, 10]
    assert found[1].switch.moves == tuple(moves(5000))
    found[0].write("dropped")
    assert Journals(tmp_path / ".vetrin").of("local")[0].dropped


def test_the_outline_of_a_long_switch_is_not_taken_in(tmp_path: Path) -> None:
    """Names that look like the lists of a record are no lists."""
    journals = Journals(tmp_path / ".vetrin")
    run = journals.begin("pull", "production", "local")
    run.write(SWAPPING, **Switch(held='"moves": [{' * 3000).as_json())
    (found,) = Journals(tmp_path / ".vetrin").of("local")
    assert not found.changed and found.switch.nothing
