"""vetrin restore"""

from __future__ import annotations

import argparse

from ...config import Environment, Project
from ...errors import ProjectError
from ...jobs import Since, Wanted, build_restore, parts_wanted, snapshot_site
from ..choices import listed, parts_of
from ..common import ago, open_to_write, project_of, words_of
from ..console import Out, lead
from ..stored import add_plan, described, store_of
from ..transfer_flow import TransferFlow, context_of


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Put back what a snapshot holds, through hidden tables and one swap, so that it can be undone.\n"
        "Into the environment that it came from, everything becomes as it was; into another one,\n"
        "addresses and paths are rewritten and the copy is settled, as by a pull."
    )
    parser.add_argument("environment", metavar="ENV", help="write to it")
    parser.add_argument("snapshot", metavar="SNAPSHOT", help="its ID, its label, or newest")
    parser.add_argument("--parts", metavar="PART,…", help="of what the snapshot holds, only these")
    parser.add_argument(
        "--tables", metavar="TABLE,…", action="append", default=[],
        help="only these tables; names may hold *, with or without the prefix",
    )  # fmt: skip
    parser.add_argument(
        "--files", metavar="PATH", action="append", default=[],
        help="only this file or folder, by its path below the root",
    )  # fmt: skip
    parser.add_argument(
        "--mirror", action="store_true",
        help="remove what the snapshot does not have of the files of these parts",
    )  # fmt: skip
    add_plan(parser)
    parser.epilog = """examples:
  vetrin restore local newest --dry-run
  vetrin restore production k3f9ap --parts data
  vetrin restore production "before the redesign" --tables bookings,booking_dates
  vetrin restore local k3f9ap --files wp-content/uploads/2026
  vetrin undo local                     takes it back"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    environment = project.environment(args.environment)
    wanted = _wanted(args)
    store = store_of(project, out)
    manifest = store.get(args.snapshot, environment.name)
    parts = parts_wanted(manifest, wanted)
    with (
        snapshot_site(store, manifest, project, wanted) as source,
        open_to_write(out, project, environment, like=source.configuration) as target,
    ):
        others = _others(project, manifest.environment, environment.name)
        out.show(
            lead("Snapshot: ", "bold").append(
                f"{described(manifest)} of {manifest.environment}, taken {ago(manifest.taken)}",
                style="",
            )
        )
        command = [manifest.id if word == args.snapshot else word for word in words_of(args)]
        return TransferFlow(
            args=args, out=out, project=project,
            context=context_of(args, out, project, source, target, command),
            make=lambda: build_restore(source, target, parts, wanted, project, others),
            question=f"Put this back into {environment.name}?", more={"snapshot": manifest.id},
            snapshot=(store, Since(manifest, "snapshot")) if manifest.environment == environment.name else None,
        ).run()  # fmt: skip


def _wanted(args: argparse.Namespace) -> Wanted:
    parts = parts_of(listed([args.parts]), "--parts") if args.parts else ()
    tables, paths = listed(args.tables), tuple(args.files)
    if args.mirror and paths:
        raise ProjectError("--mirror and --files: removing everything but some files is not meant")
    if parts and (tables or paths):
        raise ProjectError("--parts and --tables or --files: give the one or the other")
    return Wanted(parts, tables, paths, args.mirror)


def _others(project: Project, *names: str) -> list[Environment]:
    return [item for item in project.environments.values() if item.name not in names]
