"""vetrin export"""

from __future__ import annotations

import argparse
import contextlib
import re
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from ...archive.openpgp import ENDING
from ...archive.reader import packing_of
from ...archive.writer import FORMS, SQL_FORMS, part_of
from ...config import Arrival, Leave, Project, merged
from ...database.engines import engine_of
from ...errors import ExitStatus, NoSnapshot, ProjectError, ReachError
from ...files import printable
from ...jobs import PARTS, may_read, must_be_whole
from ...jobs.export_site import Packed, Packing, export, mapping_to
from ...rewrite import Mapping, parse_literal, parse_pair
from ...site import ReadableSite, configuration_of, open_site
from ...store import open_snapshot
from ..archives import passphrase_of
from ..choices import (
    add_leave,
    add_set,
    arrival_of,
    leave_of,
    listed,
    must_name_tables,
    parts_of,
)
from ..common import project_of
from ..console import Out, lead, plural, size
from ..plan_view import left_in_words
from ..progress import listener
from ..stored import store_of

_SIZE = re.compile(r"(\d+(?:\.\d+)?)\s*([kMG]?)B?$")


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Pack a site into one archive that anyone can open: an SQL file that the database's own client\n"
        "programs and web consoles load, the files in a normal tree, a list of them with digests, and a\n"
        "page that says what to do with it. Addresses and paths can be those of where it goes."
    )
    parser.add_argument(
        "environment", metavar="ENV", help="the environment, or a snapshot's ID or label"
    )
    parser.add_argument(
        "file", metavar="FILE", help=f"{', '.join(FORMS)}; with --sql-only {', '.join(SQL_FORMS)}"
    )
    parser.add_argument(
        "--for",
        metavar="ENV",
        dest="goal",
        help="with the addresses and paths of this one, and settled as a transfer to it settles",
    )
    parser.add_argument(
        "--replace",
        action="append",
        default=[],
        metavar="OLD=NEW",
        help="rewrite an address or a path",
    )
    parser.add_argument(
        "--literal", action="append", default=[], metavar="OLD=NEW", help="rewrite any text"
    )
    parser.add_argument("--parts", metavar="PART,…", help="data, media, code, core (all of them)")
    parser.add_argument(
        "--split", metavar="SIZE", help="in parts of at most this size, such as 400MB"
    )
    parser.add_argument("--sql-only", action="store_true", help="nothing but the SQL file")
    parser.add_argument("--sql-per-table", action="store_true", help="an SQL file for each table")
    parser.add_argument(
        "--statement", metavar="SIZE", default="1MB", help="at most this much in one INSERT (1MB)"
    )
    parser.add_argument(
        "--passphrase",
        action="store_true",
        help=f"encrypt a .zip, or a file whose name ends in {ENDING} (AES-256; asked for)",
    )  # fmt: skip
    add_leave(parser)
    add_set(parser.add_argument_group("how it is settled, beside [arrival] of vetrin.toml"))
    parser.epilog = """examples:
  vetrin export production harrowmere.zip --for staging
  vetrin export production harrowmere.tar.zst.gpg        (with a passphrase)
  vetrin export local handover.tar.zst --replace http://harrowmere.test=https://new.example
  vetrin export production harrowmere.zip --split 400MB
  vetrin export production data.sql.gz --sql-only --leave-rows spam-comments"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    packing = _packing(args, out, project)
    path = Path(args.file)
    if not path.parent.is_dir():
        raise ProjectError(f"{path}: there is no folder {path.parent}")
    with _site(args, out, project) as site:
        must_name_tables(args, site)
        packing = replace(
            packing, mapping=_mapping(args, project, site), prefix=_prefix(out, args, project, site)
        )
        everywhere = list(project.environments.values())
        if args.dry_run:
            found = export(site, path, packing, everywhere, only_look=True)
            out.document("export", _as_json(found))
            _show(out, args, found)
            out.say("dry run: nothing was written")
            return ExitStatus.DONE
        there = next((one for one in (path, part_of(path, 1)) if one.exists()), None)
        if there is not None:
            out.confirm(f"Overwrite {there}?", args, target=path.name)
        with listener(out) as listen:
            done = export(site, path, packing, everywhere, listen)
    out.document("export", _as_json(done))
    _show(out, args, done)
    return ExitStatus.DONE


def _as_json(done: Packed) -> dict[str, Any]:
    return {
        "files": [str(one) for one in done.paths], "bytes": sum(p.stat().st_size for p in done.paths),
        "tables": done.rows, "rows": sum(done.rows.values()), "packed_files": done.files,
        "packed_bytes": done.file_bytes, "left_tables": sorted(done.left.tables),
        "left": [{"kind": kind.name, "table": kind.table, "rows": kind.rows} for kind in done.left.kinds],
        "rewriting": done.rewriting.as_json(), "settled": list(done.settled), "notes": list(done.notes),
    }  # fmt: skip


def _site(args: argparse.Namespace, out: Out, project: Project) -> ReadableSite:
    if args.environment in project.environments:
        environment = project.environment(args.environment)
        may_read(environment)
        site = open_site(out.hosts, project, environment)
        must_be_whole(site)
        return site
    store = store_of(project, out)
    try:
        manifest = store.get(args.environment)
    except NoSnapshot:
        project.environment(args.environment)  # says that there is none, and which there are
        raise
    return open_snapshot(store, manifest, project.definition)


def _packing(args: argparse.Namespace, out: Out, project: Project) -> Packing:
    goal = project.environment(args.goal) if args.goal else None
    if goal is not None and args.replace:
        raise ProjectError("--for and --replace: give the one or the other")
    if args.sql_only and args.parts:
        raise ProjectError("--sql-only and --parts: give the one or the other")
    parts = parts_of(listed([args.parts]), "--parts") if args.parts else PARTS
    leave = Leave() if args.leave_nothing else project.leave
    if goal is not None and not args.leave_nothing:
        leave = merged(leave, goal.leave)
    if args.sql_only:
        parts = ("data",)
    arrival = arrival_of(args) if args.settings else None
    if goal is not None:
        arrival = project.arrival_for(goal, arrival or Arrival())
    sealed = args.passphrase or str(args.file).lower().endswith(ENDING)
    return Packing(
        parts=parts,
        arrival=arrival,
        leave=merged(leave, leave_of(args)),
        goal=goal,
        size=_bytes(args.split, "--split") if args.split else None,
        statement=_bytes(args.statement, "--statement"),
        password=passphrase_of(out, new=True) if sealed and not args.dry_run else None,
        sql_only=args.sql_only,
        per_table=args.sql_per_table,
    )


def _prefix(out: Out, args: argparse.Namespace, project: Project, site: ReadableSite) -> str | None:
    """The table prefix of the environment that it is for, as far as that can be told without going there."""
    if not args.goal or engine_of(site.database.engine).in_file:
        return None
    goal = project.environment(args.goal)
    if "prefix" in goal.database:
        return goal.database["prefix"]
    if goal.host is None:
        with contextlib.suppress(ReachError):
            return configuration_of(out.hosts, project, goal).prefix
    if site.prefix:
        out.say(
            f"the table prefix of {goal.name} is not known here: {site.prefix} stays. "
            f"prefix in [environment.{goal.name}.database] names it"
        )
    return None


def _mapping(args: argparse.Namespace, project: Project, site: ReadableSite) -> Mapping:
    literals = [parse_literal(text) for text in args.literal]
    if args.goal:
        mapping = mapping_to(site, project.environment(args.goal))
        return replace(Mapping.of([*mapping.pairs, *literals]), bare_host=mapping.bare_host)
    return Mapping.of([*map(parse_pair, args.replace), *literals])


def _bytes(text: str, option: str) -> int:
    match = _SIZE.match(text.strip())
    count = (
        int(float(match[1]) * {"": 1, "k": 10**3, "M": 10**6, "G": 10**9}[match[2]]) if match else 0
    )
    if count < 1000:
        raise ProjectError(f"{option}: {text!r}: write a size such as 400MB")
    return count


def _unpacking(name: str) -> str:
    """What takes apart what comes out of a file that has a passphrase."""
    packing = packing_of(name)
    if ".tar." in name or name.endswith(".tgz"):
        return f" | tar --extract --{packing}"
    return {"gzip": " | gzip --decompress", "zstd": " | zstd --decompress"}.get(packing, "")


def _show(out: Out, args: argparse.Namespace, done: Packed) -> None:
    what = []
    if done.rows:
        what.append(
            f"{plural(len(done.rows), 'table')} with {plural(sum(done.rows.values()), 'row')}"
        )
    if done.files:
        what.append(f"{plural(done.files, 'file')}, {size(done.file_bytes)}")
    packed = f"{', '.join(what) or 'nothing'} of {args.environment}"
    if done.paths:
        where = f"{'parts of ' if len(done.paths) > 1 else ''}{printable(args.file)}"
        whole = size(sum(path.stat().st_size for path in done.paths))
        out.show(lead("✓ ", "good").append(f"{packed} in {where} ({whole})", style=""))
    else:
        out.show(lead("Packed would be: ", "bold").append(packed, style=""))
    left = left_in_words(done.left)
    if left:
        out.show(lead("Left out: ", "bold").append("; ".join(left), style=""))
    places = done.rewriting.total + done.file_places
    if places:
        out.show(lead("Rewritten: ", "bold").append(plural(places, "place"), style=""))
    if done.settled:
        out.show(lead("Settled: ", "bold").append("; ".join(done.settled), style=""))
    name = Path(args.file).name
    if len(done.paths) > 1:
        out.show(
            lead("Parts: ", "bold").append(", ".join(path.name for path in done.paths), style="")
        )
        out.show(f"Joined by: cat {name}.??? > {name}   ·   checked by: sha256sum -c {name}.sha256")
    if done.paths and name.endswith(ENDING):
        out.show(f"Opened by: gpg --decrypt {name}{_unpacking(name.removesuffix(ENDING))}")
    for note in done.notes:
        out.show(lead("· ", "dim").append(note))
