"""The way from a look at both sides over the conflicts and the question to a merge, for `pull` and `push`."""

from __future__ import annotations

import argparse
import contextlib
import json
from collections.abc import Sequence
from functools import cached_property, partial
from pathlib import Path
from typing import NamedTuple

from ..config import Environment, Project
from ..errors import DatabaseError, ExitStatus, ProjectError, Refused, UsageError
from ..jobs import Keeping, must_be_whole, only_run, put_right, reconnect
from ..jobs.changes import NOT_SHOWN
from ..jobs.merge import KeepOnce, MergeReport, agreed_merge, merge
from ..jobs.merge_plan import MergePlan, plan_merge, shown
from ..jobs.merge_sides import shared_state
from ..merge import Conflict, Decision, Decisions, Rules, Take, take_of
from ..site import Site, open_site
from ..store import open_store
from .choices import chosen_by
from .common import journals_of, open_to_write, words_of
from .console import Out, lead, plural
from .merge_view import conflict_lines, show_merge
from .progress import listener
from .stored import show_way_back, store_of
from .transfer_flow import keeping_of

_EDIT = "something else"


def add_merge(parser: argparse.ArgumentParser) -> None:
    """The options that say how conflicts of a merge are decided."""
    group = parser.add_argument_group("what stands where both sides changed the same")
    group.add_argument(
        "--prefer", metavar="[WHAT=]ENV", action="append", default=[],
        help="this environment's; WHAT is a table, table.column or settings.NAME, * fits any",
    )  # fmt: skip
    group.add_argument(
        "--decisions", metavar="FILE",
        help="a document of --json with `take` or `text` filled in for each conflict",
    )  # fmt: skip


def must_merge(args: argparse.Namespace, parts: Sequence[str], *, merges: bool) -> None:
    """Raises UsageError for options that go together with nothing, Refused for parts that do."""
    if not merges and (args.prefer or args.decisions):
        raise UsageError(
            "--prefer and --decisions are for a merge: pull --merge, push --parts data"
        )
    others = [part for part in parts if part not in ("data", "media")]
    if merges and (others or parts == ("media",)):
        raise UsageError(
            "a merge is of data, with the media that belong to it; "
            f"{', '.join(others or parts)} by a command of its own"
        )


def merge_flow(
    args: argparse.Namespace, out: Out, project: Project, source: Environment, target: Environment
) -> int:
    """Look, decide, ask and merge; the exit code."""
    rules = rules_of(args, project, source, target)
    made = _made(args, source, target)
    with (
        open_site(out.hosts, project, source) as incoming,
        open_to_write(out, project, target, like=incoming.configuration) as goal,
    ):
        flow = _Flow(
            args=args,
            out=out,
            project=project,
            incoming=incoming,
            goal=goal,
            rules=rules,
            made=made,
        )
        plan = flow.make()
        if args.dry_run:
            show_merge(out, plan, every=args.every_file)
            out.document("merge", {"done": False, **plan.as_json()})
            out.say("dry run: nothing was changed")
            return ExitStatus.REFUSED if plan.decisions.open else ExitStatus.DONE
        if plan.decisions.open:
            if not _decide(args, out, plan, made):
                return _undecided(args, out, plan)
            plan = flow.make()
        waits = out.asks(args, target=target.name, production=target.role == "production")
        plan, report = agreed_merge(
            plan, flow.make, flow.ask, flow.carry_out, waits=waits, connect=flow.connect
        )
    _show_report(out, plan, report)
    out.document("merge", {"done": True, **plan.as_json(), **report.as_json()})
    return ExitStatus.DONE


