"""The rows of INSERT statements, taken out of their text a chunk at a time.

Quotes cut the text into what is inside of them and what is not. What is not is short, and its commas cut it
into values; all of that is done by single calls for a whole chunk. Whatever is not as usual is left to who can
read value by value.
"""

from __future__ import annotations

import re
from binascii import unhexlify
from collections.abc import Callable, Sequence
from typing import Any

from ....errors import DatabaseError
from ...batch import Cell
from ..charsets import Between, Conversion
from ..schema.ddl_parser import Definition, Field, plain
from .literal_parser import Introduced, value_of

CHUNK = 1 << 18
# In a chunk that is being cut, what stands for an escaped backslash, an escaped quote, and a text.
_SLASH, _QUOTE, _STRING = b"\\\x11", b"\\\x12", b"\x00"
_BOUND = b"\x1d\x1e"  # between strings that are looked at together; no escape makes it
_NEXT = b"\x01"  # between the rows of two statements
_USUAL = b"0123456789.,+-xXabcdefABCDEFNULTRS" + _STRING
_DIGITS = b"0123456789.+-"
_INTRODUCER = re.compile(rb"_binary ?\x00")  # others say in which character set a text is
_BETWEEN = b"() \n\t\r"  # what stands around values and says nothing of them
_MEANT = ((b"\\n", b"\n"), (b'\\"', b'"'), (_QUOTE, b"'"), (b"\\r", b"\r"), (b"\\0", b"\0"),
          (b"\\t", b"\t"), (b"\\Z", b"\x1a"), (b"\\b", b"\b"), (b"\\/", b"/"))  # fmt: skip
_SINGLE = {**dict(_MEANT), _SLASH: b"\\"}
_ESCAPE = re.compile(rb"\\.", re.DOTALL)
_RARE = 300  # bytes for one escape, from which each is looked at by itself
_OTHER = re.compile(rb"\\([^\x11])", re.DOTALL)


