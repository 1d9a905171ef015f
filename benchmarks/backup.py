"""A backup and its restoring, against the server's own programs.

    python benchmarks/backup.py [--size 500] [--runs 3]

Prints the ratio of `vetrin backup` of a database to the dump program piped into `zstd -3`; what a second
backup adds after one row in a thousand was changed, here and there; and the ratio of `vetrin restore` to
loading that dump with the server's own client. Needs what scripts/install-systems brings, and zstd.
"""

from __future__ import annotations

import random
import shlex
import shutil
import statistics
import subprocess
import time
from pathlib import Path

from measured import fresh, vetrin
from pull_database import dumping, empty, generate, on_a_server, project
from systems import Mariadb


def dump(server: Mariadb, database: str, path: Path) -> float:
    start = time.perf_counter()
    subprocess.run(f"{dumping(server, database)} | zstd -q -3 -f -o {path}", shell=True, check=True)
    return time.perf_counter() - start


def load(server: Mariadb, database: str, path: Path) -> float:
    empty(server, database)
    start = time.perf_counter()
    subprocess.run(
        f"zstd -dcq {path} | {shlex.join(server.client(database))}", shell=True, check=True
    )
    return time.perf_counter() - start


def store_size(folder: Path) -> int:
    return sum(
        path.stat().st_size for path in (folder / ".vetrin/store").rglob("*") if path.is_file()
    )


def change(server: Mariadb, database: str, chance: random.Random) -> None:
    """Change one row in a thousand, anywhere in each table."""
    for table, key, column in (
        ("wp_posts", "ID", "post_title"),
        ("wp_postmeta", "meta_id", "meta_value"),
        ("wp_comments", "comment_ID", "comment_author"),
    ):
        most = int(server.run(f"SELECT MAX({key}) FROM {table}", database=database)[0][0])
        keys = ",".join(str(chance.randrange(1, most)) for _ in range(most // 1000))
        server.run(
            f"UPDATE {table} SET {column} = CONCAT('changed ', {key}) WHERE {key} IN ({keys})",
            database=database,
        )


def measure(server: Mariadb, folder: Path, size: float, runs: int) -> None:
    generate(server, "large", size, folder)
    site = project(server, folder / "large", "large", "copied")
    dumped = folder / "dump.zst"
    theirs: list[float] = []
    ours: list[float] = []
    peaks: list[float] = []
    dump(server, "large", dumped)  # once for nothing, so that both find the same in memory
    for _ in range(runs):
        theirs.append(dump(server, "large", dumped))
        fresh(site)
        seconds, peak = vetrin(site, "backup", "production", "--parts", "data")
        ours.append(seconds)
        peaks.append(peak)
        print(f"  dump | zstd -3 {theirs[-1]:.1f} s, backup {seconds:.1f} s", flush=True)
    before = store_size(site)
    print(f"store {before / 1e6:.0f} MB, dump {dumped.stat().st_size / 1e6:.0f} MB", flush=True)
    change(server, "large", random.Random(4))
    seconds, _ = vetrin(site, "backup", "production", "--parts", "data", "--label", "bench")
    added = store_size(site) - before
    loads, restores = [], []
    dump(server, "large", dumped)
    for _ in range(runs):
        loads.append(load(server, "copied", dumped))
        empty(server, "copied")
        shutil.rmtree(site / ".vetrin/runs", ignore_errors=True)
        taken, peak = vetrin(site, "restore", "local", "bench", "--yes")
        restores.append(taken)
        peaks.append(peak)
        print(f"  load {loads[-1]:.1f} s, restore {taken:.1f} s", flush=True)
    print(f"memory: {max(peaks):.0f} MB")
    print(
        f"backup: {statistics.median(ours) / statistics.median(theirs):.2f} of dump | zstd -3 (at most 1.3)"
    )
    print(
        f"second backup after 0.1 % changed: {seconds:.1f} s, adds {added / before:.2%} (at most 1 %)"
    )
    print(
        f"restore: {statistics.median(restores) / statistics.median(loads):.2f} of the client (at most 1.2)"
    )


if __name__ == "__main__":
    on_a_server(__doc__, measure)
