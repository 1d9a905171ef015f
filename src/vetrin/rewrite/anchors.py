"""Choosing the few short texts that must occur wherever anything can match.

Looking for them costs a scan at memory speed; only where one is found does any parsing begin. Needles
that share a part are covered by that part, so that the cost of looking does not grow with their
number.
"""

from __future__ import annotations

from collections.abc import Iterable

_SHORTEST = 5
MOST = 6
"""Beyond this many anchors one regular expression is quicker than one search for each."""


def common_part(first: bytes, second: bytes) -> bytes:
    """The longest run of bytes that both hold (the leftmost of equals); O(len × len), for names."""
    best = b""
    lengths = [0] * (len(second) + 1)
    for i, byte in enumerate(first):
        row = [0] * (len(second) + 1)
        for j, other in enumerate(second):
            if byte == other:
                row[j + 1] = length = lengths[j] + 1
                if length > len(best):
                    best = first[i + 1 - length : i + 1]
        lengths = row
    return best


def choose_anchors(needles: Iterable[bytes]) -> dict[bytes, bytes]:
    """Map each needle to an anchor that occurs in it, using as few anchors as can be.

    An anchor is at least five bytes long, unless a needle itself is shorter.
    """
    clusters: list[tuple[bytes, list[bytes]]] = []
    for needle in sorted(set(needles), key=lambda item: (-len(item), item)):
        best = -1
        shared = b""
        for index, (anchor, _) in enumerate(clusters):
            part = anchor if anchor in needle else common_part(anchor, needle)
            if len(part) >= min(_SHORTEST, len(anchor)) and len(part) > len(shared):
                best, shared = index, part
        if best < 0:
            clusters.append((needle, [needle]))
        else:
            clusters[best] = (shared, [*clusters[best][1], needle])
    return {needle: anchor for anchor, members in clusters for needle in members}
