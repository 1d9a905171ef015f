"""What a merge will do, worked out from what both sides changed."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Any

from msgspec import Struct

from ..cms import Definition
from ..config import Environment
from ..database import (
    AllOf,
    AnyOf,
    Condition,
    InSubquery,
    Not,
    Recount,
)
from ..errors import Refused
from ..merge import (
    CommonState,
    Conflict,
    Decision,
    Decisions,
    Merged,
    MergeRules,
    RowStep,
    TableSides,
    merge_tables,
)
from ..merge.conditions import text_of
from ..merge.references import Column, Row
from ..site import ReadableSite, Site
from ..store import Store
from .changes import NOT_SHOWN, is_secret
from .events import Checking, Listener, Phase, silent
from .journal import Run
from .merge_files import ComingFiles, FileNames, coming_files
from .merge_new_tables import NewTable, new_tables
from .merge_sides import (
    MergeNeighbours,
    Shared,
    read_changes,
    table_sides,
)
from .plan import can_be_written, may_read, may_write


class StepLine(Struct, frozen=True):
    """A step for a person: a row by its title or, of a setting, its name."""

    table: str
    kind: str
    title: str
    key: str
    setting: bool = False


@dataclass
class MergePlan:
    """What a merge will do. ``since`` is the run that both have in common; ``gained`` is what the target has
    of its own since then; ``odd`` are tables that are not merged, with why; ``dropped`` rows that the CMS makes anew
    afterwards. ``sides`` are the tables that were looked at."""

    incoming: Environment
    target: Environment
    since: Run
    moment: str
    merged: Merged
    decisions: Decisions
    gained: Mapping[str, Counter[str]]
    common: CommonState
    sides: Mapping[str, TableSides]
    definition: Definition
    lines: tuple[StepLine, ...] = ()
    odd: Mapping[str, str] = field(default_factory=dict)
    dropped: tuple[RowStep, ...] = ()
    recounts: tuple[Recount, ...] = ()
    files: ComingFiles = field(default_factory=ComingFiles)
    new: tuple[NewTable, ...] = ()

    @property
    def steps(self) -> list[RowStep]:
        return [*self.merged.steps, *self.dropped]

    @property
    def nothing(self) -> bool:
        """True where the target has all that the other side changed."""
        return not (self.merged.steps or self.files.entries or self.new)

    def counts(self) -> dict[str, Counter[str]]:
        """How many rows are added, changed and removed, by table."""
        found: dict[str, Counter[str]] = defaultdict(Counter)
        for step in self.merged.steps:
            found[step.table][step.kind] += 1
        return dict(found)

    def signature(self) -> tuple[object, ...]:
        """The same for two plans that do the same and ask the same; new rows may have other numbers in the target."""
        came = {(one.table, one.target_key): one.incoming_key for one in self.merged.agreed}
        steps = sorted(
            (one.table, one.kind,
             repr(came.get((one.table, one.key), one.key) if one.before is None else one.key))
            for one in self.merged.steps
        )  # fmt: skip
        files = sorted(path for _, path in self.files.entries)
        asked = sorted(one.id for one in self.decisions.open)
        return tuple(steps), tuple(files), tuple(one.name for one in self.new), tuple(asked)

    def as_json(self) -> dict[str, Any]:
        return {
            "kind": "merge",
            "source": self.incoming.name,
            "target": self.target.name,
            "since": self.moment,
            "since_run": self.since.number,
            "tables": _counts_json(self.counts()),
            "rows": [
                {"table": one.table, "state": one.kind, "title": one.title, "key": one.key}
                for one in self.lines
            ],
            "gained": _counts_json(self.gained),
            "kept": dict(self.merged.kept),
            "renamed": [
                {"table": table, "old": old, "new": new} for table, old, new in self.merged.renamed
            ],
            "files": [{"path": entry.path, "target": path} for entry, path in self.files.entries],
            "new_tables": [one.name for one in self.new],
            "not_merged": dict(self.odd),
            "conflicts": [conflict_json(one, None, self) for one in self.decisions.open],
            "decided": [conflict_json(one, how, self) for one, how in self.decisions.decided],
        }


def _counts_json(counts: Mapping[str, Counter[str]]) -> list[dict[str, Any]]:
    return [
        {"name": name, **{kind: count[kind] for kind in ("added", "changed", "removed")}}
        for name, count in sorted(counts.items())
    ]


def conflict_json(conflict: Conflict, decision: Decision | None, plan: MergePlan) -> dict[str, Any]:
    """A conflict as a document; ``take`` is to be filled in with an environment's name, or ``text`` with a value."""
    names = {"incoming": plan.incoming.name, "target": plan.target.name}
    return {
        "id": conflict.id,
        "kind": conflict.kind,
        "place": conflict.place,
        "table": conflict.table,
        "key": conflict.key,
        "column": conflict.column or None,
        "path": list(conflict.path),
        "title": conflict.title or conflict.name or None,
        "before": shown(conflict, conflict.base),
        plan.incoming.name: shown(conflict, conflict.incoming),
        plan.target.name: shown(conflict, conflict.target),
        "take": None if decision is None or decision.text is not None else names[decision.take],
        "text": None if decision is None else shown(conflict, decision.text),
    }


