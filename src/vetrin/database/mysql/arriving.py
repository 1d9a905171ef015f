"""What SQL may do that comes from outside: from a site, a store, an archive or a dump.

It runs with the account of whoever brings it, so it is taken for a stranger's. A text has to be exactly one CREATE
of the kind and the name that it was announced with. It may not read or write files, speak of other databases,
change accounts or the server, or choose whose rights it has. A table's options are of those known to be harmless,
and nothing stands behind them. Sources: the servers' reference manuals, "Lexical Structure", "CREATE TABLE",
"CREATE TRIGGER", "CREATE VIEW", "CREATE PROCEDURE", "CREATE SEQUENCE".
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from ..contract import Attachment

_MODE = re.compile(r"[A-Z0-9_,]*")
_COLLATION = re.compile(r"\w*", re.ASCII)
_EVERYWHERE = frozenset({"information_schema", "performance_schema"})


class Token(NamedTuple):
    """``kind`` is word, name (in quotes), text, number or mark. ``text`` is a word as it stands, a name without its
    quotes, a mark; nothing of a text or a number. ``upper`` is the word in capitals, else nothing."""

    kind: str
    text: str
    upper: str = ""


class Unreadable(ValueError):
    """A text whose pieces cannot be told apart."""


_PIECE = re.compile(
    r"""
    (?P<space>\s+|--(?=[\s\x00-\x1f]|$)[^\n]*|\#[^\n]*)
  | (?P<opened>/\*M?!\d*)
  | (?P<closed>\*/)
  | (?P<comment>/\*.*?\*/)
  | (?P<back>`(?:[^`]|``)*`)
  | (?P<number>0[xX][0-9a-fA-F]+|\d+(?:\.\d*)?(?:[eE][-+]?\d+)?(?![\w$\x80-\U0010ffff])|\.\d+(?:[eE][-+]?\d+)?)
  | (?P<word>@{0,2}[\w$\x80-\U0010ffff]+)
  | (?P<mark>:=|<=>|<=|>=|<>|!=|\|\||&&|<<|>>|->>|->|[-+*/%()\[\]{},;.=<>!~^&|:?@])
    """,
    re.VERBOSE | re.DOTALL,
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
    ansi = bool(modes & {"ANSI_QUOTES", "ANSI", "ORACLE", "DB2", "MAXDB", "MSSQL", "POSTGRESQL"})
    escapes = "NO_BACKSLASH_ESCAPES" not in modes
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
            match = _PIECE.match(sql, at)
            if match is None:
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


# -- what no text may do -----------------------------------------------------------------------------------

# Words that are the server's own wherever they stand bare.
_NEVER = {"OUTFILE": "writes files", "DUMPFILE": "writes files", "LOAD_FILE": "reads files",
          "GRANT": "changes accounts", "REVOKE": "changes accounts", "SONAME": "loads a library",
          "KILL": "ends connections", "PURGE": "removes the server's logs"}  # fmt: skip
# And those that are so before certain others.
_BEFORE = {
    "LOAD": ({"DATA", "XML", "INDEX"}, "reads files"),
    "DATA": ({"DIRECTORY"}, "says where files lie"),
    "INDEX": ({"DIRECTORY"}, "says where files lie"),
    "INSTALL": ({"PLUGIN", "SONAME", "COMPONENT"}, "loads a library"),
    "UNINSTALL": ({"PLUGIN", "SONAME", "COMPONENT"}, "changes the server"),
    "RENAME": ({"USER"}, "changes accounts"),
    "RESET": ({"MASTER", "SLAVE", "REPLICA", "BINARY", "PERSIST", "QUERY"}, "changes the server"),
    "CHANGE": ({"MASTER", "REPLICATION"}, "changes the server"),
    "START": ({"SLAVE", "REPLICA", "ALL", "GROUP_REPLICATION"}, "changes the server"),
    "STOP": ({"SLAVE", "REPLICA", "ALL", "GROUP_REPLICATION"}, "changes the server"),
    "SET": ({"GLOBAL", "PERSIST", "PERSIST_ONLY", "PASSWORD", "ROLE"}, "changes the server or accounts"),
    "DEFAULT": ({"ROLE"}, "changes accounts"),
    "FLUSH": ({"TABLES", "TABLE", "PRIVILEGES", "LOGS", "HOSTS", "STATUS", "BINARY", "USER_RESOURCES", "LOCAL",
               "NO_WRITE_TO_BINLOG"}, "changes the server"),
    "CLONE": ({"LOCAL", "INSTANCE"}, "changes the server"),
    "BACKUP": ({"STAGE", "LOCK"}, "changes the server"),
}  # fmt: skip
_MADE = {"USER", "ROLE", "SERVER", "DATABASE", "SCHEMA", "LOGFILE", "TABLESPACE", "RESOURCE", "EVENT"}  # fmt: skip
_OF_THE_SERVER = re.compile(r"@@(?:GLOBAL|PERSIST\w*)$")
_STARTS = {";", "BEGIN", "THEN", "ELSE", "DO", "LOOP", "REPEAT", ":"}


def unfit(found: Sequence[Token], own: Collection[str] = ()) -> str:
    """What a text would do that none from outside may; empty where nothing. ``own`` are names of the database that it
    arrives in."""
    for at, token in enumerate(found):
        following = found[at + 1].upper if at + 1 < len(found) else ""
        called = at + 1 < len(found) and found[at + 1].text == "("
        if token.kind == "name" and called and token.text.upper() == "LOAD_FILE":
            return "it reads files"
        behind_dot = at > 0 and found[at - 1].text == "."
        if token.kind != "word" or behind_dot:
            continue
        word = token.upper
        if word in _NEVER:
            return f"it {_NEVER[word]}"
        if word in _BEFORE and following in _BEFORE[word][0]:
            return f"it {_BEFORE[word][1]}"
        if word in ("CREATE", "ALTER", "DROP"):
            kind = _kind_made(found[at + 1 :])
            if kind in _MADE:
                return f"it changes accounts, databases or the server ({word} {kind})"
        if _OF_THE_SERVER.match(word) and _is_set(found, at):
            return "it changes the server"
        if word == "SHUTDOWN" and _is_statement(found, at):
            return "it changes the server"
    foreign = {name for name in databases_of(found) if name.lower() not in _EVERYWHERE} - {*own}
    return f"it speaks of another database ({', '.join(sorted(foreign))})" if foreign else ""


def _kind_made(found: Sequence[Token]) -> str:
    """What a CREATE, ALTER or DROP is about."""
    for token in found[:3]:
        if token.upper not in ("OR", "REPLACE", "UNDO"):
            return token.upper
    return ""


def _is_set(found: Sequence[Token], at: int) -> bool:
    """True where a variable is given a value, not read: ``@@GLOBAL.name = …`` behind SET or a comma."""
    before = found[at - 1] if at else None
    return before is not None and (before.upper == "SET" or before.text == ",")


def _is_statement(found: Sequence[Token], at: int) -> bool:
    """True for a word that stands by itself, where no column or alias can be meant."""
    before = found[at - 1] if at else Token("mark", ";")
    following = found[at + 1] if at + 1 < len(found) else Token("mark", ";")
    named = before.text in (",", "=", "<", ">", "+") or before.upper in ("AS", "SELECT", "BY")
    return not named and (following.text == ";" or following.upper == "WAIT")


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
    return {chain[0] for _, chain in _named(found) if len(chain) > 1}


def _named(found: Sequence[Token]) -> Iterator[tuple[str, list[str]]]:
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


# -- tables ----------------------------------------------------------------------------------------------------

_ENGINES = {"innodb", "myisam", "aria", "memory", "heap", "csv", "archive", "blackhole", "mrg_myisam", "merge",
            "rocksdb", "tokudb", "columnstore", "ndb", "ndbcluster", "mroonga", "isam", "xtradb"}  # fmt: skip
_OPTIONS = {
    "AUTO_INCREMENT", "AVG_ROW_LENGTH", "CHARACTER SET", "CHARSET", "CHECKSUM", "TABLE_CHECKSUM", "COLLATE",
    "COMMENT", "COMPRESSION", "DELAY_KEY_WRITE", "ENCRYPTED", "ENCRYPTION", "ENCRYPTION_KEY_ID", "ENGINE",
    "IETF_QUOTES", "INSERT_METHOD", "KEY_BLOCK_SIZE", "MAX_ROWS", "MIN_ROWS", "PACK_KEYS", "PAGE_CHECKSUM",
    "PAGE_COMPRESSED", "PAGE_COMPRESSION_LEVEL", "ROW_FORMAT", "SEQUENCE", "STATS_AUTO_RECALC", "STATS_PERSISTENT",
    "STATS_SAMPLE_PAGES", "TRANSACTIONAL", "TYPE", "UNION", "AUTOEXTEND_SIZE", "SECONDARY_ENGINE",
}  # fmt: skip


def unfit_table(schema: str, name: str | None = None) -> str:
    """What forbids to lay out a table by its definition; empty where nothing. With ``name``, it has to be the one of
    that name."""
    try:
        found = tokens(schema)
    except Unreadable as error:
        return str(error)
    if found and found[-1].text == ";":
        found.pop()
    named = _after(found, ("CREATE", "TABLE"))
    if named is None or found[named].kind not in ("word", "name"):
        return "its definition is no CREATE TABLE"
    if name is not None and found[named].text != name:
        return f"its definition is that of {found[named].text}"
    end = _closing(found, named + 1)
    if end is None:
        return "its definition has no columns, or does not end"
    for token in found:
        if token.upper in ("SELECT", "CALL") or (token.kind == "mark" and token.text in ";:="):
            if token.text == "=":
                continue
            return "its definition does more than to define a table"
    return unfit(found) or _unfit_options(found[end + 1 :])


def _after(found: Sequence[Token], words: Sequence[str]) -> int | None:
    """Where a text goes on behind the words that it has to begin with."""
    begins = tuple(token.upper for token in found[: len(words)])
    return len(words) if begins == tuple(words) and len(found) > len(words) else None


def _closing(found: Sequence[Token], at: int) -> int | None:
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


def _unfit_options(found: Sequence[Token]) -> str:
    at = 0
    while at < len(found):
        word = found[at].upper or (found[at].kind == "name" and found[at].text.upper()) or ""
        if word in ("PARTITION", "WITH") or found[at].text == ",":
            if word == "PARTITION":
                return _unfit_partitions(found[at:])
            if word == "WITH":
                if [t.upper for t in found[at : at + 3]] != ["WITH", "SYSTEM", "VERSIONING"]:
                    return "its definition has an option that is not known"
                at += 3
                continue
            at += 1
            continue
        if word == "DEFAULT":
            at += 1
            word = found[at].upper if at < len(found) else ""
        if word == "CHARACTER" and at + 1 < len(found) and found[at + 1].upper == "SET":
            word, at = "CHARACTER SET", at + 1
        if word not in _OPTIONS:
            told = found[at].text if at < len(found) else ""
            return f"its definition has the option {told or 'at its end'}, which is not known to be harmless"
        at += 1
        if at < len(found) and found[at].text == "=":
            at += 1
        if at >= len(found):
            return f"its option {word} has no value"
        if word in ("ENGINE", "TYPE") and found[at].text.lower() not in _ENGINES:
            return f"its storage engine {found[at].text} is not known to be harmless"
        if found[at].text == "(":
            end = _closing(found, at)
            if word != "UNION" or end is None or any(t.text == "." for t in found[at:end]):
                return f"its option {word} has a list"
            at = end + 1
        elif found[at].kind == "mark":
            return f"its option {word} has no value"
        else:
            at += 1
    return ""


_OF_PARTITIONS = {
    "PARTITION", "PARTITIONS", "SUBPARTITION", "SUBPARTITIONS", "BY", "RANGE", "LIST", "HASH", "KEY", "LINEAR",
    "COLUMNS", "VALUES", "LESS", "THAN", "IN", "MAXVALUE", "ENGINE", "COMMENT", "MAX_ROWS", "MIN_ROWS", "ALGORITHM",
    "DEFAULT", "SYSTEM_TIME", "INTERVAL", "LIMIT", "CURRENT", "HISTORY", "STARTS", "AUTO", "STORAGE", "NODEGROUP",
    "TABLESPACE",
}  # fmt: skip


def _unfit_partitions(found: Sequence[Token]) -> str:
    """Behind the brackets that say how, and the words in them, nothing may stand."""
    depth = 0
    for at, token in enumerate(found):
        before = found[at - 1] if at else token
        earlier = found[at - 2].upper if at > 1 else ""
        if token.kind == "mark" and token.text in "()":
            depth += 1 if token.text == "(" else -1
        engine = before.upper == "ENGINE" or (earlier == "ENGINE" and before.text == "=")
        if engine and token.text != "=" and token.text.lower() not in _ENGINES:
            return f"the storage engine {token.text} of a partition is not known to be harmless"
        if depth or token.kind != "word" or token.upper in _OF_PARTITIONS or engine:
            continue
        if earlier != "INTERVAL":  # INTERVAL 1 WEEK
            return f"its partitions have the word {token.text}, which is not known to be harmless"
    return "" if not depth else "its partitions do not end"


# -- what hangs on tables ----------------------------------------------------------------------------------------

_TIMES, _OCCASIONS = ("BEFORE", "AFTER"), ("INSERT", "UPDATE", "DELETE")


def fit(item: Attachment, own: Collection[str] = ()) -> Attachment:
    """What hangs on a table as it may arrive: without an account of its own, and ``lost`` where it does what none
    may. ``own`` are names of the database that it arrives in."""
    if item.lost or not item.sql:
        return item
    if not _MODE.fullmatch(item.mode) and item.kind not in ("sequence",):
        return replace(item, lost="its SQL mode is none")
    if not _COLLATION.fullmatch(item.collation):
        return replace(item, lost="its collation is none")
    if item.kind == "sequence" and not re.fullmatch(r"-?\d+", item.mode):
        return replace(item, lost="what it gives next is no number")
    sql = without_definer(item.sql)
    try:
        found = tokens(sql, item.mode if item.kind in ("trigger", "routine") else "")
    except Unreadable as error:
        return replace(item, lost=str(error))
    return replace(item, sql=sql, lost=_unfit_shape(item, found) or unfit(found, own))


_DEFINER = re.compile(
    r"(\A\s*CREATE\s+(?:OR\s+REPLACE\s+)?(?:ALGORITHM\s*=\s*\w+\s+)?)DEFINER\s*=\s*"
    r"(?:`(?:[^`]|``)*`|'(?:[^'\\]|\\.|'')*'|\"[^\"]*\"|\w+(?:\(\))?)"
    r"(?:\s*@\s*(?:`(?:[^`]|``)*`|'(?:[^'\\]|\\.|'')*'|\"[^\"]*\"|[\w.%]+))?\s*",
    re.IGNORECASE,
)


