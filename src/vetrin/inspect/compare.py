"""Two environments side by side: what differs between them once addresses are taken for equal."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict, replace

from ..cms.rules import NamedSetting
from ..config import Environment
from ..database import AllOf, Batch, Condition, Like, Not, OneOf, Replacement, Table, any_of
from ..database.table_digest import WRAP, cell_bytes, row_hash
from ..files import Patterns, Terms, compare_trees
from ..rewrite import Mapping as Pairs
from ..rewrite import Rewriter, Tally
from ..site import (
    Extension,
    Names,
    OneName,
    PrefixedValues,
    ReadableSite,
    Rewriting,
    RowPipeline,
    TableRows,
    extensions_of,
    file_scope,
    mapping_for,
    runtime_of,
)
from ..site.summary import counts_of, standing

_ROW_BY_ROW = 300_000  # rows; larger tables are compared as a whole


class Expected(Struct, frozen=True):
    """What a transfer makes differ on purpose. ``source`` is the environment that was copied; empty where none was.

    Of its rows, those that meet ``leave`` by table are not in the copy, ``replacements`` is what stands there in
    place of columns, and its tables ``away`` are not there at all. ``settings`` are names, or beginnings with ``*``,
    of settings, ``tables`` (without prefix) and ``kept`` files of the copy's own; ``left`` are files that did not
    travel. ``says`` tells it all to a person.
    """

    source: str = ""
    leave: Mapping[str, Condition] = {}
    replacements: Mapping[str, Mapping[str, Replacement]] = {}
    away: frozenset[str] = frozenset()
    settings: tuple[str, ...] = ()
    tables: frozenset[str] = frozenset()
    left: Patterns | None = None
    kept: Patterns | None = None
    says: tuple[str, ...] = ()

    def has_setting(self, name: str) -> bool:
        """True for a setting of the copy's own."""
        return any(
            name.startswith(one[:-1]) if one.endswith("*") else name == one for one in self.settings
        )


class Line(Struct, frozen=True):
    """One thing of both sides, as text; ``same`` is None for what is bound to differ. ``names`` are the files that
    differ."""

    topic: str
    label: str
    a: str
    b: str
    same: bool | None
    names: tuple[str, ...] = ()


class TableDifference(Struct, frozen=True):
    """A table that is not the same: ``state`` is content, columns, or only in one of them.

    Counts of rows that differ are None where the table was compared as a whole.
    """

    name: str
    state: str
    rows_a: int | None
    rows_b: int | None
    changed: int | None = None
    only_a: int | None = None
    only_b: int | None = None
    names: tuple[str, ...] = ()  # of the settings that differ


class EntryDifference(Struct, frozen=True):
    """An entry that one side lacks or has another version of.

    ``state`` is ``only``, ``newer`` or ``changed``; ``where`` is the environment that has it so.
    """

    title: str
    kind: str
    id: str
    state: str
    where: str


@dataclass
class Comparison:
    """What two environments have in common, and what not."""

    a: str
    b: str
    lines: list[Line] = field(default_factory=list)
    tables: list[TableDifference] = field(default_factory=list)
    same_tables: int = 0
    entries: list[EntryDifference] | None = None
    expected: tuple[str, ...] = ()  # what differs on purpose

    @property
    def differences(self) -> int:
        marked = sum(line.same is False for line in self.lines)
        return marked + len(self.tables) + len(self.entries or ())

    def as_json(self) -> dict[str, Any]:
        return {
            "a": self.a,
            "b": self.b,
            "same": self.differences == 0,
            "differences": self.differences,
            "lines": [asdict(line) for line in self.lines],
            "same_tables": self.same_tables,
            "tables": [asdict(item) for item in self.tables],
            "entries": None if self.entries is None else [asdict(item) for item in self.entries],
            "expected": list(self.expected),
        }


Tell = Callable[[str], None]


