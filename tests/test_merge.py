"""The three-way merge on its own: values by key path, texts by pieces, and thousands of random histories of three
sides against a model in plain Python."""

from __future__ import annotations

import copy
import json
import random
from collections.abc import Callable, Iterable, Mapping
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vetrin.cms.definition import parse_definition
from vetrin.database import Column, InSubquery, Table
from vetrin.database.batch import Cell
from vetrin.merge import (
    Changed,
    CommonState,
    Decision,
    Decisions,
    IdMaps,
    Key,
    Merged,
    MergeRules,
    References,
    Rules,
    TableSides,
    Take,
    ValueMerge,
    Versions,
    merge_tables,
    merge_texts,
    merge_value,
)
from vetrin.rewrite import Mapping as Pairs
from vetrin.rewrite import Rewriter, Tally, parse_pair
from vetrin.site.conditions import site_condition

LOCAL, LIVE = b"http://harrowmere.test", b"https://www.harrowmere.example"
DEFINITION = parse_definition(
    """
name = "signalbox"
title = "Signal Box"

[tables.roles]
visitors = ["comments"]

[settings]
table = "settings"
name = "name"
value = "value"

[[link]]
from = "entries.parent"
to = "entries.id"
then = "clear"

[[link]]
from = "comments.entry"
to = "entries.id"

[[link]]
from = "data.entry"
to = "entries.id"

[[link]]
from = "labels.entry"
to = "entries.id"

[[link]]
from = "labels.tag"
to = "tags.id"

[[natural]]
table = "settings"
key = ["name"]

[[natural]]
table = "tags"
key = ["slug"]

[[natural]]
table = "data"
key = ["entry", "name"]
several = true

[[reference]]
at = ["settings.value"]
where = { name = "front" }
to = "entries.id"

[[reference]]
at = ["settings.value"]
where = { name = "menu" }
paths = ["items.*"]
to = "entries.id"

[[reference]]
at = ["data.value"]
where = { name = "picture" }
to = "entries.id"

[[reference]]
to = "entries.id"
patterns = ["/entry/{id}", "[show {ids}]"]
blocks = ["picture id", "gallery ids.*"]

[[set]]
at = "settings.value"
where = { name = "pinned" }

[[visitors]]
table = "data"
where = { name = "booking" }

[[recount]]
column = "entries.comments"
key = "id"
of = "comments.entry"

[merge]
latest = ["entries.changed"]
texts = ["entries.text"]
""",
    "signalbox.toml",
)
SHAPES = {
    "entries": ["id", "parent", "title", "text", "changed", "comments"],
    "comments": ["id", "entry", "text"],
    "data": ["id", "entry", "name", "value"],
    "tags": ["id", "slug", "about"],
    "labels": ["entry", "tag"],
    "settings": ["id", "name", "value"],
}
NUMBERS = {"id", "parent", "entry", "tag", "comments"}


def table(name: str) -> Table:
    columns = tuple(
        Column(one, "bigint" if one in NUMBERS else "text", one not in NUMBERS)
        for one in SHAPES[name]
    )
    key = ("entry", "tag") if name == "labels" else ("id",)
    return Table(name, columns, key, frozenset(key), 0, 0)


Rows = dict[Key, list[Cell]]
Content = dict[str, Rows]


def key_of(name: str, row: list[Cell]) -> Key:
    return tuple(row[SHAPES[name].index(one)] for one in table(name).key)


