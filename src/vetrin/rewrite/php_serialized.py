"""Reading PHP-serialised values: where their strings lie, and whether the whole value parses.

The notation is that of PHP's ``serialize``: ``N; b:1; i:5; d:0.5; s:3:"abc"; S:3:"a\\62c";
a:1:{…} O:3:"Cls":1:{…} C:3:"Cls":5:{…} E:9:"Cls:Other"; R:1; r:1;``, lengths in bytes. The parser
is a loop with a stack of its own, so neither depth nor size of a value can exhaust Python's; each
byte is read once.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

_STRING = re.compile(rb's:(\d{1,18}):"')
_SCALAR = re.compile(
    rb"N;|b:[01];|i:[+-]?\d{1,40};|d:(?:[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?|-?INF|NAN);|[rR]:\d{1,18};"
)
_ARRAY = re.compile(rb"a:(\d{1,18}):\{")
_OBJECT = re.compile(rb'O:(\d{1,18}):"')
_OBJECT_COUNT = re.compile(rb'":(\d{1,18}):\{')
_CUSTOM = re.compile(rb'C:(\d{1,18}):"')
_ESCAPED = re.compile(rb'S:(\d{1,18}):"')
_ENUM = re.compile(rb'E:(\d{1,18}):"')
_KEY_INT = re.compile(rb"i:[+-]?\d{1,40};")
_FIRST = b"aOsSCE \t\n\r\v\f"
_LOOKS = re.compile(rb'\s*(?:a:\d+:\{|O:\d+:"|s:\d+:"|S:\d+:"|C:\d+:"|E:\d+:")')
# What most long arrays are made of: number keys, and strings without a quote in them. A block of
# these is checked by three calls in C instead of a turn of the loop for each.
_RUN = re.compile(rb'(?:i:\d{1,18};s:\d{1,9}:"[^"]*";){16,512}+')
_RUN_STRING = re.compile(rb's:(\d+):"([^"]*)";')
_ESCAPE_PAIR = re.compile(rb"\\([0-9a-fA-F]{2})")


class PhpError(ValueError):
    """The bytes are no whole serialised value; ``position`` is where reading stopped."""

    def __init__(self, position: int) -> None:
        super().__init__(f"no serialised value at byte {position}")
        self.position = position


class Span(NamedTuple):
    """A string in a value: its length prefix begins at ``head``, its bytes are ``start:end``.

    ``kind`` is ``s``, ``S`` (escaped) or ``C`` (custom payload); ``is_key`` marks array keys and
    property names; ``container`` numbers the array or object that holds it.
    """

    head: int
    start: int
    end: int
    kind: str
    is_key: bool
    container: int


@dataclass
class Parsed:
    """What a walk over one value found; ``end`` is where the value ends in the data."""

    end: int = 0
    spans: list[Span] = field(default_factory=list)


def looks_serialised(data: bytes) -> bool:
    """True if ``data`` begins like a serialised container or string."""
    return data[:1] in _FIRST and _LOOKS.match(data) is not None


def walk(data: bytes, start: int = 0, hits: Sequence[int] | None = None) -> Parsed:
    """Parse the one value at ``start`` and list its strings, in their order.

    With ``hits``, positions in ascending order, plain strings are listed only where one of these
    lies inside: a list of all would be larger than the value.

    Raises:
        PhpError: the value does not parse to its end.
    """
    result = Parsed()
    spans = result.spans
    position = start
    # One frame per open container: items still to come (keys and values), its number.
    counts: list[int] = []
    numbers: list[int] = []
    keyed: list[int] = []
    container = 0
    remaining = 1
    number = 0
    is_array = -1  # -1: the value itself; 0: object; 1: array
    string = _STRING.match
    scalar = _SCALAR.match
    size = len(data)
    may_run = False
    waiting = iter(hits or ())
    hit = next(waiting, size)
    while True:
        while remaining == 0:
            if not counts:
                result.end = position
                return result
            if data[position : position + 1] != b"}":
                raise PhpError(position)
            position += 1
            remaining = counts.pop()
            number = numbers.pop()
            is_array = keyed.pop()
        is_key = is_array >= 0 and remaining % 2 == 0
        if may_run and is_array == 1 and is_key and remaining >= 32:
            match = _RUN.match(data, position)
            strings = _RUN_STRING.findall(data, position, match.end()) if match else []
            may_run = match is not None and 2 * len(strings) <= remaining and _fit(strings)
            if may_run and match is not None:
                begin, position = position, match.end()
                remaining -= 2 * len(strings)
                while hit < position:
                    if hit >= begin:
                        spans.append(_around(data, begin, hit, number))
                    hit = _next_behind(spans, waiting, size)
                continue
        remaining -= 1
        match = string(data, position)
        if match is not None:
            begin = match.end()
            end = begin + int(match[1])
            if end + 2 > size or data[end] != 0x22 or data[end + 1] != 0x3B:
                raise PhpError(position)
            if hits is None:
                spans.append(Span(position, begin, end, "s", is_key, number))
            elif hit < end:
                if hit >= begin:
                    spans.append(Span(position, begin, end, "s", is_key, number))
                while hit < end:
                    hit = next(waiting, size)
            position = end + 2
            continue
        if is_key:
            match = _KEY_INT.match(data, position)
            if match is not None:
                position = match.end()
                continue
            if data[position : position + 2] != b"S:":
                raise PhpError(position)
        match = scalar(data, position)
        if match is not None:
            position = match.end()
            continue
        behind = _uncommon(data, position, spans, is_key, number)
        if behind:
            position = behind
            continue
        counts.append(remaining)
        numbers.append(number)
        keyed.append(is_array)
        is_array, remaining, position = _container(data, position)
        container += 1
        number = container
        may_run = hits is not None


def _fit(strings: list[tuple[bytes, bytes]]) -> bool:
    """True if each of these strings is as long as is said."""
    lengths, contents = zip(*strings, strict=True)
    return list(map(int, lengths)) == list(map(len, contents))


def _around(data: bytes, begin: int, hit: int, number: int) -> Span:
    """The string of a run that holds the position ``hit``."""
    quote = data.rfind(b'"', begin, hit)
    return Span(
        data.rfind(b"s:", begin, quote), quote + 1, data.find(b'"', hit), "s", False, number
    )


def _next_behind(spans: list[Span], waiting: Iterator[int], size: int) -> int:
    """The next hit behind the string that was listed last: one listing is enough for several."""
    hit = next(waiting, size)
    while spans and hit < spans[-1].end:
        hit = next(waiting, size)
    return hit


def _uncommon(data: bytes, position: int, spans: list[Span], is_key: bool, number: int) -> int:
    """Read what values seldom hold; where it ends, 0 where something else stands there."""
    kind = data[position : position + 1]
    if kind == b"S":
        return _escaped(data, position, spans, is_key, number)
    if kind == b"E":
        return _enum(data, position)
    if kind == b"C":
        return _custom(data, position, spans, number)
    return 0


def _container(data: bytes, position: int) -> tuple[int, int, int]:
    """Read the head of an array (1) or an object (0): which, how many keys and values it has, where these begin."""
    head = _ARRAY.match(data, position)
    is_array = 1
    if head is None:
        match = _OBJECT.match(data, position)
        head = _OBJECT_COUNT.match(data, match.end() + int(match[1])) if match else None
        is_array = 0
    if head is None or int(head[1]) * 2 > len(data) - head.end():
        raise PhpError(position)
    return is_array, int(head[1]) * 2, head.end()


def _enum(data: bytes, position: int) -> int:
    """Read a case of an enumeration; where it ends."""
    match = _ENUM.match(data, position)
    end = match.end() + int(match[1]) if match is not None else len(data)
    if data[end : end + 2] != b'";':
        raise PhpError(position)
    return end + 2


def _custom(data: bytes, position: int, spans: list[Span], number: int) -> int:
    """Read an object that serialises itself, and list its payload; where it ends."""
    match = _CUSTOM.match(data, position)
    head = _OBJECT_COUNT.match(data, match.end() + int(match[1])) if match else None
    if head is None:
        raise PhpError(position)
    end = head.end() + int(head[1])
    if data[end : end + 1] != b"}":
        raise PhpError(position)
    # The length prefix that a new payload changes is the second number.
    spans.append(Span(head.start() + 2, head.end(), end, "C", False, number))
    return end + 1


def _escaped(data: bytes, position: int, spans: list[Span], is_key: bool, number: int) -> int:
    """Read an ``S:`` string, whose length counts the bytes after unescaping."""
    match = _ESCAPED.match(data, position)
    if match is None:
        raise PhpError(position)
    begin = match.end()
    wanted = int(match[1])
    if wanted > len(data) - begin:
        raise PhpError(position)
    at, seen = begin, 0
    while seen < wanted:
        escape = data.find(b"\\", at)
        plain = (len(data) if escape < 0 else escape) - at
        if plain >= wanted - seen:
            at += wanted - seen
            break
        at, seen = at + plain, seen + plain
        if _ESCAPE_PAIR.match(data, at) is None:
            raise PhpError(position)
        at, seen = at + 3, seen + 1
    if data[at : at + 2] != b'";':
        raise PhpError(position)
    spans.append(Span(position, begin, at, "S", is_key, number))
    return at + 2


def unescape(data: bytes) -> bytes:
    """The bytes of an ``S:`` string."""
    return _ESCAPE_PAIR.sub(lambda match: bytes((int(match[1], 16),)), data)


def escape(data: bytes) -> bytes:
    """Bytes written for an ``S:`` string: what is not printable, and the backslash, escaped."""
    return b"".join(
        b"\\%02x" % byte if byte < 0x20 or byte > 0x7E or byte == 0x5C else bytes((byte,))
        for byte in data
    )
