"""vetrin strays"""

from __future__ import annotations

import argparse
from pathlib import Path

from msgspec.structs import replace
from rich.text import Text

from ...config import Environment, Project
from ...errors import ExitStatus
from ...inspect.strays import Finding, find_strays
from ...jobs import may_read
from ...site import UNKNOWN, ReadableSite
from ..archives import add_given, is_file, looked_into
from ..common import opened, project_of
from ..console import Out, lead, number, plural
from ..grid import grid


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "List references in an environment's data that lead to another environment of the project,\n"
        "in any form, and addresses that look like an older one of this site."
    )
    parser.add_argument(
        "environment", metavar="ENV", help="the environment; or a file: an archive or an SQL dump"
    )
    add_given(parser)
    parser.add_argument(
        "--text-files", action="store_true", help="look into the site's text files too"
    )
    parser.add_argument(
        "--limit",
        type=int,
        default=20,
        metavar="N",
        help="show N references at most (20); all are counted",
    )
    parser.epilog = """exit code 4 says that there are strays

examples:
  vetrin strays local
  vetrin strays staging --text-files --limit 100
  vetrin strays local --json
  vetrin strays handover.zip"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    if is_file(args.environment, project):
        return _in_archive(args, out, project)
    environment = project.environment(args.environment)
    may_read(environment)
    others = [one for one in project.environments.values() if one is not environment]
    with opened(out, project, environment) as site:
        others += _before_it_was_moved(site)
        found = find_strays(site, others, files=args.text_files, limit=args.limit)
    remedies = _remedies(environment, found)
    out.document("strays", {"environment": environment.name, "good": not found, "mend": remedies,
                            **found.as_json()})  # fmt: skip
    _show(out, found, environment.name)
    _show_remedies(out, environment, found, remedies)
    return ExitStatus.DIFFERENT if found else ExitStatus.DONE


def _in_archive(args: argparse.Namespace, out: Out, project: Project) -> int:
    with looked_into(args, out, project, [args.environment]) as (site, _):
        own = set(site.environment.addresses)
        others = [e for e in project.environments.values() if not own & set(e.addresses)]
        found = find_strays(site, others, files=args.text_files, limit=args.limit)
    out.document("strays", {"environment": args.environment, "good": not found, "mend": [],
                            **found.as_json()})  # fmt: skip
    _show(out, found, args.environment)
    return ExitStatus.DIFFERENT if found else ExitStatus.DONE


def _before_it_was_moved(site: ReadableSite) -> list[Environment]:
    """An environment at the places where it was: what still names them is mended as what leads to another one."""
    here = site.environment
    return [
        replace(
            here, name=f"{here.name} before it was moved", address=UNKNOWN, also=(), root=Path(one)
        )
        for one in site.former_roots
    ]


def _remedies(environment: Environment, found: Finding) -> list[str]:
    """The commands that mend what can be mended."""
    name = environment.name
    heal = [f"vetrin heal {name}"] if found.mendable["heal"] else []
    return [
        *heal,
        *(
            f"vetrin rewrite {name} --replace {old}={environment.address}"
            for old in found.addresses
        ),
        *(f"vetrin rewrite {name} --replace {old}={environment.root}" for old in found.roots),
    ]


def _show_remedies(out: Out, environment: Environment, found: Finding, remedies: list[str]) -> None:
    if remedies:
        out.show(lead("To mend them:", "bold"))
        for remedy in remedies:
            out.show(f"  {remedy}")
    if found.mendable[""]:
        out.show(
            lead("! ", "warning").append(
                f"{plural(found.mendable[''], 'value')} with such references can only be changed by hand: their "
                "form is not known, or they have no one reading"
            )
        )
    for candidate, count in found.candidates.most_common():
        out.show(
            f"If {candidate} was an address of this site ({plural(count, 'link')} to its media), add it "
            f"to also in [environment.{environment.name}], or run\n"
            f"  vetrin rewrite {environment.name} --replace {candidate}={environment.address}"
        )


def _show(out: Out, found: Finding, name: str) -> None:
    total = found.counts.total()
    out.show(lead("Strays in ", "bold").append(name, style="name").append(f": {number(total)}"))
    if not total:
        return
    table = grid("where", "leads to", "form", ">references")
    for (where, environment, form), count in found.counts.most_common():
        table.add_row(where, environment, form, number(count))
    out.show(table)
    for item in found.shown:
        out.show(lead(item.where, "bold").append(f" {item.key}".rstrip(), style="dim"))
        out.show(Text(f"  …{item.stray.snippet}…", no_wrap=True, overflow="ellipsis"))
    if total > len(found.shown):
        out.show(f"… and {number(total - len(found.shown))} more; --limit shows more of them")
