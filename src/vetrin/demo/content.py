"""The railway's content: written by rule from a seed, so that it is the same on every machine."""

from __future__ import annotations

import base64
import json
import random
import sqlite3
from collections.abc import Iterator
from datetime import datetime, timedelta
from pathlib import Path
from urllib.parse import quote

from msgspec import Struct

from .picture import draw
from .serialise import serialise

PUBLIC_ADDRESS = "https://www.harrowmere.example"
_EPOCH = datetime(2026, 3, 1, 9, 0)

SCHEMA = """
CREATE TABLE settings (name TEXT PRIMARY KEY, value TEXT);
CREATE TABLE entries (
    id INTEGER PRIMARY KEY AUTOINCREMENT, kind TEXT NOT NULL, slug TEXT NOT NULL, title TEXT NOT NULL,
    body TEXT NOT NULL, state TEXT NOT NULL DEFAULT 'public', author TEXT, made TEXT, changed TEXT,
    permanent_id TEXT, details TEXT);
CREATE UNIQUE INDEX entries_by_slug ON entries (slug);
CREATE INDEX entries_by_kind ON entries (kind, state, changed);
CREATE TABLE comments (
    id INTEGER PRIMARY KEY AUTOINCREMENT, entry_id INTEGER NOT NULL REFERENCES entries (id),
    author TEXT, email TEXT, body TEXT, state TEXT, made TEXT);
CREATE INDEX comments_by_entry ON comments (entry_id);
CREATE TABLE fares (origin TEXT, destination TEXT, kind TEXT, pence INTEGER,
    PRIMARY KEY (origin, destination, kind)) WITHOUT ROWID;
CREATE TABLE timetable (season TEXT, train INTEGER, station TEXT, departs TEXT);
CREATE TABLE bookings (
    id INTEGER PRIMARY KEY AUTOINCREMENT, entry_id INTEGER REFERENCES entries (id), name TEXT,
    email TEXT, seats INTEGER, pence INTEGER, made TEXT, confirmation TEXT);
CREATE TABLE volunteers (id INTEGER PRIMARY KEY, name TEXT, email TEXT, duty TEXT, since TEXT);
CREATE TABLE newsletter (email TEXT PRIMARY KEY, name TEXT, made TEXT, confirmed INTEGER);
CREATE TABLE pictures (
    id INTEGER PRIMARY KEY, path TEXT, title TEXT, stored TEXT, digest BLOB);
CREATE TABLE search_index (word TEXT, entry_id INTEGER, weight REAL);
CREATE TABLE fragments (name TEXT PRIMARY KEY, body TEXT, expires TEXT);
CREATE VIEW next_events AS
    SELECT id, title, json_extract(details, '$.date') AS date FROM entries
    WHERE kind = 'event' AND state = 'public' ORDER BY date;
CREATE TRIGGER booked AFTER INSERT ON bookings BEGIN
    UPDATE settings SET value = datetime(NEW.made) WHERE name = 'last_booking'; END;
"""

STATIONS = ["Harrowmere", "Cold Ash Halt", "Fenwick Lane", "Mill Bridge", "Upper Tarn"]
_FIRST = ["Tamsin", "Odhran", "Wilfa", "Corin", "Isolde", "Bram", "Petra", "Jory", "Elowen", "Huw",
          "Marsali", "Edric", "Lowri", "Cuthbert", "Senara", "Aldous"]  # fmt: skip
_LAST = ["Oakhollow", "Fennimarsh", "Larkspindle", "Greywether", "Tarnfield", "Birchmantle",
         "Sedgeley-Moor", "Harebellow", "Coalridge", "Plumtarn", "Wickersdale"]  # fmt: skip
_NEWS = ["Boiler ticket for No. 7", "New sleepers at Mill Bridge", "Signal box open again",
         "Kiosk menu for summer", "Thank you, track gang", "Coach 14 returns in maroon",
         "A bench for Fenwick Lane", "Water tower repaired", "Footplate days announced",
         "Level crossing resurfaced", "The crane is back", "Lost glove, found glove"]  # fmt: skip
