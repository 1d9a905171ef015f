"""What has come over a line and was not taken: against a plain queue of bytes."""

from __future__ import annotations

import errno
import tempfile
from typing import IO

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from vetrin.remote.ssh import backlog
from vetrin.remote.ssh.backlog import Backlog


class Full:
    """A file on a disk that has room for some bytes more, then for none."""

    def __init__(self, file: IO[bytes], room: int) -> None:
        self._file, self._room = file, room
        self.seek, self.read, self.close = file.seek, file.read, file.close

    def write(self, data: memoryview) -> int:
        if not self._room:
            raise OSError(errno.ENOSPC, "no room")
        count = self._file.write(data[: self._room])
        self._room -= count
        return count


@settings(max_examples=300, deadline=None)
@given(
    steps=st.lists(
        st.tuples(st.booleans(), st.integers(1, 700)) | st.tuples(st.just(True), st.just(1)),
        max_size=120,
    ),
    beyond=st.sampled_from([0, 300, 2000]),
    margin=st.sampled_from([0, 100, 5000]),
    room=st.none() | st.integers(0, 3000),
)
def test_bytes_come_out_as_they_went_in(
    steps: list[tuple[bool, int]], beyond: int, margin: int, room: int | None
) -> None:
    """In whatever pieces, also where more comes than there is room for, and where the disk is full."""
    temporary = tempfile.TemporaryFile
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(backlog, "_HELD", 400)
        patched.setattr(backlog, "_AT_ONCE", 90)
        patched.setattr(backlog, "_MARGIN", margin)
        if room is not None:
            some = room
            patched.setattr(
                backlog.tempfile,
                "TemporaryFile",
                lambda **how: Full(temporary(**how), some),
            )
        waiting, model, number = Backlog(beyond), b"", 0
        for puts, count in steps:
            if puts:
                data = bytes((number + at) % 251 for at in range(count))
                number += count
                waiting.put(data)
                model += data
            else:
                into = bytearray(count)
                size = waiting.take_into(memoryview(into))
                assert size == min(count, len(model))
                assert into[:size] == model[:size]
                model = model[size:]
            assert bool(waiting) == bool(model)
            if room is None and margin > 700:
                assert waiting.full == (len(model) > 400 + beyond)
                assert waiting.half_empty == (len(model) < (400 + beyond) // 2)
        rest = bytearray(len(model) + 1)
        assert waiting.take_into(memoryview(rest)) == len(model)
        assert rest[:-1] == model
        waiting.close()
        assert not waiting


def test_what_is_held_in_memory_is_bounded() -> None:
    """A sender that is let wait when it should be fills a file, not memory."""
    waiting = Backlog(50_000_000)
    sent = 0
    while not waiting.full:
        waiting.put(bytes(100_000))
        sent += 100_000
    assert sent > 50_000_000
    assert waiting._held < 1_200_000
    into = memoryview(bytearray(1 << 20))
    taken = 0
    while not waiting.half_empty:
        taken += waiting.take_into(into)
    assert 20_000_000 < taken < 30_000_000
    assert waiting._held < 1_500_000
