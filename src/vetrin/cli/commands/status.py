"""vetrin status"""

from __future__ import annotations

import argparse
from typing import Any

from ...config import Environment, Project
from ...errors import DatabaseError, ExitStatus, FilesError, ReachError
from ...jobs import Run
from ...site import Summary, is_empty, root_of, standing
from ...store import SHORT
from ..common import journals_of, last_transfer, opened, project_of
from ..console import Out, lead, number, size
from ..grid import grid


def configure(parser: argparse.ArgumentParser) -> None:
    parser.epilog = """exit code 1 says that an environment could not be looked at

examples:
  vetrin status
  vetrin status --json"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    journals = journals_of(project)
    columns: list[tuple[Environment, Summary | None, str]] = []
    failed = False
    for environment in project.environments.values():
        found, problem, wrong = _look(out, project, environment)
        columns.append((environment, found, problem))
        failed |= wrong
    runs = {name: journals.last_transfer(name) for name in project.environments}
    out.document(
        "status",
        {
            "site": project.name,
            "cms": project.definition.name,
            "environments": [
                {
                    "name": environment.name,
                    "role": environment.role,
                    "access": environment.access,
                    "address": str(environment.address),
                    "problem": problem or None,
                    "standing": found.as_json() if found else None,
                    "last_transfer": _transfer(runs[environment.name]),
                    "build": held.build if (held := journals.build_on(environment.name)) else None,
                }
                for environment, found, problem in columns
            ],
        },
    )
    table = grid("", *(environment.name for environment, _, _ in columns),
                 title=f"{project.name} · {project.definition.title}", side_by_side=True)  # fmt: skip
    for label, cells in _rows(columns, project):
        table.add_row(lead(label, "dim"), *cells)
    table.add_row(
        lead("last transfer", "dim"), *(last_transfer(runs[e.name]) for e, _, _ in columns)
    )
    pushed = {name: journals.build_on(name) for name in project.environments}
    if any(pushed.values()):
        table.add_row(lead("build", "dim"), *(_build(pushed[e.name]) for e, _, _ in columns))
    out.show(table)
    for environment, _, problem in columns:
        if problem:
            out.warn(f"{environment.name}: {problem}")
            out.say(f"  → vetrin reach {environment.name} shows what is in the way")
    for environment, _, _ in columns:
        run = next(iter(journals.of(environment.name)), None)
        if run is not None and run.unfinished:
            on = f"`vetrin resume {environment.name}` goes on, " if run.can_go_on else ""
            out.warn(
                f"{environment.name}: run {run.number} ({run.kind}) is under way, or was stopped in "
                f"between; then {on}`vetrin undo {environment.name}` takes back what it left"
            )
    return ExitStatus.FAILED if failed else ExitStatus.DONE


def _transfer(run: Run | None) -> dict[str, Any] | None:
    return None if run is None else {"run": run.number, "from": run.source, "at": run.ended}


def _build(run: Run | None) -> str:
    if run is None:
        return "—"
    commit = run.build.get("commit")
    short = str(run.build["fingerprint"])[:SHORT]
    return f"{short} ({commit['id'][:8]}{'' if commit['clean'] else '+'})" if commit else short


def _look(out: Out, project: Project, environment: Environment) -> tuple[Summary | None, str, bool]:
    """How an environment stands, or why that is not known, and whether that is a failure: it is none where its owner
    closed it, or where nothing is there yet."""
    if environment.access == "closed":
        return None, "its access is closed", False
    try:
        with opened(out, project, environment) as site:
            return standing(site), "", False
    except ReachError as error:
        # Asked only where no site was found, so that a host that has one is asked nothing more.
        if (
            error.part == "files"
            and environment.access == "read-write"
            and is_empty(root_of(out.hosts, environment), project.definition)
        ):
            return None, f"{environment.root} is empty; a transfer fills it", False
        return None, error.reason, True
    except (DatabaseError, FilesError) as error:
        return None, str(error), True


def _rows(
    columns: list[tuple[Environment, Summary | None, str]], project: Project
) -> list[tuple[str, list[Any]]]:
    def each(show: Any) -> list[Any]:
        return [lead("—", "dim") if found is None else show(found) for _, found, _ in columns]

    rows: list[tuple[str, list[Any]]] = [
        ("address", [str(environment.address) for environment, _, _ in columns]),
        ("role", [f"{e.role}, {e.access}" for e, _, _ in columns]),
        *(
            [("host", [str(e.host or "this machine") for e, _, _ in columns])]
            if any(e.host for e, _, _ in columns)
            else []
        ),
        ("title", each(lambda f: f.title or "—")),
        (project.definition.title, each(lambda f: f.cms_version or "unknown")),
        ("database", each(lambda f: f.database_version)),
    ]
    names = dict.fromkeys(name for _, found, _ in columns if found for name in found.counts)
    for name in names:
        rows.append((name, each(lambda f, name=name: number(f.counts.get(name, 0)))))
    rows += [
        ("newest entry", each(lambda f: f.newest.title if f.newest else "—")),
        ("  changed", each(lambda f: f.newest.changed if f.newest else "—")),
        ("tables", each(lambda f: f"{f.tables}, {size(f.database_size)}")),
        ("media files", each(lambda f: f"{number(f.media_files)}, {size(f.media_size)}")),
    ]
    return rows