_EVENTS = ["Steam Gala", "Teddy Bears' Day", "Evening Photo Charter", "Cream Tea Special",
           "Autumn Leaves Railtour", "Santa Trains", "Heritage Diesel Day", "Ghost Train"]  # fmt: skip
_WORDS = ["platform", "whistle", "carriage", "ballast", "sleeper", "signal", "semaphore", "firebox", "tender", "coupling", "guard", "ticket", "timetable", "junction", "siding", "loco", "crane", "footplate", "regulator", "injector", "lamp", "points", "volunteer", "station", "halt", "tunnel", "viaduct", "cutting", "embankment", "coal", "water", "steam"]  # fmt: skip


class Stage(Struct, frozen=True):
    """How far an environment has come: which share of the content it holds, and what only it has."""

    name: str
    share: float
    drafts: tuple[str, ...] = ()


PRODUCTION = Stage("production", 1.0)
STAGING = Stage("staging", 0.7)
LOCAL = Stage("local", 0.4, ("New booking form", "Members' area, first sketch"))


def _person(chance: random.Random) -> tuple[str, str]:
    first, last = chance.choice(_FIRST), chance.choice(_LAST)
    return f"{first} {last}", f"{first}.{last}@visitors.test".lower()


def _moment(days: float) -> str:
    return (_EPOCH + timedelta(days=days)).strftime("%Y-%m-%d %H:%M:%S")


def _sentence(chance: random.Random) -> str:
    words = [chance.choice(_WORDS) for _ in range(chance.randrange(7, 15))]
    return " ".join(words).capitalize() + "."


def fill(root: Path, address: str, stage: Stage, scale: int = 1) -> None:
    """Make database and pictures of one environment below ``root``.

    ``scale`` multiplies the rows of the large tables. Equal arguments give equal content.
    """
    (root / "data").mkdir(parents=True, exist_ok=True)
    connection = sqlite3.connect(root / "data" / "harrowmere.sqlite", isolation_level=None)
    connection.execute("PRAGMA journal_mode = WAL")
    connection.execute("PRAGMA synchronous = OFF")
    connection.executescript(SCHEMA)
    connection.execute("BEGIN")
    pictures = _pictures(connection, root, address, stage)
    entries = _entries(connection, address, root, stage, pictures)
    _fares(connection)
    _people(connection, address, stage, entries, scale)
    _machinery(connection, address, stage, entries, scale)
    _settings(connection, address, root, stage)
    connection.execute("COMMIT")
    connection.close()


def _pictures(connection: sqlite3.Connection, root: Path, address: str, stage: Stage) -> list[str]:
    count = max(4, int(14 * stage.share))
    paths = []
    for number in range(1, count + 1):
        path = f"media/2026/{number % 3 + 3:02d}/train-{number:02d}.png"
        file = root / path
        file.parent.mkdir(parents=True, exist_ok=True)
        data = draw(number)
        file.write_bytes(data)
        paths.append(path)
        connection.execute(
            "INSERT INTO pictures VALUES (?, ?, ?, ?, ?)",
            (number, path, f"Train {number}", str(file), data[-12:]),
        )
    if stage.drafts:
        mine = root / "media" / "sketches" / "booking-form.png"
        mine.parent.mkdir(parents=True)
        mine.write_bytes(draw(99))
    return paths


