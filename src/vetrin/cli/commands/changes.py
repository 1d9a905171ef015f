"""vetrin changes"""

from __future__ import annotations

import argparse

from ...config import Environment, Project
from ...errors import ExitStatus, ProjectError, UsageError
from ...jobs import Since, changes_of, last_since, may_read
from ...site import ReadableSite, seen_of
from ...store import Store
from ..changes_view import show_changes
from ..choices import chosen_by
from ..common import journals_of, opened, project_of
from ..consent import without_foreign_commands
from ..console import Out
from ..progress import told
from ..stored import store_of


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Show what changed in an environment since the last transfer that brought its content, or\n"
        "that read it: rows by table, entries by title, settings with their old and new values,\n"
        "media files. Of a source this is what waits to come down, of a target what a pull would\n"
        "overwrite. Addresses that were rewritten and what arrival set are no changes."
    )
    parser.add_argument("environment", metavar="ENV", help="the environment to look at")
    parser.add_argument(
        "--since", metavar="SNAPSHOT", help="compare with a snapshot of it: its ID, label or newest"
    )
    parser.add_argument("--rows", metavar="TABLE", help="show the rows of a table that changed")
    parser.add_argument(
        "--list", action="store_true", help="name all entries, settings, rows and files"
    )
    parser.epilog = """exit code 4 says that something changed

examples:
  vetrin changes production             what waits to come down
  vetrin changes local                  what the next pull would overwrite
  vetrin changes local --rows posts --list
  vetrin changes staging --since newest --json"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    environment = project.environment(args.environment)
    may_read(environment)
    with opened(out, project, environment) as site, told(out) as tell:
        site.expect_bulk()
        without_foreign_commands(out, project, site)
        table = _table(site, args.rows) if args.rows else ""
        store, since = _since(args, out, project, environment)
        found = changes_of(
            site,
            store,
            since,
            lambda run: chosen_by(project, run),
            rows_of=table,
            source_seen=seen_of(project, since.other) if since.other else None,
            tell=tell,
        )
    out.document("changes", found.as_json())
    show_changes(out, found, every=args.list)
    return ExitStatus.DONE if found.nothing else ExitStatus.DIFFERENT


def _table(site: ReadableSite, name: str) -> str:
    """A table's name without the prefix. Raises ProjectError where there is none."""
    lacking = site.unnamed(name)
    if lacking or "*" in name:
        raise ProjectError(f"--rows: {lacking or 'name one table'}")
    found = next(table.name for table in site.tables if site.named(table.name, name))
    return found.removeprefix(site.prefix)


def _since(
    args: argparse.Namespace, out: Out, project: Project, environment: Environment
) -> tuple[Store, Since]:
    """What the environment is compared with, and the store that it lies in."""
    if args.since is None:
        store = store_of(project, out, here=True)
        return store, last_since(store, journals_of(project), environment)
    store = store_of(project, out)
    manifest = store.get(args.since, environment.name)
    if manifest.environment != environment.name:
        raise UsageError(
            f"--since: snapshot {manifest.id} is of {manifest.environment}, not of {environment.name}",
            f"`vetrin snapshots {environment.name}` lists those of {environment.name}",
        )
    return store, Since(manifest, "snapshot")
