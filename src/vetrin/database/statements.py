"""SQL that came from outside, taken into its pieces: what it names, and what it does, in a line.

Written for what a gate has to know, not to carry anything out; for MariaDB and MySQL in their SQL modes, and for
SQLite. Sources: the servers' reference manuals, "Lexical Structure"; SQLite's documentation, "SQL As Understood By
SQLite".
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from .base import Attachment

SQLITE = "SQLITE"  # in place of an SQL mode
TIMES, OCCASIONS = ("BEFORE", "AFTER", "INSTEAD"), ("INSERT", "UPDATE", "DELETE")


class Token(NamedTuple):
    """``kind`` is word, name (in quotes), text, number or mark. ``text`` is a word as it stands, a name without its
    quotes, a mark; nothing of a text or a number. ``upper`` is the word in capitals, else nothing."""

    kind: str
    text: str
    upper: str = ""


class Unreadable(ValueError):
    """A text whose pieces cannot be told apart."""


# A character of a bare word: all but the other ones of ASCII. (A class that names the rest of Unicode takes long to
# compile.)
WORD = r"[^\x00-\x23\x25-\x2f\x3a-\x40\x5b-\x5e\x60\x7b-\x7f]"
_PIECE = re.compile(
    rf"""
    (?P<space>[ \t\r\n\f\v]+|--(?=[\s\x00-\x1f]|$)[^\n]*|\#[^\n]*)
  | (?P<opened>/\*M?!\d*)
  | (?P<closed>\*/)
  | (?P<comment>/\*.*?\*/)
  | (?P<back>`(?:[^`]|``)*`)
  | (?P<number>0[xX][0-9a-fA-F]+|\d+(?:\.\d*)?(?:[eE][-+]?\d+)?(?!{WORD})|\.\d+(?:[eE][-+]?\d+)?)
  | (?P<word>@{{0,2}}{WORD}+)
  | (?P<mark>:=|<=>|<=|>=|<>|!=|\|\||&&|<<|>>|->>|->|[-+*/%()\[\]{{}},;.=<>!~^&|:?@])
    """,
    re.VERBOSE | re.DOTALL,
)
# What SQLite reads otherwise.
_OF_SQLITE = re.compile(
    r"(?P<space>--[^\n]*)|(?P<comment>/\*.*?(?:\*/|\Z))|(?P<bracket>\[[^\]]*\])|(?P<none>[#\\])",
    re.DOTALL,
)
_QUOTED = {
    (mark, escapes): re.compile(
        rf"{mark}(?:[^{mark}\\]|\\.|{mark}{mark})*{mark}"
        if escapes
        else rf"{mark}(?:[^{mark}]|{mark}{mark})*{mark}",
        re.DOTALL,
    )
    for mark in "'\""
    for escapes in (True, False)
}


def tokens(sql: str, mode: str = "") -> list[Token]:
    """The pieces of a text as a server in this SQL mode tells them apart. What stands in a comment for one kind of
    server (``/*! … */``) counts as code.

    Raises:
        Unreadable: there is something else, or what is opened does not end.
    """
    modes = set(mode.upper().split(","))
    lite = SQLITE in modes
    ansi = lite or bool(
        modes & {"ANSI_QUOTES", "ANSI", "ORACLE", "DB2", "MAXDB", "MSSQL", "POSTGRESQL"}
    )
    escapes = not lite and "NO_BACKSLASH_ESCAPES" not in modes
    found: list[Token] = []
    at, opened = 0, -1
    while at < len(sql):
        mark = sql[at]
        if mark in "'\"":
            match = _QUOTED[mark, escapes and not (mark == '"' and ansi)].match(sql, at)
            if match is None:
                raise Unreadable("a text in it does not end")
            inside = match[0][1:-1].replace(mark * 2, mark)
            found.append(Token("name", inside) if mark == '"' and ansi else Token("text", ""))
        else:
            match = (_OF_SQLITE.match(sql, at) if lite else None) or _PIECE.match(sql, at)
            if match is None or match.lastgroup == "none":
                raise Unreadable(f"it has {sql[at : at + 20]!r}")
            kind, text = match.lastgroup, match[0]
            if kind == "opened":
                if opened >= 0:
                    raise Unreadable("a comment in it begins inside of another one")
                opened = len(found)
            elif kind == "closed":
                if opened < 0 or not _balanced(found[opened:]):
                    raise Unreadable("a comment in it ends where none began, or cuts brackets")
                opened = -1
            elif kind == "bracket":
                found.append(Token("name", text[1:-1]))
            elif kind == "back":
                found.append(Token("name", text[1:-1].replace("``", "`")))
            elif kind == "word":
                found.append(Token("word", text, text.upper()))
            elif kind == "number":
                found.append(Token("number", ""))
            elif kind == "mark":
                found.append(Token("mark", text))
        at = match.end()
    if opened >= 0:
        raise Unreadable("a comment in it does not end")
    return found