def without_definer(sql: str) -> str:
    """A CREATE without the account that it is to belong to: it belongs to whoever brings it."""
    return _DEFINER.sub(r"\1", sql, count=1)


def _unfit_shape(item: Attachment, found: list[Token]) -> str:
    if found and found[-1].text == ";" and item.kind != "routine" and item.kind != "trigger":
        found.pop()
    if item.kind == "constraint":
        return "" if _is_foreign_key(item, found) else "it is no foreign key of that name"
    if item.kind == "default":
        return "" if _is_default(item, found) else "it is no default of that column"
    words = [token.upper for token in found[:12]]
    if not words or words[0] != "CREATE":
        return f"it is no {item.kind} of that name"
    at = 1
    if words[1:3] == ["OR", "REPLACE"]:
        at = 3
    kinds = {"routine": ("PROCEDURE", "FUNCTION")}.get(item.kind, (item.kind.upper(),))
    while at < len(words) and words[at] not in kinds:
        if words[at] == "AGGREGATE" and item.kind == "routine":
            at += 1
        elif words[at] == "ALGORITHM" or words[at : at + 2] == ["SQL", "SECURITY"]:
            at += 3
        else:
            return f"it is no {item.kind} of that name"
    at += 1
    if words[at : at + 3] == ["IF", "NOT", "EXISTS"]:
        at += 3
    if at >= len(found) or found[at].kind not in ("word", "name") or found[at].text != item.name:
        return f"it is no {item.kind} of that name"
    rest = found[at + 1 :]
    shapes = {
        "trigger": _is_trigger,
        "view": _is_view,
        "routine": _is_routine,
        "sequence": _is_sequence,
    }
    return "" if shapes[item.kind](item, rest) else f"it is no {item.kind} of that name"


