"""Pages that another process makes are those that this one would make, whatever becomes of it."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from zlib import crc32

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vetrin.database import Batch, Column, Table, joint_digest, side_process, with_pages
from vetrin.database import page_worker as module
from vetrin.database.page_prints import PagePrints
from vetrin.database.page_worker import PageWorker
from vetrin.database.row_codec import records_of

KEY = b"k" * 32
PYTHON = sys.executable
NUMBER, TEXT = Column("id", "bigint", False), Column("text", "longtext", True)
SHAPES = {
    "a number": Table("times", (NUMBER, TEXT), ("id",), frozenset({"id"}), 0, 0),
    "two numbers": Table(
        "times",
        (TEXT, NUMBER, Column("ye\udcffar", "int(11)", False)),
        ("ye\udcffar", "id"),
        frozenset({"id", "ye\udcffar"}),
        0,
        0,
    ),
    "a text": Table("times", (TEXT, NUMBER), ("text",), frozenset({"text"}), 0, 0),
    "none": Table("times", (NUMBER, TEXT), (), frozenset(), 0, 0),
}


def batches(table: Table, rows: Sequence[bytes | None], each: int) -> Iterator[Batch]:
    """Rows with these texts, some at a time."""
    for at in range(0, len(rows), each):
        cells: list = []
        for number, text in enumerate(rows[at : at + each], at):
            cells += [text if column == TEXT else b"%d" % number for column in table.columns]
        batch = Batch(len(table.columns), cells, sum(len(text or b"") for text in rows))
        batch.records = records_of(batch)
        yield batch


def told(found: Sequence[Batch]) -> list:
    return [(batch.pages, batch.sums, batch.records) for batch in found]


def remembered(prints: PagePrints, table: Table, found: Sequence[Batch]) -> list:
    """What is known of the pages of some batches, one by one and together."""
    pages = [page.digest for batch in found for page in batch.pages]
    digests = [*pages, joint_digest(pages)]
    places = [[column.name for column in table.columns].index(name) for name in table.key]
    strips = prints.strips_of(digests, places)
    return [(digest, prints.of(digest), strips(digest)) for digest in digests]


@pytest.fixture(scope="module")
def worker() -> Iterator[PageWorker]:
    with PageWorker() as found:
        found._lost = False  # however few processors there are
        yield found
        assert found._process is not None, "it was lost, so all was made here"


@pytest.mark.parametrize("shape", SHAPES)
@given(
    rows=st.lists(st.none() | st.binary(max_size=40), max_size=60)
    | st.lists(st.binary(min_size=2, max_size=3), min_size=600, max_size=700),
    each=st.sampled_from([1, 7, 600]),
)
def test_pages_are_those_that_would_be_made_here(
    worker: PageWorker, shape: str, rows: list[bytes | None], each: int
) -> None:
    table = SHAPES[shape]
    ours, theirs = PagePrints(key=KEY), PagePrints(key=KEY)
    here = [*with_pages(table, batches(table, rows, each), ours)]
    there = [*worker.through(table, batches(table, rows, each), theirs)]
    assert told(there) == told(here)
    assert remembered(theirs, table, there) == remembered(ours, table, here)
    for batch in there:
        assert [*batch.checks] == [*map(crc32, batch.records or ())]


def cut_off(worker: PageWorker) -> None:
    process = worker._process
    assert process is not None
    os.kill(process.pid, signal.SIGKILL)
    process._process.wait()  # the worker may have noticed by now, and let go of it


@pytest.mark.parametrize("shape", SHAPES)
@pytest.mark.parametrize("executable", [PYTHON, "/nowhere/python", "/bin/false"])
@pytest.mark.parametrize("early", [0, 1, 5, 9])
def test_where_the_process_ends_pages_are_made_here(
    shape: str, executable: str, early: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    table = SHAPES[shape]
    rows: list[bytes | None] = [b"Train %d" % number for number in range(100)]
    monkeypatch.setattr(sys, "executable", executable)
    ours, theirs = PagePrints(key=KEY), PagePrints(key=KEY)
    here = [*with_pages(table, batches(table, rows, 10), ours)]
    there = []
    with PageWorker() as worker:
        worker._lost = False
        for number, batch in enumerate(worker.through(table, batches(table, rows, 10), theirs)):
            there.append(batch)
            if number == early and executable == PYTHON:
                cut_off(worker)
        if executable != PYTHON:
            assert worker._process is None
    assert told(there) == told(here)
    for (digest, seen, strips), known in zip(
        remembered(ours, table, here), remembered(theirs, table, there), strict=True
    ):
        # Part of a table that does not go by key was seen elsewhere, so it is unknown what all of it looks like.
        lost = executable == PYTHON and shape in ("a text", "none")
        assert known == (digest, seen, strips) or (lost and known[1] is None)


def test_a_table_that_is_left_before_its_end_disturbs_no_other(worker: PageWorker) -> None:
    table, rows = SHAPES["none"], [b"Train %d" % number for number in range(100)]
    left = worker.through(table, batches(table, rows, 10), PagePrints(key=KEY))
    assert next(left).pages
    ours, theirs = PagePrints(key=KEY), PagePrints(key=KEY)
    here = [*with_pages(table, batches(table, rows, 7), ours)]
    there = [*worker.through(table, batches(table, rows, 7), theirs)]
    left.close()
    assert told(there) == told(here)
    assert remembered(theirs, table, there) == remembered(ours, table, here)


def test_an_error_of_the_source_is_raised_as_it_is(worker: PageWorker) -> None:
    table = SHAPES["a number"]

    def failing() -> Iterator[Batch]:
        yield from batches(table, [b"one", b"two"], 1)
        raise OSError("the line broke")

    with pytest.raises(OSError, match="the line broke"):
        list(worker.through(table, failing()))
    assert next(worker.through(table, batches(table, [b"one"], 1))).pages


def test_on_one_processor_there_is_no_process(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(module, "processors", lambda: 1)
    table = SHAPES["a number"]
    with PageWorker() as worker:
        found = [*worker.through(table, batches(table, [b"one", b"two"], 1))]
        assert worker._process is None
    assert told(found) == told([*with_pages(table, batches(table, [b"one", b"two"], 1))])


def gone(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return True
    # One that ended, and that nobody has asked about yet.
    return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] == "Z"


def soon(is_so: Callable[[], bool]) -> bool:
    for _ in range(200):
        if is_so():
            return True
        time.sleep(0.05)
    return False


def test_the_process_ends_with_us() -> None:
    with PageWorker() as worker:
        worker._lost = False
        assert worker.ask(
            module._BEGIN, 1, side_process.plain(SHAPES["none"]), False, None
        ).result()
        process = worker._process
    assert process is not None and gone(process.pid)


def test_the_process_ends_where_we_are_killed() -> None:
    program = (
        "import os\n"
        "from vetrin.database import page_worker as module\n"
        "from vetrin.database.side_process import plain\n"
        "worker = module.PageWorker()\n"
        "worker._lost = False\n"
        "table = module.Table('times', (), (), frozenset(), 0, 0)\n"
        "asked = [worker.ask(module._BEGIN, 1, plain(table), False, None).result()]\n"
        "print(worker._process.pid, asked, flush=True)\n"
        "os.kill(os.getpid(), 9)\n"
    )
    told = subprocess.run([sys.executable, "-c", program], stdout=subprocess.PIPE, check=False)
    assert told.returncode == -signal.SIGKILL
    pid, asked = told.stdout.split(maxsplit=1)
    assert asked.strip() == b"[True]"
    assert soon(lambda: gone(int(pid)))