class Side:
    """One environment in memory. ``given`` are the last numbers that its tables gave."""

    def __init__(self, content: Content, own: bytes) -> None:
        self.content = content
        self.own = own
        self.given = {
            name: max([0, *(int(key[0]) for key in rows)]) for name, rows in content.items()
        }  # type: ignore[arg-type]

    def condition(self, where: Mapping[str, Any]) -> Any:
        return site_condition(where, "")

    def within(self, part: InSubquery, value: Cell) -> bool:
        raise AssertionError("no rule asks for that here")

    def put(self, name: str, /, **values: Any) -> bytes:
        """Add a row, or change the one of this id; its id."""
        names = SHAPES[name]
        if "id" in names and "id" not in values:
            self.given[name] += 1
            values["id"] = self.given[name]
        cells = dict.fromkeys(names, b"") | {
            one: value if isinstance(value, bytes) else str(value).encode()
            for one, value in values.items()
        }
        row: list[Cell] = [cells[one] for one in names]
        key = key_of(name, row)
        old = self.content[name].get(key)
        if old is not None:
            row = [row[at] if one in values else old[at] for at, one in enumerate(names)]
        self.content[name][key] = row
        return cells.get("id", b"")

    def get(self, name: str, number: bytes, column: str) -> bytes:
        return self.content[name][(number,)][SHAPES[name].index(column)]  # type: ignore[return-value]

    def remove(self, name: str, key: Key) -> None:
        del self.content[name][key]
        if name != "entries":
            return
        for other in ("comments", "data", "labels"):
            at = SHAPES[other].index("entry")
            for one in [k for k, row in self.content[other].items() if row[at] == key[0]]:
                del self.content[other][one]


class Near:
    """What a merge asks of the two sides."""

    def __init__(self, incoming: Side, target: Side) -> None:
        self.incoming = incoming
        self.target = target

    def rows(self, name: str, keys: Iterable[Key]) -> dict[Key, list[Cell]]:
        return {
            key: self.target.content[name][key] for key in keys if key in self.target.content[name]
        }

    def find(self, name: str, column: str, values: Iterable[Cell]) -> list[list[Cell]]:
        at, wanted = SHAPES[name].index(column), set(values)
        return [row for row in self.target.content[name].values() if row[at] in wanted]

    def brought(self, name: str, column: str, value: Cell) -> list[tuple[list[Cell], list[Cell]]]:
        at = SHAPES[name].index(column)
        rows = [row for row in self.incoming.content[name].values() if row[at] == value]
        return [
            (row, World.carried({name: {(): row}}, self.incoming.own)[name][()]) for row in rows
        ]

    def next_number(self, name: str) -> int:
        return self.target.given[name] + 1


def changes(before: Rows, after: Rows) -> dict[Key, Changed]:
    keys = {*before, *after}
    return {
        key: Changed(before.get(key), after.get(key))
        for key in sorted(keys)
        if before.get(key) != after.get(key)
    }


