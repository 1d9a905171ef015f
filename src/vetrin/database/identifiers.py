"""Renaming tables inside SQL text: of a trigger, a view, a foreign key or a table's own schema.

Only whole identifiers are renamed, quoted or bare; literals and comments are not looked into, nor
are the columns behind a dot.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping

_TOKEN = re.compile(
    r"""
    (?P<literal>'(?:[^'\\]|\\.|'')*')
  | (?P<comment>/\*(?!M?!).*?\*/|--[ \t][^\n]*)
  | (?P<back>`(?:[^`]|``)*`)
  | (?P<double>"(?:[^"]|"")*")
  | (?P<bracket>\[[^\]\n]*\])
  | (?P<bare>[A-Za-z_\x80-\U0010ffff$][\w\x80-\U0010ffff$]*)
  | (?P<dot>\s*\.\s*)
    """,
    re.VERBOSE | re.DOTALL,
)


def rename(
    sql: str,
    names: Mapping[str, str],
    quote: Callable[[str], str],
    database: tuple[str, str] | None = None,
) -> str:
    """``sql`` with the identifiers that ``names`` holds replaced, each as ``quote`` writes it.

    ``database``: old and new name of the database, for tables that are written with it.
    """
    pieces: list[str] = []
    end = 0
    qualifier: tuple[int, str] | None = None  # place in ``pieces`` and name before a dot
    for token in _TOKEN.finditer(sql):
        pieces.append(sql[end : token.start()])
        end = token.end()
        text = token.group()
        kind = token.lastgroup
        if kind in ("literal", "comment") or (kind == "double" and quote("a") == "`a`"):
            pieces.append(text)
            qualifier = None
            continue
        if kind == "dot":
            pieces.append(text)
            if qualifier is not None and sql[: token.start()] and pieces[-2] == "":
                qualifier = (-1 - qualifier[0], qualifier[1])  # seen, now followed by a dot
            continue
        name = _plain(text)
        behind_dot = qualifier is not None and qualifier[0] < 0
        if behind_dot and qualifier is not None:
            place, owner = -1 - qualifier[0], qualifier[1]
            if database is not None and owner == database[0] and name in names:
                pieces[place] = quote(database[1])
                pieces.append(quote(names[name]))
            else:
                pieces.append(text)
            qualifier = (len(pieces) - 1, "")
            continue
        pieces.append(quote(names[name]) if name in names else text)
        qualifier = (len(pieces) - 1, name)
    pieces.append(sql[end:])
    return "".join(pieces)


def _plain(text: str) -> str:
    if text[0] in '`"':
        return text[1:-1].replace(text[0] * 2, text[0])
    return text[1:-1] if text[0] == "[" else text
