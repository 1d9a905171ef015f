"""Values on their way: text columns are rewritten (or healed), and everything is counted."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

from msgspec import Struct
from msgspec.structs import asdict

from ..cms import EncodedRule
from ..database import Batch, Table, row_key
from ..rewrite import Mapping, Rewriter, Tally
from ..rewrite.heal import heal
from ..rewrite.signed import Signatures, Signing
from .payloads import Signed, rewrite_payloads

SHOWN = 20
Encoded = dict[tuple[str, str], tuple[EncodedRule, ...]]


class Left(Struct, frozen=True):
    """A value that was left as it is, though something in it matches, because it is broken."""

    table: str
    column: str
    key: str


class Stray(Protocol):
    """A reference to another environment."""

    @property
    def environment(self) -> str:
        """The name of the environment that it leads to."""


class StrayFinder(Protocol):
    """Finds references to other environments in values (``inspect/strays.py``)."""

    def may_find(self, data: bytes) -> bool:
        """False where there is none for certain."""

    def find(self, data: bytes) -> Sequence[Stray]:
        """All of them, in their order."""


class ColumnWork:
    """Implements ``through`` of ``ValueWork`` by ``column``."""

    def column(self, table: Table, batch: Batch, index: int) -> dict[int, bytes]:
        """The new values of a column's rows, counted; nothing is changed."""
        raise NotImplementedError

    def through(
        self, table: Table, indexes: Sequence[int], batches: Iterable[Batch]
    ) -> Iterator[Batch]:
        """Pass batches on with the columns at ``indexes`` changed in place."""
        for batch in batches:
            for index in indexes:
                batch.put(index, self.column(table, batch, index))
                self._changed(table, batch, index)
            yield batch

    def _changed(self, table: Table, batch: Batch, index: int) -> None:
        """Called once a column of a batch is as it will be."""


