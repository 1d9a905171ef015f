"""vetrin check"""

from __future__ import annotations

import argparse
import contextlib

from ...errors import DatabaseError, ExitStatus, ProjectError, ReachError
from ...inspect.web_check import Check, CheckReport, Expectation, Looked
from ...jobs import may_read
from ...site import Site, open_site
from ..common import journals_of, opened, project_of
from ..console import Out, lead, plural


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Look at an environment as a visitor: home page, a sample of pages and pictures, the\n"
        "log-in page; whether they load from there and lead nowhere else; titles and counts\n"
        "against what the last transfer brought; the data for references to other environments."
    )
    parser.add_argument("environment", metavar="ENV", help="the environment")
    parser.epilog = """exit code 4 says that something is not as it should be

examples:
  vetrin check local
  vetrin check local --verbose           each page, picture and count by itself
  vetrin check staging --json"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    environment = project.environment(args.environment)
    may_read(environment)
    others = [other for other in project.environments.values() if other is not environment]
    journals = journals_of(project)
    last = journals.last_transfer(environment.name, "data")
    pushed = journals.build_on(environment.name)
    expected = None
    with contextlib.ExitStack() as stack:
        site = stack.enter_context(opened(out, project, environment))
        source: Site | None = None
        if last is not None:
            expected = Expectation(last.source, last.report.get("counts", {}))
            # Without its source the copy is checked all the same, only not against it.
            with contextlib.suppress(ProjectError, ReachError, DatabaseError):
                source = stack.enter_context(
                    open_site(out.hosts, project, project.environment(last.source))
                )
        report = Check(site, others, expected, source).run()
    if pushed is not None:  # whether its build may go on to production
        pushed.write("checked", good=not report.findings, findings=len(report.findings))
    out.document("check", {"good": not report.findings, **report.as_json()})
    _show(out, report, every=args.verbose)
    return ExitStatus.DIFFERENT if report.findings else ExitStatus.DONE


def _show(out: Out, report: CheckReport, *, every: bool) -> None:
    """What was looked at; unless ``every`` thing is asked for, what is good of one kind is one line."""
    lines = lead(f"Check of {report.environment}\n", "bold")
    good: dict[str, list[Looked]] = {}
    for item in report.looked:
        if item.good and not every:
            good.setdefault(item.kind, []).append(item)
    for item in report.looked:
        alike = good.get(item.kind, []) if item.good else []
        if len(alike) > 1:
            if item is alike[0]:
                lines.append(" ✓ ", style="good").append(f"{item.kind:<8}", style="dim")
                lines.append(f"{_folded(alike)}\n")
            continue
        lines.append(" ✓ " if item.good else " ✗ ", style="good" if item.good else "bad")
        lines.append(f"{item.kind:<8}", style="dim").append(f"{item.what}  ")
        lines.append(f"{item.result}\n", style="dim")
    lines.rstrip()
    out.show(lines)
    if not report.findings:
        out.show(
            lead("\n✓ ", "good").append(
                f"{plural(len(report.looked), 'thing')} looked at, all as they should be", style=""
            )
        )
        return
    out.show(lead(f"\n{plural(len(report.findings), 'finding')}", "bold"))
    for finding in report.findings:
        out.show(lead("! ", "warning").append(f"{finding.where}: {finding.what}"))
        if finding.remedy:
            out.show(f"  → {finding.remedy}")


def _folded(items: list[Looked]) -> str:
    """Several good things of one kind in a line."""
    if items[0].kind == "count":
        return ", ".join(f"{one.what} {one.result}" for one in items)
    return f"{len(items)} of them, such as {items[0].what}"
