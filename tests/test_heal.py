"""Healing: what plain text replacement broke, mended where there is one reading only."""

from __future__ import annotations

import json
import random
import time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vetrin.demo.serialise import serialise
from vetrin.rewrite.heal import heal
from vetrin.rewrite.php_serialized import walk

OLD, NEW = "https://www.harrowmere.example", "http://harrowmere.test:8080"
VALUES = [
    {"u": f"{OLD}/a", "n": [1, 2.5, None, True, f"{OLD}/ü"], OLD: "key"},
    {"inner": serialise({"x": serialise([OLD])}), "after": "z"},
    [f"{OLD};i:0", 'say "aboard"; now', f"{OLD}", "}"],
    [""] * 5 + [OLD],
]


def mangled(value: object) -> bytes:
    return serialise(value).replace(OLD, NEW).encode()


def replaced(value: object) -> object:
    if isinstance(value, dict):
        return {replaced(k): replaced(v) for k, v in value.items()}
    if isinstance(value, list):
        return [replaced(v) for v in value]
    if isinstance(value, str) and value.startswith("a:1:"):
        return serialise({"x": serialise([NEW])})
    return value.replace(OLD, NEW) if isinstance(value, str) else value


@pytest.mark.parametrize("value", VALUES)
def test_a_replacement_in_a_text_editor_is_mended(value: object) -> None:
    found = heal(mangled(value))
    assert found.state == "healed"
    assert found.value.decode() == serialise(replaced(value))
    assert heal(found.value) == type(found)("fine", found.value)


def test_inside_json() -> None:
    text = json.dumps({"a": serialise([OLD]), "b": 1}).replace("/", "\\/")
    broken = text.replace(OLD.replace("/", "\\/"), NEW.replace("/", "\\/")).encode()
    assert heal(broken).value.decode() == json.dumps({"a": serialise([NEW]), "b": 1}).replace(
        "/", "\\/"
    )


def test_an_object_behind_several_addresses() -> None:
    """As themes keep their settings: one sensible reading, though another one would count as well."""
    broken = (
        b'a:3:{s:1:"b";s:3:"http://long";s:1:"h";a:3:{s:1:"u";s:3:"http://long2";s:1:"t";s:3:"http://long3";'
        b's:1:"w";i:9;}s:1:"z";i:4;}'
    )
    found = heal(broken)
    assert found.state == "healed"
    for text in (b's:11:"http://long";', b's:12:"http://long2";', b's:12:"http://long3";'):
        assert text in found.value


@pytest.mark.parametrize("count", [50, 5000])
def test_large_values_are_healed(count: int) -> None:
    settings = {f"k{n}": {"url": f"{OLD}/{n}", "w": n, "o": ["x", OLD]} for n in range(count)}
    for value in (
        settings,
        [f"{OLD}/{n}" for n in range(count)],
        {f"{OLD}/{n}": OLD for n in range(count)},
    ):
        broken = serialise(value).replace(OLD, NEW).encode()
        start = time.perf_counter()
        found = heal(broken)
        assert found.state == "healed"
        assert found.value.decode() == serialise(_with_keys(value))
        assert time.perf_counter() - start < 20


def _with_keys(value: object) -> object:
    if isinstance(value, dict):
        return {str(k).replace(OLD, NEW): _with_keys(v) for k, v in value.items()}
    if isinstance(value, list):
        return [_with_keys(item) for item in value]
    return value.replace(OLD, NEW) if isinstance(value, str) else value


def test_a_text_about_serialised_values_is_left_where_it_is_not_clear() -> None:
    text = f'see a:1:{{s:1:"x";s:3:"abc";}} at {OLD}'
    found = heal(serialise({"a": text, "b": 1}).replace(OLD, NEW).encode())
    assert found.state == "left" or found.value.decode() == serialise(
        {"a": text.replace(OLD, NEW), "b": 1}
    )


def test_objects_keep_their_classes_and_hidden_properties() -> None:
    broken = f'O:5:"Train":2:{{s:4:"link";s:30:"{NEW}";s:8:"\0Train\0x";a:1:{{i:0;s:3:"{NEW}";}}}}'
    healed = heal(broken.encode())
    assert healed.state == "healed"
    assert walk(healed.value).end == len(healed.value)
    assert f's:{len(NEW)}:"{NEW}"'.encode() in healed.value


@pytest.mark.parametrize(
    "value",
    [
        b's:3:"a";s:1:"b";',  # one string or two values: the end decides, and here it cannot
        b'a:2:{i:0;s:9:"x";i:1;s:9:"y";i:2;s:1:"z";}',  # a count that fits nowhere
        b'a:1:{i:0;s:9:"x"}',
        b'a:1:{i:0;s:99:"cut off',
        b'a:3:{i:0;s:9:"x";i:1;s:9:"y";i:1;s:1:"y";i:2;s:9:"z";}',  # two ways to have three
    ],
)
def test_what_has_no_or_more_than_one_reading_is_left(value: bytes) -> None:
    found = heal(value)
    assert found.value == value or (
        found.state == "healed" and walk(found.value).end == len(found.value)
    )
    if value.startswith((b"a:3", b"a:1", b"a:2")):
        assert found.state == "left"


def test_what_is_fine_comes_back_itself() -> None:
    for value in (b"", b"text", serialise(VALUES[0]).encode(), b"  a:0:{}  ", b'{"a": "b"}'):
        found = heal(value)
        assert found.state == "fine"
        assert found.value is value


def test_the_search_is_bounded() -> None:
    start = time.perf_counter()
    assert heal(b'a:2:{i:0;s:1:"' + b'x";i:0;' * 20_000).state == "left"
    assert heal(b"a:900:{" + b'i:0;s:7:"ab";' * 900).state == "left"
    large = [f"{OLD}/{n}" for n in range(5000)]
    assert heal(mangled(large)).value.decode() in (
        serialise(replaced(large)),
        mangled(large).decode(),
    )
    assert time.perf_counter() - start < 30


@given(st.recursive(st.none() | st.integers() | st.sampled_from([OLD, f"a {OLD} b", "plain", "ü"]),
                    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.sampled_from(["k", "l", OLD]), inner),
                    max_leaves=10))  # fmt: skip
def test_mangled_values_come_back_right_or_not_at_all(value: object) -> None:
    found = heal(mangled(value))
    if found.state == "healed":
        assert found.value.decode() == serialise(replaced(value))
    else:
        assert found.value == mangled(value)


def test_random_damage_never_makes_a_value_that_does_not_parse() -> None:
    chance = random.Random(4)
    original = serialise(VALUES[0]).encode()
    for _ in range(500):
        data = bytearray(original)
        data[chance.randrange(len(data))] = chance.randrange(256)
        found = heal(bytes(data))
        if found.state == "healed":
            assert walk(found.value).end == len(found.value)