@dataclass
class Rewriting(ColumnWork):
    """Applies a mapping, and keeps the counts of one run by table and column.

    With a ``finder``, references to other environments that remain are counted as strays; ``own`` is the name of the
    environment that the rows go to.
    """

    mapping: Mapping
    finder: StrayFinder | None = None
    own: str = ""
    encoded: Encoded = field(default_factory=dict)
    columns: dict[tuple[str, str], Tally] = field(default_factory=dict)
    values: Counter[tuple[str, str]] = field(default_factory=Counter)
    strays: Counter[tuple[str, str, str]] = field(default_factory=Counter)
    left: list[Left] = field(default_factory=list)
    signed: Signed = field(default_factory=dict, repr=False)
    signatures: Signatures = field(default_factory=Signatures)

    def __post_init__(self) -> None:
        self._rewriter = Rewriter(self.mapping)

    @property
    def total(self) -> int:
        return sum(tally.total for tally in self.columns.values())

    @property
    def broken(self) -> int:
        return sum(tally.broken for tally in self.columns.values())

    def by_pair(self) -> Counter[int]:
        counts: Counter[int] = Counter()
        for tally in self.columns.values():
            for (pair, _), count in tally.replaced.items():
                counts[pair] += count
        return counts

    def by_form(self) -> Counter[str]:
        counts: Counter[str] = Counter()
        for tally in self.columns.values():
            for (_, form), count in tally.replaced.items():
                counts[form] += count
        return counts

    def through(
        self, table: Table, indexes: Sequence[int], batches: Iterable[Batch]
    ) -> Iterator[Batch]:
        """As of all such work; rows in which for certain nothing matches are not even taken apart."""
        names = {(table.name, table.columns[index].name) for index in indexes}
        if self.finder is not None or names & (self.encoded.keys() | self.signed.keys()):
            yield from super().through(table, indexes, batches)
            return
        for batch in batches:
            if batch.records is None or batch.altered:
                yield from super().through(table, indexes, [batch])
                continue
            rows = self._rewriter.likely(batch.records)
            some = batch.part(rows)
            for index in indexes:
                values = self.column(table, some, index)
                batch.put(index, {rows[row]: value for row, value in values.items()})
            yield batch

    def column(self, table: Table, batch: Batch, index: int) -> dict[int, bytes]:
        """The new values of a column's rows, counted; nothing is changed."""
        name = table.columns[index].name
        tally = self.columns.setdefault((table.name, name), Tally())
        broken: list[int] = []
        changed = self._rewriter.rewrite_column(batch.texts(index), tally, broken)
        for rule in self.encoded.get((table.name, name), ()):
            rewrite_payloads(self._rewriter, rule, table, batch, index, changed, tally)
        for signing in self.signed.get((table.name, name), ()):
            self._sign(signing, batch.texts(index), changed)
        if changed:
            self.values[table.name, name] += len(changed)
        for row in broken[: SHOWN - len(self.left)]:
            self.left.append(Left(table.name, name, row_key(table, batch, row)))
        return changed

    def _sign(
        self, signing: Signing, values: Sequence[bytes | None], changed: dict[int, bytes]
    ) -> None:
        """Have what is signed with the source's secrets signed with the target's."""
        for row, value in enumerate(values):
            if value is None or signing.marker not in value:
                continue
            now = changed.get(row, value)
            new = signing.through(
                now, lambda inner: self._rewriter.rewrite(inner, Tally()), self.signatures
            )
            if new is not now:
                changed[row] = new

    def again(self) -> Rewriting:
        """The same work with counts of its own."""
        return Rewriting(self.mapping, encoded=self.encoded, signed=self.signed)

    def _changed(self, table: Table, batch: Batch, index: int) -> None:
        """Count the references to other environments that remain."""
        finder = self.finder
        if finder is None:
            return
        values = list(filter(None, batch.texts(index)))
        if finder.may_find(b"\0".join(values)):
            for value in values:
                for stray in finder.find(value):
                    self.strays[table.name, table.columns[index].name, stray.environment] += 1

    def as_json(self) -> dict[str, Any]:
        pairs = self.by_pair()
        return {
            "replaced": self.total,
            "by_form": dict(sorted(self.by_form().items())),
            "by_pair": [
                {"old": pair.old_text, "new": pair.new_text, "count": pairs[index]}
                for index, pair in enumerate(self.mapping.pairs)
            ],
            "columns": [
                {
                    "table": table,
                    "column": column,
                    "values": self.values[table, column],
                    "replaced": tally.total,
                    "places": [
                        {"pair": pair, "form": form, "count": count}
                        for (pair, form), count in sorted(tally.replaced.items())
                    ],
                    "broken": tally.broken,
                    "left": tally.left,
                }
                for (table, column), tally in sorted(self.columns.items())
                if tally.total or tally.broken or tally.left
            ],
            "broken": [asdict(item) for item in self.left],
            "signed_anew": self.signatures.anew,
            "signed_and_left": self.signatures.left,
            "strays": [
                {"table": table, "column": column, "environment": environment, "count": count}
                for (table, column, environment), count in sorted(self.strays.items())
            ],
        }


@dataclass
class Healing(ColumnWork):
    """Heals serialised values; counts those that were mended and lists those that were left."""

    values: Counter[tuple[str, str]] = field(default_factory=Counter)
    broken: Counter[tuple[str, str]] = field(default_factory=Counter)
    left: list[Left] = field(default_factory=list)

    def column(self, table: Table, batch: Batch, index: int) -> dict[int, bytes]:
        """The healed values of a column's rows, counted; nothing is changed."""
        name = table.columns[index].name
        changed: dict[int, bytes] = {}
        for row, value in enumerate(batch.texts(index)):
            if not value or b":" not in value:
                continue
            healed = heal(value)
            if healed.value != value:
                changed[row] = healed.value
                self.values[table.name, name] += 1
            if healed.state == "left":
                self.broken[table.name, name] += 1
                if len(self.left) < SHOWN:
                    self.left.append(Left(table.name, name, row_key(table, batch, row)))
        return changed

    def again(self) -> Healing:
        """The same work with counts of its own."""
        return Healing()

    def as_json(self) -> dict[str, Any]:
        return {
            "healed": self.values.total(),
            "left": self.broken.total(),
            "columns": [
                {
                    "table": table,
                    "column": column,
                    "healed": self.values[table, column],
                    "left": self.broken[table, column],
                }
                for table, column in sorted({*self.values, *self.broken})
            ],
            "left_values": [asdict(item) for item in self.left],
        }
