"""What is remembered of how pages looked: it is kept, shared by all that use it, and can be lost."""

from __future__ import annotations

import sqlite3
import stat
from contextlib import closing
from itertools import chain
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vetrin.database import (
    Batch,
    Column,
    KeyRange,
    PagesAfter,
    Table,
    digest_with,
    joint_digest,
    with_pages,
)
from vetrin.database.digests import digest_of_records, sums_of_records
from vetrin.database.page_prints import (
    Packets,
    PagePrints,
    PrintsThere,
    first_packet,
    packets_of,
)
from vetrin.database.row_codec import current_records
from vetrin.database.strips import NO_STRIPS, UNSEEN, Print, changed_strips, unpacked

ROWS = [b"\x01a", b"\x02bb", b"\xfb"]


def learned(prints: PagePrints, *stretches: list[bytes]) -> str:
    """Have stretches of rows looked at; the digest of all."""
    packets = Packets(prints, 1)
    for rows in stretches:
        packets.add(rows, sums_of_records(rows))
    packets.learn()
    return digest_of_records(chain(*stretches))


def seen(prints: PagePrints) -> Print:
    found = prints.of(learned(prints, ROWS[:1], ROWS[1:]))
    assert found is not None
    return found


def test_they_are_there_the_next_time(tmp_path: Path) -> None:
    path = tmp_path / "state" / "rows.sqlite"
    early = PagePrints(path)
    early.learn("3-7", seen(early))
    early.keep()
    assert not path.parent.exists()  # whoever only looks leaves nothing behind
    path.parent.mkdir()
    first, other = PagePrints(path), PagePrints(path)
    first.learn("3-7", seen(first))
    first.keep()
    assert other.of("3-7") == seen(other) is not None
    other.learn("3-8", seen(other))
    other.keep()
    both = PagePrints(path)
    assert [both.of(digest) for digest in ("3-7", "3-8", "3-9")] == [seen(both), seen(both), None]
    assert stat.S_IMODE(path.parent.stat().st_mode) == 0o700


def test_of_two_that_began_together_one_is_kept(tmp_path: Path) -> None:
    path = tmp_path / "state" / "rows.sqlite"
    both = [PagePrints(path), PagePrints(path)]
    for number, one in enumerate(both):
        one.learn(f"3-{number}", seen(one))
    path.parent.mkdir()
    for one in both:
        one.keep()
    later = PagePrints(path)
    assert [later.of("3-0"), later.of("3-1")] == [seen(later), None]


def test_packets_are_numbered_as_a_server_does() -> None:
    prints = PagePrints()
    raw = b"".join(
        len(row).to_bytes(3, "little") + bytes([number]) + row for number, row in enumerate(ROWS, 4)
    )
    assert seen(prints) == Print(len(raw), prints.tag_of(raw))
    digest = learned(prints, [b"\x00"] * 300)
    many = b"".join(b"\1\0\0" + bytes([number % 256]) + b"\0" for number in range(4, 304))
    assert prints.of(digest) == Print(len(many), prints.tag_of(many))


@given(st.lists(st.lists(st.binary(min_size=1, max_size=40), max_size=5), max_size=5))
def test_stretches_add_up_to_what_was_seen_as_a_whole(stretches: list[list[bytes]]) -> None:
    for prints in (PagePrints(), PrintsThere()):
        digest = learned(prints, *stretches)
        raw = packets_of([*chain(*stretches)], first_packet(1)) or b""
        assert prints.of(digest) == (Print(len(raw), prints.tag_of(raw)) if raw else None)
        at = 0
        for one in prints.strips_of([digest], ())(digest):
            part = raw[at : at + one.seen.size]
            assert one.seen == prints.print_of(part)
            at += len(part)
        assert at == len(raw)


MANY = {(7, number): b"\x03%03d\x01x" % number for number in range(100)}


def looked_at(prints: PagePrints, rows: dict[tuple[int, ...], bytes]) -> str:
    keys, records = [*rows], [*rows.values()]
    digest = digest_of_records(records)
    prints.look_at(digest, records, 2, sums_of_records(records), keys.__getitem__, [3, 1])
    return digest


def test_strips_are_there_the_next_time(tmp_path: Path) -> None:
    path = tmp_path / "rows.sqlite"
    first = PagePrints(path)
    digest = looked_at(first, MANY)
    known = first.strips_of([digest], [3, 1])(digest)
    assert known.digest == digest and len(known) > 10
    for before, strip in zip((None, *known), known, strict=False):
        one = KeyRange(before.upto if before else None, strip.upto)
        mine = [record for key, record in MANY.items() if one.holds(key)]
        assert strip.digest == digest_of_records(mine)
        assert strip.seen.size == sum(map(len, mine)) + 4 * len(mine)
    first.keep()
    for _ in range(2):
        later = PagePrints(path)
        assert later.knows(digest)
        assert later.strips_of([digest, "7-7"], [3, 1])(digest) == known
        # Another table may have the same rows, and another key.
        assert (
            later.strips_of([digest], [3])(digest)
            == later.strips_of([digest], [1, 3])(digest)
            == NO_STRIPS
        )
        later.learn("5-5", Print(1, b"x" * 16))
        later.keep()


