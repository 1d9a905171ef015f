"""Repeat transfers: what a pull costs where little or nothing has changed since the last one.

    python benchmarks/repeat.py [--size 500] [--runs 3] [--pool 128]

Prints the ratio of `vetrin pull --parts data` to the time in which the server's own dump program, run just before,
writes everything to nowhere: with nothing changed, once since the first pull and then since others, with 0.1 and 1 per
cent of the rows changed all over the tables, with as many added at their ends, and with --full; the processor time of
each, of the program and of the server, which share the processors, and the memory; and what dumping both databases at
once takes.
A server that holds both databases in memory (--pool 2048) shows the work, one that does not the disk as well: a pull
reads both, a dump one of them. Needs what scripts/install-systems brings.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
sys.path.insert(0, str(Path(__file__).parent))
import pull_database as rows
from measured import fresh, vetrin
from systems import Mariadb
from vetrin.process import processors

TABLES = {"wp_posts": "ID", "wp_postmeta": "meta_id", "wp_comments": "comment_ID"}
VALUES = {"wp_posts": "post_content", "wp_postmeta": "meta_value", "wp_comments": "comment_content"}


def dump(server: Mariadb, *databases: str) -> float:
    """The seconds in which some databases, each as for ``dumping``, are dumped at once."""
    start = time.perf_counter()
    dumps = [
        subprocess.Popen(rows.dumping(server, one), shell=True, stdout=subprocess.DEVNULL)
        for one in databases
    ]
    codes = [process.wait() for process in dumps]
    if any(codes):
        raise RuntimeError("a dump failed")
    return time.perf_counter() - start


def scattered(server: Mariadb, each: int, turn: int) -> None:
    """Change every so-and-so-manyth row."""
    for table, key in TABLES.items():
        server.run(
            f"UPDATE {table} SET {VALUES[table]} = CONCAT('{turn} ', LEFT({VALUES[table]}, 40))"
            f" WHERE {key} % {each} = {turn % each}",
            database="large",
        )


def appended(server: Mariadb, each: int, turn: int) -> None:
    """Add one row for so-and-so many that there are."""
    for table, columns in rows.COLUMNS.items():
        if table in TABLES:
            server.run(
                f"INSERT INTO {table} ({columns}) SELECT {columns} FROM {table}"
                f" WHERE {TABLES[table]} % {each} = {turn % each}",
                database="large",
            )


def measure(server: Mariadb, folder: Path, size: float, runs: int) -> None:
    rows.generate(server, "large", size, folder)
    project = rows.project(server, folder / "project", "large", "copied")
    counts = [
        f"{table} {server.run(f'SELECT COUNT(*) FROM {table}', database='large')[0][0]:,}"
        for table in rows.COLUMNS
    ]
    print(f"{size:.0f} MB: {', '.join(counts)}", flush=True)

    def first(turn: int) -> None:
        rows.pull(server, project, "copied")

    cases: list[tuple[str, float | None, Callable[[int], None], list[str]]] = [
        ("nothing changed since the first pull", 1.3, first, []),
        ("nothing changed", 1.3, lambda turn: None, []),
        ("0.1 % changed all over", 1.6, lambda turn: scattered(server, 1000, turn), []),
        ("1 % changed all over", 2.2, lambda turn: scattered(server, 100, turn), []),
        ("0.1 % added", None, lambda turn: appended(server, 1000, turn), []),
        ("a full pull", None, lambda turn: None, ["--full"]),
    ]
    for what, most, prepare, options in cases:
        theirs, ours, memory, work = [], [], [], []
        for turn in range(runs):
            prepare(turn)
            theirs.append(dump(server, "large"))
            before = rows.Used.now(server)
            seconds, peak = vetrin(project, "pull", "--parts", "data", "--yes", *options)
            work.append(sum(rows.Used.now(server).since(before)))
            ours.append(seconds)
            memory.append(peak)
        ratio = statistics.median(ours) / statistics.median(theirs)
        limit = f" (at most {most})" if most is not None else ""
        print(
            f"{what}: {ratio:.2f} of the dump{limit}; {statistics.median(ours):.1f} s against "
            f"{statistics.median(theirs):.1f} s, {statistics.median(work):.1f} s of processor, {max(memory):.0f} MB",
            flush=True,
        )
    pairs = [(dump(server, "large"), dump(server, "large", rows.COPIED)) for _ in range(runs)]
    ratio = statistics.median(both / alone for alone, both in pairs)
    print(
        f"both databases dumped at once: {ratio:.2f} of the dump; {processors()} processors",
        flush=True,
    )
    fresh(project)


if __name__ == "__main__":
    rows.on_a_server(__doc__, measure)
