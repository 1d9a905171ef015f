"""Two environments of one project with plain tables, on SQLite, MariaDB or MySQL."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from msgspec.structs import replace

from connected import hosts
from systems import DatabaseServer, mariadb_site
from vetrin.config import Leave, load_project
from vetrin.database.table_digest import table_digest
from vetrin.demo.sample import lay_out
from vetrin.jobs import (
    Choices,
    Journals,
    RunContext,
    build_plan,
    changes_of,
    last_since,
    run_plan,
    undo,
)
from vetrin.jobs.transfer import Report
from vetrin.site import open_site
from vetrin.store import FolderBackend, Store, open_snapshot, open_store

TABLES = [
    "CREATE TABLE x_trains (id INTEGER PRIMARY KEY, log TEXT, seats INTEGER)",
    "CREATE TABLE x_calls (train INTEGER, stop INTEGER, at VARCHAR(90), PRIMARY KEY (train, stop))",
    "CREATE TABLE x_stops (code VARCHAR(20) PRIMARY KEY, name TEXT)",
    "CREATE TABLE x_notes (at INTEGER, note VARCHAR(200))",
    "CREATE TABLE x_names (id INTEGER PRIMARY KEY, slug VARCHAR(40) UNIQUE, n INTEGER)",
    "CREATE TABLE x_empty (id INTEGER PRIMARY KEY, log TEXT)",
]
ROWS = 2400
Run = Callable[..., object]


@dataclass
class Line:
    """Production and local on one engine; ``sides`` run statements in each."""

    folder: Path
    sides: dict[str, Run]
    prefix: str

    def pull(
        self, *, full: bool = False, role: str = "local", leave: Leave | None = None
    ) -> Report:
        project = load_project(self.folder)
        local = replace(project.environment("local"), role=role)
        with (
            open_site(hosts, project, project.environment("production")) as source,
            open_site(hosts, project, local, read_only=False) as target,
        ):
            chosen = Choices(leave=leave or Leave(), full=full)
            plan = build_plan(source, target, ("data",), (), chosen)
            self.plan = plan
            store = open_store(hosts, project, here=True)
            report = run_plan(
                plan, RunContext(source, target, Journals(project.state), baselines=store)
            )
        if not report.run.resumed:
            assert not [text for text in report.remarks if "baseline" in text or "record" in text]
        return report

    def take_back(self) -> None:
        project = load_project(self.folder)
        with open_site(hosts, project, project.environment("local"), read_only=False) as target:
            undo(target, Journals(project.state))

    def digests(self, name: str = "local") -> dict[str, str]:
        """Of all tables, and of how they are made."""
        project = load_project(self.folder)
        with open_site(hosts, project, project.environment(name)) as site:
            database = site.database
            made = database.definitions(table.name for table in database.tables())  # type: ignore[attr-defined]
            with database.reading() as reader:
                return {
                    table.name: f"{table_digest(reader, table)} {made[table.name]}"
                    for table in database.tables()
                }

    def rows(self, name: str) -> dict[str, dict[object, tuple]]:
        """All rows of each table, by their key where they have one."""
        project = load_project(self.folder)
        with (
            open_site(hosts, project, project.environment(name)) as site,
            site.database.reading() as reader,
        ):
            found: dict[str, dict[object, tuple]] = {}
            for table in site.tables:
                names = [column.name for column in table.columns]
                places = [names.index(key) for key in table.key] or list(range(len(names)))
                rows: dict[object, tuple] = {}
                for batch in reader.rows(table):
                    for row in batch.each():
                        key = tuple(row[place] for place in places)
                        same = (
                            sum(1 for known in rows if known[: len(key)] == key)
                            if not table.key
                            else 0
                        )  # type: ignore[index]
                        rows[(*key, same)] = tuple(row)
                found[table.name.removeprefix(site.prefix)] = rows
            return found

    def changes(self, name: str) -> dict[str, tuple[int, int, int] | str]:
        project = load_project(self.folder)
        store = Store(FolderBackend(self.folder / ".vetrin/store"))
        environment = project.environment(name)
        since = last_since(store, Journals(project.state), environment)
        with open_site(hosts, project, environment) as site:
            found = changes_of(site, store, since, lambda run: Choices())
        return {
            item.name: (item.added, item.changed, item.removed)
            if item.state == "rows"
            else item.state
            for item in found.tables
        }

    def hidden(self) -> list[str]:
        project = load_project(self.folder)
        with open_site(hosts, project, project.environment("local"), read_only=False) as target:
            return target.database.hidden_tables()

    def baseline_is_the_source(self) -> bool:
        project = load_project(self.folder)
        store = Store(FolderBackend(self.folder / ".vetrin/store"))
        manifest = store.snapshots()[-1]
        with (
            open_site(hosts, project, project.environment("production")) as source,
            open_snapshot(store, manifest, source.definition) as stored,
            source.database.reading() as here,
            stored.database.reading() as kept,
        ):
            theirs = {table.name: table for table in stored.tables}
            return store.verify(manifest) == [] and all(
                table_digest(here, item.table) == table_digest(kept, theirs[item.table.name])
                for item in self.plan.tables
                if item.leave is None and not item.replacements
            )


def filling(word: str) -> Iterator[str]:
    def values(template: str, numbers: range) -> str:
        return ", ".join(template.format(n=n, m=n % 7, h=n // 40, s=n % 40) for n in numbers)

    yield "INSERT INTO x_trains VALUES " + values(
        f"({{n}}, 'train {{n}} at https://{word}.test/timetable/{{n}}', {{m}})",
        range(0, 3 * ROWS, 3),
    )
    yield "INSERT INTO x_calls VALUES " + values("({h}, {s}, 'at {n}')", range(ROWS))
    yield "INSERT INTO x_stops VALUES " + values("('stop{n}', 'Stop {n}')", range(300))
    yield "INSERT INTO x_notes VALUES " + values("({n}, 'note {m}')", range(300))
    yield "INSERT INTO x_names VALUES " + values("({n}, 'slug-{n}', {m})", range(900))


def railway_line(engine: str, tmp_path: Path, server: DatabaseServer | None) -> Line:
    """Both sides on an engine, the production's tables filled."""
    if engine == "sqlite":
        folder = tmp_path / "railway"
        lay_out(folder, 1)
        project = load_project(folder)
        sides: dict[str, Run] = {}
        for name in ("production", "local"):
            with open_site(hosts, project, project.environment(name)) as site:
                prefix, where = site.prefix, site.database.facts().where

            def run(*statements: str, where: str = where, prefix: str = prefix) -> None:
                with sqlite3.connect(where) as connection:
                    for statement in statements:
                        connection.execute(statement.replace("x_", prefix))
                connection.close()

            sides[name] = run
        line = Line(folder, sides, prefix)
    else:
        assert server is not None
        options = [
            "CREATE TABLE wp_options (option_id INT AUTO_INCREMENT PRIMARY KEY, option_name VARCHAR(99) UNIQUE,"
            " option_value TEXT)",
        ]
        sides = {}
        for word, name in (("live", "production"), ("copy", "local")):
            home = f"INSERT INTO wp_options VALUES (1, 'home', 'https://{word}.test')"
            mariadb_site(server, tmp_path, word, [*options, home])
            sides[name] = lambda *statements, word=word: server.run(
                *(s.replace("x_", "wp_x_") for s in statements), database=f"{word}_site"
            )
        line = Line(tmp_path, sides, "wp_")
    line.sides["production"](*TABLES, *filling("live"))
    return line
