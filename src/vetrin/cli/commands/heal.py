"""vetrin heal"""

from __future__ import annotations

import argparse

from ...errors import ExitStatus
from ...jobs import survey
from ...site import Healing
from ..common import journals_of, open_to_write, project_of
from ..console import Out, lead, number, plural
from ..grid import grid
from ..inplace_view import configure_selection, get_ready, make, selection_of, show_samples
from ..progress import listener


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
    healing = Healing()
    with open_to_write(out, project, environment) as site:
        get_ready(args, out, site, journals_of(project))
        with listener(out) as listen:
            found = survey(site, healing, selection_of(args), listen)
        _show(out, healing, environment.name)
        show_samples(out, found)
        count = plural(healing.values.total(), "value")
        question = f"Mend {count} in {environment.name}?"
        make(args, out, journals_of(project), site, "heal", healing, found, question, "mended")
    return ExitStatus.DIFFERENT if healing.broken else ExitStatus.DONE


def _show(out: Out, healing: Healing, name: str) -> None:
    out.show(
        lead("Broken serialised values in ", "bold")
        .append(name, style="name")
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
            lead("! ", "warning").append(
                f"{item.table}.{item.column} where {item.key}: no reading, or more than one; "
                "it stays as it is"
            )
        )
