"""Files that are written as a whole or not at all."""

from __future__ import annotations

import fcntl
import subprocess
import sys
from pathlib import Path

import pytest

from vetrin.atomic import write_whole

_WRITES = """
import sys
from pathlib import Path
from vetrin.atomic import write_whole
for number in range(40):
    write_whole(Path(sys.argv[1]), sys.argv[2].encode() * 1000)
"""


def test_what_a_killed_process_left_goes_and_what_another_one_writes_stays(tmp_path: Path) -> None:
    path = tmp_path / "vetrin.toml"
    left, busy, other = (
        tmp_path / name
        for name in (".vetrin.toml.0123abcd", ".vetrin.toml.89abcdef", ".vetrin.toml.bak")
    )
    for file in (left, busy, other):
        file.write_bytes(b"secret")
    with busy.open("rb") as held:
        fcntl.flock(held, fcntl.LOCK_EX)
        write_whole(path, b"whole", 0o644)
    assert path.read_bytes() == b"whole" and path.stat().st_mode & 0o777 == 0o644
    assert {one.name for one in tmp_path.iterdir()} == {path.name, busy.name, other.name}


def test_several_may_write_the_same_file_at_a_time(tmp_path: Path) -> None:
    path = tmp_path / "known.json"
    writers = [
        subprocess.Popen([sys.executable, "-c", _WRITES, str(path), word])
        for word in ("a", "b", "c")
    ]
    assert [writer.wait(300) for writer in writers] == [0, 0, 0]
    assert path.read_bytes() in (b"a" * 1000, b"b" * 1000, b"c" * 1000)
    assert list(tmp_path.iterdir()) == [path]


def test_what_was_there_stays_where_it_cannot_be_written(tmp_path: Path) -> None:
    path = tmp_path / "folder"
    path.mkdir()
    with pytest.raises(OSError):
        write_whole(path, b"whole")
    assert list(tmp_path.iterdir()) == [path]
