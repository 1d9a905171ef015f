"""A repeat transfer moves only what differs, and leaves what a full one would: random histories of both sides."""

from __future__ import annotations

import random
from collections.abc import Iterator

import pytest

from connected import hosts
from killing import killed_after
from line import ROWS, Line
from vetrin.config import Leave, load_project
from vetrin.database import KeyRange, Table
from vetrin.database.mysql import digest_worker
from vetrin.errors import JobError
from vetrin.jobs import Journals, switching
from vetrin.jobs.baseline import Baseline
from vetrin.jobs.journal import SWAPPING
from vetrin.site import open_site


class History:
    """What people do to one side, drawn by a seed."""

    def __init__(self, seed: int) -> None:
        self._draw = random.Random(seed)
        self._new = 100_000

    def steps(self) -> Iterator[str]:
        for _ in range(self._draw.choice([0, 1, 1, 2, 4])):
            yield from self._draw.choice(
                [self._changed, self._gone, self._come, self._keys, self._names, self._composite,
                 self._texts, self._notes, self._refilled, self._first, self._defined, self._many]
            )()  # fmt: skip

    def _some(self) -> int:
        return self._draw.randrange(0, 3 * ROWS, 3)

    def _changed(self) -> Iterator[str]:
        for _ in range(self._draw.randint(1, 5)):
            yield (
                f"UPDATE x_trains SET log = 'late https://live.test/{self._some()}' WHERE id = {self._some()}"
            )
        yield f"UPDATE x_trains SET seats = NULL WHERE id = {self._some()}"

    def _gone(self) -> Iterator[str]:
        first = self._some()
        yield f"DELETE FROM x_trains WHERE id BETWEEN {first} AND {first + self._draw.choice([0, 30, 900])}"
        yield f"DELETE FROM x_names WHERE id = {self._draw.randrange(900)}"

    def _come(self) -> Iterator[str]:
        for _ in range(self._draw.randint(1, 4)):
            self._new += 1
            yield f"INSERT INTO x_trains VALUES ({self._new}, 'new', 1)"
            number = self._some() + 1
            yield f"DELETE FROM x_trains WHERE id = {number}"
            yield f"INSERT INTO x_trains VALUES ({number}, 'between', 2)"

    def _keys(self) -> Iterator[str]:
        self._new += 1
        yield f"UPDATE x_trains SET id = {self._new} WHERE id = {self._some()}"
        yield f"UPDATE x_trains SET id = -{self._new} WHERE id = {self._some()}"

    def _names(self) -> Iterator[str]:
        """Unique values change places, and are taken over by others."""
        one, other = self._draw.sample(range(0, 900, 2), 2)
        yield f"UPDATE x_names SET slug = 'between' WHERE id = {one}"
        yield f"UPDATE x_names SET slug = 'slug-{one}-{self._new}' WHERE id = {other}"
        yield f"UPDATE x_names SET slug = 'slug-{other}-{self._new}' WHERE id = {one}"
        yield f"DELETE FROM x_names WHERE id = {one + 1}"
        self._new += 1
        yield f"INSERT INTO x_names VALUES ({self._new}, 'slug-{one + 1}', 3)"

    def _composite(self) -> Iterator[str]:
        yield f"UPDATE x_calls SET at = 'later' WHERE stop = {self._draw.randrange(40)} AND train < 9"
        yield f"DELETE FROM x_calls WHERE train = {self._draw.randrange(60)}"

    def _texts(self) -> Iterator[str]:
        """The same key to a collation, in other letters."""
        number = self._draw.randrange(300)
        yield f"UPDATE x_stops SET code = 'STOP{number}' WHERE code = 'stop{number}'"

    def _notes(self) -> Iterator[str]:
        yield f"INSERT INTO x_notes VALUES ({self._draw.randrange(300)}, 'note twice')"
        yield f"DELETE FROM x_notes WHERE at = {self._draw.randrange(300)}"

    def _refilled(self) -> Iterator[str]:
        yield "DELETE FROM x_calls"
        if self._draw.random() < 0.5:
            yield "INSERT INTO x_calls VALUES (1, 1, 'anew'), (1, 2, NULL)"

    def _first(self) -> Iterator[str]:
        self._new += 1
        yield f"INSERT INTO x_empty VALUES ({self._new}, 'first')"

    def _defined(self) -> Iterator[str]:
        self._new += 1
        yield f"ALTER TABLE x_names ADD COLUMN c{self._new} INTEGER"

    def _many(self) -> Iterator[str]:
        yield f"UPDATE x_trains SET seats = 9 WHERE id % {self._draw.choice([1, 2, 50])} = 0"