class _Flow:
    """The steps of one merge, each of which may have to be done again. ``made`` are the decisions of a person or of a
    document, which may become more."""

    def __init__(
        self,
        args: argparse.Namespace,
        out: Out,
        project: Project,
        incoming: Site,
        goal: Site,
        rules: Rules,
        made: dict[str, Decision],
    ) -> None:
        self._args = args
        self._out = out
        self._project = project
        self._incoming = incoming
        self._goal = goal
        self._rules = rules
        self._made = made
        self._journals = journals_of(project)
        self._store = open_store(out.hosts, project, here=True)
        self._pauses = iter(reconnect.PAUSES)

    @cached_property
    def _keeping(self) -> Keeping | None:
        stores = partial(store_of, self._project, self._out, writing=True)
        return keeping_of(self._args, self._project, self._goal.environment, stores)

    @cached_property
    def _once(self) -> KeepOnce | None:
        return KeepOnce(self._keeping) if self._keeping is not None else None

    def connect(self, lost: Exception) -> None:
        """Connect to both anew; raises what was ``lost`` where that cannot be."""
        with listener(self._out) as listen, contextlib.suppress(DatabaseError):
            reconnect.connect_anew((self._incoming, self._goal), lost, self._pauses, listen)
            return
        raise lost  # here, so that its own reason stays

    def make(self, room: int = 0) -> MergePlan:
        """Look at both sides, also over connections that break; ``room`` as for ``plan_merge``."""
        return reconnect.repeated(partial(self._look, room), self.connect)

    def _look(self, room: int) -> MergePlan:
        incoming, goal = self._incoming, self._goal
        for site in (incoming, goal):
            site.expect_bulk()
        with only_run(goal):
            if self._args.dry_run:
                must_be_whole(goal)
            else:
                put_right(goal, self._journals)
            must_be_whole(incoming)
            incoming.forget()
            goal.forget()
            names = incoming.environment.name, goal.environment.name
            chosen = partial(chosen_by, self._project)
            decisions = Decisions(self._rules, self._made)
            shared = shared_state(self._store, self._journals, *names, chosen)
            with listener(self._out) as listen:
                return plan_merge(incoming, goal, self._store, shared, decisions, listen, room=room)

    def ask(self, plan: MergePlan, again: bool) -> None:
        """Show a plan and have it confirmed. Raises Refused where it is not, or has become another one."""
        out, target = self._out, self._goal.environment
        if again:
            out.warn("something has changed since the plan was made; this is the plan now")
        show_merge(out, plan, every=self._args.every_file)
        if plan.decisions.open:
            raise Refused(
                f"{plural(len(plan.decisions.open), 'conflict')} came up in the meantime",
                "run the command again",
            )
        if not plan.nothing:
            show_way_back(out, self._keeping)
            out.confirm(
                f"Merge this into {target.name}?",
                self._args,
                target=target.name,
                production=target.role == "production",
            )

    def carry_out(self, plan: MergePlan) -> MergeReport:
        with listener(self._out) as listen:
            return merge(
                plan, self._incoming, self._goal, self._journals,
                keeping=self._once, command=words_of(self._args), listener=listen,
            )  # fmt: skip


def _show_report(out: Out, plan: MergePlan, report: MergeReport) -> None:
    name, rows = plan.target.name, sum(report.rows.values())
    text = (
        f"Run {report.run.number}: {plural(rows, 'row')} of {plan.incoming.name} merged into {name}"
    )
    out.show(lead("✓ ", "good").append(text))
    if rows:
        out.show(f"Back: vetrin undo {name}")


def rules_of(
    args: argparse.Namespace, project: Project, source: Environment, target: Environment
) -> Rules:
    """Who wins where: what the command line says, then what vetrin.toml says.

    Raises:
        ProjectError: an environment is none of the two.
    """
    prefer: list[tuple[str, Take]] = []
    for text in args.prefer:
        what, equals, name = text.rpartition("=")
        take = take_of(name, source.name, target.name)
        if take is None:
            raise ProjectError(
                f"--prefer {text}: {name!r} is neither {source.name} nor {target.name}"
            )
        prefer.append((what if equals else "*", take))
    for what, name in project.prefer.items():
        take = take_of(name, source.name, target.name)
        if take is not None:  # otherwise it is about others
            prefer.append((what, take))
    return Rules(tuple(prefer))


