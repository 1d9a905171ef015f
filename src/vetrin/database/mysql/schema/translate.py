"""Schemas from one server for another: MariaDB, MySQL 5.7 and MySQL 8 in any direction.

The text is what ``SHOW CREATE TABLE`` prints. What the target does not know is replaced by its
nearest counterpart, with a note, or refused. Sources: the servers' reference manuals, chapters
"CREATE TABLE", "Character Sets and Collations" and "Comments" (``/*! … */``).
"""

from __future__ import annotations

import re

from msgspec import Struct
from msgspec.structs import replace

from ....errors import Unsuitable
from ...base import Adapted, Attachment, Facts
from .ddl_text import INTRODUCER, ONLY_MYSQL, QUOTED, SchemaText

_COLLATE = re.compile(r"(\bCOLLATE\s*=?\s*)(\w+)", re.IGNORECASE)
_CHARSET = re.compile(r"(\b(?:CHARSET|CHARACTER\s+SET)\s*=?\s*)(\w+)", re.IGNORECASE)
_ENGINE = re.compile(r"(\bENGINE=)(\w+)")
_ROW_FORMAT = re.compile(r"\s*\bROW_FORMAT=(\w+)")
_ROW_FORMATS = {"DEFAULT", "DYNAMIC", "FIXED", "COMPRESSED", "REDUNDANT", "COMPACT"}
# Column types that only one of the two products has.
_MARIADB_TYPES = re.compile(r"^  `(?:[^`]|``)*` (uuid|inet4|inet6|vector)\b", re.MULTILINE)
_MYSQL_TYPES = re.compile(r"^  `(?:[^`]|``)*` (vector)\b", re.MULTILINE)
_MODES = {
    "MariaDB": {"TIME_ROUND_FRACTIONAL", "SIMULTANEOUS_ASSIGNMENT", "EMPTY_STRING_IS_NULL",
                "IGNORE_BAD_TABLE_OPTIONS"},
    "MySQL": {"TIME_TRUNCATE_FRACTIONAL"},
}  # fmt: skip
_GONE_IN_8 = {"NO_AUTO_CREATE_USER", "NO_FIELD_OPTIONS", "NO_KEY_OPTIONS", "NO_TABLE_OPTIONS",
              "DB2", "MAXDB", "MSSQL", "MYSQL323", "MYSQL40", "ORACLE", "POSTGRESQL"}  # fmt: skip


_NAMED_CHECK = re.compile(r"^(  )CONSTRAINT `(?:[^`]|``)*` (?=CHECK \()", re.MULTILINE)
MARIADB_OPTIONS = re.compile(
    r"\s*\b(?:PAGE_CHECKSUM|TRANSACTIONAL|PAGE_COMPRESSED|PAGE_COMPRESSION_LEVEL|ENCRYPTED"
    r"|ENCRYPTION_KEY_ID|IETF_QUOTES|SEQUENCE)=\S+?(?=[\s;]|$)"
)


class Server(Struct, frozen=True):
    """What a target knows: names of collations and of storage engines in lower case."""

    product: str
    version: str
    collations: frozenset[str]
    engines: frozenset[str]

    @property
    def number(self) -> tuple[int, ...]:
        return tuple(int(part) for part in re.findall(r"\d+", self.version)[:3])


def adapt_schema(table: str, schema: str, source: Facts, target: Server) -> Adapted:
    """The schema for the target.

    Raises:
        Unsuitable: it has a type or a feature without a counterpart.
    """
    text = SchemaText(schema)
    lacking = source.product != target.product and what_lacks(
        table, schema, target.product, target.number
    )
    if lacking:
        raise Unsuitable(lacking)
    if (bare := without_places(schema)) != schema:
        text.sql = bare
        text.note("its files lie where the server keeps those of others")
    _comments(text, source, target)
    _words(text, source, target)
    _collations(text, target)
    _engine(table, text, target)
    return Adapted(text.sql, tuple(text.notes))


