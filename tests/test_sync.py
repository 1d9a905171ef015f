"""Plans, guards, journals and the reading-ahead thread, on their own."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from connected import hosts
from vetrin.config import load_project
from vetrin.demo.sample import Sample, lay_out
from vetrin.errors import Protected, Refused
from vetrin.jobs import Journals, build_plan
from vetrin.jobs.journal import DONE, FAILED, SWAPPING
from vetrin.prefetch import ahead
from vetrin.rewrite import Address
from vetrin.site import mapping_for, open_site


@pytest.fixture(scope="module")
def sample(tmp_path_factory: pytest.TempPathFactory) -> Sample:
    return lay_out(tmp_path_factory.mktemp("sync") / "railway")


def with_text(sample: Sample, folder: Path, old: str, new: str) -> Path:
    text = (
        (sample.folder / "vetrin.toml").read_text().replace('root = "', f'root = "{sample.folder}/')
    )
    assert old in text
    (folder / "vetrin.toml").write_text(text.replace(old, new))
    return folder


def plan(folder: Path, source: str = "production", target: str = "local"):
    project = load_project(folder)
    with (
        open_site(hosts, project, project.environment(source)) as one,
        open_site(hosts, project, project.environment(target), read_only=False) as two,
    ):
        return build_plan(one, two), mapping_for(one, two, [])


def test_a_plan_says_what_moves_and_what_stays(sample: Sample) -> None:
    found, _ = plan(sample.folder)
    assert {item.table.name: (item.rows, item.target_rows) for item in found.tables}[
        "bookings"
    ] == (240, 96)
    assert found.rows == sum(item.rows for item in found.tables)
    assert found.views == ("next_events",)
    assert found.files is not None
    assert {entry.path for entry in found.files.only_there} >= {"media/sketches/booking-form.png"}
    assert found.overwritten.newest is not None
    assert found.overwritten.newest.title == "Footplate days announced"
    entries = next(item for item in found.tables if item.table.name == "entries")
    rewritten = {entries.table.columns[index].name for index in entries.rewritten}
    assert rewritten.isdisjoint({"id", "slug", "permanent_id"})
    assert {"body", "details"} <= rewritten


def test_an_address_that_only_the_site_knows_is_rewritten_too(
    sample: Sample, tmp_path: Path
) -> None:
    folder = with_text(
        sample,
        tmp_path,
        f'address = "{sample.address("production")}"',
        'address = "https://front.test"',
    )
    found, mapping = plan(folder)
    assert Address.parse(sample.address("production")) in [pair.old for pair in mapping.pairs]
    assert any("calls itself" in note for note in found.notes)


def test_one_inside_the_other_protects_what_leads_to_it(sample: Sample, tmp_path: Path) -> None:
    folder = with_text(
        sample, tmp_path, f'address = "{sample.address("local")}"',
        f'address = "{sample.address("production")}/try"',
    )  # fmt: skip
    _, mapping = plan(folder)
    identical = [pair for pair in mapping.pairs if pair.old == pair.new]
    assert [str(pair.old) for pair in identical] == [f"{sample.address('production')}/try"]
    assert [pair.new for pair in mapping.pairs if pair.kind == "relative"] == [b"/try"]


def test_what_does_not_fit_is_refused(sample: Sample, tmp_path: Path) -> None:
    database = sample.root("production") / "data/harrowmere.sqlite"
    folder = with_text(
        sample, tmp_path, "[environment.staging]",
        f'[environment.local.database]\nfile = "{database}"\n\n[environment.staging]',
    )  # fmt: skip
    with pytest.raises(Refused, match="read-only"):
        plan(folder, "local", "production")
    with pytest.raises(Protected, match="its tables are those of production"):
        plan(folder)
    with_text(
        sample, tmp_path, "[environment.staging]",
        '[environment.production.database]\nprefix = "none_"\n[environment.local.database]\nprefix = "none_"\n\n'
        "[environment.staging]",
    )  # fmt: skip
    with pytest.raises(Refused, match="has no tables that begin with 'none_'"):
        plan(folder)


def test_journals_tell_where_the_content_came_from(tmp_path: Path) -> None:
    journals = Journals(tmp_path / ".vetrin")
    assert journals.last_transfer("local") is None

    def run(kind: str, source: str, undoes: int | None = None, stage: str = DONE) -> int:
        found = journals.begin(kind, source, "local", undoes)
        found.write(stage, report={})
        return found.number

    def last() -> str | None:
        found = journals.last_transfer("local")
        return found.source if found else None

    first = run("pull", "production")
    assert last() == "production"
    second = run("pull", "staging")
    assert last() == "staging"
    undo = run("undo", "staging", second)
    assert last() == "production"
    run("undo", "staging", undo)
    assert last() == "staging"
    run("pull", "production", stage=FAILED)
    run("rewrite", "local")
    assert last() == "staging"
    assert [item.number for item in journals.of("local")] == [6, 5, 4, 3, 2, 1]
    assert first == 1
    assert journals.of("staging") == []


def test_a_journal_survives_a_cut_off_line_and_an_empty_run(tmp_path: Path) -> None:
    journals = Journals(tmp_path / ".vetrin")
    run = journals.begin("pull", "production", "local")
    with (run.folder / "journal.jsonl").open("a") as file:
        file.write('{"event": "swapping", "exchanges": [[')
    (tmp_path / ".vetrin/runs/0002").mkdir()
    (found,) = journals.of("local")
    assert found.unfinished
    assert found.stage != SWAPPING
    assert journals.begin("pull", "production", "local").number == 3


def test_an_error_ahead_is_raised_where_it_is_read() -> None:
    def items() -> Iterator[int]:
        yield 1
        raise ValueError("broken source")

    with ahead(items()) as stream:
        assert next(stream) == 1
        with pytest.raises(ValueError, match="broken source"):
            next(stream)


def test_only_a_few_items_are_in_flight_and_leaving_stops_the_thread() -> None:
    made: list[int] = []
    closed = threading.Event()

    def items() -> Iterator[int]:
        try:
            for number in range(1000):
                made.append(number)
                yield number
        finally:
            closed.set()

    with ahead(items(), depth=2) as stream:
        assert next(stream) == 0
        time.sleep(0.3)
        assert len(made) <= 5
    assert closed.wait(2)
    assert len(made) <= 6
    assert not any(thread.name == "reader" for thread in threading.enumerate())
