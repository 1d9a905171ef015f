"""vetrin import"""

from __future__ import annotations

import argparse
import shutil

from ..project import Route
from ..reach import open_site
from ..store import open_snapshot
from ..sync import build_import, parts_held, preview, recognised, run_plan
from .archives import add_given, brought
from .common import journals_of, project_of, words_of
from .console import Out, lead, plural, size
from .main import DONE
from .plan_view import show_plan, show_preview, show_report
from .progress import listener
from .stored import add_skip, keeping_for, show_way_back, store_of
from .transfer import add_choices, choices_of, listed, parts_of, with_choices


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Bring in a site that somebody else packed: archives of its files (zip, tar, also compressed)\n"
        "with the dump inside or beside them, or a dump alone; from files, an https:// address or\n"
        "standard input (-). The site's root, its prefix and the addresses and paths that it had are\n"
        "found in it, shown in the plan, and rewritten. The configuration of the environment stays."
    )
    parser.add_argument("files", metavar="FILE", nargs="+", help="archives, dumps, or parts of one")
    parser.add_argument("environment", metavar="ENV", help="write to it")
    parser.add_argument("--parts", metavar="PART,…", help="of what is found, only these")
    add_given(parser)
    add_choices(parser)
    add_skip(parser)
    parser.epilog = """examples:
  vetrin import harrowmere.zip local --dry-run
  vetrin import site-files.tar.gz dump.sql.gz local
  vetrin import https://harrowmere.example/handover.zip local
  vetrin import dump.sql staging --database harrowmere --parts data
  zcat dump.sql.gz | vetrin import - local --yes"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    environment = project.environment(args.environment)
    store = store_of(project, out, writing=True)
    folder = project.state / "incoming"
    try:
        manifest = brought(args, out, project, args.files, store, folder)
    finally:
        if "-" in args.files or not any("://" in name for name in args.files):
            shutil.rmtree(folder, ignore_errors=True)
    manifest = recognised(manifest, project, environment)
    held = parts_held(manifest)
    parts = held
    if args.parts:
        wanted = parts_of(listed([args.parts]), "--parts")
        parts = tuple(part for part in wanted if part in held)
    route = with_choices(Route("import", "", environment.name, parts), args)
    choices = choices_of(project, route, all_of_it=args.leave_nothing)
    production = environment.role == "production"
    with (
        open_snapshot(store, manifest, project.definition) as source,
        open_site(project, environment, read_only=False, like=source.configuration) as target,
    ):
        plan = build_import(source, target, parts, choices, project, manifest)
        found = []
        if manifest.data is not None:
            data = manifest.data
            found.append(
                f"{plural(len(data.tables), 'table')} with the prefix “{data.prefix}” and "
                f"{plural(manifest.rows, 'row')}, by {data.facts['product']} {data.facts['version']}"
            )
        if manifest.files is not None:
            found.append(f"{plural(manifest.files.count, 'file')}, {size(manifest.files.size)}")
        out.show(lead("Found: ", "bold").append("; ".join(found), style=""))
        show_plan(out, plan)
        keeping = keeping_for(project, out, production=production, skip=args.skip_backup)
        show_way_back(out, keeping)
        if args.dry_run:
            with listener(out) as listen:
                rewriting = preview(plan, source, listen)
            show_preview(out, plan, rewriting)
            out.document("plan", {**plan.as_json(), "snapshot": manifest.id})
            out.say("dry run: nothing was changed")
            return DONE
        out.confirm(
            f"Replace this in {environment.name}?",
            given=args.yes, target=environment.name, production=production,
        )  # fmt: skip
        with listener(out) as listen:
            report = run_plan(
                plan, source, target, journals_of(project), listen,
                command=[] if "-" in args.files else words_of(args),
                keeping=keeping,
            )  # fmt: skip
        show_report(out, plan, report)
        out.document(
            "report", {"snapshot": manifest.id, "plan": plan.as_json(), **report.as_json()}
        )
    return DONE
