"""The servers' character sets as Python knows them.

Source: MariaDB Knowledge Base, "Supported Character Sets and Collations". ``latin1`` is Windows-1252 there, with
the five bytes that this leaves open as the control characters of ISO 8859-1.
"""

from __future__ import annotations

import codecs
from collections.abc import Callable
from typing import Any

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


def between(old: str, new: str) -> Callable[[bytes], bytes] | None:
    """What takes text from one character set to another; None where its bytes stay as they are.

    What the new one can not say becomes a question mark, as on a server.
    """
    one, other = codec_of(old), codec_of(new)
    if one is None or other is None or one == other:
        return None

    def convert(text: bytes) -> bytes:
        if text.isascii() and not _is_wide(one) and not _is_wide(other):
            return text
        try:
            decoded = codecs.decode(text, one)
        except UnicodeDecodeError:
            return text  # it is not what the dump says it is; better as it is than broken
        return codecs.encode(decoded, other, "replace")

    return convert


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