def _balanced(found: Sequence[Token]) -> bool:
    depth = 0
    for token in found:
        if token.kind == "mark" and token.text in "()":
            depth += 1 if token.text == "(" else -1
            if depth < 0:
                return False
    return not depth


def after(found: Sequence[Token], words: Sequence[str]) -> int | None:
    """Where a text goes on behind the words that it has to begin with."""
    begins = tuple(token.upper for token in found[: len(words)])
    return len(words) if begins == tuple(words) and len(found) > len(words) else None


def closing(found: Sequence[Token], at: int) -> int | None:
    """Where the bracket ends that opens at a place."""
    if at >= len(found) or found[at].text != "(":
        return None
    depth = 0
    for place in range(at, len(found)):
        if found[place].kind == "mark" and found[place].text in "()":
            depth += 1 if found[place].text == "(" else -1
            if not depth:
                return place
    return None


# -- what it names ---------------------------------------------------------------------------------------------

_TABLE_NEXT = {"FROM", "JOIN", "STRAIGHT_JOIN", "INTO", "UPDATE", "TABLE", "TABLES", "CALL", "REFERENCES", "TRUNCATE",
               "DESCRIBE", "LIKE", "VIEW", "TRIGGER", "PROCEDURE", "FUNCTION", "SEQUENCE", "ON", "USING", "DELETE",
               "INSERT", "REPLACE", "RENAME", "TO", "HANDLER", "FOR"}  # fmt: skip
_LISTS = {"FROM", "JOIN", "STRAIGHT_JOIN", "UPDATE", "TABLE", "TABLES", "USING", "DELETE", "TO"}
_LIST_ENDS = {"WHERE", "GROUP", "HAVING", "ORDER", "LIMIT", "WINDOW", "SET", "SELECT", "VALUES", "UNION", "DO",
              "THEN", "BEGIN", "INTO", "PROCEDURE", "FOR"}  # fmt: skip
_PASSED = {
    "IF",
    "NOT",
    "EXISTS",
    "IGNORE",
    "LOW_PRIORITY",
    "QUICK",
    "DELAYED",
    "HIGH_PRIORITY",
    "LATERAL",
    "ONLY",
}
# A bracket behind these begins with a sequence; behind those it has a FROM that is no table's.
_OF_A_SEQUENCE = {"NEXTVAL", "LASTVAL", "SETVAL"}
_WITH_FROM = {"TRIM", "EXTRACT", "SUBSTRING", "SUBSTR", "MID", "POSITION", "OVERLAY"}


def databases_of(found: Sequence[Token]) -> set[str]:
    """The databases that a text speaks of: what stands before a dot where a table or a routine is named, and the
    first of three names with two dots."""
    return {chain[0] for _, chain in named(found) if len(chain) > 1}


