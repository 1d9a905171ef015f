"""vetrin pull"""

from __future__ import annotations

import argparse
from dataclasses import dataclass

from ...config import Project, Route
from ..choices import add_choices, add_full, listed, parts_of, with_choices
from ..common import project_of, source_of, target_of
from ..console import Out
from ..merging import add_merge, merge_flow, must_merge
from ..stored import add_plan
from ..transfer import transfer


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Bring an environment's data and media here: the plan is shown, then hidden tables are\n"
        "filled, and everything is swapped in at once. Addresses and paths are rewritten on the\n"
        "way, what is chosen is left out or kept, and the copy is settled: hidden from search\n"
        "engines, marked, without mail. Of tables that came before, only the rows that differ\n"
        "now are moved. What was there is kept for `vetrin undo`."
    )
    parser.add_argument("source", nargs="?", metavar="FROM", help="read from it (production)")
    parser.add_argument("--to", metavar="ENV", help="write to it (the local environment)")
    parser.add_argument(
        "--parts", metavar="PART,…",
        help="data, media, code, core (data,media; into an empty root all of them)",
    )  # fmt: skip
    add_choices(parser)
    add_full(parser)
    parser.add_argument(
        "--merge", action="store_true",
        help="bring what changed at the source, and keep what changed here",
    )  # fmt: skip
    add_merge(parser)
    add_plan(parser)
    parser.add_argument(
        "--save-as", metavar="NAME", help="save this transfer as a route for `vetrin run NAME`"
    )
    parser.epilog = """examples:
  vetrin pull                          production into the local environment
  vetrin pull --dry-run                the plan, with exact counts of what would be rewritten
  vetrin pull production --to staging
  vetrin pull --merge                  what is new comes down, unfinished work here stays
  vetrin pull --full                   all rows, also those that are there as they came last time
  vetrin pull --leave-rows spam-comments,revisions --keep-settings active-plugins
  vetrin pull --parts data --leave-tables '*_log' --save-as refresh"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    target = target_of(project, args.to)
    source = source_of(project, args.source, target)
    parts = parts_of(listed([args.parts]), "--parts") if args.parts else ()
    must_merge(args, parts, merges=args.merge)
    if args.merge:
        return merge_flow(args, out, project, source, target)
    route = with_choices(Route(args.save_as or "pull", source.name, target.name, parts), args)
    if not args.save_as:
        return transfer(args, out, project, route, all_of_it=args.leave_nothing)
    if not args.dry_run and project.routes.get(route.name) not in (None, route):
        out.confirm(f"Replace the route {route.name} in vetrin.toml?", args, target=route.target)
    saving = _Saving(args, out, project, route)
    return transfer(args, out, project, route, all_of_it=args.leave_nothing, planned=saving.once)


@dataclass
class _Saving:
    """Saves a route as soon as it is known that its transfer can be planned; in a dry run it is not saved."""

    args: argparse.Namespace
    out: Out
    project: Project
    route: Route
    done: bool = False

    def once(self) -> None:
        if self.done:
            return
        self.done = True
        if self.args.dry_run:
            self.out.say(f"dry run: the route {self.route.name} is not saved")
            return
        from ...config.edit import save_route  # loaded only where one is saved

        save_route(self.project, self.route)
        self.out.say(f"saved: `vetrin run {self.route.name}` does this again")
