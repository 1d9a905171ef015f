"""A connection that is lost is not taken for a file that is not there."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from connected import hosts
from vetrin.config import load_project
from vetrin.database.sqlite.database import SqliteDatabase
from vetrin.demo.sample import Sample
from vetrin.errors import DatabaseError, FilesError, JobError
from vetrin.files import Entry, FileStatus, LocalTree
from vetrin.files.remote_machine import SINCE_START, AskedEachTime, spot_there
from vetrin.jobs import Journals, RunContext, build_plan, run_plan, switching
from vetrin.jobs.identity import is_where
from vetrin.jobs.lock import holder_of, must_hold, only_run
from vetrin.jobs.passwords import must_hold_none
from vetrin.site import Site, open_site
from vetrin.site.extensions import extensions_of


def lost(*values: object, **more: object) -> object:
    error = FilesError("deploy@harrowmere.example: the connection was lost")
    error.lost = True
    raise error


class Machine(AskedEachTime):
    """It says what lies there, and then the line is cut."""

    def look(self, paths: list[str], *, follow: bool = False) -> list[FileStatus | None]:
        return [FileStatus("folder")]

    read = lost


@pytest.mark.parametrize(
    "work",
    [
        lambda site: holder_of(site.files),
        must_hold,
        lambda site: is_where(site, "0123456789abcdef"),
        extensions_of,
        lambda site: must_hold_none(site.files, [Entry("index.txt", "file", 3)], [b"semaphore"]),
        lambda site: spot_there(Machine(), "host", SINCE_START),  # type: ignore[arg-type]
    ],
    ids=["holder", "must hold", "identity", "extensions", "passwords", "spot"],
)
def test_nothing_is_concluded_from_it(
    sample: Sample, monkeypatch: pytest.MonkeyPatch, work: Callable[[Site], object]
) -> None:
    project = load_project(sample.folder)
    with (
        open_site(hosts, project, project.environment("staging"), read_only=False) as site,
        only_run(site),
    ):
        (site.environment.root / ".vetrin/id").write_text("0123456789abcdef")
        with monkeypatch.context() as patched:
            patched.setattr(LocalTree, "read", lost)
            with pytest.raises(FilesError, match="the connection was lost"):
                work(site)


def test_what_was_taken_back_is_told_although_the_line_is_gone(
    sample: Sample, monkeypatch: pytest.MonkeyPatch
) -> None:
    def broken(*values: object, **more: object) -> object:
        raise DatabaseError("the disk of the server is full")

    project = load_project(sample.folder)
    with (
        open_site(hosts, project, project.environment("production")) as source,
        open_site(hosts, project, project.environment("staging"), read_only=False) as target,
    ):
        plan = build_plan(source, target)
        monkeypatch.setattr(SqliteDatabase, "lay_out", broken)
        monkeypatch.setattr(switching, "end", lost)
        with pytest.raises(JobError, match="the disk of the server is full") as told:
            run_plan(plan, RunContext(source, target, Journals(project.state)))
    assert told.value.remedy == "staging is as it was before"
