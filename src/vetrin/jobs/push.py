"""Carrying a build up: which one it may be, what it adds, and whether the site lives with it."""

from __future__ import annotations

import contextlib
import dataclasses
from collections.abc import Sequence
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict

from ..config import Environment, Project
from ..errors import DatabaseError, FilesError, HalfDone, JobError, LeftBroken, NoBuild, Refused
from ..inspect.web_check import Home, look_at_home
from ..remark import Remark
from ..site import ReadableSite, Site, extensions_of
from ..store import Build, Builds, BuildTree, Commit, commits_between
from .events import Listener, Phase
from .journal import Journals, Run
from .lock import only_run
from .plan import BuildChange, Choices, Part, Plan
from .planner import build_plan, compare_files
from .reconnect import was_cut_off
from .recovery import put_right
from .run_context import RunContext
from .transfer import Report, let_go_of_earlier, run_plan
from .undo import undo


class Pushed(Struct, frozen=True):
    """What came of a push. ``undone`` is the run that took it back, because the home page broke; ``idle`` are
    the folders of what came that are not in use there, so that no page could run what is in them."""

    report: Report
    before: Home
    after: Home
    undone: Run | None = None
    idle: tuple[str, ...] = ()

    def as_json(self) -> dict[str, Any]:
        return {
            **self.report.as_json(),
            "home_before": asdict(self.before),
            "home_after": asdict(self.after),
            "undone_by": self.undone.number if self.undone else None,
            "not_in_use": list(self.idle),
        }


def staging_of(project: Project, target: Environment) -> Environment | None:
    """The one environment on which builds are tried before they go to ``target``."""
    found = [e for e in project.environments.values() if e.role == "staging" and e is not target]
    return found[0] if len(found) == 1 else None


def build_on(environment: Environment, journals: Journals, builds: Builds) -> Build:
    """The build that was pushed to an environment last.

    Raises:
        Refused: none is known.
    """
    run = journals.build_on(environment.name)
    if run is not None:
        with contextlib.suppress(NoBuild):
            return builds.get(str(run.build["fingerprint"]))
    raise Refused(
        f"no build is known to be on {environment.name}",
        f"push one there first: vetrin push {environment.name}",
    )


def may_go_live(
    project: Project, target: Environment, build: Build, journals: Journals
) -> Run | None:
    """The push to a staging environment after whose check a build may go to production.

    None for other targets, where there is no staging environment, and for what production itself had.

    Raises:
        Refused: there is one, and the build did not pass there.
    """
    names = [e.name for e in project.environments.values() if e.role == "staging"]
    own = build.found and build.environment == target.name
    if target.role != "production" or own:
        return None
    if not names:
        return None
    proof = journals.proven(build.fingerprint, names)
    if proof is not None:
        return proof
    where = " or ".join(names)
    pushed = [
        run
        for run in journals.runs()
        if run.target in names and run.build.get("fingerprint") == build.fingerprint
    ]
    if pushed and pushed[-1].checked:
        count = pushed[-1].checked["findings"]
        found = "1 finding" if count == 1 else f"{count} findings"
        raise Refused(
            f"build {build.short} did not pass its check on {pushed[-1].target}: {found}",
            f"mend it, then `vetrin check {pushed[-1].target}`; --untried sends it all the same",
        )
    raise Refused(
        f"build {build.short} was never checked on {where}",
        f"vetrin push {names[0]}, look at it there, then push again; --untried sends it all the same",
    )


def changed_there(
    build: Build,
    builds: Builds,
    source: Site,
    staging: Site,
    others: Sequence[Environment],
    choices: Choices,
    pushed: Run | None,
) -> list[str]:
    """The files of ``staging`` that are not as the build has them, or that were added since it was ``pushed``.

    Raises:
        as ``compare_files``.
    """
    parts: tuple[Part, ...] = build.parts  # type: ignore[assignment]
    found = compare_files(holding(source, build, builds), staging, parts, others, choices)
    if found is None:
        return []
    differ = [entry.path for entry in found.coming if entry.kind != "folder"]
    own = pushed.report.get("only_on_target") if pushed is not None else None
    if own is not None:
        there = {entry.path for entry in (*found.only_there, *found.gone) if entry.kind != "folder"}
        differ += sorted(there - set(own))
    return differ


