"""vetrin push"""

from __future__ import annotations

import argparse

from msgspec import Struct
from msgspec.structs import replace
from rich.text import Text

from ...config import Environment, Project, Route
from ...errors import ExitStatus, NoBuild, ProjectError, Refused
from ...files import some_of
from ...inspect.web_check import Check, CheckReport, Finding
from ...jobs import (
    Journals,
    Part,
    Plan,
    Run,
    RunContext,
    may_read,
    may_write,
    must_be_whole,
    usual_parts,
)
from ...jobs.build import make_build, run_build
from ...jobs.plan import PUSHED_PARTS
from ...jobs.push import (
    Pushed,
    build_on,
    build_push,
    changed_there,
    holding,
    may_go_live,
    push,
    staging_of,
)
from ...remote import Hosts
from ...site import Site, open_site, root_of
from ...store import Build, Builds
from ..choices import (
    add_choices,
    add_full,
    choices_of,
    listed,
    others_of,
    parts_of,
    with_choices,
)
from ..common import ago, journals_of, open_to_write, project_of, words_of
from ..consent import build_commands, must_agree
from ..console import Out, lead, plural
from ..merging import add_merge, merge_flow, must_merge
from ..plan_view import show_report
from ..progress import listener
from ..stored import add_plan, store_of
from ..transfer import transfer
from ..transfer_flow import TransferFlow, context_of


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Build the local code, check it, and carry it up: only what differs is sent, plugins and\n"
        "themes switch over as whole folders, and what was there is kept for `vetrin undo`. At the\n"
        "end the site is looked at; if its home page broke, the push is undone by itself.\n"
        "Production gets the very build that is on staging and passed its check there."
    )
    parser.add_argument("target", metavar="TO", help="write to it")
    parser.add_argument(
        "--from", metavar="ENV", dest="source",
        help="push this one's code (local; for production, the build that is on staging)",
    )  # fmt: skip
    parser.add_argument(
        "--build", metavar="ID", help="push a build that is on record, by its fingerprint or commit"
    )
    parser.add_argument(
        "--parts", metavar="PART,…",
        help="code, core, media, data (code; into an empty root everything)",
    )  # fmt: skip
    parser.add_argument(
        "--untried", action="store_true",
        help="to production although no check on staging passed with this build",
    )  # fmt: skip
    parser.add_argument(
        "--keep-broken", action="store_true", help="do not undo a push that breaks the home page"
    )
    add_choices(parser)
    add_full(parser)
    parser.add_argument(
        "--overwrite", action="store_true",
        help="with data: replace what is there instead of merging into it",
    )  # fmt: skip
    add_merge(parser)
    add_plan(parser)
    parser.epilog = """exit code 4 says that the build is there, but that the check found something

examples:
  vetrin push staging                    build, check, send, look at it
  vetrin push production                 the same build, if it passed there
  vetrin push staging --dry-run          what would be sent; nothing is built
  vetrin push staging --build 3f9a1c     an earlier one again
  vetrin push staging --parts code,core --mirror
  vetrin push production --parts data    merge local content into what is live there"""


class _Errand(Struct, frozen=True):
    """What is to be pushed where; with ``promoted`` it is the build on that environment. ``merges``: data is to go
    into data that is there."""

    project: Project
    target: Environment
    parts: tuple[Part, ...]
    route: Route
    source: Environment
    promoted: Environment | None = None
    build: Build | None = None
    merges: bool = False


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    journals = journals_of(project)
    builds = Builds(
        lambda: store_of(project, out, writing=not args.dry_run), write=not args.dry_run
    )
    errand = _errand(args, out.hosts, project, journals, builds)
    target = errand.target
    if errand.merges:
        return merge_flow(args, out, project, errand.source, target)
    if not {"code", "core"} & set(errand.parts):
        return transfer(
            args, out, project, errand.route,
            all_of_it=args.leave_nothing, always_lost=args.overwrite,
        )  # fmt: skip
    builds.open()  # what it asks for is asked before a build takes its time
    with open_site(out.hosts, project, errand.source, data=False) as source:
        must_be_whole(source)
        build = errand.build or _built(args, out, errand, source, builds)
        held = holding(source, build, builds)
        choices = choices_of(project, errand.route, all_of_it=args.leave_nothing, full=args.full)
        others = others_of(project, errand.route)
        proof = None if args.untried else may_go_live(project, target, build, journals)
        if errand.promoted is not None and not args.untried:
            _still(out.hosts, errand, build, source, builds)
        data = "data" in errand.parts
        with open_to_write(
            out,
            project,
            target,
            like=source.configuration,
            data=data,
            source=errand.source,
        ) as goal:
            context = context_of(
                args, out, project, held, goal, words_of(args), lambda: builds.store
            )
            return TransferFlow(
                args=args, out=out, project=project,
                context=replace(context, builds=builds),
                make=lambda: build_push(
                    held, goal, errand.parts, others, choices, build, journals, builds
                ),
                question=f"Push this to {target.name}?", more={},
                show_more=lambda: _tried(out, errand, build, proof),
                carry_out=lambda plan, context: _carried_out(args, out, errand, plan, context),
                previews=False, rows_move=data,
            ).run()  # fmt: skip


