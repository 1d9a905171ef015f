"""Material that nobody here wrote: the statements of MariaDB's own test suite, run into a database, which then takes
each of Vetrin's ways beside the server's own dump and load."""

from __future__ import annotations

import re
import subprocess
import sys
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import pymysql

from connected import hosts
from systems import Mariadb, mariadb_site, program
from vetrin.config import load_project
from vetrin.jobs import Journals, RunContext, build_plan, run_plan
from vetrin.jobs.export_site import Packing, export
from vetrin.site import open_site

SUITE = Path("/usr/share/mysql/mysql-test/main")  # Debian's mariadb-test-data
WAYS = ("pull", "export", "import")
_MINE = ("options", "posts", "users", "usermeta")

OPTIONS = (
    "CREATE TABLE options (option_id INT PRIMARY KEY AUTO_INCREMENT, option_name VARCHAR(99) UNIQUE,"
    " option_value LONGTEXT, autoload VARCHAR(9) DEFAULT 'yes')",
    "CREATE TABLE posts (ID INT PRIMARY KEY, post_title TEXT, post_status VARCHAR(20), post_type VARCHAR(20),"
    " post_modified_gmt DATETIME)",
    "CREATE TABLE users (ID INT PRIMARY KEY, user_login VARCHAR(60))",
    "CREATE TABLE usermeta (umeta_id INT PRIMARY KEY, user_id INT, meta_key VARCHAR(99), meta_value TEXT)",
)

# What makes or fills an object of the database that is in use, and the modes that it is to be read in.
_KEPT = re.compile(
    r"(?i)(create\s+(or\s+replace\s+)?(definer\s*=\s*\S+\s+|algorithm\s*=\s*\w+\s+|sql\s+security\s+\w+\s+"
    r"|unique\s+|fulltext\s+|spatial\s+|aggregate\s+)*(table|view|trigger|function|procedure|sequence|index)\b"
    r"|insert\b|replace\b|update\b|alter\s+table\b|set\s+names\b|set\s+(@@)?(session\s+|local\s+)?(@@)?sql_mode\b"
    r"|set\s+(session\s+)?(character_set|collation)_\w+)"
)
_NOT = re.compile(
    r"(?i)\b(soname|sleep\s*\(|load_file|get_lock|benchmark\s*\(|into\s+outfile|temporary|mysql\.|performance_schema"
    r"|engine\s*=\s*(federated|connect|spider|s3|rocksdb|oqgraph|example|blackhole)|\$\w|connect|mrg_?myisam"
    r"|data\s+directory|index\s+directory)"
)
_COMMAND = re.compile(
    r"(?i)(--|#|let\b|if\s*\(|while\s*\(|\}|\{|eval\b|connect\b|connection\b|disconnect\b|source\b|echo\b|error\b"
    r"|enable_|disable_|replace_(result|column|regex)|inc\b|dec\b|sleep\b|send\b|reap\b|perl\b|exec\b|die\b|skip\b)"
)


def statements(path: Path) -> Iterator[str]:
    """What a file of the suite would say to the server, as far as it makes or fills objects."""
    delimiter, said = ";", ""
    for line in path.read_bytes().decode("utf-8", "surrogateescape").splitlines():
        if not said.strip() and _COMMAND.match(line.lstrip()) and not _KEPT.match(line.lstrip()):
            continue
        if new := re.match(r"(?i)\s*(?:--)?\s*delimiter\s+(\S+?);?\s*$", line):
            # Such a line ends with the old delimiter.
            text = new[1]
            delimiter = text.removesuffix(delimiter) or ";"
            said = ""
            continue
        said += line + "\n"
        if line.rstrip().endswith(delimiter):
            statement = said.strip().removesuffix(delimiter).strip()
            said = ""
            if _KEPT.match(statement) and not _NOT.search(statement):
                # The suite works in a database of this name; what speaks of another than its own does not travel.
                yield re.sub(r"(?i)(?<![\w.`@'])(`?)test\1\.", "live_site.", statement)


def objects(server: Mariadb, database: str) -> dict[tuple[str, str], str]:
    """Every object as the server describes it, with the digest of what it holds; "" for one that is broken itself."""
    found: dict[tuple[str, str], str] = {}
    quoted = f"`{database}`"
    for name, kind in server.run(f"SHOW FULL TABLES FROM {quoted}"):
        if name in _MINE or name.startswith("_vetrin"):
            continue
        word = {"BASE TABLE": "TABLE", "SYSTEM VERSIONED": "TABLE", "SEQUENCE": "SEQUENCE"}.get(
            kind, "VIEW"
        )
        told = _asked(server, f"SHOW CREATE {word} {quoted}.`{name}`", 1)
        if word == "TABLE":
            told += " " + _asked(server, f"CHECKSUM TABLE {quoted}.`{name}` EXTENDED", 1)
        elif word == "VIEW" and not _asked(server, f"SHOW COLUMNS FROM {quoted}.`{name}`", 0):
            told = ""
        found[(word, name)] = told
    for name, *told in server.run(
        "SELECT trigger_name, event_object_table, action_timing, event_manipulation, action_order, action_statement,"
        " sql_mode, collation_connection FROM information_schema.triggers"
        f" WHERE trigger_schema = '{database}'"
    ):
        found[("TRIGGER", name)] = repr(told)
    for kind, name in server.run(
        f"SELECT routine_type, routine_name FROM information_schema.routines WHERE routine_schema = '{database}'"
    ):
        found[(kind, name)] = _asked(server, f"SHOW CREATE {kind} {quoted}.`{name}`", 2)
    # A mode that newer servers have not, and that concerns accounts alone, does not go into an export.
    plain = re.compile(
        rf" DEFINER=([`\"])[^`\"]*\1@\1[^`\"]*\1| AUTO_INCREMENT=\d+|`?(?:{database}|live_site)`?\.|NO_AUTO_CREATE_USER,"
    )
    return {key: plain.sub("", text) for key, text in found.items()}


