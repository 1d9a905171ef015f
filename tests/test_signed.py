"""Values that a site signs with its own secrets."""

from __future__ import annotations

import base64
import hashlib
import hmac
import json

import pytest

from vetrin.demo.serialise import serialise
from vetrin.rewrite.php_serialized import walk
from vetrin.rewrite.signed import Signatures, Signing

OLD, NEW = b"https://www.harrowmere.example", b"http://harrowmere.test:8080"
ONE, OTHER = b"the live site's words", b"the copy's words"


def signing(old: bytes | None = ONE, new: bytes | None = OTHER) -> Signing:
    return Signing(b"wp:legacy-widget", "encoded", "hash", "md5", old, new)


def signed(secret: bytes, inner: bytes) -> tuple[str, str]:
    return base64.b64encode(inner).decode(), hmac.new(secret, inner, hashlib.md5).hexdigest()


def block(secret: bytes, inner: bytes) -> str:
    payload, signature = signed(secret, inner)
    raw = {"idBase": "text", "instance": {"encoded": payload, "hash": signature, "raw": {"a": 1}}}
    return f"<!-- wp:legacy-widget {json.dumps(raw, separators=(',', ':'))} /-->"


def rewritten(inner: bytes) -> bytes:
    if OLD not in inner:
        return inner
    return serialise({"text": f"see {NEW.decode()}/fares???>"}).encode()


INNER = serialise({"text": f"see {OLD.decode()}/fares???>"}).encode()


def forms(text: str) -> list[bytes]:
    return [
        text.encode(),
        serialise({"content": text, "n": 1}).encode(),
        serialise({"deep": serialise([text])}).encode(),
        json.dumps({"content": text}).encode(),
        json.dumps({"content": json.dumps(text)}).replace("/", "\\/").encode(),
    ]


@pytest.mark.parametrize("number", range(5))
def test_it_is_opened_rewritten_and_signed_with_the_target_s_secret(number: int) -> None:
    found = Signatures()
    value = forms(block(ONE, INNER))[number]
    made = signing().through(value, rewritten, found)
    assert made == forms(block(OTHER, rewritten(INNER)))[number]
    assert (found.anew, found.left) == (1, 0)
    if made.startswith(b"a:"):
        assert walk(made).end == len(made)
    assert signing(OTHER, OTHER).through(made, rewritten, Signatures()) is made


def test_nothing_is_signed_that_was_not_signed_before() -> None:
    """Who may write a text must not get a signature for what they wrote."""
    found = Signatures()
    forged = block(b"a guess", INNER).encode()
    assert signing().through(forged, rewritten, found) is forged
    # Without the source's secret, what holds no objects does no harm; what does is left.
    brought = block(b"nobody knows", INNER).encode()
    assert (
        signing(None).through(brought, rewritten, found) == block(OTHER, rewritten(INNER)).encode()
    )
    for inner in (b'O:5:"Train":0:{}', b'a:1:{i:0;C:1:"X":0:{}}', b'a:1:{i:0;O:+5:"Train":0:{}}'):
        value = block(b"nobody knows", inner).encode()
        assert signing(None).through(value, rewritten, found) is value
    assert (found.anew, found.left) == (1, 4)


def test_where_the_target_s_secret_is_not_known_it_is_counted() -> None:
    found = Signatures()
    value = block(ONE, INNER).encode()
    assert signing(new=None).through(value, rewritten, found) is value
    assert found.left == 1


def test_other_texts_are_left_alone() -> None:
    payload, signature = signed(ONE, INNER)
    pair = f'"encoded":"{payload}","hash":"{signature}"'
    for text in (
        pair,
        f"<!-- wp:legacy-widget {{}} --> {pair}",
        "wp:legacy-widget",
        f"wp:legacy-widget --> {pair}",
    ):
        assert signing().through(text.encode(), rewritten, Signatures()) == text.encode()


def test_no_secret_shows_in_what_is_printed() -> None:
    assert ONE.decode() not in repr(signing()) and OTHER.decode() not in repr(signing())