class World:
    """A live site and a local copy of it that go their own ways, and what they have in common."""

    def __init__(self, live: Content) -> None:
        self.live = Side(live, LIVE)
        self.local = Side(self.carried(live, LIVE), LOCAL)
        self.asked: set[tuple[str, str]] = set()  # rows that somebody was asked about
        self.pull()

    @staticmethod
    def carried(content: Content, own: bytes) -> Content:
        other = LOCAL if own == LIVE else LIVE
        rewriter = Rewriter(Pairs.of([parse_pair(f"{own.decode()}={other.decode()}")]))
        return {
            name: {
                key: [rewriter.rewrite(c, Tally()) if isinstance(c, bytes) else c for c in row]
                for key, row in rows.items()
            }
            for name, rows in content.items()
        }

    def pull(self) -> None:
        """The whole of the live site comes down."""
        self.then_live = copy.deepcopy(self.live.content)
        self.then_local = self.carried(self.then_live, LIVE)
        self.local.content = copy.deepcopy(self.then_local)
        self.local.given = dict(self.live.given)
        self.common = CommonState("live")

    def changed(self, side: str, name: str) -> dict[Key, Changed]:
        then = self.then_live if side == "live" else self.then_local
        now = (self.live if side == "live" else self.local).content[name]
        return self.common.changes(
            side, name, changes(then[name], now),
            lambda keys: {key: now[key] for key in keys if key in now},
        )  # fmt: skip

    def merge(self, incoming: str, decisions: Decisions, *, keep: bool = True) -> Merged:
        """Bring what one side changed into the other."""
        target = "live" if incoming == "local" else "local"
        come, there = getattr(self, incoming), getattr(self, target)
        sides = []
        for name in SHAPES:
            came = self.changed(incoming, name)
            rows = {key: list(one.after) for key, one in came.items() if one.after is not None}
            sides.append(
                TableSides(
                    name, table(name), came, self.carried({name: rows}, come.own)[name],
                    self.changed(target, name), visitors=name == "comments",
                )
            )  # fmt: skip
        maps = self.common.maps_from(incoming)
        merged = merge_tables(
            sides, MergeRules(DEFINITION, keep_visitors=keep), Near(come, there), maps, decisions
        )
        for step in merged.steps:
            assert there.content[step.table].get(step.key) == (
                None if step.before is None else list(step.before)
            )
            if step.after is None:
                del there.content[step.table][step.key]
            else:
                there.content[step.table][step.key] = list(step.after)
                if step.table != "labels":
                    there.given[step.table] = max(there.given[step.table], int(step.key[0]))  # type: ignore[arg-type]
        self.common.add(incoming, target, merged.agreed, merged.maps)
        self.kept_on_disk()
        return merged

    def kept_on_disk(self) -> None:
        """What is common survives being written and read."""
        lines = [json.loads(json.dumps(line)) for line in self.common.lines(mixed=False)]
        self.common = CommonState.of_lines("live", lines, mixed=False)


def railway() -> World:
    live: Content = {name: {} for name in SHAPES}
    side = Side(live, LIVE)
    for number in range(1, 6):
        side.put("entries", parent=0, title=f"Halt {number}", changed="2026-03-01", comments=0,
                 text=f"<p>Trains call at halt {number}.</p>\n\n<p>See {LIVE.decode()}/entry/{number}</p>\n\n<p>Mind the step.</p>\n")  # fmt: skip
        side.put("data", entry=number, name="picture", value=max(1, number - 1))
    side.put("comments", entry=1, text="A fine halt")
    side.put("tags", slug="steam", about="Under steam")
    side.put("labels", entry=1, tag=1)
    side.put("settings", name="front", value=1)
    side.put(
        "settings",
        name="menu",
        value='a:2:{s:5:"items";a:2:{i:0;i:1;i:1;i:2;}s:4:"name";s:4:"Main";}',
    )
    side.put("settings", name="pinned", value='a:2:{i:0;s:1:"a";i:1;s:1:"b";}')
    side.put("settings", name="home", value=f"{LIVE.decode()}/")
    return World(live)


