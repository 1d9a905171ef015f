"""A connection that is lost is not taken for a file that is not there."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from vetrin.demo.sample import Sample
from vetrin.files import Entry, FilesError, LocalTree, Look
from vetrin.files.machine import SINCE_START, spot_there
from vetrin.project import load_project
from vetrin.reach import Site, open_site
from vetrin.reach.extensions import extensions_of
from vetrin.sync.identity import is_where
from vetrin.sync.lock import holder_of, must_hold, only_run
from vetrin.sync.passwords import must_hold_none


def lost(*values: object, **more: object) -> object:
    error = FilesError("deploy@harrowmere.example: the connection was lost")
    error.lost = True
    raise error


class Machine:
    """It says what lies there, and then the line is cut."""

    def look(self, paths: list[str], *, follow: bool = False) -> list[Look | None]:
        return [Look("folder")]

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
        open_site(project, project.environment("staging"), read_only=False) as site,
        only_run(site),
    ):
        (site.environment.root / ".vetrin/id").write_text("0123456789abcdef")
        with monkeypatch.context() as patched:
            patched.setattr(LocalTree, "read", lost)
            with pytest.raises(FilesError, match="the connection was lost"):
                work(site)
