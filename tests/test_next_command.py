"""The command after one that did not end as it was meant to, or after time has passed: what it finds, says and does."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from connected import hosts
from test_command_line import document, value, vetrin
from test_files import state
from test_interrupted import hidden, killed_after, pull
from test_push import builds_of
from vetrin.config import load_project
from vetrin.database.sqlite.database import SqliteDatabase
from vetrin.demo.sample import Sample
from vetrin.demo.walk import fingerprint
from vetrin.errors import LeftBroken
from vetrin.jobs import Choices, Journals, Plan, RunContext, agreed, build_plan, run_plan
from vetrin.jobs import push as push_module
from vetrin.jobs.build import make_build
from vetrin.jobs.push import build_push, holding, push
from vetrin.jobs.switching import RECORD
from vetrin.site import Site, open_site


def whole(root: Path) -> tuple[str, dict[str, object]]:
    """A site's rows and files, without Vetrin's own folder."""
    files = {
        k: v
        for k, v in state(root).items()
        if not k.startswith(".vetrin") and "harrowmere.sqlite" not in k
    }
    return fingerprint(root), files


@pytest.fixture
def step_by_step(monkeypatch: pytest.MonkeyPatch) -> None:
    """The switch is carried out from here, as where no process of ours can be beside the target."""
    monkeypatch.setattr(Site, "runs_processes", False)


def in_the_switch(folder: Path, work: Callable[[], object]) -> Iterator[int]:
    """Kill some work at each step at which the target has a record of a switch; the steps."""
    steps, inside = 0, False
    while killed_after(steps, work, engine=SqliteDatabase, methods=["swap"]):
        half = (folder / "local" / RECORD).exists()
        if half:
            yield steps
        inside |= half
        steps += 1
    assert inside


def all_of_it(folder: Path) -> None:
    project = load_project(folder)
    with (
        open_site(hosts, project, project.environment("production")) as source,
        open_site(hosts, project, project.environment("local"), read_only=False) as target,
    ):
        plan = build_plan(source, target, ("data", "media", "code"))
        run_plan(plan, RunContext(source, target, Journals(project.state)))


PULL = ("pull", "--yes", "--parts", "data,media,code")


def test_the_same_command_after_a_dead_switch_does_what_it_would_have_done(
    sample: Sample, step_by_step: None
) -> None:
    """It plans from what is there after the dead run was put right, not from what it found."""
    local = sample.root("local")
    before = whole(local)
    vetrin(sample.folder, *PULL)
    wanted = whole(local)
    vetrin(sample.folder, "undo", "local", "--yes")
    assert whole(local) == before
    tried = 0
    for number, step in enumerate(in_the_switch(sample.folder, lambda: all_of_it(sample.folder))):
        # One that died once it was done, and only its record was left, is a run like any other.
        done = Journals(sample.folder / ".vetrin").of("local")[0].stage == "done"
        if number % 7 == 0 and not done:
            said = vetrin(sample.folder, *PULL)
            assert whole(local) == wanted, (step, said.stdout)
            vetrin(sample.folder, "undo", "local", "--yes")
            tried += 1
        else:
            vetrin(sample.folder, "undo", "local", "--yes")
        assert whole(local) == before, step
        assert not (local / RECORD).exists()
    assert tried >= 3


def test_whoever_looks_at_a_half_switched_environment_is_told(
    sample: Sample, step_by_step: None
) -> None:
    folder, local = sample.folder, sample.root("local")
    before = whole(local)
    next(
        step for step in in_the_switch(folder, lambda: all_of_it(folder)) if whole(local) != before
    )
    told = "local is half old and half new: the switch of run"
    for words, code in (
        (("status",), 0),
        (("check", "local"), 4),
        (("survey", "local"), 0),
        (("compare", "production", "local"), 4),
        (("strays", "local"), 4),
    ):
        assert told in vetrin(folder, *words, code=code).stderr.replace("\n", " ")
        assert document(folder, *words, code=code)["half_switched"] == ["local"]
    for words in (
        ("backup", "local"), ("export", "local", "out.zip"), ("pull", "local", "--to", "staging", "--yes"),
        ("pull", "--dry-run"), ("rewrite", "local", "--replace", "http://a.test=http://b.test", "--dry-run"),
    ):  # fmt: skip
        said = vetrin(folder, *words, code=5)
        assert "vetrin resume local" in said.stderr and not (folder / "out.zip").exists()
    assert document(folder, "history")["runs"][0]["outcome"] == "stopped in its switch"
    assert "is finished now" in vetrin(folder, "resume").stdout
    assert whole(local) != before and not (local / RECORD).exists()
    vetrin(folder, "undo", "local", "--yes")
    assert whole(local) == before
    assert (
        "no run of local was stopped in between" in vetrin(folder, "resume", "local", code=5).stderr
    )


def test_another_project_puts_a_dead_switch_right(
    sample: Sample, step_by_step: None, tmp_path: Path
) -> None:
    """A second laptop has another journal; the record beside the target tells it all."""
    folder, local = sample.folder, sample.root("local")
    before = whole(local)
    next(
        step for step in in_the_switch(folder, lambda: all_of_it(folder)) if whole(local) != before
    )
    second = tmp_path / "second"
    second.mkdir()
    text = (folder / "vetrin.toml").read_text()
    for name in ("local", "staging", "production"):
        text = text.replace(f'root = "{name}"', f'root = "{folder}/{name}"')
    (second / "vetrin.toml").write_text(text)
    said = vetrin(second, "undo", "local", "--yes").stdout
    assert "A run of another project had been stopped in its switch" in said
    assert whole(local) == before
    vetrin(second, "pull", "--yes", "--parts", "media")
    now = whole(local)
    # The first one finds out, and does not take anything back that was never its own.
    vetrin(folder, "pull", "--yes", "--parts", "data")
    assert whole(local)[1] == now[1]
    assert document(folder, "history")["runs"][1]["outcome"] == "stopped, taken back"
    assert not [name for name in hidden(folder) if "_arriving_" in name]


def test_taking_back_twice_is_harmless(sample: Sample, step_by_step: None) -> None:
    """Should a journal lose that a run was taken back, what later runs brought stays."""
    folder, local = sample.folder, sample.root("local")
    before = whole(local)
    next(
        step for step in in_the_switch(folder, lambda: all_of_it(folder)) if whole(local) != before
    )
    vetrin(folder, "undo", "local", "--yes")
    *_, newest = sorted((folder / ".vetrin/runs").iterdir())
    journal = newest / "journal.jsonl"
    lines = journal.read_text().splitlines(keepends=True)
    assert '"taken-back"' in lines[-1]
    vetrin(folder, *PULL)
    wanted = whole(local)
    journal.write_text("".join(lines[:-1]) + lines[-1][:20])
    vetrin(folder, "pull", "--yes", "--parts", "media")
    assert whole(local) == wanted


def test_a_plan_that_went_stale_while_somebody_thought_is_asked_again(sample: Sample) -> None:
    project = load_project(sample.folder)
    picture = sample.root("local") / "media/2026/05"
    asked: list[tuple[bool, int]] = []
    with (
        open_site(hosts, project, project.environment("production")) as source,
        open_site(hosts, project, project.environment("local"), read_only=False) as target,
    ):
        journals = Journals(project.state)

        def make() -> Plan:
            return build_plan(source, target, ("data", "media"), (), Choices(mirror=True))

        def ask(plan: Plan, again: bool) -> None:
            assert plan.files is not None
            asked.append((again, len(plan.files.gone)))
            if len(asked) == 1:  # meanwhile somebody works there
                (picture / "drawn meanwhile.png").write_bytes(b"mine")
            assert not (sample.root("local") / ".vetrin/lock").exists()

        report = agreed(
            source, target, journals, make, ask,
            lambda plan: run_plan(plan, RunContext(source, target, journals)), beforehand=False,
        )  # fmt: skip
    assert [again for again, _ in asked] == [False, True]
    assert asked[1][1] == asked[0][1] + 1
    assert report.run.stage == "done"


def test_what_only_the_source_gained_needs_no_second_question(sample: Sample) -> None:
    project = load_project(sample.folder)
    asked: list[bool] = []
    with (
        open_site(hosts, project, project.environment("production")) as source,
        open_site(hosts, project, project.environment("local"), read_only=False) as target,
    ):

        def ask(plan: Plan, again: bool) -> None:
            asked.append(again)
            (sample.root("production") / "media/uploaded meanwhile.png").write_bytes(b"x")

        agreed(
            source, target, Journals(project.state),
            lambda: build_plan(source, target, ("media",)), ask,
            lambda plan: run_plan(plan, RunContext(source, target, Journals(project.state))), beforehand=False,
        )  # fmt: skip
    assert asked == [False]
    assert (sample.root("local") / "media/uploaded meanwhile.png").exists()


def test_undo_refuses_another_root_or_database(sample: Sample) -> None:
    folder = sample.folder
    vetrin(folder, *PULL)
    shutil.copytree(sample.root("staging"), folder / "elsewhere")
    text = (folder / "vetrin.toml").read_text()
    (folder / "vetrin.toml").write_text(text.replace('root = "local"', 'root = "elsewhere"'))
    before = whole(folder / "elsewhere")
    assert "cannot be undone" in vetrin(folder, "undo", "local", "--yes", code=5).stderr
    assert whole(folder / "elsewhere") == before
    # The same root under another name of the folder above is the same root.
    (folder / "vetrin.toml").write_text(text.replace('root = "local"', 'root = "renamed"'))
    (folder / "local").rename(folder / "renamed")
    vetrin(folder, "undo", "local", "--yes")


def test_undo_of_a_first_pull_into_an_empty_root_can_be_undone(sample: Sample) -> None:
    folder = sample.folder
    with (folder / "vetrin.toml").open("a") as file:
        file.write('\n[environment.fresh]\naddress = "http://127.0.0.1:9"\nroot = "fresh"\n')
    (folder / "fresh").mkdir()
    said = vetrin(folder, "pull", "--to", "fresh", "--yes")
    # No alarm about what this very plan brings.
    assert "has no such files" not in said.stdout + said.stderr
    wanted = whole(folder / "fresh")
    vetrin(folder, "undo", "fresh", "--yes")
    assert not (folder / "fresh/fishplate").exists()
    vetrin(folder, "undo", "fresh", "--yes")
    assert whole(folder / "fresh") == wanted
    assert value(folder / "fresh", "address") == "http://127.0.0.1:9"


def break_theme(sample: Sample) -> Path:
    path = sample.root("local") / "themes/maroon/theme.toml"
    path.write_text("this is = no = toml\n")
    return path


def test_a_push_that_undid_itself_leaves_the_way_back_before_it(served: Sample) -> None:
    folder, staging = served.folder, served.root("staging")
    first = whole(staging)
    vetrin(folder, "pull", "production", "--to", "staging", "--yes")
    theme = served.root("local") / "themes/maroon/theme.toml"
    good = theme.read_text()
    before = whole(staging)
    vetrin(folder, "push", "staging", "--yes", "--quiet")
    pushed = whole(staging)
    assert pushed != before
    break_theme(served)
    said = vetrin(folder, "push", "staging", "--yes", code=1)
    assert "was undone by run" in said.stderr
    assert whole(staging) == pushed
    theme.write_text(good)
    # It takes back the good push, and does not bring the broken build once more.
    vetrin(folder, "undo", "staging", "--yes")
    assert whole(staging) == before != first


def test_undo_of_code_looks_at_the_site(served: Sample) -> None:
    folder = served.folder
    break_theme(served)
    vetrin(folder, "push", "staging", "--yes", "--keep-broken", code=4)
    vetrin(folder, "undo", "staging", "--yes")
    said = vetrin(folder, "undo", "staging", "--yes", code=4)
    assert "the home page" in said.stdout and "brings back what was there" in said.stdout
    assert document(folder, "undo", "staging", "--yes")["home_after"]["state"] == "fine"


def test_where_a_broken_push_cannot_be_undone_it_is_said_what_stands_there(
    served: Sample, monkeypatch: pytest.MonkeyPatch
) -> None:
    break_theme(served)
    project = load_project(served.folder)
    builds, journals = builds_of(project), Journals(project.state)
    with (
        open_site(hosts, project, project.environment("local")) as source,
        open_site(hosts, project, project.environment("staging"), read_only=False) as target,
    ):
        build = make_build(project, source, ("code",), builds, list(project.environments.values()))
        held = holding(source, build, builds)
        plan = build_push(held, target, ("code",), [], Choices(), build, journals, builds)

        def lost(*values: object, **more: object) -> None:
            raise ConnectionResetError(104, "Connection reset by peer")

        monkeypatch.setattr(push_module, "undo", lost)
        with pytest.raises(LeftBroken, match="the new build is live there") as error:
            push(plan, RunContext(held, target, journals, builds=builds))
        assert "vetrin undo staging" in error.value.remedy
    assert (served.root("staging") / "themes/maroon/theme.toml").read_text().startswith("this is")
    vetrin(served.folder, "undo", "staging", "--yes")
    assert (
        not (served.root("staging") / "themes/maroon/theme.toml").read_text().startswith("this is")
    )


def test_files_that_were_added_on_staging_keep_a_build_from_production(served: Sample) -> None:
    folder = served.folder
    path = folder / "vetrin.toml"
    path.write_text(path.read_text().replace('"read-only"', '"read-write"'))
    vetrin(folder, "pull", "production", "--to", "staging", "--yes")
    vetrin(folder, "push", "staging", "--yes")
    (served.root("staging") / "themes/maroon/added.toml").write_text("by hand")
    said = vetrin(folder, "push", "production", "--confirm=production", code=5)
    assert "no longer holds build" in said.stderr and "added.toml" in said.stderr
    (served.root("staging") / "themes/maroon/added.toml").unlink()
    vetrin(folder, "push", "production", "--confirm=production", "--skip-backup")


def test_a_push_says_what_of_it_no_page_could_run(served: Sample) -> None:
    idle = served.root("local") / "extras/brand-new"
    idle.mkdir()
    (idle / "extra.toml").write_text('title = "Brand new"\nversion = "1"\n')
    said = document(served.folder, "push", "staging", "--yes", code=4)
    assert said["not_in_use"] == ["extras/brand-new", "extras/santa-specials"]


def test_a_full_disk_is_told_and_leaves_the_target_as_it_was(
    sample: Sample, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    """At every write of the journal, also right after the switch."""
    local = sample.root("local")
    before = whole(local)
    real, left = os.write, [0]

    def write(handle: int, data: bytes) -> int:
        name = Path(f"/proc/self/fd/{handle}").readlink().name
        if name == "journal.jsonl":
            left[0] -= 1
            if left[0] == 0:
                raise OSError(28, "No space left on device")
        return real(handle, data)

    monkeypatch.setattr(os, "write", write)
    failed = 0
    for at in range(1, 12):
        left[0] = at
        try:
            pull(sample.folder)
        except Exception as error:
            assert "No space left" in str(error) or "No space left" in str(error.__cause__), error
            failed += 1
            left[0] = -1
            assert whole(local) == before, at
        else:
            break
        left[0] = -1
        pull(sample.folder)
        vetrin(sample.folder, "undo", "local", "--yes")
        assert whole(local) == before, at
    assert failed >= 2


def test_parts_that_came_into_an_empty_root_are_no_dead_end(sample: Sample) -> None:
    """Each order ends in the whole site, and each way back in what was there before."""
    folder, root = sample.folder, sample.root("local")
    whole = sample.root("production")
    for first in ("media", "code"):
        shutil.rmtree(root)
        vetrin(folder, "pull", "--yes", "--parts", first)
        begun = fingerprint(root)
        told = vetrin(folder, "reach", "local", code=1).stdout
        assert "holds no whole Fishplate" in told and "--parts core,code" in told
        assert "there is no site in local yet" in vetrin(folder, "pull", "--dry-run").stdout
        vetrin(folder, "pull", "--yes", "--parts", "data,media,code,core")
        assert (root / "fishplate/version.toml").read_bytes() == (
            whole / "fishplate/version.toml"
        ).read_bytes()
        assert "same" in vetrin(folder, "compare", "production", "local").stdout
        vetrin(folder, "undo", "local", "--yes")
        assert fingerprint(root) == begun
    # What is damaged is mended the same way; what is no root of ours is left alone.
    vetrin(folder, "pull", "--yes", "--parts", "data,media,code,core")
    (root / "fishplate/version.toml").unlink()
    vetrin(folder, "pull", "--yes", "--parts", "core")
    assert (root / "fishplate/version.toml").is_file()
    shutil.rmtree(root)
    root.mkdir()
    (root / "letter.txt").write_text("Dear Jory")
    assert "point root" in vetrin(folder, "pull", "--yes", code=1).stderr