def named(found: Sequence[Token]) -> Iterator[tuple[str, list[str]]]:
    """The tables and routines that a text names, each with the word that it stands behind, and whatever is written
    with two dots."""
    levels: list[_Level] = [_Level()]
    at = 0
    while at < len(found):
        token, level = found[at], levels[-1]
        if token.kind == "mark":
            if token.text == "(":
                opener = found[at - 1].upper if at else ""
                sequence = "SEQUENCE" if opener in _OF_A_SEQUENCE else ""
                levels.append(
                    _Level(level.awaits, level.awaits or sequence, opener not in _WITH_FROM)
                )
            elif token.text == ")":
                if len(levels) > 1:
                    levels.pop()
                levels[-1].awaits = ""
            elif token.text == ",":
                level.awaits = level.lists
            elif token.text == ";":
                levels = [_Level()]
            at += 1
            continue
        if token.kind not in ("word", "name"):
            level.awaits = ""
            at += 1
            continue
        chain = _chain(found, at)
        end = at + 2 * len(chain) - 1
        called = end < len(found) and found[end].text == "("
        word = token.upper if len(chain) == 1 else ""
        if word in _LIST_ENDS:
            level.lists = level.awaits = ""
            level.plain = level.plain or word == "SELECT"
        if word in _TABLE_NEXT:
            if _names_tables(found, at, level, called):
                before = found[at - 1].upper if at else ""
                writes = before in {"INSERT", "REPLACE", "DELETE", *_PASSED} and word in (
                    "INTO",
                    "FROM",
                )
                level.awaits = "UPDATE" if writes else word
                if word in _LISTS:
                    level.lists = level.awaits
            else:
                level.awaits = ""
        elif len(chain) > 2 or (len(chain) == 2 and called):
            yield level.awaits, chain
            level.awaits = ""
        elif word not in _PASSED and word not in _LIST_ENDS:
            if level.awaits:
                yield level.awaits, chain
            level.awaits = ""
        at = end


def _names_tables(found: Sequence[Token], at: int, level: _Level, called: bool) -> bool:
    """True where behind one of these words a table is named, and not something else."""
    word = found[at].upper
    if word == "FROM":
        return level.plain
    if word == "ON":  # of an index; a join's has columns behind it
        return not level.lists
    if word == "UPDATE":  # ON DUPLICATE KEY UPDATE column = …
        return found[at - 1].upper != "KEY" if at else True
    if word in ("REPLACE", "INSERT"):  # also functions; CREATE OR REPLACE
        return not called and (not at or found[at - 1].upper != "OR")
    if word == "FOR":  # NEXT VALUE FOR sequence
        return bool(at) and found[at - 1].upper == "VALUE"
    if word == "INTO":  # a variable, else
        return bool(at) and found[at - 1].upper in {"INSERT", "REPLACE", *_PASSED}
    if (
        word == "USING"
    ):  # of DELETE; else of a join's columns, or what is handed to a prepared statement
        return "DELETE" in [token.upper for token in found[max(0, at - 24) : at]]
    if word == "LIKE":  # CREATE TABLE name LIKE other; else it compares
        before = [token.upper for token in found[max(0, at - 8) : at]]
        return "CREATE" in before and "TABLE" in before
    return True


@dataclass
class _Level:
    """Inside of some brackets: behind which word tables are listed, or the next name is one; whether FROM has
    tables."""

    lists: str = ""
    awaits: str = ""
    plain: bool = True


def _chain(found: Sequence[Token], at: int) -> list[str]:
    """A name and those behind its dots."""
    names = [found[at].text]
    while (
        at + 2 < len(found)
        and found[at + 1].text == "."
        and found[at + 1].kind == "mark"
        and found[at + 2].kind in ("word", "name")
    ):
        at += 2
        names.append(found[at].text)
    return names


# -- what a program does, in a line ------------------------------------------------------------------------------


def doing(item: Attachment, mode: str = "") -> str:
    """What a trigger, view or routine does, for a plan: when, what it writes and reads."""
    try:
        found = tokens(item.sql, mode or (item.mode if item.kind != "view" else ""))
    except Unreadable:
        return ""
    writes: dict[str, None] = {}
    reads: dict[str, None] = {}
    for word, chain in named(found):
        if word in ("FROM", "JOIN", "STRAIGHT_JOIN"):
            reads[chain[-1]] = None
        elif word in ("UPDATE", "TRUNCATE", "INSERT", "REPLACE"):
            writes[chain[-1]] = None
    said = []
    if item.kind == "trigger":
        occasion = next((t.text.lower() for t in found if t.upper in OCCASIONS), "")
        time = next((t.text.lower() for t in found if t.upper in TIMES), "")
        said.append(f"{time} each {occasion} on {item.table}")
        writes.pop(item.table, None) if occasion == "update" and item.table in writes else None
    if writes:
        said.append("writes " + ", ".join(writes))
    if any(name not in writes for name in reads):
        said.append("reads " + ", ".join(name for name in reads if name not in writes))
    if any(token.upper in ("PREPARE", "IMMEDIATE") for token in found):
        said.append("makes statements out of texts")
    return "; ".join(said)
