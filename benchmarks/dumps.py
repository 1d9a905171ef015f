"""Reading an SQL dump: bytes a second of one processor, and memory.

    python benchmarks/dumps.py [--size 200]

For a dump with long statements, one with a statement for each row, and one with a row of 64 MB. Needs what
scripts/install-systems brings.
"""

from __future__ import annotations

import argparse
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from pull_database import generate
from systems import Mariadb, running

READ = """
import resource, sys, time
from vetrin.database.mysql.dump.reader import DumpReader
def used():
    now = resource.getrusage(resource.RUSAGE_SELF)
    return now.ru_utime + now.ru_stime
rows, begun = 0, used()
with open(sys.argv[1], "rb") as file:
    for table, batch in DumpReader(iter(lambda: file.read(1 << 18), b"")).rows():
        rows += batch.rows
print(rows, used() - begun, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
"""


def read(path: Path) -> tuple[int, float, float]:
    """Rows, seconds of the processor once Python has started, megabytes: medians of five."""
    runs = []
    for _ in range(5):
        done = subprocess.run(
            [sys.executable, "-c", READ, path], capture_output=True, text=True, check=True
        )
        runs.append([float(word) for word in done.stdout.split()])
    rows, seconds, memory = map(statistics.median, zip(*runs, strict=True))
    return int(rows), seconds, memory


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawTextHelpFormatter
    )
    parser.add_argument("--size", type=float, default=200, help="megabytes of the database (200)")
    args = parser.parse_args()
    folder = Path(tempfile.mkdtemp(prefix="vb-", dir="/tmp"))
    try:
        dumps = {"long statements": (), "one row each": ("--skip-extended-insert", "--hex-blob")}
        with running(Mariadb, folder / "server") as server:
            generate(server, "large", args.size, folder)
            for number, options in enumerate(dumps.values()):
                with (folder / f"{number}.sql").open("wb") as file:
                    subprocess.run(server.dump_program(*options, "large"), stdout=file, check=True)
        giant = folder / "2.sql"
        with giant.open("wb") as file:
            file.write(b"CREATE TABLE t (a int, b longtext);\nINSERT INTO t VALUES (1,'")
            for _ in range(64):
                file.write(b"a line of text, 32 bytes long..\\n" * 31775)
            file.write(b"'),(2,'short');\n")
        time.sleep(1)
        for number, name in enumerate([*dumps, "a row of 64 MB"]):
            path = folder / f"{number}.sql"
            rows, seconds, memory = read(path)
            rate = path.stat().st_size / 1e6 / seconds
            print(
                f"{name}: {rate:.0f} MB/s a core (at least 60), {memory:.0f} MB of memory (at most 150), {rows} rows"
            )
    finally:
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