def shown(conflict: Conflict, value: bytes | None) -> str | None:
    """A value of a conflict as it may be shown: nothing of what looks like a secret."""
    if value is None:
        return None
    return NOT_SHOWN if is_secret(conflict.place, value) else value.decode("utf-8", "replace")


def plan_merge(
    incoming: ReadableSite,
    target: Site,
    store: Store,
    shared: Shared,
    decisions: Decisions,
    listener: Listener = silent,
    others: Sequence[Environment] = (),
    room: int = 0,
) -> MergePlan:
    """Look at what both sides changed, and work out what becomes of the target. ``room`` is how many numbers are left
    to rows that somebody adds to its tables before the new ones are there.

    Raises:
        Refused: a guard forbids it, or the two cannot be merged.
        DatabaseError, StoreError: something could not be read.
    """
    may_read(incoming.environment)
    may_write(target.environment)
    can_be_written(target)
    here, there = incoming.database.engine, target.database.engine
    if here != there:
        raise Refused(
            f"{incoming.environment.name} has {here}, {target.environment.name} has {there}: their rows cannot be "
            "put side by side",
            "",
        )
    listener(Phase("look"))
    with incoming.looking(), target.looking():
        return _planned(incoming, target, store, shared, decisions, listener, others, room)


def _planned(
    incoming: ReadableSite,
    target: Site,
    store: Store,
    shared: Shared,
    decisions: Decisions,
    listener: Listener,
    others: Sequence[Environment],
    room: int,
) -> MergePlan:
    def tell(name: str) -> None:
        listener(Checking(name))

    with target.database.reading() as reader, incoming.database.reading() as theirs:
        with ThreadPoolExecutor(1, "target") as aside:  # the servers look at the same time
            looking = aside.submit(read_changes, target, reader, store, shared)
            came = read_changes(incoming, theirs, store, shared, tell)
            changed = looking.result()
        files = coming_files(incoming, target, store, shared, others)
        bare = [Column.parse(text) for text in target.definition.merge.file_names]
        naming = FileNames(files.renamed, files.folders, bare, target.definition.fixed)
        sides, odd = table_sides(incoming, target, shared, came, changed, naming.through)
        for path in files.differing:
            odd[path] = "the file is not the same on both sides; `--parts media` brings it"
        near = MergeNeighbours(
            incoming=incoming, target=target, reader=reader, theirs=theirs, room=room
        )
        titles = _Titles(target)
        rules = MergeRules(
            target.definition,
            keep_visitors=target.environment.role == "production",
            hosts=_hosts(incoming, target),
            title=titles.of,
        )
        merged = merge_tables(
            sides, rules, near, shared.common.maps_from(incoming.environment.name), decisions
        )
        by_name = {one.name: one for one in sides}
        dropped = tuple(_dropped(target, near, merged, by_name)) if merged.steps else ()
        recounts = tuple(_recounts(target, near, merged, by_name))
        lines = tuple(_line(step, by_name[step.table].names, rules) for step in merged.steps)
    kept = shared.choices.keep.tables if incoming.environment.name == shared.run.target else ()
    return MergePlan(
        incoming=incoming.environment,
        target=target.environment,
        since=shared.run,
        moment=shared.since.manifest.taken,
        merged=merged,
        decisions=decisions,
        gained=_gained(sides),
        common=shared.common,
        sides=by_name,
        definition=target.definition,
        lines=lines,
        odd=odd,
        dropped=dropped,
        recounts=recounts,
        files=files,
        new=tuple(new_tables(incoming, target, shared.since.manifest, kept)),
    )


def _line(step: RowStep, names: Sequence[str], rules: MergeRules) -> StepLine:
    row = step.after or step.before or ()
    return StepLine(
        step.table,
        step.kind,
        rules.title(step.table, names, row),
        ", ".join(map(text_of, step.key)),
        setting=bool(rules.setting_name(step.table, names, row)),
    )


