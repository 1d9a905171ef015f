"""vetrin run"""

from __future__ import annotations

import argparse

from ...errors import ExitStatus
from ..choices import add_choices, add_full, with_choices
from ..common import project_of
from ..console import Out, plural
from ..stored import add_plan
from ..transfer import transfer


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Carry out a transfer that is saved under a name in vetrin.toml. Without a name, the\n"
        "routes are listed. Options add to what the route says."
    )
    parser.add_argument("route", nargs="?", metavar="ROUTE", help="the name of the route")
    add_choices(parser)
    add_full(parser)
    add_plan(parser)
    parser.epilog = """examples:
  vetrin run
  vetrin run refresh --yes
  vetrin run refresh --dry-run --leave-rows entries:event"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    if args.route is None:
        routes = list(project.routes.values())
        out.document(
            "routes",
            {"routes": [{"name": r.name, "from": r.source, "to": r.target} for r in routes]},
        )
        for route in routes:
            out.show(f"{route.name}: {route.source} → {route.target}")
        if not routes:
            out.show("No routes yet. `vetrin pull … --save-as NAME` makes one.")
        else:
            out.say(f"{plural(len(routes), 'route')} in vetrin.toml")
        return ExitStatus.DONE
    route = with_choices(project.route(args.route), args)
    return transfer(args, out, project, route, all_of_it=args.leave_nothing)
