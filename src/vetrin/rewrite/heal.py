"""Healing serialised values whose lengths somebody broke by replacing text in them.

A value is healed only if it has exactly one reading: one way to choose where its strings end so that
everything else (kinds, counts of items, braces, the end) fits, and each string that begins like a
serialised value has a reading of its own. A length that fits is taken as it
stands; only where that leads to no reading at all are fitting lengths doubted too. No string reaches over
the head of another one, unless it is serialised itself. The search is bounded: a value that would need
more steps is left.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Literal

from msgspec import Struct

from . import php_serialized
from .json_strings import Style, may_hold_serialised, serialised_literals

_STEPS = 200_000
_DEEPEST = 20

_STRING = re.compile(rb's:(\d{1,18}):"')
_END = re.compile(rb'";(?=[}]|\s*$|i:[+-]?\d+;|[sSEOC]:\d+:"|a:\d+:\{|d:|b:[01];|N;|[rR]:\d+;)')
_SIMPLE = re.compile(
    rb"N;|b:[01];|i:[+-]?\d{1,40};|d:[^;\"{}]{1,60};|[rR]:\d{1,18};"
    rb'|E:\d{1,9}:"[^"]{1,400}";'
)
_CLOSING = re.compile(rb"\}*")
_KEYED = re.compile(rb's:\d+:"|i:\d+;(?:s:\d+:"|[aO]:\d+:|i:-?\d+;|b:[01];|N;|d:)')
_ARRAY = re.compile(rb"a:(\d{1,9}):\{")
_OBJECT = re.compile(rb'O:\d{1,9}:"[^"]{1,400}":(\d{1,9}):\{')

# What is open: items still to come, and what is open around it.
Frame = tuple[int, "Frame"] | None
# The strings of a reading so far: head, start and end of the last one, and those before it.
Chain = tuple[int, int, int, "Chain"] | None


class Healed(Struct, frozen=True):
    """``value`` is the healed value, or the original where ``state`` is fine or left.

    fine: nothing was broken. healed: all that was broken is mended. left: something broken has no
    reading, or more than one.
    """

    state: Literal["fine", "healed", "left"]
    value: bytes


def heal(data: bytes) -> Healed:
    """Heal a value, strings inside it that are serialised themselves, and JSON that holds such."""
    return _heal(data, 0)


def _heal(data: bytes, depth: int) -> Healed:
    if depth > _DEEPEST:
        return Healed("fine", data)
    if php_serialized.looks_serialised(data):
        return _heal_serialised(data, depth)
    if may_hold_serialised(data):
        return _heal_json(data, depth)
    return Healed("fine", data)


def _heal_serialised(data: bytes, depth: int) -> Healed:
    start = len(data) - len(data.lstrip())
    state: Literal["fine", "healed", "left"] = "fine"
    try:
        parsed = php_serialized.walk(data, start)
        strings = [(span.head, span.start, span.end) for span in parsed.spans if span.kind == "s"]
    except php_serialized.PhpError:
        reading = _only_reading(data, start)
        if reading is None:
            return Healed("left", data)
        state, strings = "healed", reading
    pieces: list[bytes] = []
    done = 0
    for head, begin, end in strings:
        old = data[begin:end]
        inner = _heal(old, depth + 1)
        if inner.state == "left":
            state = "left"
        elif inner.state == "healed" and state == "fine":
            state = "healed"
        new = b's:%d:"%b' % (len(inner.value), inner.value)
        if new != data[head:end]:
            pieces += (data[done:head], new)
            done = end
    if not pieces:
        return Healed("fine" if state == "fine" else "left", data)
    pieces.append(data[done:])
    value = b"".join(pieces)
    try:
        php_serialized.walk(
            value, start
        )  # the search is laxer about keys and class names than PHP is
    except php_serialized.PhpError:
        return Healed("left", data)
    return Healed(state, value)


def _heal_json(data: bytes, depth: int) -> Healed:
    state: Literal["fine", "healed", "left"] = "fine"
    pieces: list[bytes] = []
    done = 0
    for start, end in serialised_literals(data):
        try:
            style = Style(data[start:end])
        except ValueError:
            continue
        inner = _heal(style.decoded, depth + 1)
        if inner.state == "left":
            state = "left"
        if inner.value != style.decoded:
            pieces += (data[done:start], style.encode(inner.value))
            done = end
            state = "healed" if state == "fine" else state
    if not pieces:
        return Healed(state, data)
    pieces.append(data[done:])
    return Healed(state, b"".join(pieces))


def _only_reading(data: bytes, start: int) -> list[tuple[int, int, int]] | None:
    """The strings of the one reading, each as head, start and end; None if there is not one."""
    for doubt in (False, True):
        found = _Search(data, start, doubt).run()
        if found is None or len(found) > 1:
            return None
        if found:
            return found[0]
    return None


class _Search:
    """Looks for readings, depth first, until two are found or the steps are used up."""

    def __init__(
        self, data: bytes, start: int, doubt: bool, steps: int = _STEPS, depth: int = 0
    ) -> None:
        self._depth = depth
        self._data = data
        self._start = start
        self._end = len(data.rstrip())
        self._doubt = doubt
        self._steps = steps
        self._seen: dict[tuple[int, Frame], bool] = {}

    def run(self) -> list[list[tuple[int, int, int]]] | None:
        """None where the steps did not suffice."""
        found: list[list[tuple[int, int, int]]] = []
        # Each entry is a string with its further ends to try: the states that it leads to.
        open_: list[Iterator[tuple[int, Frame, Chain]]] = [iter([(self._start, (1, None), None)])]
        path: list[tuple[int, Frame]] = []
        while open_:
            state = next(open_[-1], None)
            if state is None:
                open_.pop()
                if path:
                    path.pop()
                continue
            self._steps -= 1
            if self._steps < 0:
                return None
            position, frame, chain = state
            key = (position, frame)
            if key in self._seen:
                if self._seen[key]:
                    found.append([])
                    return found * 2
                continue
            self._seen[key] = False
            at, inner = self._advance(position, frame)
            if at < 0:
                continue
            if inner is None:
                if at == self._end:
                    found.append(_listed(chain))
                    if len(found) > 1:
                        return found
                    for passed in [*path, key]:
                        self._seen[passed] = True
                continue
            open_.append(self._ends(at, inner, chain))
            path.append(key)
        return found

    def _advance(self, position: int, frame: Frame) -> tuple[int, Frame]:
        """Read on to the next string or the end of the value; (-1, None) where nothing fits.

        At a string the frame is not None; at the end it is.
        """
        data = self._data
        while frame is not None:
            remaining, parent = frame
            if remaining == 0:
                if parent is None:
                    return position, None
                if data[position : position + 1] != b"}":
                    return -1, None
                position += 1
                frame = parent
                continue
            if _STRING.match(data, position):
                return position, (remaining - 1, parent)
            if remaining % 2 == 0 and data[position : position + 1] != b"i":
                return -1, None  # keys are whole numbers or strings
            match = _SIMPLE.match(data, position)
            if match is not None:
                position, frame = match.end(), (remaining - 1, parent)
                continue
            match = _ARRAY.match(data, position) or _OBJECT.match(data, position)
            if match is None or int(match[1]) > len(data):
                return -1, None
            position, frame = match.end(), (2 * int(match[1]), (remaining - 1, parent))
        return -1, None

    def _ends(self, head: int, frame: Frame, chain: Chain) -> Iterator[tuple[int, Frame, Chain]]:
        """The states behind each end that the string at ``head`` can have."""
        match = _STRING.match(self._data, head)
        assert match is not None
        begin = match.end()
        declared = begin + int(match[1])
        fits = _END.match(self._data, declared) is not None if declared < self._end else False
        if fits:
            yield declared + 2, frame, (head, begin, declared, chain)
            if not self._doubt:
                return
        for end in _END.finditer(self._data, begin, self._end):
            self._steps -= 1
            if self._steps < 0:
                return
            if not (fits and end.start() == declared) and self._plausible(begin, end.start()):
                yield end.end(), frame, (head, begin, end.start(), chain)
            if self._is_sure(begin, end.end()):
                return

    def _is_sure(self, begin: int, behind: int) -> bool:
        """True if no string that begins at ``begin`` goes on beyond ``behind``: what follows there is the head of a
        string, or a key with the head of its value, as no text holds it by chance. What is serialised itself
        holds such; should a text hold some all the same, the counts of items will not fit."""
        if php_serialized.looks_serialised(self._data[begin : begin + 40]):
            return False
        at = _CLOSING.match(self._data, behind).end()  # type: ignore[union-attr]
        return at == self._end or _KEYED.match(self._data, at) is not None

    def _plausible(self, begin: int, end: int) -> bool:
        """False for a string that begins like a serialised value and has no reading itself."""
        if not php_serialized.looks_serialised(self._data[begin : begin + 40]):
            return True
        if self._depth >= _DEEPEST:
            return False
        inner = _Search(
            data=self._data[begin:end],
            start=0,
            doubt=False,
            steps=self._steps // 4,
            depth=self._depth + 1,
        )
        found = inner.run()
        self._steps -= self._steps // 4 - inner._steps
        return bool(found)


def _listed(chain: Chain) -> list[tuple[int, int, int]]:
    strings: list[tuple[int, int, int]] = []
    while chain is not None:
        head, begin, end, chain = chain
        strings.append((head, begin, end))
    return strings[::-1]
