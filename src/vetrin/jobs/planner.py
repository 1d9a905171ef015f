"""Working out a plan from a look at both sides."""

from __future__ import annotations

import dataclasses
from collections.abc import Collection, Iterable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from functools import cached_property

import msgspec
from msgspec import Struct
from msgspec.structs import replace as with_changes

from ..cms import is_shipped
from ..config import Environment
from ..database import AbsentDatabase, Attachment, Counting, Defining, Question, Table
from ..database.engines import engine_of
from ..errors import Refused, Unsuitable
from ..files import (
    Clash,
    Difference,
    Entry,
    Terms,
    compare_trees,
    some_of,
    unit_of,
)
from ..remark import Remark
from ..rewrite import Mapping, Rewriter, Tally
from ..site import (
    Names,
    OneName,
    PrefixedValues,
    ReadableSite,
    Site,
    Summary,
    counts_of,
    file_scope,
    lies_loose,
    mapping_for,
    part_of_path,
    runtime_of,
    signed_between,
    standing,
    stays_with,
)
from . import plan_remarks
from .arrival import Settling, settling
from .exclusions import (
    Leaving,
    can_hang,
    left_files,
    left_kinds,
    patterns_of,
    routines_with,
    views_without,
    work_out,
)
from .generated_files import (
    Placed,
    address_rules,
    cached_files,
    configuration_of_copy,
    copy_file,
    corrected_configuration,
    wrong_addresses,
)
from .passwords import must_hold_none, passwords_of
from .plan import (
    USUAL_PARTS,
    Choices,
    FolderChange,
    Part,
    Plan,
    Program,
    TablePlan,
    can_be_written,
    may_read,
    may_write,
)

_COUNTED = 32_000_000  # bytes; counting the rows of a larger table would take longer than a look


def build_plan(
    source: ReadableSite,
    target: Site,
    parts: Sequence[Part] = USUAL_PARTS,
    others: Sequence[Environment] = (),
    choices: Choices | None = None,
) -> Plan:
    """Look at both sides and work out the transfer.

    ``others`` are further environments of the project; references to them are counted.

    Raises:
        Refused: a guard forbids it, or the two sites do not fit.
        ProjectError: a choice names something unknown.
        JobError, DatabaseError, FilesError: something could not be looked at.
    """
    may_write(target.environment)
    may_read(source.environment)
    if "data" in parts:
        can_be_written(target)
    with source.looking(), target.looking():
        return _Planner(
            source=source,
            target=target,
            parts=tuple(parts),
            others=tuple(others),
            choices=choices or Choices(),
        ).plan()


class _DataPlan(Struct, frozen=True):
    """The part of a plan that is about tables; the fields are those of ``Plan``."""

    names: Names | None = None
    leaving: Leaving = msgspec.field(default_factory=Leaving)
    settling: Settling = msgspec.field(default_factory=lambda: Settling([], [], [], []))
    tables: tuple[TablePlan, ...] = ()
    staying: tuple[str, ...] = ()
    views: tuple[str, ...] = ()
    routines: tuple[Attachment, ...] = ()
    programs: tuple[Program, ...] = ()


