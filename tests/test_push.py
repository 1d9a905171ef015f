"""vetrin push on the sample project: builds, guards, promotion, undoing by itself, killed anywhere."""

from __future__ import annotations

import json
import os
import subprocess
import threading
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import httpx
import pytest
from msgspec.structs import replace

from connected import hosts
from test_command_line import document, value, vetrin
from test_files import state
from test_interrupted import killed_after
from vetrin.config import Project, load_project
from vetrin.database.sqlite.database import SqliteDatabase
from vetrin.demo.sample import Sample
from vetrin.demo.walk import fingerprint
from vetrin.errors import DamagedObject, FilesError, JobError, NoBuild, ProjectError
from vetrin.files import Buffer, Entry, LocalTree
from vetrin.jobs import (
    Choices,
    FileMoved,
    Journals,
    RunContext,
    build_plan,
    run_plan,
    switching,
    undo,
)
from vetrin.jobs.build import make_build, run_build
from vetrin.jobs.push import build_push, holding, push
from vetrin.site import Site, open_site
from vetrin.store import Builds, StoredBuild, fingerprint_of, open_store


def git(folder: Path, *arguments: str) -> str:
    return subprocess.run(
        ["git", "-c", "user.name=Guard", "-c", "user.email=guard@harrowmere.test", *arguments],
        cwd=folder, check=True, capture_output=True, text=True,
    ).stdout.strip()  # fmt: skip


def permit(sample: Sample) -> None:
    path = sample.folder / "vetrin.toml"
    path.write_text(path.read_text().replace('"read-only"', '"read-write"'))


def builds_of(project: Project) -> Builds:
    return Builds(lambda: open_store(hosts, project, writing=True))


def theme(sample: Sample, environment: str = "local", name: str = "theme.toml") -> Path:
    return sample.root(environment) / "themes/maroon" / name


def code(root: Path) -> dict[str, object]:
    return {
        path: found for path, found in state(root).items()
        if path.startswith(("themes", "extras", "closed"))
    }  # fmt: skip


def contents(root: Path) -> dict[str, object]:
    return {path: found[0] for path, found in code(root).items() if isinstance(found, tuple)}


def test_from_local_over_staging_to_production(served: Sample) -> None:
    sample, folder = served, served.folder
    permit(sample)
    local, staging, live = (sample.root(name) for name in ("local", "staging", "production"))
    git(local, "init", "-q")
    git(local, "add", "themes", "extras")
    git(local, "commit", "-qm", "Winter colours")
    vetrin(folder, "pull", "production", "--to", "staging", "--yes")
    before = {name: fingerprint(sample.root(name)) for name in ("staging", "production")}
    # Nothing goes to production that was not on staging.
    assert "no build is known to be on staging" in vetrin(
        folder, "push", "production", "--confirm=production", code=5).stderr  # fmt: skip
    assert "was never checked on staging" in vetrin(
        folder, "push", "production", "--from", "local", "--confirm=production", code=5).stderr  # fmt: skip
    first = document(folder, "push", "staging", "--yes")
    assert first["home_before"]["state"] == first["home_after"]["state"] == "fine"
    assert first["check"]["findings"] == []
    assert first["plan"]["files"]["whole_folders"] == [
        "extras/donation-box", "extras/santa-specials", "themes/maroon"]  # fmt: skip
    assert first["plan"]["build"]["commit"]["subject"] == "Winter colours"
    assert not first["plan"]["build"]["commit"]["clean"]  # the build wrote style.css
    assert "border-color" in theme(sample, "staging", "style.css").read_text()
    git(local, "commit", "-qam", "Style as built")
    vetrin(folder, "push", "staging", "--yes")
    # A change to the working copy after that is no part of what production gets.
    theme(sample).write_text('footer = "Not yet"\n')
    git(local, "commit", "-qam", "A new footer")
    theirs = {
        "live-departures/extra.toml": (live / "extras/live-departures/extra.toml").read_text()
    }
    promoted = document(folder, "push", "production", "--confirm=production")
    assert promoted["plan"]["build"]["fingerprint"] == first["plan"]["build"]["fingerprint"]
    builds = builds_of(load_project(folder))
    kept = builds.get(promoted["kept_build"])
    assert (kept.found, kept.environment) == (True, "production")
    tree = builds.tree(kept, LocalTree(live))
    assert b"border-color" not in b"".join(tree.read("themes/maroon/style.css"))
    assert {k: v for k, v in contents(live).items() if k in contents(staging)} == contents(staging)
    assert theirs == {k: (live / "extras" / k).read_text() for k in theirs}
    for name, found in before.items():
        assert fingerprint(sample.root(name)) == found, name
    # The next one: the plan tells which commits it brings.
    vetrin(folder, "push", "staging", "--yes")
    plan = document(folder, "push", "production", "--dry-run")
    assert [commit["subject"] for commit in plan["commits"]] == ["A new footer"]
    assert plan["before"]["fingerprint"] == first["plan"]["build"]["fingerprint"]
    # Somebody works on staging itself: that is not what was checked.
    theme(sample, "staging").write_text('footer = "By hand"\n')
    refused = vetrin(folder, "push", "production", "--confirm=production", code=5).stderr
    assert "1 file differs (themes/maroon/theme.toml)" in refused
    # Any earlier one can be pushed again.
    short = first["plan"]["build"]["fingerprint"][:8]
    again = document(folder, "push", "staging", "--build", short, "--yes")
    assert [c["subject"] for c in again["plan"]["commits_taken_back"]] == ["A new footer"]
    assert "Run by volunteers" in theme(sample, "staging").read_text()
    runs = document(folder, "history")["runs"]
    assert [run["build"]["fingerprint"][:8] == short for run in runs if run["build"]] == [
        True, False, True, True, True]  # fmt: skip
    assert all(run["checked"]["good"] for run in runs if run["build"])
    # What production had before its first push can come back too, without having been on staging.
    vetrin(folder, "push", "production", "--build", kept.short, "--confirm=production")
    assert "border-color" not in theme(sample, "production", "style.css").read_text()
    vetrin(folder, "undo", "production", "--confirm=production")
    assert "border-color" in theme(sample, "production", "style.css").read_text()