class Author:
    """Somebody, or several, who work on one side at random. Each entry has a title of its own that names it."""

    def __init__(self, side: Side, name: str, chance: random.Random) -> None:
        self.side = side
        self.name = name
        self.chance = chance
        self.count = 0

    def entries(self) -> list[bytes]:
        return [key[0] for key in self.side.content["entries"]]  # type: ignore[misc]

    def some(self) -> bytes:
        return self.chance.choice(self.entries())

    def unique(self, what: str) -> str:
        self.count += 1
        return f"{what} {self.count} of {self.name}"

    def work(self) -> None:
        chosen = self.chance.choice(
            [self.write, self.write, self.edit, self.edit, self.comment, self.tag, self.picture,
             self.front, self.menu, self.pin, self.remove, self.retitle]
        )  # fmt: skip
        chosen()

    def write(self) -> None:
        other = self.some().decode()
        own = self.side.own.decode()
        number = self.side.put(
            "entries", parent=self.chance.choice([b"0", self.some()]), title=self.unique("Entry"),
            changed=f"2026-04-{self.chance.randint(10, 30)}", comments=0,
            text=f'See {own}/entry/{other}.\n<!-- wp:picture {{"id":{other},"wide":true}} /-->\n[show {other}, {other}]\n',
        )  # fmt: skip
        self.side.put("data", entry=number, name="picture", value=other)

    def edit(self) -> None:
        number = self.some()
        lines = self.side.get("entries", number, "text").split(b"\n")
        lines[self.chance.randrange(len(lines))] = self.unique("Line").encode()
        self.side.put(
            "entries",
            id=number,
            text=b"\n".join(lines),
            changed=f"2026-04-{self.chance.randint(10, 30)}",
        )

    def retitle(self) -> None:
        self.side.put("entries", id=self.some(), title=self.unique("Title"))

    def comment(self) -> None:
        self.side.put("comments", entry=self.some(), text=self.unique("Comment"))

    def tag(self) -> None:
        slug = self.chance.choice(["steam", "diesel", self.name])
        found = [row[0] for row in self.side.content["tags"].values() if row[1] == slug.encode()]
        number = found[0] if found else self.side.put("tags", slug=slug, about=slug)
        self.side.put("labels", entry=self.some(), tag=number)

    def picture(self) -> None:
        number = self.some()
        at = [row[0] for row in self.side.content["data"].values() if row[1] == number]
        if at:
            self.side.put("data", id=at[0], entry=number, name="picture", value=self.some())

    def setting(self, name: str) -> bytes:
        return next(
            row[0] for row in self.side.content["settings"].values() if row[1] == name.encode()
        )  # type: ignore[return-value]

    def front(self) -> None:
        self.side.put("settings", id=self.setting("front"), value=self.some())

    def menu(self) -> None:
        items = "".join(f"i:{at};i:{self.some().decode()};" for at in range(3))
        self.side.put(
            "settings",
            id=self.setting("menu"),
            value=f'a:2:{{s:5:"items";a:3:{{{items}}}s:4:"name";s:4:"Main";}}',
        )

    def pin(self) -> None:
        texts = self.chance.sample(["a", "b", "c", "d"], 2)
        items = "".join(f'i:{at};s:1:"{text}";' for at, text in enumerate(texts))
        self.side.put("settings", id=self.setting("pinned"), value=f"a:2:{{{items}}}")

    def remove(self) -> None:
        if len(self.entries()) > 3:
            self.side.remove("entries", (self.some(),))


def dangling(side: Side) -> set[tuple[str, Key, str, int]]:
    references = References(DEFINITION, side)
    found = set()
    for name, rows in side.content.items():
        for key, row in rows.items():
            for one in references.of(name, SHAPES[name], row):
                if (b"%d" % one.id,) not in side.content[one.table]:
                    found.add((name, key, one.table, one.id))
    return found


def titles(side: Side) -> dict[bytes, bytes]:
    return {key[0]: row[2] for key, row in side.content["entries"].items()}  # type: ignore[misc]


@pytest.mark.parametrize("seed", range(1000))
def test_a_merge_keeps_what_both_sides_made(seed: int) -> None:
    chance = random.Random(seed)
    world = railway()
    for round_ in range(chance.choice([1, 1, 2, 3])):
        local = Author(world.local, f"local{round_}", chance)
        live = Author(world.live, f"live{round_}", chance)
        for _ in range(chance.randint(0, 6)):
            local.work()
        for _ in range(chance.randint(0, 6)):
            live.work()
        incoming = chance.choice(["local", "local", "live"])
        _merge_and_look(world, incoming)


