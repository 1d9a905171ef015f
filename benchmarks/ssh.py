"""Transfers over SSH, against the system's own programs through the same server.

    python benchmarks/ssh.py [database] [files] [media] [again] [backup] [unchanged] [--size 500] [--files 20000] [--media 1000]
                             [--runs 3] [--pool 128] [--slow]

A private OpenSSH server on loopback; with ``--slow`` behind a line of 40 ms there and back and 50 Mbit/s. Prints the
ratio of `vetrin pull` to the dump program, compressed, through ssh into the client; to a tar stream through ssh; and
to scp of one file; where there is only SFTP, to one file after the other; and the memory of each. ``again`` compares
repeat pulls, and dumping both databases at once to nowhere, there and here, with a full pull, ``backup`` repeat backups
with the first, ``unchanged`` a pull of media of which nothing changed with a listing of them.
"""

from __future__ import annotations

import argparse
import contextlib
import os
import shlex
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
sys.path.insert(0, str(Path(__file__).parent))
import files as tree
import pull_database as rows
import systems
from measured import fresh, vetrin
from repeat import scattered
from slow_line import SlowLine
from ssh_server import NO_FORWARDING, SFTP_ONLY, SshServer

KINDS = ["database", "files", "media", "again", "backup", "unchanged"]
ONE_BY_ONE = 150  # files that are measured one after the other


class Bench:
    """One server, plain or behind a slow line, with a project that reaches its folder."""

    def __init__(self, folder: Path, slow: bool, options: tuple[str, ...] = ()) -> None:
        folder.mkdir(parents=True)
        self.server = SshServer(folder / "server", options)
        self.line = SlowLine(self.server.port) if slow else None
        port = self.line.port if self.line else self.server.port
        config = self.server.home / ".ssh/config"
        config.write_text(
            config.read_text().replace(f"Port {self.server.port}", f"Port {port}")
            + f"  UserKnownHostsFile {self.server.home}/.ssh/known_hosts\n  LogLevel ERROR\n"
        )
        known = self.server.home / ".ssh/known_hosts"
        known.write_text(self.server.known.replace(str(self.server.port), str(port)))
        self.config = config
        os.environ["HOME"] = str(self.server.home)

    def ssh(self, command: str) -> str:
        return f"ssh -F {self.config} {self.server.name} {command!r}"

    def stop(self) -> None:
        self.server.stop()
        if self.line is not None:
            self.line.stop()


def shell_seconds(command: str) -> float:
    start = time.perf_counter()
    subprocess.run(command, shell=True, check=True)
    return time.perf_counter() - start


def pull(folder: Path, parts: str) -> tuple[float, float]:
    """Seconds and peak megabytes of one pull."""
    return vetrin(folder, "pull", "--parts", parts, "--yes")


def told(
    name: str, theirs: list[float], ours: list[float], memory: list[float], limit: str
) -> None:
    ratio = statistics.median(ours) / statistics.median(theirs)
    print(
        f"{name}: {ratio:.2f} ({limit}); {statistics.median(ours):.1f} s against "
        f"{statistics.median(theirs):.1f} s; memory {max(memory):.0f} MB (at most 150)",
        flush=True,
    )


def database_project(bench: Bench, server: systems.Mariadb, folder: Path, size: float) -> Path:
    """A project whose production, with a database of so many megabytes, is behind the line."""
    rows.generate(server, "large", size, folder)
    project = rows.project(server, folder / "project", "large", "copied")
    text = (project / "vetrin.toml").read_text()
    remote = f'host = "ssh://{bench.server.name}"\nroot = "{project}/live"'
    (project / "vetrin.toml").write_text(text.replace('root = "live"', remote))
    return project


def database(bench: Bench, folder: Path, size: float, runs: int, pool: str) -> None:
    with systems.running(systems.Mariadb, folder / "mariadb", pool) as server:
        project = database_project(bench, server, folder, size)
        dump = f"{rows.dumping(server, 'large')} | gzip -1"
        client = shlex.join(server.client("copied"))
        theirs, ours, memory = [], [], []
        for _ in range(runs):
            rows.empty(server, "copied")
            theirs.append(shell_seconds(f"{bench.ssh(dump)} | gunzip | {client}"))
            rows.empty(server, "copied")
            fresh(project)
            seconds, peak = pull(project, "data")
            ours.append(seconds)
            memory.append(peak)
            print(f"  dump {theirs[-1]:.1f} s, pull {seconds:.1f} s", flush=True)
    limit = "at most 1.3" if size <= 100 else "at most 1.15"
    told(f"{size:.0f} MB database", theirs, ours, memory, limit)


