"""Requests to a relay and its answers, sealed between the one who holds its key and the relay alone.

A request: a byte for the suite, 8 of the relay's id, 16 of a session, 8 of a counter (big-endian); the public key of
a pair made for this request; a signature of 64 bytes; and the sealed body. The signature (of the owner's key) is of
``"vetrin relay request\\0"``, the 33 bytes in front, the public key, and SHA-256 of the sealed body. The body's key
is HKDF-SHA256 (RFC 5869) of the secret that the made pair has in common with the relay's; that of the answer is of
this one and of the one that a pair of the relay's, made for the answer, has in common with the request's. So whoever
has read the relay's file can make no request, and opens no answer that was recorded. The 33 bytes are authenticated
with both; each key seals one thing, so the nonce is zero.

Suites: 1 is Ed25519 (RFC 8032), X25519 (RFC 7748) and ChaCha20-Poly1305 (RFC 8439), which libsodium has; 2 is ECDSA
and ECDH on P-256 and AES-256-GCM (NIST FIPS 186-5, SP 800-38D), for hosts whose PHP has only OpenSSL.
"""

from __future__ import annotations

import base64
import hashlib
import secrets
import struct
from dataclasses import dataclass, field
from functools import cached_property

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.asymmetric.utils import decode_dss_signature
from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey, X25519PublicKey
from cryptography.hazmat.primitives.ciphers.aead import AESGCM, ChaCha20Poly1305
from cryptography.hazmat.primitives.kdf.hkdf import HKDF

SODIUM, OPENSSL = 1, 2
NO_SESSION = bytes(16)
SEED = 32  # bytes of a relay's key
_REQUEST, _ANSWER = b"vetrin relay request\0", b"vetrin relay answer\0"
_HEAD = struct.Struct(">B8s16sQ")
_NONCE = bytes(12)
_ORDER = 0xFFFFFFFF00000000FFFFFFFFFFFFFFFFBCE6FAADA7179E84F3B9CAC2FC632551  # of P-256


class Unopened(Exception):
    """What came is no answer of the relay to this request."""


def _hkdf(secret: bytes, info: bytes, salt: bytes = b"") -> bytes:
    return HKDF(hashes.SHA256(), 32, salt or None, info).derive(secret)


def _point(key: ec.EllipticCurvePublicKey) -> bytes:
    form = serialization.PublicFormat.UncompressedPoint
    return key.public_bytes(serialization.Encoding.X962, form)


@dataclass(frozen=True)
class RelayKey:
    """What makes requests to one relay. All else that it takes is derived from ``seed`` (32 bytes): the relay's file
    gets what checks requests, and a secret of its own from which nothing leads back."""

    seed: bytes = field(repr=False)

    @classmethod
    def new(cls) -> RelayKey:
        return cls(secrets.token_bytes(SEED))

    @classmethod
    def parse(cls, text: str) -> RelayKey:
        """A key as it is kept. Raises ValueError for what is none."""
        try:
            seed = base64.b64decode(text.strip(), validate=True)
        except ValueError as error:
            raise ValueError("it is not written in base64") from error
        if len(seed) != SEED:
            raise ValueError(f"it has {len(seed)} bytes, and a relay's key has {SEED}")
        return cls(seed)

    def __str__(self) -> str:
        return "a relay's key"

    @property
    def text(self) -> str:
        """As it is kept; secret."""
        return base64.b64encode(self.seed).decode()

    @cached_property
    def id(self) -> bytes:
        """Eight bytes that tell a relay; no secret."""
        return self._part(b"id")[:8]

    def _part(self, of: bytes) -> bytes:
        return _hkdf(self.seed, b"vetrin relay " + of)

    @cached_property
    def _signer(self) -> Ed25519PrivateKey:
        return Ed25519PrivateKey.from_private_bytes(self._part(b"signing"))

    @cached_property
    def _theirs(self) -> X25519PrivateKey:
        return X25519PrivateKey.from_private_bytes(self._part(b"relay"))

    @cached_property
    def _signer_p256(self) -> ec.EllipticCurvePrivateKey:
        return self._p256(b"signing P-256")

    @cached_property
    def _theirs_p256(self) -> ec.EllipticCurvePrivateKey:
        return self._p256(b"relay P-256")

    def _p256(self, of: bytes) -> ec.EllipticCurvePrivateKey:
        # A number of 48 bytes, so that what it leaves of the order is as good as even (FIPS 186-5, A.2.1).
        number = int.from_bytes(self._part(of) + self._part(of + b", more")[:16], "big")
        return ec.derive_private_key(number % (_ORDER - 1) + 1, ec.SECP256R1())

    def constants(self) -> dict[str, str]:
        """What a relay's file holds of it, by the names of its constants."""
        raw = serialization.Encoding.Raw, serialization.PublicFormat.Raw
        der = self._theirs_p256.private_bytes(
            serialization.Encoding.DER, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
        )  # fmt: skip
        secret = self._theirs.private_bytes(
            serialization.Encoding.Raw, serialization.PrivateFormat.Raw, serialization.NoEncryption()
        )  # fmt: skip
        found = {
            "V_SIGNER": self._signer.public_key().public_bytes(*raw),
            "V_SECRET": secret,
            "V_SIGNER_P256": _point(self._signer_p256.public_key()),
            "V_SECRET_P256": der,
        }
        texts = {name: base64.b64encode(value).decode() for name, value in found.items()}
        return {"V_ID": self.id.hex(), **texts}

    def seal(self, suite: int, session: bytes, counter: int, body: bytes) -> Sealed:
        """A request, ready to be sent."""
        head = _HEAD.pack(suite, self.id, session, counter)
        return (_BySodium if suite == SODIUM else _ByOpenssl)(self, head, body)


