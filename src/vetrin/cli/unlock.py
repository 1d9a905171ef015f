"""vetrin unlock"""

from __future__ import annotations

import argparse

from ..reach import open_site
from ..sync import holder_of, unlock
from .common import project_of
from .console import Out, lead
from .main import DONE


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Break the lock that a dead run left on an environment.\n"
        "A run of this machine that is dead is found out by itself; one from elsewhere is not."
    )
    parser.add_argument("environment", metavar="ENV", help="the environment")
    parser.epilog = """examples:
  vetrin unlock staging"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    environment = project.environment(args.environment)
    with open_site(project, environment) as site:
        holder = holder_of(site.files)
        if holder is None:
            out.show(f"{environment.name} is not locked")
            out.document("unlock", {"environment": environment.name, "locked": False})
            return DONE
        out.show(lead(environment.name, "bold").append(f" is locked by {holder}", style=""))
        heard = f"It gave a sign of life {holder.silent:.0f} seconds ago."
        if holder.dead:
            heard = f"Nothing was heard of it for {holder.silent / 60:.0f} minutes."
            if holder.ours:
                heard = "Its process is no longer there."
        out.show(heard)
        if args.dry_run:
            out.say("dry run: nothing was changed")
            return DONE
        if not holder.dead:
            out.warn("two runs at a time would ruin each other's work")
        out.confirm(
            "Break this lock?", given=args.yes, target=environment.name, production=not holder.dead
        )
        unlock(site.files, holder)
        out.show(lead("✓ ", "bold green").append(f"{environment.name} is not locked any more"))
        out.document("unlock", {"environment": environment.name, "locked": False, "broken": True})
    return DONE
