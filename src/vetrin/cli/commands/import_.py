"""vetrin import"""

from __future__ import annotations

import argparse
import shutil

from ...archive.download import has_secret
from ...config import Route
from ...jobs.import_archive import build_import, conversions_at, parts_held, recognised
from ...store import open_snapshot
from ..archives import add_given, brought
from ..choices import (
    add_choices,
    choices_of,
    listed,
    must_name_tables,
    parts_of,
    with_choices,
)
from ..common import open_to_write, project_of, words_of
from ..console import Out, lead, plural, size
from ..stored import add_plan, store_of
from ..transfer_flow import TransferFlow, context_of


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
    add_plan(parser)
    parser.epilog = """examples:
  vetrin import harrowmere.zip local --dry-run
  vetrin import site-files.tar.gz dump.sql.gz local
  vetrin import https://harrowmere.example/handover.zip local
  vetrin import dump.sql staging --database harrowmere --parts data
  zcat dump.sql.gz | vetrin import - local --yes"""


def _words(args: argparse.Namespace) -> list[str]:
    """The words to go on with; none where that would need the stream again, or put a secret on record."""
    if "-" in args.files or any("://" in name and has_secret(name) for name in args.files):
        return []
    return words_of(args)


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    environment = project.environment(args.environment)
    store = store_of(project, out, writing=True)
    folder = project.state / "incoming"
    with conversions_at(out.hosts, project, environment) as conversions:
        manifest = brought(args, out, project, args.files, store, folder, conversions)
    # Until here, what was loaded from the web is there for another try.
    shutil.rmtree(folder, ignore_errors=True)
    manifest = recognised(manifest, project, environment)
    held = parts_held(manifest)
    parts = held
    if args.parts:
        wanted = parts_of(listed([args.parts]), "--parts")
        parts = tuple(part for part in wanted if part in held)
    route = with_choices(Route("import", "", environment.name, parts), args)
    choices = choices_of(project, route, all_of_it=args.leave_nothing)
    with (
        open_snapshot(store, manifest, project.definition) as source,
        open_to_write(out, project, environment, like=source.configuration) as target,
    ):
        must_name_tables(args, source, target)
        found = []
        if manifest.data is not None:
            data = manifest.data
            prefix = f" with the prefix “{data.prefix}”" if data.prefix else ""
            found.append(
                f"{plural(len(data.tables), 'table')}{prefix}, {plural(manifest.rows, 'row')}, by "
                f"{data.facts['product']} {data.facts['version']}"
            )
        if manifest.files is not None:
            found.append(f"{plural(manifest.files.count, 'file')}, {size(manifest.files.size)}")
        out.show(lead("Found: ", "bold").append("; ".join(found), style=""))
        return TransferFlow(
            args=args, out=out, project=project,
            context=context_of(args, out, project, source, target, _words(args)),
            make=lambda: build_import(source, target, parts, choices, project, manifest),
            question=f"Replace this in {environment.name}?", more={"snapshot": manifest.id},
        ).run()  # fmt: skip