def compare(
    a: ReadableSite,
    b: ReadableSite,
    everywhere: Sequence[Environment],
    *,
    parts: Collection[str] = ("data", "media", "code", "core"),
    entries: bool = False,
    expected: Expected | None = None,
    tell: Tell = lambda text: None,
) -> Comparison:
    """Compare two open environments of one project.

    Content of ``a`` is compared as it would be in ``b``: addresses and paths rewritten, keys with
    the other prefix, without what a transfer drops on arrival. What is ``expected`` to differ is no difference.
    ``parts`` are those that both have to offer; ``tell`` hears what is being read.

    Raises:
        DatabaseError, FilesError: something could not be read.
    """
    found = Comparison(a.environment.name, b.environment.name)
    expected = expected or Expected()
    if expected.source == b.environment.name:
        # Rewritten as it was when it was copied: several addresses may have become one.
        return _mirrored(
            compare(b, a, everywhere, parts=parts, entries=entries, expected=expected, tell=tell)
        )
    found.expected = expected.says
    work = _Work(a=a, b=b, found=found, parts=parts, expected=expected)
    work.standings()
    if "data" in parts:
        work.settings()
    if "code" in parts:
        work.extensions()
    tell("files")
    work.files(everywhere)
    if "data" in parts and a.database.engine == b.database.engine:
        work.tables(tell)
        if entries:
            tell("entries")
            work.entries()
    return found


_OTHER = {"+": "-", "-": "+", "~": "~"}


def _mirrored(found: Comparison) -> Comparison:
    """The same comparison with its sides exchanged."""
    return dataclasses.replace(
        found,
        a=found.b,
        b=found.a,
        lines=[
            replace(
                line,
                a=line.b,
                b=line.a,
                names=tuple(_OTHER[name[0]] + name[1:] for name in line.names),
            )
            for line in found.lines
        ],
        tables=[
            replace(
                item, rows_a=item.rows_b, rows_b=item.rows_a, only_a=item.only_b, only_b=item.only_a
            )
            for item in found.tables
        ],
    )


