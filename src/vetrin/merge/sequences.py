"""A three-way merge of sequences: lines of a text, items of a list.

The algorithm is that of diff3, as S. Khanna, K. Kunal and B. C. Pierce describe it in "A Formal Investigation of
Diff3" (2007): both sides are matched with what they came from; items that both kept part the rest into chunks, and a
chunk that one side alone changed is taken from that side. Here each side has its own copy of the common state, item
by item the same one.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from difflib import SequenceMatcher
from typing import Generic, TypeVar

Item = TypeVar("Item")


@dataclass(frozen=True)
class Chunk(Generic[Item]):
    """A stretch of a merged sequence. ``items`` are what it becomes, None where both sides changed it to different
    things: ``base``, ``incoming`` and ``target`` say what these are, all as the target would have them."""

    items: Sequence[Item] | None
    base: Sequence[Item] = ()
    incoming: Sequence[Item] = ()
    target: Sequence[Item] = ()


def merge_sequences(
    incoming_base: Sequence[Item],
    incoming: Sequence[Item],
    carried: Sequence[Item],
    target_base: Sequence[Item],
    target: Sequence[Item],
) -> Iterator[Chunk[Item]]:
    """Chunk by chunk what two sides make together.

    ``carried`` are the items of ``incoming`` as the target has to get them. Both bases are of one length.
    """
    ours = _matches(incoming_base, incoming)
    theirs = _matches(target_base, target)
    at_base = at_incoming = at_target = 0

    def between(base: int, mine: int, other: int) -> Iterator[Chunk[Item]]:
        new = carried[at_incoming:mine]
        there = target[at_target:other]
        changed = incoming_base[at_base:base] != incoming[at_incoming:mine]
        if target_base[at_base:base] == there:
            if changed or there:
                yield Chunk(new if changed else there)
        elif not changed or list(new) == list(there):
            if there:
                yield Chunk(there)
        else:
            yield Chunk(None, target_base[at_base:base], new, there)

    for base in range(len(incoming_base)):
        if base in ours and base in theirs:
            yield from between(base, ours[base], theirs[base])
            yield Chunk(target[theirs[base] : theirs[base] + 1])
            at_base, at_incoming, at_target = base + 1, ours[base] + 1, theirs[base] + 1
    yield from between(len(incoming_base), len(incoming), len(target))


def _matches(base: Sequence[Item], side: Sequence[Item]) -> dict[int, int]:
    """Where a side has the items of its base, by their place in that."""
    found: dict[int, int] = {}
    for block in SequenceMatcher(None, base, side, autojunk=False).get_matching_blocks():
        found.update({block.a + step: block.b + step for step in range(block.size)})
    return found


def merge_sets(
    incoming_base: Sequence[Item],
    incoming: Sequence[Item],
    carried: Sequence[Item],
    target_base: Sequence[Item],
    target: Sequence[Item],
) -> list[Item]:
    """A list in which only counts what is in it: what one side took out goes, what it put in comes at the end.

    An item that ``incoming`` took out is known to the target by its place in the common state, where both copies of
    that are of one length; by its value otherwise.
    """
    paired = len(incoming_base) == len(target_base)
    gone = {
        target_base[place] if paired else item
        for place, item in enumerate(incoming_base)
        if item not in incoming
    }
    before = set(incoming_base)
    found = [item for item in target if item not in gone]
    for place, item in enumerate(incoming):
        if item not in before and carried[place] not in found:
            found.append(carried[place])
    return found
