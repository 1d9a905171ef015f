"""Parts inside structured values: what is around a part stays, and lengths and counts fit."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vetrin.demo.serialise import serialise
from vetrin.rewrite.php_serialized import walk
from vetrin.rewrite.structured_values import (
    NoSuchPart,
    list_of,
    literal,
    part_of,
    texts_of,
    with_part,
)

KEYS = st.text(
    st.characters(codec="utf-8", exclude_characters='[]\0"'), min_size=1, max_size=6
).filter(lambda key: not key.lstrip("-").isdigit())
LEAVES = st.one_of(st.none(), st.booleans(), st.integers(-99, 99), st.text(max_size=9))
VALUES = st.recursive(
    LEAVES, lambda inner: st.dictionaries(KEYS, inner, max_size=4), max_leaves=12
).filter(lambda value: isinstance(value, dict) and value)
WRITERS = {
    "php": lambda v: serialise(v).encode(),
    "json": lambda v: json.dumps(v, ensure_ascii=False).encode(),
}


def paths(value: object) -> list[tuple[str, ...]]:
    if not isinstance(value, dict):
        return [()]
    return [(key, *rest) for key, item in value.items() for rest in [(), *paths(item)]]


def put(value: dict, path: tuple[str, ...], new: object, *, remove: bool = False) -> dict:
    copy = dict(value)
    if len(path) > 1:
        copy[path[0]] = put(copy[path[0]], path[1:], new, remove=remove)
    elif remove:
        copy.pop(path[0], None)
    else:
        copy[path[0]] = new
    return copy


@pytest.mark.parametrize("kind", WRITERS)
@given(data=st.data())
def test_setting_adding_and_removing_a_part(kind: str, data: st.DataObject) -> None:
    write = WRITERS[kind]
    value = data.draw(VALUES)
    path = data.draw(st.sampled_from([path for path in paths(value) if path]))
    new = data.draw(LEAVES)
    raw = write(value)
    assert with_part(raw, path, write(new)) == write(put(value, path, new))
    assert part_of(with_part(raw, path, write(new)), path) == write(new)
    added = (*path[:-1], "näw")
    assert json_or_php(kind, with_part(raw, added, write(new))) == json_or_php(
        kind, write(put(value, added, new))
    )
    removed = with_part(raw, path, None)
    assert json_or_php(kind, removed) == json_or_php(
        kind, write(put(value, path, None, remove=True))
    )
    assert part_of(removed, path) is None


def json_or_php(kind: str, raw: bytes) -> object:
    if kind == "json":
        return json.loads(raw)
    assert walk(raw).end == len(raw)
    return raw


def test_structures_inside_strings_of_structures() -> None:
    inner = json.dumps({"open": "9", "near": serialise({"deep": "é"})})
    value = serialise({"hours": inner, "n": 1}).encode()
    path = ("hours", "near", "deep")
    assert part_of(value, path) == b's:2:"\xc3\xa9";'
    new = with_part(value, path, b's:4:"late";')
    assert walk(new).end == len(new)
    wanted = json.dumps({"open": "9", "near": serialise({"deep": "late"})}, ensure_ascii=False)
    assert new == serialise({"hours": wanted, "n": 1}).encode()


def test_objects_and_numbered_lists() -> None:
    value = b'O:8:"stdClass":2:{s:4:"link";s:1:"x";s:7:"\0*\0kept";a:2:{i:0;i:5;i:1;b:1;}}'
    assert part_of(value, ("kept", "1")) == b"b:1;"
    assert (
        with_part(value, ("link",), None)
        == b'O:8:"stdClass":1:{s:7:"\0*\0kept";a:2:{i:0;i:5;i:1;b:1;}}'
    )
    assert with_part(b"a:0:{}", ("7",), b"i:1;") == b"a:1:{i:7;i:1;}"


@pytest.mark.parametrize(
    "value", [b"plain", b's:3:"abc";', b'a:1:{i:0;s:9:"short";}', b'{"a": ', b"", b"12"]
)
def test_what_is_no_structure_is_said(value: bytes) -> None:
    with pytest.raises(NoSuchPart):
        part_of(value, ("a",))
    assert texts_of(value) is None


def test_lists_of_texts() -> None:
    for like in (b"a:0:{}", b"[]"):
        made = list_of(["ticket-desk/x.php", 'é "quoted"'], like)
        assert texts_of(made) == ["ticket-desk/x.php", 'é "quoted"']
    assert texts_of(b"a:1:{i:0;i:5;}") is None
    assert [literal(v, b"a:0:{}") for v in (True, 3, "é")] == [b"b:1;", b"i:3;", b's:2:"\xc3\xa9";']
    assert [literal(v, b"{}") for v in (True, 3, "é")] == [b"true", b"3", '"é"'.encode()]
