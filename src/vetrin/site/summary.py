"""How an environment stands: its versions, counts, newest entry and sizes."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict

from ..cms import read_version
from ..database import AllOf, Condition, Counting, Not, Selecting
from .site import ReadableSite


class Newest(Struct, frozen=True):
    """The entry that was changed last, and when."""

    title: str
    changed: str


class Summary(Struct, frozen=True):
    """What people compare when they put two environments side by side. Sizes are in bytes."""

    environment: str
    title: str | None
    cms_version: str | None
    database_version: str
    counts: dict[str, int] = {}
    newest: Newest | None = None
    database_size: int = 0
    tables: int = 0
    media_files: int = 0
    media_size: int = 0

    def as_json(self) -> dict[str, Any]:
        return {
            "title": self.title,
            "cms_version": self.cms_version,
            "database": self.database_version,
            "counts": self.counts,
            "newest": asdict(self.newest) if self.newest else None,
            "database_bytes": self.database_size,
            "tables": self.tables,
            "media_files": self.media_files,
            "media_bytes": self.media_size,
        }


def counts_of(
    site: ReadableSite, leave: Mapping[str, Condition] | None = None, away: Collection[str] = ()
) -> dict[str, int]:
    """The definition's counts, for tables that are there.

    Rows that meet the condition in ``leave`` for their table do not count, nor do tables ``away``.
    """
    if site.looked is not None and not leave and not away:
        return dict(site.looked.counts)
    asked = _countings(site, leave or {}, away)
    with site.database.looking():
        site.database.ahead(asked.values())
        return {name: site.database.count(one.table, one.where) for name, one in asked.items()}


def _countings(
    site: ReadableSite, leave: Mapping[str, Condition], away: Collection[str]
) -> dict[str, Counting]:
    asked: dict[str, Counting] = {}
    for rule in site.definition.counts:
        table = site.prefix + rule.table
        if not site.has_table(rule.table) or table in away:
            continue
        where = site.condition(rule.where)
        if table in leave:
            where = AllOf((where, Not(leave[table])))
        asked[rule.name] = Counting(table, where)
    return asked


def newest_of(site: ReadableSite) -> Newest | None:
    """The entry that was changed last."""
    if site.looked is not None:
        return Newest(*site.looked.newest) if site.looked.newest else None
    one = _newest(site)
    if one is None:
        return None
    rows = site.database.select(
        one.table,
        one.columns,
        where=one.where,
        order=one.order,
        descending=one.descending,
        limit=one.limit,
    )
    return Newest(str(rows[0][0]), str(rows[0][1])) if rows else None


def _newest(site: ReadableSite) -> Selecting | None:
    """The question for the entry that was changed last, where it can be asked."""
    rule = site.definition.entries
    if rule is None or not site.has_table(rule.table):
        return None
    return Selecting(
        site.prefix + rule.table,
        (rule.title, rule.changed),
        site.condition(rule.where),
        (rule.changed, rule.id),  # no text: servers sort that slowly
        descending=True,
        limit=1,
    )


def standing(site: ReadableSite, *, files: bool = True) -> Summary:
    """Look at an open environment.

    Raises:
        DatabaseError, FilesError: something could not be read.
    """
    with site.looking():
        return _standing(site, files)


def _standing(site: ReadableSite, files: bool) -> Summary:
    if site.looked is None:
        newest = _newest(site)
        counts = _countings(site, {}, ()).values()
        site.database.ahead([*counts, newest] if newest is not None else counts)
    facts = site.database.facts()
    media = site.files.scan(site.definition.parts.get("media", ())) if files else {}
    found = [entry for entry in media.values() if entry.kind == "file"]
    return Summary(
        environment=site.environment.name,
        title=site.title,
        cms_version=read_version(site.root, site.definition),
        database_version=f"{facts.product} {facts.version}",
        counts=counts_of(site),
        newest=newest_of(site),
        database_size=sum(table.size for table in site.tables) or site.database.size(),
        tables=len(site.tables),
        media_files=len(found),
        media_size=sum(entry.size for entry in found),
    )
