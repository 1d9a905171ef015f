"""Parts inside a structured value: reading, setting and removing one by its path.

A value is PHP-serialised or JSON; a path is a list of keys. Everything around the part stays as it
is, to the byte, and lengths and counts are put right, also where a structure lies as a string inside
another one.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from .php_serialized import PhpError, looks_serialised, walk

_PHP_HEAD = re.compile(rb'(a:|O:\d+:"[^"]*":)(\d+)(:\{)')
_PHP_STRING = re.compile(rb's:\d+:"')
_DECODER = json.JSONDecoder()
_SPACE = re.compile(r"[ \t\r\n]*")


class NoSuchPart(ValueError):
    """The value has no structure, or none at this path."""


class _Item(NamedTuple):
    key: str
    head: int
    start: int
    end: int


def part_of(value: bytes, path: Sequence[str]) -> bytes | None:
    """The text of a part as it stands in the value; None where there is none.

    Raises:
        NoSuchPart: the value is no structure on the way to the part.
    """
    if not path:
        return value
    for item in _items(value):
        if item.key == path[0]:
            part = value[item.start : item.end]
            if len(path) == 1:
                return part
            inner = _string(part)
            return part_of(part if inner is None else inner, path[1:])
    return None


def differing_parts(
    old: bytes, new: bytes
) -> list[tuple[tuple[str, ...], bytes | None, bytes | None]]:
    """The innermost parts in which two values differ, each with its path and the text on both sides, None where it is
    not there. Values that are no structures differ as wholes, at the empty path."""
    if old == new:
        return []
    try:
        sides = [
            {item.key: value[item.start : item.end] for item in _items(value)}
            for value in (old, new)
        ]
    except NoSuchPart:
        return [((), old, new)]
    found: list[tuple[tuple[str, ...], bytes | None, bytes | None]] = []
    for key in dict.fromkeys([*sides[0], *sides[1]]):
        one, other = (_within(side.get(key)) for side in sides)
        if one is None or other is None:
            found.append(((key,), one, other))
        else:
            found += [((key, *path), *texts) for path, *texts in differing_parts(one, other)]  # type: ignore[misc]
    return found or [((), old, new)]


def _within(part: bytes | None) -> bytes | None:
    """What a text in a structure holds, without what is around it."""
    if part is None:
        return None
    inner = _string(part)
    return part if inner is None else inner


def with_part(value: bytes, path: Sequence[str], part: bytes | None) -> bytes:
    """The value with another text at ``path``, added where there was none; None removes it.

    Raises:
        NoSuchPart: the value is no structure on the way to the part.
    """
    if not path:
        raise NoSuchPart("no path")
    items = _items(value)
    found = next((item for item in items if item.key == path[0]), None)
    if len(path) > 1:
        if found is None and part is None:
            return value
        if found is None:
            raise NoSuchPart(f"there is no {path[0]}")
        old = value[found.start : found.end]
        inner = _string(old)
        new = with_part(old if inner is None else inner, path[1:], part)
        if inner is not None:
            new = _as_string(new, old)
        return value[: found.start] + new + value[found.end :]
    if found is not None and part is not None:
        return value[: found.start] + part + value[found.end :]
    if found is None and part is None:
        return value
    if looks_serialised(value):
        return _php_counted(value, items, found, path[0], part)
    return _json_counted(value, items, found, path[0], part)


def parts_of(value: bytes) -> dict[str, bytes]:
    """All parts that a value has by their keys, as they stand in it, in their order.

    Raises:
        NoSuchPart: the value is no structure.
    """
    return {item.key: value[item.start : item.end] for item in _items(value)}


def inner_text(part: bytes) -> bytes | None:
    """The content of a part that is a string; None for any other part."""
    return _string(part)


def as_text(content: bytes, like: bytes) -> bytes:
    """A string with another content, written as ``like`` is."""
    return _as_string(content, like)


def with_parts(value: bytes, parts: Mapping[str, bytes | None]) -> bytes:
    """The value with several of its own parts set, added or, with None, removed; see ``with_part``."""
    items = {item.key: item for item in _items(value)}
    there = [(items[key], part) for key, part in parts.items() if key in items and part is not None]
    for item, text in sorted(there, key=lambda one: one[0].start, reverse=True):
        value = value[: item.start] + text + value[item.end :]
    for key, part in parts.items():
        if key not in items or part is None:
            value = with_part(value, (key,), part)
    return value


def with_other_keys(value: bytes, keys: Mapping[str, str]) -> bytes:
    """The value with other numbers in place of some of its keys that are numbers; all parts keep their places."""
    for item in reversed(_items(value)):
        if item.key in keys:
            head = value[item.head : item.start]
            new = head.replace(item.key.encode(), keys[item.key].encode(), 1)
            value = value[: item.head] + new + value[item.start :]
    return value


def as_list(parts: Sequence[bytes], like: bytes) -> bytes:
    """A list of parts as they stand in ``like``, which is a list."""
    if looks_serialised(like):
        body = b"".join(b"i:%d;%b" % (at, part) for at, part in enumerate(parts))
        return b"a:%d:{%b}" % (len(parts), body)
    return b"[" + b",".join(parts) + b"]"


def literal(new: str | int | bool, like: bytes) -> bytes:
    """A text, number or truth value as it is written inside a structure such as ``like``."""
    if not looks_serialised(like):
        return json.dumps(new, ensure_ascii=False).encode()
    if isinstance(new, bool):
        return b"b:%d;" % new
    if isinstance(new, int):
        return b"i:%d;" % new
    return _php_string(new.encode())


def texts_of(value: bytes) -> list[str] | None:
    """The texts of a list, in their order; None where the value is no list of texts."""
    try:
        items = _items(value)
    except NoSuchPart:
        return None
    found: list[str] = []
    for item in items:
        inner = _string(value[item.start : item.end])
        if inner is None:
            return None
        found.append(inner.decode("utf-8", "surrogateescape"))
    return found


def list_of(texts: Sequence[str], like: bytes) -> bytes:
    """A list of texts, written as ``like`` is."""
    if like.lstrip()[:1] == b"[":
        return json.dumps(list(texts), ensure_ascii=False).encode()
    body = b"".join(
        b"i:%d;%b" % (at, _php_string(text.encode("utf-8", "surrogateescape")))
        for at, text in enumerate(texts)
    )
    return b"a:%d:{%b}" % (len(texts), body)


def _php_string(content: bytes) -> bytes:
    return b's:%d:"%b";' % (len(content), content)


def _items(value: bytes) -> list[_Item]:
    if looks_serialised(value):
        return _php_items(value)
    if value.lstrip()[:1] in (b"{", b"["):
        return _json_items(value)
    raise NoSuchPart("the value is no structure")


def _php_items(value: bytes) -> list[_Item]:
    lead = len(value) - len(value.lstrip())
    head = _PHP_HEAD.match(value, lead)
    if head is None:
        raise NoSuchPart("the value is no structure")
    found: list[_Item] = []
    at = head.end()
    try:
        walk(value, lead)
        for _ in range(int(head[2])):
            start = walk(value, at).end
            end = walk(value, start).end
            found.append(_Item(_key(value[at:start]), at, start, end))
            at = end
    except PhpError as error:
        raise NoSuchPart(str(error)) from error
    return found


def _key(raw: bytes) -> str:
    if raw.startswith(b"i:"):
        return raw[2:-1].decode()
    content = raw[raw.index(b'"') + 1 : -2]
    # Private and protected properties carry their class, or a star, between NUL bytes.
    return content.rpartition(b"\0")[2].decode("utf-8", "surrogateescape")


def _php_counted(
    value: bytes, items: list[_Item], found: _Item | None, key: str, part: bytes | None
) -> bytes:
    head = _PHP_HEAD.match(value, len(value) - len(value.lstrip()))
    assert head is not None
    count = int(head[2]) + (1 if found is None else -1)
    body_end = items[-1].end if items else head.end()
    if found is None:
        name = b"i:%b;" % key.encode() if key.lstrip("-").isdigit() else _php_string(key.encode())
        body = value[head.end() : body_end] + name + (part or b"")
    else:
        body = value[head.end() : found.head] + value[found.end : body_end]
    return value[: head.start()] + head[1] + b"%d" % count + head[3] + body + value[body_end:]


def _text(value: bytes) -> str:
    # One character for a byte, so that places in the text are places in the value.
    return value.decode("latin-1")


def _json_items(value: bytes) -> list[_Item]:
    text = _text(value)
    found: list[_Item] = []
    try:
        at = _skip(text, 0)
        is_list = text[at] == "["
        at = _skip(text, at + 1)
        while text[at] not in "]}":
            head = at
            key = str(len(found))
            if not is_list:
                name, at = _DECODER.raw_decode(text, at)
                key = str(name).encode("latin-1", "ignore").decode("utf-8", "surrogateescape")
                at = _skip(text, at)
                if text[at] != ":":
                    raise NoSuchPart("the value is no JSON")
                at = _skip(text, at + 1)
            _, end = _DECODER.raw_decode(text, at)
            found.append(_Item(key, head, at, end))
            at = _skip(text, end)
            if text[at] == ",":
                at = _skip(text, at + 1)
    except (json.JSONDecodeError, IndexError) as error:
        raise NoSuchPart("the value is no JSON") from error
    return found


def _skip(text: str, at: int) -> int:
    match = _SPACE.match(text, at)
    assert match is not None
    return match.end()


def _json_counted(
    value: bytes, items: list[_Item], found: _Item | None, key: str, part: bytes | None
) -> bytes:
    if found is None:
        at = items[-1].end if items else value.lstrip().find(b"{") + 1 or 1
        comma = b"," if items else b""
        is_list = value.lstrip()[:1] == b"["
        name = b"" if is_list else json.dumps(key, ensure_ascii=False).encode() + b":"
        return value[:at] + comma + name + (part or b"") + value[at:]
    place = items.index(found)
    if place + 1 < len(items):
        return value[: found.head] + value[items[place + 1].head :]
    start = items[place - 1].end if place else found.head
    return value[:start] + value[found.end :]


def _string(raw: bytes) -> bytes | None:
    """The content of a part that is a string; None for any other part."""
    match = _PHP_STRING.match(raw)
    if match is not None and raw.endswith(b'";'):
        return raw[match.end() : -2]
    if raw[:1] == b'"':
        return str(json.loads(raw.decode("utf-8", "surrogateescape"))).encode(
            "utf-8", "surrogateescape"
        )
    return None


def _as_string(content: bytes, like: bytes) -> bytes:
    if like[:1] == b"s":
        return _php_string(content)
    text = json.dumps(content.decode("utf-8", "surrogateescape"), ensure_ascii=False)
    if b"\\/" in like:
        text = text.replace("/", "\\/")
    return text.encode("utf-8", "surrogateescape")
