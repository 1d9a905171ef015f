"""CREATE TABLE as people and programs write it, taken apart and written anew as SHOW CREATE TABLE does.

Also the ALTER TABLE statements by which web consoles bring keys, numbering and foreign keys afterwards. Source:
the servers' reference manuals, "CREATE TABLE" and "ALTER TABLE".
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from ....errors import DatabaseError
from ...base import Attachment, Column, Table
from ...statements import WORD
from ..columns import quote, read_column
from ..dump.literal_parser import unescaped

_NAME = rf"(?:`(?:[^`]|``)+`|\"(?:[^\"]|\"\")+\"|{WORD}+)"
_QUALIFIED = rf"(?:{_NAME}\s*\.\s*)?({_NAME})"
_HEAD = re.compile(
    rf"\s*CREATE\s+(?:OR\s+REPLACE\s+)?(TEMPORARY\s+)?TABLE\s+(?:IF\s+NOT\s+EXISTS\s+)?{_QUALIFIED}\s*\(",
    re.IGNORECASE,
)
_ALTER = re.compile(
    rf"\s*ALTER\s+(?:IGNORE\s+)?TABLE\s+(?:ONLY\s+)?{_QUALIFIED}\s+(.*)$", re.I | re.S
)
_COLUMN = re.compile(rf"({_NAME})\s+(\w+)(\s*\((?:[^()']|'(?:[^'\\]|\\.|'')*')*\))?(.*)$", re.S)
_PARTS = re.compile(
    r"'(?:[^'\\]|\\.|'')*'|\"(?:[^\"\\]|\\.|\"\")*\"|`(?:[^`]|``)*`|[(),]|[^'\"`(),]+", re.S
)
_KEY = re.compile(
    r"(CONSTRAINT\b|PRIMARY\s+KEY|UNIQUE\b|FULLTEXT\b|SPATIAL\b|KEY\b|INDEX\b|FOREIGN\s+KEY|CHECK\b|PERIOD\b|VECTOR\b)",
    re.I,
)
_FOREIGN = re.compile(rf"(?:CONSTRAINT\s+({_NAME})?\s*)?FOREIGN\s+KEY", re.I)
_CHARSET = re.compile(r"\b(?:CHARACTER\s+SET|CHARSET)\s*=?\s*'?(\w+)", re.I)
_COLLATE = re.compile(r"\bCOLLATE\s*=?\s*'?(\w+)", re.I)
_GENERATED = re.compile(r"\b(?:GENERATED\s+ALWAYS\s+)?AS\s*\(", re.I)
_DEFAULT = re.compile(r"\bDEFAULT\s+('(?:[^'\\]|\\.|'')*'|[-\w.]+)", re.I)
_ENGINE = re.compile(r"\b(?:ENGINE|TYPE)\s*=?\s*(\w+)", re.I)
_NUMBER = re.compile(r"\bAUTO_INCREMENT\s*=?\s*(\d+)", re.I)
_LABEL = re.compile(rb"'((?:[^'\\]|\\.|'')*)'", re.S)
_TEXTS = {"char", "varchar", "tinytext", "text", "mediumtext", "longtext", "enum", "set", "json"}
_SAME = {"integer": "int", "int4": "int", "int8": "bigint", "bool": "tinyint", "boolean": "tinyint",
         "dec": "decimal", "numeric": "decimal", "real": "double", "character": "char"}  # fmt: skip


@dataclass
class Field:
    """One column of a definition: ``text`` is all of it behind the name. ``charset`` is that of its values;
    empty for what is no text."""

    name: str
    kind: str
    whole: str
    text: str
    charset: str = ""
    generated: bool = False
    default: bytes | None = None

    @property
    def labels(self) -> list[bytes]:
        """Those of an ENUM or SET, in UTF-8."""
        return [unescaped(label) for label in _LABEL.findall(self.whole.encode())]


@dataclass
class Definition:
    """A table as it is defined: columns, lines of keys and checks, and the options at the end."""

    name: str
    fields: list[Field]
    lines: list[str] = field(default_factory=list)
    options: str = ""
    constraints: list[Attachment] = field(default_factory=list)

    @property
    def columns(self) -> tuple[Column, ...]:
        return tuple(read_column(f.name, f.kind, f.whole) for f in self.fields if not f.generated)

    @property
    def key(self) -> tuple[str, ...]:
        for line in self.lines:
            if re.match(r"(?:CONSTRAINT\s+\S*\s*)?PRIMARY\s+KEY", line, re.I):
                return _key_columns(line)
        return ()

    @property
    def fixed(self) -> frozenset[str]:
        unique = [
            line for line in self.lines if re.match(r"(?:CONSTRAINT\s+\S*\s*)?UNIQUE", line, re.I)
        ]
        return frozenset([*self.key, *(name for line in unique for name in _key_columns(line))])

    @property
    def consistent(self) -> bool:
        match = _ENGINE.search(self.options)
        return match is None or match[1].lower() == "innodb"

    def sql(self) -> str:
        """The definition as a server prints it."""
        lines = [f"  {quote(f.name)} {f.text}" for f in self.fields] + [
            f"  {x}" for x in self.lines
        ]
        options = f" {self.options}" if self.options else ""
        return f"CREATE TABLE {quote(self.name)} (\n" + ",\n".join(lines) + f"\n){options}"

    def table(self, rows: int, size: int, *, ordered: bool = True) -> Table:
        return Table(
            name=self.name,
            columns=self.columns,
            key=self.key,
            fixed=self.fixed,
            rows=rows,
            size=size,
            consistent=ordered and self.consistent,
        )


def read_definition(sql: str) -> Definition | None:
    """A CREATE TABLE statement; None for a temporary table, or one that is made of another one.

    Raises:
        DatabaseError: it cannot be understood.
    """
    head = _HEAD.match(sql)
    if head is None or head[1]:
        return None
    name = plain(head[2])
    inside, rest = _body(sql[head.end() - 1 :], name)
    fields: list[Field] = []
    lines: list[str] = []
    constraints: list[Attachment] = []
    options = " ".join(rest.split())
    charset = _charset_of(options) or "utf8mb4"
    for item in _items(inside):
        if _KEY.match(item):
            _add_line(name, item, lines, constraints)
        else:
            found = _field(item, charset, name)
            # A key that is written with its column.
            for words, line in (
                (r"\bPRIMARY\s+KEY\b", "PRIMARY KEY ({})"),
                (r"\bUNIQUE(?:\s+KEY)?\b", "UNIQUE KEY {0} ({0})"),
            ):
                short = re.sub(words, "", _bare(found.text), flags=re.I)
                if short != _bare(found.text):
                    found.text = re.sub(rf"\s*{words}", "", found.text, count=1, flags=re.I)
                    lines.append(line.format(quote(found.name)))
            fields.append(found)
    if not fields:
        raise DatabaseError(f"{name}: its definition names no column")
    return Definition(
        name=name, fields=fields, lines=lines, options=options, constraints=constraints
    )


def altered_table(sql: str) -> str | None:
    """The table that an ALTER TABLE statement is about."""
    match = _ALTER.match(sql)
    return plain(match[1]) if match else None


def alter(definition: Definition, sql: str) -> None:
    """Bring what an ALTER TABLE statement of a dump adds into a definition; what else it does is passed over."""
    match = _ALTER.match(sql)
    if match is None:
        return
    for clause in _items(match[2]):
        word, _, rest = clause.partition(" ")
        rest = rest.strip()
        if word.upper() == "ADD":
            if _KEY.match(rest):
                _add_line(definition.name, rest, definition.lines, definition.constraints)
        elif word.upper() in ("MODIFY", "CHANGE"):
            rest = re.sub(r"^COLUMN\s+", "", rest, flags=re.I)
            if word.upper() == "CHANGE":
                rest = re.sub(rf"^{_NAME}\s+", "", rest)
            number = _NUMBER.search(rest)
            charset = _charset_of(definition.options) or "utf8mb4"
            found = _field(rest, charset, definition.name)
            for at, known in enumerate(definition.fields):
                if known.name == found.name:
                    definition.fields[at] = found
            if number:
                _set_number(definition, number[1])
        elif number := _NUMBER.match(clause):
            _set_number(definition, number[1])


def _set_number(definition: Definition, number: str) -> None:
    options = _NUMBER.sub("", definition.options).strip()
    definition.options = " ".join(f"{options} AUTO_INCREMENT={number}".split())


def plain(name: str) -> str:
    """A name without its quotes."""
    if name[:1] in '`"':
        mark = name[0]
        return name[1:-1].replace(mark * 2, mark)
    return name


def _body(text: str, name: str) -> tuple[str, str]:
    """What is inside the brackets that a text begins with, and what follows them."""
    depth = at = 0
    for match in _PARTS.finditer(text):
        if match[0] == "(":
            depth += 1
        elif match[0] == ")":
            depth -= 1
            if not depth:
                at = match.end()
                return text[1 : at - 1], text[at:].strip().rstrip(";").strip()
    raise DatabaseError(f"{name}: its definition does not end")


def _items(text: str) -> Iterator[str]:
    """What stands between commas that are in no brackets, with each gap as one space."""
    depth = 0
    parts: list[str] = []
    for match in _PARTS.finditer(text):
        part = match[0]
        depth += (part == "(") - (part == ")")
        if part == "," and not depth:
            yield "".join(parts).strip()
            parts = []
        elif part[0] in "'\"`":
            parts.append(part)
        else:
            parts.append(re.sub(r"\s+", " ", part))
    last = "".join(parts).strip()
    if last:
        yield last


def _field(item: str, charset: str, table: str) -> Field:
    match = _COLUMN.match(item)
    if match is None:
        raise DatabaseError(f"{table}: its definition has {item[:60]!r}, which is no column")
    name, word, size, rest = plain(match[1]), match[2], match[3] or "", match[4]
    kind = _SAME.get(word.lower(), word.lower())
    if word.lower() == "double" and rest.lower().startswith(" precision"):
        rest = rest[10:]
    whole = f"{word.lower()}{size.strip()}"
    for more in ("unsigned", "zerofill"):
        if re.search(rf"\b{more}\b", rest, re.I):
            whole += f" {more}"
    bare = _bare(rest)
    own = _charset_of(bare) if kind in _TEXTS else ""
    if kind in ("char", "varchar") and re.search(r"\bBINARY\b", bare, re.I) and own == "binary":
        own = ""
    found = "utf8mb4" if kind == "json" else (own or charset) if kind in _TEXTS else ""
    default = _DEFAULT.search(rest)
    value = (
        default[1] if default and default[1].upper() not in ("NULL", "CURRENT_TIMESTAMP") else None
    )
    return Field(
        name=name,
        kind=kind,
        whole=whole,
        text=f"{word}{size}{rest}".strip(),
        charset=found,
        generated=bool(_GENERATED.search(bare)),
        default=None if value is None else value.strip("'").encode(),
    )


def _bare(text: str) -> str:
    """A text without what is in quotes."""
    return re.sub(r"'(?:[^'\\]|\\.|'')*'|\"(?:[^\"\\]|\\.|\"\")*\"", "''", text)


def _charset_of(text: str) -> str:
    match = _CHARSET.search(text)
    if match:
        return match[1].lower()
    match = _COLLATE.search(text)
    return match[1].lower().split("_")[0] if match else ""


def _add_line(table: str, item: str, lines: list[str], constraints: list[Attachment]) -> None:
    foreign = _FOREIGN.match(item)
    if foreign is None:
        # Columns of keys are written in quotes, as a server does.
        lines.append(item)
        return
    name = plain(foreign[1]) if foreign[1] else f"{table}_fk_{len(constraints) + 1}"
    text = (
        item if foreign[1] else f"CONSTRAINT {quote(name)} {item[item.upper().index('FOREIGN') :]}"
    )
    constraints.append(Attachment("constraint", name, table, text))


def _key_columns(line: str) -> tuple[str, ...]:
    inside, _ = _body(line[line.index("(") :], line)
    found = []
    for item in _items(inside):
        match = re.match(_NAME, item)
        if match:
            found.append(plain(match[0]))
    return tuple(found)
