"""vetrin pull"""

from __future__ import annotations

import argparse

from ..project import ProjectError
from ..reach import open_site
from ..sync import PARTS, Part, build_plan, preview, run_plan
from .common import journals_of, project_of, source_of, target_of
from .console import Out
from .main import DONE
from .plan_view import show_plan, show_preview, show_report
from .progress import listener


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Bring an environment's data and media here: the plan is shown, then hidden tables are\n"
        "filled, and everything is swapped in at once. Addresses and paths are rewritten on the\n"
        "way. What was there is kept for `vetrin undo`."
    )
    parser.add_argument("source", nargs="?", metavar="FROM", help="read from it (production)")
    parser.add_argument("--to", metavar="ENV", help="write to it (the local environment)")
    parser.add_argument(
        "--parts", metavar="PART,…", default=",".join(PARTS), help="data, media (both)"
    )
    parser.epilog = """examples:
  vetrin pull                          production into the local environment
  vetrin pull --dry-run                the plan, with exact counts of what would be rewritten
  vetrin pull production --to staging
  vetrin pull --parts data --yes"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    target_environment = target_of(project, args.to)
    source_environment = source_of(project, args.source, target_environment)
    parts = _parts(args.parts)
    with (
        open_site(project, source_environment) as source,
        open_site(project, target_environment, read_only=False) as target,
    ):
        others = [
            environment
            for environment in project.environments.values()
            if environment not in (source_environment, target_environment)
        ]
        plan = build_plan(source, target, parts, others)
        show_plan(out, plan)
        if args.dry_run:
            with listener(out) as listen:
                rewriting = preview(plan, source, listen)
            show_preview(out, plan, rewriting)
            out.document("plan", {**plan.as_json(), "rewriting": rewriting.as_json()})
            out.say("dry run: nothing was changed")
            return DONE
        out.confirm(
            f"Replace this in {target_environment.name}?",
            given=args.yes,
            target=target_environment.name,
            production=target_environment.role == "production",
        )
        with listener(out) as listen:
            report = run_plan(plan, source, target, journals_of(project), listen)
        show_report(out, plan, report)
        out.document("report", {"plan": plan.as_json(), **report.as_json()})
    return DONE


def _parts(text: str) -> tuple[Part, ...]:
    names = [name.strip() for name in text.split(",") if name.strip()]
    for name in names:
        if name not in PARTS:
            raise ProjectError(f"--parts: {name!r} is none of {', '.join(PARTS)}")
    if not names:
        raise ProjectError(f"--parts: name at least one of {', '.join(PARTS)}")
    return tuple(part for part in PARTS if part in names)
