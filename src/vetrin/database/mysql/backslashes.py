"""Letters that end with a backslash.

In some character sets of East Asia the second byte of a letter can be that of a backslash. Servers and dump programs
see such a letter as one and escape nothing in it. Whoever goes by bytes has to know where letters begin: here such a
backslash is doubled, so that the text means the same byte by byte. Source: the servers' ``my_ismbchar`` for each set.
"""

from __future__ import annotations

import re

_FIRST = {
    "sjis": rb"[\x81-\x9f\xe0-\xfc]", "cp932": rb"[\x81-\x9f\xe0-\xfc]", "big5": rb"[\xa1-\xf9]",
    "gbk": rb"[\x81-\xfe]", "gb18030": rb"[\x81-\xfe]",
}  # fmt: skip


class Doubling:
    """Doubles backslashes of a text that comes in blocks, for one character set; one that needs none changes
    nothing."""

    def __init__(self, charset: str = "") -> None:
        first = _FIRST.get(charset.lower(), b"")
        self.charset = charset.lower() if first else ""
        self._rest = b""
        if first:
            self._there = re.compile(first + rb"\\")
            self._letters = re.compile(first + rb"[\x40-\x7e\x80-\xfe]")
            self._doubled = re.compile(first + rb"(?:\\\\|[\x40-\x7e\x80-\xfe])")
            self._open = re.compile(first + rb"\Z")

    def block(self, block: bytes) -> bytes:
        """The next block; the first half of a letter waits for the second."""
        if not self.charset:
            return block
        block, self._rest = self._rest + block, b""
        end = 0
        for match in self._letters.finditer(block, max(0, self._begin(block))):
            end = match.end()
        if self._open.search(block, max(end, len(block) - 1)):
            block, self._rest = block[:-1], block[-1:]
        if not self._there.search(block):
            return block
        return self._letters.sub(lambda m: m[0] + b"\\" if m[0][1:] == b"\\" else m[0], block)

    def end(self) -> bytes:
        """What was still waiting."""
        rest, self._rest = self._rest, b""
        return rest

    def undone(self, text: bytes) -> bytes:
        """A text as it was, from the beginning of a letter on."""
        if not self.charset:
            return text
        return self._doubled.sub(lambda m: m[0][:2], text) + self.end()

    @staticmethod
    def _begin(block: bytes) -> int:
        """A place near the end where a letter begins: behind the last byte that is a part of none."""
        at = len(block)
        while at and block[at - 1] >= 0x40:
            at -= 1
        return at