def test_a_push_that_breaks_the_home_page_is_undone_by_itself(served: Sample) -> None:
    sample, folder = served, served.folder
    before = state(sample.root("staging"))
    theme(sample).write_text("footer = broken\n")
    done = vetrin(folder, "push", "staging", "--yes", code=1)
    assert "the home page of staging answers 500" in done.stderr
    assert state(sample.root("staging")) == before
    document(folder, "push", "staging", "--yes", "--keep-broken", code=4)
    assert theme(sample, "staging").read_text() == "footer = broken\n"
    assert httpx.get(sample.address("staging")).status_code == 500
    # What was broken before is no reason to take anything back.
    theme(sample).write_text('footer = "Mended"\n')
    assert "did not answer well before" in vetrin(folder, "push", "staging", "--yes", code=4).stdout
    assert httpx.get(sample.address("staging")).status_code == 200
    # A build that did not pass on staging goes nowhere, unless it is told to.
    permit(sample)
    theme(sample).write_text("footer = broken\n")
    vetrin(folder, "push", "staging", "--yes", code=1)
    done = vetrin(folder, "push", "production", "--from", "local", "--confirm=production", code=5)
    assert "did not pass its check on staging: 1 finding" in done.stderr
    live = state(sample.root("production"))
    done = vetrin(
        folder, "push", "production", "--from", "local", "--untried", "--confirm=production", code=1
    )
    assert "was undone by run" in done.stderr
    assert state(sample.root("production")) == live


def test_guards(sample: Sample) -> None:
    folder = sample.folder
    assert (
        "read-only" in vetrin(folder, "push", "production", "--confirm=production", code=5).stderr
    )
    assert "did you mean staging" in vetrin(folder, "push", "stageing", code=2).stderr
    assert "staging have no common state on record" in vetrin(
        folder, "push", "staging", "--parts", "data", code=5).stderr  # fmt: skip
    assert (
        "no build 'beef00'" in vetrin(folder, "push", "staging", "--build", "beef00", code=2).stderr
    )
    assert "Say --from with one of staging" in vetrin(folder, "push", "local", code=2).stderr
    assert "cannot be pushed to itself" in vetrin(
        folder, "push", "local", "--from", "local", code=2).stderr  # fmt: skip
    assert "Nobody is there to confirm" in vetrin(folder, "push", "staging", code=5).stderr
    permit(sample)
    for wrong in ("--yes", "--confirm=staging"):
        vetrin(folder, "push", "production", "--from", "local", "--untried", wrong, code=5)
    assert document(folder, "history")["runs"] == []


BUILD = """[build]
folder = "local/themes/maroon"
commands = {commands}
produces = {produces}
checks = {checks}
"""


