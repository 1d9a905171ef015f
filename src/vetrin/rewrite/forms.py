"""The ways in which a slash and a colon are written inside other notations.

An address keeps its form when it is replaced: what stood as ``%2F`` comes back as ``%2F``, with the
same letter case. Everything here works on lower-cased bytes; the original text is kept beside.
"""

from __future__ import annotations

import re

PLAIN = "plain"
SCHEME_RELATIVE = "scheme-relative"
JSON = "json"
PERCENT = "percent"
PERCENT_TWICE = "percent-twice"
REFERENCE = "reference"
BARE = "bare"
PATH = "path"
LITERAL = "literal"
RELATIVE = "root-relative"

# What stands before a host, read backwards: two equal slashes, and perhaps a colon and a scheme.
# Backwards, because the host is what the scanner finds first, and a reversed match is anchored.
_SLASH_BACK = rb"(?P<s>/\\*|f2(?:52)?%|f200u\\+|;f20*x#&|;740*#&|;los&)"
_COLON_BACK = rb"(?P<c>:|a3(?:52)?%|a300u\\+|;a30*x#&|;850*#&|;noloc&)"
_USER_BACK = rb"(?P<user>(?:@|04(?:52)?%)[^/@\s?#\"'<>%&\\\\\0]{1,120})?"
BEFORE_HOST = re.compile(
    _USER_BACK + _SLASH_BACK + rb"(?P=s)(?:" + _COLON_BACK + rb"(?P<h>s?ptth))?"
)
COLON_BACK = re.compile(_COLON_BACK)

SLASH = re.compile(rb"\\*/|%(?:25)?2f|\\+u002f|&#x0*2f;|&#0*47;|&sol;", re.IGNORECASE)
PORT = re.compile(rb"(?::|%(?:25)?3a|\\+u003a|&#x0*3a;|&#0*58;|&colon;)(\d+)(:\d)?")

# Separators of a path on disk; a lone run of backslashes is Windows' own, plain or escaped.
SEPARATOR = rb"(?:\\*/|%(?:25)?2[fF]|\\+u002[fF]|&#[xX]0*2[fF];|&#0*47;)"
WINDOWS_SEPARATOR = rb"(?:\\*/|\\+|%(?:25)?(?:2[fF]|5[cC]))"

_PERCENT_BYTE = re.compile(rb"%(?:25)?([0-9a-fA-F]{2})")
_ESCAPE_BYTE = re.compile(rb"\\+u([0-9a-fA-F]{4})")
_PERCENT_BACK = re.compile(rb"%(?:25)?([0-9a-fA-F]{2})$")
_ESCAPE_BACK = re.compile(rb"(\\+)(?:u([0-9a-fA-F]{4})|[nrtbf])$")

_WORD = frozenset(
    b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_-~+@$"
) | frozenset(range(0x80, 0x100))
_BEFORE_PATH = _WORD | frozenset(b"./\\}")


def slash_form(slash: bytes) -> str:
    """Name the form of one slash as it stands in the text."""
    if slash == b"/":
        return PLAIN
    if slash[:1] == b"\\":
        return JSON
    if slash[:1] == b"%":
        return PERCENT_TWICE if slash[1:3] == b"25" else PERCENT
    return REFERENCE


def colon_like(slash: bytes) -> bytes:
    """The colon written in the notation of ``slash``, for a text that shows no colon itself."""
    if slash[:1] == b"%":
        hexadecimal = b"3a" if slash.endswith(b"f") else b"3A"
        return slash[:-2] + hexadecimal
    if slash[:2] == b"&#":
        if slash[2:3] in (b"x", b"X"):
            return slash[:-3] + (b"3a;" if slash.endswith(b"f;") else b"3A;")
        return slash.replace(b"47", b"58")
    if slash == b"&sol;":
        return b"&colon;"
    return b":"


def ends_path(data: bytes, position: int) -> bool:
    """True if a path that was matched up to ``position`` ends there, or a slash follows.

    A letter, a digit or the like means that a longer name begins alike; a full stop ends the path
    only where no name goes on behind it.
    """
    if position >= len(data):
        return True
    byte = data[position]
    if byte in _WORD:
        return False
    if byte == 0x2E:
        following = data[position + 1 : position + 2]
        return not following or following[0] not in _WORD
    if byte == 0x25:
        match = _PERCENT_BYTE.match(data, position)
        return match is None or int(match[1], 16) not in _WORD
    if byte == 0x5C:
        match = _ESCAPE_BYTE.match(data, position)
        return match is None or (int(match[1], 16) < 0x80 and int(match[1], 16) not in _WORD)
    return True


def begins_path(data: bytes, position: int) -> bool:
    """True if a path on disk can begin at ``position``: nothing of a path stands before it."""
    if position <= 0:
        return True
    byte = data[position - 1]
    before = data[max(0, position - 16) : position]
    if byte not in _BEFORE_PATH:
        return True
    if byte == 0x2F or before[-3:].lower() == b"%2f":
        return re.search(rb"(?i)file(?::|%3a|%253a)(?:\\*/|%2f|%252f){2}$", before) is not None
    escape = _PERCENT_BACK.search(before)
    if escape is not None:
        return int(escape[1], 16) not in _BEFORE_PATH
    escape = _ESCAPE_BACK.search(before)
    if escape is not None and len(escape[1]) % 2 == 1:
        code = escape[2]
        return code is None or (int(code, 16) < 0x80 and int(code, 16) not in _BEFORE_PATH)
    return False