class _Planner:
    def __init__(
        self,
        source: ReadableSite,
        target: Site,
        parts: tuple[Part, ...],
        others: tuple[Environment, ...],
        choices: Choices,
    ) -> None:
        self._source = source
        self._target = target
        self._parts = parts
        self._others = others
        self._choices = choices
        self._notes: list[Remark] = []
        self._risks: list[Remark] = [*target.unsure]
        _adopt(source, target)
        self._prefixed = PrefixedValues.between(source, target)

    def plan(self) -> Plan:
        # Machines are asked what runs there while all else is looked at.
        with ThreadPoolExecutor(3, "aside") as aside:
            theirs = aside.submit(_runtime, self._source)
            ours = aside.submit(_runtime, self._target) if "code" in self._parts else None
            return self._planned(aside, theirs, ours)

    def _planned(
        self, aside: ThreadPoolExecutor, theirs: Future[str], ours: Future[str] | None
    ) -> Plan:
        """``theirs`` and ``ours`` are what the CMS runs in at the source and the target."""
        source, target, choices = self._source, self._target, self._choices
        mapping = mapping_for(source, target, self._notes)
        data = self._data() if "data" in self._parts else _DataPlan()
        files = self.files(mapping)
        self._weigh_what_is_there()
        placed = self._placed(mapping)
        stands = aside.submit(standing, target, files=False)
        arriving, overwritten = self._arriving(data.leaving), stands.result()
        if files is not None and "media" in self._parts:
            arriving = _with_media(arriving, source, files.listed)
            overwritten = _with_media(overwritten, target, files.there)
        runtime = theirs.result()
        if ours is not None:
            self._risks += plan_remarks.of_runtimes(source, target, runtime, ours.result())
            if "core" not in self._parts:
                self._risks += plan_remarks.of_versions(source, target, arriving, overwritten)
        kept = _kept(self._parts)
        if target.configuration.file is not None:
            kept.insert(0, f"{target.configuration.file.name} and its credentials")
        changes_pages = {"data", "code"} & set(self._parts)
        secrets = next((item.secrets for item in placed if item.secrets), None)
        return Plan(
            source=source.environment,
            target=target.environment,
            parts=self._parts,
            mapping=mapping,
            arriving=arriving,
            overwritten=overwritten,
            tables=data.tables,
            staying=data.staying,
            views=data.views,
            routines=data.routines,
            programs=data.programs,
            left_programs=choices.leave.programs,
            files=files,
            kept=tuple(kept),
            notes=tuple(self._notes),
            risks=tuple(self._risks),
            others=self._others,
            encoded=source.encoded,
            names=data.names,
            prefixed=self._prefixed,
            leaving=data.leaving,
            settling=data.settling,
            placed=placed,
            cached=tuple(cached_files(target)) if choices.arrival.caches and changes_pages else (),
            creates=target.database.facts().where if target.database.missing else "",
            folders=tuple(folder_changes(source, files)) if files is not None else (),
            holds=self._holds(files),
            full=choices.full,
            runtime=runtime,
            signed=signed_between(source, target, secrets) if data.tables else {},
        )

    def _data(self) -> _DataPlan:
        """What becomes of the tables, and of what hangs on them."""
        source, target, choices = self._source, self._target, self._choices
        names = _fit(source, target)
        leaving = self._leaving()
        tables, staying = self._tables(names, leaving)
        routines, lost = self._routines(names, tables)
        views = self._views(names, leaving, lost)
        programs = self._programs(tables, views, routines)
        settled = settling(
            source, target, choices.keep, choices.arrival, code="code" in self._parts
        )
        self._risks += [*leaving.warnings, *settled.warnings]
        self._notes += settled.notes
        self._risks += plan_remarks.of_data(source, target, tables)
        if source.definition.fixed:
            fixed = ", ".join(sorted(source.prefix + name for name in source.definition.fixed))
            self._notes.append(
                Remark(
                    "not-rewritten",
                    f"not rewritten, because it identifies entries for good: {fixed}",
                )
            )
        return _DataPlan(
            names=names,
            leaving=leaving,
            settling=settled,
            tables=tables,
            staying=staying,
            views=views,
            routines=routines,
            programs=programs,
        )

    @cached_property
    def _whole(self) -> bool:
        """Whether there is a site at the target, as far as its root's list, which is asked for anyway, tells."""
        root, markers = self._target.root, self._target.definition.markers
        names = {item.name for item in root.iterdir()} if root.is_dir() else set()
        return all(marker.partition("/")[0] in names for marker in markers)

    def _weigh_what_is_there(self) -> None:
        """Say what the target will lack, and which database is not looked at."""
        source, target = self._source, self._target
        lacking = [part for part in ("core", "code") if part not in self._parts]
        if lacking and source.definition.markers and not self._whole:
            self._risks.append(
                Remark(
                    "no-whole-site",
                    f"there is no site in {target.environment.name} yet, and without "
                    f"{' and '.join(lacking)} it will be no whole one",
                )
            )
        for site in (source, target):
            if isinstance(site.database, AbsentDatabase):
                self._notes.append(
                    Remark(
                        "database-unreached",
                        f"the database of {site.environment.name} is not looked at, and not needed: "
                        f"{site.database.unwritable}",
                    )
                )

    def _holds(self, files: Difference | None) -> tuple[str, str] | None:
        """The file that holds visitors off while code switches, unless its owner put it there."""
        rule, target = self._source.definition.maintenance, self._target
        if rule is None or files is None or files.nothing or not self._whole:
            return None
        code = any(
            part_of_path(self._source, entry.path) != "media"
            for entry in (*files.coming, *files.gone)
        )
        if not code or target.files.exists(rule.file):
            return None
        return rule.file, rule.text

    def _arriving(self, leaving: Leaving) -> Summary:
        """How the source stands, less what is left out."""
        source = self._source
        found = standing(source, files=False)
        if not leaving.leave and not leaving.tables:
            return found
        return with_changes(found, counts=counts_of(source, leaving.leave, leaving.tables))

    def _leaving(self) -> Leaving:
        """What is left out: what was chosen, and what arrival would drop at once."""
        source, target, choices = self._source, self._target, self._choices
        rows = left_kinds(source.definition, choices.leave, choices.arrival)
        ours = {table.name: table for table in target.tables}
        stay = set()
        for pattern in choices.keep.tables:
            fitting = [name for name in ours if target.named(name, pattern)]
            if not fitting:
                self._risks.append(Remark("keep-fits-nothing", f"keep: {target.unnamed(pattern)}"))
            stay |= {name[len(target.prefix) :] for name in fitting}
        kept = frozenset(source.prefix + name for name in stay)
        there = frozenset(table.name for table in source.tables)
        leave = with_changes(choices.leave, rows=rows)
        found = work_out(source, leave, self._prefixed.stale(source), kept & there)
        own = [
            name
            for name in sorted(found.tables - kept)
            if target.prefix + name[len(source.prefix) :] in ours
        ]
        if own:
            self._notes.append(
                Remark(
                    "own-tables-stay",
                    f"{target.environment.name} keeps its own {', '.join(own)}, whose rows may belong to "
                    "rows that are replaced",
                )
            )
        return found

    def _tables(
        self, names: Names, leaving: Leaving
    ) -> tuple[tuple[TablePlan, ...], tuple[str, ...]]:
        source, target = self._source, self._target
        there = {table.name: table for table in target.tables}
        facts = source.database.facts()
        plans = []
        coming = [table for table in source.tables if table.name not in leaving.tables]
        source.database.ahead(_asked(coming, leaving))
        mine = [there[name] for name in map(names.table, (t.name for t in coming)) if name in there]
        target.database.ahead(_asked(mine))
        for table in coming:
            name = names.table(table.name)
            schema = original = source.database.schema(table.name)
            if engine_of(source.database.engine).renames_as_text:
                schema = names.sql(schema)
            try:
                adapted = target.database.adapt(table, schema, facts)
            except Unsuitable as error:
                raise Refused(
                    f"{target.environment.name} cannot take {table.name}: {error}",
                    "change the table, or leave it out with [leave] tables",
                ) from error
            self._risks += [
                Remark("table-adapted", f"{table.name}: {note}") for note in adapted.notes
            ]
            leave = leaving.leave.get(table.name)
            counted = table.size <= _COUNTED
            rows = _rows(source, table)
            left = source.database.count(table.name, leave) if leave and counted else 0
            plans.append(
                TablePlan(
                    table=table,
                    target=name,
                    rows=rows - left,
                    target_rows=_rows(target, there[name]) if name in there else None,
                    rewritten=tuple(source.rewritable(table)),
                    exact=counted,
                    schema=adapted.sql,
                    leave=leave,
                    replacements=leaving.replacements.get(table.name, {}),
                    left=left,
                    original=original,
                )
            )
        return tuple(plans), tuple(sorted(set(there) - {plan.target for plan in plans}))

    def _views(self, names: Names, leaving: Leaving, lost: Collection[str]) -> tuple[str, ...]:
        """The views that can come: those that need no table or routine that will not be there."""
        if "views" in self._choices.leave.programs:
            return ()
        ours = {table.name for table in self._target.tables}
        absent = {name for name in leaving.tables if names.table(name) not in ours}
        views, without = views_without(self._source, {*absent, *lost})
        for view in without:
            self._notes.append(
                Remark(
                    "view-left-out",
                    f"the view {view} is left out, for it needs a table or routine that is",
                )
            )
        return views

    def _programs(
        self, tables: Sequence[TablePlan], views: Sequence[str], routines: Sequence[Attachment]
    ) -> tuple[Program, ...]:
        """What comes along that a database runs by itself; what is broken at the source, or does what none may, is
        named among the risks."""
        source, found = self._source, []
        for table, said in source.database.broken().items():
            if table.startswith(source.prefix):
                self._risks.append(
                    Remark(
                        "broken-table",
                        f"{table} cannot be used in {source.environment.name} itself, and stays behind: {said}",
                    )
                )
        coming = [item.table.name for item in tables]
        names = {item.target for item in tables} | {table.name for table in self._target.tables}
        facts = source.database.facts()
        for hanging in (*source.database.attachments(coming, views), *routines):
            if hanging.kind == "trigger" and "triggers" in self._choices.leave.programs:
                continue
            item = self._target.database.adapt_attachment(hanging, facts)
            if item.kind == "constraint" and not can_hang(item, {*coming, *names}):
                self._risks.append(
                    Remark(
                        "foreign-key-stays",
                        f"the foreign key {item.name} of {item.table} stays behind: the table that it points at will "
                        "not be there",
                    )
                )
            if item.lost:
                self._risks.append(
                    Remark(
                        "program-stays", f"the {item.kind} {item.name} stays behind: {item.lost}"
                    )
                )
            elif item.kind in ("trigger", "view", "routine"):
                does = self._target.database.doing(item)
                found.append(Program(item.kind, item.name, item.table, does))
        left = source.database.events()
        if left:
            self._notes.append(
                Remark(
                    "events-stay",
                    f"events stay behind, for a copy does nothing at a time of its own: {some_of(left)}",
                )
            )
        return tuple(found)

    def _routines(
        self, names: Names, tables: Sequence[TablePlan]
    ) -> tuple[tuple[Attachment, ...], set[str]]:
        """The stored routines that come, and the names of those that cannot and will not be there."""
        source, target = self._source, self._target
        came = {item.table.name for item in tables}
        partly = bool(self._choices.leave.only)
        found = routines_with(source, came, source.views, partly=partly)
        if names.shared:  # others are there as they are
            found = [item for item in found if item.name in names.routines(found)]
        hidden = [item.name for item in found if not item.sql]
        if hidden:
            self._risks.append(
                Remark(
                    "routines-not-shown",
                    f"stored routines that the account of {source.environment.name} is not shown, and that do not "
                    f"come: {some_of(hidden)}",
                )
            )
        coming = [item for item in found if item.sql]
        if "routines" in self._choices.leave.programs:
            coming = [item for item in coming if item.kind == "sequence"]
        there = target.database.routines() if found else []
        # What cannot be read cannot be brought back, either.
        unknown = {item.name for item in there if not item.sql}
        called = names.routines(coming)
        stay = [i.name for i in coming if called.get(i.name, i.name) in unknown]
        if stay:
            self._risks.append(
                Remark(
                    "routines-not-shown-there",
                    f"{target.environment.name} has stored routines under the names of {some_of(stay)} that its "
                    "account is not shown: they stay as they are",
                )
            )
            coming = [item for item in coming if item.name not in stay]
        if coming and not target.database.takes_routines:
            self._risks.append(
                Remark(
                    "routines-not-allowed",
                    f"stored routines that the account of {target.environment.name} may not make, and that do not "
                    f"come: {some_of([item.name for item in coming])}",
                )
            )
            coming = []
        at_target = {called.get(item.name, item.name) for item in coming}
        at_target |= {item.name for item in there}
        lost = {i.name for i in found if called.get(i.name, i.name) not in at_target}
        return tuple(coming), lost

    def files(self, mapping: Mapping) -> Difference | None:
        """What has to move of the files of the chosen parts."""
        source, target, choices = self._source, self._target, self._choices
        everywhere = (source.environment, target.environment, *self._others)
        scope = file_scope(source, target, self._parts, everywhere)
        if not scope.folders:
            return None
        rewriter = Rewriter(mapping)
        leave = left_files(source, choices.leave)
        terms = Terms(
            skip=scope.skip,
            leave=leave,
            keep=patterns_of(choices.keep.files, "keep"),
            whole=source.definition.whole,
            loose=lambda path: lies_loose(source, path),
            withheld=stays_with(source) if self._outward else None,
            texts=patterns_of(source.definition.text_files, "[rewrite]"),
            rewrite=lambda content: rewriter.rewrite(content, Tally()),
            mirror=choices.mirror,
            theirs=source.seen,
            ours=target.seen,
        )
        try:
            files = compare_trees(source.files, target.files, scope.folders, terms)
        except Clash as clash:
            raise Refused(
                f"{target.environment.name} does not tell {clash.one} from {clash.other}: its file "
                "system takes the two names for one",
                "rename one of them, or leave it out with [leave] files",
            ) from clash
        if self._outward and source.remote_host is None:
            coming = [e for e in files.coming if not (leave and leave.asks_for(e))]
            must_hold_none(source.files, coming, passwords_of(source, target))
        plan_remarks.must_have_room(source, target, files)
        self._risks += plan_remarks.of_files(source, target, files, choices)
        self._notes += plan_remarks.notes_of_files(target, files, scope.nested)
        return files

    @property
    def _outward(self) -> bool:
        """True where files go to another environment that more than its developer may look at."""
        source, target = self._source.environment, self._target.environment
        return target.role != "local" and target.name != source.name.partition(" ")[0]

    def _placed(self, mapping: Mapping) -> tuple[Placed, ...]:
        source, target, arrival = self._source, self._target, self._choices.arrival
        configuration = configuration_of_copy(source, target, mapping)
        found = [configuration]
        if "data" in self._parts:
            found.append(copy_file(target, arrival))
        if arrival.address_rules and {"data", "code"} & set(self._parts):
            found.append(address_rules(source, target, mapping))
        if arrival.correct_configuration:
            found.append(corrected_configuration(target))
        else:
            self._risks += [
                Remark(
                    "address-fixed",
                    f"the configuration of {target.environment.name} fixes the address {text}, which is "
                    'not its own; arrival configuration = "corrected" would change it',
                )
                for text in wrong_addresses(target)
            ]
        needed = source.definition.configuration.files and target.configuration.file is None
        if needed and configuration is None:
            self._risks.append(
                Remark(
                    "no-configuration",
                    f"{target.environment.name} has no configuration file; write one by hand",
                )
            )
        return tuple(item for item in found if item is not None)