def what_lacks(table: str, schema: str, product: str, number: tuple[int, ...] = ()) -> str:
    """What a definition of the other product has and no ``product`` can express; empty where nothing.

    ``number`` is the version of the server; none is the newest.
    """
    bare = QUOTED.sub("``", schema)
    if product == "MySQL":
        found = _MARIADB_TYPES.search(schema)
        if found:
            return f"{table} has a column of the type {found[1]}, which MySQL lacks"
        if re.search(r"\bSYSTEM VERSIONING\b", bare):
            return f"{table} is system-versioned, which MySQL lacks"
        if re.search(r"\bWITHOUT OVERLAPS\b|\bPERIOD FOR\b", bare):
            return f"{table} has an application-time period, which MySQL lacks"
        if re.search(r" DEFAULT nextval\(", bare):
            return f"{table} takes its numbers from a sequence, which MySQL lacks"
        return ""
    found = _MYSQL_TYPES.search(schema)
    if found and number and number < (11, 7):
        return f"{table} has a column of the type {found[1]}, which this server lacks"
    if re.search(r"^  (?:UNIQUE )?KEY `` \((?:``(?:\(\d+\))?(?: DESC)?,)*\(", bare, re.MULTILINE):
        return f"{table} has an index over an expression, which MariaDB lacks"
    return ""


_PLACES = re.compile(
    r"\s*(?:/\*!\d+ )?\b(?:(?:DATA|INDEX)\s+DIRECTORY\s*=?\s*'(?:[^'\\]|\\.|'')*'|TABLESPACE\s*=?\s*`(?:[^`]|``)*`)"
    r"(?: STORAGE (?:DISK|MEMORY))?(?: \*/)?",
    re.IGNORECASE,
)


def without_places(schema: str) -> str:
    """A definition that does not say where files lie, which is the server's affair."""
    bare = QUOTED.sub("", schema)
    if re.search(r"\b(?:DATA|INDEX)\s+DIRECTORY\b|\bTABLESPACE\b", bare, re.IGNORECASE):
        return _PLACES.sub("", schema)
    return schema


_IDLE_CHECK = re.compile(
    r",?\n  (?:CONSTRAINT `(?:[^`]|``)*` )?CHECK \([^\n]*\) (?:/\*!80016 )?NOT ENFORCED\b(?: \*/)?"
)
_PARSER = re.compile(r" (?:/\*!50[17]00 )?WITH PARSER `(?:[^`]|``)*`(?: \*/)?")
_VERSIONED = re.compile(r"/\*!(\d{5,6}) (.*?) ?\*/", re.DOTALL)


def _comments(text: SchemaText, source: Facts, target: Server) -> None:
    """Conditional comments: each product counts versions in its own way."""
    if source.product == target.product:
        return

    def settle(match: re.Match[str]) -> str:
        inner = match[2]
        if "DEFAULT ENCRYPTION" in inner or re.match(r"(?:INVISIBLE|VISIBLE)\b", inner):
            return ""
        if "GENERATED" in inner or "SRID" in inner:
            return "" if "SRID" in inner else inner
        return match[0]

    if target.product == "MariaDB":
        # Rows that are there may break what was never enforced.
        text.sql, idle = _IDLE_CHECK.subn("", text.sql)
        if idle:
            text.note("CHECK constraints that are not enforced stay behind")
        text.sql, parsers = _PARSER.subn("", text.sql)
        if parsers:
            text.note("full-text indexes are made by the server's own parser")
    # A comment may hold quoted names, so it is looked for in the whole text.
    text.sql = _VERSIONED.sub(settle, text.sql)


# A type that MySQL gives no literal default, and what its defaults may be without brackets.
_LARGE = re.compile(
    r"(?:tiny|medium|long)?(?:text|blob)$|json$|geometry$|.*(?:point|string|polygon|collection)$"
)
_LITERAL = re.compile(r"'|-?\d|(?:NULL|TRUE|FALSE)$|CURRENT_TIMESTAMP|[bx]'", re.IGNORECASE)