def _is_trigger(item: Attachment, rest: Sequence[Token]) -> bool:
    words = [token.upper for token in rest[:7]]
    named = len(rest) > 7 and rest[3].kind in ("word", "name") and rest[3].text == item.table
    return (
        named
        and words[0] in _TIMES
        and words[1] in _OCCASIONS
        and words[2] == "ON"
        and words[4:7] == ["FOR", "EACH", "ROW"]
        and _one_statement(rest[7:])
    )


def _is_routine(item: Attachment, rest: Sequence[Token]) -> bool:
    end = _closing(rest, 0)
    return end is not None and _one_statement(rest[end + 1 :])


def _one_statement(found: Sequence[Token]) -> bool:
    """True if nothing stands behind the statement that a body is: semicolons are inside of it, or at its end."""
    depth, begun = 0, False
    for at, token in enumerate(found):
        if token.upper in ("BEGIN", "CASE", "IF", "LOOP", "REPEAT", "WHILE") and _opens(found, at):
            depth += 1
            begun = True
        elif token.upper == "END":
            depth -= 1
        elif token.text != ";" or token.kind != "mark" or at + 1 == len(found):
            continue
        elif depth <= 0 or found[at + 1].text == ";":
            # Two of them would end it for a client program that loads it from a file.
            return False
    return bool(found) or begun


