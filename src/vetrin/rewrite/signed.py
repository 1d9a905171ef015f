"""Values that a site signed with its own secrets: base64 of something, and beside it an HMAC (RFC 2104) of what is
inside, both in a text. Under another site's secrets the signature is worth nothing, so it is made anew.

Nothing is signed that was not signed before: a signature is checked with the source's secret first. Where that
is not known, only what holds no objects is signed, for those a reader would bring to life.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
import re
from collections.abc import Callable
from dataclasses import dataclass, field

from . import php_serialized
from .json_strings import may_hold_serialised

_OBJECT = re.compile(rb"(?:^|[;{])[OCE]:\+?\d")


@dataclass
class Signatures:
    """How many were made ``anew``, and how many were ``left``, which the target will take for forged."""

    anew: int = 0
    left: int = 0


@dataclass(frozen=True)
class Signing:
    """One kind of signed value. ``marker`` stands in a text before each; ``payload`` and ``signature`` are what the
    two are called in it; ``digest`` is a hash function's name. ``old`` and ``new`` are the secrets of source and
    target, None where they are not known."""

    marker: bytes
    payload: str
    signature: str
    digest: str
    old: bytes | None = field(repr=False)
    new: bytes | None = field(repr=False)

    @property
    def _pattern(self) -> re.Pattern[bytes]:
        payload, signature = self.payload.encode(), self.signature.encode()
        # A text may lie in JSON itself: then each quotation mark has the same backslashes before it.
        return re.compile(
            rb'(?P<q>\\*)"'
            + re.escape(payload)
            + rb'(?P=q)":\s*(?P=q)"(?P<p>(?:[A-Za-z0-9+=]|\\*/)*)(?P=q)",'
            rb'\s*(?P=q)"'
            + re.escape(signature)
            + rb'(?P=q)":\s*(?P=q)"(?P<s>[0-9a-f]{32,128})(?P=q)"'
        )

    def through(self, value: bytes, rewrite: Callable[[bytes], bytes], found: Signatures) -> bytes:
        """``value`` with what is signed in it opened, rewritten and signed anew; lengths of serialised values
        around it are put right. ``value`` itself where nothing changed."""
        if self.marker not in value:
            return value
        if php_serialized.looks_serialised(value):
            return self._serialised(value, rewrite, found)
        same_size = may_hold_serialised(value)  # lengths may stand before it that nobody puts right
        return self._text(value, rewrite, found, same_size=same_size)

    def _serialised(
        self, value: bytes, rewrite: Callable[[bytes], bytes], found: Signatures
    ) -> bytes:
        try:
            spans = php_serialized.walk(value, len(value) - len(value.lstrip())).spans
        except php_serialized.PhpError:
            return value
        pieces: list[bytes] = []
        done = 0
        for span in spans:
            old = value[span.start : span.end]
            if span.kind != "s" or span.is_key or self.marker not in old:
                continue
            new = self.through(old, rewrite, found)
            if new is not old:
                pieces += (value[done : span.head], b's:%d:"%b' % (len(new), new))
                done = span.end
        if not pieces:
            return value
        return b"".join([*pieces, value[done:]])

    def _text(
        self,
        text: bytes,
        rewrite: Callable[[bytes], bytes],
        found: Signatures,
        *,
        same_size: bool,
    ) -> bytes:
        pieces: list[bytes] = []
        done = 0
        for match in self._pattern.finditer(text):
            start = text.rfind(self.marker, done, match.start())
            if start < 0 or b"-->" in text[start : match.start()]:
                continue
            made = self._made(match["p"], match["s"].decode(), rewrite)
            if made is None or (same_size and len(made[0]) != len(match["p"])):
                found.left += 1
                continue
            payload, signature = made
            if (payload, signature) == (match["p"], match["s"]):
                continue
            found.anew += 1
            pieces += (text[done : match.start("p")], payload)
            pieces += (text[match.end("p") : match.start("s")], signature)
            done = match.end("s")
        if not pieces:
            return text
        return b"".join([*pieces, text[done:]])

    def _made(
        self, payload: bytes, signature: str, rewrite: Callable[[bytes], bytes]
    ) -> tuple[bytes, bytes] | None:
        """The payload and signature for the target; None where nothing may or can be signed."""
        slash = re.search(rb"\\+/", payload)
        try:
            inner = base64.b64decode(re.sub(rb"\\+/", b"/", payload), validate=True)
        except binascii.Error:
            return None
        if self.new is None:
            return None
        if self.old is not None:
            if not hmac.compare_digest(self._sign(inner, self.old), signature):
                return None
        elif _OBJECT.search(inner):
            return None
        changed = rewrite(inner)
        text = base64.b64encode(changed) if changed is not inner else None
        if text is None:
            new = payload
        else:
            new = text.replace(b"/", slash[0]) if slash else text
        return new, self._sign(changed, self.new).encode()

    def _sign(self, content: bytes, secret: bytes) -> str:
        return hmac.new(secret, content, getattr(hashlib, self.digest)).hexdigest()
