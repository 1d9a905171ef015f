"""Small pieces with exact answers: encodings of rows, anchors, sizes, confirmations."""

from __future__ import annotations

from argparse import Namespace
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vetrin.cli.console import Out, plural, size
from vetrin.database import Batch, Column
from vetrin.database.mysql.row_text import FIELD, LINE, insert_statements, load_block
from vetrin.demo.picture import draw
from vetrin.demo.serialise import serialise
from vetrin.errors import Refused
from vetrin.rewrite.anchors import choose_anchors, common_part
from vetrin.rewrite.php_serialized import walk

cells = st.none() | st.lists(
    st.sampled_from([b"\x1d", b"\x1e", b"\x1f", b"\x1c", b"\\", b"N", b"'", b"a", b"\0", b"\n", FIELD, LINE]),
    max_size=6,
).map(b"".join)  # fmt: skip


def read_load(block: bytes) -> list[bytes | None]:
    """What LOAD DATA makes of a block, by the rules of its documentation."""
    found: list[bytes | None] = []
    value, null, at = bytearray(), False, 0
    while at < len(block):
        if block[at : at + 1] == b"\\":
            null = null or block[at + 1 : at + 2] == b"N"
            value += block[at + 1 : at + 2]
            at += 2
        elif block[at : at + 2] in (FIELD, LINE):
            found.append(None if null and value == b"N" else bytes(value))
            value, null = bytearray(), False
            at += 2
        else:
            value += block[at : at + 1]
            at += 1
    assert not value
    return found


@given(st.integers(1, 3).flatmap(lambda w: st.tuples(st.just(w), st.lists(st.lists(cells, min_size=w, max_size=w), min_size=1, max_size=5))))  # fmt: skip
def test_a_load_block_reads_back_as_its_cells(rows: tuple[int, list[list[bytes | None]]]) -> None:
    width, values = rows
    flat = [cell for row in values for cell in row]
    assert read_load(load_block(Batch(width, list(flat), 0))) == flat


def read_insert(statement: bytes, head: bytes) -> list[bytes | None]:
    body = statement.removeprefix(head)
    found: list[bytes | None] = []
    at = 0
    while at < len(body):
        if body.startswith(b"NULL", at):
            found.append(None)
            at += 4
        elif body[at : at + 1] == b"'":
            value, at = bytearray(), at + 1
            while body[at : at + 1] != b"'" or body[at + 1 : at + 2] == b"'":
                at += body[at : at + 1] in (b"'", b"\\")
                value += body[at : at + 1]
                at += 1
            found.append(bytes(value))
            at += 1
        else:
            at += 1
    return found


@given(
    st.lists(st.lists(cells, min_size=2, max_size=2), min_size=1, max_size=6),
    st.sampled_from([60, 10_000]),
)
def test_insert_statements_read_back_as_their_cells(
    rows: list[list[bytes | None]], limit: int
) -> None:
    columns = [Column("a", "text", True, "`a`", "{}"), Column("b", "bit", False, "`b`+0", "{}")]
    flat = [cell for row in rows for cell in row]
    found: list[bytes | None] = []
    for statement in insert_statements(
        b"INSERT ", columns, Batch(2, list(flat), 0), limit, 100_000
    ):
        found += read_insert(statement, b"INSERT ")
    assert found == flat


def test_a_row_larger_than_a_statement_goes_ahead_in_variables() -> None:
    columns = [Column(name, "blob", True, name, "{}") for name in "ab"]
    batch = Batch(2, [b"x" * 3000, b"short"], 0)
    statements = list(insert_statements(b"INSERT ", columns, batch, 1000, 2000))
    assert statements[0] == b"SET @v0 = '" + b"x" * 3000 + b"'"
    assert statements[1] == b"INSERT (@v0,'short')"


@given(st.lists(st.text("abcd.", min_size=1, max_size=12).map(str.encode), min_size=1, max_size=8))
def test_every_needle_holds_its_anchor(needles: list[bytes]) -> None:
    chosen = choose_anchors(needles)
    assert set(chosen) == set(needles)
    assert all(anchor and anchor in needle for needle, anchor in chosen.items())


def test_needles_that_share_a_part_share_an_anchor() -> None:
    assert set(
        choose_anchors([b"www.harrowmere.example", b"harrowmere", b"try.harrowmere.test"]).values()
    ) == {b"harrowmere"}
    assert common_part(b"abcdef", b"xcdey") == b"cde"
    assert common_part(b"abc", b"xyz") == b""


WHOLE = st.integers(-(2**63), 2**63 - 1)  # PHP has no others


@given(st.recursive(st.none() | st.booleans() | WHOLE | st.floats(allow_nan=False, allow_infinity=False) | st.text(),
                    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text() | WHOLE, inner, max_size=3)))  # fmt: skip
def test_what_the_demo_serialises_parses(value: object) -> None:
    data = serialise(value).encode()
    assert walk(data).end == len(data)


def test_sizes_and_counts_for_people() -> None:
    assert [size(n) for n in (0, 999, 1000, 1_234_567, 999_960, 5 * 10**12, 10**16)] == [
        "0 B", "999 B", "1.0 kB", "1.2 MB", "1.0 MB", "5.0 TB", "10000.0 TB",
    ]  # fmt: skip
    assert (plural(1, "row"), plural(1200, "row"), plural(2, "entry", "entries")) == (
        "1 row",
        "1,200 rows",
        "2 entries",
    )


@pytest.mark.parametrize(
    ("yes", "confirm", "production", "said"),
    [(True, None, False, None), (False, "local", True, None), (False, "local", False, None), (True, None, True, "add --confirm local"),
     (True, "other", False, "this run writes to local"), (False, None, False, "add --yes")],
)  # fmt: skip
def test_confirmations(yes: bool, confirm: str | None, production: bool, said: str | None) -> None:
    out = Out(json=True)
    args = Namespace(yes=yes, confirm=confirm)
    if said is None:
        out.confirm("Go?", args, target="local", production=production)
        return
    with pytest.raises(Refused) as error:
        out.confirm("Go?", args, target="local", production=production)
    assert said in f"{error.value} {error.value.remedy}"


def test_pictures_are_pictures(tmp_path: Path) -> None:
    data = draw(3)
    assert data.startswith(b"\x89PNG\r\n\x1a\n")
    assert data.endswith(b"IEND\xaeB`\x82")
    assert draw(3) == data != draw(4)