def _made(
    args: argparse.Namespace, source: Environment, target: Environment
) -> dict[str, Decision]:
    """The decisions of a document that was filled in.

    Raises:
        ProjectError: it cannot be read, or is no such document.
    """
    if not args.decisions:
        return {}
    path = Path(args.decisions)
    found: dict[str, Decision] = {}
    try:
        data = json.loads(path.read_text(encoding="utf-8"))
        for item in data["conflicts"]:
            if item.get("text") is not None:
                found[str(item["id"])] = Decision(text=str(item["text"]).encode())
            elif item.get("take") is not None:
                take = take_of(item["take"], source.name, target.name)
                if take is None:
                    raise ProjectError(
                        f"--decisions {path}: conflict {item['id']}: {item['take']!r} is neither "
                        f"{source.name} nor {target.name}"
                    )
                found[str(item["id"])] = Decision(take)
    except OSError as error:
        raise ProjectError(f"--decisions {path}: {error.strerror or error}") from error
    except (ValueError, KeyError, TypeError, AttributeError) as error:
        raise ProjectError(
            f"--decisions {path}: it is no document that `--json` gave of a merge"
        ) from error
    return found


def _decide(args: argparse.Namespace, out: Out, plan: MergePlan, made: dict[str, Decision]) -> bool:
    """Have a person decide all conflicts one by one; False where nobody can be asked, or one is left open."""
    if not out.at_terminal or out.json:
        return False
    show_merge(out, plan, every=args.every_file, asks=True)
    total = len(plan.decisions.open)
    for count, conflict in enumerate(plan.decisions.open, 1):
        out.messages.print(lead(f"Conflict {count} of {total}", "bold"))
        for line in conflict_lines(plan, conflict):
            out.messages.print(line)
        answer = _asked(out, plan, conflict, total - count + 1)
        if answer is None:
            return False
        made[conflict.id] = answer.decision
        if answer.for_all:
            made |= {one.id: answer.decision for one in plan.decisions.open[count:]}
            break
    return True


class _Answer(NamedTuple):
    """``for_all``: also of what is still to be decided."""

    decision: Decision
    for_all: bool = False


def _asked(out: Out, plan: MergePlan, conflict: Conflict, left: int) -> _Answer | None:
    """What a person says of a conflict, the first of so many that are ``left``; None for nothing."""
    owners: tuple[tuple[str, Take], ...] = (
        (plan.target.name, "target"),
        (plan.incoming.name, "incoming"),
    )
    answers = {f"{name}'s": _Answer(Decision(take)) for name, take in owners}
    hidden = NOT_SHOWN in (shown(conflict, conflict.target), shown(conflict, conflict.incoming))
    choices = [*answers]
    if conflict.kind in ("value", "made-twice") and not hidden:
        choices.append(_EDIT)
    if left > 1:
        alike = {
            f"{name}'s, for all {left} that are left": _Answer(Decision(take), True)
            for name, take in owners
        }
        choices += alike
        answers |= alike
    answer = out.choose("What is to stand?", choices)
    if answer is None:
        return None
    if answer == _EDIT:
        there = shown(conflict, conflict.target) or ""
        return _Answer(Decision(text=out.ask("Type it", there).encode()))
    return answers[answer]


def _undecided(args: argparse.Namespace, out: Out, plan: MergePlan) -> int:
    """Say what has to be decided; the exit code."""
    count = plural(len(plan.decisions.open), "conflict")
    if out.json:
        out.document("merge", {"done": False, **plan.as_json()})
        return ExitStatus.REFUSED
    if not out.at_terminal:
        show_merge(out, plan, every=args.every_file)
    return out.fail(
        ExitStatus.REFUSED,
        f"{count} between {plan.incoming.name} and {plan.target.name}; nothing has changed",
        f"--prefer {plan.target.name} (or WHAT={plan.incoming.name}, or a rule in [merge.prefer] of vetrin.toml) "
        "decides them; --json writes them as a document that can be filled in and handed back with --decisions",
        code="conflict",
    )