@pytest.mark.parametrize("damage", [b"", b"\2", b"\2\3\0\1\0", b"\2\3\0\1\0" + b"x" * 50, None])
def test_strips_that_are_not_those_of_the_page_are_none(
    tmp_path: Path, damage: bytes | None
) -> None:
    path = tmp_path / "rows.sqlite"
    first = PagePrints(path)
    digest = looked_at(first, MANY)
    first.keep()
    with closing(sqlite3.connect(path)) as file, file:
        ((kept,),) = file.execute("SELECT strips FROM strips_of_pages")
        for at in range(len(kept)) if damage is None else ():
            changed = bytearray(kept)
            changed[at] ^= 1
            assert unpacked(bytes(changed), digest, [3, 1]) == NO_STRIPS
        file.execute(
            "UPDATE strips_of_pages SET strips = ?", (kept[:-1] if damage is None else damage,)
        )
    later = PagePrints(path)
    assert later.of(digest) == first.of(digest)
    assert later.strips_of([digest], [3, 1])(digest) == NO_STRIPS


def test_keys_that_are_too_large_have_no_strips() -> None:
    prints = PagePrints()
    digest = looked_at(prints, {(key[0], key[1] + (1 << 63)): row for key, row in MANY.items()})
    assert prints.of(digest) is not None and prints.strips_of([digest], [3, 1])(digest) == NO_STRIPS


def test_strips_of_a_page_that_nobody_has_seen() -> None:
    prints = PagePrints()
    digest = looked_at(prints, MANY)
    known = prints.strips_of([digest], [3, 1])(digest)
    keys = {row: key for key, row in MANY.items()}
    came = {(7, 5): b"\x03005\x01y", (8, 0): b"\x03999\x01x"}
    keys |= {row: key for key, row in came.items()}
    gone = [MANY[7, 5], MANY[7, 50]]
    now = changed_strips(known, gone, [*came.values()], keys.__getitem__)
    after = digest_with(digest, gone, came.values())
    assert now.digest == after
    unseen = [number for number, strip in enumerate(now) if strip.seen == UNSEEN]
    assert len(unseen) == 3 and unseen[-1] == len(now) - 1
    assert all(now[number] == known[number] for number in range(len(now)) if number not in unseen)
    prints.learn(after, None, now, [3, 1])
    assert prints.knows(after) and prints.of(after) is None
    assert prints.strips_of([after], [3, 1])(after) == now
    assert changed_strips(NO_STRIPS, gone, [], keys.__getitem__) == NO_STRIPS


def test_tags_of_one_project_say_nothing_of_another(tmp_path: Path) -> None:
    assert seen(PagePrints(tmp_path / "a")) != seen(PagePrints(tmp_path / "b"))


@pytest.mark.parametrize("damage", [b"", b"no database", None])
def test_what_is_damaged_is_begun_anew(tmp_path: Path, damage: bytes | None) -> None:
    path = tmp_path / "rows.sqlite"
    first = PagePrints(path)
    first.learn("3-7", seen(first))
    first.keep()
    whole = path.read_bytes()
    path.write_bytes(whole[:100] + b"\xff" * (len(whole) - 100) if damage is None else damage)
    for _ in range(2):
        prints = PagePrints(path)
        assert prints.of("3-7") is None
        prints.learn("3-8", seen(prints))
        prints.keep()
    assert PagePrints(path).of("3-8") is not None


def test_where_nothing_can_be_kept_nothing_fails(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("")
    prints = PagePrints(tmp_path / "file" / "rows.sqlite")
    prints.learn("3-7", seen(prints))
    prints.keep()
    assert prints.of("3-7") == seen(prints)


WORDS = st.none() | st.binary(max_size=12)


@pytest.mark.parametrize("key", [("id",), ()])
@given(
    rows=st.lists(st.lists(WORDS, max_size=40), min_size=1, max_size=4),
    others=st.dictionaries(st.integers(0, 160), WORDS, max_size=9),
    before=st.sampled_from([None, PagePrints(), PagePrints(key=b"k" * 32), PrintsThere()]),
)
def test_what_pages_will_look_like_is_known_before(
    key: tuple[str, ...],
    rows: list[list[bytes | None]],
    others: dict[int, bytes | None],
    before: PagePrints | None,
) -> None:
    """It is what whoever reads the rows later would remember, but for what is remembered together anyway."""
    columns = Column("id", "bigint", False), Column("text", "longtext", True)
    table = Table("times", columns, key, frozenset(key), 0, 0)
    prints, later = PagePrints(key=b"k" * 32), PagePrints(key=b"k" * 32)
    after, will_be, became, number = PagesAfter(table, prints, before), [], list[str](), 0
    same: set[str] = set()
    for words in rows:
        cells = [cell for at, text in enumerate(words, number) for cell in (b"%d" % at, text)]
        (batch,) = with_pages(table, [Batch(2, cells, 9)])
        current_records(batch)
        for row in range(len(words)):
            if number + row in others:
                batch.set(row, 1, others[number + row])
        number += len(words)
        found = after.of(batch)
        assert [(page.upto, page.digest) for page in found] == [
            (page.upto, page.digest) for page in batch.pages
        ]
        became += [page.became for page in found]
        same.update(page.became for page in found if page.became == page.digest)
        will_be.append(Batch(2, batch.cells, 9))
    after.end()
    there = [page for batch in with_pages(table, will_be, later) for page in batch.pages]
    assert became == [page.digest for page in there]
    digests = became if key else [joint_digest(became)]
    looks = [one.strips_of(digests, [0] if key else []) for one in (prints, later)]
    for digest in digests:
        if key and before is not None and prints.shares(before) and digest in same:
            continue
        assert prints.of(digest) == later.of(digest)
        assert looks[0](digest) == looks[1](digest)
