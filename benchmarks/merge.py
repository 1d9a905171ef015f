"""Merging content into a site that changed as well.

    python benchmarks/merge.py [--size 500] [--runs 3]

Prints the ratio of `vetrin push production --parts data` with 1,000 rows changed on each side to the time in which
two `vetrin changes` find what changed on both sides at the same time (the digests of all rows); its memory; and for how long the
longest of a visitor's writes waited while it ran. Needs what scripts/install-systems brings.
"""

from __future__ import annotations

import statistics
import sys
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
sys.path.insert(0, str(Path(__file__).parent))
import pull_database as rows
from measured import fresh, vetrin
from systems import Mariadb

CHANGED = 1000  # rows on each side


def change(server: Mariadb, database: str, turn: int) -> None:
    """Change rows that the other side does not change."""
    first = 10_000 * turn + (0 if database == "large" else 5_000)
    server.run(
        f"UPDATE wp_posts SET post_content = CONCAT('of {database} ', LEFT(post_content, 90))"
        f" WHERE ID > {first} ORDER BY ID LIMIT {CHANGED}",
        database=database,
    )


def look(project: Path) -> float:
    """Seconds in which what changed on both sides is found, at the same time."""
    begun = time.perf_counter()
    with ThreadPoolExecutor(2) as both:
        for name in ("production", "local"):
            both.submit(vetrin, project, "changes", name, codes=(0, 4))
    return time.perf_counter() - begun


class Visitor(threading.Thread):
    """Writes a comment and changes a post again and again; ``longest`` is what one of these writes took, in
    seconds."""

    def __init__(self, server: Mariadb) -> None:
        super().__init__(daemon=True)
        self._server = server
        self.ended = threading.Event()
        self.longest = 0.0
        self.writes = 0

    def run(self) -> None:
        connection = self._server.root("large")
        while not self.ended.is_set():
            begun = time.perf_counter()
            with connection.cursor() as cursor:
                cursor.execute(
                    "INSERT INTO wp_comments (comment_post_ID, comment_author, comment_content, comment_approved, comment_date_gmt)"
                    " VALUES (3, 'Jory', 'From a visitor', '1', '2026-11-29 08:00:00')"
                )
                cursor.execute("UPDATE wp_posts SET post_title = %s WHERE ID = 4", (f"{begun}",))
            connection.commit()
            self.longest = max(self.longest, time.perf_counter() - begun)
            self.writes += 1
            time.sleep(0.005)
        connection.close()


def measure(server: Mariadb, folder: Path, size: float, runs: int) -> None:
    rows.generate(server, "large", size, folder)
    project = rows.project(server, folder / "project", "large", "copied")
    toml = project / "vetrin.toml"
    toml.write_text(
        toml.read_text().replace('root = "live"', 'root = "live"\naccess = "read-write"')
    )
    rows.pull(server, project, "copied")
    looked, merged, peaks, waits = [], [], [], []
    for turn in range(runs):
        for database in ("large", "copied"):
            change(server, database, turn)
        looked.append(look(project))
        visitor = Visitor(server)
        visitor.start()
        took, peak = vetrin(
            project, "push", "production", "--parts", "data", "--confirm", "production",
            "--skip-backup", "--prefer", "production",
        )  # fmt: skip
        visitor.ended.set()
        visitor.join()
        merged.append(took)
        peaks.append(peak)
        waits.append(visitor.longest)
        print(f"run {turn + 1}: {took:.1f} s, {visitor.writes} writes of a visitor", flush=True)
    theirs, mine = statistics.median(looked), statistics.median(merged)
    print(f"what changed on both sides: {theirs:.1f} s")
    print(
        f"a merge of {CHANGED} rows: {mine / theirs:.2f} of that (at most 1.2); {mine:.1f} s, {max(peaks):.0f} MB"
    )
    print(f"the longest write of a visitor: {max(waits) * 1000:.0f} ms (at most 200)")
    fresh(project)


if __name__ == "__main__":
    rows.on_a_server(__doc__, measure)
