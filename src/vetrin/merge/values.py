"""A three-way merge of one value: as a whole, by the key paths of a structured value, or by the pieces of a text."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator

from msgspec import Struct

from ..rewrite.php_serialized import looks_serialised
from ..rewrite.structured_values import (
    NoSuchPart,
    as_list,
    as_text,
    inner_text,
    literal,
    parts_of,
    with_parts,
)
from .sequences import merge_sequences, merge_sets
from .texts import merge_texts

_DEEP = 24  # keys of a path; what lies deeper is one value
_POINTS_BACK = re.compile(rb"[;{:][rR]:\d+;")  # a number of another part: not to be moved
_PHP_SCALAR = re.compile(rb"[ibd]:([^;]*);$")


class Versions(Struct, frozen=True):
    """One value five times, None where it is not there: in both copies of the common state, in both sides, and
    ``carried``: that of the incoming side as the target has to get it."""

    incoming_base: bytes | None
    incoming: bytes | None
    carried: bytes | None
    target_base: bytes | None
    target: bytes | None

    def __iter__(self) -> Iterator[bytes | None]:
        yield from (
            self.incoming_base, self.incoming, self.carried, self.target_base, self.target
        )  # fmt: skip

    @property
    def settled(self) -> bool:
        """True where the target has what it is to have."""
        return self.incoming == self.incoming_base or self.carried == self.target


# What stands where both sides changed a part: of its path, and of the three values as the target would have them.
Choose = Callable[[tuple[str, ...], bytes | None, bytes | None, bytes | None], bytes | None]
Path = tuple[str, ...]


class ValueMerge(Struct, frozen=True):
    """How the values of a column are merged. ``is_set``: whether a list at a path is one in which only counts what is
    in it. ``text`` is False for values that are no text."""

    choose: Choose
    is_set: Callable[[Path], bool] = lambda path: False
    text: bool = True


def merge_value(versions: Versions, how: ValueMerge, path: Path = ()) -> bytes | None:
    """The value that both sides make together; None where there is none then."""
    if versions.settled:
        return versions.target
    if len(path) < _DEEP:
        found = _structures(versions)
        if found is not None:
            return _merge_structures(versions, found, how, path)
    if versions.target == versions.target_base:
        return versions.carried
    whole = [value for value in versions if value is not None]
    if how.text and len(whole) == 5 and not any(map(looks_serialised, whole)):
        merged = merge_texts(whole[0], whole[1], whole[2], whole[3], whole[4], _by_piece(how, path))
        if merged is not None:
            return merged
    return how.choose(path, versions.target_base, versions.carried, versions.target)


def _by_piece(how: ValueMerge, path: Path) -> Callable[[int, bytes, bytes, bytes], bytes]:
    return lambda number, *texts: how.choose((*path, f"¶{number + 1}"), *texts) or b""


class _Structures(Struct, frozen=True):
    """The parts of all five versions, those of ``carried`` by the keys of ``incoming``."""

    incoming_base: dict[str, bytes]
    incoming: dict[str, bytes]
    carried: dict[str, bytes]
    target_base: dict[str, bytes]
    target: dict[str, bytes]
    keys: dict[str, str]  # of the incoming side, and what they are in the target

    def versions(self, key: str) -> Versions:
        there = self.keys.get(key, key)
        return Versions(
            incoming_base=self.incoming_base.get(key),
            incoming=self.incoming.get(key),
            carried=self.carried.get(key),
            target_base=self.target_base.get(there),
            target=self.target.get(there),
        )


def _structures(versions: Versions) -> _Structures | None:
    """Their parts; None where one of them is no structure. Where there was none, it had no parts."""
    sides = versions.incoming, versions.carried, versions.target
    if any(value is None or _POINTS_BACK.search(value) for value in sides):
        return None
    if (versions.incoming_base is None) != (versions.target_base is None):
        return None
    try:
        parts = [{} if value is None else parts_of(value) for value in versions]
    except NoSuchPart:
        return None
    incoming, carried = parts[1], parts[2]
    if len(incoming) != len(carried):
        return None
    keys = dict(zip(incoming, carried, strict=True))
    carried = dict(zip(incoming, carried.values(), strict=True))
    return _Structures(
        incoming_base=parts[0],
        incoming=incoming,
        carried=carried,
        target_base=parts[3],
        target=parts[4],
        keys=keys,
    )


def _merge_structures(
    versions: Versions, parts: _Structures, how: ValueMerge, path: Path
) -> bytes | None:
    target = versions.target
    assert target is not None
    lists = all(map(_is_list, _five(parts)))
    one_length = len(
        {*map(len, (parts.incoming_base, parts.incoming, parts.target_base, parts.target))}
    )
    if lists and how.is_set(path):
        sides = ([*side.values()] for side in _five(parts))
        return as_list(merge_sets(*sides), target)
    if lists and one_length > 1:
        return _merge_lists(versions, parts, how, path)
    changed: dict[str, bytes | None] = {}
    for key in dict.fromkeys([*parts.incoming, *parts.incoming_base]):
        part = parts.versions(key)
        if part.settled:
            continue
        there = parts.keys.get(key, key)
        new = _merge_part(part, how, (*path, there))
        if new != part.target:
            changed[there] = new
    return with_parts(target, changed) if changed else target


def _five(parts: _Structures) -> tuple[dict[str, bytes], ...]:
    return parts.incoming_base, parts.incoming, parts.carried, parts.target_base, parts.target


def _is_list(parts: dict[str, bytes]) -> bool:
    """Whether a structure has numbers from 0 on for keys, in their order."""
    return all(key == str(at) for at, key in enumerate(parts))


def _merge_lists(
    versions: Versions, parts: _Structures, how: ValueMerge, path: Path
) -> bytes | None:
    found: list[bytes] = []
    if len(parts.incoming_base) != len(parts.target_base):
        return how.choose(path, versions.target_base, versions.carried, versions.target)
    for chunk in merge_sequences(*([*side.values()] for side in _five(parts))):
        if chunk.items is None:
            return how.choose(path, versions.target_base, versions.carried, versions.target)
        found += chunk.items
    assert versions.target is not None
    return as_list(found, versions.target)


def _merge_part(part: Versions, how: ValueMerge, path: Path) -> bytes | None:
    """A part as it stands in the value. What a text in it holds is merged by itself."""
    texts = [value if value is None else inner_text(value) for value in part]
    whole = list(part)
    if all((text is None) == (value is None) for text, value in zip(texts, whole, strict=True)):
        new = merge_value(Versions(*texts), how, path)
        if new is None:
            return None
        like = part.target or part.carried or part.target_base
        assert like is not None
        for value, text in zip(whole, texts, strict=True):
            if new == text and value in (part.target, part.carried):
                return value
        return as_text(new, like)
    return merge_value(part, _of_parts(how), path)


def _of_parts(how: ValueMerge) -> ValueMerge:
    """The same for parts that are no texts: shown to whoever decides without what is around them."""

    def choose(
        path: Path, base: bytes | None, incoming: bytes | None, target: bytes | None
    ) -> bytes | None:
        shown = [_shown(part) for part in (base, incoming, target)]
        found = how.choose(path, *shown)
        for part, text in ((target, shown[2]), (incoming, shown[1])):
            if found == text:
                return part
        like = target or incoming or base
        assert found is not None and like is not None
        return _written(found, like)

    return ValueMerge(choose, how.is_set, text=False)


def _shown(part: bytes | None) -> bytes | None:
    if part is None:
        return None
    scalar = _PHP_SCALAR.match(part)
    if scalar is not None:
        return scalar[1]
    inner = inner_text(part)
    return part if inner is None else inner


def _written(text: bytes, like: bytes) -> bytes:
    """What a person gave in place of a part, as it stands in a value."""
    if inner_text(like) is not None:
        return as_text(text, like)
    plain = text.decode("utf-8", "surrogateescape")
    whole = re.fullmatch(r"[+-]?\d{1,18}", plain)
    php = b"a:0:{}" if _PHP_SCALAR.match(like) or looks_serialised(like) else b"{}"
    return literal(int(plain) if whole else plain, php)