def needs_brackets(kind: str, value: str) -> bool:
    """Whether MySQL takes a default of this type of column as an expression only; MariaDB takes it so, too."""
    if value.upper() == "NULL" or value.startswith("("):
        return False
    return bool(_LARGE.match(kind)) or not _LITERAL.match(value)


def _default_of_mysql(text: SchemaText, kind: str, value: str, target: Server) -> str | None:
    brackets = needs_brackets(kind, value)
    if not brackets and not value.startswith("("):
        return value
    if target.number < (8, 0, 13):
        text.note("defaults of texts, and defaults that are expressions, are left out")
        return None
    return f"({value})" if brackets else value


def _default_of_mariadb(text: SchemaText, value: str) -> str | None:
    strange = ONLY_MYSQL.search(value)
    if strange:
        text.note(f"defaults with {strange[1]}() are left out")
        return None
    # MariaDB loses the quotes inside of a text that names its character set.
    plain = INTRODUCER.sub("", value)
    return plain[1:-1] if QUOTED.fullmatch(plain[1:-1]) else plain


_HASHED = re.compile(r"^  UNIQUE KEY (`(?:[^`]|``)*`) \((.*)\) USING HASH", re.MULTILINE)
_PREFIX = 191  # characters that an index takes of a text, in any character set


def _unique_texts(text: SchemaText) -> None:
    """MariaDB keeps whole texts unique by a digest; MySQL has no such index."""
    if text.in_memory:
        return
    kinds = dict(re.findall(r"^  (`(?:[^`]|``)*`) (\w+)", text.sql, re.MULTILINE))

    def part(name: str, size: str, order: str) -> str:
        long = re.search(r"text|blob|char|binary", kinds.get(name, ""))
        return name + (size or (f"({_PREFIX})" if long else "")) + order

    def settle(match: re.Match[str]) -> str:
        columns = re.findall(r"(`(?:[^`]|``)*`)(\(\d+\))?( DESC)?", match[2])
        text.note(f"the unique index {match[1]} over long texts becomes an ordinary one")
        return f"  KEY {match[1]} ({','.join(part(*column) for column in columns)})"

    text.sql = _HASHED.sub(settle, text.sql)


def _words(text: SchemaText, source: Facts, target: Server) -> None:
    if target.product == "MySQL":
        # A CHECK's name is unique in a whole MySQL database, and the live table has it already.
        text.sql, named = _NAMED_CHECK.subn(r"\1", text.sql)
        if named:
            text.note("CHECK constraints get names of the server's own")
        # Options of MariaDB's storage engines, and what its columns and indexes may say.
        text.put(MARIADB_OPTIONS, "")
        text.put(re.compile(r"\s+IGNORED\b"), "")
        if text.put(re.compile(r"(?<=\S) (?:/\*M?!\d+ )?COMPRESSED\s*(?:\*/)?(?=[ ,\n])"), ""):
            text.note("compressed columns arrive uncompressed")
        text.put(re.compile(r"\bPERSISTENT\b"), "STORED")
        text.put(re.compile(r"\bcurrent_timestamp\((\d*)\)"),
                 lambda m: f"CURRENT_TIMESTAMP({m[1]})" if m[1] else "CURRENT_TIMESTAMP")  # fmt: skip
        text.put_defaults(lambda kind, value: _default_of_mysql(text, kind, value, target))
        _unique_texts(text)
    elif source.product != target.product:
        text.put(re.compile(r"\s+(?:INVISIBLE|VISIBLE)\b(?=[,\s)])"), "")
        text.put(re.compile(r"\b(STORED|VIRTUAL)(?: NOT)? NULL\b"), r"\1")
        text.put(re.compile(r"\bgeomcollection\b"), "geometrycollection")
        text.put(re.compile(r"\s+SRID \d+\b"), "")
        text.put(re.compile(r"\s+SECONDARY_ENGINE=\S+|\s+AUTOEXTEND_SIZE=\S+"), "")
        text.put_defaults(lambda _, value: _default_of_mariadb(text, value))


