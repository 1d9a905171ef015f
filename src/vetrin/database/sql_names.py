"""Renaming tables inside SQL text: of a trigger, a view, a foreign key or a table's own schema.

Only whole identifiers are renamed, quoted or bare; literals and comments are not looked into, nor
are the columns behind a dot.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Mapping
from typing import NamedTuple

from msgspec.structs import replace

from .base import Attachment
from .statements import WORD, Unreadable, databases_of, tokens

_EVERYWHERE = ("information_schema", "performance_schema")

_TOKEN = re.compile(
    rf"""
    (?P<literal>'(?:[^'\\]|\\.|'')*')
  | (?P<comment>/\*(?!M?!).*?\*/|--[ \t][^\n]*)
  | (?P<back>`(?:[^`]|``)*`)
  | (?P<double>"(?:[^"]|"")*")
  | (?P<bracket>\[[^\]\n]*\])
  | (?P<bare>(?![0-9]){WORD}+)
  | (?P<dot>\s*\.\s*)
    """,
    re.VERBOSE | re.DOTALL,
)


class _Identifier(NamedTuple):
    """An identifier that was read: its place among the pieces, and its plain name."""

    place: int
    name: str


def rename(
    sql: str,
    names: Mapping[str, str],
    quote: Callable[[str], str],
    database: tuple[str, str] | None = None,
    *,
    double_quoted_text: bool,
) -> str:
    """``sql`` with the identifiers that ``names`` holds replaced, each as ``quote`` writes it.

    ``database``: old and new name of the database, for tables that are written with it. ``double_quoted_text``: what
    stands between double quotes is a text, not a name.
    """
    pieces: list[str] = []
    end = 0
    owner: _Identifier | None = None  # what stands before the place that is read
    dotted = False  # and there is a dot behind it
    for token in _TOKEN.finditer(sql):
        if token.start() > end:
            owner, dotted = None, False
        pieces.append(sql[end : token.start()])
        end, text, kind = token.end(), token.group(), token.lastgroup
        if kind == "dot":
            pieces.append(text)
            dotted = owner is not None
            continue
        if kind in ("literal", "comment") or (kind == "double" and double_quoted_text):
            pieces.append(text)
            owner, dotted = None, False
            continue
        name = _plain(text)
        if not dotted or owner is None:
            owner = _Identifier(len(pieces), name)
            pieces.append(quote(names[name]) if name in names else text)
            continue
        if database is not None and owner.name == database[0] and name in names:
            pieces[owner.place] = quote(database[1])
            text = quote(names[name])
        owner, dotted = _Identifier(len(pieces), ""), False
        pieces.append(text)
    pieces.append(sql[end:])
    return "".join(pieces)


def as_own(item: Attachment, database: str, names: Collection[str]) -> Attachment:
    """What hangs on tables with the things of its database, ``names``, called by their own names alone. What speaks
    of another database cannot come along: wherever it arrives, it would go on reading or writing there."""
    sql = without_qualifier(item.sql, database, names)
    mode = item.mode if item.kind in ("trigger", "routine") else ""
    foreign = {name for name in databases_in(sql, mode) if name.lower() not in _EVERYWHERE} - {
        database
    }
    lost = f"it speaks of another database ({', '.join(sorted(foreign))})" if foreign else ""
    return replace(item, sql=sql, lost=item.lost or lost)


def without_qualifier(sql: str, database: str, names: Collection[str]) -> str:
    """``sql`` with what stands in ``database`` called by its own name alone; ``names`` are the things there."""
    pieces: list[str] = []
    end = 0
    tokens = list(_TOKEN.finditer(sql))
    skip = 0
    for at, token in enumerate(tokens):
        if skip:
            skip -= 1
            continue
        follows = tokens[at + 1 : at + 3]
        if (
            len(follows) == 2
            and token.lastgroup in ("back", "bare")
            and _plain(token.group()) == database
            and follows[0].lastgroup == "dot"
            and follows[0].start() == token.end()
            and follows[1].start() == follows[0].end()
            and _plain(follows[1].group()) in names
        ):
            pieces.append(sql[end : token.start()])
            end = follows[1].start()
            skip = 1
    pieces.append(sql[end:])
    return "".join(pieces)


def databases_in(sql: str, mode: str = "") -> set[str]:
    """The databases that ``sql`` speaks of by name; none where its pieces cannot be told apart."""
    try:
        return databases_of(tokens(sql, mode))
    except Unreadable:
        return set()


def _plain(text: str) -> str:
    if text[0] in '`"':
        return text[1:-1].replace(text[0] * 2, text[0])
    return text[1:-1] if text[0] == "[" else text