def with_build(sample: Sample, commands: str, produces: str = "[]", checks: str = "[]") -> None:
    path = sample.folder / "vetrin.toml"
    text = path.read_text()
    start, end = text.index("[build]"), text.index("[environment.local]")
    rule = BUILD.format(commands=commands, produces=produces, checks=checks)
    path.write_text(text[:start] + rule + text[end:])


def test_a_build_that_fails_sends_nothing(sample: Sample, monkeypatch: pytest.MonkeyPatch) -> None:
    said: list[str] = []

    def build() -> None:
        run_build(load_project(sample.folder), sample.root("local"), said.append, said.append)

    with_build(sample, '["echo making", "echo broken >&2; exit 3"]')
    with pytest.raises(JobError, match=r"'echo broken >&2; exit 3' ended with 3\n    broken"):
        build()
    assert said == ["build: echo making", "making", "build: echo broken >&2; exit 3", "broken"]
    with_build(sample, '["true"]', '["themes/maroon/app.js"]')
    with pytest.raises(JobError, match=r"did not produce themes/maroon/app\.js"):
        build()
    with_build(sample, '["true"]', checks='[{ run = "test -f no-such", folder = "local" }]')
    with pytest.raises(JobError, match="a check of the build failed"):
        build()
    with_build(sample, '[{ run = "true", folder = "nowhere" }]')
    with pytest.raises(ProjectError, match="there is no folder"):
        build()
    with_build(sample, '[{ run = "true", in = "x" }]')
    with pytest.raises(ProjectError, match="unknown key 'in'"):
        build()
    monkeypatch.setenv("VETRIN_LOCAL_DATABASE_PASSWORD", "semaphore")
    with_build(sample, '["env > env.txt; pwd >> env.txt"]')
    build()
    text = theme(sample, name="env.txt").read_text()
    assert "semaphore" not in text
    assert text.endswith("local/themes/maroon\n")


def test_builds_are_the_same_to_the_byte_or_not_the_same(sample: Sample) -> None:
    project = load_project(sample.folder)
    builds = builds_of(project)
    everywhere = list(project.environments.values())

    def make():
        with open_site(hosts, project, project.environment("local")) as site:
            return make_build(project, site, ("code",), builds, everywhere)

    one = make()
    files = [entry.path for entry in one.entries if entry.kind == "file"]
    assert {path.split("/")[0] for path in files} == {"themes", "extras"}
    os.utime(theme(sample), (1, 1))
    assert make().fingerprint == one.fingerprint
    theme(sample).chmod(0o755)
    assert make().fingerprint != one.fingerprint
    theme(sample).chmod(0o644)
    assert fingerprint_of(one.stored[::-1]) == one.fingerprint
    theme(sample, name="new file").write_text("x")
    two = make()
    assert two.fingerprint != one.fingerprint
    assert fingerprint_of(builds.get(one.fingerprint[:6]).stored) == one.fingerprint
    # What is only looked at gets the same fingerprint, and is not kept.
    theme(sample, name="new file").write_text("y")
    with open_site(hosts, project, project.environment("local")) as site:
        seen = make_build(
            project,
            site,
            ("code",),
            Builds(lambda: open_store(hosts, project), write=False),
            everywhere,
        )
    with pytest.raises(NoBuild):
        builds.get(seen.fingerprint)
    assert make().fingerprint == seen.fingerprint
    # A store in which somebody put other files under a fingerprint.
    store = builds.store
    manifest = next(
        m for m in store.snapshots() if m.build and m.build.fingerprint == one.fingerprint
    )
    other = one.fingerprint[:-1] + ("1" if one.fingerprint[-1] == "0" else "0")
    store.add(replace(manifest, id="forged", build=StoredBuild(other)))
    with pytest.raises(NoBuild, match="could be"):
        builds.get(one.fingerprint[:20])
    with pytest.raises(DamagedObject, match="not what its fingerprint stands for"):
        builds.get(other)
    # A damaged content is found when it is read, and named.
    tree = builds.tree(one, LocalTree(sample.root("local")))
    file = next(file for file in one.stored if file.entry.path.endswith("theme.toml"))
    assert b"".join(tree.read(file.entry.path)) == theme(sample).read_bytes()
    place = sample.folder / ".vetrin/store" / store.contents.place(file.blocks[0])
    place.write_bytes(place.read_bytes()[:-3])
    with pytest.raises(FilesError, match=file.blocks[0][:12]):
        b"".join(tree.read(file.entry.path))
    place.unlink()
    with pytest.raises(FilesError, match="is missing"):
        b"".join(tree.read(file.entry.path))


