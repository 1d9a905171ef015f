"""The plan of a merge, and its conflicts, as a person reads them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable

from rich.text import Text

from ..files import printable, some_of
from ..jobs.merge_plan import MergePlan, StepLine, shown
from ..merge import Conflict, Decision
from .changes_view import FEW, MARKS, listed
from .common import moment
from .console import Out, lead, number, plural, size
from .grid import grid

_LONG = 400  # characters of a value
_SAYS = {
    "value": "both changed it",
    "made-twice": "both made it",
    "removed-there": "{incoming} changed it, {target} removed it",
    "removed-here": "{incoming} removed it, {target} changed it or what belongs to it",
    "removed-from-visitors": "{incoming} removed it, and visitors of {target} may have made it",
    "leads-nowhere": "it leads to something that {target} removed",
}


def show_merge(out: Out, plan: MergePlan, *, every: bool, asks: bool = False) -> None:
    """What a merge does, what it keeps, and what is to be decided; where it ``asks``, of that only how much it is."""
    incoming, target = plan.incoming.name, plan.target.name
    then = moment(plan.moment)
    heading = lead("Merge ", "bold").append(incoming, style="name")
    heading.append(" into ", style="bold").append(target, style="name")
    out.show(heading.append(f", as both were one in run {plan.since.number}, {then}", style=""))
    if plan.nothing:
        out.show(lead("✓ ", "good").append(f"{target} has all that {incoming} changed", style=""))
    else:
        _show_tables(out, plan)
        most = None if every else FEW
        listed(out, "Entries", _lines(plan, lambda one: _is_entry(plan, one)), most)
        listed(out, "Settings", _lines(plan, lambda one: one.setting), most)
        listed(
            out,
            "Rows",
            _lines(plan, lambda one: not one.setting and not _is_entry(plan, one)),
            most,
        )
    if plan.new:
        names = ", ".join(one.name for one in plan.new)
        out.show(lead("New tables: ", "bold").append(printable(names), style=""))
    if plan.files.entries:
        count = plural(len(plan.files.entries), "file")
        text = (
            f"{count}, {size(plan.files.size)}: {some_of([path for _, path in plan.files.entries])}"
        )
        out.show(lead("Media: ", "bold").append(text, style=""))
    for old, new in plan.files.renamed:
        text = f"{old} is called {new} in {plan.target.name}, as that has another file of that name"
        out.show(lead("Renamed: ", "bold").append(printable(text), style=""))
    _show_kept(out, plan)
    for name, why in sorted(plan.odd.items()):
        out.show(lead("! ", "warning").append(printable(f"{name} is not merged: {why}"), style=""))
    _show_conflicts(out, plan, every=every, asks=asks)


def _is_entry(plan: MergePlan, one: StepLine) -> bool:
    entries = plan.definition.entries
    return entries is not None and one.table == entries.table


def _show_tables(out: Out, plan: MergePlan) -> None:
    table = grid("table", ">added", ">changed", ">removed")
    for name, count in sorted(plan.counts().items()):
        table.add_row(name, *(number(count[kind]) if count[kind] else "" for kind in MARKS))
    out.show(table)


def _lines(plan: MergePlan, wanted: Callable[[StepLine], bool]) -> list[str]:
    found = sorted(
        filter(wanted, plan.lines),
        key=lambda one: ([*MARKS].index(one.kind), one.table, one.title),
    )
    return [f"{MARKS[one.kind]} {printable(_called(plan, one))}" for one in found]


def _called(plan: MergePlan, one: StepLine) -> str:
    if one.setting or (_is_entry(plan, one) and one.title):
        return one.title
    return f"{one.table}: {one.title or one.key}"


def _show_kept(out: Out, plan: MergePlan) -> None:
    """What the target has of its own, which stays."""
    target, gained = plan.target.name, plan.gained
    if gained:
        parts = [f"{name} {_in_words(count)}" for name, count in sorted(gained.items()) if count]
        text = f"what {target} has of its own since then: {'; '.join(parts)}"
        out.show(lead("Stays: ", "bold").append(text, style=""))
    if plan.merged.kept:
        parts = [f"{number(count)} of {name}" for name, count in sorted(plan.merged.kept.items())]
        text = (
            f"rows of visitors that {plan.incoming.name} removed from its copy: {', '.join(parts)}"
            f" (--prefer {min(plan.merged.kept)}={plan.incoming.name} lets them go)"
        )
        out.show(lead("Stays: ", "bold").append(text, style=""))
    for table, old, new in plan.merged.renamed:
        text = f"{old} of {table} is called {new} in {target}, as that has one of that name"
        out.show(lead("Renamed: ", "bold").append(printable(text), style=""))


def _in_words(count: Counter[str]) -> str:
    return " and ".join(f"{number(count[kind])} {kind}" for kind in MARKS if count[kind])


def _show_conflicts(out: Out, plan: MergePlan, *, every: bool, asks: bool) -> None:
    decisions = plan.decisions
    if decisions.decided:
        taken = Counter(_taken(plan, how) for _, how in decisions.decided)
        parts = [f"{number(count)} as {who}" for who, count in sorted(taken.items())]
        text = f"{plural(len(decisions.decided), 'conflict')} decided: {', '.join(parts)}"
        out.show(lead("Conflicts: ", "bold").append(text, style=""))
    if not decisions.open:
        return
    text = f"{plural(len(decisions.open), 'conflict')} to decide; what {plan.target.name} has stands otherwise"
    out.show(lead("Conflicts: ", "bad").append(text, style=""))
    if asks:
        return
    for conflict in decisions.open[: None if every else FEW]:
        out.show(*conflict_lines(plan, conflict))
    if not every and len(decisions.open) > FEW:
        out.show(f"  … and {number(len(decisions.open) - FEW)} more; --list names them")


def _taken(plan: MergePlan, how: Decision) -> str:
    if how.text is not None:
        return "a text of yours"
    return f"{plan.incoming.name if how.take == 'incoming' else plan.target.name} has it"


def conflict_lines(plan: MergePlan, conflict: Conflict) -> Iterable[Text]:
    """What a conflict is about, and what both sides have."""
    said = _SAYS[conflict.kind].format(incoming=plan.incoming.name, target=plan.target.name)
    title = conflict.title or conflict.key
    named = f"{title} · {conflict.place}" if not conflict.name else conflict.place
    if conflict.kind in ("removed-here", "leads-nowhere") and conflict.path:
        named = f"{title} · {conflict.table} ({', '.join(conflict.path)})"
    yield (
        lead("  ? ", "warning").append(printable(named), style="").append(f": {said}", style="dim")
    )
    if conflict.kind in ("value", "made-twice"):
        width = max(len(plan.incoming.name), len(plan.target.name), len("before"))
        for who, value in (
            ("before", conflict.base),
            (plan.target.name, conflict.target),
            (plan.incoming.name, conflict.incoming),
        ):
            if who != "before" or value is not None:
                yield lead(f"      {who:{width}}  ", "dim").append(
                    in_a_line(conflict, value), style=""
                )


def in_a_line(conflict: Conflict, value: bytes | None) -> str:
    """A value in a line, cut where it is long."""
    whole = shown(conflict, value)
    if whole is None:
        return "(nothing)"
    text = printable(whole.replace("\n", "⏎"))
    return text if len(text) <= _LONG else text[: _LONG - 1] + "…"