def _asked(server: Mariadb, sql: str, column: int) -> str:
    try:
        return str(server.run(sql)[0][column])
    except (pymysql.Error, IndexError):
        return ""


@dataclass
class Outcome:
    """How many objects one file of the suite left, and which of them did not come the same way: by way, and for the
    server's own dump and load. ``failed``: a way that ended in an error, with what it said."""

    objects: int
    lost: dict[str, list[str]] = field(default_factory=dict)
    failed: dict[str, str] = field(default_factory=dict)


def outcome(server: Mariadb, folder: Path, path: Path) -> Outcome:
    """Run a file of the suite into a database, then take every way from it."""
    home = (
        "INSERT INTO options (option_name, option_value) VALUES"
        " ('siteurl', 'https://{0}.test'), ('home', 'https://{0}.test')"
    )
    for word in ("live", "copy"):
        root = mariadb_site(server, folder, word, [*OPTIONS, home.format(word)])
        # All tables are the site's, as the suite knows of no prefix.
        configuration = root / "wp-config.php"
        configuration.write_text(configuration.read_text().replace("'wp_'", "''"))
    # The body of a routine is shown to its definer, or to an account with rights on all of the server.
    server.run("GRANT ALL ON *.* TO shell@'%' WITH GRANT OPTION")
    connection = pymysql.connect(
        unix_socket=server.socket, user="root", database="live_site", charset="utf8mb4", autocommit=True,
        init_command="SET max_statement_time = 3, lock_wait_timeout = 3",
    )  # fmt: skip
    with connection, connection.cursor() as cursor:
        for statement in statements(path):
            try:
                cursor.execute(statement)
            except (pymysql.Error, UnicodeError):
                connection.ping()
    there = objects(server, "live_site")
    found = Outcome(len(there))
    if not there:
        return found
    server.run("DROP DATABASE IF EXISTS loaded", "CREATE DATABASE loaded")
    dump = subprocess.run(
        server.dump_program("--routines", "--triggers", "--force", "live_site"), capture_output=True,
    ).stdout  # fmt: skip
    load(server, dump, "loaded")
    found.lost["the server's own"] = differing(there, objects(server, "loaded"))

    project = load_project(folder)
    with open_site(hosts, project, project.environment("production")) as source:
        try:
            with open_site(hosts, project, project.environment("local"), read_only=False) as target:
                run_plan(
                    build_plan(source, target, ("data",)),
                    RunContext(source, target, Journals(project.state)),
                )
        except Exception as error:
            found.failed["pull"] = f"{type(error).__name__}: {error}"
        found.lost["pull"] = differing(there, objects(server, "copy_site"))
        server.run("DROP DATABASE loaded", "CREATE DATABASE loaded")
        try:
            export(source, folder / "out.sql", Packing(parts=("data",), sql_only=True))
            load(server, (folder / "out.sql").read_bytes(), "loaded", "--force")
        except Exception as error:
            found.failed["export"] = f"{type(error).__name__}: {error}"
        found.lost["export"] = differing(there, objects(server, "loaded"))
    (folder / "dump.sql").write_bytes(dump)
    done = subprocess.run(
        [sys.executable, "-m", "vetrin", "import", "dump.sql", "local", "--yes", "--address", "https://live.test"],
        cwd=folder, capture_output=True, text=True,
    )  # fmt: skip
    if done.returncode:
        found.failed["import"] = done.stderr
    found.lost["import"] = differing(there, objects(server, "copy_site"))
    return found


def load(server: Mariadb, text: bytes, database: str, *options: str) -> None:
    subprocess.run(
        [program("mariadb"), "-uroot", f"--socket={server.socket}", *(options or ("--force",)), database],
        input=text, capture_output=True, check=False,
    )  # fmt: skip


def differing(wanted: dict[tuple[str, str], str], found: dict[tuple[str, str], str]) -> list[str]:
    """The objects that are not there the same, but for those that are broken in the original itself."""
    return [
        f"{kind} {name}"
        for (kind, name), text in wanted.items()
        if text and found.get((kind, name)) != text
    ]