def test_builds_lie_in_the_store_like_all_else(
    served: Sample, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder, local = served.folder, theme(served)
    permit(served)
    with (folder / "vetrin.toml").open("a") as file:
        file.write("\n[store]\npassphrase = true\n[store.thin]\nnewest = 2\n")
    local.write_text('footer = "Ballast of local"\n')
    theme(served, "production").write_text('footer = "Ballast of production"\n')
    needs = vetrin(folder, "push", "staging", "--yes", code=1)
    assert "the store needs its passphrase" in needs.stderr
    assert not list(Journals(folder / ".vetrin").runs())
    monkeypatch.setenv("VETRIN_STORE_PASSPHRASE", "steam and brass")
    vetrin(folder, "pull", "production", "--to", "staging", "--yes")
    first = document(folder, "push", "staging", "--yes")
    # A dry run keeps nothing, and tells the same.
    there = sorted((folder / ".vetrin/store").rglob("*"))
    dry = document(folder, "push", "staging", "--dry-run")
    assert sorted((folder / ".vetrin/store").rglob("*")) == there
    assert dry["build"]["fingerprint"] == first["plan"]["build"]["fingerprint"]
    vetrin(folder, "push", "production", "--untried", "--confirm=production")
    for path in (folder / ".vetrin/store").rglob("*"):
        if path.is_file() and path.name != "seal.json":
            raw = path.read_bytes()
            assert raw.startswith(b"VS1") or "leases" in path.parts, path
            assert b"Ballast" not in raw, path
    assert not {"builds", "objects"} & {path.name for path in (folder / ".vetrin").iterdir()}

    def listed() -> list[dict[str, Any]]:
        found = document(folder, "snapshots", "--all")["snapshots"]
        return [item for item in found if item["purpose"] == "build"]

    assert [item["environment"] for item in listed()] == ["production", "local"]
    assert listed()[1]["build"] == first["plan"]["build"]["fingerprint"]
    shown = vetrin(folder, "snapshots").stdout
    assert "1 snapshot, 2 builds and 1 baseline of transfers in" in shown and "build " not in shown
    assert f"build {listed()[0]['build'][:10]}" in vetrin(folder, "snapshots", "--all").stdout
    whole = document(folder, "snapshots", "--verify")
    assert {item["snapshot"] for item in listed()} <= set(whole["whole"]) and not whole["damaged"]
    # The rules count them for themselves, and what an environment holds or had before stays.
    for number in range(3):
        local.write_text(f'footer = "Ballast {number}"\n')
        vetrin(folder, "push", "staging", "--yes")
    stays = {
        v["snapshot"]: v["why"]
        for v in document(folder, "snapshots", "--thin", "--yes")["snapshots"]
        if v["stays"]
    }
    left = [item["snapshot"] for item in listed()]
    assert [stays[one] for one in left] == [
        "it is on staging",
        "staging had it before",
        "production had it before",
        "it is on production",
    ]
    vetrin(folder, "push", "staging", "--build", first["plan"]["build"]["fingerprint"][:8], "--yes")
    assert "Ballast of local" in theme(served, "staging").read_text()
    # A content that somebody changed is not sent.
    for path in (folder / ".vetrin/store/objects").rglob("*.sealed"):
        path.write_bytes(path.read_bytes()[:-1] + b"!")
    refused = vetrin(folder, "push", "production", "--confirm=production", code=1)
    assert "was changed after it was sealed" in refused.stderr


def test_the_first_transfer_into_an_empty_root_brings_everything(served: Sample) -> None:
    sample, folder = served, served.folder
    (sample.root("production") / "backup.zip").write_bytes(b"PK")
    (sample.root("production") / ".git").mkdir()
    (sample.root("production") / ".htaccess.more").write_text("hidden")
    text = (folder / "vetrin.toml").read_text()
    port = max(sample.ports.values()) + 1
    (folder / "vetrin.toml").write_text(
        text + f'\n[environment.fresh]\naddress = "http://127.0.0.1:{port}"\nroot = "fresh/site"\n'
        '[environment.inside]\naddress = "http://inside.test"\nroot = "production/inside"\n'
    )
    (folder / "production/inside").mkdir()
    (folder / "production/inside/x.txt").write_text("another site")
    plan = document(folder, "pull", "--to", "fresh", "--dry-run")
    assert plan["parts"] == ["data", "media", "code", "core"]
    assert any("the environment in inside/; archive (backup.zip); version control (.git)" in note
               for note in plan["notes"])  # fmt: skip
    assert not (folder / "fresh").exists()
    vetrin(folder, "pull", "--to", "fresh", "--yes")
    fresh = folder / "fresh/site"
    assert (fresh / "fishplate/version.toml").is_file()
    assert (fresh / ".htaccess.more").is_file()
    assert not (fresh / "backup.zip").exists()
    assert not (fresh / "inside").exists()
    assert value(fresh, "address") == f"http://127.0.0.1:{port}"
    css = (fresh / "media/generated/site.css").read_text()
    assert f"http://127.0.0.1:{port}/media" in css
    assert document(folder, "pull", "--to", "fresh", "--dry-run")["parts"] == ["data", "media"]
    # Again, everything: nothing differs. What production removes goes, what is the copy's own stays.
    (fresh / "media/own.png").write_bytes(b"mine")
    again = document(folder, "pull", "--to", "fresh", "--parts", "media,code,core", "--yes")
    assert again["files"] == 0
    # What changed nothing takes no way back away.
    assert document(folder, "undo", "fresh", "--dry-run")["undoes"] == 1
    gone = sorted((sample.root("production") / "media/2026/05").iterdir())[0]
    gone.rename(gone.with_name("renamed.png"))
    again = document(folder, "pull", "--to", "fresh", "--parts", "media", "--yes")
    assert (again["files"], again["files_gone"], again["file_bytes"]) == (1, 1, 0)
    assert (fresh / "media/own.png").exists()
    assert (fresh / "media/2026/05/renamed.png").exists()
    assert not (fresh / gone.relative_to(sample.root("production"))).exists()
    vetrin(folder, "undo", "fresh", "--yes")
    assert (fresh / gone.relative_to(sample.root("production"))).exists()


def push_staging(folder: Path) -> None:
    project = load_project(folder)
    builds, journals = builds_of(project), Journals(project.state)
    everywhere = list(project.environments.values())
    with (
        open_site(hosts, project, project.environment("local")) as source,
        open_site(hosts, project, project.environment("staging"), read_only=False) as target,
    ):
        build = make_build(project, source, ("code",), builds, everywhere)
        held = holding(source, build, builds)
        plan = build_push(held, target, ("code",), [], Choices(), build, journals, builds)
        push(plan, RunContext(held, target, journals, builds=builds))


def take_back(folder: Path) -> None:
    project = load_project(folder)
    with open_site(hosts, project, project.environment("staging"), read_only=False) as target:
        undo(target, Journals(project.state))


@pytest.mark.parametrize("work", ["push", "undo"])
def test_killed_anywhere_the_code_is_old_or_new(
    sample: Sample, work: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What is there after ``kill -9``: each theme and extra old or new, and never a mixture that
    visitors could get: where not all is the one or the other, they are held off."""
    monkeypatch.setattr(switching, "wait", lambda seconds: None)
    # Step by step from here, as where no process of ours can be beside the target.
    monkeypatch.setattr(Site, "runs_processes", False)
    folder, root = sample.folder, sample.root("staging")
    before = code(root)
    push_staging(folder)
    wanted = code(root)
    assert before != wanted
    if work == "push":
        take_back(folder)
    start, end = (before, wanted) if work == "push" else (wanted, before)
    run = push_staging if work == "push" else take_back
    units = ["themes/maroon", "extras/donation-box", "extras/santa-specials"]
    closed = mixed = steps = 0
    while killed_after(steps, lambda: run(folder), engine=SqliteDatabase, methods=["swap"]):
        now = code(root)
        held = now.pop("closed-for-work", None)
        closed += held is not None
        mixed += now not in (start, end)
        if now not in (start, end):
            assert held is not None, steps
            if mixed == 1:
                assert "under way, or was stopped" in vetrin(folder, "status").stderr
            for unit in units:
                sides = [{k: v for k, v in side.items() if (k + "/").startswith(unit + "/")}
                         for side in (now, start, end)]  # fmt: skip
                assert sides[0] in sides[1:], (steps, unit)
        last = Journals(folder / ".vetrin").of("staging")[0]
        if last.unfinished or now == end:
            take_back(folder)
        assert code(root) == start, steps
        steps += 1
    assert steps > 20
    assert closed > 5
    assert mixed > 3
    assert code(root) == end


def test_visitors_get_old_or_new_or_a_word_to_wait(served: Sample) -> None:
    """Asked without a pause while builds come and go, the site never answers from half of one."""
    sample = served
    theme(sample).write_text('footer = "Second edition"\n')
    theme(sample, name="parts/10-type.css").write_text(
        "body { color: #222 } /* second edition */\n"
    )
    vetrin(sample.folder, "push", "staging", "--yes", "--quiet", code=4)
    vetrin(sample.folder, "undo", "staging", "--yes")
    answers: set[tuple[int, bool, bool]] = set()
    stop = threading.Event()

    def ask() -> None:
        with httpx.Client() as client:
            while not stop.is_set():
                page = client.get(sample.address("staging") + "/sign-in")
                answers.add(
                    (page.status_code, "Second edition" in page.text, "second edition" in page.text)
                )

    visitor = threading.Thread(target=ask)
    visitor.start()
    for _ in range(3):
        push_staging(sample.folder)
        take_back(sample.folder)
    stop.set()
    visitor.join()
    assert answers <= {(200, True, True), (200, False, False), (503, False, False)}
    assert {(200, True, True), (200, False, False)} <= answers


def test_json_of_a_name_that_is_no_text(sample: Sample) -> None:
    name = os.fsdecode(b"caf\xe9.png")
    (sample.root("production") / "media" / name).write_bytes(b"x")
    found = document(sample.folder, "pull", "--yes", "--parts", "media")
    assert json.dumps(found)
    assert (sample.root("local") / "media" / name).read_bytes() == b"x"
    (sample.root("production") / "media" / name).unlink()
    assert document(sample.folder, "pull", "--dry-run", "--parts", "media")["files"]["gone"] == [
        f"media/{name}"
    ]
    assert "1 file removed" in vetrin(sample.folder, "pull", "--yes", "--parts", "media").stdout


def test_an_error_in_one_of_several_streams_is_told_and_changes_nothing(
    sample: Sample, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Many files go in several threads; the first that fails ends all of them."""
    folder = sample.root("production") / "media/many"
    folder.mkdir()
    for number in range(700):
        (folder / f"{number:03}.txt").write_text("x" * number)
    before = state(sample.root("local") / "media")
    real = LocalTree.stage

    def stage(tree: LocalTree, token: str, entry: Entry, blocks: Iterable[Buffer] = ()) -> None:
        if entry.path.endswith("345.txt"):
            raise FilesError("media/many/345.txt: No space left on device")
        real(tree, token, entry, blocks)

    project = load_project(sample.folder)
    with (
        open_site(hosts, project, project.environment("production")) as source,
        open_site(hosts, project, project.environment("local"), read_only=False) as target,
    ):
        plan = build_plan(source, target, ("media",))
        with monkeypatch.context() as patched:
            patched.setattr(LocalTree, "stage", stage)
            with pytest.raises(JobError, match="No space left on device"):
                run_plan(plan, RunContext(source, target, Journals(project.state)))
        assert state(sample.root("local") / "media") == before
        seen: list[int] = []
        report = run_plan(
            plan, RunContext(source, target, Journals(project.state),
            lambda event: seen.append(event.files) if isinstance(event, FileMoved) else None))  # fmt: skip
    assert sum(seen) == report.files >= 700
    there = sample.root("local") / "media/many"
    assert {p.name: p.stat().st_size for p in there.iterdir()} == {
        f"{n:03}.txt": n for n in range(700)
    }


def test_what_a_live_site_removes_meanwhile_does_not_come(sample: Sample) -> None:
    live, here = sample.root("production"), sample.root("local")
    (live / "media/soon-gone.png").write_bytes(b"x" * 99)
    project = load_project(sample.folder)
    with (
        open_site(hosts, project, project.environment("production")) as source,
        open_site(hosts, project, project.environment("local"), read_only=False) as target,
    ):
        plan = build_plan(source, target, ("media",))
        (live / "media/soon-gone.png").unlink()
        report = run_plan(plan, RunContext(source, target, Journals(project.state)))
        assert report.files == plan.files.files - 1
        assert report.remarks == (
            "removed from production since the plan was made, and left out: media/soon-gone.png",
        )
        assert not (here / "media/soon-gone.png").exists()
        assert (here / "media/generated/site.css").exists()
        # A folder that switches as a whole does so with all that is in it, or not at all.
        plan = build_plan(source, target, ("code",))
        (live / "extras/live-departures/extra.toml").unlink()
        before = state(here / "extras")
        with pytest.raises(JobError, match=r"extra\.toml: No such file"):
            run_plan(plan, RunContext(source, target, Journals(project.state)))
        assert state(here / "extras") == before
