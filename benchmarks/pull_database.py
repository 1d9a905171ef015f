"""A full pull between two databases on one MariaDB, against the server's own programs.

    python benchmarks/pull_database.py [--size 500] [--runs 3]

Prints the ratio of `vetrin pull` (rewriting, hidden tables, swap) to the time of the dump program
piped into the client, which rewrites nothing, on two cores and on one, to which everything is pinned;
what of the time Vetrin and the server used of a processor; the ratio where LOAD DATA LOCAL is forbidden;
and the memory of the pull at a tenth of the size and at the whole. Needs what scripts/install-systems
brings.
"""

from __future__ import annotations

import argparse
import contextlib
import os
import random
import resource
import shlex
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from measured import fresh, vetrin
from systems import Mariadb, running

ADDRESS = "https://www.harrowmere.example"
ROOT = "/srv/www/harrowmere"

SCHEMA = """
CREATE TABLE wp_posts (ID BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY, post_title TEXT NOT NULL,
  post_content LONGTEXT NOT NULL, post_name VARCHAR(200) NOT NULL, post_status VARCHAR(20) NOT NULL,
  post_type VARCHAR(20) NOT NULL, post_modified_gmt DATETIME NOT NULL, guid VARCHAR(255) NOT NULL,
  KEY post_name (post_name(191)), KEY type_status_date (post_type, post_status, post_modified_gmt, ID));
CREATE TABLE wp_postmeta (meta_id BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY, post_id BIGINT UNSIGNED
  NOT NULL, meta_key VARCHAR(255), meta_value LONGTEXT, KEY post_id (post_id), KEY meta_key (meta_key(191)));
CREATE TABLE wp_comments (comment_ID BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY, comment_post_ID BIGINT
  UNSIGNED NOT NULL, comment_author TINYTEXT NOT NULL, comment_content TEXT NOT NULL, comment_approved
  VARCHAR(20) NOT NULL, comment_date_gmt DATETIME NOT NULL, KEY comment_post_ID (comment_post_ID),
  KEY approved (comment_approved, comment_date_gmt));
CREATE TABLE wp_log (at DATETIME, code INT, line VARCHAR(400));
CREATE TABLE wp_blobs (id INT AUTO_INCREMENT PRIMARY KEY, data LONGBLOB);
CREATE TABLE wp_options (option_id BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY, option_name VARCHAR(191)
  UNIQUE, option_value LONGTEXT)
"""