def differences(
    before: dict[str, dict[object, tuple]], after: dict[str, dict[object, tuple]]
) -> dict[str, tuple[int, int, int] | str]:
    """What changed, by comparing everything."""
    found: dict[str, tuple[int, int, int] | str] = {}
    for name, old in before.items():
        new = after[name]
        widths = {len(row) for row in (*old.values(), *new.values())}
        if len(widths) > 1:
            found[name] = "columns"
            continue
        both = old.keys() & new.keys()
        counts = (
            len(new) - len(both), sum(old[key] != new[key] for key in both), len(old) - len(both)
        )  # fmt: skip
        if any(counts):
            found[name] = counts
    return found


@pytest.mark.parametrize("seed", range(3))
def test_whatever_happened_on_both_sides_the_target_is_as_after_a_full_pull(
    line: Line, seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(digest_worker, "processors", lambda: 2)
    monkeypatch.setattr(digest_worker.DigestWorker, "_pays", True)
    draw = random.Random(seed)
    histories = {name: History(seed * 10 + at) for at, name in enumerate(line.sides)}
    line.pull()
    ways = set()
    for turn in range(6):
        were = {name: line.rows(name) for name in line.sides} if turn % 3 == 0 else {}
        for name, history in histories.items():
            if name == "production" or draw.random() < 0.4:
                line.sides[name](*history.steps())
        for name, rows in were.items():
            assert line.changes(name) == differences(rows, line.rows(name)), name
        before = line.digests()
        monkeypatch.setattr("vetrin.jobs.table_update._HELD", (0, 200, 16 << 20)[turn % 3])
        monkeypatch.setattr("vetrin.jobs.table_update._STRETCH", (512, 2, 7)[turn % 3])
        monkeypatch.setattr(digest_worker, "WORTH", (0, 16 << 20)[turn % 2])
        report = line.pull()
        assert report.since is not None
        now = line.digests()
        ways.add(
            "patched" if report.run.switch.patches else "swapped" if report.run.changed else "-"
        )
        assert line.baseline_is_the_source()
        if report.run.changed and draw.random() < 0.4:
            line.take_back()
            assert line.digests() == before
            line.take_back()
            assert line.digests() == now
        line.pull(full=True)
        assert line.digests() == now
        if draw.random() < 0.5:  # what the repeat transfer left is what the next one builds on
            line.take_back()
            assert line.digests() == now
    assert "patched" in ways or seed


DIFFERENCES = [
    "UPDATE x_trains SET log = 'late https://live.test/9' WHERE id IN (3, 3000, 7197)",
    "DELETE FROM x_calls WHERE train = 7",
    "INSERT INTO x_empty VALUES (1, 'first')",
]
OWN = ["UPDATE x_trains SET seats = 99 WHERE id = 600", "INSERT INTO x_calls VALUES (900, 1, 'x')"]
TRIGGER = {
    "sqlite": "CREATE TRIGGER x_guard AFTER UPDATE ON x_trains BEGIN SELECT 1; END",
    "mysql": "CREATE TRIGGER x_guard AFTER UPDATE ON x_trains FOR EACH ROW SET @seen = 1",
}


@pytest.mark.parametrize(
    ("most", "stretch"), [(0, 2), (1, 512), (200, 3), (16 << 20, 1), (16 << 20, 512)]
)
def test_what_is_kept_of_the_source_is_exchanged_once_however_much_of_it_ahead(
    line: Line, most: int, stretch: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    lacking: list[KeyRange] = []
    gaps = Baseline.gaps

    def looked(self: Baseline, table: Table) -> list[KeyRange]:
        found = gaps(self, table)
        lacking.extend(found)
        return found

    line.pull()
    monkeypatch.setattr(Baseline, "gaps", looked)
    monkeypatch.setattr("vetrin.jobs.table_update._HELD", most)
    monkeypatch.setattr("vetrin.jobs.table_update._STRETCH", stretch)
    for turn in range(2):
        line.sides["production"](
            f"UPDATE x_trains SET log = 'turn {turn}' WHERE id % 90 = {3 * turn}",
            f"DELETE FROM x_trains WHERE id = {900 + 3 * turn}",
            f"INSERT INTO x_trains VALUES ({901 + turn}, 'new', 4)",
            f"UPDATE x_calls SET at = 'turn {turn}' WHERE stop = 3",
            f"INSERT INTO x_names VALUES ({50_000 + turn}, 'turn-{turn}', 5)",
        )
        report = line.pull()
        written = {name.rpartition("_")[2] for name, rows in report.written.items() if rows}
        assert written == {"trains", "calls", "names"}
        assert not lacking and line.baseline_is_the_source()


def test_where_nothing_differs_nothing_is_switched(
    line: Line, monkeypatch: pytest.MonkeyPatch
) -> None:
    before = line.digests()
    line.pull()
    now = line.digests()
    with monkeypatch.context() as patched:
        for step in ("_hand_over", "_from_here", "held_off"):
            patched.setattr(switching, step, None)
        report = line.pull()
    assert report.since is not None and not report.run.changed
    assert [
        item["event"] for item in report.run.log.read().items if item["event"] == SWAPPING
    ] == []
    line.take_back()  # the run before: this one has no way back
    assert line.digests() == before
    line.take_back()
    assert line.digests() == now


@pytest.mark.parametrize("way", ["patched", "swapped"])
def test_killed_anywhere_it_is_the_old_or_the_new_and_goes_on(
    line: Line, way: str, every: int
) -> None:
    project = load_project(line.folder)
    with open_site(hosts, project, project.environment("local")) as site:
        engine = type(site.database)
    if way == "swapped":  # a table with a trigger is not changed where it stands
        line.sides["production"](TRIGGER[engine.engine])
    line.pull()
    line.sides["production"](*DIFFERENCES)
    line.sides["local"](*OWN)
    old = line.digests()
    report = line.pull()
    assert bool(report.run.switch.patches) == (way == "patched")
    new = line.digests()
    line.take_back()
    assert line.digests() == old
    methods = ["lay_out", "fill", "finish", "_execute", "swap", "patch", "drop"]
    steps = 0
    stride = every or (13 if engine.engine == "sqlite" else 37)
    while killed_after(steps, line.pull, engine=engine, methods=methods):
        last = Journals(project.state).of("local")[0]
        now = line.digests()
        assert now in (old, new), steps
        assert now == old or last.stage in ("swapping", "done"), steps
        if steps % 2 or now == new:
            line.pull()
        if line.digests() != new:
            line.pull()
        assert line.digests() == new, steps
        line.take_back()
        assert line.digests() == old, steps
        assert not [name for name in line.hidden() if "arriving" in name], steps
        steps += stride
    assert steps > 20


def test_rows_that_somebody_changes_meanwhile_stop_it(
    line: Line, monkeypatch: pytest.MonkeyPatch
) -> None:
    line.pull()
    line.sides["production"](*DIFFERENCES)
    project = load_project(line.folder)
    with open_site(hosts, project, project.environment("local")) as site:
        engine = type(site.database)
    real = engine.patch

    def patch(self, patches, *more, **options):  # type: ignore[no-untyped-def]
        monkeypatch.undo()
        line.sides["local"]("UPDATE x_trains SET seats = 1234 WHERE id = 3000")
        return real(self, patches, *more, **options)

    monkeypatch.setattr(engine, "patch", patch)
    with pytest.raises(JobError, match="1 of the rows"):
        line.pull()
    seats = line.rows("local")["x_trains" if line.prefix == "wp_" else "trains"]
    assert not any(b"late" in bytes(row[1]) for row in seats.values())
    line.pull()
    now = line.digests()
    line.pull(full=True)
    assert line.digests() == now


def test_where_visitors_are_a_large_change_is_switched_in(
    line: Line, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("vetrin.jobs.table_update.VISITED", 5)
    line.pull(role="staging")
    line.sides["production"]("UPDATE x_trains SET seats = 8 WHERE id < 30")
    assert line.pull(role="staging").run.switch.exchanges
    line.sides["production"]("UPDATE x_trains SET seats = 7 WHERE id < 9")
    assert line.pull(role="staging").run.switch.patches


def test_what_is_left_out_may_be_another_choice_each_time(line: Line) -> None:
    """Also one that means other rows as time goes by: what counts is which rows are read."""
    table = "trains" if line.prefix != "wp_" else "x_trains"
    line.pull(leave=Leave(where={table: "id < 100"}))
    for where in ("id < 100", "id < 200", "id > 7000 AND 1 = 1", ""):
        leave = Leave(where={table: where} if where else {})
        report = line.pull(leave=leave)
        assert report.run.changed == (where != "id < 100") and report.since is not None
        now = line.digests()
        line.pull(leave=leave, full=True)
        assert line.digests() == now, where


def test_numbers_go_on_where_the_sources_do(line: Line) -> None:
    """Also those of rows that are gone: what once had a number keeps it."""
    kind = "AUTOINCREMENT" if line.prefix != "wp_" else "AUTO_INCREMENT"
    line.sides["production"](
        f"CREATE TABLE x_tickets (id INTEGER PRIMARY KEY {kind}, name TEXT)",
        "INSERT INTO x_tickets (name) VALUES ('a'), ('b')",
    )
    line.pull()
    line.sides["production"](
        "INSERT INTO x_tickets (name) VALUES ('c'), ('d')", "DELETE FROM x_tickets WHERE id = 4"
    )
    assert line.pull().run.switch.patches
    line.sides["local"]("INSERT INTO x_tickets (name) VALUES ('mine')")
    mine = line.rows("local")["x_tickets" if line.prefix == "wp_" else "tickets"]
    assert b"5" in [
        str(row[0]).encode() if isinstance(row[0], int) else row[0] for row in mine.values()
    ]
