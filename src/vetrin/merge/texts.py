"""A three-way merge of texts, by lines, paragraphs and blocks."""

from __future__ import annotations

import re
from collections.abc import Callable

from .sequences import merge_sequences

# Behind the end of a line, a paragraph or a block comment.
_PIECE = re.compile(rb".*?(?:\n+|</p>|<br ?/?>|-->|\Z)", re.DOTALL)
_MOST = 4000  # pieces of a text that are compared with one another

# What stands in a place of which both sides changed the text: of the number of the place, and the three texts.
Choose = Callable[[int, bytes, bytes, bytes], bytes]


def merge_texts(
    incoming_base: bytes,
    incoming: bytes,
    carried: bytes,
    target_base: bytes,
    target: bytes,
    choose: Choose,
) -> bytes | None:
    """The text that both sides make together; None where it cannot be told piece by piece.

    ``carried`` is ``incoming`` as the target has to get it.
    """
    sides = [pieces_of(text) for text in (incoming_base, incoming, carried, target_base, target)]
    same = len(sides[0]) == len(sides[3]) and len(sides[1]) == len(sides[2])
    if not same or len(sides[0]) < 2 or max(map(len, sides)) > _MOST:
        return None
    found: list[bytes] = []
    for number, chunk in enumerate(merge_sequences(*sides)):
        if chunk.items is not None:
            found += chunk.items
        else:
            texts = (b"".join(part) for part in (chunk.base, chunk.incoming, chunk.target))
            found.append(choose(number, *texts))
    return b"".join(found)


def pieces_of(text: bytes) -> list[bytes]:
    """A text in pieces that are merged one by one; joined, they are the text."""
    return [piece for piece in _PIECE.findall(text) if piece]
