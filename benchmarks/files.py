"""File transfers on this machine, against the system's own programs.

    python benchmarks/files.py [--files 20000] [--media 2000] [--runs 3]

A tree like that of a CMS with its plugins (small files) and its uploads (3,000 files) is brought into
an empty root by `vetrin pull --parts media,code`, then once more with nothing changed. Prints the
ratio of the first to `cp -a` of the same tree plus reading it once, the ratio of the second (the two
scans and the comparison; beside it the whole command) to `find -printf` over both trees, and the
memory of each.
"""

from __future__ import annotations

import argparse
import os
import random
import resource
import shutil
import sqlite3
import statistics
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from connected import hosts
from measured import vetrin
from vetrin.config import load_project
from vetrin.files import LocalTree, Terms, compare_trees
from vetrin.site import file_scope, lies_loose, open_site

MEDIA = 3000
PROJECT = """[site]
name = "Bench"
cms = "fishplate"
[environment.production]
address = "http://live.test"
root = "live"
[environment.local]
address = "http://copy.test"
root = "copy"
"""


def generate(root: Path, files: int, megabytes: int) -> None:
    """``files`` small ones in plugins of about 400 each, and ``megabytes`` of uploads."""
    chance = random.Random(4)
    for number in range(files):
        folder = root / f"extras/plugin-{number // 400}/part-{number // 20 % 20}"
        if number % 20 == 0:
            folder.mkdir(parents=True)
        size = int(min(60_000, chance.expovariate(1 / 6000))) + 100
        (folder / f"file-{number % 20}.php").write_bytes(chance.randbytes(size))
    for number in range(MEDIA if megabytes else 0):
        folder = root / f"media/2026/{number // 250:02d}"
        folder.mkdir(parents=True, exist_ok=True)
        (folder / f"picture-{number}.jpg").write_bytes(
            chance.randbytes(megabytes * 1_000_000 // MEDIA)
        )


def shell(root: Path) -> None:
    """What makes a folder a site."""
    (root / "fishplate").mkdir(parents=True)
    (root / "fishplate/version.toml").write_text('version = "1"\n')
    (root / "fishplate.toml").write_text('[database]\nfile = "site.sqlite"\n')
    rows = sqlite3.connect(root / "site.sqlite")
    rows.execute("CREATE TABLE settings (name TEXT PRIMARY KEY, value TEXT)")
    rows.execute("CREATE TABLE entries (id INTEGER PRIMARY KEY)")
    rows.close()


def fresh(folder: Path) -> None:
    """An empty copy, nothing remembered, and nothing still on its way to the disk."""
    shutil.rmtree(folder / "copy", ignore_errors=True)
    shutil.rmtree(folder / ".vetrin", ignore_errors=True)
    shutil.rmtree(folder / "copied", ignore_errors=True)
    os.sync()


def seconds(work: Callable[[], object]) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def system(folder: Path) -> float:
    """`cp -a` of the tree, then reading it once."""
    fresh(folder)
    live = folder / "live"
    return seconds(
        lambda: subprocess.run(["cp", "-a", live, folder / "copied"], check=True)
    ) + seconds(
        lambda: subprocess.run(
            f"find {live} -type f -print0 | xargs -0 cat > /dev/null", shell=True, check=True
        )
    )


def pull(folder: Path) -> tuple[float, float]:
    """Seconds and peak megabytes of one pull."""
    return vetrin(folder, "pull", "--parts", "media,code", "--yes")


def scanned(folder: Path) -> float:
    """The scans of both trees and their comparison, as a plan makes them."""
    project = load_project(folder)
    live = open_site(hosts, project, project.environment("production"))
    copy = open_site(hosts, project, project.environment("local"))
    scope = file_scope(live, copy, ("media", "code"), list(project.environments.values()))
    terms = Terms(
        skip=scope.skip, whole=project.definition.whole, theirs=live.seen, ours=copy.seen,
        loose=lambda path: lies_loose(live, path),
    )  # fmt: skip
    found = []

    def work() -> None:
        found.append(
            compare_trees(
                LocalTree(folder / "live"), LocalTree(folder / "copy"), scope.folders, terms
            )
        )

    taken = seconds(work)
    if not found[0].nothing:
        raise RuntimeError("something differs")
    return taken


def listed(folder: Path) -> float:
    return sum(
        seconds(
            lambda: subprocess.run(
                ["find", folder / name, "-printf", "%y %s %T@ %m %p\n"],  # noqa: B023
                check=True,
                stdout=subprocess.DEVNULL,
            )
        )
        for name in ("live", "copy")
    )


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawTextHelpFormatter
    )
    parser.add_argument("--files", type=int, default=20_000, help="small files (20,000)")
    parser.add_argument("--media", type=int, default=2000, help="megabytes of uploads (2,000)")
    parser.add_argument("--runs", type=int, default=3, help="runs of each (3)")
    args = parser.parse_args()
    folder = Path(tempfile.mkdtemp(prefix="vf-"))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    try:
        (folder / "vetrin.toml").write_text(PROJECT)
        shell(folder / "live")
        generate(folder / "live", args.files, args.media)
        theirs, ours, again, whole, lists, memory = [], [], [], [], [], []
        for _ in range(args.runs):
            theirs.append(system(folder))
            fresh(folder)
            shell(folder / "copy")
            taken, peak = pull(folder)
            ours.append(taken)
            memory.append(peak)
            print(f"  cp -a and reading {theirs[-1]:.1f} s, pull {taken:.1f} s", flush=True)
            for _ in range(5):
                lists.append(listed(folder))
                again.append(scanned(folder))
            taken, peak = pull(folder)
            whole.append(taken)
            memory.append(peak)
            print(
                f"  find over both {statistics.median(lists):.3f} s, comparing "
                f"{statistics.median(again):.3f} s, the whole command {taken:.2f} s",
                flush=True,
            )
        first = statistics.median(ours) / statistics.median(theirs)
        second = statistics.median(again) / statistics.median(lists)
        print(f"first transfer: {first:.2f} of cp -a and reading once (at most 1.3)")
        print(f"nothing changed: {second:.2f} of find -printf over both trees (at most 1.5)")
        print(
            f"  the whole command, with its start: {statistics.median(whole) / statistics.median(lists):.1f}"
        )
        print(f"memory: {max(memory):.0f} MB (at most 150)")
    finally:
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
