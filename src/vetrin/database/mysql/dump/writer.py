"""Tables as an SQL file that MariaDB's and MySQL's own client programs and web consoles load.

All text in it is UTF-8: values of columns in other character sets are converted, and the server converts them
back. Binary values are hexadecimal, so that no editor and no upload can harm them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence

from ....errors import DatabaseError
from ...base import Attachment, Table
from ...batch import Batch, Cell
from ..charsets import KNOWN_EXACTLY, between
from ..columns import WIDE_CHARSETS, quote
from ..dependents import ROUTINE
from ..schema.ddl_parser import Definition, Field, read_definition
from ..schema.portable import portable, with_collations

STATEMENT = 1 << 20
_BINARY = {"binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob", "geometry", "point",
           "linestring", "polygon", "multipoint", "multilinestring", "multipolygon",
           "geometrycollection", "geomcollection"}  # fmt: skip
_PLAIN = {"tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "float", "double", "year"}
# Modes that a newer server or the other product does not take, and that mean next to nothing in a trigger.
_IDLE_MODES = {"NO_AUTO_CREATE_USER", "NO_FIELD_OPTIONS", "NO_KEY_OPTIONS", "NO_TABLE_OPTIONS",
               "TIME_ROUND_FRACTIONAL", "TIME_TRUNCATE_FRACTIONAL", "IGNORE_BAD_TABLE_OPTIONS"}  # fmt: skip
_TROUBLE = str.maketrans({"\r": " ", "\n": " "})


def header(lines: Iterable[str]) -> bytes:
    """What the file begins with; ``lines`` say what it is."""
    said = "".join(f"-- {line.translate(_TROUBLE)}\n" for line in lines)
    return (
        f"{said}\n"
        "/*!40101 SET NAMES utf8mb4 */;\n"
        "SET @vetrin_mode = @@SQL_MODE, SQL_MODE = 'NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES';\n"
        "SET @vetrin_keys = @@FOREIGN_KEY_CHECKS, FOREIGN_KEY_CHECKS = 0;\n"
        "SET @vetrin_zone = @@TIME_ZONE, TIME_ZONE = '+00:00';\n"
    ).encode()


def footer() -> bytes:
    return (
        b"\nSET TIME_ZONE = @vetrin_zone, FOREIGN_KEY_CHECKS = @vetrin_keys, SQL_MODE = @vetrin_mode;\n"
        b"-- End of the file; without this line it is not complete.\n"
    )


class TableText:
    """One table as SQL text."""

    def __init__(self, table: Table, schema: str, product: str, statement: int = STATEMENT) -> None:
        """``schema`` is a CREATE TABLE statement, as a server of ``product`` prints it; ``statement`` the most
        bytes of one INSERT, unless a row alone has more.

        Raises:
            DatabaseError: the schema cannot be understood.
        """
        found = read_definition(schema)
        if found is None:
            raise DatabaseError(f"{table.name}: its definition cannot be written")
        self._definition: Definition = found
        self._table = table
        self._schema = portable(schema, product)
        self._most = statement
        fields = {item.name: item for item in found.fields}
        self._forms = [_form(fields[column.name]) for column in table.columns]
        names = ", ".join(quote(column.name) for column in table.columns)
        self._head = f"INSERT INTO {quote(table.name)} ({names}) VALUES\n".encode()

    def begin(self) -> bytes:
        name = quote(self._table.name)
        return f"\nDROP TABLE IF EXISTS {name};\n{self._schema};\n\n".encode()

    def rows(self, batches: Iterable[Batch]) -> Iterator[bytes]:
        """INSERT statements for all rows."""
        waiting: list[bytes] = []
        size = 0
        for batch in batches:
            for text in self._texts(batch):
                if waiting and size + len(text) > self._most:
                    yield self._statement(waiting)
                    waiting, size = [], len(self._head)
                waiting.append(text)
                size += len(text) + 2
        if waiting:
            yield self._statement(waiting)

    def _statement(self, rows: list[bytes]) -> bytes:
        return self._head + b",\n".join(rows) + b";\n"

    def _texts(self, batch: Batch) -> list[bytes]:
        width = batch.width
        columns = [form(batch.cells[index::width]) for index, form in enumerate(self._forms)]
        return [b"(" + b",".join(row) + b")" for row in zip(*columns, strict=True)]


def constraint(item: Attachment) -> bytes:
    return f"ALTER TABLE {quote(item.table)} ADD {item.sql};\n".encode()


def trigger(item: Attachment) -> bytes:
    """A trigger; its statements end with semicolons, so another delimiter ends it."""
    return _compound(item)


def routine(item: Attachment) -> bytes:
    """A stored procedure or function, in place of one that is there."""
    match = ROUTINE.match(item.sql)
    assert match is not None, item.sql[:60]
    return f"\nDROP {match[1]} IF EXISTS {quote(item.name)};".encode() + _compound(item)


def _compound(item: Attachment) -> bytes:
    mode = ",".join(word for word in item.mode.split(",") if word not in _IDLE_MODES)
    sql = with_collations(item.sql)
    before, after = _literals(item)
    return (
        f"\nSET @vetrin_own = @@SQL_MODE, SQL_MODE = '{mode}';\n{before}DELIMITER ;;\n{sql}\n;;\nDELIMITER ;\n"
        f"{after}SET SQL_MODE = @vetrin_own;\n"
    ).encode()


def _literals(item: Attachment) -> tuple[str, str]:
    """What stands before and behind a text for its literals to be in the collation that they were made in."""
    if not item.collation:
        return "", ""
    # One that a product lacks is said in comments, which the other one passes over.
    said = with_collations(f" COLLATE={item.collation}").strip()
    said = said.replace("COLLATE=", "SET collation_connection = ")
    return f"{said};\n", "SET NAMES utf8mb4;\n"


def view(item: Attachment, broken: str = "") -> bytes:
    """A view; one that is ``broken`` already stands there for the record, and is not made."""
    if broken:
        lines = "".join(f"-- {line}\n" for line in f"{item.sql};".splitlines())
        return (
            f"\n-- The view {item.name} is broken where it comes from ({broken}):\n{lines}".encode()
        )
    before, after = _literals(item)
    return f"\n{before}{item.sql};\n{after}".encode()


def sequence(item: Attachment) -> bytes:
    """A sequence and what it gives next; MariaDB alone has such."""
    sql = item.sql.replace("/*", "").replace("*/", "")
    restart = f"ALTER SEQUENCE {quote(item.name)} RESTART {int(item.mode)}"
    return f"\n/*M!100300 {sql} */;\n/*M!100300 {restart} */;\n".encode()


def default(item: Attachment) -> bytes:
    """A default that draws from a sequence."""
    return f"/*M!100300 {item.sql} */;\n".encode()


Form = Callable[[Sequence[Cell]], list[bytes]]


def _form(item: Field) -> Form:
    """How the values of a column are written."""
    if item.kind in _PLAIN:
        return _numbers
    if item.kind in _BINARY:
        return _hexadecimal
    if item.kind == "bit":
        return lambda cells: [
            b"NULL" if c is None else b"b'" + bin(int(c))[2:].encode() + b"'" for c in cells
        ]
    if item.kind == "enum":
        labels = [b"", *item.labels]
        return lambda cells: [
            b"NULL" if c is None else _label(labels[int(c)] if int(c) < len(labels) else b"")
            for c in cells
        ]
    if item.kind == "set":
        return lambda cells: [
            b"NULL" if c is None else _label(_chosen(item.labels, int(c))) for c in cells
        ]
    if item.charset == "binary":
        return _hexadecimal
    if item.charset and item.charset not in KNOWN_EXACTLY:
        return _in_its_own_set(item.charset)
    convert = between(item.charset, "utf8mb4") if item.charset else None

    def texts(cells: Sequence[Cell]) -> list[bytes]:
        if convert is not None:
            return [b"NULL" if c is None else _quoted(convert(c)) for c in cells]  # type: ignore[arg-type]
        return [b"NULL" if c is None else _quoted(c) for c in cells]  # type: ignore[arg-type]

    return texts


def _in_its_own_set(charset: str) -> Form:
    """Texts as the column stores them, named as what they are: only the server knows its character sets to the
    last letter."""
    head = f"_{charset} 0x".encode()
    wide = charset in WIDE_CHARSETS

    def text(cell: bytes) -> bytes:
        if cell and (wide or not cell.isascii() or b"\\" in cell or b"~" in cell):
            return head + cell.hex().encode()
        return _quoted(cell)

    return lambda cells: [b"NULL" if c is None else text(c) for c in cells]  # type: ignore[arg-type]


def _label(label: bytes) -> bytes:
    """A label of an ENUM or SET, in UTF-8."""
    if label.isascii() and not label.decode("ascii").isprintable():
        return b"_utf8mb4 0x" + label.hex().encode()
    return _quoted(label)


def _numbers(cells: Sequence[Cell]) -> list[bytes]:
    return [b"NULL" if cell is None else cell for cell in cells]  # type: ignore[misc]


def _hexadecimal(cells: Sequence[Cell]) -> list[bytes]:
    return [
        b"NULL" if c is None else b"0x" + c.hex().encode() if c else b"''"  # type: ignore[union-attr]
        for c in cells
    ]


def _chosen(labels: Sequence[bytes], number: int) -> bytes:
    return b",".join(label for at, label in enumerate(labels) if number >> at & 1)


def _quoted(text: bytes) -> bytes:
    if b"\\" in text:
        text = text.replace(b"\\", b"\\\\")
    if b"'" in text:
        text = text.replace(b"'", b"\\'")
    # Line ends and what ends a text in some programs are written out.
    for raw, escape in ((b"\n", b"\\n"), (b"\r", b"\\r"), (b"\0", b"\\0"), (b"\x1a", b"\\Z")):
        if raw in text:
            text = text.replace(raw, escape)
    return b"'" + text + b"'"