def compare_files(
    source: ReadableSite,
    target: Site,
    parts: Sequence[Part],
    others: Sequence[Environment],
    choices: Choices,
) -> Difference | None:
    """How the files of two sites differ, as a transfer would see it.

    Raises:
        Refused, ProjectError, JobError, FilesError: as ``build_plan``.
    """
    planner = _Planner(
        source=source, target=target, parts=tuple(parts), others=tuple(others), choices=choices
    )
    return planner.files(mapping_for(source, target, []))


def folder_changes(source: ReadableSite, files: Difference) -> list[FolderChange]:
    """What changes, by part and folder: those that switch as a whole, else at most two deep."""
    found: dict[tuple[str, str], FolderChange] = {}

    def add(entry: Entry, **change: int) -> None:
        if entry.kind == "folder":
            return
        folder = unit_of(entry.path, source.definition.whole)
        folder = folder or "/".join(entry.path.split("/")[:-1][:2]) or "."
        key = part_of_path(source, entry.path), folder
        old = found.get(key) or FolderChange(*key)
        found[key] = with_changes(
            old, **{name: getattr(old, name) + count for name, count in change.items()}
        )

    for entry in files.new:
        add(entry, new=1, size=0 if entry.path in files.reused else entry.size)
    for entry in files.changed:
        add(entry, changed=1, size=0 if entry.path in files.reused else entry.size)
    for entry in files.gone:
        add(entry, gone=1)
    return [found[key] for key in sorted(found)]


