"""The steps of the demo: the commands a user would type, and what each must bring about."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from pathlib import Path

from msgspec import Struct

from ..database.sqlite.database import SqliteDatabase
from ..database.table_digest import table_digest
from .sample import Sample


class Step(Struct, frozen=True):
    """One step. ``holds`` says, after the command, whether it did what ``tells`` promises; ``before`` is what people
    do before it."""

    tells: str
    command: tuple[str, ...]
    code: int
    holds: Callable[[], bool]
    before: Callable[[], None] = lambda: None


def fingerprint(root: Path) -> dict[str, str]:
    """Digests of all tables and media files of an environment of the sample."""
    database = SqliteDatabase(root / "data" / "harrowmere.sqlite", read_only=True)
    with database.reading() as reader:
        found = {table.name: table_digest(reader, table) for table in database.tables()}
    database.close()
    for path in sorted((root / "media").rglob("*")):
        if path.is_file():
            found[path.relative_to(root).as_posix()] = str(hash(path.read_bytes()))
    return found


def _count(root: Path, sql: str) -> int:
    connection = sqlite3.connect(root / "data" / "harrowmere.sqlite")
    try:
        return int(connection.execute(sql).fetchone()[0])
    finally:
        connection.close()


def _write(root: Path, *statements: tuple[str, tuple[object, ...]]) -> None:
    connection = sqlite3.connect(root / "data" / "harrowmere.sqlite")
    with connection:
        for sql, values in statements:
            connection.execute(sql, values)
    connection.close()


def steps(sample: Sample) -> list[Step]:
    """The walk through the job. Made before the first step: it remembers how all was then."""
    local, production = sample.root("local"), sample.root("production")
    staging = sample.root("staging")
    before = {name: fingerprint(sample.root(name)) for name in sample.ports}
    bookings = "SELECT count(*) FROM bookings"
    drafts = "SELECT count(*) FROM entries WHERE state = 'draft'"
    foreign = (
        "SELECT count(*) FROM entries WHERE body LIKE '%www.harrowmere.example%'"
        f" OR body LIKE '%{sample.address('production')}%'"
    )

    def pulled() -> bool:
        return (
            _count(local, bookings) == _count(production, bookings)
            and _count(local, drafts) == 0
            and _count(local, foreign) == 0
            and fingerprint(production) == before["production"]
        )

    def pushed() -> bool:
        style = (staging / "themes/maroon/style.css").read_text(encoding="utf-8")
        return (
            "border-color" in style
            and (staging / "extras/santa-specials/extra.toml").is_file()
            and _count(staging, bookings) == _count(production, bookings)
            and fingerprint(production) == before["production"]
        )

    page = "INSERT INTO entries (kind, slug, title, body, state) VALUES ('page', ?, ?, ?, 'public')"

    def both_go_on() -> None:
        _write(local, (page, ("members", "Members area", f"{sample.address('local')}/entry/1")))
        _write(
            production,
            (page, ("snow", "Snow on the line", "No trains today")),
            ("INSERT INTO bookings (entry_id, name, seats) VALUES (5, 'Tamsin Oakhollow', 2)", ()),
        )

    def merged() -> bool:
        new = "SELECT count(*) FROM entries WHERE title IN ('Members area', 'Snow on the line')"
        return _count(local, new) == 2 and _count(local, bookings) == _count(production, bookings)

    def untouched() -> bool:
        return all(fingerprint(sample.root(name)) == before[name] for name in sample.ports)

    return [
        Step("How do the three copies stand? Local is the oldest, with unfinished work of its own.",
             ("status",), 0, untouched),
        Step("What does production consist of, and what could a copy do without?",
             ("survey", "production"), 0, untouched),
        Step("Can production be reached, and may it be written to?",
             ("reach", "production"), 0, untouched),
        Step("What would a pull do? The plan, and exact counts of what it would rewrite. Nothing is touched.",
             ("pull", "--dry-run"), 0, untouched),
        Step("Pull: production's data and media come to local, addresses and paths rewritten.",
             ("pull", "--yes"), 0, pulled),
        Step("Is the copy right? Its pages are opened as a visitor would.",
             ("check", "local"), 0, pulled),
        Step("What differs now? The copy is hidden and marked; code and core did not travel.",
             ("compare", "production", "local"), 4, pulled),
        Step("Back: the state before the pull returns, drafts and all, to the byte.",
             ("undo", "local", "--yes"), 0, untouched),
        Step("And forward again: undo the undo.",
             ("undo", "local", "--yes"), 0, pulled),
        Step("Staging was copied by hand long ago: production's content goes there too.",
             ("pull", "production", "--to", "staging", "--yes"), 0, pulled),
        Step("Push: the local theme and extras are built, checked and sent; the site is looked at.",
             ("push", "staging", "--yes"), 0, pushed),
        Step("The very same build to production? Refused: production is read-only.",
             ("push", "production", "--confirm", "production"), 5, pushed),
        Step(tells="Both go on: local gets a page; production another one under the same number, and a booking. A merge\n"
             "brings down what is new, and keeps what was made here.",
             command=("pull", "--merge", "--yes"), code=0, holds=merged, before=both_go_on),
        Step("All of it is on record.", ("history",), 0, merged),
    ]  # fmt: skip
