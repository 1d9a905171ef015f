"""vetrin history"""

from __future__ import annotations

import argparse

from rich.text import Text

from ...errors import ExitStatus
from ...jobs import Run
from ...store import SHORT
from ..common import ago, journals_of, project_of
from ..console import Out, number, plural, size
from ..grid import grid

_SUBJECT = 24
_STAGES = {
    "planned": "stopped in between",
    "swapping": "stopped in its switch",
    "done": "done",
    "failed": "failed, nothing changed",
    "taken-back": "stopped, taken back",
}


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("environment", nargs="?", metavar="ENV", help="only what wrote to it")
    parser.epilog = """examples:
  vetrin history
  vetrin history local --json"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    if args.environment:
        project.environment(args.environment)
    runs = [
        run
        for run in reversed(list(journals_of(project).runs()))
        if not args.environment or run.target == args.environment
    ]
    out.document(
        "history",
        {
            "runs": [
                {
                    "run": run.number, "kind": run.kind, "from": run.source, "to": run.target,
                    "started": run.started, "ended": run.ended or None, "outcome": _outcome(run),
                    "undoes": run.undoes, "undone_by": run.undone_by,
                    "can_be_undone": run.can_be_undone, "error": run.error or None,
                    "rows": run.report.get("rows"), "files": run.report.get("files"),
                    "parts": list(run.parts), "build": run.build or None,
                    "checked": run.checked or None,
                    "kept_build": run.report.get("kept_build"),
                }
                for run in runs
            ]
        },
    )  # fmt: skip
    if not runs:
        out.show("Nothing was done yet. `vetrin pull --dry-run` shows what a pull would do.")
        return ExitStatus.DONE
    built = any(item.build for item in runs)
    table = grid(
        ">run", "what", *(["build"] if built else []), "when", ">rows", ">files", "outcome"
    )
    for item in runs:
        what = (
            f"undo of run {item.undoes} in {item.target}"
            if item.kind == "undo"
            else f"{item.kind} in {item.target}"
            if item.source == item.target
            else f"{item.kind} {item.source} → {item.target}"
        )
        rows, files = item.report.get("rows"), item.report.get("files")
        moved = f"{files}, {size(item.report.get('file_bytes', 0))}" if files is not None else ""
        table.add_row(
            str(item.number), what, *([_build(item)] if built else []), ago(item.started),
            number(rows) if rows is not None and (rows or "data" in item.parts) else "", moved, _outcome(item),
        )  # fmt: skip
    out.show(table)
    return ExitStatus.DONE


def _build(run: Run) -> Text:
    """A build's fingerprint and commit, as `vetrin push --build` takes them; + stands for changes."""
    if not run.build:
        return Text()
    found = Text(str(run.build["fingerprint"])[:SHORT])
    commit = run.build.get("commit")
    if commit:
        found.append(f" ({commit['id'][:8]}{'' if commit['clean'] else '+'})")
        subject = commit["subject"]
        found.append(f"\n{subject[:_SUBJECT]}{'…' if len(subject) > _SUBJECT else ''}", style="dim")
    return found


def _outcome(run: Run) -> str:
    if run.undone_by is not None:
        return f"undone by run {run.undone_by}"
    outcome = _STAGES.get(run.stage, run.stage)
    if run.error and run.stage == "failed":
        outcome += f": {run.error.splitlines()[0][:80]}"
    if run.checked and run.stage == "done":
        count = run.checked["findings"]
        outcome += ", checked: " + ("good" if run.checked["good"] else plural(count, "finding"))
    return outcome + (", can be undone" if run.can_be_undone else "")
