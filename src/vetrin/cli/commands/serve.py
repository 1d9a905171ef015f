"""vetrin serve"""

from __future__ import annotations

import argparse
import shlex
import signal
import webbrowser
from types import FrameType

from msgspec.structs import asdict

from ...cms import is_shipped
from ...config import Foreign, Project
from ...errors import ExitStatus, ProjectError
from ...files import own_folder
from ...serve import LocalServer, Need, Origin, command_line, needs_of
from ...site import open_site
from ..common import journals_of, project_of, target_of
from ..consent import must_agree
from ..console import Out, lead


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Run a copy on this machine at its address: PHP's own web server with the rules of the CMS, or\n"
        "what the CMS brings along. What is missing for it is said first. Ctrl-C ends it."
    )
    parser.add_argument(
        "environment", nargs="?", metavar="ENV", help="the environment (the local one)"
    )
    parser.add_argument("--open", action="store_true", help="open the home page in a browser")
    parser.add_argument(
        "--workers",
        type=int,
        default=4,
        metavar="N",
        help="pages that are made at the same time (4)",
    )
    parser.epilog = """examples:
  vetrin serve
  vetrin serve --open
  vetrin serve local --dry-run     only say whether all is there"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    environment = target_of(project, args.environment)
    if environment.host is not None:
        raise ProjectError(
            f"{environment.name} is on {environment.host}; only what is on this machine can be served"
        )
    folder = own_folder(project.folder) / "serve"
    words = command_line(project.definition, environment, folder)
    with open_site(out.hosts, project, environment) as site:
        needs = needs_of(site, _origin(project, environment.name))
    _show(out, needs)
    lacking = [need for need in needs if need.must and not need.good]
    served = not args.dry_run and not lacking
    document = {
        "environment": environment.name, "address": str(environment.address), "served": served,
        "needs": [asdict(need) for need in needs], "log": str(folder / f"{environment.name}.log"),
    }  # fmt: skip
    if not served:
        out.document("serve", document)
        if not lacking or args.dry_run or out.json:
            return ExitStatus.FAILED if lacking else ExitStatus.DONE
        return out.fail(
            ExitStatus.FAILED,
            f"{environment.name} cannot be served: {lacking[0].says}",
            lacking[0].remedy,
        )
    _must_agree(out, project, words)
    signal.signal(signal.SIGTERM, _interrupted)
    try:
        with LocalServer(project.definition, environment, folder, args.workers) as server:
            out.document("serve", document)
            out.show(
                lead("✓ ", "good")
                .append(f"{project.name} is at ", style="")
                .append(f"{environment.address}/", style="name")
            )
            out.say(f"its log: {server.log}; Ctrl-C ends it")
            if args.open:
                webbrowser.open(f"{environment.address}/")
            server.wait()
    except KeyboardInterrupt:
        out.say("\nended")
    return ExitStatus.DONE


def _origin(project: Project, name: str) -> Origin | None:
    """Where the code of an environment came from, as far as transfers are on record."""
    runs = journals_of(project).standing(name)
    last = next((run for run in runs if "code" in run.parts), None)
    if last is None or last.kind not in ("pull", "push"):
        return None
    return Origin(last.source, str(last.gist.get("runtime", "")))


def _interrupted(number: int, frame: FrameType | None) -> None:
    raise KeyboardInterrupt


def _must_agree(out: Out, project: Project, words: list[str]) -> None:
    """A command that the project brings along runs only where somebody agreed."""
    rule = project.definition.serve
    if rule is not None and not is_shipped(rule):
        must_agree(out, project, [Foreign("web server", shlex.join(words))])


def _show(out: Out, needs: list[Need]) -> None:
    for need in needs:
        line = lead(
            " ✓ " if need.good else " ✗ ",
            "good" if need.good else "bad" if need.must else "warning",
        )
        out.show(line.append(f"{need.what:<12}", style="bold").append(need.says, style=""))
        if need.remedy and not need.good:
            out.show(f"   → {need.remedy}")
