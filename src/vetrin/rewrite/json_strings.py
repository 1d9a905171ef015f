"""String literals of JSON: taking one apart and writing a changed one in the same style."""

from __future__ import annotations

import json
import re

STRING = re.compile(rb'"((?:[^"\\]|\\.)*)"', re.DOTALL)
"""A whole JSON string literal; group 1 is what stands between the quotes."""

_ESCAPE = re.compile(rb"\\(?:u[0-9a-fA-F]{4}|.)", re.DOTALL)
_LENGTH_INSIDE = re.compile(rb'[sSaOC]:\d+:(?:\\+"|\{)')
_SERIALISED_LITERAL = re.compile(rb'"([sSaOCE]:\d+:(?:[^"\\]|\\.)*)"', re.DOTALL)


def may_hold_serialised(data: bytes) -> bool:
    """True if some escaped quote in ``data`` may belong to a serialised value in a JSON string."""
    return b'\\"' in data and _LENGTH_INSIDE.search(data) is not None


def serialised_literals(data: bytes) -> list[tuple[int, int]]:
    """The contents, as ranges of ``data``, of JSON strings that may hold serialised values.

    Where all of ``data`` is JSON, each of its strings counts; in other text only those that begin
    like a serialised value, because nothing else tells where a string begins.
    """
    text = data.strip()
    if text[:1] in (b"{", b"[", b'"'):
        try:
            json.loads(text)
        except (ValueError, RecursionError):
            pass
        else:
            return [
                match.span(1) for match in STRING.finditer(data) if may_hold_serialised(match[1])
            ]
    return [match.span(1) for match in _SERIALISED_LITERAL.finditer(data)]


class Style:
    """How one literal writes what JSON lets one write in two ways.

    Raises:
        ValueError: the literal cannot be reproduced (it mixes ways, or is no JSON).
    """

    def __init__(self, literal: bytes) -> None:
        escapes = {escape.lower() for escape in _ESCAPE.findall(literal)}
        self._slashes = b"\\/" in escapes
        self._ascii = literal.isascii()
        self._capital = any(re.search(rb"u.*[A-F]", e) for e in _ESCAPE.findall(literal))
        self._hexadecimal = [name for name in "<>&'" if b"\\u%04x" % ord(name) in escapes]
        self._quote = b"\\u0022" in escapes
        self.decoded = json.loads(b'"' + literal + b'"', strict=False).encode(
            "utf-8", "surrogatepass"
        )
        if self.encode(self.decoded) != literal:
            raise ValueError("a JSON string that mixes two ways of writing")

    def encode(self, decoded: bytes) -> bytes:
        """Write ``decoded`` (UTF-8) as the contents of a literal in this style."""
        text = json.dumps(decoded.decode("utf-8", "surrogatepass"), ensure_ascii=self._ascii)[1:-1]
        if self._quote:
            text = text.replace('\\"', "\\u0022")
        if self._slashes:
            text = text.replace("/", "\\/")
        for name in self._hexadecimal:
            text = text.replace(name, f"\\u{ord(name):04x}")
        if self._capital:
            text = re.sub(
                r"(\\\\)|\\u([0-9a-f]{4})",
                lambda match: match[1] or "\\u" + match[2].upper(),
                text,
            )
        return text.encode("utf-8", "surrogatepass")
