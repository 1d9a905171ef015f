"""What `pull`, `push` and `run` share: the plan, the question, the run."""

from __future__ import annotations

import argparse
from collections.abc import Callable

from ..config import Project, Route
from ..jobs import Plan, build_plan, usual_parts
from ..site import open_site, root_of
from .choices import choices_of, must_name_tables, others_of, parts_of
from .common import open_to_write, words_of
from .console import Out
from .transfer_flow import TransferFlow, context_of


def transfer(
    args: argparse.Namespace,
    out: Out,
    project: Project,
    route: Route,
    *,
    all_of_it: bool = False,
    always_lost: bool = False,
    planned: Callable[[], None] = lambda: None,
) -> int:
    """Plan, ask and run; the exit code. ``all_of_it``: [leave] of vetrin.toml does not count. ``always_lost`` as for
    ``TransferFlow``. ``planned`` is called whenever there is a plan."""
    source_environment = project.environment(route.source)
    target_environment = project.environment(route.target)
    parts = (
        parts_of(route.parts, "parts")
        if route.parts
        else usual_parts("pull", root_of(out.hosts, target_environment), project.definition)
    )
    choices = choices_of(project, route, all_of_it=all_of_it, full=args.full)
    data = "data" in parts
    with (
        open_site(out.hosts, project, source_environment, data=data) as source,
        open_to_write(
            out,
            project,
            target_environment,
            like=source.configuration,
            data=data,
            source=source_environment,
        ) as target,
    ):
        must_name_tables(args, source, target)

        def make() -> Plan:
            plan = build_plan(source, target, parts, others_of(project, route), choices)
            planned()
            return plan

        return TransferFlow(
            args=args, out=out, project=project,
            context=context_of(args, out, project, source, target, words_of(args)),
            make=make, question=f"Replace this in {target_environment.name}?", more={},
            always_lost=always_lost, rows_move=data,
        ).run()  # fmt: skip
