"""What SQL may do that comes from outside: from a site, a store, an archive or a dump.

It runs with the account of whoever brings it, so it is taken for a stranger's. A text has to be exactly one CREATE
of the kind and the name that it was announced with. It may not read or write files, speak of other databases,
change accounts or the server, or choose whose rights it has. A table's options are of those known to be harmless,
and nothing stands behind them. Sources: the servers' reference manuals, "Lexical Structure", "CREATE TABLE",
"CREATE TRIGGER", "CREATE VIEW", "CREATE PROCEDURE", "CREATE SEQUENCE".
"""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence

from msgspec.structs import replace

from ..base import Attachment
from ..statements import OCCASIONS, Token, Unreadable, after, closing, databases_of, tokens

_MODE = re.compile(r"[A-Z0-9_,]*")
_COLLATION = re.compile(r"\w*", re.ASCII)
_EVERYWHERE = frozenset({"information_schema", "performance_schema"})


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
    "RESET": ({"MASTER", "SLAVE", "REPLICA", "BINARY", "PERSIST"}, "changes the server"),
    "CHANGE": ({"MASTER", "REPLICATION"}, "changes the server"),
    "START": ({"SLAVE", "REPLICA", "ALL", "GROUP_REPLICATION"}, "changes the server"),
    "STOP": ({"SLAVE", "REPLICA", "ALL", "GROUP_REPLICATION"}, "changes the server"),
    "SET": ({"GLOBAL", "PERSIST", "PERSIST_ONLY", "PASSWORD", "ROLE"}, "changes the server or accounts"),
    "DEFAULT": ({"ROLE"}, "changes accounts"),
    "FLUSH": ({"PRIVILEGES"}, "changes accounts"),
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
    named = after(found, ("CREATE", "TABLE"))
    if named is None or found[named].kind not in ("word", "name"):
        return "its definition is no CREATE TABLE"
    if name is not None and found[named].text != name:
        return f"its definition is that of {found[named].text}"
    end = closing(found, named + 1)
    if end is None:
        return "its definition has no columns, or does not end"
    for token in found:
        if token.upper in ("SELECT", "CALL") or (token.kind == "mark" and token.text in ";:="):
            if token.text == "=":
                continue
            return "its definition does more than to define a table"
    return unfit(found) or _unfit_options(found[end + 1 :])


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
            end = closing(found, at)
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
        and words[0] in ("BEFORE", "AFTER")
        and words[1] in OCCASIONS
        and words[2] == "ON"
        and words[4:7] == ["FOR", "EACH", "ROW"]
        and _one_statement(rest[7:])
    )


def _is_routine(item: Attachment, rest: Sequence[Token]) -> bool:
    end = closing(rest, 0)
    return end is not None and _one_statement(rest[end + 1 :])


def _one_statement(found: Sequence[Token]) -> bool:
    """True if nothing stands behind the statement that a body is: semicolons are inside of it, or at its end."""
    depth, begun = 0, False
    for at, token in enumerate(found):
        if token.upper in ("BEGIN", "CASE", "IF", "LOOP", "REPEAT", "WHILE", "FOR") and _opens(
            found, at
        ):
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
    if word == "FOR":  # FOR name IN …; not FOR UPDATE, CURSOR FOR
        return at + 2 < len(found) and found[at + 2].upper == "IN"
    if word in ("IF", "REPEAT") and following is not None and following.text == "(":
        # As a function it has several arguments, and stands where no statement does.
        starts = not at or {before, found[at - 1].text} & (_STARTS | {"HANDLER", "ATOMIC"})
        return bool(starts) or not _has_several(found, at + 1)
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


def _has_several(found: Sequence[Token], at: int) -> bool:
    """True where a bracket holds more than one thing."""
    depth = 0
    for token in found[at:]:
        if token.kind != "mark":
            continue
        depth += (token.text == "(") - (token.text == ")")
        if token.text == "," and depth == 1:
            return True
        if not depth:
            return False
    return False


def _is_view(item: Attachment, rest: Sequence[Token]) -> bool:
    at = 0
    if rest and rest[0].text == "(":
        end = closing(rest, 0)
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
    end = closing(found, at)
    if end is None or words[end + 1 : end + 2] != ["REFERENCES"]:
        return False
    to = closing(found, end + 3)
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