def _counterpart(collation: str, target: Server) -> str:
    """The nearest collation that the target knows."""
    charset, _, rest = collation.partition("_")
    charsets = [charset]
    if charset in ("utf8mb3", "utf8"):
        charsets.append("utf8" if charset == "utf8mb3" else "utf8mb3")
    wanted = [f"{one}_{rest}" for one in charsets]
    exact = rest.endswith(("_bin", "as_cs")) or rest == "bin"
    for one in charsets:
        if exact:
            wanted += [f"{one}_0900_as_cs", f"{one}_bin"]
        elif "0900" in rest or "uca1400" in rest:
            wanted += [f"{one}_0900_ai_ci", f"{one}_uca1400_ai_ci", f"{one}_unicode_520_ci"]
        wanted += [f"{one}_unicode_ci", f"{one}_general_ci"]
    return next((name for name in wanted if name in target.collations), "")


def _collations(text: SchemaText, target: Server) -> None:
    def settle(match: re.Match[str]) -> str:
        name = match[2].lower()
        if name in target.collations:
            return match[0]
        other = _counterpart(name, target)
        if not other:
            raise Unsuitable(
                f"the collation {name} has no counterpart on {target.product} {target.version}"
            )
        text.note(f"collation {name} becomes {other}")
        return match[1] + other

    text.put(_COLLATE, settle)
    known = {name.partition("_")[0] for name in target.collations}

    def charset(match: re.Match[str]) -> str:
        name = match[2].lower()
        other = {"utf8mb3": "utf8", "utf8": "utf8mb3"}.get(name)
        return match[1] + other if name not in known and other in known else match[0]

    text.put(_CHARSET, charset)


def _engine(table: str, text: SchemaText, target: Server) -> None:
    def settle(match: re.Match[str]) -> str:
        if match[2].lower() in target.engines:
            return match[0]
        text.note(f"storage engine {match[2]} becomes InnoDB")
        return match[1] + "InnoDB"

    text.put(_ENGINE, settle)
    bare = QUOTED.sub("", text.sql)
    innodb = "ENGINE=InnoDB" in bare
    known = _ROW_FORMATS | ({"PAGE"} if "ENGINE=Aria" in bare else set())

    def row_format(match: re.Match[str]) -> str:
        name = match[1].upper()
        if name in known and not (innodb and name == "FIXED"):
            return match[0]
        text.note(f"row format {name} becomes the server's own")
        return ""

    text.put(_ROW_FORMAT, row_format)


def adapt_attachment(item: Attachment, source: Facts, target: Server) -> Attachment:
    """A trigger, view or constraint for the target: SQL modes and collations that it knows."""
    text = SchemaText(item.sql)
    if item.kind != "view":
        _collations(text, target)
    modes = [mode for mode in item.mode.split(",") if mode]
    unknown = _MODES["MySQL" if target.product == "MariaDB" else "MariaDB"]
    if target.product == "MySQL" and target.number >= (8,):
        unknown = unknown | _GONE_IN_8
    kept = ",".join(mode for mode in modes if mode not in unknown)
    collation, lost = item.collation, item.lost
    if collation and collation.lower() not in target.collations:
        collation = _counterpart(collation.lower(), target)
    if item.sql.startswith("CREATE AGGREGATE ") and target.product != "MariaDB":
        lost = f"{target.product} has no aggregate functions of one's own"
    if item.kind in ("sequence", "default"):
        kept = item.mode
        if target.product != "MariaDB":
            lost = f"{target.product} has no sequences"
    return replace(item, sql=text.sql, mode=kept, collation=collation, lost=lost)
