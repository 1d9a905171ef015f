"""What is remembered of how pages looked: it is kept, shared by all that use it, and can be lost."""

from __future__ import annotations

import stat
from pathlib import Path

import pytest

from vetrin.database.page_prints import Packets, PagePrints, Print

ROWS = [b"\x01a", b"\x02bb", b"\xfb"]


def seen(prints: PagePrints) -> Print | None:
    packets = Packets(prints, 1)
    packets.add(ROWS[:1])
    packets.add(ROWS[1:])
    return packets.seen()


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
    packets = Packets(prints, 1)
    packets.add([b"\x00"] * 300)
    many = b"".join(b"\1\0\0" + bytes([number % 256]) + b"\0" for number in range(4, 304))
    assert packets.seen() == Print(len(many), prints.tag_of(many))


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