class _Work:
    def __init__(
        self,
        a: ReadableSite,
        b: ReadableSite,
        found: Comparison,
        parts: Collection[str],
        expected: Expected,
    ) -> None:
        self._a = a
        self._b = b
        self._expected = expected
        self._source = next(
            (one for one in (a, b) if one.environment.name == expected.source), None
        )
        self._parts = parts
        self._found = found
        self._mapping: Pairs = mapping_for(a, b, [])
        self._rewriter = Rewriter(self._mapping)

    def _line(self, topic: str, label: str, a: Any, b: Any, *, marks: bool = True) -> None:
        texts = ["—" if value in (None, "") else str(value) for value in (a, b)]
        same = texts[0] == texts[1] if marks else None
        self._found.lines.append(Line(topic=topic, label=label, a=texts[0], b=texts[1], same=same))

    def _of_the_machine(self, label: str, a: Any, b: Any) -> None:
        """What each machine has of its own, and no transfer alters: between copies it may differ. A snapshot is on
        none."""
        copied = self._source is not None
        told = bool(a and b)
        self._line("versions", label, a, b, marks=a == b or (told and not copied))
        if told and copied and a != b:
            self._found.expected += (f"another version of the {label}",)

    def _rewritten(self, text: str) -> str:
        """A text of ``a`` as it would be in ``b``."""
        raw = text.encode("utf-8", "surrogateescape")
        return self._rewriter.rewrite(raw, Tally()).decode("utf-8", "surrogateescape")

    def standings(self) -> None:
        a, b = standing(self._a), standing(self._b)
        title = self._a.definition.title
        if "core" in self._parts:
            self._line("versions", title, a.cms_version, b.cms_version)
        if "data" not in self._parts:
            return
        self._of_the_machine("database", a.database_version, b.database_version)
        self._of_the_machine("runtime", runtime_of(self._a), runtime_of(self._b))
        counts = [
            counts_of(site, self._expected.leave, self._expected.away)
            if site is self._source
            else found.counts
            for site, found in ((self._a, a), (self._b, b))
        ]
        for name in dict.fromkeys([*counts[0], *counts[1]]):
            self._line("counts", name, counts[0].get(name), counts[1].get(name))
        rule = self._a.definition.entries
        for count in self._a.definition.counts:
            if rule is not None and count.table == rule.table and self._a.has_table(rule.table):
                newest = [self._newest(site, count.where) for site in (self._a, self._b)]
                self._line("newest", count.name, *newest)

    def _newest(self, site: ReadableSite, where: Any) -> str | None:
        rule = site.definition.entries
        assert rule is not None
        if not site.has_table(rule.table):
            return None
        table, wanted = site.prefix + rule.table, site.condition(where)
        if site is self._source and table in self._expected.leave:
            wanted = AllOf((wanted, Not(self._expected.leave[table])))
        rows = site.database.select(
            table, [rule.title, rule.changed], where=wanted,
            order=(rule.changed, rule.id), descending=True, limit=1,
        )  # fmt: skip
        return f"{rows[0][0]}, {rows[0][1]}" if rows else None

    def settings(self) -> None:
        for site, other in ((self._a, "a"), (self._b, "b")):
            wrong = [
                f"{where}: {address}"
                for where, address in site.recorded_addresses()
                if not any(own.covers(address) for own in site.environment.addresses)
            ]
            if wrong:
                texts = {"a": "its own", "b": "its own", other: ", ".join(wrong)}
                self._line("settings", "address", texts["a"], texts["b"])
        for named in self._a.definition.named.values():
            if named.compare:
                self._line(
                    "settings", named.name,
                    self._rewritten(_words(self._a, named)), _words(self._b, named),
                    marks=not any(self._expected.has_setting(key) for key in named.keys),
                )  # fmt: skip

    def extensions(self) -> None:
        sides: list[dict[tuple[str, str], Extension]] = [
            {(item.group, item.key): item for item in extensions_of(site)}
            for site in (self._a, self._b)
        ]
        for key in sorted({*sides[0], *sides[1]}):
            items = [side.get(key) for side in sides]
            known = items[0] or items[1]
            assert known is not None
            self._line(key[0], known.title, *(_stands(item) for item in items))

    def files(self, everywhere: Sequence[Environment]) -> None:
        for part in ("media", "code", "core"):
            if part not in self._parts:
                continue
            scope = file_scope(self._a, self._b, {part}, everywhere)
            if not scope.folders:
                continue
            left, kept = self._expected.left, self._expected.kept
            terms = Terms(
                skip=scope.skip,
                leave=left,
                keep=kept,
                texts=Patterns(self._a.definition.text_files),
                rewrite=lambda content: self._rewriter.rewrite(content, Tally()),
                theirs=self._a.seen,
                ours=self._b.seen,
            )
            found = compare_trees(self._a.files, self._b.files, scope.folders, terms)
            new = [entry for entry in found.new if entry.kind != "folder"]
            only = [e for e in (*found.only_there, *found.gone) if e.kind != "folder"]
            changed = [entry for entry in found.changed if entry.kind != "folder"]
            if not new and not only and not changed:
                one = two = "the same files"
            else:
                differ = f", {len(changed):,} differ" if changed else ""
                one, two = f"{len(new):,} only here{differ}", f"{len(only):,} only here{differ}"
            same = not (new or only or changed)
            names = tuple(
                sorted(
                    f"{mark} {entry.path}"
                    for mark, entries in (("+", new), ("-", only), ("~", changed))
                    for entry in entries
                )
            )
            self._found.lines.append(
                Line(topic="files", label=part, a=one, b=two, same=same, names=names)
            )

    def _dropped(self, site: ReadableSite) -> dict[str, Condition]:
        """Rows that arrival drops, by table."""
        rule = site.definition.arrival
        parts: dict[str, list[Condition]] = {}
        for kind in site.definition.rows:
            if kind.name in (*rule.caches, *rule.address_rules) and site.has_table(kind.table):
                parts.setdefault(site.prefix + kind.table, []).append(site.condition(kind.where))
        return {
            table: joined for table, found in parts.items() if (joined := any_of(found)) is not None
        }

    def tables(self, tell: Tell) -> None:
        a, b = self._a, self._b
        try:
            names = Names.between(a, b, shared=False)
        except OneName as error:
            self._line("tables", "names", str(error), "")
            return
        theirs = {table.name: table for table in b.tables}
        dropped_a, dropped_b = self._dropped(a), self._dropped(b)
        pipeline = self._pipeline()
        with a.database.reading() as reads_a, b.database.reading() as reads_b:
            for table in a.tables:
                plain = table.name.removeprefix(a.prefix)
                other = theirs.pop(names.table(table.name), None)
                if self._is_expected(plain, a, table):
                    continue
                if other is None:
                    self._only(plain, a, table)
                    continue
                if self._is_expected(plain, b, other):
                    continue
                tell(table.name)
                rows = TableRows(
                    table, a.rewritable(table), self._without(a, plain, table, dropped_a),
                    self._replaced(a, table),
                )  # fmt: skip
                ours = pipeline.stream(reads_a, rows)
                their = reads_b.rows(
                    other, leave=self._without(b, plain, other, dropped_b),
                    replacements=self._replaced(b, other),
                )  # fmt: skip
                self._compare(plain, table, other, ours, their)
        for table in theirs.values():
            plain = table.name.removeprefix(b.prefix)
            if not self._is_expected(plain, b, table):
                self._only(plain, b, table)

    def _is_expected(self, plain: str, site: ReadableSite, table: Table) -> bool:
        """True for a table that is not in the copy, or is the copy's own."""
        left = site is self._source and table.name in self._expected.away
        return left or plain in self._expected.tables

    def _without(
        self, site: ReadableSite, plain: str, table: Table, dropped: Mapping[str, Condition]
    ) -> Condition | None:
        """The rows of a table that do not count on one side."""
        parts = [dropped[table.name]] if table.name in dropped else []
        parts += self._left(site, table)
        rule = site.definition.settings
        if rule is not None and plain == rule.table and self._expected.settings:
            exact = tuple(name for name in self._expected.settings if not name.endswith("*"))
            begin = tuple(name[:-1] for name in self._expected.settings if name.endswith("*"))
            parts += [OneOf(rule.name, exact)] if exact else []
            parts += [Like(rule.name, "begins", begin)] if begin else []
        return any_of(parts)

    def _left(self, site: ReadableSite, table: Table) -> list[Condition]:
        """What of a table did not travel."""
        known = site is self._source and table.name in self._expected.leave
        return [self._expected.leave[table.name]] if known else []

    def _replaced(self, site: ReadableSite, table: Table) -> Mapping[str, Replacement]:
        return self._expected.replacements.get(table.name, {}) if site is self._source else {}

    def _pipeline(self) -> RowPipeline:
        """Turns rows of ``a`` into what they would be in ``b``."""
        rewriting = Rewriting(self._mapping, encoded=self._a.encoded)
        return RowPipeline(rewriting, PrefixedValues.between(self._a, self._b))

    def _only(self, plain: str, site: ReadableSite, table: Table) -> None:
        rows = site.database.count(table.name)
        mine = site is self._a
        self._found.tables.append(
            TableDifference(
                plain, f"only in {site.environment.name}", rows if mine else None,
                None if mine else rows,
            )
        )  # fmt: skip

    def _compare(
        self,
        plain: str,
        table: Table,
        other: Table,
        ours: Iterable[Batch],
        theirs: Iterable[Batch],
    ) -> None:
        names = [column.name for column in table.columns]
        if set(names) != {column.name for column in other.columns}:
            self._found.tables.append(TableDifference(plain, "columns", table.rows, other.rows))
            return
        rule = self._a.definition.settings
        label = rule.name if rule is not None and plain == rule.table else ""
        a, b = _Rows(table, names, label), _Rows(other, names, label)
        a.read(ours)
        b.read(theirs)
        if a.total == b.total and a.count == b.count:
            self._found.same_tables += 1
            return
        changed = only_a = only_b = None
        which: set[str] = set()
        if a.by_key is not None and b.by_key is not None:
            both = a.by_key.keys() & b.by_key.keys()
            changed = sum(a.by_key[key] != b.by_key[key] for key in both)
            only_a, only_b = len(a.by_key) - len(both), len(b.by_key) - len(both)
            for one, two in ((a, b), (b, a)):
                which |= {
                    one.labels[key]
                    for key in one.labels
                    if (one.by_key or {})[key] != (two.by_key or {}).get(key)
                }
        self._found.tables.append(
            TableDifference(
                name=plain,
                state="content",
                rows_a=a.count,
                rows_b=b.count,
                changed=changed,
                only_a=only_a,
                only_b=only_b,
                names=tuple(sorted(which)),
            )
        )

    def entries(self) -> None:
        rule = self._a.definition.entries
        ours = self._a.table(rule.table) if rule else None
        theirs = self._b.table(rule.table) if rule else None
        if rule is None or ours is None or theirs is None:
            return
        names = [column.name for column in ours.columns]
        pipeline = self._pipeline()
        with self._a.database.reading() as reads_a, self._b.database.reading() as reads_b:
            leave_a, leave_b = (
                any_of([Not(site.condition(rule.where)), *self._left(site, table)])
                for site, table in ((self._a, ours), (self._b, theirs))
            )
            rows = TableRows(ours, self._a.rewritable(ours), leave_a)
            a = _entries(ours, rule, names, pipeline.stream(reads_a, rows))
            b = _entries(theirs, rule, names, reads_b.rows(theirs, leave=leave_b))
        found: list[EntryDifference] = []
        for key in sorted({*a, *b}, key=lambda key: (len(key), key)):
            one, two = a.get(key), b.get(key)
            known = one or two
            assert known is not None
            if one is None or two is None:
                where = self._found.a if two is None else self._found.b
                found.append(
                    EntryDifference(
                        title=known.title, kind=known.kind, id=key, state="only", where=where
                    )
                )
            elif one.changed != two.changed:
                newer = self._found.a if one.changed > two.changed else self._found.b
                found.append(
                    EntryDifference(
                        title=known.title, kind=known.kind, id=key, state="newer", where=newer
                    )
                )
            elif one.hash != two.hash:
                where = f"{self._found.a} and {self._found.b}"
                found.append(
                    EntryDifference(
                        title=known.title, kind=known.kind, id=key, state="changed", where=where
                    )
                )
        self._found.entries = found