def _hosts(*sites: ReadableSite) -> frozenset[bytes]:
    """The hosts of all addresses of some environments, with and without the port that is written there."""
    found: set[str] = set()
    for site in sites:
        for address in (
            *site.environment.addresses,
            *(one for _, one in site.recorded_addresses()),
        ):
            port = f":{address.port}" if address.port else ""
            found |= {f"{name}{port}".lower() for name in (address.host, address.unicode_host)}
    return frozenset(name.encode() for name in found)


class _Titles:
    """What a person calls a row: the title of an entry, the name of a setting, or what belongs to which entry."""

    def __init__(self, site: Site) -> None:
        self._site = site
        self._known: dict[str, str] = {}

    def of(self, table: str, names: Sequence[str], row: Row) -> str:
        definition = self._site.definition
        settings, entries = definition.settings, definition.entries
        if settings is not None and settings.table == table:
            return text_of(row[names.index(settings.name)])
        if entries is None:
            return ""
        if entries.table == table:
            return text_of(row[names.index(entries.title)])
        natural = definition.natural(table)
        own = list(natural.key) if natural is not None else []
        said = ""
        for link in definition.links:
            if (link.table, link.owner[0], link.then) == (
                table,
                entries.table,
                "leave",
            ) and link.through is None:
                said = self._entry(text_of(row[names.index(link.column)]))
                own = [name for name in own if name != link.column]
                break
        more = ", ".join(text_of(row[names.index(name)]) for name in own)
        return f"{said}: {more}" if said and more else said or more

    def _entry(self, number: str) -> str:
        rule = self._site.definition.entries
        assert rule is not None
        if number not in self._known:
            rows = self._site.database.select(
                self._site.prefix + rule.table, [rule.title], where={rule.id: number}, limit=1
            )
            self._known[number] = str(rows[0][0]) if rows else ""
        return self._known[number]


def _gained(sides: Sequence[TableSides]) -> dict[str, Counter[str]]:
    return {
        one.name: Counter(changed.state for changed in one.target.values())
        for one in sides
        if one.target
    }


def _dropped(
    target: Site, near: MergeNeighbours, merged: Merged, sides: Mapping[str, TableSides]
) -> Iterator[RowStep]:
    """Rows that the CMS makes anew once something changed, so that they are not of the past."""
    done = {(step.table, step.key) for step in merged.steps}
    for kind in target.definition.rows:
        if kind.name not in target.definition.merge.drop or kind.table not in sides:
            continue
        one = sides[kind.table]
        for row in near.meeting(one.table, target.condition(kind.where)):
            if (one.name, one.key_of(row)) not in done:
                done.add((one.name, one.key_of(row)))
                yield RowStep(one.name, one.key_of(row), row, None)


def _recounts(
    target: Site, near: MergeNeighbours, merged: Merged, sides: Mapping[str, TableSides]
) -> Iterator[Recount]:
    """Which counts of rows have to be made anew."""
    steps: dict[str, list[RowStep]] = defaultdict(list)
    for step in merged.steps:
        steps[step.table].append(step)
    for rule in target.definition.recounts:
        table, _, column = rule.column.partition(".")
        of, _, owner = rule.of.partition(".")
        if table not in sides or of not in sides:
            continue
        condition = target.condition(rule.where)
        names = sides[of].names
        found = {
            text_of(row[names.index(owner)])
            for step in steps[of]
            for row in (step.before, step.after)
            if row is not None
        }
        found |= {text_of(step.key[0]) for step in steps[table] if step.kind == "added"}
        for part in _subqueries(condition):
            other = part.table.removeprefix(target.prefix)
            keys = [step.key[0] for step in steps.get(other, ())]
            rows = near.find(of, part.column, keys)
            found |= {text_of(row[names.index(owner)]) for row in rows}
        numbers = tuple(sorted(int(text) for text in found if text.isdigit()))
        if numbers:
            yield Recount(
                table=target.prefix + table,
                column=column,
                key=rule.key,
                of=target.prefix + of,
                owner=owner,
                where=condition,
                keys=numbers,
            )


def _subqueries(part: Condition) -> Iterator[InSubquery]:
    if isinstance(part, (AllOf, AnyOf)):
        for one in part.parts:
            yield from _subqueries(one)
    elif isinstance(part, Not):
        yield from _subqueries(part.part)
    elif isinstance(part, InSubquery):
        yield part
