"""A batch that takes its rows apart when somebody asks is as one that was given all cells."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vetrin.database.batch import Batch
from vetrin.database.row_codec import current_records, records_of
from vetrin.errors import DatabaseError
from vetrin.rewrite import Address, Mapping, Rewriter, Tally

CELL = st.none() | st.binary(max_size=5) | st.just(b"x" * 300)
ROWS = st.lists(st.tuples(CELL, CELL, CELL), min_size=1, max_size=8)
STEPS = st.lists(
    st.one_of(
        st.tuples(st.just("set"), st.integers(0, 7), st.integers(0, 2), CELL),
        st.tuples(st.just("put"), st.integers(0, 7), st.integers(0, 2), st.binary(max_size=5)),
        st.tuples(st.just("row"), st.integers(0, 7)),
        st.just(("texts",)),
        st.just(("no records",)),
    ),
    max_size=12,
)


@given(rows=ROWS, steps=STEPS)
def test_whatever_is_done_to_it(rows: list[tuple[bytes | None, ...]], steps: list[tuple]) -> None:
    model = [list(row) for row in rows]
    records = records_of(Batch(3, [cell for row in rows for cell in row], 0))
    batch = Batch(3, None, 9, records=records.copy())
    for what, *more in steps:
        at = more[0] % len(model) if more else 0
        if what == "set":
            model[at][more[1]] = more[2]
            batch.set(at, more[1], more[2])
        elif what == "put":
            model[at][more[1]] = more[2]
            batch.put(more[1], {at: more[2]})
        elif what == "row":
            assert batch.row(at) == model[at]
        elif what == "texts":
            assert batch.texts(1) == [row[1] for row in model]
        else:
            batch.records = None
        assert batch.rows == len(model)
    now = records_of(Batch(3, [cell for row in model for cell in row], 0))
    assert current_records(batch) == now
    assert records_of(batch.part(range(len(model)))) == now
    assert [*batch.each()] == model
    assert batch.altered >= {n for n, row in enumerate(rows) if list(row) != model[n]}
    assert batch.records in (None, records)


@pytest.mark.parametrize("ask", ["cells", "row"])
def test_a_row_with_other_columns_than_the_table_is_refused(ask: str) -> None:
    batch = Batch(3, None, 9, records=[b"\x01a\x01b"])
    with pytest.raises(DatabaseError, match="not as many values"):
        batch.row(0) if ask == "row" else batch.cells


MAPPINGS = {
    "address": Mapping.build(
        addresses=[Address.parse("https://old.test")], address=Address.parse("http://new.test")
    ),
    "root": Mapping.build(roots=["/srv/old.test"], root="/home/new"),
    "literal": Mapping.build(literals=[(b"old", b"new"), (b"x/", b"y")]),
}
PIECES = [b"https://", b"//", b"old.test", b"OLD.TEST", b"old", b".test", b"/", b"/srv", b"\\/", b"%2F", b"x", b"\0"]  # fmt: skip


@pytest.mark.parametrize("kind", MAPPINGS)
@given(texts=st.lists(st.lists(st.sampled_from(PIECES), max_size=6).map(b"".join), max_size=9))
def test_rows_that_are_not_taken_apart_hold_nothing_to_rewrite(
    kind: str, texts: list[bytes]
) -> None:
    rewriter = Rewriter(MAPPINGS[kind])
    changed = rewriter.rewrite_column(texts, Tally())
    assert changed.keys() <= set(rewriter.likely([b"\x07" + text + b"\x03" for text in texts]))
