"""vetrin rewrite"""

from __future__ import annotations

import argparse

from ...errors import ExitStatus, UsageError
from ...jobs import Survey, survey
from ...rewrite import Address, Mapping, parse_literal, parse_pair
from ...site import Rewriting, Site, signed_between
from ..common import journals_of, open_to_write, project_of
from ..console import Out, lead, number, plural
from ..grid import grid
from ..inplace_view import configure_selection, get_ready, make, selection_of, show_samples
from ..plan_view import show_counts, show_left
from ..progress import listener


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Change a domain, a scheme, a path or any text in an environment's data, in place. Every\n"
        "form of an address or path is found, lengths of serialised values are kept right, and only\n"
        "rows that change are written, all at once. `vetrin undo` takes it back."
    )
    parser.add_argument("environment", metavar="ENV", help="the environment")
    parser.add_argument(
        "--replace", action="append", default=[], metavar="OLD=NEW",
        help="two addresses, two paths on disk or two texts; can be repeated",
    )  # fmt: skip
    parser.add_argument(
        "--literal", action="append", default=[], metavar="OLD=NEW",
        help="two texts, whatever they look like; can be repeated",
    )  # fmt: skip
    configure_selection(parser)
    parser.epilog = """examples:
  vetrin rewrite local --replace http://harrowmere.test=https://harrowmere.test
  vetrin rewrite staging --replace https://old.example=https://www.harrowmere.example --dry-run
  vetrin rewrite local --replace /srv/www/old=/srv/www/harrowmere --tables options,posts
  vetrin rewrite local --literal "Light Railway=Steam Railway" --columns posts.post_title"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    environment = project.environment(args.environment)
    pairs = [*map(parse_pair, args.replace), *map(parse_literal, args.literal)]
    if not pairs:
        raise UsageError("nothing to replace; give at least one --replace OLD=NEW")
    with open_to_write(out, project, environment) as site:
        get_ready(args, out, site, journals_of(project))
        rewriting = Rewriting(
            Mapping.of(pairs), encoded=site.encoded, signed=signed_between(site, site)
        )
        with listener(out) as listen:
            found = survey(site, rewriting, selection_of(args), listen)
        _show(out, site, found, rewriting)
        count = plural(found.rows.total(), "row")
        question = f"Change {count} in {environment.name}?"
        done = make(
            args, out, journals_of(project), site, "rewrite", rewriting, found, question, "changed"
        )
    for pair in pairs if done is not None else ():
        if pair.old == environment.address and isinstance(pair.new, Address):
            out.show(
                f'Next: address = "{pair.new}" in [environment.{environment.name}] of vetrin.toml'
            )
    return ExitStatus.DONE


def _show(out: Out, site: Site, found: Survey, rewriting: Rewriting) -> None:
    out.show(lead("Rewrite in ", "bold").append(site.environment.name, style="name"))
    table = grid("table", ">rows that change", "how")
    for name, count in found.rows.most_common():
        how = "the table is copied and exchanged" if name in found.whole else "these rows alone"
        table.add_row(name, number(count), how)
    if found.rows:
        out.show(table)
    show_counts(out, rewriting)
    show_left(out, rewriting)
    show_samples(out, found)