def _merge_and_look(world: World, incoming: str) -> None:
    target = "live" if incoming == "local" else "local"
    come, there = getattr(world, incoming), getattr(world, target)
    before = copy.deepcopy(there.content)
    hung_before = dangling(there) | dangling(come)
    came = {name: world.changed(incoming, name) for name in SHAPES}
    had = {name: world.changed(target, name) for name in SHAPES}
    decisions = Decisions()
    merged = world.merge(incoming, decisions)
    asked = {(one.table, one.key) for one in decisions.open}
    touched = {(step.table, step.key) for step in merged.steps}

    # What the target changed or gained stands, but for what the merge lays beside it in the same row.
    for name, rows in had.items():
        for key, changed in rows.items():
            if changed.after is None:
                if key in before[name]:
                    continue
                assert key not in there.content[name] or (name, key) in touched
                continue
            now = there.content[name].get(key)
            assert now is not None, f"{name} {key} of {target} is gone"
            for at, column in enumerate(SHAPES[name]):
                mine = None if changed.before is None else changed.before[at]
                if changed.after[at] == mine or column in ("changed", "text", "value"):
                    continue
                assert now[at] == changed.after[at], f"{name} {key} {column} of {target} is lost"
            if name == "entries":
                _keeps_lines(changed, now[3])

    # What came stands, or somebody was asked.
    maps = merged.maps
    for name, rows in came.items():
        for key, changed in rows.items():
            if changed.after is None or name in ("labels", "settings", "tags", "data"):
                continue
            number = maps.there(name, int(key[0]))  # type: ignore[arg-type]
            now = there.content[name].get((b"%d" % number,))
            if now is None:
                assert decisions.open, f"{name} {key} of {incoming} is lost"
                continue
            if (name, f"id={number}") in asked:
                continue
            for at, column in enumerate(SHAPES[name]):
                mine = None if changed.before is None else changed.before[at]
                if column == "title" and changed.after[at] != mine:
                    assert now[at] == changed.after[at]

    # A row that came names the same entries, whatever their numbers.
    _names_the_same(world, come, there, merged, asked)
    world.asked |= asked | {
        (one.table, f"id={one.incoming_key[0].decode()}")  # type: ignore[union-attr]
        for one in merged.agreed
        if one.incoming is not None and one.target is None
    }
    for name, key, _, number in dangling(there) - hung_before:
        back = {there_: here_ for here_, there_ in maps.ids.get(name, {}).items()}
        here = (b"%d" % back.get(int(key[0]), int(key[0])), *key[1:])  # type: ignore[arg-type]
        came_so = any(one[:2] == (name, here) for one in hung_before)
        known = any((name, f"id={one[0].decode()}") in world.asked for one in (key, here))  # type: ignore[union-attr]
        if name == "data":  # it stays with its entry
            known |= ("entries", f"id={there.content[name][key][1].decode()}") in world.asked  # type: ignore[union-attr]
        assert came_so or known, f"{name} {key} names entry {number}, which is not there"
    # The next merge finds nothing more to do, and asks nothing.
    again = Decisions()
    assert world.merge(incoming, again).steps == []
    assert again.open == []


def _keeps_lines(changed: Changed, now: Cell) -> None:
    """Lines that a side wrote are still there."""
    assert isinstance(now, bytes) and changed.after is not None
    old = b"" if changed.before is None else changed.before[3]
    for line in changed.after[3].split(b"\n"):  # type: ignore[union-attr]
        if line.startswith(b"Line") and line not in old:  # type: ignore[operator]
            assert line in now


def _names_the_same(
    world: World, come: Side, there: Side, merged: Merged, asked: set[tuple[str, str]]
) -> None:
    source, goal = References(DEFINITION, come), References(DEFINITION, there)
    here, now = titles(come), titles(there)
    maps = merged.maps
    for step in merged.steps:
        if step.kind != "added" or step.table not in ("entries", "data"):
            continue
        back = {there_: here_ for here_, there_ in maps.ids.get(step.table, {}).items()}
        number = int(step.key[0])  # type: ignore[arg-type]
        old = come.content[step.table][(b"%d" % back.get(number, number),)]
        named = source.of(step.table, SHAPES[step.table], old)
        pairs = zip(
            [one for one in named if maps.there(one.table, one.id)],
            goal.of(step.table, SHAPES[step.table], step.after or ()),
            strict=True,
        )
        for one, other in pairs:
            if b"%d" % other.id not in now or b"%d" % one.id not in here:
                continue
            same_row = maps.there(one.table, one.id) == other.id
            assert same_row, f"{step} names {other} for {one}"
            if f"id={other.id}" not in {
                key for name, key in asked if name == "entries"
            } and one.id not in (1, 2, 3, 4, 5):
                mine, theirs = here[b"%d" % one.id], now[b"%d" % other.id]
                assert mine == theirs or b"Title" in mine + theirs


