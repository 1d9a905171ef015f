"""vetrin resume"""

from __future__ import annotations

import argparse

from ..project import ProjectError
from ..sync import Refused, Run
from .common import ago, journals_of, project_of
from .console import Out


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Go on with a transfer that was stopped: by Ctrl-C, a lost connection, a closed laptop.\n"
        "What has arrived is not sent again; what has changed at the source meanwhile is brought up to\n"
        "date, so that the copy belongs to one moment. The same command as before does the same."
    )
    parser.add_argument(
        "environment", metavar="ENV", nargs="?", help="the environment that it writes to"
    )
    parser.epilog = """examples:
  vetrin resume
  vetrin resume staging"""


def run(args: argparse.Namespace, out: Out) -> int:
    from .main import carried_out

    project = project_of(args)
    journals = journals_of(project)
    names = (
        [project.environment(args.environment).name]
        if args.environment
        else list(project.environments)
    )
    waiting = [run for name in names for run in journals.of(name) if run.can_go_on and run.command]
    if not waiting:
        where = f" of {args.environment}" if args.environment else ""
        raise Refused(f"no run{where} was stopped in between", "`vetrin history` lists the runs")
    if len(waiting) > 1:
        targets = ", ".join(dict.fromkeys(one.target for one in waiting))
        raise ProjectError(f"several runs were stopped; name the environment: {targets}")
    found = waiting[0]
    out.say(f"Going on with run {found.number}: {found.kind} from {found.source} to {found.target}, "
            f"begun {ago(found.started)}")  # fmt: skip
    return carried_out(_words(args, found), args)


def _words(args: argparse.Namespace, run: Run) -> list[str]:
    """The command line of a run, agreed to: it was confirmed when it began."""
    words = list(run.command)
    if run.build and "--build" not in words and words[0] == "push":
        words += ["--build", run.build["fingerprint"]]
    if args.dry_run:
        words.append("--dry-run")
    for name in ("json", "quiet", "verbose"):
        if getattr(args, name):
            words.append(f"--{name}")
    if args.project:
        words += ["--project", args.project]
    return [*words, f"--yes={run.target}"]
