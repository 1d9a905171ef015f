"""Values as SQL text writes them, as the bytes that they stand for.

Source: the servers' reference manuals, "String Literals", "Hexadecimal Literals", "Bit Value Literals".
"""

from __future__ import annotations

import contextlib
import re

from ....errors import DatabaseError

_ESCAPES = ((b"\\n", b"\n"), (b'\\"', b'"'), (b"\\'", b"'"), (b"\\r", b"\r"), (b"\\0", b"\0"),
            (b"\\t", b"\t"), (b"\\Z", b"\x1a"), (b"\\b", b"\b"), (b"\\/", b"/"))  # fmt: skip
_ANY = re.compile(rb"\\(.)", re.DOTALL)
_LETTERS = {b"n": b"\n", b"r": b"\r", b"0": b"\0", b"t": b"\t", b"Z": b"\x1a", b"b": b"\b"}
_INTRODUCED = re.compile(rb"_\w+\s*(?=['\"x0])", re.IGNORECASE)
_WORDS = {b"NULL": None, b"TRUE": b"1", b"FALSE": b"0", b"DEFAULT": None}


def unescaped(text: bytes, quote: bytes = b"'", *, backslashes: bool = True) -> bytes:
    """What stands between two quotes, as it is meant."""
    if quote in text:
        # A doubled quote; one behind a backslash is no such.
        text = (
            re.sub(rb"(\\.)|%b%b" % (quote, quote), lambda m: m[1] or quote, text, flags=re.DOTALL)
            if backslashes and b"\\" in text
            else text.replace(quote * 2, quote)
        )
    if not backslashes or b"\\" not in text:
        return text
    parts = text.split(b"\\\\")
    for at, part in enumerate(parts):
        if b"\\" in part:
            for escape, meant in _ESCAPES:
                if escape in part:
                    part = part.replace(escape, meant)
                    if b"\\" not in part:
                        break
            else:
                part = _ANY.sub(lambda m: _LETTERS.get(m[1], m[1]), part)
            parts[at] = part
    return b"\\".join(parts)


class Introduced(bytes):
    """A text that says of itself in which character set it is."""

    charset = ""


def introduced(value: bytes | None, charset: bytes) -> bytes | None:
    """A value behind the name of its character set."""
    if value is None:
        return None
    text = Introduced(value)
    text.charset = charset.decode("latin-1").lower()
    return text


def value_of(token: bytes, *, backslashes: bool = True) -> bytes | None:
    """A literal as it stands in a statement: with its quotes, or hexadecimal, or a number or NULL.

    Raises:
        DatabaseError: it is no literal.
    """
    match = _INTRODUCED.match(token)
    if match:
        found = value_of(token[match.end() :], backslashes=backslashes)
        return introduced(found, match[0].strip()[1:])
    first = token[:1]
    if first in (b"'", b'"') and token[-1:] == first:
        return unescaped(token[1:-1], first, backslashes=backslashes)
    with contextlib.suppress(ValueError):  # no digits of this kind: said below
        if token[:2] in (b"0x", b"0X"):
            digits = token[2:].decode("latin-1")
            return bytes.fromhex(digits.rjust(len(digits) + len(digits) % 2, "0"))
        if first in b"xX" and token[1:2] == b"'":
            return bytes.fromhex(token[2:-1].decode("latin-1"))
        if (first in b"bB" and token[1:2] == b"'") or token[:2] == b"0b":
            digits = token[2:].rstrip(b"'").decode("latin-1")
            return int(digits or "0", 2).to_bytes(max(1, (len(digits) + 7) // 8), "big")
    upper = token.upper()
    if upper in _WORDS:
        return _WORDS[upper]
    if re.fullmatch(rb"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?", token):
        return token
    raise DatabaseError(
        f"{token[:60].decode('utf-8', 'replace')!r} is no value that can be taken over"
    )
