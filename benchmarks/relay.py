"""Pulls through a relay, against the same pulls over SSH with the helper in PHP.

    python benchmarks/relay.py [database] [files] [--size 200] [--files 5000] [--runs 3] [--slow] [--small]

nginx with PHP-FPM as on a small host (30 s, 128 MB, posts of 8 MB); with ``--small`` 10 s, 64 MB and posts of 2 MB. On
loopback, or with ``--slow`` both behind a line of 40 ms there and back and 50 Mbit/s. Prints the ratio of the times,
the memory of Vetrin, and the most that a worker of PHP had in memory.
"""

from __future__ import annotations

import argparse
import os
import re
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
sys.path.insert(0, str(Path(__file__).parent))
import files as tree
import pull_database as rows
import systems
from measured import fresh
from slow_line import SlowLine
from ssh import Bench
from web_host import SMALL, WebHost, lay_relay

LEAST = {**SMALL, "max_execution_time": "10", "memory_limit": "64M", "post_max_size": "2M"}
# Vetrin, with the form of the helper that is compared with.
IN_PHP = (
    "import sys; from vetrin.remote.ssh import helper_client as h; h.FORMS = h.FORMS[1:];"
    " from vetrin.cli import main; main()"
)


def pull(project: Path, parts: str) -> tuple[float, float]:
    """Seconds and peak megabytes of one full pull into an empty copy."""
    environ = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
    words = [sys.executable, "-c", IN_PHP, "pull", "--parts", parts, "--yes", "--quiet"]
    start = time.perf_counter()
    process = subprocess.Popen(words, cwd=project, env=environ, stdout=subprocess.DEVNULL)
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode:
        log = project / ".vetrin/errors.log"
        raise RuntimeError(
            f"pull ended with {process.returncode}: {log.read_text()[:6000] if log.exists() else ''}"
        )
    return time.perf_counter() - start, usage.ru_maxrss / 1024


class Both:
    """One root behind two servers, and a project that names either as its production."""

    def __init__(self, folder: Path, root: Path, slow: bool, small: bool) -> None:
        self.root = root
        self.ssh = Bench(folder / "ssh", slow)
        options = {"settings": LEAST, "largest": "2m"} if small else {}
        self.web = WebHost(root, **options)  # type: ignore[arg-type]
        self.web.start()
        self.relay = lay_relay(self.web, writes=False)
        self.line = SlowLine(self.web.port) if slow else None
        os.environ["VETRIN_PRODUCTION_RELAY_KEY"] = self.relay.key.text

    def name(self, project: Path, relayed: bool) -> None:
        path = project / "vetrin.toml"
        text = re.sub(r"^(host|relay) = .*\n", "", path.read_text(), flags=re.MULTILINE)
        port = self.line.port if self.line else self.web.port
        there = f'relay = "http://127.0.0.1:{port}/{self.relay.file.name}"\nroot = "."'
        if not relayed:
            there = f'host = "ssh://{self.ssh.server.name}"\nroot = "{self.root}"'
        head, mark, rest = text.partition("[environment.production]")
        rest = re.sub(r"^root = .*$", lambda _: there, rest, count=1, flags=re.MULTILINE)
        path.write_text(head + mark + rest)

    def memory_of_php(self) -> float:
        """Megabytes, of the worker that had most."""
        found = [0]
        for pid in self.web.workers_of_php():
            status = Path(f"/proc/{pid}/status").read_text()
            found += [int(kilobytes) for kilobytes in re.findall(r"VmHWM:\s+(\d+)", status)]
        return max(found) / 1024

    def stop(self) -> None:
        self.web.__exit__()
        self.ssh.stop()
        if self.line is not None:
            self.line.stop()


@contextmanager
def both(folder: Path, root: Path, args: argparse.Namespace) -> Iterator[Both]:
    found = Both(folder, root, args.slow, args.small)
    try:
        yield found
    finally:
        found.stop()


def compared(
    bench: Both, project: Path, parts: str, empty: object, args: argparse.Namespace, name: str
) -> None:
    times: dict[bool, list[float]] = {False: [], True: []}
    memory = [0.0]
    for _ in range(args.runs):
        for relayed in (False, True):
            bench.name(project, relayed)
            empty()  # type: ignore[operator]
            seconds, peak = pull(project, parts)
            times[relayed].append(seconds)
            if relayed:
                memory.append(peak)
        print(f"  ssh {times[False][-1]:.1f} s, relay {times[True][-1]:.1f} s", flush=True)
    ours, theirs = statistics.median(times[True]), statistics.median(times[False])
    print(
        f"{name}: {ours / theirs:.2f} (at most {2 if args.small else 1.5}); {ours:.1f} s against {theirs:.1f} s; "
        f"memory of Vetrin {max(memory):.0f} MB (at most 150), of PHP {bench.memory_of_php():.0f} MB (at most 64)",
        flush=True,
    )


def database(folder: Path, args: argparse.Namespace) -> None:
    with systems.running(systems.Mariadb, folder / "mariadb") as server:
        rows.generate(server, "large", args.size, folder)
        project = rows.project(server, folder / "project", "large", "copied")

        def empty() -> None:
            rows.empty(server, "copied")
            fresh(project)

        with both(folder, project / "live", args) as bench:
            compared(bench, project, "data", empty, args, f"{args.size:.0f} MB database")


def small_files(folder: Path, args: argparse.Namespace) -> None:
    live = folder / "live"
    tree.shell(live)
    tree.generate(live, args.files, 0)
    project = folder / "project"
    project.mkdir()
    (project / "vetrin.toml").write_text(tree.PROJECT)
    with both(folder, live, args) as bench:
        compared(
            bench,
            project,
            "media,code",
            lambda: tree.fresh(project),
            args,
            f"{args.files} small files",
        )


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("what", nargs="*", choices=["database", "files", []])
    parser.add_argument("--size", type=float, default=200)
    parser.add_argument("--files", type=int, default=5000)
    parser.add_argument("--runs", type=int, default=3)
    parser.add_argument("--slow", action="store_true")
    parser.add_argument("--small", action="store_true")
    args = parser.parse_args()
    for what in args.what or ["database", "files"]:
        with tempfile.TemporaryDirectory() as name:
            (database if what == "database" else small_files)(Path(name), args)


if __name__ == "__main__":
    main()