def holding(source: ReadableSite, build: Build, builds: Builds) -> ReadableSite:
    """The site a build was made of, with the build's files in place of its own."""
    tree: BuildTree = builds.tree(build, source.files)
    return dataclasses.replace(source, files=tree)


def build_push(
    source: ReadableSite,
    target: Site,
    parts: Sequence[Part],
    others: Sequence[Environment],
    choices: Choices,
    build: Build,
    journals: Journals,
    builds: Builds,
) -> Plan:
    """The plan of a push; ``source`` holds the build (see ``holding``).

    Raises:
        as ``build_plan``.
    """
    plan = build_plan(source, target, parts, others, choices)
    before = None
    with contextlib.suppress(Refused):
        before = build_on(target.environment, journals, builds)
    commits: tuple[Commit, ...] = ()
    back: tuple[Commit, ...] = ()
    risks = list(plan.risks)
    if build.commit is not None and build.commit.changes:
        count = build.commit.changes
        files = "1 file" if count == 1 else f"{count} files"
        risks.append(
            Remark(
                "build-not-as-committed",
                f"{files} of the build differed from commit {build.commit.short}",
            )
        )
    here = source.remote_host is None
    if here and build.commit and before and before.commit and before.commit.id != build.commit.id:
        root = source.environment.root
        commits = tuple(commits_between(root, before.commit.id, build.commit.id) or ())
        back = tuple(commits_between(root, build.commit.id, before.commit.id) or ())
    return dataclasses.replace(
        plan,
        kind="push",
        pushed=BuildChange(build, before, commits, back),
        risks=tuple(risks),
    )


def push(plan: Plan, context: RunContext, *, keep_broken: bool = False) -> Pushed:
    """Carry out a push; if it breaks the home page, take it back unless ``keep_broken``.

    Raises:
        Refused, JobError: as ``run_plan``.
        LeftBroken: it broke the home page, and could not be taken back.
    """
    target, journals, listener = context.target, context.journals, context.listener
    with only_run(target):
        # What a dead run left would answer for the site: a page that holds visitors off, or half of its code.
        put_right(target, journals)
        listener(Phase("look"))
        before = look_at_home(target)
        report = run_plan(plan, context, keep_earlier=True)
        listener(Phase("check"))
        after = look_at_home(target)
        if before.state != "fine" or after.state == "fine" or keep_broken:
            report = let_go_of_earlier(target, journals, report)
            return Pushed(report, before, after, idle=idle_of(target, plan))
        return Pushed(report, before, after, _undone(target, report, after, journals, listener))


def idle_of(target: Site, plan: Plan) -> tuple[str, ...]:
    """The folders of extensions that a plan brings or changes, and that are not active at the target."""
    files = plan.files
    if files is None or files.nothing:
        return ()
    coming = [entry.path for entry in files.coming if entry.kind != "folder"]
    folders = {item.folder: False for item in extensions_of(target)}
    for item in extensions_of(target):
        folders[item.folder] |= item.active
    return tuple(
        sorted(
            folder
            for folder, active in folders.items()
            if not active
            and any(path == folder or path.startswith(f"{folder}/") for path in coming)
        )
    )


def _undone(
    target: Site, report: Report, after: Home, journals: Journals, listener: Listener
) -> Run:
    """Take a push back that broke the home page; the way back that there was before it stays.

    Raises:
        LeftBroken: it could not be taken back.
        HalfDone: it was stopped while it was taken back.
    """
    name = target.environment.name
    with contextlib.suppress(OSError):
        report.run.write("checked", good=False, findings=1)
    try:
        return undo(target, journals, listener, for_good=True)
    except HalfDone:
        raise
    except Exception as error:
        if not isinstance(
            error, (JobError, DatabaseError, FilesError, OSError)
        ) and not was_cut_off(error):
            raise
        raise LeftBroken(
            f"the home page of {name} {after.says}: the new build is live there, and could not be undone: "
            f"{error}",
            f"`vetrin undo {name}` brings back what was there before",
        ) from error
