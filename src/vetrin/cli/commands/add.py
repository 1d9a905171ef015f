"""vetrin add"""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from msgspec.structs import replace
from rich.text import Text

from ...config import ROLES, EnvironmentDraft, Project, RelayHost, environment_lines
from ...config.edit import add_environment
from ...errors import ExitStatus, UsageError
from ...site import Where
from ..common import project_of
from ..console import Out, lead
from ..setup import (
    add_account,
    add_web,
    address_of,
    draft_of,
    found_at,
    tell,
    web_of,
    where_of,
)


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Add an environment to vetrin.toml. The site is looked for in the folder, here or on a host; where\n"
        "there is none yet, a push or pull can fill it."
    )
    parser.add_argument("environment", metavar="ENV", help="what it is called")
    parser.add_argument(
        "where",
        metavar="WHERE",
        help="its folder, ssh://USER@HOST[:PORT][/FOLDER], or the address of its relay's file",
    )
    parser.add_argument(
        "--address", metavar="URL", help="its web address, where the site does not say it"
    )
    parser.add_argument(
        "--role", choices=ROLES, help="what it is (as its name says, else staging on a host)"
    )
    add_web(parser)
    add_account(parser)
    parser.epilog = """examples:
  vetrin add production ssh://deploy@harrowmere.example/srv/www/harrowmere
  vetrin add staging ssh://deploy@harrowmere.example/srv/www/try --address https://try.harrowmere.example
  vetrin add second ../second --address http://second.localhost:8081"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    web = web_of(args, project.folder)
    where = where_of(args.where, args.environment, web, project.folder)
    if args.environment in project.environments:
        raise UsageError(
            f"there is an environment {args.environment!r} in vetrin.toml already", "edit it there"
        )
    draft = _found(args, out, project, where) or _empty(args, out, project, where)
    draft = replace(draft, web=web)
    lines = environment_lines(draft)
    document = {"environment": draft.name, "address": draft.address, "host": draft.host or draft.relay or None,
                "root": draft.root, "written": not args.dry_run}  # fmt: skip
    if args.dry_run:
        out.document("add", document)
        out.show(Text("\n".join(lines)))
        return ExitStatus.DONE
    add_environment(project, draft)
    out.document("add", document)
    out.show(
        lead("✓ ", "good").append(
            f"[environment.{draft.name}] is in {project.folder / 'vetrin.toml'}"
        )
    )
    out.show(lead("Next: ", "bold").append(f"vetrin reach {draft.name}", style="name"))
    return ExitStatus.DONE


def _role(args: argparse.Namespace, where: Where) -> str:
    usual = "staging" if where.host else "local"
    return args.role or (args.environment if args.environment in ROLES else usual)


def _found(
    args: argparse.Namespace, out: Out, project: Project, where: Where
) -> EnvironmentDraft | None:
    """The environment as the site that is there describes it; None where none is."""
    if where.host is None and not (project.folder / where.folder).is_dir():
        return None
    here = (
        replace(where, folder=str(project.folder / Path(where.folder).expanduser()))
        if where.host is None
        else where
    )
    try:
        found = found_at(here, args.environment, None, out)
    except UsageError:
        if where.host is None or not args.address:
            raise
        return None  # a folder that is still to be made
    if found is None:
        return None
    tell(out, found, here)
    taken = {str(one) for other in project.environments.values() for one in other.addresses}
    known = [str(one) for one in found.addresses if str(one) not in taken]
    address = address_of(args.address, out, f"Web address of {args.environment}", known)
    also = [text for text in known if text != address]
    draft = draft_of(
        out.hosts,
        args.environment,
        address,
        found,
        here,
        folder=project.folder,
        also=also,
    )
    return replace(draft, role=_role(args, where), database=_database(args))


def _empty(args: argparse.Namespace, out: Out, project: Project, where: Where) -> EnvironmentDraft:
    """An environment that is still to be filled."""
    if not where.folder:
        raise UsageError(
            f"no site of a known CMS was found on {where.host}",
            "name its folder, also of one that is still empty",
        )
    out.say(f"there is no site at {where} yet")
    address = address_of(args.address, out, f"Web address of {args.environment}", [])
    root = (
        where.folder
        if where.host
        else os.path.relpath(project.folder / Path(where.folder).expanduser(), project.folder)
    )
    relay = where.host.url if isinstance(where.host, RelayHost) else ""
    return EnvironmentDraft(
        args.environment,
        address,
        root,
        host="" if relay else str(where.host or ""),
        relay=relay,
        role=_role(args, where),
        database=_database(args),
    )


def _database(args: argparse.Namespace) -> dict[str, str]:
    """The options that are given, as they stand in vetrin.toml."""
    given = {"database": args.database, "user": args.database_user, "create-as": args.create_as,
             "host": args.database_host}  # fmt: skip
    return {key: value for key, value in given.items() if value}
