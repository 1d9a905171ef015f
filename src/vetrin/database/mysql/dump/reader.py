"""Reading an SQL dump as a stream, without a server.

For what MariaDB's and MySQL's dump programs and database web consoles write: INSERT statements of one row or
many, with and without column lists, every kind of literal, conditional comments, delimiters, triggers, views,
several databases. Rows are taken a chunk at a time; one that is not as usual is read value by value. Memory holds
a few megabytes and the longest value.
"""

from __future__ import annotations

import io
import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Literal

from msgspec.structs import replace

from ....errors import DatabaseError
from ...base import Attachment
from ...batch import Batch, Cell
from ..backslashes import Doubling
from ..charsets import Between, between, codec_of
from ..columns import quote
from ..schema.ddl_parser import Definition, alter, altered_table, plain, read_definition
from ..sequences import CREATE as CREATE_SEQUENCE
from ..sequences import GIVES_NEXT, sequence, set_default
from .insert_rows import CHUNK, Shape, number_as_bits
from .literal_parser import introduced, unescaped, value_of

_MORE = 1 << 20
_STATEMENT = 64 << 20  # bytes of one that brings no rows
_PIECE = (
    16 << 20
)  # bytes of one text, name or comment in it, which is searched again whenever more comes
_VALUE = 1 << 30  # bytes; a server's packets hold no more
_BATCH = 1 << 20

_SPACE = re.compile(
    rb"(?:\s+|--[ \t][^\n]*(?:\n|\Z)|--\n|\#[^\n]*(?:\n|\Z)|/\*(?![!M])(?:[^*]|\*(?!/))*\*/)+"
)
_OPEN = re.compile(rb"(?:--|\#)[^\n]*\Z|/\*(?![!M])(?:[^*]|\*(?!/))*\Z|-\Z|/\Z")
_INSERT = re.compile(
    rb"(?:INSERT|REPLACE)\s+(?:LOW_PRIORITY\s+|DELAYED\s+|HIGH_PRIORITY\s+|IGNORE\s+)*(?:INTO\s+)?"
    rb"((?:`(?:[^`]|``)+`|[^\s`(.]+)(?:\s*\.\s*(?:`(?:[^`]|``)+`|[^\s`(.]+))?)\s*"
    rb"(\((?:[^()`]|`(?:[^`]|``)*`)*\))?\s*VALUES?\s*(?=\()",
    re.IGNORECASE,
)
_STARTS_INSERT = re.compile(rb"(?:INSERT|REPLACE)\b", re.IGNORECASE)
_REST = (
    rb"|`[^`]*+`|--[ \t\n][^\n]*+|\#[^\n]*+|/\*(?:[^*]|\*(?!/))*+\*/"
    rb"|[^'\"`\-#/;$]++|."
)
# A piece of a statement: a text, a comment, what stands between them; by whether a backslash escapes.
_PIECES = {
    True: re.compile(rb"'(?:[^'\\]++|\\.|'')*+'|\"(?:[^\"\\]++|\\.|\"\")*+\"" + _REST, re.DOTALL),
    False: re.compile(rb"'(?:[^']++|'')*+'|\"(?:[^\"]++|\"\")*+\"" + _REST, re.DOTALL),
}
_CONDITIONAL = re.compile(r"/\*(M?)!(\d*)\s?((?:[^*]|\*(?!/))*)\*/")
_MYSQLS_OWN = range(50700, 100000)  # versions that MariaDB passes over
_QUALIFIED = re.compile(r"(?:(`(?:[^`]|``)+`|[^\s`.]+)\s*\.\s*)?(`(?:[^`]|``)+`|[^\s`.]+)")
_VIEW = re.compile(
    r"CREATE\b(?:(?!\bAS\b).)*?\bVIEW\s+(?:IF\s+NOT\s+EXISTS\s+)?((?:`(?:[^`]|``)+`|[^\s`(.]+)(?:\s*\.\s*(?:`(?:[^`]|``)+`|[^\s`(.]+))?)\s*(.*)$",
    re.IGNORECASE | re.DOTALL,
)
_HOW_VIEWED = re.compile(r"ALGORITHM\s*=\s*\w+|SQL\s+SECURITY\s+\w+", re.IGNORECASE)
_TRIGGER = re.compile(
    r"CREATE\b.*?\bTRIGGER\s+(?:IF\s+NOT\s+EXISTS\s+)?(\S+)\s+(BEFORE|AFTER)\s+(INSERT|UPDATE|DELETE)\s+ON\s+"
    r"((?:`(?:[^`]|``)+`|[^\s`.]+)(?:\s*\.\s*(?:`(?:[^`]|``)+`|[^\s`.]+))?)\s+FOR\s+EACH\s+ROW\s+(.*)$",
    re.IGNORECASE | re.DOTALL,
)
_DROP = re.compile(r"DROP\s+(TABLE|VIEW)\s+(?:IF\s+EXISTS\s+)?(.*)$", re.IGNORECASE | re.DOTALL)
_USE = re.compile(r"USE\s+(\S+)\s*$", re.IGNORECASE)
_NAMES = re.compile(r"SET\s+(?:NAMES\s+|CHARACTER\s+SET\s+)'?(\w+)", re.IGNORECASE)
# A variable that keeps the mode; the mode as a text; the mode as a variable kept it.
_MODE = re.compile(
    r"(@\w+)\s*:?=\s*@@(?:SESSION\.)?SQL_MODE\b|\bSQL_MODE\s*=\s*(?:'([^']*)'|\"([^\"]*)\"|(@\w+))",
    re.IGNORECASE,
)
# The same for what a stored text's literals are made of, and the set that the text itself is written in.
_TEXT_CONTEXT = re.compile(
    r"(@\w+)\s*:?=\s*@@(?:SESSION\.)?(CHARACTER_SET_CLIENT|COLLATION_CONNECTION)\b"
    r"|\b(CHARACTER_SET_CLIENT|COLLATION_CONNECTION)\s*=\s*(?:'?(\w+)'?|(@\w+))",
    re.IGNORECASE,
)
_ROUTINE = re.compile(
    r"CREATE\b(?:(?!\bAS\b).)*?\b(PROCEDURE|FUNCTION|EVENT)\s+(?:IF\s+NOT\s+EXISTS\s+)?"
    r"((?:`(?:[^`]|``)+`|[^\s`(.]+)(?:\s*\.\s*(?:`(?:[^`]|``)+`|[^\s`(.]+))?)\s*(.*)$",
    re.IGNORECASE | re.DOTALL,
)
_DELIMITER = re.compile(rb"DELIMITER[ \t]+(\S+)[ \t]*\r?(?:\n|\Z)", re.IGNORECASE)
_OF_DATABASE = re.compile(rb"^-- Host: .*?\bDatabase: +(\S+)", re.MULTILINE)
_VERSION = re.compile(
    rb"(?:MariaDB|MySQL) dump [\d.]+.*?Distrib ([\d.]+)-?(MariaDB)?|Server version:?\s*([\d.]+)[-\w]*?(MariaDB)?",
    re.I,
)


