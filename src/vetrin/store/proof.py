"""The names of contents, and their proof: a content's name is its digest, so whoever reads it can tell whether it is
what it was."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable

from ..database.page_prints import PagePrints


def fingerprint(content: bytes | memoryview) -> str:
    """The digest of a content, as ``b2sum -l 256`` makes it: 64 hexadecimal digits."""
    return hashlib.blake2b(content, digest_size=32).hexdigest()


class Proof:
    """Names contents by their digest, and proves them so."""

    def name(self, content: bytes) -> str:
        return fingerprint(content)

    def fits(self, content: bytes, digest: str) -> bool:
        """Whether a content is the one that has this name."""
        return fingerprint(content) == digest

    def expect(self, digests: Iterable[str]) -> None:
        """Contents with these names are read next."""

    def keep(self) -> None:
        """Have what was learned last, where that can be."""


class KnownProof(Proof):
    """The same for contents that are read again and again: of those that were named or proved here before it is
    remembered what they looked like (``prints``), which is seen in a fraction of the time. Where that is not known,
    or they look otherwise, only the digest counts."""

    def __init__(self, prints: PagePrints) -> None:
        self._prints = prints

    def name(self, content: bytes) -> str:
        digest = super().name(content)
        self._prints.learn(digest, self._prints.print_of(content))
        return digest

    def fits(self, content: bytes, digest: str) -> bool:
        seen, now = self._prints.of(digest), self._prints.print_of(content)
        if seen == now:
            return True
        if not super().fits(content, digest):
            return False
        self._prints.learn(digest, now)
        return True

    def expect(self, digests: Iterable[str]) -> None:
        self._prints.know(digests)

    def keep(self) -> None:
        self._prints.keep()


BY_DIGEST = Proof()