def _entries(
    connection: sqlite3.Connection, address: str, root: Path, stage: Stage, pictures: list[str]
) -> list[int]:
    chance = random.Random(11)
    news = [f"{title}{suffix}" for suffix in ("", ", part two") for title in _NEWS]
    items = [("page", "Welcome aboard"), ("page", "Timetable"), ("page", "Fares"),
             ("page", "Plan your visit"), ("page", "Volunteer with us")]  # fmt: skip
    items += [("news", title) for title in news[: int(len(news) * stage.share)]]
    items += [("event", title) for title in _EVENTS[: int(len(_EVENTS) * stage.share + 0.5)]]
    identifiers = []
    for number, (kind, title) in enumerate(items, 1):
        day = {"page": number, "news": number * 6.5, "event": number * 3.0}[kind]
        # The number of an entry is the same in every environment that has it.
        identifier = number if kind == "page" else _number(kind, title)
        body = _body(chance, address, root, pictures[number % len(pictures)], title)
        details = {
            "date": _moment(day + 90)[:10],
            "link": f"{address}/{_slug(title)}",
            "share": f"{PUBLIC_ADDRESS}/share?u=" + quote(f"{address}/{_slug(title)}", safe=""),
            "settings": serialise({"picture": f"{address}/{pictures[number % len(pictures)]}"}),
        }
        connection.execute(
            "INSERT INTO entries VALUES (?, ?, ?, ?, ?, 'public', ?, ?, ?, ?, ?)",
            (identifier, kind, _slug(title), title, body, _person(chance)[0], _moment(day),
             _moment(day + 1), f"{PUBLIC_ADDRESS}/?entry={identifier}",
             json.dumps(details).replace("/", "\\/")),
        )  # fmt: skip
        identifiers.append(identifier)
    for number, title in enumerate(stage.drafts, 900):
        body = f'<p>Only here so far. <a href="{address}/fares">Fares</a></p>'
        connection.execute(
            "INSERT INTO entries VALUES (?, 'page', ?, ?, ?, 'draft', 'Elowen Plumtarn', ?, ?, '', '{}')",
            (number, _slug(title), title, body, _moment(200), _moment(200)),
        )
    return identifiers


def _number(kind: str, title: str) -> int:
    if kind == "event":
        return 200 + _EVENTS.index(title)
    base = title.removesuffix(", part two")
    return 100 + _NEWS.index(base) + (50 if base != title else 0)


def _slug(title: str) -> str:
    kept = "".join(c if c.isalnum() else "-" for c in title.lower().replace("'", ""))
    return "-".join(filter(None, kept.split("-")))


def _body(chance: random.Random, address: str, root: Path, picture: str, title: str) -> str:
    paragraphs = "".join(f"<p>{_sentence(chance)} {_sentence(chance)}</p>\n" for _ in range(4))
    host = address.partition("//")[2]
    return (
        f"<!-- block:picture {json.dumps({'src': f'{address}/{picture}'})} -->\n"
        f'<img src="{address}/{picture}" alt="{title}">\n{paragraphs}'
        f'<p>See the <a href="{address}/timetable">timetable</a> and '
        f'<a href="//{host}/fares?from=Harrowmere">fares</a>, or write to '
        f'<a href="mailto:desk@harrowmere.example">desk@harrowmere.example</a>.</p>\n'
        f'<p>On the live site: <a href="{PUBLIC_ADDRESS}/{_slug(title)}">{title}</a>. '
        f"Masters are in {root}/media/2026.</p>"
    )


def _fares(connection: sqlite3.Connection) -> None:
    for first, origin in enumerate(STATIONS):
        for second, destination in enumerate(STATIONS):
            for kind, factor in (("adult", 100), ("child", 50), ("dog", 20)):
                if first != second:
                    pence = (150 + abs(first - second) * 210) * factor // 100
                    connection.execute(
                        "INSERT INTO fares VALUES (?, ?, ?, ?)", (origin, destination, kind, pence)
                    )
    for season in ("spring", "summer", "autumn", "santa"):
        for train in range(1, 8):
            for stop, station in enumerate(STATIONS):
                minutes = 570 + train * 62 + stop * 11
                connection.execute(
                    "INSERT INTO timetable VALUES (?, ?, ?, ?)",
                    (season, train, station, f"{minutes // 60:02d}:{minutes % 60:02d}"),
                )