def _carried_out(
    args: argparse.Namespace, out: Out, errand: _Errand, plan: Plan, context: RunContext
) -> int:
    """Push, look at the site, and say how it went; the exit code."""
    goal = context.target
    with listener(out) as listen:
        done = push(plan, replace(context, listener=listen), keep_broken=args.keep_broken)
    if not done.undone:
        show_report(out, plan, done.report)
    checked = None if done.undone else _looked_at(goal, errand.project, done)
    out.document(
        "report",
        {
            "plan": plan.as_json(),
            **done.as_json(),
            "check": checked.as_json() if checked else None,
        },
    )
    return _outcome(out, errand, done, checked)


def _errand(
    args: argparse.Namespace, hosts: Hosts, project: Project, journals: Journals, builds: Builds
) -> _Errand:
    """What the command line means.

    Raises:
        ProjectError, Refused: it means nothing, or a guard is against it.
    """
    target = project.environment(args.target)
    may_write(target)
    parts = (
        parts_of(listed([args.parts]), "--parts")
        if args.parts
        else usual_parts("push", root_of(hosts, target), project.definition)
    )
    build, promoted = None, None
    if args.build:
        try:
            build = builds.get(args.build)
        except NoBuild as error:
            raise ProjectError(f"--build: {error}") from error
        source = _origin(project, args.source or _made_in(project, build), target)
    else:
        live = target.role == "production" and bool({"code", "core"} & set(parts))
        staging = staging_of(project, target) if live else None
        wanted = project.environment(args.source) if args.source else staging
        if wanted is not None and wanted.role == "staging" and live:
            promoted, build = wanted, build_on(wanted, journals, builds)
            source = _origin(project, _made_in(project, build), target)
        else:
            source = wanted or _origin(project, None, target)
    if source.name == target.name and build is None:
        raise ProjectError(
            f"{target.name} cannot be pushed to itself; name another one with --from"
        )
    may_read(source)
    if build is not None and not args.parts and "data" not in parts:
        parts = parts_of(build.parts, "--build")
    filled = usual_parts("push", root_of(hosts, target), project.definition) == PUSHED_PARTS
    merges = "data" in parts and filled and not args.overwrite
    must_merge(args, parts, merges=merges)
    route = with_choices(Route("push", source.name, target.name, parts), args)
    return _Errand(
        project=project,
        target=target,
        parts=parts,
        route=route,
        source=source,
        promoted=promoted,
        build=build,
        merges=merges,
    )


def _made_in(project: Project, build: Build) -> str | None:
    """The environment that a build was made in, if the project still has it."""
    return build.environment if build.environment in project.environments else None


def _origin(project: Project, name: str | None, target: Environment) -> Environment:
    """Whose code is pushed: the named one's, else that of the only local environment beside the target.

    Raises:
        ProjectError: there is none, or more than one that could be meant.
    """
    if name is not None:
        return project.environment(name)
    local = [e for e in project.environments.values() if e.role == "local" and e is not target]
    if len(local) == 1:
        return local[0]
    others = [name for name in project.environments if name != target.name]
    raise ProjectError(
        "whose code is to be pushed? Say --from with one of " + ", ".join(others)
        if others
        else f"there is no environment beside {target.name} to push from"
    )


