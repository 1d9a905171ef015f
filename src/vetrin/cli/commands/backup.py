"""vetrin backup"""

from __future__ import annotations

import argparse

from ...errors import ExitStatus, ProjectError
from ...jobs import PARTS, may_read, must_be_whole, take_snapshot
from ...site import open_site
from ...store import Damage, Manifest
from ..choices import listed, parts_of
from ..common import project_of
from ..console import Out, lead, plural, size
from ..progress import listener
from ..stored import described, store_of


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Take a snapshot of an environment while it is in use: its data from one consistent view, and\n"
        "its files. What the store has already is not stored again."
    )
    parser.add_argument("environment", metavar="ENV", help="the environment")
    parser.add_argument("--label", metavar="TEXT", default="", help="what the snapshot is for")
    parser.add_argument(
        "--parts", metavar="PART,…", help="data, media, code, core (all of them)"
    )  # fmt: skip
    parser.add_argument("--verify", action="store_true", help="read it again at once and prove it")
    parser.epilog = """examples:
  vetrin backup production
  vetrin backup production --label "before the redesign" --verify
  vetrin backup staging --parts data"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    environment = project.environment(args.environment)
    may_read(environment)
    parts = parts_of(listed([args.parts]), "--parts") if args.parts else PARTS
    if args.label == "newest" or len(args.label) > 200:
        raise ProjectError("--label: write a short text that is not “newest”")
    if args.dry_run:
        out.say(f"dry run: a snapshot of {', '.join(parts)} of {environment.name} would be taken")
        return ExitStatus.DONE
    store = store_of(project, out, writing=True)
    with open_site(out.hosts, project, environment) as site, listener(out) as listen:
        must_be_whole(site)
        manifest = take_snapshot(
            site,
            store,
            parts,
            list(project.environments.values()),
            label=args.label,
            listener=listen,
            state=project.state,
        )
    harms = store.verify(manifest) if args.verify else []
    out.document(
        "backup",
        {
            "snapshot": manifest.id, "environment": environment.name, "label": manifest.label or None,
            "taken": manifest.taken, "parts": list(manifest.parts), "bytes": manifest.size,
            "added_bytes": manifest.added, "rows": manifest.rows,
            "files": manifest.files.count if manifest.files else 0,
            "verified": args.verify and not harms, "notes": list(manifest.notes),
        },
    )  # fmt: skip
    _show(out, manifest, store.where)
    if harms:
        return harmed(out, harms)
    if args.verify:
        out.show(lead("✓ ", "good").append("read again as a whole: verified", style=""))
    if project.store.thin:
        out.say("`vetrin snapshots --thin` applies the rules of [store.thin]")
    return ExitStatus.DONE


def _show(out: Out, manifest: Manifest, where: str) -> None:
    head = lead("Snapshot ", "bold").append(described(manifest), style="name")
    what = []
    if manifest.data is not None:
        what.append(
            f"{plural(len(manifest.data.tables), 'table')} with {plural(manifest.rows, 'row')}"
        )
    if manifest.files is not None:
        what.append(plural(manifest.files.count, "file"))
    out.show(
        head.append(
            f" of {manifest.environment}: {', '.join(what)}; {size(manifest.size)}, "
            f"of which {size(manifest.added)} were added to {where}",
            style="",
        )
    )
    for note in manifest.notes:
        out.show(lead("· ", "dim").append(note))
    out.show(f"Back: vetrin restore {manifest.environment} {manifest.id}")


def harmed(out: Out, harms: list[Damage]) -> int:
    """Say what is damaged; the exit code."""
    for harm in harms[:20]:
        what = f"table {harm.table}" if harm.table else harm.path or "all of it"
        out.show(lead("! ", "bad").append(f"{harm.snapshot}: {what}: {harm.reason}"))
    if len(harms) > 20:
        out.show(f"  … and {plural(len(harms) - 20, 'more')}")
    if out.json:
        return ExitStatus.FAILED
    return out.fail(
        ExitStatus.FAILED,
        f"{plural(len(harms), 'thing')} cannot be read any more",
        "everything else is whole and can be restored with --tables, --files or --parts; a new backup of "
        "the environment stores anew what it still has",
    )
