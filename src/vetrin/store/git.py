"""What the version control of a project says of its code: Git, where there is one.

Git's own program is asked, without taking its locks; where there is none, or no repository, nothing
is known and nothing fails.
"""

from __future__ import annotations

import os
import subprocess
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict

_SECONDS = 30
# Nothing that a repository's configuration names is run.
_QUIET = (
    "-c",
    "core.fsmonitor=false",
    "-c",
    "core.hooksPath=/dev/null",
    "-c",
    "core.sshCommand=false",
)


class Commit(Struct, frozen=True):
    """A commit, and how many files differed from it when it was looked at (0: clean)."""

    id: str
    subject: str
    branch: str = ""
    changes: int = 0

    @property
    def short(self) -> str:
        return self.id[:8]

    def as_json(self) -> dict[str, Any]:
        return {**asdict(self), "clean": not self.changes}


def commit_of(folder: Path, aside: Sequence[str] = ()) -> Commit | None:
    """The commit that is checked out where ``folder`` lies; None where there is none.

    Changes count in ``folder`` only, but for the paths ``aside`` in it.
    """
    head = _git(folder, "log", "-1", "--format=%H%x00%s")
    if not head:
        return None
    name, _, subject = head.rstrip("\n").partition("\0")
    branch = _git(folder, "symbolic-ref", "--short", "-q", "HEAD") or ""
    outside = [f":(exclude,literal){path}" for path in aside]
    status = _git(
        folder, *_without_filters(folder), "status", "--porcelain", "-z", "--", ".", *outside
    )
    status = status or ""
    return Commit(name, subject, branch.strip(), sum(map(bool, status.split("\0"))))


def commits_between(folder: Path, old: str, new: str) -> list[Commit] | None:
    """The commits that ``new`` has and ``old`` lacks, newest first; None where that is not known."""
    text = _git(folder, "log", "--format=%H%x00%s", f"{old}..{new}", "--")
    if text is None:
        return None
    parted = (line.partition("\0") for line in text.splitlines() if "\0" in line)
    return [Commit(name, subject) for name, _, subject in parted]


def _without_filters(folder: Path) -> list[str]:
    """Options that let no filter run that the repository's own configuration names: it may be a stranger's."""
    said = _git(folder, "config", "--local", "--name-only", "--get-regexp", r"^filter\..*")
    names = {line.rpartition(".")[0] for line in (said or "").splitlines()}
    return [
        word
        for name in sorted(names)
        for key, value in (("clean", ""), ("process", ""), ("required", "false"))
        for word in ("-c", f"{name}.{key}={value}")
    ]


def _git(folder: Path, *arguments: str) -> str | None:
    try:
        done = subprocess.run(
            ["git", "-C", str(folder), "-c", "core.quotePath=false", *_QUIET, *arguments],
            stdin=subprocess.DEVNULL,
            capture_output=True,
            timeout=_SECONDS,
            env={**os.environ, "GIT_OPTIONAL_LOCKS": "0", "LC_ALL": "C"},
        )
    except (OSError, subprocess.TimeoutExpired):
        return None
    return done.stdout.decode("utf-8", "replace") if done.returncode == 0 else None
