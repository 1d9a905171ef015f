"""vetrin heal"""

from __future__ import annotations

import argparse

from ..reach import open_site
from ..sync import Healing, change, survey
from .common import grid, journals_of, project_of
from .console import Out, lead, number, plural
from .inplace_view import configure_selection, selection_of, show_samples
from .main import DIFFERENT, DONE
from .progress import listener


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Find PHP-serialised values whose lengths do not fit (somebody replaced text in a dump) and\n"
        "mend those that can be read in exactly one way. The others are shown and left alone."
    )
    parser.add_argument("environment", metavar="ENV", help="the environment")
    configure_selection(parser)
    parser.epilog = """exit code 4 says that broken values remain

examples:
  vetrin heal local --dry-run
  vetrin heal staging --yes"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    environment = project.environment(args.environment)
    selection = selection_of(args)
    healing = Healing()
    with open_site(project, environment, read_only=False) as site:
        with listener(out) as listen:
            found = survey(site, healing, selection, listen)
        _show(out, healing, environment.name)
        show_samples(out, found)
        code = DIFFERENT if healing.broken else DONE
        plan = {"environment": environment.name, "rows": dict(found.rows), **healing.as_json()}
        if args.dry_run or not found.rows:
            out.document("heal", {"done": False, **plan})
            out.say("dry run: nothing was changed" if found.rows else "nothing to mend")
            return code
        out.confirm(
            f"Mend {plural(healing.values.total(), 'value')} in {environment.name}?",
            given=args.yes,
            target=environment.name,
            production=environment.role == "production",
        )
        with listener(out) as listen:
            done, rows = change(
                site, "heal", healing.again(), selection, journals_of(project), listen
            )
    out.show(
        lead("✓ ", "bold green").append(
            f"Run {done.number}: {plural(rows.total(), 'row')} mended in {environment.name}"
        )
    )
    out.show(f"Back: vetrin undo {environment.name}")
    out.document("heal", {"done": True, "run": done.number, **plan})
    return code


def _show(out: Out, healing: Healing, name: str) -> None:
    out.show(
        lead("Broken serialised values in ", "bold")
        .append(name, style="bold cyan")
        .append(
            f": {plural(healing.values.total(), 'value')} with one reading, "
            f"{number(healing.broken.total())} without"
        )
    )
    if healing.values or healing.broken:
        table = grid("column", ">can be mended", ">left alone")
        for key in sorted({*healing.values, *healing.broken}):
            table.add_row(".".join(key), number(healing.values[key]), number(healing.broken[key]))
        out.show(table)
    for item in healing.left:
        out.show(
            lead("! ", "yellow").append(
                f"{item.table}.{item.column} where {item.key}: no reading, or more than one; "
                "it stays as it is"
            )
        )
