"""The rewriter: bytes in, bytes out, counts beside it.

What holds lengths (PHP-serialised values, at any depth and inside JSON strings) is taken apart and
its lengths are written anew; everything else is replaced as text. A value in which nothing matches
comes back as the identical object.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from itertools import accumulate

from . import php_serialized
from .encoded import open_payload
from .json_strings import Style, may_hold_serialised, serialised_literals
from .mapping import Mapping
from .scanner import Match, Scanner

DEEPEST = 48
"""Strings in strings in strings: beyond this many levels a value is left and reported."""


@dataclass
class Tally:
    """What a rewrite did: replacements by pair and form, and what it left alone.

    ``broken``: values that look serialised but whose lengths do not fit, although something in
    them matches; they stay byte for byte. ``left``: payloads, keys and strings that matched but
    could not be changed without harm.
    """

    replaced: Counter[tuple[int, str]] = field(default_factory=Counter)
    broken: int = 0
    left: int = 0

    @property
    def total(self) -> int:
        return self.replaced.total()

    def add(self, other: Tally) -> None:
        self.replaced.update(other.replaced)
        self.broken += other.broken
        self.left += other.left


class Rewriter:
    """Applies a mapping to values. Holds no state between calls; safe to share."""

    def __init__(self, mapping: Mapping) -> None:
        self.mapping = mapping
        self._scanner = Scanner(mapping)

    def may_match(self, data: bytes) -> bool:
        """False only where ``rewrite`` would return ``data`` itself; a scan at memory speed."""
        return self._scanner.may_match(data)

    def rewrite(self, data: bytes, tally: Tally) -> bytes:
        """``data`` with every match replaced; ``data`` itself if nothing changed."""
        if not self._scanner.may_match(data):
            return data
        return self._value(data, tally, 0)

    def likely(self, texts: Sequence[bytes]) -> Sequence[int]:
        """The numbers of the texts in which something may match, if columns are parts of them."""
        return self._scanner.likely(texts)

    def rewrite_column(
        self, values: Sequence[bytes | None], tally: Tally, broken: list[int] | None = None
    ) -> dict[int, bytes]:
        """The changed ones among ``values``, by their index.

        Quicker than ``rewrite`` on each, because one look over all of them decides most batches.
        The indexes of values that were left because they are broken are put into ``broken``.
        """
        changed: dict[int, bytes] = {}
        # One search over all values, joined by a byte that ends every name and path (mappings
        # hold no literal with it).
        joined = b"\0".join([value or b"" for value in values])
        matches = self._scanner.find(joined) if self._scanner.may_match(joined) else []
        if not matches:
            return changed
        ends = list(accumulate([len(value) + 1 if value else 1 for value in values]))
        at, total = 0, len(matches)
        index = -1
        escaped = may_hold_serialised(joined)
        while at < total:
            index = bisect_right(ends, matches[at].start, index + 1)
            end = ends[index]
            first = at
            while at < total and matches[at].start < end:
                at += 1
            value = values[index]
            assert value is not None
            start = end - 1 - len(value)
            if php_serialized.looks_serialised(value) or (escaped and may_hold_serialised(value)):
                before = tally.broken
                inside = [
                    Match(start=begin - start, end=end - start, pair=pair, form=form, new=new)
                    for begin, end, pair, form, new in matches[first:at]
                ]
                new = self._value(value, tally, 0, inside)
                if broken is not None and tally.broken > before:
                    broken.append(index)
            else:
                new = _replace(value, matches[first:at], tally, start)
            if new is not value:
                changed[index] = new
        return changed

    def rewrite_payload(self, data: bytes, tally: Tally) -> bytes:
        """``data`` with what it holds encoded rewritten, and encoded again in the same way.

        ``data`` itself where nothing is encoded, nothing matches, or it could not be written the
        same way.
        """
        opened = open_payload(data)
        if opened is None:
            return data
        inner, seal = opened
        new = self.rewrite(inner, tally)
        return data if new is inner else seal(new)

    def _value(
        self, data: bytes, tally: Tally, depth: int, matches: list[Match] | None = None
    ) -> bytes:
        """What a value becomes; ``matches`` are those in it, where they are known."""
        if matches is None:
            matches = self._scanner.find(data)
        # An escape can hide an address from the scanner (S: strings, \u escapes), so a value that
        # may hold structure is looked into even where the text itself shows no match.
        if php_serialized.looks_serialised(data):
            if depth > DEEPEST:
                tally.left += bool(matches)
                return data
            return self._serialised(data, matches, tally, depth)
        if not matches:
            return data
        if may_hold_serialised(data):
            return self._with_literals(data, matches, tally, depth)
        return _replace(data, matches, tally)

    def _serialised(self, data: bytes, matches: list[Match], tally: Tally, depth: int) -> bytes:
        start = len(data) - len(data.lstrip()) if data[:1].isspace() else 0
        try:
            parsed = php_serialized.walk(data, start, [match.start for match in matches])
        except php_serialized.PhpError:
            tally.broken += bool(matches)
            return data
        pieces: list[bytes] = []
        done = 0
        keys: dict[int, set[bytes]] | None = None
        at = 0
        total = len(matches)
        for span in parsed.spans:
            while at < total and matches[at].end <= span.start:
                at += 1
            inside: list[Match] = []
            while at < total and matches[at].start < span.end:
                inside.append(matches[at])
                at += 1
            if span.kind == "s" and not inside:
                continue
            old = data[span.start : span.end]
            trial = Tally() if span.is_key else tally
            new = self._string(old, span, inside, trial, depth)
            if new is old:
                continue
            if span.is_key:
                if keys is None:
                    keys = _keys(data, start)
                siblings = keys[span.container]
                if new in siblings:
                    tally.left += 1
                    continue
                siblings.discard(old)
                siblings.add(new)
                tally.add(trial)
            pieces.append(data[done : span.head])
            pieces.append(_written(span.kind, new))
            done = span.end
        if not pieces:
            return data
        pieces.append(data[done:])
        return b"".join(pieces)

    def _string(
        self, old: bytes, span: php_serialized.Span, inside: list[Match], tally: Tally, depth: int
    ) -> bytes:
        """What a string of a serialised value becomes; ``old`` itself if it stays.

        ``inside`` are the matches that the look over the whole value found in this string.
        """
        if span.is_key and old[:1] == b"\0":
            return old
        if span.kind == "S":
            plain = php_serialized.unescape(old)
            new = self._value(plain, tally, depth + 1)
            return old if new is plain else new
        if span.kind == "C":
            return self._payload(old, tally, depth)
        if php_serialized.looks_serialised(old) or may_hold_serialised(old):
            return self._value(old, tally, depth + 1)
        return _replace(old, inside, tally, span.start)

    def _payload(self, old: bytes, tally: Tally, depth: int) -> bytes:
        """A custom payload: rewritten if it is a row of serialised values, with or without tags."""
        if not self._scanner.may_match(old):
            return old
        position, pieces = 0, []
        inner = Tally()
        try:
            while position < len(old):
                if old[position : position + 2] in (b"x:", b"m:"):
                    pieces.append(old[position : position + 2])
                    position += 2
                elif old[position : position + 1] in (b";", b","):
                    pieces.append(old[position : position + 1])
                    position += 1
                else:
                    end = php_serialized.walk(old, position).end
                    pieces.append(self._value(old[position:end], inner, depth + 1))
                    position = end
        except php_serialized.PhpError:
            tally.left += bool(self._scanner.find(old))
            return old
        new = b"".join(pieces)
        tally.add(inner)
        return old if new == old else new

    def _with_literals(self, data: bytes, matches: list[Match], tally: Tally, depth: int) -> bytes:
        """Text in which JSON strings hold serialised values: those by structure, the rest as text."""
        kept: list[Match] = []
        edits: list[tuple[int, int, bytes]] = []
        at = 0
        for start, end in serialised_literals(data):
            while at < len(matches) and matches[at].end <= start:
                kept.append(matches[at])
                at += 1
            inside: list[Match] = []
            while at < len(matches) and matches[at].start < end:
                inside.append(matches[at])
                at += 1
            if not inside or depth > DEEPEST:
                tally.left += bool(inside)
                continue
            literal = data[start:end]
            try:
                style = Style(literal)
            except ValueError:
                tally.left += 1
                continue
            if not (
                php_serialized.looks_serialised(style.decoded) or may_hold_serialised(style.decoded)
            ):
                kept.extend(inside)
                continue
            new = self._value(style.decoded, tally, depth + 1)
            if new is not style.decoded:
                edits.append((start, end, style.encode(new)))
        kept.extend(matches[at:])
        for match in kept:
            tally.replaced[match.pair, match.form] += 1
            edits.append((match.start, match.end, match.new))
        edits.sort(key=lambda edit: edit[0])
        return _apply(data, edits)


def _replace(data: bytes, matches: list[Match], tally: Tally, offset: int = 0) -> bytes:
    """``data`` with its matches replaced, whose positions are counted from ``offset`` before it."""
    replaced = tally.replaced
    pieces: list[bytes] = []
    done = 0
    for start, end, pair, form, new in matches:
        replaced[pair, form] += 1
        pieces.append(data[done : start - offset])
        pieces.append(new)
        done = end - offset
    pieces.append(data[done:])
    return b"".join(pieces)


def _apply(data: bytes, edits: list[tuple[int, int, bytes]]) -> bytes:
    if not edits:
        return data
    pieces: list[bytes] = []
    done = 0
    for start, end, new in edits:
        pieces += (data[done:start], new)
        done = end
    pieces.append(data[done:])
    return b"".join(pieces)


def _written(kind: str, new: bytes) -> bytes:
    """The length prefix and the bytes of a changed string, up to its closing quote."""
    if kind == "s":
        return b's:%d:"%b' % (len(new), new)
    if kind == "S":
        return b'S:%d:"%b' % (len(new), php_serialized.escape(new))
    return b"%d:{%b" % (len(new), new)


def _keys(data: bytes, start: int) -> dict[int, set[bytes]]:
    """All string keys of the value at ``start``, by the number of their container."""
    keys: dict[int, set[bytes]] = {}
    for span in php_serialized.walk(data, start).spans:
        if span.is_key:
            keys.setdefault(span.container, set()).add(data[span.start : span.end])
    return keys