class _Rows:
    """The sum of the hashes of a table's rows, and each by its key where there are not too many."""

    def __init__(self, table: Table, names: Sequence[str], label: str = "") -> None:
        """With ``label``, the values of that column are remembered by the keys of their rows."""
        own = [column.name for column in table.columns]
        self._order = [own.index(name) for name in names]
        self._key = [own.index(name) for name in table.key]
        self.by_key: dict[bytes, int] | None = {} if table.key else None
        self._label = own.index(label) if label in own else None
        self.labels: dict[bytes, str] = {}
        self.count = 0
        self.total = 0

    def read(self, batches: Iterable[Batch]) -> None:
        for batch in batches:
            for row in batch.each():
                value = row_hash(row[index] for index in self._order)
                self.total = (self.total + value) & WRAP
                self.count += 1
                if self.by_key is not None:
                    key = b"".join([cell_bytes(row[index]) for index in self._key])
                    self.by_key[key] = value
                    if self._label is not None:
                        cell = row[self._label]
                        self.labels[key] = (
                            cell.decode("utf-8", "replace")
                            if isinstance(cell, bytes)
                            else str(cell)
                        )
            if self.by_key is not None and self.count > _ROW_BY_ROW:
                self.by_key = None
                self.labels.clear()


class _Entry(Struct, frozen=True):
    """What is compared of an entry; ``hash`` stands for all of its values."""

    title: str
    kind: str
    changed: str
    hash: int


def _entries(
    table: Table, rule: Any, names: Sequence[str], batches: Iterable[Batch]
) -> dict[str, _Entry]:
    own = [column.name for column in table.columns]
    order = [own.index(name) for name in names if name in own]
    found: dict[str, _Entry] = {}

    def text(row: list[Any], name: str | None) -> str:
        cell = row[own.index(name)] if name in own else ""
        return cell.decode("utf-8", "replace") if isinstance(cell, bytes) else str(cell)

    for batch in batches:
        for row in batch.each():
            value = row_hash(row[index] for index in order)
            found[text(row, rule.id)] = _Entry(
                text(row, rule.title), text(row, rule.kind), text(row, rule.changed), value
            )
    return found


def _words(site: ReadableSite, named: NamedSetting) -> str:
    values = []
    words = {value: word for word, value in named.values.items()}
    for key in named.keys:
        for value in site.settings(key).values():
            values.append(words.get(value, value))
    return ", ".join(value for value in values if value)


def _stands(item: Extension | None) -> str:
    if item is None:
        return "not there"
    return f"{item.version} {'active' if item.active else 'inactive'}".strip()