@dataclass
class DumpedTable:
    """A table of a dump: its database (empty where the dump names none) and its definition so far."""

    database: str
    definition: Definition

    @property
    def name(self) -> str:
        return self.definition.name


@dataclass
class Dump:
    """What is known of a dump, complete when it has been read to its end. ``of_database`` is the one that it was
    made of, where it says so without using it."""

    tables: dict[tuple[str, str], DumpedTable] = field(default_factory=dict)
    views: dict[tuple[str, str], Attachment] = field(default_factory=dict)
    triggers: dict[tuple[str, str], Attachment] = field(default_factory=dict)
    routines: dict[tuple[str, str, str], Attachment] = field(default_factory=dict)
    sequences: dict[tuple[str, str], Attachment] = field(default_factory=dict)
    defaults: list[tuple[str, Attachment]] = field(default_factory=list)
    events: list[str] = field(default_factory=list)
    of_database: str = ""
    product: str = ""
    version: str = ""
    charset: str = "utf8mb4"
    size: int = 0

    @property
    def databases(self) -> list[str]:
        """Those that have tables, in their order."""
        return list(dict.fromkeys(database for database, _ in self.tables))


class DumpReader:
    """Reads a dump from blocks of bytes. ``rows`` does the work; ``dump`` is what it found. ``conversions`` find what
    takes texts into the character sets of their columns."""

    def __init__(self, blocks: Iterable[bytes], conversions: Between = between) -> None:
        self.dump = Dump()
        self._between = conversions
        self._blocks = iter(blocks)
        self._doubling = Doubling()
        self._buffer = b""
        self._at = 0
        self._gone = 0  # bytes that were in the buffer before
        self._ended = False
        self._delimiter = b";"
        self._database = ""
        self._backslashes = True
        self._mode = ""
        self._modes: dict[str, str] = {}  # by the variables that keep them
        self._context = {"character_set_client": "", "collation_connection": ""}
        self._contexts: dict[str, str] = {}  # by the variables that keep them
        self._shapes: dict[tuple[str, str, bytes, str, bool], Shape] = {}

    # -- the buffer -----------------------------------------------------------------------------------

    def _refill(self) -> bool:
        """Bring more into the buffer, and let go of what was read; False at the end."""
        if self._ended:
            return False
        parts, size = [self._buffer[self._at :]], 0
        while size < _MORE:
            block = next(self._blocks, None)
            if block is None:
                self._ended = True
                parts.append(self._doubling.end())
                break
            parts.append(self._doubling.block(block))
            size += len(block)
        self._gone += self._at
        self._buffer, self._at = b"".join(parts), 0
        self.dump.size += size
        return bool(size)

    def _more(self) -> bool:
        """As ``_refill``, in what brings no rows and has to be in the buffer as a whole."""
        if self._left() > _PIECE:
            raise self._wrong("a text, a name or a comment of more than 16 MB outside of rows")
        return self._refill()

    def _read_letters(self) -> None:
        """From here on, go by the character set that statements are written in now."""
        charset = self._context["character_set_client"] or self.dump.charset
        doubling = Doubling(charset)
        if doubling.charset != self._doubling.charset:
            rest = self._doubling.undone(self._buffer[self._at :])
            self._buffer, self._at = doubling.block(rest), 0
            if self._ended:
                self._buffer += doubling.end()
            self._doubling = doubling

    def _left(self) -> int:
        return len(self._buffer) - self._at

    def _wrong(self, what: str) -> DatabaseError:
        return DatabaseError(f"the dump cannot be read at byte {self._gone + self._at:,}: {what}")

    # -- statements -----------------------------------------------------------------------------------

    def rows(self) -> Iterator[tuple[DumpedTable, Batch]]:
        """All rows, in batches, as the tables' columns store them.

        Raises:
            DatabaseError: something cannot be understood, or the dump ends too early.
        """
        self._refill()
        if self._buffer.startswith((b"\xff\xfe", b"\xfe\xff")):
            raise self._wrong("it is written in UTF-16; save it as UTF-8")
        if self._buffer.startswith(b"\xef\xbb\xbf"):
            self._at = 3
        self._product(self._buffer[:4096])
        while self._begin():
            if self._left() < 4096:
                self._refill()
            if _STARTS_INSERT.match(self._buffer, self._at):
                match = _INSERT.match(self._buffer, self._at)
                while match is None and self._left() < 1 << 20 and self._refill():
                    match = _INSERT.match(self._buffer, self._at)
                if match is not None:
                    yield from self._insert(match)
                    continue
            self._statement()

    def _begin(self) -> bool:
        """Go to where the next statement begins; False where none does."""
        while True:
            match = _SPACE.match(self._buffer, self._at)
            if match:
                self._at = match.end()
            if self._left() and self._buffer.startswith(self._delimiter, self._at):
                self._at += len(self._delimiter)
                continue
            if (self._left() < 2 or _OPEN.match(self._buffer, self._at)) and self._more():
                continue
            if _OPEN.match(self._buffer, self._at) and self._left() > 1:
                return False  # a comment up to the end
            word = _DELIMITER.match(self._buffer, self._at)
            if word:
                self._delimiter = word[1]
                self._at = word.end()
                continue
            return self._left() > 0

    def _statement(self) -> None:
        """Read a statement that is no INSERT, and do what it says."""
        parts: list[bytes] = []
        size = 0
        while True:
            if self._buffer.startswith(self._delimiter, self._at):
                self._at += len(self._delimiter)
                break
            match = _PIECES[self._backslashes].match(self._buffer, self._at)
            # A piece at the end of what is there may go on.
            if (match is None or match.end() > len(self._buffer) - 64) and self._more():
                continue
            if match is None:
                if b"".join(parts).strip():
                    raise self._wrong("it ends in the middle of a statement")
                return
            piece = match[0]
            end = piece.find(self._delimiter) if piece[0] not in b"'\"`-#/" else -1
            if end >= 0:
                piece = piece[:end]
            parts.append(piece)
            self._at += len(piece)
            size += len(piece)
            if size > _STATEMENT:
                raise self._wrong("a statement of more than 64 MB that brings no rows")
        plainly = [p for p in parts if not (p.startswith((b"--", b"#")) and len(p) > 2)]
        product = self.dump.product
        self._read_statement(_unconditional(plainly, product), _unconditional(parts, product))

    def _read_statement(self, sql: str, whole: str) -> None:
        """``whole`` is the same with the comments in it."""
        word = sql[:12].upper()
        dump = self.dump
        if word.startswith("SET"):
            for match in _NAMES.finditer(sql):
                dump.charset = match[1].lower()
                self._context = dict.fromkeys(self._context, "")
            for kept, kind, name, value, variable in _TEXT_CONTEXT.findall(sql):
                if kept:
                    self._contexts[kept.lower()] = self._context[kind.lower()]
                else:
                    known = self._contexts.get(variable.lower(), "") if variable else value.lower()
                    self._context[name.lower()] = known
            for kept, one, other, variable in _MODE.findall(sql):
                if kept:
                    self._modes[kept.lower()] = self._mode
                else:
                    said = self._modes.get(variable.lower(), "") if variable else one or other
                    self._mode = ",".join(re.findall(r"\w+", said))
            self._backslashes = "NO_BACKSLASH_ESCAPES" not in self._mode.upper()
            self._read_letters()
        elif word.startswith("USE"):
            used = _USE.match(sql)
            if used:
                self._database = plain(used[1])
        elif word.startswith("DROP"):
            dropped = _DROP.match(sql)
            for name in dropped[2].split(",") if dropped else ():
                key = self._key(name.strip())
                dump.views.pop(key, None)
                dump.tables.pop(key, None)
        elif word.startswith("ALTER"):
            name = altered_table(sql)
            known = dump.tables.get((self._database, name or ""))
            if known is not None:
                alter(known.definition, sql)
                if drawn := set_default(known.definition, sql):
                    dump.defaults.append((self._database, drawn))
            self._gives_next(sql)
        elif word.startswith(("DO", "SELECT")):
            self._gives_next(sql)
        elif word.startswith("CREATE"):
            self._create(sql, whole)

    def _gives_next(self, sql: str) -> None:
        match = GIVES_NEXT.match(sql)
        key = self._key(match[1] or match[4]) if match else None
        known = self.dump.sequences.get(key) if key else None
        if match and key and known:
            following = int(match[2] or match[5]) + (match[3] != "0" if match[1] else 0)
            self.dump.sequences[key] = replace(known, mode=str(following))

    def _create(self, sql: str, whole: str) -> None:
        dump = self.dump
        if made := CREATE_SEQUENCE.match(sql):
            key = self._key(made[1])
            text = f"CREATE SEQUENCE {quote(key[1])} {made[2].strip()}"
            first = re.search(r"START\s+(?:WITH\s+)?(-?\d+)", text, re.IGNORECASE)
            dump.sequences[key] = sequence(key[1], "", text, int(first[1]) if first else 1)
            return
        trigger = _TRIGGER.match(whole)
        if trigger:
            name, timing, event, table, body = trigger.groups()
            name, key = plain(_QUALIFIED.fullmatch(name)[2]), self._key(table)  # type: ignore[index]
            text = (
                f"CREATE TRIGGER {quote(name)} {timing.upper()} {event.upper()} ON {quote(key[1])}"
                f" FOR EACH ROW {self._stored(body.strip())}"
            )
            dump.triggers[key[0], name] = self._attachment("trigger", name, key[1], text)
            return
        routine = _ROUTINE.match(whole)
        view = _VIEW.match(sql)
        if view and (not routine or view.start(1) < routine.start(2)):
            key = self._key(view[1])
            dump.tables.pop(key, None)
            how = "".join(f" {kept}" for kept in _HOW_VIEWED.findall(sql[: view.start(1)]))
            text = f"CREATE OR REPLACE{how} VIEW {quote(key[1])} {view[2].strip()}"
            dump.views[key] = self._attachment("view", key[1], key[1], text)
            return
        if routine:
            kind, key = routine[1].upper(), self._key(routine[2])
            before = whole[: routine.start(1)].upper().split()
            word = "AGGREGATE " if "AGGREGATE" in before else ""
            text = f"CREATE {word}{kind} {quote(key[1])}{self._stored(routine[3].strip())}"
            if kind == "EVENT":
                dump.events.append(key[1])
            else:
                dump.routines[kind, *key] = self._attachment("routine", key[1], "", text)
            return
        if re.match(r"CREATE\s+(?:DATABASE|SCHEMA)\b", sql, re.IGNORECASE):
            return
        definition = read_definition(sql)
        if definition is not None:
            dump.tables[self._database, definition.name] = DumpedTable(self._database, definition)

    def _attachment(
        self, kind: Literal["trigger", "view", "routine"], name: str, table: str, text: str
    ) -> Attachment:
        collation = self._context["collation_connection"]
        mode = "" if kind == "view" else self._mode
        return Attachment(
            kind=kind, name=name, table=table, sql=text, mode=mode, collation=collation
        )

    def _stored(self, text: str) -> str:
        """A text of a trigger or routine: dump programs write its bytes as they were when it was made."""
        codec = codec_of(self._context["character_set_client"])
        if text.isascii() or codec in (None, "utf-8"):
            return text
        try:
            return text.encode("utf-8", "surrogateescape").decode(codec or "utf-8")
        except UnicodeDecodeError:
            return text

    def _key(self, name: str) -> tuple[str, str]:
        match = _QUALIFIED.fullmatch(name)
        if match is None:
            return self._database, plain(name)
        database = plain(match[1]) if match[1] else self._database
        if database == self.dump.of_database:  # which it never says that it uses
            database = self._database
        return database, plain(match[2])

    def _product(self, head: bytes) -> None:
        dump = self.dump
        for match in _VERSION.finditer(head):
            dump.version = (match[1] or match[3]).decode()
        if named := _OF_DATABASE.search(head):
            dump.of_database = named[1].decode("utf-8", "replace")
        dump.product = "MariaDB" if b"mariadb" in head.lower() else "MySQL"

    # -- rows -----------------------------------------------------------------------------------------

    def _insert(self, match: re.Match[bytes]) -> Iterator[tuple[DumpedTable, Batch]]:
        """The rows of an INSERT statement, and of those that follow with the same beginning."""
        head = match[0]
        key = self._key(match[1].decode("utf-8", "surrogateescape"))
        table = self.dump.tables.get(key)
        if table is None:
            raise self._wrong(f"rows for the table {key[1]}, which was not defined before")
        kind = (*key, match[2] or b"", self.dump.charset, self._backslashes)
        shape = self._shapes.get(kind)
        if shape is None or shape.definition is not table.definition:
            shape = self._shapes[kind] = Shape(table.definition, *kind[2:], self._between)
        self._at = match.end()
        cells: list[Cell] = []
        size = 0
        done = False
        while not done:
            if self._left() < CHUNK:
                self._refill()
            begun = self._at
            found = shape.take(self._buffer, self._at, head)
            if found is not None:
                more, self._at, done = found
                cells += more
                size += self._at - begun
            else:
                row, done = self._slowly(shape)
                cells += row
                size += sum(len(cell) for cell in row if isinstance(cell, bytes))
            if size >= _BATCH:
                yield table, Batch(shape.width, cells, size)
                cells, size = [], 0
            if done:
                done = not self._goes_on(head)
        if cells:
            yield table, Batch(shape.width, cells, size)

    def _goes_on(self, head: bytes) -> bool:
        """True where the next statement is an INSERT of the same kind, whose beginning was passed then."""
        at = self._at
        while at < len(self._buffer) and self._buffer[at] in b"\r\n":
            at += 1
        if self._buffer.startswith(head, at):
            self._at = at + len(head)
            return True
        return False

    def _slowly(self, shape: Shape) -> tuple[list[Cell], bool]:
        """Read one row value by value; its cells, and whether it ended the statement."""
        self._skip()
        self._expect(b"(")
        values: list[bytes | None] = []
        while True:
            self._skip()
            values.append(self._value(shape.is_bits(len(values))))
            self._skip()
            if self._take(b")"):
                break
            self._expect(b",")
        if len(values) != shape.given:
            raise self._wrong(
                f"a row of {shape.definition.name} has {len(values)} values, not {shape.given}"
            )
        cells = shape.stored(values)
        self._skip()
        if self._take(b","):
            return cells, False
        if self._left() and not self._buffer.startswith(self._delimiter, self._at):
            # “ON DUPLICATE KEY UPDATE …” says nothing of the row itself.
            self._statement()
            return cells, True
        if not self._take(self._delimiter) and not self._ended:
            raise self._wrong("a row is followed by something unknown")
        return cells, True

    def _skip(self) -> None:
        while True:
            match = _SPACE.match(self._buffer, self._at)
            if match:
                self._at = match.end()
            if self._left() > 1 or not self._refill():
                return

    def _take(self, mark: bytes) -> bool:
        while self._left() < len(mark) and self._refill():
            pass
        if self._buffer.startswith(mark, self._at):
            self._at += len(mark)
            return True
        return False

    def _expect(self, mark: bytes) -> None:
        if not self._take(mark):
            if not self._left():
                raise self._wrong("it ends in the middle of a row")
            found = self._buffer[self._at : self._at + 20].decode("utf-8", "replace")
            raise self._wrong(f"{mark.decode()!r} is missing before {found!r}")

    def _value(self, bits: bool) -> bytes | None:
        while self._left() < 64 and self._refill():
            pass
        said = _INTRODUCER.match(self._buffer, self._at)
        if said is not None:
            self._at = said.end()
            return introduced(self._value(bits), said[1])
        begin = _BEFORE_STRING.match(self._buffer, self._at)
        if begin is not None:
            word = begin[0][:1]
            self._at = begin.end()
            if word in b"xXbB":
                return value_of(word + b"'" + self._string(b"'") + b"'")
            return self._string(begin[0][-1:])
        parts = []
        while True:
            match = _WORD.match(self._buffer, self._at)
            if match is None:
                break
            parts.append(match[0])
            self._at = match.end()
            if self._left() or sum(map(len, parts)) > _VALUE or not self._refill():
                break
        token = b"".join(parts)
        if not token:
            self._expect(b"a value")
        try:
            return number_as_bits(token) if bits and token.isdigit() else value_of(token)
        except (DatabaseError, ValueError) as error:
            raise self._wrong(str(error)) from error

    def _string(self, mark: bytes) -> bytes:
        """What stands up to the closing quote. Long ones are put together piece by piece."""
        whole = io.BytesIO()
        while True:
            end, closed = self._end_of_string(mark)
            piece = self._buffer[self._at : end]
            whole.write(unescaped(piece, mark, backslashes=self._backslashes))
            self._at = end
            if closed:
                self._at += 1
                return whole.getvalue()
            if self._ended:
                raise self._wrong("it ends in the middle of a value")
            if whole.tell() > _VALUE:
                raise self._wrong("a value of more than 1 GB, which no server takes")
            self._refill()

    def _end_of_string(self, mark: bytes) -> tuple[int, bool]:
        """Where a string's closing quote stands in the buffer, or else how far it can be read so far."""
        buffer, at = self._buffer, self._at
        while True:
            end = buffer.find(mark, at)
            last = len(buffer) if end < 0 else end
            slashes = self._slashes(at, last)
            if end < 0:
                return last - slashes % 2, False  # what it takes with it is still to come
            if slashes % 2:
                at = end + 1
            elif buffer.startswith(mark, end + 1):
                at = end + 2
            elif end + 1 == len(buffer) and not self._ended:
                return end, False  # there may be another one behind it
            else:
                return end, True

    def _slashes(self, start: int, end: int) -> int:
        """How many backslashes that mean something stand directly before a place."""
        if not self._backslashes:
            return 0
        at = end
        while at > start and self._buffer[at - 1] == _SLASH:
            at -= 1
        return end - at


def _unconditional(parts: Iterable[bytes], product: str) -> str:
    """A statement as a server of this product reads it."""

    def settle(match: re.Match[str]) -> str:
        version = int(match[2] or 0)
        if product == "MariaDB":
            return "" if not match[1] and version in _MYSQLS_OWN else match[3]
        return "" if match[1] or version >= _MYSQLS_OWN.stop else match[3]

    text = b"".join(parts).decode("utf-8", "surrogateescape")
    return _CONDITIONAL.sub(settle, text).strip()


_INTRODUCER = re.compile(rb"_(?!binary)([A-Za-z0-9]+)[ \t]*(?=0x|[xX]?')")
_BEFORE_STRING = re.compile(rb"(?:_\w+\s*)?['\"]|[xXbBnN]'")
_WORD = re.compile(rb"[^',()\s\";]+")
_SLASH = ord("\\")
