"""A long table of which next to nothing changed: what a repeat pull costs, and with what it grows.

    python benchmarks/long_table.py [--rows 10000000] [--runs 3]

Prints, for a quarter of the rows and for all, the ratio of `vetrin pull --parts data` to the time in which the server's
own dump program writes the table to nowhere: with nothing changed, and with one row in 10,000 changed all over the
table; and the memory of each. What a pull costs beside the digests is the difference of the two.
"""

from __future__ import annotations

import argparse
import shutil
import statistics
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
sys.path.insert(0, str(Path(__file__).parent))
import pull_database as database
from measured import fresh, vetrin
from repeat import dump
from systems import Mariadb, running

EACH = 10_000


def generate(server: Mariadb, rows: int, folder: Path) -> None:
    database.generate(server, "large", 0.1, folder)
    server.run(
        "CREATE TABLE wp_visits (id BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY, page INT NOT NULL,"
        " at DATETIME NOT NULL, said VARCHAR(80), KEY page (page))",
        "INSERT INTO wp_visits SELECT seq, seq % 997, '2026-05-01' + INTERVAL seq SECOND,"
        f" CONCAT('visit ', seq, ' of ', MD5(seq)) FROM seq_1_to_{rows}",
        database="large",
    )


def pulled(project: Path, *options: str) -> tuple[float, float]:
    return vetrin(project, "pull", "--parts", "data", "--yes", *options)


def measure(server: Mariadb, folder: Path, rows: int, runs: int) -> None:
    generate(server, rows, folder)
    project = database.project(server, folder / "project", "large", "copied")
    database.pull(server, project, "copied")
    theirs = statistics.median(dump(server, "large") for _ in range(runs))
    for what, change in (("nothing changed", ""), (f"one row in {EACH:,} changed", "UPDATE")):
        found = []
        for turn in range(runs):
            if change:
                server.run(
                    f"UPDATE wp_visits SET said = 'again {turn}' WHERE id % {EACH} = {turn}",
                    database="large",
                )
            found.append(pulled(project))
        seconds = statistics.median(took for took, _ in found)
        memory = max(peak for _, peak in found)
        print(
            f"{rows:,} rows, {what}: {seconds / theirs:.2f} of the dump; {seconds:.1f} s against {theirs:.1f} s;"
            f" memory {memory:.0f} MB (at most 150)",
            flush=True,
        )
    fresh(project)


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawTextHelpFormatter
    )
    parser.add_argument("--rows", type=int, default=10_000_000, help="rows of the table")
    parser.add_argument("--runs", type=int, default=3, help="runs of each (3)")
    args = parser.parse_args()
    for rows in (args.rows // 4, args.rows):
        folder = Path(tempfile.mkdtemp(prefix="vb-", dir="/tmp"))
        try:
            with running(Mariadb, folder / "server") as server:
                measure(server, folder, rows, args.runs)
        finally:
            shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
