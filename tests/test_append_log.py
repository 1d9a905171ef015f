"""The one log that journals, copied tables and baselines are kept in."""

from __future__ import annotations

import json
import os
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vetrin.append_log import AppendLog
from vetrin.errors import JobError, NewerLog
from vetrin.jobs import Journals
from vetrin.jobs.journal import DONE, SWAPPING


def log_at(folder: Path) -> AppendLog:
    return AppendLog(folder / "log.jsonl", "journal", 1)


EVENTS = st.lists(
    st.dictionaries(st.text(max_size=5), st.integers() | st.text(max_size=40), max_size=3),
    max_size=6,
)


@given(EVENTS, EVENTS, st.data())
def test_a_log_cut_anywhere_keeps_whole_lines_and_goes_on(
    tmp_path_factory: pytest.TempPathFactory,
    first: list[dict],
    then: list[dict],
    data: st.DataObject,
) -> None:
    folder = tmp_path_factory.mktemp("log")
    sizes = []
    for event in first:
        log_at(folder).append({"event": "x", **event})
        sizes.append((folder / "log.jsonl").stat().st_size)
    if first:
        end = data.draw(st.integers(0, sizes[-1]))
        os.truncate(folder / "log.jsonl", end)
        first = first[: sum(size <= end for size in sizes)]
    assert log_at(folder).read().sound
    again = log_at(folder)
    alone = data.draw(st.integers(0, len(then)))
    again.append_all({"event": "y", **event} for event in then[alone:])
    for event in then[:alone]:
        again.append({"event": "y", **event})
    found = again.read()
    assert found.sound
    assert [item["event"] for item in found.items] == ["x"] * len(first) + ["y"] * len(then)


def test_what_cannot_be_written_leaves_nothing_behind(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    log = log_at(tmp_path)
    log.append({"event": "planned"})
    real = os.write

    def full(handle: int, data: bytes) -> int:
        if len(data) > 10:
            return real(handle, data[:10])
        raise OSError(28, "No space left on device")

    with monkeypatch.context() as patched:
        patched.setattr(os, "write", full)
        with pytest.raises(OSError, match="No space left"):
            log.append({"event": "done", "more": "x" * 15})
    log.append({"event": "failed"})
    assert [item["event"] for item in log.read().items] == ["planned", "failed"]


def test_a_damaged_line_is_told_and_a_newer_version_refused(tmp_path: Path) -> None:
    log = log_at(tmp_path)
    for event in ("a", "b"):
        log.append({"event": event})
    lines = log.path.read_bytes().splitlines(keepends=True)
    log.path.write_bytes(lines[0] + b'{"event": \x00\n' + lines[2] + b"17\n[]\n")
    found = log.read()
    assert not found.sound
    assert [item["event"] for item in found.items] == ["b"]
    log.path.write_text('{"log": "journal", "version": 2}\n')
    with pytest.raises(NewerLog, match="newer Vetrin"):
        log.read()


def test_a_journal_of_an_earlier_version_is_read_on(tmp_path: Path) -> None:
    """Without a first line, values by their place, and one event that stands behind a torn one."""
    journals = Journals(tmp_path / ".vetrin")
    run = journals.begin("pull", "production", "local")
    planned = {"event": "planned", "at": "2026-11-01T10:00:00+00:00", "token": "0a1b2c3d", "kind": "pull",
               "source": "production", "target": "local"}  # fmt: skip
    swapping = {"event": "swapping", "at": "2026-11-01T10:00:01+00:00", "held": "",
                "exchanges": [["wp_options", "_vetrin_new_0a1b2c3d_0", "_vetrin_old_0a1b2c3d_0"]],
                "detach": [], "attach": [["trigger", "t", "wp_options", "CREATE TRIGGER …", ""]],
                "moves": [["media/a.png", None, "file", False]]}  # fmt: skip
    done = {"event": "done", "at": "2026-11-01T10:00:02+00:00", "report": {"rows": 3}}
    run.log.path.write_text(
        json.dumps(planned) + "\n" + json.dumps(swapping) + "\n" + '{"event": "drop'
        + json.dumps(done) + "\n[1, 2]\n7\n" + '{"event": "undone"}\n{"no": "event"}\n'
    )  # fmt: skip
    (found,) = journals.of("local")
    assert (found.stage, found.token, found.undone_by) == (DONE, "0a1b2c3d", None)
    assert found.switch.exchanges[0].outgoing == "_vetrin_old_0a1b2c3d_0"
    assert found.switch.moves[0].comes == "file"
    assert found.switch.attach[0].table == "wp_options"
    assert found.log_version == 0


def test_an_event_after_a_torn_one_counts(tmp_path: Path) -> None:
    journals = Journals(tmp_path / ".vetrin")
    run = journals.begin("pull", "production", "local")
    with run.log.path.open("ab") as file:
        file.write(b'{"event": "swapping", "exch')
    (found,) = journals.of("local")
    assert found.stage != SWAPPING
    found.write("taken-back", error="it was stopped in between")
    (again,) = journals.of("local")
    assert again.stage == "taken-back"


def test_a_journal_of_a_newer_version_is_told(tmp_path: Path) -> None:
    journals = Journals(tmp_path / ".vetrin")
    run = journals.begin("pull", "production", "local")
    run.log.path.write_text('{"log": "journal", "version": 99}\n')
    with pytest.raises(JobError, match="newer Vetrin"):
        list(journals.runs())