# -- values, texts, references ------------------------------------------------------------------------------------


def merged(
    base: str, incoming: str, target: str, *, sets: tuple[tuple[str, ...], ...] = ()
) -> tuple[str | None, list[tuple[str, ...]]]:
    """What two sides make of a value, and the paths of what they were asked about; the target's stands there."""
    asked: list[tuple[str, ...]] = []

    def choose(
        path: tuple[str, ...], base: bytes | None, incoming: bytes | None, target: bytes | None
    ) -> bytes | None:
        asked.append(path)
        return target

    one, mine, other = (text.encode() for text in (base, incoming, target))
    value = merge_value(
        Versions(one, mine, mine, one, other), ValueMerge(choose, lambda path: path in sets)
    )
    return None if value is None else value.decode(), asked


def php(value: Any) -> str:
    if isinstance(value, dict):
        body = "".join(php(key) + php(item) for key, item in value.items())
        return f"a:{len(value)}:{{{body}}}"
    if isinstance(value, list):
        return php(dict(enumerate(value)))
    if isinstance(value, int):
        return f"i:{value};"
    return f's:{len(str(value).encode())}:"{value}";'


WAYS: dict[str, Callable[[Any], str]] = {
    "php": php,
    "json": lambda value: json.dumps(value, separators=(",", ":")),
}


@pytest.mark.parametrize("way", WAYS)
@pytest.mark.parametrize(
    ("base", "incoming", "target", "wanted", "asked"),
    [
        ({"a": 1, "b": 2}, {"a": 5, "b": 2}, {"a": 1, "b": 7}, {"a": 5, "b": 7}, []),
        ({"a": 1}, {"a": 1, "n": "new"}, {"a": 1, "m": "other"}, {"a": 1, "m": "other", "n": "new"}, []),
        ({"a": 1, "b": 2}, {"b": 2}, {"a": 1, "b": 3}, {"b": 3}, []),
        ({"a": 1, "b": 2}, {"b": 2}, {"a": 4, "b": 2}, {"a": 4, "b": 2}, [("a",)]),
        ({"a": {"b": {"c": "x"}}}, {"a": {"b": {"c": "y"}}}, {"a": {"b": {"c": "z"}}}, {"a": {"b": {"c": "z"}}}, [("a", "b", "c")]),
        ({"a": "x"}, {"a": "y"}, {"a": "y"}, {"a": "y"}, []),
        ([1, 2, 3, 4], [1, 2, 9, 3, 4], [2, 3, 4], [2, 9, 3, 4], []),
        ({"t": "one\ntwo\nthree\nfour\n"}, {"t": "ONE\ntwo\nthree\nfour\n"}, {"t": "one\ntwo\nthree\nFOUR\n"},
         {"t": "ONE\ntwo\nthree\nFOUR\n"}, []),
    ],
)  # fmt: skip
def test_structured_values_are_merged_by_their_paths(
    way: str, base: Any, incoming: Any, target: Any, wanted: Any, asked: list[tuple[str, ...]]
) -> None:
    write = WAYS[way]
    value, paths = merged(write(base), write(incoming), write(target))
    assert value == write(wanted) and paths == asked


def test_what_lies_in_another_value_is_merged_there() -> None:
    def value(mode: str, gauge: int) -> str:
        return php({"inner": json.dumps({"deep": php({"mode": mode, "gauge": gauge})}), "more": 1})

    found, asked = merged(value("steam", 2), value("diesel", 2), value("steam", 3))
    assert found == value("diesel", 3) and asked == []


