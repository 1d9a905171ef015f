"""Asking whether the commands that a project brings along may run on this machine."""

from __future__ import annotations

import shlex
from collections.abc import Sequence

from msgspec.structs import replace

from ..cms import is_shipped
from ..config import VARIABLE, Agreed, Foreign, Project
from ..errors import Refused
from ..files import printable
from ..site import ReadableSite
from .console import Out, lead


def build_commands(project: Project) -> list[Foreign]:
    rule = project.build
    return [
        *(Foreign("build", command.line, command.folder) for command in rule.commands),
        *(Foreign("check of the build", command.line, command.folder) for command in rule.checks),
    ]


def must_agree(out: Out, project: Project, commands: Sequence[Foreign]) -> None:
    """Raises Refused where one of the commands may not run."""
    lacking = Agreed(project.folder).lacks(commands)
    if lacking and not _agrees(out, project, lacking):
        lines = "; ".join(f"{command.line!r} ({command.what})" for command in lacking)
        raise Refused(
            f"{project.name} wants to run commands on this machine that nobody agreed to yet: {lines}",
            f"run it at a terminal to be asked once, or set {VARIABLE}=run where nobody can be asked",
        )


def without_foreign_commands(out: Out, project: Project, site: ReadableSite) -> None:
    """Where the project's own definition names a command that may not run, the site is looked at without it."""
    rule = site.definition.runtime
    if rule is None or not rule.command or is_shipped(rule):
        return
    command = Foreign("version of the runtime", shlex.join(rule.command))
    lacking = Agreed(project.folder).lacks([command])
    if lacking and not _agrees(out, project, lacking):
        out.warn(f"the version of {rule.title} is not looked up: {command.line!r} may not run")
        site.definition = replace(site.definition, runtime=None)


def _agrees(out: Out, project: Project, commands: Sequence[Foreign]) -> bool:
    if not out.at_terminal or out.json:
        return False
    out.messages.print(lead(f"{project.name} ", "bold").append("wants to run on this machine:"))
    for command in commands:
        where = "" if command.folder == "." else f" in {command.folder}"
        text = lead(f"  {printable(command.line)}", "name")
        out.messages.print(text.append(f"   ({command.what}{printable(where)})", style=""))
    if not out.agrees("Run them, now and from now on?"):
        return False
    Agreed(project.folder).add(commands)
    return True
