"""What SQL may do that comes into a SQLite file from outside.

As ``mysql/incoming_sql.py`` for the servers: exactly one CREATE of the announced kind and name, nothing behind it, no
other files. What carries it out has an authorizer on top (``forbid``), which SQLite asks for each thing that a
statement would do. Source: SQLite's documentation, "SQL As Understood By SQLite" and "Compile-Time Authorization
Callbacks".
"""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence

from msgspec.structs import replace

from ..base import Attachment
from ..statements import (
    OCCASIONS,
    SQLITE,
    TIMES,
    Token,
    Unreadable,
    after,
    closing,
    databases_of,
    tokens,
)

_NEVER = {"LOAD_EXTENSION", "READFILE", "WRITEFILE", "FTS3_TOKENIZER", "EDIT", "SQLITE_DBPAGE"}
_SEARCH = ("FTS3", "FTS4", "FTS5")
_BEGINS = ("INSERT", "UPDATE", "DELETE", "SELECT", "REPLACE", "WITH")


def forbid(connection: sqlite3.Connection) -> None:
    """From now on no statement of a connection may open other files or load libraries."""

    def permits(action: int, one: str | None, two: str | None, *_: object) -> int:
        # VACUUM attaches a file without a name.
        if action == sqlite3.SQLITE_ATTACH and one:
            return sqlite3.SQLITE_DENY
        loads = action == sqlite3.SQLITE_FUNCTION and (two or "").lower() == "load_extension"
        return sqlite3.SQLITE_DENY if loads else sqlite3.SQLITE_OK

    connection.set_authorizer(permits)


def unfit_table(schema: str) -> str:
    """What forbids to lay out a table by its definition; empty where nothing."""
    try:
        found = _without_end(tokens(schema, SQLITE))
    except Unreadable as error:
        return str(error)
    if [token.upper for token in found[:2]] == ["CREATE", "VIRTUAL"]:
        return _unfit_search(found, None) or _unfit(found)
    at = after(found, ("CREATE", "TABLE"))
    end = None if at is None else closing(found, at + 1)
    if end is None:
        return "its definition is no CREATE TABLE with columns"
    if any(token.upper == "SELECT" or token.text == ";" for token in found):
        return "its definition does more than to define a table"
    options = " ".join(token.upper or token.text for token in found[end + 1 :])
    if options not in (
        "",
        "WITHOUT ROWID",
        "STRICT",
        "STRICT , WITHOUT ROWID",
        "WITHOUT ROWID , STRICT",
    ):
        return "its definition has options that are not known to be harmless"
    return _unfit(found)


def fit(item: Attachment) -> Attachment:
    """What hangs on a table as it may arrive: ``lost`` where it does what none may."""
    if item.lost or not item.sql:
        return item
    try:
        found = _without_end(tokens(item.sql, SQLITE))
    except Unreadable as error:
        return replace(item, lost=str(error))
    if item.kind == "search":
        return replace(item, lost=_unfit_search(found, item.name) or _unfit(found))
    shapes = {"index": _is_index, "trigger": _is_trigger, "view": _is_view}
    shape = shapes.get(item.kind)
    if shape is None or not shape(item, found):
        return replace(item, lost=f"it is no {item.kind} of that name")
    return replace(item, lost=_unfit(found))


def _without_end(found: list[Token]) -> list[Token]:
    return found[:-1] if found and found[-1].text == ";" and found[-1].kind == "mark" else found


def _unfit(found: Sequence[Token]) -> str:
    for at, token in enumerate(found[:-1]):
        if token.text.upper() in _NEVER and (
            found[at + 1].text == "(" or token.text.upper().startswith("SQLITE")
        ):
            return f"it calls {token.text}"
    foreign = {name for name in databases_of(found) if name.lower() != "main"}
    return f"it speaks of another database ({', '.join(sorted(foreign))})" if foreign else ""


def _unfit_search(found: Sequence[Token], name: str | None) -> str:
    at = after(found, ("CREATE", "VIRTUAL", "TABLE"))
    if at is None or len(found) < at + 3 or (name is not None and found[at].text != name):
        return "its definition is no index for words of that name"
    using, module = found[at + 1 : at + 3]
    end = closing(found, at + 3)
    whole = end is not None and end + 1 == len(found)
    if using.upper != "USING" or module.text.upper() not in _SEARCH or not whole:
        return f"its module {module.text} is no index for words"
    return ""


def _named(item: Attachment, found: Sequence[Token], kind: str) -> int | None:
    """Where a CREATE goes on behind its name, if that is the item's."""
    words = [token.upper for token in found[:7]]
    if words[:1] != ["CREATE"]:
        return None
    at = 2 if kind == "INDEX" and words[1:2] == ["UNIQUE"] else 1
    if words[at : at + 1] != [kind]:
        return None
    at += 1
    if words[at : at + 3] == ["IF", "NOT", "EXISTS"]:
        at += 3
    named = (
        at + 1 < len(found) and found[at].kind in ("word", "name") and found[at].text == item.name
    )
    return at + 1 if named else None


def _is_index(item: Attachment, found: Sequence[Token]) -> bool:
    at = _named(item, found, "INDEX")
    if (
        at is None
        or found[at].upper != "ON"
        or at + 2 >= len(found)
        or found[at + 1].text != item.table
    ):
        return False
    return closing(found, at + 2) is not None and not any(
        token.upper == "SELECT" or token.text == ";" for token in found
    )


def _is_view(item: Attachment, found: Sequence[Token]) -> bool:
    at = _named(item, found, "VIEW")
    if at is None:
        return False
    if found[at].text == "(":
        end = closing(found, at)
        if end is None:
            return False
        at = end + 1
    begins = [token.upper for token in found[at : at + 2]]
    return (
        begins[:1] == ["AS"]
        and begins[1:] in (["SELECT"], ["WITH"], ["VALUES"])
        and not any(token.text == ";" and token.kind == "mark" for token in found)
    )


def _is_trigger(item: Attachment, found: Sequence[Token]) -> bool:
    at = _named(item, found, "TRIGGER")
    if at is None:
        return False
    words = [token.upper for token in found]
    if words[at] in TIMES:
        at += 2 if words[at : at + 2] == ["INSTEAD", "OF"] else 1
    if (
        at >= len(words)
        or words[at] not in OCCASIONS
        or "ON" not in words[at:]
        or "BEGIN" not in words
    ):
        return False
    on, begin = words.index("ON", at), words.index("BEGIN", at)
    if on + 1 >= len(found) or found[on + 1].text != item.table or begin < on or words[-1] != "END":
        return False
    return _statements_only(found[begin + 1 : -1])


def _statements_only(found: Sequence[Token]) -> bool:
    """True if each statement of a trigger's body is one that changes or reads rows."""
    starts = True
    for token in found:
        if starts and token.upper not in _BEGINS:
            return False
        starts = token.text == ";" and token.kind == "mark"
    return starts and bool(found)
