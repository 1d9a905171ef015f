"""The statements that change some rows of a table where they stand, each only if it is as it was."""

from __future__ import annotations

from collections.abc import Sequence

from ..base import Patch
from .columns import quote


def patching(patch: Patch) -> list[str]:
    """The statements of a patch: what goes makes room for what comes."""
    if not patch.whole:
        return [_update(patch)]
    live, before, after = map(quote, (patch.table, patch.before, patch.after))
    first = quote(patch.key[0])
    names = [quote(name) for name in (*patch.key, *patch.columns, *patch.born)]
    as_it_was = "".join(f" AND {text}" for text in _unchanged(patch))
    come = (
        f"SELECT {', '.join(f'a.{name}' for name in names)} FROM {after} a"
        f" LEFT JOIN {before} b ON {_same('a', 'b', patch.key)} LEFT JOIN {live} l ON {_same('a', 'l', patch.key)}"
        f" WHERE b.{first} IS NULL AND l.{first} IS NULL"
    )
    return [
        f"DELETE l FROM {live} l JOIN {before} b ON {_same('l', 'b', patch.key)}"
        f" LEFT JOIN {after} a ON {_same('a', 'b', patch.key)} WHERE a.{first} IS NULL{as_it_was}",
        _update(patch),
        f"INSERT INTO {live} ({', '.join(names)}) {_yielding(come, live, first) if patch.yields else come}",
    ]


def _yielding(come: str, live: str, first: str) -> str:
    """Rows that come, but for those of which something unique is there already. IGNORE would pass over more."""
    return f"SELECT * FROM ({come}) _vetrin_s ON DUPLICATE KEY UPDATE {first} = {live}.{first}"


def _same(first: str, second: str, columns: Sequence[str], between: str = " AND ") -> str:
    return between.join(f"{first}.{quote(c)} = {second}.{quote(c)}" for c in columns)


def _unchanged(patch: Patch) -> list[str]:
    """That a row is as it was. Compared as bytes: a collation would take two spellings of a text for equal."""
    return [
        f"CAST(l.{quote(c)} AS BINARY) <=> CAST(b.{quote(c)} AS BINARY)" for c in patch.compared
    ]


def _update(patch: Patch) -> str:
    # All columns are set, so that none that keeps the time of the last change is touched by the server.
    unchanged = _unchanged(patch)
    return (
        f"UPDATE {quote(patch.table)} l JOIN {quote(patch.after)} a ON {_same('l', 'a', patch.key)}"
        f" JOIN {quote(patch.before)} b ON {_same('l', 'b', patch.key)}"
        f" SET {_same('l', 'a', patch.columns, ', ')}"
        + (" WHERE " + " AND ".join(unchanged) if unchanged else "")
    )
