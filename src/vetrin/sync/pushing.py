"""Carrying a build up: which one it may be, what it adds, and whether the site lives with it."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from ..check.pages import Home, look_at_home
from ..files import Difference
from ..project import Environment, Project
from ..reach import Site
from ..store import Build, Builds, BuildTree, Commit, NoBuild, Store, commits_between
from .errors import JobError, Refused
from .events import Listener, Phase, silent
from .journal import Journals, Run
from .keeping import Keeping
from .plan import Choices, Part, Plan
from .planning import build_plan, compare_files
from .transfer import Report, run_plan, undo


@dataclass(frozen=True)
class Pushed:
    """What came of a push. ``undone`` is the run that took it back, because the home page broke."""

    report: Report
    before: Home
    after: Home
    undone: Run | None = None

    def as_json(self) -> dict[str, Any]:
        return {
            **self.report.as_json(),
            "home_before": vars(self.before),
            "home_after": vars(self.after),
            "undone_by": self.undone.number if self.undone else None,
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


def still_there(
    build: Build,
    builds: Builds,
    source: Site,
    staging: Site,
    others: Sequence[Environment],
    choices: Choices,
) -> Difference | None:
    """How the files of ``staging`` differ from the build; None where they do not.

    Raises:
        as ``compare_files``.
    """
    parts: tuple[Part, ...] = build.parts  # type: ignore[assignment]
    found = compare_files(holding(source, build, builds), staging, parts, others, choices)
    return None if found is None or not (found.new or found.changed) else found


def holding(source: Site, build: Build, builds: Builds) -> Site:
    """The site a build was made of, with the build's files in place of its own."""
    tree: BuildTree = builds.tree(build, source.files)
    return replace(source, files=tree)  # type: ignore[arg-type]


def build_push(
    source: Site,
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
        risks.append(f"{files} of the build differed from commit {build.commit.short}")
    here = source.far is None
    if here and build.commit and before and before.commit and before.commit.id != build.commit.id:
        root = source.environment.root
        commits = tuple(commits_between(root, before.commit.id, build.commit.id) or ())
        back = tuple(commits_between(root, build.commit.id, before.commit.id) or ())
    return replace(
        plan,
        kind="push",
        build=build,
        before=before,
        commits=commits,
        back=back,
        risks=tuple(risks),
    )


def push(
    plan: Plan,
    source: Site,
    target: Site,
    journals: Journals,
    builds: Builds,
    listener: Listener = silent,
    *,
    keep_broken: bool = False,
    command: Sequence[str] = (),
    keeping: Keeping | None = None,
    baselines: Store | None = None,
) -> Pushed:
    """Carry out a push; if it breaks the home page, take it back unless ``keep_broken``.

    Raises:
        Refused, JobError: as ``run_plan``.
    """
    listener(Phase("look"))
    before = look_at_home(target)
    report = run_plan(plan, source, target, journals, listener, builds, command, keeping, baselines)
    listener(Phase("check"))
    after = look_at_home(target)
    if before.state != "fine" or after.state == "fine" or keep_broken:
        return Pushed(report, before, after)
    report.run.write("checked", good=False, findings=1)
    try:
        undone = undo(target, journals, listener)
    except JobError as error:
        raise JobError(
            f"the home page of {plan.target.name} {after.says}, and the push could not be undone: "
            f"{error}",
            f"vetrin undo {plan.target.name}",
        ) from error
    return Pushed(report, before, after, undone)
