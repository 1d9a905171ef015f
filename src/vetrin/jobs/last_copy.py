"""What a transfer left on both sides, table by table, so that the next one need not take all of it again.

Of each table the pages that came, with the digests that their rows had at the source and at the target
(``database/digests.py``), and a digest of everything that makes its rows come out as they did. It is only a claim:
a page counts as there where both sides give the same digests once more, whatever was done to them meanwhile.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import re
from collections.abc import Iterable, Mapping, Sequence
from itertools import islice
from pathlib import Path
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict

from ..atomic import write_whole
from ..database import NO_ROWS, UNTOLD, Attachment, Facts, KeyRange, Page, spans
from .journal import Journals, Run
from .plan import Plan, TablePlan

FILE = "left.json"
_VERSION = 1
_NEXT_NUMBER = re.compile(r" AUTO_INCREMENT=(\d+)")
_KEPT = 3  # of the newest records, and of those that stand: what is undone may be what stands again


class KnownTable(Struct, frozen=True):
    """A table as a transfer left it. ``signature`` is that of ``Signatures.of``, ``definition`` a digest of how the
    table is defined at the target. ``pages`` are those of a table that goes by key and in which nothing was set
    afterwards; of all others ``source`` and ``target`` are the digests of all rows."""

    signature: str
    definition: str
    rows: int
    pages: tuple[Page, ...] = ()
    source: str = UNTOLD
    target: str = UNTOLD

    def as_json(self) -> dict[str, Any]:
        pages = [[list(page.upto), page.rows, page.digest, page.became] for page in self.pages]
        return {**asdict(self), "pages": pages}

    @classmethod
    def of_json(cls, data: Mapping[str, Any]) -> KnownTable:
        """Raises KeyError, TypeError or ValueError where it is none."""
        pages = tuple(
            Page(tuple(int(key) for key in upto), int(rows), str(digest), str(became))
            for upto, rows, digest, became in data["pages"]
        )
        texts = (str(data[name]) for name in ("source", "target"))
        return cls(
            str(data["signature"]), str(data["definition"]), int(data["rows"]), pages, *texts
        )


def given_in(definition: str) -> int | None:
    """The last number that a table gave to a row, where its definition says so."""
    told = _NEXT_NUMBER.search(definition.rpartition("\n)")[2])
    return None if told is None else int(told[1]) - 1


def ranges_of(known: KnownTable) -> list[KeyRange]:
    """What is asked of a table: its pages and what is beyond them, or all of it."""
    if not known.pages:
        return [KeyRange()]
    return [*spans(known.pages), KeyRange(known.pages[-1].upto)]


def claims_of(known: KnownTable) -> list[tuple[str, str]]:
    """The digests of these ranges, at the source and at the target."""
    if not known.pages:
        return [(known.source, known.target)]
    return [*((page.digest, page.became) for page in known.pages), (NO_ROWS, NO_ROWS)]


class LastCopy(Struct, frozen=True):
    """All tables that a ``run`` left. ``hanging`` is a digest of what hung on them on both sides."""

    hanging: str
    tables: Mapping[str, KnownTable] = {}
    run: int = 0

    def write(self, folder: Path) -> None:
        """Put it into a run's folder. Raises OSError."""
        tables = {name: table.as_json() for name, table in self.tables.items()}
        data = {"version": _VERSION, "hanging": self.hanging, "tables": tables}
        write_whole(folder / FILE, json.dumps(data, separators=(",", ":")).encode())


def read(folder: Path) -> LastCopy | None:
    """What is on record in a run's folder; None where there is nothing that can be read."""
    with contextlib.suppress(OSError, ValueError, KeyError, TypeError):
        data = json.loads((folder / FILE).read_bytes())
        if data["version"] == _VERSION:
            tables = {name: KnownTable.of_json(item) for name, item in data["tables"].items()}
            return LastCopy(str(data["hanging"]), tables, int(folder.name))
    return None


def last_copy(journals: Journals, source: str, target: str) -> tuple[LastCopy, Run] | None:
    """What the last transfer between two environments left that still stands as far as the journals know, and its
    run."""
    for run in journals.standing(target):
        if run.source == source and run.kind in ("pull", "push"):
            found = read(run.folder)
            if found is not None:
                return found, run
    return None


def standing_copy(journals: Journals, source: str, target: str) -> Run | None:
    """The run whose copy the next transfer between two environments goes by; None where it takes all."""
    return next(
        (
            run
            for run in journals.standing(target)
            if run.source == source and (run.folder / FILE).exists()
        ),
        None,
    )


def forget_older(journals: Journals, target: str) -> None:
    """Remove the records of runs that nothing leads back to any more. Raises OSError."""
    there = [run for run in journals.of(target) if (run.folder / FILE).exists()]
    needed = {run.number for run in (*there[:_KEPT], *islice(journals.standing(target), _KEPT))}
    for run in there:
        if run.number not in needed:
            for name in (FILE, "baseline.jsonl"):
                (run.folder / name).unlink(missing_ok=True)


class Signatures:
    """Digests of all that makes the rows of a plan's tables come out as they do, beside the rows themselves as they
    are read, and so beside what is left out of them. ``sides`` are the servers, ``settled`` the tables in which
    something is set afterwards."""

    def __init__(self, plan: Plan, sides: Sequence[Facts], settled: Iterable[str]) -> None:
        # It takes long to load, and most commands plan nothing.
        from importlib.metadata import version

        self._plan = plan
        self._settled = frozenset(settled)
        prefixed = plan.prefixed
        self._all: list[object] = [
            version("vetrin"),
            [(facts.product, facts.version, facts.charset) for facts in sides],
            plan.mapping,
            prefixed and [prefixed.old, prefixed.new, sorted(prefixed.rules.items())],
        ]

    def of(self, item: TablePlan) -> str:
        """The digest for a table, 64 hexadecimal digits."""
        plan, name = self._plan, item.table.name
        mine: list[object] = [
            [_NEXT_NUMBER.sub("", text) for text in (item.original, item.schema)],
            [item.table.columns, item.table.key, item.target, item.rewritten],
            [(at, rules) for at, rules in sorted(plan.encoded.items()) if at[0] == name],
            [(at, [*map(vars, some)]) for at, some in sorted(plan.signed.items()) if at[0] == name],
            plan.settling.steps if name in self._settled else (),
        ]
        return _digest([*self._all, *mine])


def hanging_signature(
    plan: Plan, source: Iterable[Attachment], target: Iterable[Attachment], views: Iterable[str]
) -> str:
    """A digest of what hangs on the tables of both sides, and of what of it comes along."""
    hang = [sorted(map(repr, side)) for side in (source, target)]
    return _digest([*hang, sorted(views), plan.views, plan.left_programs, plan.routines])


def _digest(parts: object) -> str:
    return hashlib.sha256(repr(parts).encode("utf-8", "surrogateescape")).hexdigest()
