"""Digests by which rows are told to be as they were.

A digest is how many rows there are and the sum of 64 bits (the first eight bytes, big-endian) of the SHA-256
(FIPS 180-4) of each one's record. A record has before each cell its length (``row_codec.py``), so no two rows
have the same one; sums of a cryptographic digest do not cancel out as those of CRC-32 do. Servers make it
themselves with what SQL has, so that a table that was taken once need not be sent again to be checked: rows that
changed pass for unchanged with a chance of 2**-64. A row that is too long for the server to digest makes the
digest one that cannot be told.
"""

from __future__ import annotations

import hashlib
import struct
from collections.abc import Iterable, Sequence

NO_ROWS = "0-0"
UNTOLD = ""
_BEYOND = 10**30  # in a sum, what a server puts in for a row that is too long


def digest_of_records(records: Iterable[bytes]) -> str:
    """The digest of rows, in any order: ``COUNT-SUM``."""
    return digest_of_sums(sums_of_records(records))


def digest_of_sums(sums: Sequence[int]) -> str:
    """The digest of rows by what each adds to it."""
    return f"{len(sums)}-{sum(sums)}"


def sums_of_records(records: Iterable[bytes]) -> tuple[int, ...]:
    """What each of some rows adds to a digest."""
    sha256 = hashlib.sha256
    digests = [sha256(record).digest() for record in records]
    # All at once: this is done for every row that there is.
    return struct.unpack(">" + "Q24x" * len(digests), b"".join(digests))


def digest_of_sum(count: int, total: int | None) -> str:
    """The digest as a server gives it, ``UNTOLD`` where a row was too long for it."""
    if (total or 0) >= _BEYOND:
        return UNTOLD
    return f"{count}-{total or 0}"


def digest_with(digest: str, gone: Iterable[bytes], came: Iterable[bytes]) -> str:
    """The digest of rows of which some went, and others came, by their records."""
    count, _, total = digest.partition("-")
    less, more = sums_of_records(gone), sums_of_records(came)
    return f"{int(count) + len(more) - len(less)}-{int(total) + sum(more) - sum(less)}"


def joint_digest(digests: Iterable[str]) -> str:
    """The digest of all rows of which these are the digests of parts; ``UNTOLD`` where one of them is."""
    count = total = 0
    for digest in digests:
        if digest == UNTOLD:
            return UNTOLD
        some, _, part = digest.partition("-")
        count, total = count + int(some), total + int(part)
    return f"{count}-{total}"


def rows_in(digest: str) -> int:
    """Of how many rows a digest is; none for one that cannot be told."""
    return int(digest.partition("-")[0] or 0)