def _built(
    args: argparse.Namespace, out: Out, errand: _Errand, source: Site, builds: Builds
) -> Build:
    """Run [build] where the code is made, and keep what came of it."""
    project = errand.project
    if errand.source.role == "local" and project.build:
        if args.dry_run:
            out.say("dry run: nothing is built; this is the code as it stands")
        else:
            must_agree(out, project, build_commands(project))
            show = out.say if args.verbose else (lambda line: None)
            run_build(project, errand.source.root, out.say, show)
    parts: tuple[Part, ...] = tuple(part for part in errand.parts if part in ("code", "core"))
    everywhere = list(project.environments.values())
    return make_build(project, source, parts, builds, everywhere, out.warn)


def _still(hosts: Hosts, errand: _Errand, build: Build, source: Site, builds: Builds) -> None:
    """Raises Refused where the environment that is to be promoted holds something else by now."""
    promoted, project = errand.promoted, errand.project
    assert promoted is not None
    route = Route("push", errand.source.name, promoted.name)
    with open_site(hosts, project, promoted) as staging:
        names = changed_there(
            build, builds, source, staging, others_of(project, route), choices_of(project, route),
            journals_of(project).build_on(promoted.name),
        )  # fmt: skip
    if names:
        raise Refused(
            f"{promoted.name} no longer holds build {build.short}: "
            f"{plural(len(names), 'file differs', 'files differ')} ({some_of(names)})",
            f"vetrin push {promoted.name} again; --untried sends the recorded build all the same",
        )


def _tried(out: Out, errand: _Errand, build: Build, proof: Run | None) -> None:
    """What speaks for letting a build go to production."""
    if errand.target.role != "production":
        return
    if proof is not None:
        when = ago(str(proof.checked["at"]))
        text = f"on {proof.target} in run {proof.number}; checked {when}, all as it should be"
        out.show(lead("Tried: ", "bold").append(text, style=""))
    elif build.found and build.environment == errand.target.name:
        text = f"it is what {errand.target.name} had {ago(build.made)}"
        out.show(lead("Tried: ", "bold").append(text, style=""))
    else:
        out.show(
            lead("! ", "warning").append(
                f"{errand.target.name} gets a build that was tried nowhere"
            )
        )


def _looked_at(goal: Site, project: Project, done: Pushed) -> CheckReport:
    others = [e for e in project.environments.values() if e.name != goal.environment.name]
    if done.before.state == done.after.state == "silent":
        # Nobody serves it; one word about that says it all.
        checked = CheckReport(goal.environment.name)
        checked.findings.append(Finding(done.after.says, done.after.url))
    else:
        checked = Check(goal, others, data=False).run()
    done.report.run.write("checked", good=not checked.findings, findings=len(checked.findings))
    return checked


def _outcome(out: Out, errand: _Errand, done: Pushed, checked: CheckReport | None) -> int:
    name = errand.target.name
    if done.undone is not None:
        return (
            out.fail(
                ExitStatus.FAILED,
                f"the home page of {name} {done.after.says} with this build; run {done.report.run.number} "
                f"was undone by run {done.undone.number}",
                f"{name} is as it was before; --keep-broken would leave the build there to be looked at",
            )
            if not out.json
            else ExitStatus.FAILED
        )
    assert checked is not None
    if done.before.state == "broken":
        out.show(lead("! ", "warning").append(
            f"the home page did not answer well before the push either: {done.before.says}"
        ))  # fmt: skip
    if done.after.state == "broken":
        out.show(lead("! ", "bad").append(f"the home page {done.after.says}"))
    if not checked.findings:
        out.show(
            lead("✓ ", "good").append(
                f"Checked: {plural(len(checked.looked), 'thing')} looked at, all as they should be",
                style="",
            )
        )
    for finding in checked.findings:
        out.show(lead("! ", "warning").append(f"{finding.where}: {finding.what}"))
    if done.idle:
        out.show(
            lead("! ", "warning").append(
                f"not in use in {name}, so that no page ran it and no check has tried it: "
                f"{some_of(list(done.idle), 8)}"
            )
        )
    _next(out, errand, good=not checked.findings)
    return ExitStatus.DIFFERENT if checked.findings else ExitStatus.DONE


def _next(out: Out, errand: _Errand, *, good: bool) -> None:
    live = [e.name for e in errand.project.environments.values() if e.role == "production"]
    text = Text()
    if errand.target.role == "staging" and good and len(live) == 1:
        text.append(f"Next: vetrin push {live[0]}   ·   ")
    out.show(text.append(f"back: vetrin undo {errand.target.name}"))