def again(bench: Bench, folder: Path, size: float, runs: int, pool: str) -> None:
    """Repeat pulls of a database, with nothing changed and with 0.1 per cent of the rows, against a full one."""
    with systems.running(systems.Mariadb, folder / "mariadb", pool) as server:
        project = database_project(bench, server, folder, size)
        rows.empty(server, "copied")
        full = [pull(project, "data")[0]]
        full += [
            vetrin(project, "pull", "--parts", "data", "--yes", "--full")[0]
            for _ in range(runs - 1)
        ]
        there = bench.ssh(f"{rows.dumping(server, 'large')} > /dev/null")
        here = f"{rows.dumping(server, rows.COPIED)} > /dev/null"
        both = [shell_seconds(f"{there} & {here} && wait $!") for _ in range(runs)]
        ratio = statistics.median(both) / statistics.median(full)
        print(
            f"{size:.0f} MB database, both sides dumped to nowhere at once: {ratio:.2f} of a full pull",
            flush=True,
        )
        for name, each, limit in (
            ("nothing changed", 0, 0.1),
            ("0.1 % changed all over", 1000, 0.15),
        ):
            ours, memory = [], []
            for turn in range(runs):
                if each:
                    scattered(server, each, turn)
                seconds, peak = pull(project, "data")
                ours.append(seconds)
                memory.append(peak)
                print(f"  {name}: {seconds:.1f} s", flush=True)
            told(
                f"{size:.0f} MB database, {name}",
                full,
                ours,
                memory,
                f"at most {limit} of a full pull",
            )


def backup(bench: Bench, folder: Path, size: float, runs: int, pool: str) -> None:
    """Repeat backups of a database, with nothing changed and with 0.1 per cent of the rows, against the first."""
    words = ("backup", "production", "--parts", "data")
    with systems.running(systems.Mariadb, folder / "mariadb", pool) as server:
        project = database_project(bench, server, folder, size)
        first = []
        for _ in range(runs):
            shutil.rmtree(project / ".vetrin", ignore_errors=True)
            first.append(vetrin(project, *words)[0])
        for name, each in (("nothing changed", 0), ("0.1 % changed all over", 1000)):
            ours, memory = [], []
            for turn in range(runs):
                if each:
                    scattered(server, each, turn)
                seconds, peak = vetrin(project, *words)
                ours.append(seconds)
                memory.append(peak)
            told(f"{size:.0f} MB backup, {name}", first, ours, memory, "of the first one")


def unchanged(bench: Bench, folder: Path, count: int, runs: int) -> None:
    """Many media files of which none changed, against `find -printf` there."""
    project = folder / "project"
    uploads = folder / "live/media"
    tree.shell(folder / "live")
    for number in range(count):
        path = uploads / f"{2000 + number % 20}/{number % 12:02}/photo-{number}.jpg"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(b"x" * (number % 90 + 10))
    project.mkdir()
    remote = f'host = "ssh://{bench.server.name}"\nroot = "{folder}/live"'
    (project / "vetrin.toml").write_text(tree.PROJECT.replace('root = "live"', remote))
    tree.shell(project / "copy")
    pull(project, "media")
    theirs, ours, memory = [], [], []
    for _ in range(runs):
        listing = bench.ssh(f"find {uploads} -printf '%y %s %T@ %m %p\\n'")
        theirs.append(shell_seconds(f"{listing} > /dev/null"))
        seconds, peak = pull(project, "media")
        ours.append(seconds)
        memory.append(peak)
    told(f"{count} media files, nothing changed, against find", theirs, ours, memory, "at most 3")


def project_of(bench: Bench, folder: Path, count: int, megabytes: int) -> Path:
    live = folder / "live"
    tree.shell(live)
    tree.generate(live, count, megabytes)
    project = folder / "project"
    project.mkdir()
    remote = f'host = "ssh://{bench.server.name}"\nroot = "{live}"'
    (project / "vetrin.toml").write_text(tree.PROJECT.replace('root = "live"', remote))
    return project


def small_files(bench: Bench, folder: Path, count: int, runs: int) -> None:
    project = project_of(bench, folder, count, 0)
    theirs, ours, memory = [], [], []
    for _ in range(runs):
        tree.fresh(project)
        (project / "copied").mkdir()
        stream = bench.ssh(f"tar cf - -C {folder}/live .")
        theirs.append(shell_seconds(f"{stream} | tar xf - -C {project}/copied"))
        tree.fresh(project)
        seconds, peak = pull(project, "media,code")
        ours.append(seconds)
        memory.append(peak)
        print(f"  tar {theirs[-1]:.1f} s, pull {seconds:.1f} s", flush=True)
    told(f"{count} small files", theirs, ours, memory, "at most 1.3")