def _runtime(site: ReadableSite) -> str:
    """What the CMS runs in, empty where that is not told. A command that a project brings along is not run for it."""
    rule = site.definition.runtime
    return (runtime_of(site) or "") if rule is not None and is_shipped(rule) else ""


def _kept(parts: Sequence[Part]) -> list[str]:
    words = {"data": "data", "media": "media", "code": "code", "core": "the CMS's files"}
    own = [word for part, word in words.items() if part not in parts]
    return [f"its own {' and '.join(filter(None, [', '.join(own[:-1]), own[-1]]))}"] if own else []


def _adopt(source: ReadableSite, target: Site) -> None:
    """Where the target has no configuration file and no other prefix is given, take the source's."""
    if target.configuration.file is None and "prefix" not in target.environment.database:
        target.configuration = dataclasses.replace(target.configuration, prefix=source.prefix)


def _fit(source: ReadableSite, target: Site) -> Names:
    """How the source's tables are called at the target; raises Refused where they do not fit."""
    ours, theirs = target.environment.name, source.environment.name
    if source.database.engine != target.database.engine:
        raise Refused(
            f"{theirs} keeps its data in {source.database.engine}, {ours} in "
            f"{target.database.engine}: rows cannot pass from one to the other",
            "set up both with the same kind of database",
        )
    shared = not target.database.missing and source.database.is_same(target.database)
    if shared and source.prefix == target.prefix:
        raise Refused(
            f"{theirs} and {ours} use the same tables of the same database",
            f"give {ours} a database of its own, or another prefix",
        )
    if not source.tables:
        raise Refused(
            f"{theirs} has no tables that begin with {source.prefix!r}",
            "check the prefix and the database in its configuration",
        )
    try:
        names = Names.between(source, target, shared)
    except OneName as error:
        raise Refused(
            str(error), "rename one of them, or leave it out with [leave] tables"
        ) from error
    own = {*(table.name for table in target.tables), *target.views}
    foreign = {*(table.name for table in target.database.tables()), *target.database.views()} - own
    for old, new in names.tables.items():
        if new in foreign:
            raise Refused(
                f"{old} would become {new}, which belongs to another site in the database of {ours}",
                f"give {ours} another prefix",
            )
    return names


def _with_media(found: Summary, site: ReadableSite, entries: Iterable[Entry]) -> Summary:
    """How a site stands, with the media among some of its files."""
    media = [
        entry.size
        for entry in entries
        if entry.kind == "file" and part_of_path(site, entry.path) == "media"
    ]
    return with_changes(found, media_files=len(media), media_size=sum(media))


def _asked(tables: Iterable[Table], leaving: Leaving | None = None) -> Iterator[Question]:
    """What is asked of some tables, those of the source for what is left out."""
    for table in tables:
        if leaving is not None:
            yield Defining(table.name)
        if table.size <= _COUNTED:
            yield Counting(table.name)
            if leaving is not None and table.name in leaving.leave:
                yield Counting(table.name, leaving.leave[table.name])


def _rows(site: ReadableSite, table: Table) -> int:
    return site.database.count(table.name) if table.size <= _COUNTED else table.rows
