"""vetrin undo"""

from __future__ import annotations

import argparse

from msgspec.structs import asdict

from ...errors import ExitStatus
from ...files import some_of
from ...jobs import Run, as_it_was, may_write, take_back_of_others, undo_and_look, undoable
from ...jobs.undo import Undone
from ..common import ago, journals_of, open_to_write, project_of
from ..console import Out, lead, plural


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
    # What it brings back may be all that the root held.
    newest = next((run for run in journals.of(environment.name) if run.can_be_undone), None)
    like = as_it_was(newest) if newest is not None else None
    with open_to_write(out, project, environment, like=like, anyway=True) as site:
        may_write(environment)
        for sentence in site.unsure:
            out.warn(sentence)
        if not args.dry_run and take_back_of_others(site, journals):
            out.show(
                f"A run of another project had been stopped in its switch; {environment.name} is as it was "
                "before it."
            )
            out.document("undo", {"undoes": None, "run": None, "done": True})
            return ExitStatus.DONE
        last = undoable(site, journals)
        _show_what_comes_back(out, last, environment.name)
        if args.dry_run:
            out.document("undo", {"undoes": last.number, "done": False})
            out.say("dry run: nothing was changed")
            return ExitStatus.DONE
        out.confirm(
            f"Put {environment.name} back?",
            args,
            target=environment.name,
            production=environment.role == "production",
        )
        outcome = undo_and_look(site, journals)
        _show_outcome(out, last, outcome, environment.name)
    return ExitStatus.DIFFERENT if outcome.broke else ExitStatus.DONE


def _show_what_comes_back(out: Out, last: Run, name: str) -> None:
    where = f" from {last.source}" if last.source != last.target else ""
    what = "was stopped in between and is taken back" if last.unfinished else "is undone"
    text = lead(f"Run {last.number} ", "bold").append(
        f"({last.kind}{where}, {ago(last.ended or last.started)}) {what}", style=""
    )
    parts = _parts(last)
    out.show(text.append(f": {', '.join(parts)}" if parts else ""))
    replaced = last.kind != "merge" and (last.switch.exchanges or last.switch.moves)
    if replaced and not last.unfinished:
        out.show(
            lead("! ", "warning").append(
                f"What was changed in {name} since then goes too; `vetrin undo {name}` once more brings it back."
            )
        )


def _parts(last: Run) -> list[str]:
    """What of a run is taken back, in words."""
    switch, parts = last.switch, []
    tables = sum(exchange.outgoing is not None for exchange in switch.exchanges)
    brought = len(switch.exchanges) - tables
    folders = sum(move.whole for move in switch.moves)
    files = sum("file" in (move.goes, move.comes) for move in switch.moves if not move.whole)
    if tables:
        parts.append(f"{plural(tables, 'table comes', 'tables come')} back")
    if switch.patches:
        rows = last.report.get("rows", last.report.get("patched_rows", 0))
        parts.append(f"{plural(rows, 'row')} as before, but for those changed since")
    if brought:
        parts.append(
            f"{plural(brought, 'table')} that it brought {'goes' if brought == 1 else 'go'}"
        )
    if folders:
        parts.append(f"{plural(folders, 'whole folder')} as before")
    if files:
        parts.append(f"{plural(files, 'file')} as before")
    return parts


def _show_outcome(out: Out, last: Run, outcome: Undone, name: str) -> None:
    done, before, after = outcome.run, outcome.before, outcome.after
    if done.number == last.number:
        out.show(f"Run {last.number} had been stopped in between; what it left was taken back.")
    else:
        out.show(
            lead("✓ ", "good").append(
                f"Run {done.number}: {name} is as it was before run {last.number}", style=""
            )
        )
    stayed = done.report.get("stayed") or []
    if stayed and done.number != last.number:
        rows = plural(
            len(stayed), "row was changed since and stays", "rows were changed since and stay"
        )
        out.show(lead("! ", "warning").append(f"{rows} as it is: {some_of(stayed, 8)}"))
    if outcome.broke and before is not None and after is not None:
        out.show(lead("! ", "bad").append(f"the home page {after.says}; before, it {before.says}"))
        out.show(f"  → vetrin undo {name} once more brings back what was there")
    out.document(
        "undo",
        {
            "undoes": last.number, "run": done.number, "done": True,
            "stayed": stayed,
            "home_before": asdict(before) if before else None,
            "home_after": asdict(after) if after else None,
        },
    )  # fmt: skip
