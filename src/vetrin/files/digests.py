"""Digests of contents, by name."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable

import xxhash

from .base import Buffer, SourceTree


def digest_of(blocks: Iterable[Buffer], algorithm: str = "xxh128") -> str:
    """The digest in hexadecimal digits: ``xxh128`` (XXH3-128), or one of hashlib's."""
    hasher = xxhash.xxh3_128() if algorithm == "xxh128" else hashlib.new(algorithm)
    for block in blocks:
        hasher.update(block)
    return hasher.hexdigest()


def common_algorithm(one: SourceTree, other: SourceTree) -> str:
    """What both make where their files are; empty where there is none."""
    return next((name for name in one.algorithms if name in other.algorithms), "")
