"""A store with a passphrase: nothing in it can be read, or changed unseen, without it.

``seal.json`` holds what is needed to make the key from the passphrase: scrypt (RFC 7914) with its
parameters and salt makes a key that opens the store's own key, which is random. Pieces are sealed with
ChaCha20-Poly1305 (RFC 8439) under a nonce of their own, together with the name that they have, so that one
cannot be put in another's place. Names of contents are keyed digests (BLAKE2b): they tell nothing of what
is inside.
"""

from __future__ import annotations

import base64
import hashlib
import json
import secrets
from typing import Protocol

from ..errors import MissingPiece, StoreError, WrongPassphrase
from .backend import Backend

_FILE = "seal.json"
COST, BLOCK_SIZE, PARALLEL = 1 << 17, 8, 1  # 128 MB and a good third of a second for each try
_MOST_N = 1 << 20
_NONCE = 12
_MAGIC = b"VS1"


class Cipher(Protocol):
    """How pieces and their names look on the backend."""

    sealed: bool

    def name(self, digest: str) -> str:
        """The name of a content with this digest."""

    def close(self, name: str, content: bytes) -> bytes:
        """The content as it is stored under a name."""

    def open(self, name: str, content: bytes) -> bytes:
        """Raises ValueError where the piece was changed, or is that of another name."""


class NoCipher:
    """A store without a passphrase."""

    sealed = False

    def name(self, digest: str) -> str:
        return digest

    def close(self, name: str, content: bytes) -> bytes:
        return content

    def open(self, name: str, content: bytes) -> bytes:
        return content


class PassphraseCipher:
    sealed = True

    def __init__(self, key: bytes) -> None:
        # Loaded only for a store with a passphrase.
        from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305

        self._cipher = ChaCha20Poly1305(_part(key, b"pieces"))
        self._names = _part(key, b"names")

    def name(self, digest: str) -> str:
        return hashlib.blake2b(digest.encode(), key=self._names, digest_size=32).hexdigest()

    def close(self, name: str, content: bytes) -> bytes:
        nonce = secrets.token_bytes(_NONCE)
        return _MAGIC + nonce + self._cipher.encrypt(nonce, content, name.encode())

    def open(self, name: str, content: bytes) -> bytes:
        # Loaded only for a store with a passphrase.
        from cryptography.exceptions import InvalidTag

        if not content.startswith(_MAGIC):
            raise ValueError("it is not sealed as it should be")
        at = len(_MAGIC) + _NONCE
        try:
            return self._cipher.decrypt(content[len(_MAGIC) : at], content[at:], name.encode())
        except InvalidTag as error:
            raise ValueError("it was changed after it was sealed") from error


def cipher_of(backend: Backend, passphrase: str | None, *, wanted: bool = False) -> Cipher:
    """The cipher of the store on a backend; with ``wanted``, an empty one gets this passphrase.

    Raises:
        WrongPassphrase: it is not the store's, or it is missing.
        StoreError: a store with content has no passphrase, and cannot get one now.
    """
    try:
        raw = backend.read(_FILE)
    except MissingPiece:
        if not wanted:
            return NoCipher()
        if not passphrase:
            raise WrongPassphrase("the store is to have a passphrase, and none was given") from None
        if next(iter(backend.names("snapshots")), None) is not None:
            raise StoreError(
                f"the store in {backend.where} has snapshots without a passphrase: begin another one for "
                "those that shall have one"
            ) from None
        key = _begin(backend, passphrase)
        return PassphraseCipher(key)
    if not passphrase:
        raise WrongPassphrase(f"the store in {backend.where} has a passphrase, and none was given")
    return PassphraseCipher(_unlock(raw, passphrase, backend.where))


def _begin(backend: Backend, passphrase: str) -> bytes:
    # Loaded only for a store with a passphrase.
    from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305

    key, salt, nonce = secrets.token_bytes(32), secrets.token_bytes(16), secrets.token_bytes(_NONCE)
    outer = _stretched(passphrase, salt, COST, BLOCK_SIZE, PARALLEL)
    text = json.dumps(
        {
            "version": 1,
            "derivation": {
                "name": "scrypt",
                "n": COST,
                "r": BLOCK_SIZE,
                "p": PARALLEL,
                "salt": _text(salt),
            },
            "cipher": "chacha20-poly1305",
            "key": _text(nonce + ChaCha20Poly1305(outer).encrypt(nonce, key, _MAGIC)),
        },
        indent=2,
    )
    backend.write(_FILE, text.encode())
    backend.settle()
    # Of two who begin a store at the same moment, one is overwritten: what is there now counts.
    return _unlock(backend.read(_FILE), passphrase, backend.where)


def _unlock(raw: bytes, passphrase: str, where: str) -> bytes:
    # Loaded only for a store with a passphrase.
    from cryptography.exceptions import InvalidTag
    from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305

    try:
        data = json.loads(raw)
        how = data["derivation"]
        salt, locked = _bytes(how["salt"]), _bytes(data["key"])
        n, r, p = int(how["n"]), int(how["r"]), int(how["p"])
        if (
            data["version"] != 1
            or how["name"] != "scrypt"
            or not (1 < n <= _MOST_N and r * p <= 64)
        ):
            raise ValueError("an unknown version")
    except (ValueError, KeyError, TypeError) as error:
        raise StoreError(f"{_FILE} of the store in {where} cannot be read: {error}") from error
    outer = _stretched(passphrase, salt, n, r, p)
    try:
        return ChaCha20Poly1305(outer).decrypt(locked[:_NONCE], locked[_NONCE:], _MAGIC)
    except InvalidTag as error:
        raise WrongPassphrase(f"this passphrase does not open the store in {where}") from error


def _stretched(passphrase: str, salt: bytes, n: int, r: int, p: int) -> bytes:
    room = 128 * r * (n + p + 2)
    return hashlib.scrypt(passphrase.encode(), salt=salt, n=n, r=r, p=p, maxmem=2 * room, dklen=32)


def _part(key: bytes, purpose: bytes) -> bytes:
    return hashlib.blake2b(purpose, key=key, digest_size=32).digest()


def _text(data: bytes) -> str:
    return base64.b64encode(data).decode()


def _bytes(text: str) -> bytes:
    return base64.b64decode(text, validate=True)
