"""vetrin undo"""

from __future__ import annotations

import argparse

from ..reach import open_site
from ..sync import undo, undoable
from .common import ago, journals_of, project_of
from .console import Out, lead, plural
from .main import DONE


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Put back what the last run on an environment replaced, database and files, exactly.\n"
        "What is there now is kept in its turn: running undo once more brings it back."
    )
    parser.add_argument("environment", metavar="ENV", help="the environment")
    parser.epilog = """examples:
  vetrin undo local
  vetrin undo staging --dry-run"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    environment = project.environment(args.environment)
    journals = journals_of(project)
    with open_site(project, environment, read_only=False) as site:
        last = undoable(site, journals)
        tables = sum(exchange.outgoing is not None for exchange in last.exchanges)
        where = f" from {last.source}" if last.source != last.target else ""
        text = lead(f"Run {last.number} ", "bold").append(
            f"({last.kind}{where}, {ago(last.ended or last.started)}) is undone: ",
            style="",
        )
        gone = len(last.exchanges) - tables
        parts = [f"{plural(tables, 'table comes', 'tables come')} back"] if tables else []
        if last.patches:
            rows = last.report.get("rows", last.report.get("patched_rows", 0))
            parts.append(f"{plural(rows, 'row')} as before, but for those changed since")
        if gone:
            parts.append(f"{plural(gone, 'table')} that it brought {'goes' if gone == 1 else 'go'}")
        files = sum("file" in (move.goes, move.comes) for move in last.moves)
        if files:
            parts.append(f"{plural(files, 'file')} as before")
        out.show(text.append(", ".join(parts)))
        if last.exchanges or files:
            warning = (
                f"What was changed in {environment.name} since then goes too; `vetrin undo "
                f"{environment.name}` once more brings it back."
            )
            out.show(lead("! ", "yellow").append(warning))
        if args.dry_run:
            out.document("undo", {"undoes": last.number, "done": False})
            out.say("dry run: nothing was changed")
            return DONE
        out.confirm(
            f"Put {environment.name} back?",
            given=args.yes,
            target=environment.name,
            production=environment.role == "production",
        )
        done = undo(site, journals)
        if done.number == last.number:
            out.show(f"Run {last.number} had been stopped in between; what it left was taken back.")
        else:
            out.show(
                lead("✓ ", "bold green").append(
                    f"Run {done.number}: {environment.name} is as it was before run {last.number}",
                    style="",
                )
            )
        out.document("undo", {"undoes": last.number, "run": done.number, "done": True})
    return DONE