class Shape:
    """The rows of one kind of INSERT: how their values become what the columns store."""

    def __init__(
        self,
        definition: Definition,
        columns: bytes,
        charset: str,
        backslashes: bool,
        between: Between,
    ) -> None:
        self.definition = definition
        fields = [item for item in definition.fields if not item.generated]
        names = [item.name for item in fields]
        if columns:
            text = columns[1:-1].decode("utf-8", "surrogateescape")
            given = [plain(name) for name in re.findall(r"`(?:[^`]|``)+`|[^\s,`]+", text)]
        else:
            given = [item.name for item in definition.fields]
        kinds = {item.name: item.kind for item in definition.fields}
        unknown = [name for name in given if name not in kinds]
        if unknown:
            raise DatabaseError(f"{definition.name} has no column {', '.join(unknown)}")
        self.given = len(given)
        self.width = len(fields)
        # Where each column's value stands in a row; None for one that is not given.
        self._places = [given.index(name) if name in given else None for name in names]
        self._straight = self._places == list(range(self.given))
        self._fields = fields
        self._bits = [kinds[name] == "bit" for name in given]
        self._backslashes = backslashes
        self._convert = [_conversion(item, charset, between) for item in fields]
        self._converts = any(self._convert)

    def is_bits(self, place: int) -> bool:
        return place < len(self._bits) and self._bits[place]

    def take(self, buffer: bytes, at: int, head: bytes) -> tuple[list[Cell], int, bool] | None:
        """The whole rows that begin at a place of the buffer, as cells; where what follows them begins; and
        whether they ended the statement. None where the next row has to be read value by value.

        ``head`` is the beginning of the statement: others with the same one that follow are taken as well.
        """
        text = buffer[at : at + CHUNK]
        if self._backslashes and b"\\" in text:
            # One byte is looked for at many times the speed of two.
            if (b"\x11" in text and _SLASH in text) or (b"\x12" in text and _QUOTE in text):
                return None
            text = text.replace(b"\\\\", _SLASH).replace(b"\\'", _QUOTE)
        parts = text.split(b"'")
        strings, between_them = parts[1::2], parts[::2]
        doubled = b"" in between_them[1:-1]
        if doubled:
            strings, between_them = _joined(parts)
        outside = _STRING.join(between_them)
        if outside.count(_STRING) != len(between_them) - 1:
            return None
        # Statements of one row each follow one another as rows do.
        follows = b";\n" + head
        if _NEXT in outside:
            return None
        if b";" in outside:
            outside = outside.replace(b")" + follows + b"(", b")" + _NEXT + b"(")
        stop = outside.find(b";")
        done = stop >= 0
        end = stop if done else max(outside.rfind(b"),"), outside.rfind(b")" + _NEXT)) + 1
        if end <= 0:
            return None
        count = outside.count(_STRING, 0, end)
        flat = self._flat(outside[:end], strings[:count])
        if flat is None:
            return None
        used = end + 1 + count + sum(map(len, strings[:count]))
        if doubled:
            used += sum(string.count(b"'") for string in strings[:count])
        used += outside.count(_NEXT, 0, end + 1) * (len(follows) - 1)
        return self.stored(flat), at + used, done

    def _flat(self, outside: bytes, strings: list[bytes]) -> list[bytes | None] | None:
        """The values of rows; None where something in them is not as usual."""
        if b"_" in outside:
            outside = _INTRODUCER.sub(_STRING, outside)
        rows, width = outside.count(b"("), self.given
        if outside.count(b")") != rows or outside.translate(None, _USUAL + _BETWEEN + _NEXT):
            return None
        if _NEXT in outside:
            outside = outside.replace(_NEXT, b",")
        flat: list[bytes | None] = outside.translate(None, _BETWEEN).split(b",")  # type: ignore[assignment]
        if len(flat) != rows * width:
            return None
        if self._backslashes:
            strings = _unescaped(strings)
        columns: list[list[bytes]] = [flat[index::width] for index in range(width)]  # type: ignore[misc]
        texts = [column.count(_STRING) for column in columns]
        if sum(texts) != len(strings):  # a text with a letter before it
            return None
        if all(number in (0, rows) for number in texts):
            quoted = [index for index in range(width) if texts[index]]
            for number, index in enumerate(quoted):
                flat[index::width] = strings[number :: len(quoted)]
        else:
            following = iter(strings)
            flat = [next(following) if token == _STRING else token for token in flat]
        for index, column in enumerate(columns):
            if texts[index] == rows:
                continue
            if texts[index]:
                flat[index::width] = [
                    value if token == _STRING else _bare(token)
                    for token, value in zip(column, flat[index::width], strict=True)
                ]
            elif self._bits[index]:
                flat[index::width] = [
                    number_as_bits(token) if token.isdigit() else value_of(token)
                    for token in column
                ]
            elif b"".join(column).translate(None, _DIGITS) or b"" in column:
                flat[index::width] = [_bare(token) for token in column]
        return flat

    def stored(self, flat: list[bytes | None]) -> list[Cell]:
        """Values as they are given, as the columns store them: in their order and character set."""
        given, width = self.given, self.width
        if not self._straight:
            count = len(flat) // given
            found: list[bytes | None] = [None] * (count * width)
            for index, place in enumerate(self._places):
                if place is None:
                    found[index::width] = [self._fields[index].default] * count
                else:
                    found[index::width] = flat[place::given]
            flat = found
        if self._converts:
            for index, convert in enumerate(self._convert):
                if convert is not None:
                    flat[index::width] = convert(flat[index::width])
        return flat  # type: ignore[return-value]


def _bare(token: bytes) -> bytes | None:
    """A value without quotes; the commonest ones at once."""
    if token.isdigit():
        return token
    if token == b"NULL":
        return None
    if token[:2] == b"0x" and not len(token) & 1:
        try:
            return unhexlify(token[2:])
        except ValueError:  # whoever reads value by value says what is wrong
            pass
    return value_of(token)


