"""Choosing the data of a site among the databases of dumps: by the tables that every site of its CMS has."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from msgspec.structs import replace

from ..cms import Definition
from ..errors import BadArchive, Unclear
from ..store.manifest import StoredData
from .dump_intake import TakenDump


class Found(NamedTuple):
    """A database of a dump."""

    dump: TakenDump
    database: str
    data: StoredData

    @property
    def root(self) -> str:
        """The path that its values speak of; empty where there is none."""
        most = self.dump.roots.most_common(1)
        return most[0][0] if most else ""


def marked(data: StoredData, marks: Sequence[str]) -> list[str]:
    """The prefixes under which a database has the tables that every site of the CMS has."""
    names = {item.table.name for item in data.tables}
    if not marks:
        return [""] if names else []
    return sorted(
        name[: -len(marks[0])]
        for name in names
        if name.endswith(marks[0]) and all(name[: -len(marks[0])] + mark in names for mark in marks)
    )


def database_of_site(
    dumps: Iterable[TakenDump],
    definition: Definition,
    wanted: str,
    configured: str,
    *,
    alone: bool,
) -> Found | None:
    """The database that holds a site: the ``wanted`` one (by its name, or that of its dump), else the one that the
    site's configuration names. ``alone``: nothing but dumps came. None where no dump holds a site.

    Raises:
        Unclear: there are several, or not the one that is wanted.
        BadArchive: dumps came alone, and hold no site.
    """
    found = [Found(dump, name, data) for dump in dumps for name, data in dump.databases.items()]
    if wanted:
        named = [item for item in found if wanted in (item.dump.name, item.database)]
        if not named:
            raise Unclear(f"there is no database {wanted!r} in it", _called(found), "database")
        found = named
    sites = [item for item in found if marked(item.data, definition.marks)]
    if not sites:
        if found and alone:
            names = [table.table.name for item in found for table in item.data.tables]
            raise BadArchive(
                f"the dump has no tables of {definition.title}, but {', '.join(names[:8])}"
            )
        return None
    if len(sites) > 1 and configured:
        sites = [item for item in sites if item.database == configured] or sites
    if len(sites) > 1:
        raise Unclear("there are several databases in it", _called(sites), "database")
    return sites[0]


def with_prefix(
    data: StoredData, marks: Sequence[str], wanted: str | None, configured: str
) -> StoredData:
    """The data with the prefix of the site in it: the ``wanted`` one, else the one that its configuration names.

    Raises:
        Unclear: there are several sites in it, or none with the prefix that is wanted.
    """
    prefixes = known = marked(data, marks)
    if wanted is not None:
        prefixes = [one for one in prefixes if one == wanted]
    elif configured in prefixes:
        prefixes = [configured]
    if not prefixes:
        raise Unclear(f"no site in it has the prefix {wanted!r}", known, "prefix")
    # The sites of a network have their numbers behind the prefix of the first one.
    shortest = min(prefixes, key=len)
    network = re.compile(re.escape(shortest) + r"\d+_")
    if any(not network.fullmatch(one) for one in prefixes if one != shortest):
        raise Unclear(
            "there are several sites in the database, by their prefixes", prefixes, "prefix"
        )
    return replace(data, prefix=shortest)


def _called(found: Sequence[Found]) -> list[str]:
    """What databases are called: by the dump where the name does not tell them apart."""
    names = Counter(item.database for item in found)
    return [
        item.database if item.database and names[item.database] == 1 else item.dump.name
        for item in found
    ]
