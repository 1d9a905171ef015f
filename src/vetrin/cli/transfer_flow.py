"""The one way from a plan over the question to the run, which every command that replaces something takes."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from functools import partial
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ..config import Environment, Project
from ..errors import ExitStatus, NothingToDo, ProjectError, StoreError
from ..jobs import (
    Changes,
    Keeping,
    Plan,
    Run,
    RunContext,
    Since,
    agreed,
    changes_of,
    last_since,
    must_be_whole,
    preview,
    run_plan,
    signature,
    standing_copy,
    time_for,
)
from ..site import ReadableSite, Site
from ..store import Store, open_store
from .changes_view import overwritten, waiting
from .choices import chosen_by
from .common import journals_of
from .console import Out, lead
from .plan_view import show_plan, show_preview, show_report
from .progress import clock, listener
from .stored import baselines_of, show_way_back, store_of


class TransferFlow(Struct, frozen=True):
    """What differs between commands.

    ``make`` plans, as often as that is needed; ``question`` is asked, after ``show_more`` has said what belongs to it
    beside the plan. ``more`` goes into the documents of --json. ``carry_out`` is given in place of a plain run.
    With ``previews``, a dry run reads the source to count what would be rewritten. ``always_lost``: what the target
    has of its own is named also where nobody is asked. ``snapshot`` is the one that comes, with which the target is
    compared; that takes as long as reading it. ``rows_move``: a line to a side will carry many bytes of them.
    """

    args: argparse.Namespace
    out: Out
    project: Project
    context: RunContext
    make: Callable[[], Plan]
    question: str
    more: dict[str, Any]
    show_more: Callable[[], None] = lambda: None
    carry_out: Callable[[Plan, RunContext], int] | None = None
    previews: bool = True
    always_lost: bool = False
    snapshot: tuple[Store, Since] | None = None
    rows_move: bool = False

    def run(self) -> int:
        """Plan, ask and run, or with --dry-run say what would be done; the exit code."""
        return self._look() if self.args.dry_run else self._ask()

    def _look(self) -> int:
        out, context = self.out, self.context
        must_be_whole(context.source)
        must_be_whole(context.target)
        plan = self.make()
        own = self._show(plan)
        seconds = time_for(plan, context.journals)
        since = self._copied(plan)
        document = {
            **self.more,
            **plan.as_json(),
            "estimated_seconds": seconds and round(seconds),
            "since_run": since.number if since is not None else None,
            "own_changes": None if own is None else _content(own),
        }
        waits = self._waiting(plan, since) if self.previews else None
        if waits is not None:
            out.show(waiting(waits))
            document["waiting"] = _content(waits)
        elif self.previews:
            with listener(out) as listen:
                rewriting = preview(plan, context.source, listen)
            show_preview(out, plan, rewriting)
            document["rewriting"] = rewriting.as_json()
        out.document("plan", document)
        out.say("dry run: nothing was changed")
        return ExitStatus.DONE

    def _ask(self) -> int:
        args, out, context = self.args, self.out, self.context
        target = context.target.environment
        production = target.role == "production"

        def ask(plan: Plan, again: bool) -> None:
            if again:
                out.warn(
                    f"{context.source.environment.name} or {target.name} has changed since the plan was made; "
                    "this is the plan now"
                )
            self._show(plan)
            out.confirm(self.question, args, target=target.name, production=production)
            self._expect_bulk()

        beforehand = not out.asks(args, target=target.name, production=production)
        if beforehand:
            self._expect_bulk()
        return agreed(
            context.source, context.target, context.journals, self.make, ask, self._carried_out,
            beforehand=beforehand,
        )  # fmt: skip

    def _expect_bulk(self) -> None:
        """What many bytes need is made while the plan is."""
        for site in (self.context.source, self.context.target) if self.rows_move else ():
            site.expect_bulk()

    def _show(self, plan: Plan) -> Changes | None:
        """The plan; what the target has of its own that it overwrites, where that is known."""
        show_plan(self.out, plan, every_file=self.args.every_file, last=self._last(plan))
        self.show_more()
        since = self._copied(plan)
        if since is not None:
            text = (
                f"only those move that differ from what run {since.number} left (--full takes all)"
            )
            self.out.show(lead("Rows: ", "bold").append(text, style=""))
        own = self._own_changes(plan)
        if own is not None and (line := overwritten(own, every=self.args.every_file)) is not None:
            self.out.show(line)
        seconds = time_for(plan, self.context.journals)
        if seconds is not None:
            text = f"about {clock(seconds)}, by the last runs"
            self.out.show(lead("Time: ", "bold").append(text, style=""))
        show_way_back(self.out, self.context.keeping)
        return own

    def _copied(self, plan: Plan) -> Run | None:
        """The run whose copy this one goes by, moving only what differs."""
        if not plan.goes_by_last_copy:
            return None
        return standing_copy(self.context.journals, plan.source.name, plan.target.name)

    def _own_changes(self, plan: Plan) -> Changes | None:
        """What changed in the target since the last transfer that its content is of, or that read it; None where
        nothing of it is overwritten, nobody is there to read it, or it is not known."""
        target = plan.target
        if not any(item.target_rows for item in plan.tables):
            return None
        asks = self.out.asks(self.args, target=target.name, production=target.role == "production")
        if not (self.args.dry_run or self.always_lost or (asks and self.snapshot is None)):
            return None
        try:
            if self.snapshot is not None:
                store, since = self.snapshot
            else:
                store = open_store(self.out.hosts, self.project, here=True)
                since = last_since(store, self.context.journals, target)
            found = changes_of(
                self.context.target, store, since, lambda run: chosen_by(self.project, run),
                files=False,
            )  # fmt: skip
            prefix = self.context.target.prefix
            coming = {item.target.removeprefix(prefix) for item in plan.tables}
            return found.only_in(coming, self.context.target.definition)
        except (StoreError, NothingToDo, ProjectError):
            return None

    def _waiting(self, plan: Plan, since: Run | None) -> Changes | None:
        """What changed at the source since a run that did the same brought its rows; None where that is not known, or
        all of them come."""
        if since is None or since.signature != signature(plan):
            return None
        source = self.context.source
        try:
            store = open_store(self.out.hosts, self.project, here=True)
            known = {item.id: item for item in store.snapshots()}
            if since.baseline not in known:
                return None
            return changes_of(
                source,
                store,
                Since(known[since.baseline], "source", since),
                lambda run: chosen_by(self.project, run),
                files=False,
            )
        except (StoreError, ProjectError):
            return None

    def _last(self, plan: Plan) -> Run | None:
        """The run of which a person need not read again what is as it was."""
        if self.args.verbose or self.args.every_file:
            return None
        return self.context.journals.last_of(plan.kind, plan.source.name, plan.target.name)

    def _carried_out(self, plan: Plan) -> int:
        out, last = self.out, self._last(plan)
        context = replace(self.context, baselines=baselines_of(self.project, out, plan))
        if self.carry_out is not None:
            return self.carry_out(plan, context)
        with listener(out) as listen:
            report = run_plan(plan, replace(context, listener=listen))
        show_report(out, plan, report, last)
        out.document("report", {**self.more, "plan": plan.as_json(), **report.as_json()})
        return ExitStatus.DONE


def context_of(
    args: argparse.Namespace, out: Out, project: Project, source: ReadableSite, target: Site,
    command: list[str], store: Callable[[], Store] | None = None,
) -> RunContext:  # fmt: skip
    """What a transfer works with. ``command`` are the words to go on with; ``store`` opens the store in which a
    snapshot of what is replaced is kept."""
    store = store or partial(store_of, project, out, writing=not args.dry_run)
    keeping = keeping_of(args, project, target.environment, store)
    return RunContext(source, target, journals_of(project), command=command, keeping=keeping)


def keeping_of(
    args: argparse.Namespace, project: Project, target: Environment, store: Callable[[], Store]
) -> Keeping | None:
    """Where a snapshot of what is replaced is kept first; None where none is to be taken."""
    before = project.store.before and not getattr(args, "skip_backup", False)
    if not before or target.role != "production":
        return None
    return Keeping(store(), list(project.environments.values()), project.state)


def _content(found: Changes) -> dict[str, Any]:
    """What changed in the data, for a document."""
    names = ("since", "same", "tables", "entries", "settings")
    document = {name: value for name, value in found.as_json().items() if name in names}
    return {**document, "same": not found.tables}