def test_lists_that_are_sets_take_what_was_put_in_on_both_sides() -> None:
    value, asked = merged(php(["a", "b"]), php(["b", "new"]), php(["a", "b", "live"]), sets=((),))
    assert value == php(["b", "live", "new"]) and asked == []
    assert merged(php(["a"]), php(["a", "x"]), php(["a", "y"]))[1] == [()]


def test_a_value_that_points_into_itself_is_one_thing() -> None:
    base = 'a:2:{s:1:"a";i:1;s:1:"b";R:2;}'
    assert merged(base, base.replace("i:1", "i:2"), base.replace("i:1", "i:3"))[1] == [()]


def test_a_value_nested_beyond_measure_is_merged_all_the_same() -> None:
    deep = 'a:1:{s:1:"a";' * 3000 + "i:%d;" + "}" * 3000
    assert merged(deep % 1, deep % 2, deep % 3)[0] == deep % 3


LINES = st.lists(st.sampled_from(["one", "two", "three", ""]), max_size=8).map(
    lambda words: "".join(f"{word}\n" for word in words).encode()
)


@given(LINES, LINES, LINES)
def test_texts_are_merged_without_losing_a_line(
    base: bytes, incoming: bytes, target: bytes
) -> None:
    places: list[int] = []

    def choose(number: int, base: bytes, incoming: bytes, target: bytes) -> bytes:
        places.append(number)
        return incoming + target

    found = merge_texts(base, incoming, incoming, base, target, choose)
    if found is None:
        return
    if base == incoming:
        assert found == target
    if base == target:
        assert found == incoming
    if not places:
        # Either way round it is the same text.
        assert merge_texts(base, target, target, base, incoming, choose) == found


@pytest.mark.parametrize(
    ("old", "new"),
    [
        ("/entry/12 /entry/123 /entry/1", "/entry/77 /entry/123 /entry/1"),
        ("[show 12, 3,12] [show 4]", "[show 77, 3,77] [show 4]"),
        ('<!-- wp:picture {"id":12,"x":12} /-->', '<!-- wp:picture {"id":77,"x":12} /-->'),
        ('<!-- wp:gallery {"ids":[1,12,"12"]} -->', '<!-- wp:gallery {"ids":[1,77,"77"]} -->'),
        ('<!-- wp:other {"id":12} /-->', '<!-- wp:other {"id":12} /-->'),
        ('<!-- wp:picture {"id":12 -->', '<!-- wp:picture {"id":12 -->'),
        (php({"t": "see /entry/12"}), php({"t": "see /entry/77"})),
    ],
)  # fmt: skip
def test_numbers_in_texts_follow(old: str, new: str) -> None:
    side = Side({name: {} for name in SHAPES}, LIVE)
    maps = IdMaps()
    maps.put("entries", 12, 77)
    row: list[Cell] = [b"5", b"12", b"Title 12", old.encode(), b"", b"12"]
    found = References(DEFINITION, side).renumbered("entries", SHAPES["entries"], row, row, maps)
    assert found == [b"5", b"77", b"Title 12", new.encode(), b"", b"12"]


