"""vetrin resume"""

from __future__ import annotations

import argparse

from ...config import Project
from ...errors import ExitStatus, NothingToDo, ProjectError
from ...jobs import Run, as_it_was, finish, may_write
from ..common import ago, journals_of, open_to_write, project_of
from ..console import Out, lead
from ..main import carried_out


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Go on with a transfer that was stopped: by Ctrl-C, a lost connection, a closed laptop.\n"
        "What has arrived is not sent again; what has changed at the source meanwhile is brought up to\n"
        "date, so that the copy belongs to one moment. The same command as before does the same.\n"
        "A run that was stopped in its switch, half old and half new, is carried to its end."
    )
    parser.add_argument(
        "environment", metavar="ENV", nargs="?", help="the environment that it writes to"
    )
    parser.epilog = """examples:
  vetrin resume
  vetrin resume staging"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    journals = journals_of(project)
    names = (
        [project.environment(args.environment).name]
        if args.environment
        else list(project.environments)
    )
    newest = [run for name in names for run in journals.of(name)[:1]]
    half = [run for run in newest if run.half]
    waiting = [run for name in names for run in journals.of(name) if run.can_go_on and run.command]
    if len(half) + len(waiting) > 1:
        targets = ", ".join(dict.fromkeys(one.target for one in (*half, *waiting)))
        raise ProjectError(f"several runs were stopped; name the environment: {targets}")
    if half or (args.environment and not waiting):
        return _finish(args, out, project, names[0] if args.environment else half[0].target)
    if not waiting:
        raise NothingToDo("no run was stopped in between", "`vetrin history` lists the runs")
    found = waiting[0]
    out.say(f"Going on with run {found.number}: {found.kind} from {found.source} to {found.target}, "
            f"begun {ago(found.started)}")  # fmt: skip
    return carried_out(_words(args, found), args)


def _finish(args: argparse.Namespace, out: Out, project: Project, name: str) -> int:
    """Carry out the rest of a switch that was left in between, whichever project began it."""
    journals, environment = journals_of(project), project.environment(name)
    may_write(environment)
    newest = next(iter(journals.of(name)), None)
    like = as_it_was(newest) if newest is not None else None
    with open_to_write(out, project, environment, like=like, anyway=True) as site:
        if args.dry_run:
            out.say("dry run: nothing was changed")
            return ExitStatus.DONE
        done = finish(site, journals)
    if done is None:
        text = f"{name} is as it was before: the switch belonged to another project, and was taken back"
    else:
        text = f"Run {done.number} ({done.kind}) had been stopped in its switch; it is finished now"
    out.show(lead("✓ ", "good").append(text, style=""))
    out.show(f"Next: vetrin check {name}   ·   back: vetrin undo {name}")
    out.document("resume", {"run": done.number if done else None, "finished": done is not None})
    return ExitStatus.DONE


def _words(args: argparse.Namespace, run: Run) -> list[str]:
    """The command line of a run, agreed to: it was confirmed when it began."""
    words = list(run.command)
    if run.build and "--build" not in words and words[0] == "push":
        words += ["--build", run.build["fingerprint"]]
    if args.dry_run:
        words.append("--dry-run")
    for name in ("json", "events", "quiet", "verbose"):
        if getattr(args, name):
            words.append(f"--{name}")
    if args.project:
        words += ["--project", args.project]
    if args.color:
        words += ["--color", args.color]
    return [*words, "--yes", f"--confirm={run.target}"]