def _opens(found: Sequence[Token], at: int) -> bool:
    """True where such a word begins a block that an END closes."""
    word, before = found[at].upper, found[at - 1].upper if at else ""
    following = found[at + 1] if at + 1 < len(found) else None
    if before == "END":
        return False  # END IF, END LOOP …
    if word in ("IF", "REPEAT") and following is not None and following.text == "(":
        # A function, unless it stands where a statement does.
        return not at or bool({before, found[at - 1].text} & (_STARTS | {"HANDLER"}))
    if word == "IF" and following is not None and following.upper in ("EXISTS", "NOT"):
        return before not in (
            "TABLE",
            "VIEW",
            "TRIGGER",
            "PROCEDURE",
            "FUNCTION",
            "INDEX",
            "COLUMN",
            "SEQUENCE",
        )
    return not (at and found[at - 1].text == ".")


def _is_view(item: Attachment, rest: Sequence[Token]) -> bool:
    at = 0
    if rest and rest[0].text == "(":
        end = _closing(rest, 0)
        if end is None:
            return False
        at = end + 1
    body = rest[at:]
    reads = len(body) > 1 and body[0].upper == "AS" and _begins_query(body[1:])
    return reads and not any(t.text == ";" and t.kind == "mark" for t in body)


def _begins_query(found: Sequence[Token]) -> bool:
    for token in found:
        if token.text != "(":
            return token.upper in ("SELECT", "WITH", "VALUES", "TABLE")
    return False


