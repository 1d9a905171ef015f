"""The servers' character sets as Python knows them.

Source: MariaDB Knowledge Base, "Supported Character Sets and Collations". ``latin1`` is Windows-1252 there, with
the five bytes that this leaves open as the control characters of ISO 8859-1.
"""

from __future__ import annotations

import codecs
from collections.abc import Callable, Iterator, Sequence
from typing import Any, Protocol

from ...errors import DatabaseError
from ..batch import Cell

_NAMES = {
    "utf8": "utf-8", "utf8mb3": "utf-8", "utf8mb4": "utf-8", "ascii": "ascii", "latin2": "iso8859-2",
    "latin5": "cp1254", "latin7": "iso8859-13", "greek": "iso8859-7", "hebrew": "iso8859-8", "cp1250": "cp1250",
    "cp1251": "cp1251", "cp1256": "cp1256", "cp1257": "cp1257", "cp850": "cp850", "cp852": "cp852",
    "cp866": "cp866", "koi8r": "koi8-r", "koi8u": "koi8-u", "tis620": "tis-620", "big5": "big5", "gbk": "gbk",
    "gb2312": "gb2312", "gb18030": "gb18030", "sjis": "shift_jis", "cp932": "cp932", "ujis": "euc_jp",
    "eucjpms": "euc_jp", "euckr": "euc_kr", "macroman": "mac_roman", "macce": "mac_latin2",
    "ucs2": "utf-16-be", "utf16": "utf-16-be", "utf16le": "utf-16-le", "utf32": "utf-32-be",
}  # fmt: skip
# Those that Python and the servers take for the same, letter by letter.
KNOWN_EXACTLY = frozenset({"utf8", "utf8mb3", "utf8mb4", "ascii", "latin1"})
_OPEN = {0x81: "\x81", 0x8D: "\x8d", 0x8F: "\x8f", 0x90: "\x90", 0x9D: "\x9d"}


def codec_of(charset: str) -> str | None:
    """The name of Python's codec for a character set; None for bytes that are no text, or an unknown one."""
    charset = charset.lower()
    return "vetrin-latin1" if charset == "latin1" else _NAMES.get(charset)


class Conversion(Protocol):
    """What takes text from one character set to another.

    What the new one cannot say becomes a question mark, as on a server. Text that is not what it is said to be
    stays as it is: better so than broken.
    """

    def __call__(self, text: bytes) -> bytes:
        """A text in the other character set; what that does not have becomes a question mark."""

    def all(self, texts: Sequence[Cell]) -> list[Cell]:
        """The same for many at once; NULL and numbers stay what they are."""


# What finds the conversion between two character sets; None where bytes stay as they are.
Between = Callable[[str, str], Conversion | None]


def between(old: str, new: str) -> Conversion | None:
    """A conversion by Python's tables, which are not in every letter those of the servers."""
    one, other = codec_of(old), codec_of(new)
    if one is None or other is None or one == other:
        return None
    return _ByPython(one, other)


class _ByPython:
    def __init__(self, one: str, other: str) -> None:
        self._one, self._other = one, other
        self._wide = _is_wide(one) or _is_wide(other)

    def __call__(self, text: bytes) -> bytes:
        if text.isascii() and not self._wide:
            return text
        try:
            decoded = codecs.decode(text, self._one)
        except UnicodeDecodeError:
            return text
        return codecs.encode(decoded, self._other, "replace")

    def all(self, texts: Sequence[Cell]) -> list[Cell]:
        return [self(text) if isinstance(text, bytes) else text for text in texts]


class ByServer:
    """Conversions by the tables of a database server, for character sets that Python knows otherwise or not at all.

    ``ask`` carries out a statement and gives back its rows; it is called for the first text that needs it.
    """

    def __init__(self, ask: Callable[[str], Sequence[Sequence[Any]]]) -> None:
        self._ask = ask
        self._known: dict[tuple[str, str], Conversion | None] = {}

    def between(self, old: str, new: str) -> Conversion | None:
        pair = (old.lower(), new.lower())
        if not {*pair} - KNOWN_EXACTLY:
            return between(*pair)
        if pair[0] == pair[1] or "binary" in pair or not all(map(str.isalnum, pair)):
            return None
        if pair not in self._known:
            self._known[pair] = _Asked(self._ask, *pair)
        return self._known[pair]


_AT_ONCE, _BYTES = 500, 1 << 19  # of one question to a server
_KEPT = 10_000  # answers


class _Asked:
    def __init__(self, ask: Callable[[str], Sequence[Sequence[Any]]], old: str, new: str) -> None:
        self._ask, self._old, self._new = ask, old, new
        wide = any(_is_wide(codec_of(name) or "") for name in (old, new))
        self._same = (lambda text: not text) if wide else bytes.isascii
        self._answers: dict[bytes, bytes] = {}

    def __call__(self, text: bytes) -> bytes:
        found = self.all([text])[0]
        assert isinstance(found, bytes)
        return found

    def all(self, texts: Sequence[Cell]) -> list[Cell]:
        if len(self._answers) > _KEPT:
            self._answers.clear()
        known = self._answers
        waiting, size = [], 0
        for text in {t for t in texts if isinstance(t, bytes) and not self._same(t)}:
            if text in known:
                continue
            waiting.append(text)
            size += len(text)
            if len(waiting) == _AT_ONCE or size > _BYTES:
                known.update(self._answered(waiting))
                waiting, size = [], 0
        known.update(self._answered(waiting))
        return [known.get(text, text) if isinstance(text, bytes) else text for text in texts]

    def _answered(self, texts: list[bytes]) -> Iterator[tuple[bytes, bytes]]:
        if not texts:
            return
        wanted = ", ".join(
            f"CAST(CONVERT(_{self._old} X'{text.hex()}' USING {self._new}) AS BINARY)"
            for text in texts
        )
        try:
            ((*answers,),) = self._ask(f"SELECT {wanted}")
        except DatabaseError:
            # One of them is no text of that character set; which one is found by halves.
            if len(texts) == 1:
                yield texts[0], texts[0]
                return
            middle = len(texts) // 2
            yield from self._answered(texts[:middle])
            yield from self._answered(texts[middle:])
            return
        for text, answer in zip(texts, answers, strict=True):
            yield text, text if answer is None else bytes(answer)


def _is_wide(codec: str) -> bool:
    """True where ASCII is not one byte a letter."""
    return codec.startswith(("utf-16", "utf-32"))


def _latin1_decode(data: Any, errors: str = "strict") -> tuple[str, int]:
    return codecs.charmap_decode(data, errors, _DECODING)


def _latin1_encode(text: str, errors: str = "strict") -> tuple[bytes, int]:
    return codecs.charmap_encode(text, errors, _ENCODING)


_DECODING = "".join(_OPEN.get(byte) or bytes([byte]).decode("cp1252") for byte in range(256))
_ENCODING = codecs.charmap_build(_DECODING)


def _search(name: str) -> codecs.CodecInfo | None:
    if name.replace("-", "_") != "vetrin_latin1":
        return None
    return codecs.CodecInfo(_latin1_encode, _latin1_decode, name="vetrin-latin1")


codecs.register(_search)