def rows(table: str, megabytes: float) -> Iterator[bytes]:
    """Tab-separated lines for one table, of about its share of the whole size."""
    chance = random.Random(5)
    words = [
        bytes(chance.choices(b"abcdefghijklmnopqrstuvwxyz", k=chance.randrange(2, 11)))
        for _ in range(4000)
    ]
    text = [b" ".join(chance.choices(words, k=120)) for _ in range(400)]
    link = f'<a href="{ADDRESS}/visit">visit</a>'.encode()
    count = 0
    limit = megabytes * 1e6
    written = 0
    while written < limit:
        count += 1
        body = text[count % 400]
        if table == "wp_posts":
            parts = [text[(count * 7 + k) % 400] for k in range(5)]
            if count % 3 == 0:
                parts.insert(2, link)
            line = b"\t".join((b"Title %d" % count, b" ".join(parts), b"title-%d" % count,
                               b"publish", b"post", b"2026-05-01 10:00:00",
                               b"%b/?p=%d" % (ADDRESS.encode(), count)))  # fmt: skip
        elif table == "wp_postmeta":
            if count % 10 == 0:
                value = b'a:2:{s:3:"url";s:%d:"%b/x/%d";s:1:"n";i:%d;}' % (
                    len(ADDRESS) + 3 + len(str(count)), ADDRESS.encode(), count, count)  # fmt: skip
            else:
                value = body[: 20 + count % 60]
            line = b"%d\t_key_%d\t%b" % (count // 12, count % 40, value)
        elif table == "wp_comments":
            line = b"%d\tVisitor %d\t%b\t1\t2026-05-01 10:00:00" % (
                count // 4,
                count % 900,
                body[:220],
            )
        elif table == "wp_log":
            line = b"2026-05-01 10:00:00\t%d\t%b" % (count % 500, body[: 60 + count % 90])
        else:
            line = bytes(chance.getrandbits(8) | 0x30 for _ in range(4000)) * 5
        written += len(line) + 30
        yield line + b"\n"


SHARES = {
    "wp_posts": 0.36,
    "wp_postmeta": 0.24,
    "wp_comments": 0.2,
    "wp_log": 0.16,
    "wp_blobs": 0.04,
}
COLUMNS = {
    "wp_posts": "post_title, post_content, post_name, post_status, post_type, post_modified_gmt, guid",
    "wp_postmeta": "post_id, meta_key, meta_value",
    "wp_comments": "comment_post_ID, comment_author, comment_content, comment_approved, comment_date_gmt",
    "wp_log": "at, code, line",
    "wp_blobs": "data",
}


# The copy in a database of that name, without what was there before, which is kept for an undo.
COPIED = " ".join(["copied", *COLUMNS])


def generate(server: Mariadb, database: str, megabytes: float, folder: Path) -> None:
    server.create(database, "bench", "bench-word")
    server.run(*filter(str.strip, SCHEMA.split(";")), database=database)
    for table, share in SHARES.items():
        path = folder / "rows.txt"
        with path.open("wb") as file:
            file.writelines(rows(table, megabytes * share))
        server.run(
            f"LOAD DATA INFILE '{path}' INTO TABLE {table} CHARACTER SET binary ({COLUMNS[table]})",
            database=database,
        )
        path.unlink()
    server.run(
        f"INSERT INTO wp_options (option_name, option_value) VALUES ('siteurl', '{ADDRESS}'),"
        f" ('home', '{ADDRESS}'), ('blogname', 'Bench')",
        database=database,
    )


def project(server: Mariadb, folder: Path, source: str, target: str) -> Path:
    for name, database in (("live", source), ("copy", target)):
        root = folder / name
        for marker in ("wp-includes/version.php", "wp-load.php", "wp-admin/admin.php"):
            (root / marker).parent.mkdir(parents=True, exist_ok=True)
            (root / marker).write_text("<?php\n")
        (root / "wp-config.php").write_text(
            f"<?php\ndefine('DB_NAME', '{database}'); define('DB_USER', 'bench');"
            f"define('DB_PASSWORD', 'bench-word'); define('DB_HOST', 'localhost:{server.socket}');"
            "$table_prefix = 'wp_';\n"
        )
    (folder / "vetrin.toml").write_text(
        f'[site]\nname = "Bench"\ncms = "wordpress"\n[environment.production]\naddress = "{ADDRESS}"\n'
        'root = "live"\n[environment.local]\naddress = "http://harrowmere.test:8080"\nroot = "copy"\n'
    )
    return folder


def empty(server: Mariadb, database: str) -> None:
    server.run(f"DROP DATABASE IF EXISTS {database}")
    server.create(database, "bench", "bench-word")


def dumping(server: Mariadb, of: str) -> str:
    """The server's own dump program as a shell is told it; ``of`` is a database, or one with some of its tables."""
    return f"{shlex.join(server.dump_program('--single-transaction', '--quick'))} {of}"


def baseline(server: Mariadb, source: str, target: str) -> float:
    empty(server, target)
    start = time.perf_counter()
    subprocess.run(
        f"{dumping(server, source)} | {shlex.join(server.client(target))}", shell=True, check=True
    )
    return time.perf_counter() - start


def pull(server: Mariadb, folder: Path, target: str) -> tuple[float, float]:
    """Seconds and peak megabytes of one pull."""
    empty(server, target)
    fresh(folder)
    return vetrin(folder, "pull", "--parts", "data", "--yes")


def on_a_server(
    description: str | None, measure: Callable[[Mariadb, Path, float, int], None]
) -> None:
    """Measure with a server and a folder of one's own, in the size and as often as the command line says."""
    parser = argparse.ArgumentParser(
        description=description, formatter_class=argparse.RawTextHelpFormatter
    )
    parser.add_argument("--size", type=float, default=500, help="megabytes of the database (500)")
    parser.add_argument("--runs", type=int, default=3, help="runs of each (3)")
    parser.add_argument(
        "--pool", type=int, default=128,
        help="megabytes of its databases that the server holds in memory, as it does by itself (128)",
    )  # fmt: skip
    args = parser.parse_args()
    folder = Path(tempfile.mkdtemp(prefix="vb-", dir="/tmp"))
    pool = f"--innodb-buffer-pool-size={args.pool}M"
    try:
        with running(Mariadb, folder / "server", pool) as server:
            measure(server, folder, args.size, args.runs)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def measure(server: Mariadb, folder: Path, size: float, runs: int) -> None:
    start = time.perf_counter()
    generate(server, "small", size / 10, folder)
    generate(server, "large", size, folder)
    print(f"{size:.0f} MB generated in {time.perf_counter() - start:.0f} s", flush=True)
    small = project(server, folder / "small", "small", "copied")
    large = project(server, folder / "large", "large", "copied")
    _, small_memory = pull(server, small, "copied")
    print(f"memory at {size / 10:.0f} MB: {small_memory:.0f} MB", flush=True)
    peaks = []
    cores = sorted(os.sched_getaffinity(0))[:2]
    for some in (cores, cores[:1]):
        pin(server, some)
        theirs, ours, used = [], [], []
        for _ in range(runs):
            theirs.append(baseline(server, "large", "copied"))
            before = Used.now(server)
            seconds, peak = pull(server, large, "copied")
            used.append(Used.now(server).since(before))
            ours.append(seconds)
            peaks.append(peak)
            print(f"  dump | client {theirs[-1]:.1f} s, pull {seconds:.1f} s", flush=True)
        limit = " (at most 0.65)" if len(some) == 2 else ""
        print(
            f"pull on {'two cores' if len(some) == 2 else 'one core'}: {statistics.median(ours) / statistics.median(theirs):.2f} of dump | client"
            f"{limit}; {statistics.median(ours):.1f} s, in which Vetrin worked for "
            f"{statistics.median(one.vetrin for one in used):.1f} and the server for "
            f"{statistics.median(one.server for one in used):.1f}",
            flush=True,
        )
        if len(some) == 2:
            server.run("SET GLOBAL local_infile = 0")
            inserts = [pull(server, large, "copied")[0] for _ in range(runs)]
            server.run("SET GLOBAL local_infile = 1")
            print(
                f"pull with INSERT: {statistics.median(inserts) / statistics.median(theirs):.2f} of dump | client "
                "(at most 1.2)",
                flush=True,
            )
    print(f"memory at {size:.0f} MB: {max(peaks):.0f} MB (at most 150)")


class Used(NamedTuple):
    """Seconds of a processor."""

    vetrin: float
    server: float

    @classmethod
    def now(cls, server: Mariadb) -> Used:
        children = resource.getrusage(resource.RUSAGE_CHILDREN)
        stat = Path(f"/proc/{server.process.pid}/stat").read_text().rpartition(")")[2].split()
        ticks = int(stat[11]) + int(stat[12])
        return cls(children.ru_utime + children.ru_stime, ticks / os.sysconf("SC_CLK_TCK"))

    def since(self, before: Used) -> Used:
        return Used(self.vetrin - before.vetrin, self.server - before.server)


def pin(server: Mariadb, cores: Sequence[int]) -> None:
    """Have the server, this program, and all that it starts run on these processors only."""
    os.sched_setaffinity(0, cores)
    for thread in Path(f"/proc/{server.process.pid}/task").iterdir():
        with contextlib.suppress(ProcessLookupError):  # it ended
            os.sched_setaffinity(int(thread.name), cores)


if __name__ == "__main__":
    on_a_server(__doc__, measure)