_OF_SEQUENCES = {"START", "WITH", "MINVALUE", "MAXVALUE", "INCREMENT", "BY", "CACHE", "NOCACHE", "CYCLE", "NOCYCLE",
                 "NO", "ENGINE", "COMMENT", "INNODB", "ARIA", "MYISAM", "AS", "BIGINT", "INT", "SMALLINT", "TINYINT",
                 "MEDIUMINT", "INTEGER", "UNSIGNED", "SIGNED", "BIGINTEGER"}  # fmt: skip


def _is_sequence(item: Attachment, rest: Sequence[Token]) -> bool:
    return all(
        token.kind in ("number", "text")
        or token.upper in _OF_SEQUENCES
        or (token.kind == "mark" and token.text in "=-")
        for token in rest
    )


def _is_foreign_key(item: Attachment, found: Sequence[Token]) -> bool:
    words = [token.upper for token in found]
    if len(found) < 8 or words[0] != "CONSTRAINT" or found[1].text != item.name:
        return False
    if words[2:4] != ["FOREIGN", "KEY"]:
        return False
    at = 4
    if found[at].kind in ("word", "name"):  # the name of its index
        at += 1
    end = _closing(found, at)
    if end is None or words[end + 1 : end + 2] != ["REFERENCES"]:
        return False
    to = _closing(found, end + 3)
    if to is None:
        return False
    allowed = {"ON", "DELETE", "UPDATE", "CASCADE", "SET", "NULL", "NO", "ACTION", "RESTRICT", "DEFAULT", "MATCH",
               "FULL", "PARTIAL", "SIMPLE"}  # fmt: skip
    return all(token.upper in allowed for token in found[to + 1 :])