class Sealed:
    """One request: its ``text``, and what opens its answer."""

    text: bytes

    def open(self, answer: bytes) -> bytes:
        """What the relay answered.

        Raises:
            Unopened: it is none of its answers to this request.
        """
        raise NotImplementedError


class _BySodium(Sealed):
    def __init__(self, key: RelayKey, head: bytes, body: bytes) -> None:
        self._key, self._head = key, head
        self._own = X25519PrivateKey.generate()
        self._public = self._own.public_key().public_bytes_raw()
        self._theirs = key._theirs.public_key()
        secret = _hkdf(self._own.exchange(self._theirs), _REQUEST + self._public, key.id)
        sealed = ChaCha20Poly1305(secret).encrypt(_NONCE, body, head)
        signed = _REQUEST + head + self._public + hashlib.sha256(sealed).digest()
        self.text = head + self._public + key._signer.sign(signed) + sealed

    def open(self, answer: bytes) -> bytes:
        view = memoryview(answer)
        public = bytes(view[:32])
        try:
            made = self._own.exchange(X25519PublicKey.from_public_bytes(public))
            secret = _hkdf(
                made + self._own.exchange(self._theirs),
                _ANSWER + public + self._public,
                self._key.id,
            )
            return ChaCha20Poly1305(secret).decrypt(_NONCE, view[32:], self._head)
        except (InvalidTag, ValueError) as error:
            raise Unopened from error


class _ByOpenssl(Sealed):
    def __init__(self, key: RelayKey, head: bytes, body: bytes) -> None:
        self._key, self._head = key, head
        self._own = ec.generate_private_key(ec.SECP256R1())
        self._public = _point(self._own.public_key())
        self._theirs = key._theirs_p256.public_key()
        shared = self._own.exchange(ec.ECDH(), self._theirs)
        sealed = AESGCM(_hkdf(shared, _REQUEST + self._public, key.id)).encrypt(_NONCE, body, head)
        signed = _REQUEST + head + self._public + hashlib.sha256(sealed).digest()
        r, s = decode_dss_signature(key._signer_p256.sign(signed, ec.ECDSA(hashes.SHA256())))
        signature = r.to_bytes(32, "big") + s.to_bytes(32, "big")
        self.text = head + self._public + signature + sealed

    def open(self, answer: bytes) -> bytes:
        view = memoryview(answer)
        public = bytes(view[:65])
        try:
            other = ec.EllipticCurvePublicKey.from_encoded_point(ec.SECP256R1(), public)
            made = self._own.exchange(ec.ECDH(), other)
            shared = self._own.exchange(ec.ECDH(), self._theirs)
            secret = _hkdf(made + shared, _ANSWER + public + self._public, self._key.id)
            return AESGCM(secret).decrypt(_NONCE, view[65:], self._head)
        except (InvalidTag, ValueError) as error:
            raise Unopened from error