def without_shell(bench: Bench, folder: Path, count: int) -> None:
    project = project_of(bench, folder, count, 0)
    tree.fresh(project)
    seconds, peak = pull(project, "media,code")
    names = sorted((folder / "live/extras").rglob("*.php"))[:ONE_BY_ONE]
    batch = folder / "batch"
    batch.write_text("".join(f"get {name} {folder}/one\n" for name in names))
    start = time.perf_counter()
    subprocess.run(
        ["sftp", "-q", "-F", str(bench.config), "-b", str(batch), bench.server.name],
        check=True, stdout=subprocess.DEVNULL,
    )  # fmt: skip
    each = (time.perf_counter() - start) / len(names)
    print(
        f"{count} small files without a shell: {each * count / seconds:.1f} times as quick as one after the "
        f"other (at least 20); {seconds:.1f} s against {each * count:.0f} s, worked out from "
        f"{len(names)} files; memory {peak:.0f} MB (at most 150)",
        flush=True,
    )


def media(bench: Bench, folder: Path, megabytes: int, runs: int) -> None:
    project = project_of(bench, folder, 0, megabytes)
    big = folder / "big"
    subprocess.run(f"cat $(find {folder}/live/media -type f) > {big}", shell=True, check=True)
    theirs, ours, memory = [], [], []
    for _ in range(runs):
        tree.fresh(project)
        theirs.append(
            shell_seconds(f"scp -q -F {bench.config} {bench.server.name}:{big} {folder}/copy")
        )
        tree.fresh(project)
        seconds, peak = pull(project, "media")
        ours.append(seconds)
        memory.append(peak)
        print(f"  scp {theirs[-1]:.1f} s, pull {seconds:.1f} s", flush=True)
    rate = statistics.median(theirs) / statistics.median(ours)
    print(
        f"{megabytes} MB of media: {rate:.2f} of scp's rate (at least 0.8); memory {max(memory):.0f} MB "
        "(at most 150)",
        flush=True,
    )


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawTextHelpFormatter
    )
    parser.add_argument("what", nargs="*", choices=[[], *KINDS])
    parser.add_argument("--size", type=float, default=500, help="megabytes of the database (500)")
    parser.add_argument("--files", type=int, default=20_000, help="small files (20,000)")
    parser.add_argument("--media", type=int, default=1000, help="megabytes of media (1,000)")
    parser.add_argument(
        "--unchanged", type=int, default=50_000, help="media files of which none changed (50,000)"
    )
    parser.add_argument("--runs", type=int, default=3, help="runs of each (3)")
    parser.add_argument(
        "--pool", type=int, default=128,
        help="megabytes of its databases that the server holds in memory, as it does by itself (128)",
    )  # fmt: skip
    parser.add_argument("--slow", action="store_true", help="behind 40 ms and 50 Mbit/s")
    args = parser.parse_args()
    folder = Path(tempfile.mkdtemp(prefix="vb-", dir="/tmp"))
    what, pool = args.what or KINDS, f"--innodb-buffer-pool-size={args.pool}M"
    print("behind 40 ms and 50 Mbit/s" if args.slow else "on loopback, plain", flush=True)
    with contextlib.ExitStack() as closing:
        closing.callback(shutil.rmtree, folder, ignore_errors=True)
        plain = Bench(folder / "plain", args.slow)
        closing.callback(plain.stop)
        if "database" in what:
            database(plain, folder / "database", args.size, args.runs, pool)
        if "files" in what:
            small_files(plain, folder / "files", args.files, args.runs)
        if "media" in what:
            media(plain, folder / "media", args.media, args.runs)
        if "again" in what:
            again(plain, folder / "again", args.size, args.runs, pool)
        if "backup" in what:
            backup(plain, folder / "backup", args.size, args.runs, pool)
        if "unchanged" in what:
            unchanged(plain, folder / "unchanged", args.unchanged, args.runs)
        if "files" in what:
            bare = Bench(folder / "bare", args.slow, (*SFTP_ONLY, *NO_FORWARDING))
            closing.callback(bare.stop)
            without_shell(bare, folder / "without-shell", args.files)


if __name__ == "__main__":
    main()