def _is_default(item: Attachment, found: Sequence[Token]) -> bool:
    """``ALTER TABLE name ALTER [COLUMN] column SET DEFAULT …``, with no further clause."""
    words = [token.upper for token in found]
    if words[:2] != ["ALTER", "TABLE"] or len(found) < 8 or found[2].text != item.table:
        return False
    at = 4 + (words[4:5] == ["COLUMN"])
    if (
        words[3] != "ALTER"
        or found[at].text != item.name
        or words[at + 1 : at + 3] != ["SET", "DEFAULT"]
    ):
        return False
    depth = 0
    for token in found[at + 3 :]:
        if token.kind == "mark":
            depth += (token.text == "(") - (token.text == ")")
            if token.text == ";" or (token.text == "," and not depth) or depth < 0:
                return False
    return not depth


# -- what a program does, in a line ------------------------------------------------------------------------------


def doing(item: Attachment) -> str:
    """What a trigger, view or routine does, for a plan: when, what it writes and reads."""
    try:
        found = tokens(item.sql, item.mode if item.kind != "view" else "")
    except Unreadable:
        return ""
    writes: dict[str, None] = {}
    reads: dict[str, None] = {}
    for word, chain in _named(found):
        if word in ("FROM", "JOIN", "STRAIGHT_JOIN"):
            reads[chain[-1]] = None
        elif word in ("UPDATE", "TRUNCATE", "INSERT", "REPLACE"):
            writes[chain[-1]] = None
    said = []
    if item.kind == "trigger":
        occasion = next((t.text.lower() for t in found if t.upper in _OCCASIONS), "")
        time = next((t.text.lower() for t in found if t.upper in _TIMES), "")
        said.append(f"{time} each {occasion} on {item.table}")
        writes.pop(item.table, None) if occasion == "update" and item.table in writes else None
    if writes:
        said.append("writes " + ", ".join(writes))
    if any(name not in writes for name in reads):
        said.append("reads " + ", ".join(name for name in reads if name not in writes))
    if any(token.upper in ("PREPARE", "IMMEDIATE") for token in found):
        said.append("makes statements out of texts")
    return "; ".join(said)