def number_as_bits(token: bytes) -> bytes:
    """A number that is given for a BIT column, as the bytes that others give."""
    number = int(token)
    return number.to_bytes(max(1, (number.bit_length() + 7) // 8), "big")


def _unescaped(strings: list[bytes]) -> list[bytes]:
    """What the strings of a chunk mean, in which no backslash is another one's object."""
    whole = _BOUND.join(strings)
    if b"\\" not in whole:
        return strings
    if whole.count(_BOUND) != len(strings) - 1:
        return [_meant(text) if b"\\" in text else text for text in strings]
    return _meant(whole).split(_BOUND)


def _meant(text: bytes) -> bytes:
    count = text.count(b"\\")
    if count * _RARE < len(text):
        return _ESCAPE.sub(_one_meant, text)
    slashes = text.count(_SLASH)
    for escape, meant in _MEANT:
        if count == slashes:
            break
        text = text.replace(escape, meant)
        count = text.count(b"\\")
    if count != slashes:
        text = _OTHER.sub(rb"\1", text)
    return text.replace(_SLASH, b"\\")


def _one_meant(match: re.Match[bytes]) -> bytes:
    return _SINGLE.get(match[0]) or match[0][1:]


def _joined(parts: list[bytes]) -> tuple[list[bytes], list[bytes]]:
    """Inside and outside, where a doubled quote stands for one inside."""
    strings: list[bytes] = []
    outside = [parts[0]]
    waiting: list[bytes] = []
    last = len(parts) - 1
    for at in range(1, len(parts), 2):
        waiting.append(parts[at])
        following = parts[at + 1] if at < last else None
        if following == b"" and at + 1 < last:
            continue
        strings.append(waiting[0] if len(waiting) == 1 else b"'".join(waiting))
        waiting = []
        if following is not None:
            outside.append(following)
    return strings, outside


# What makes the values that a column stores of those that the dump gives.
_Convert = Callable[[list[bytes | None]], list[Any]]


def _conversion(item: Field, charset: str, between: Between) -> _Convert | None:
    plain = _plain_conversion(item, charset, between)
    chosen = item.kind in ("enum", "set")
    if not item.charset and not chosen:
        return plain

    def one(value: bytes | None) -> bytes | None:
        if not isinstance(value, Introduced):
            return plain([value])[0] if plain is not None else value
        if not chosen and value.charset in ("binary", item.charset):
            return bytes(value)
        own = "utf8mb4" if value.charset == "binary" else value.charset
        other = _plain_conversion(item, own, between)
        return other([bytes(value)])[0] if other is not None else bytes(value)

    def convert(values: list[bytes | None]) -> list[Any]:
        if any(isinstance(value, Introduced) for value in values):
            return [one(value) for value in values]
        return plain(values) if plain is not None else values

    # Most columns need none; a text that names its character set is met where values are read one by one.
    return convert if plain is not None or item.charset not in ("utf8mb4", "") else None


def _plain_conversion(item: Field, charset: str, between: Between) -> _Convert | None:
    if item.kind == "bit":
        return _each(_bits)
    if item.kind == "enum":
        return _each(_Labels(item.labels, between(charset, "utf8mb4")).one)
    if item.kind == "set":
        return _each(_Labels(item.labels, between(charset, "utf8mb4")).several)
    found = between(charset, item.charset) if item.charset else None
    return found.all if found is not None else None


def _each(convert: Callable[[bytes], bytes]) -> _Convert:
    return lambda values: [None if value is None else convert(value) for value in values]


def _bits(value: bytes) -> bytes:
    return b"%d" % int.from_bytes(value, "big")


class _Labels:
    """Labels of an ENUM or a SET as the numbers that are stored for them."""

    def __init__(self, labels: Sequence[bytes], convert: Conversion | None) -> None:
        self._numbers = {label.lower(): number for number, label in enumerate(labels, 1)}
        self._convert = convert

    def _number(self, label: bytes) -> int | None:
        label = self._convert(label) if self._convert else label
        return self._numbers.get(label.lower())

    def one(self, value: bytes) -> bytes:
        number = self._number(value)
        return b"%d" % number if number is not None else value if value.isdigit() else b"0"

    def several(self, value: bytes) -> bytes:
        if not value:
            return b"0"
        numbers = [self._number(label) for label in value.split(b",")]
        if None in numbers:
            return value if value.isdigit() else b"0"
        return b"%d" % sum(1 << (number - 1) for number in numbers if number)
