"""A content told by what in another one is replaced: what edits know anyway, nobody has to search for.

In the store such a patch is ``VSP1``, the number of splices, for each of them where it begins and ends in the base
and how many bytes stand there instead (four bytes each, little-endian), and these bytes one behind the other.
"""

from __future__ import annotations

import struct
from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Sequence
from itertools import accumulate, pairwise
from operator import le
from typing import NamedTuple

_MAGIC = b"VSP1"
_COUNT = struct.Struct("<I")
_PLACE = struct.Struct("<III")


class Splice(NamedTuple):
    """The bytes from ``begin`` to ``end`` are replaced by ``content``. Of several the places are those in the content
    before any of them, in order, and none overlap."""

    begin: int
    end: int
    content: bytes


def spliced(base: bytes, splices: Iterable[Splice]) -> bytes:
    """The content that some splices make of another one."""
    parts: list[bytes | memoryview] = []
    view, at = memoryview(base), 0
    for begin, end, content in splices:
        parts += [view[at:begin], content]
        at = end
    return b"".join([*parts, view[at:]])


def composed(first: Sequence[Splice], then: Sequence[Splice]) -> list[Splice]:
    """The splices that make at once what some make and others make of that."""
    # Of many that are there, as a page that changes day by day has them, most are not touched, and stay as they are.
    sizes = [len(content) for _, _, content in first]
    more = [size - (end - begin) for (begin, end, _), size in zip(first, sizes, strict=True)]
    shifts = [*accumulate(more, initial=0)]  # by how much what lies before each moves what comes
    begins = [one.begin + shift for one, shift in zip(first, shifts, strict=False)]
    ends = [begin + size for begin, size in zip(begins, sizes, strict=True)]
    found: list[Splice] = []
    at = 0  # those before are told
    for low, high, edits in _clusters(begins, ends, then):
        found += first[at:low]
        shift = shifts[low]
        moved = [Splice(begin - shift, end - shift, content) for begin, end, content in edits]
        found += _composed(first[low:high], moved) if high > low or len(moved) > 1 else moved
        at = high
    return [*found, *first[at:]]


def _clusters(
    begins: Sequence[int], ends: Sequence[int], then: Sequence[Splice]
) -> Iterator[tuple[int, int, list[Splice]]]:
    """Some edits of a content, together with the splices in it that they touch, from one to another: these begin and
    end there."""
    low = high = 0
    edits: list[Splice] = []
    upto = -1  # where the last edit ends
    for edit in then:
        first = bisect_left(ends, edit.begin, high)
        apart = upto < edit.begin and (high == low or ends[high - 1] < edit.begin)
        if edits and (first > high or apart):
            yield low, high, edits
            edits = []
        if not edits:
            low = first
        high = bisect_right(begins, edit.end, max(first, high))
        edits.append(edit)
        upto = edit.end
    if edits:
        yield low, high, edits


def _composed(first: Iterable[Splice], then: Sequence[Splice]) -> list[Splice]:
    """The same, whatever there is."""
    found: list[Splice] = []
    stands: list[bytes] = []
    upto = 0  # of the base: all before is told
    for part in _edited(_parts(first), then):
        if isinstance(part, bytes):
            stands.append(part)
            continue
        begin, end = part
        if stands or begin != upto:
            found.append(Splice(upto, begin, b"".join(stands)))
            stands = []
        upto = end
    return found


_Part = bytes | tuple[int, int]  # bytes of its own, or those of the base between two places
_FAR = 1 << 62  # beyond every content


def _parts(splices: Iterable[Splice]) -> Iterator[_Part]:
    """What a content is made of."""
    at = 0
    for begin, end, content in splices:
        yield at, begin
        yield content
        at = end
    yield at, _FAR


def _edited(parts: Iterable[_Part], then: Sequence[Splice]) -> Iterator[_Part]:
    """What it is made of once some of it is replaced."""
    edits = iter([*then, Splice(2 * _FAR, 2 * _FAR, b"")])
    begin, end, content = next(edits)
    at = 0
    for part in parts:
        rest = part
        while _size(rest):
            if at == end:
                yield content
                begin, end, content = next(edits)
                continue
            some, rest = _cut(rest, (begin if at < begin else end) - at)
            if at < begin:
                yield some
            at += _size(some)


def _size(part: _Part) -> int:
    return len(part) if isinstance(part, bytes) else part[1] - part[0]


def _cut(part: _Part, size: int) -> tuple[_Part, _Part]:
    if isinstance(part, bytes):
        return part[:size], part[size:]
    middle = min(part[1], part[0] + size)
    return (part[0], middle), (middle, part[1])


def packed(splices: Sequence[Splice]) -> bytes:
    """Splices as a patch."""
    places = [_PLACE.pack(begin, end, len(content)) for begin, end, content in splices]
    return b"".join([_MAGIC, _COUNT.pack(len(splices)), *places, *(one.content for one in splices)])


def is_packed(patch: bytes) -> bool:
    return patch.startswith(_MAGIC)


def unpacked(patch: bytes, size: int) -> list[Splice]:
    """The splices of a patch of a base of ``size`` bytes.

    Raises:
        ValueError: it is none.
    """
    first = len(_MAGIC) + _COUNT.size
    count = int.from_bytes(patch[len(_MAGIC) : first], "little")
    begin = first + count * _PLACE.size
    if not is_packed(patch) or len(patch) < max(first, begin):
        raise ValueError("a patch that is cut off")
    numbers = struct.unpack(f"<{3 * count}I", patch[first:begin])
    begins, ends, lengths = numbers[::3], numbers[1::3], numbers[2::3]
    # By single calls for all of them, as a page has hundreds after some weeks.
    if not (all(map(le, begins, ends)) and all(map(le, ends, (*begins[1:], size)))):
        raise ValueError("a patch of something else")
    places = [*accumulate(lengths, initial=begin)]
    if places[-1] != len(patch):
        raise ValueError("a patch of another length")
    contents = [patch[at:end] for at, end in pairwise(places)]
    return [*map(Splice, begins, ends, contents)]
