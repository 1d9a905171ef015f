"""Values that hold other values encoded: base64, and base64 of gzip, zlib or raw deflate.

They are opened only where somebody declared that a column holds such. One that could not be written
again in the very same way is not opened at all.
"""

from __future__ import annotations

import base64
import binascii
import re
import zlib
from collections.abc import Callable
from functools import partial

_LARGEST = 64_000_000
_STANDARD = re.compile(rb"[A-Za-z0-9+/]+={0,2}$")
_URL_SAFE = re.compile(rb"[A-Za-z0-9_-]+={0,2}$")

Cipher = Callable[[bytes], bytes]


def open_payload(data: bytes) -> tuple[bytes, Cipher] | None:
    """What is inside, and the function that encodes a changed inside the same way.

    None where nothing is encoded, or where a round trip would not reproduce ``data``.
    """
    outer = _base64(data)
    if outer is None:
        return None
    inner, seal = outer
    for opened in (_compressed(inner, 31), _compressed(inner, 15), _compressed(inner, -15)):
        if opened is not None:
            return opened[0], partial(_sealed, seal, opened[1])
    return inner, seal


def _sealed(seal: Cipher, compress: Cipher, new: bytes) -> bytes:
    return seal(compress(new))


def _base64(data: bytes) -> tuple[bytes, Cipher] | None:
    if len(data) < 8:
        return None
    for pattern, alternative in ((_STANDARD, None), (_URL_SAFE, b"-_")):
        if not pattern.match(data):
            continue
        padded = data.endswith(b"=") or len(data) % 4 == 0

        def seal(
            new: bytes, padded: bool = padded, alternative: bytes | None = alternative
        ) -> bytes:
            text = base64.b64encode(new, alternative)
            return text if padded else text.rstrip(b"=")

        try:
            inner = base64.b64decode(data + b"=" * (-len(data) % 4), alternative, validate=True)
        except binascii.Error:
            continue
        if seal(inner) == data:
            return inner, seal
    return None


def _compressed(data: bytes, bits: int) -> tuple[bytes, Cipher] | None:
    """Open gzip (31), zlib (15) or raw deflate (-15), and find the level that writes it again."""
    opener = zlib.decompressobj(bits)
    try:
        content = opener.decompress(data, _LARGEST)
    except zlib.error:
        return None
    if not opener.eof or opener.unused_data or not content:
        return None
    head = data[:10] if bits == 31 else b""
    for level in (6, 9, 1, 5, 7, 8, 2, 3, 4):

        def seal(new: bytes, level: int = level) -> bytes:
            writer = zlib.compressobj(level, zlib.DEFLATED, bits)
            text = writer.compress(new) + writer.flush()
            # A gzip's header tells when and where it was made; that is kept.
            return head + text[10:] if head else text

        if seal(content) == data:
            return content, seal
    return None