@pytest.mark.parametrize(
    ("old", "new"),
    [
        ("https://www.harrowmere.example/entry/12", "https://www.harrowmere.example/entry/77"),
        ("//www.harrowmere.example/entry/12", "//www.harrowmere.example/entry/77"),
        (r"https:\/\/www.harrowmere.example/entry/12", r"https:\/\/www.harrowmere.example/entry/77"),
        ("https%3A%2F%2Fwww.harrowmere.example/entry/12", "https%3A%2F%2Fwww.harrowmere.example/entry/77"),
        ("https://other.example/entry/12", "https://other.example/entry/12"),
        ("https://other.example:8080/a/entry/12", "https://other.example:8080/a/entry/12"),
        (r"https:\/\/other.example/entry/12", r"https:\/\/other.example/entry/12"),
        ('<a href="https://other.example/">x</a> /entry/12', '<a href="https://other.example/">x</a> /entry/77'),
        ("/entry/12", "/entry/77"),
    ],
)  # fmt: skip
def test_numbers_in_addresses_of_other_sites_stay(old: str, new: str) -> None:
    side = Side({name: {} for name in SHAPES}, LIVE)
    maps = IdMaps()
    maps.put("entries", 12, 77)
    references = References(DEFINITION, side, frozenset({b"www.harrowmere.example"}))
    row: list[Cell] = [b"5", b"0", b"", old.encode(), b"", b"0"]
    found = references.renumbered("entries", SHAPES["entries"], row, row, maps)
    assert found[3] == new.encode()


def test_what_comes_back_comes_with_all_that_belongs_to_it() -> None:
    world = railway()
    tag = world.local.put("tags", slug="late", about="Late")
    world.local.put("labels", entry=2, tag=tag)
    world.pull()
    world.live.put("tags", slug="late", about="Late")
    world.live.put("labels", entry=2, tag=2)
    world.pull()
    world.local.put("entries", id=b"2", title="Of local")
    world.live.remove("entries", (b"2",))
    decisions = Decisions(Rules((("entries", "incoming"),)))
    world.merge("local", decisions)
    assert world.live.get("entries", b"2", "title") == b"Of local" and not decisions.open
    assert [row[3] for row in world.live.content["data"].values() if row[1] == b"2"] == [b"1"]
    assert (b"2", b"2") in world.live.content["labels"]
    again = Decisions()
    assert world.merge("local", again).steps == [] and not again.open
    assert world.merge("live", again).steps == [] and not again.open


def test_what_visitors_made_goes_only_where_somebody_says_so() -> None:
    before = railway()
    booking = before.live.put("data", entry=1, name="booking", value=2)
    before.pull()
    before.local.remove("data", (booking,))
    before.local.remove("comments", (b"1",))

    def merged(*rules: tuple[str, Take], keep: bool = True) -> tuple[set[str], list[str], int]:
        world, decisions = copy.deepcopy(before), Decisions(Rules(rules))
        found = world.merge("local", decisions, keep=keep)
        return (
            {step.table for step in found.steps},
            [one.kind for one in decisions.open],
            found.kept["comments"],
        )

    assert merged() == (set(), ["removed-from-visitors"], 1)
    assert merged(("data", "target")) == (set(), [], 1)
    assert merged(("*", "incoming")) == ({"data"}, [], 1)  # nothing was said of comments
    assert merged(("com*", "incoming"), ("*", "target")) == ({"comments"}, [], 0)
    assert merged(keep=False) == ({"data", "comments"}, [], 0)


def test_who_decides_and_what_is_asked_again() -> None:
    world = railway()
    world.local.put("entries", id=b"2", title="Of local")
    world.live.put("entries", id=b"2", title="Of live")
    first = copy.deepcopy(world)
    decisions = Decisions(Rules((("comments", "incoming"), ("entries.title", "incoming"))))
    first.merge("local", decisions)
    assert first.live.get("entries", b"2", "title") == b"Of local" and not decisions.open
    second = copy.deepcopy(world)
    asked = Decisions()
    second.merge("local", asked)
    (conflict,) = asked.open
    assert (conflict.base, conflict.incoming, conflict.target) == (
        b"Halt 2",
        b"Of local",
        b"Of live",
    )
    made = {conflict.id: Decision(text=b"Of both")}
    third = copy.deepcopy(world)
    third.merge("local", Decisions(made=made))
    assert third.live.get("entries", b"2", "title") == b"Of both"
    world.live.put("entries", id=b"2", title="Of live, once more")
    anew = Decisions(made=made)
    world.merge("local", anew)
    assert len(anew.open) == 1  # it is another one now