def _people(
    connection: sqlite3.Connection, address: str, stage: Stage, entries: list[int], scale: int
) -> None:
    chance = random.Random(23)
    events = [number for number in entries if 200 <= number < 300]
    news = [number for number in entries if number < 200]
    for number in range(int(160 * stage.share) * scale):
        name, email = _person(chance)
        state = ("approved", "approved", "approved", "waiting", "spam")[number % 5]
        link = f"{address}/timetable" if state != "spam" else "http://pills.spam.test/buy"
        connection.execute(
            "INSERT INTO comments (entry_id, author, email, body, state, made) VALUES (?, ?, ?, ?, ?, ?)",
            (chance.choice(news), name, email, f"{_sentence(chance)} {link}", state,
             _moment(number % 180)),
        )  # fmt: skip
    for number in range(int(240 * stage.share) * scale):
        name, email = _person(chance)
        confirmation = serialise(
            {"name": name, "ticket": f"{address}/tickets/{number + 1000}", "paid": number % 7 != 0}
        )
        connection.execute(
            "INSERT INTO bookings (entry_id, name, email, seats, pence, made, confirmation)"
            " VALUES (?, ?, ?, ?, ?, ?, ?)",
            (chance.choice(events), name, email, number % 5 + 1, (number % 5 + 1) * 1450,
             _moment(number % 190), confirmation),
        )  # fmt: skip
    for number in range(1, 33):
        name, email = _person(chance)
        duty = ("guard", "driver", "fireman", "kiosk", "track gang", "signaller")[number % 6]
        connection.execute(
            "INSERT INTO volunteers VALUES (?, ?, ?, ?, ?)",
            (number, name, email, duty, _moment(-number * 40)[:10]),
        )
    for number in range(int(400 * stage.share) * scale):
        name, _ = _person(chance)
        connection.execute(
            "INSERT INTO newsletter VALUES (?, ?, ?, ?)",
            (f"reader{number}@visitors.test", name, _moment(number % 180), number % 9 != 0),
        )


def _machinery(
    connection: sqlite3.Connection, address: str, stage: Stage, entries: list[int], scale: int
) -> None:
    chance = random.Random(37)

    def words() -> Iterator[tuple[str, int, float]]:
        for number in range(int(9000 * stage.share) * scale):
            yield chance.choice(_WORDS), entries[number % len(entries)], round(chance.random(), 4)

    connection.executemany("INSERT INTO search_index VALUES (?, ?, ?)", words())
    connection.executemany(
        "INSERT INTO fragments VALUES (?, ?, ?)",
        (
            (f"page:{number}", f'<nav><a href="{address}/">Home</a></nav>{_sentence(chance)}',
             _moment(100 + number % 3))
            for number in range(60 * scale)
        ),
    )  # fmt: skip


def _settings(connection: sqlite3.Connection, address: str, root: Path, stage: Stage) -> None:
    menu = [
        {"title": title, "link": f"{address}/{_slug(title)}", "new": False}
        for title in ("Timetable", "Fares", "Plan your visit", "Volunteer with us")
    ]
    theme = {
        "logo": f"{address}/media/2026/04/train-01.png",
        "folder": f"{root}/themes/maroon",
        "header": {"link": f"{address}/", "text": "Fünf Stationen, one line – all aboard!"},
        "nested": serialise({"callback": f"{PUBLIC_ADDRESS}/hook", "depth": [1, 2.5, None, True]}),
    }
    blocks = {
        "hero": {"image": f"{address}/media/2026/05/train-02.png", "href": f"{address}/timetable"},
        "notice": serialise({"text": "Trains run today", "more": f"{address}/plan-your-visit"}),
    }
    rows = {
        "address": address,
        "title": "Harrowmere Light Railway",
        "e-mail": "desk@harrowmere.example",
        "upload_folder": f"{root}/media",
        "menu": serialise(menu),
        "theme": serialise(theme),
        "home_blocks": json.dumps(blocks).replace("/", "\\/"),
        "hidden_from_search": "no",
        "extras": json.dumps(
            ["donation-box", *(["live-departures"] if stage is PRODUCTION else [])]
        ),
        "last_booking": _moment(190),
        "partner_feed": base64.b64encode(
            json.dumps({"link": f"{address}/timetable"}).encode()
        ).decode(),
    }
    connection.executemany("INSERT INTO settings VALUES (?, ?)", rows.items())
