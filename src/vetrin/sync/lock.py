"""One run at a time for each environment, wherever the runs come from.

The lock is a file in Vetrin's own folder of the environment, made so that only one can make it. It says
who holds it, from where and since when, and is written anew every few seconds. A run on this machine that
is dead is told by its process; one from elsewhere by a lock that nobody has written for a while, which only
a person breaks.
"""

from __future__ import annotations

import contextlib
import getpass
import json
import os
import socket
import threading
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from ..files import OWN_FOLDER, FilesError, FileTree
from ..reach import Site
from ..spot import this_machine
from .errors import Refused

_PATH = f"{OWN_FOLDER}/lock"
BEAT = 15.0  # seconds between two signs of life
SILENT = 90.0  # seconds without one after which a run counts as dead


@dataclass(frozen=True)
class Holder:
    """Who holds a lock. ``silent`` is how many seconds nothing was heard of it."""

    user: str
    host: str
    process: int
    since: str
    silent: float
    ours: bool  # the same machine as this one
    text: bytes

    @property
    def dead(self) -> bool:
        """True for a run that has ended without letting go; from elsewhere, only most likely."""
        if self.ours:
            return not _runs(json.loads(self.text))
        return self.silent > SILENT

    def __str__(self) -> str:
        since = self.since.replace("T", " ")[:16]
        return f"{self.user} on {self.host} (process {self.process}) since {since}"


@contextlib.contextmanager
def only_run(site: Site) -> Iterator[None]:
    """Hold the environment's lock; once more in a context that holds it already does nothing.

    Raises:
        Refused: another run holds it; says who, from where and since when.
    """
    if site.locked:
        yield
        return
    tree = site.files
    text = json.dumps(_myself()).encode()
    while not tree.claim(_PATH, text):
        holder = holder_of(tree)
        if holder is None:
            continue  # it was let go this moment
        if not holder.dead:
            raise Refused(
                f"{site.environment.name} is being written to by {holder}",
                "wait until that run has ended",
            )
        if not holder.ours:
            raise Refused(
                f"{site.environment.name} is locked by {holder}, of whom nothing was heard for "
                f"{holder.silent / 60:.0f} minutes",
                f"if that run is dead, `vetrin unlock {site.environment.name}` breaks its lock",
            )
        _break(tree, holder)
    stop = threading.Event()
    beating = threading.Thread(target=_beat, args=(site, text, stop), name="lock", daemon=True)
    beating.start()
    site.locked = True
    try:
        yield
    finally:
        site.locked = False
        stop.set()
        beating.join()
        with contextlib.suppress(
            FilesError
        ):  # the connection is lost: the lock tells of a dead run
            site.files.remove(_PATH)


def holder_of(tree: FileTree) -> Holder | None:
    """Who holds the lock of the environment whose files these are; None where nobody does."""
    silent = tree.age(_PATH)
    if silent is None:
        return None
    try:
        text = b"".join(tree.read(_PATH))
    except FilesError:
        return None
    try:
        held = json.loads(text)
        ours = held["machine"] == this_machine()
        return Holder(
            held["user"], held["host"], held["process"], held["since"], silent, ours, text
        )
    except (ValueError, KeyError, TypeError):
        # It is being written this moment, or by somebody else's hand.
        return Holder("another run", "an unknown machine", 0, "a moment ago", silent, False, text)


def unlock(tree: FileTree, holder: Holder) -> None:
    """Break a lock, on purpose."""
    _break(tree, holder)


def _break(tree: FileTree, holder: Holder) -> None:
    found = holder_of(tree)
    if found is not None and found.text == holder.text:
        tree.remove(_PATH)


def _beat(site: Site, text: bytes, stop: threading.Event) -> None:
    while not stop.wait(BEAT):
        with contextlib.suppress(FilesError):
            tree = site.files  # another one once the connection was made anew
            if (found := holder_of(tree)) is not None and found.text == text:
                tree.put(_PATH, text)


def _myself() -> dict[str, Any]:
    return {
        "user": getpass.getuser(),
        "host": socket.gethostname(),
        "machine": this_machine(),
        "process": os.getpid(),
        "started": _started(os.getpid()),
        "since": datetime.now().astimezone().isoformat(timespec="seconds"),
    }


def _runs(held: dict[str, Any]) -> bool:
    """True if the process that took a lock on this machine is still there, and not another by now."""
    try:
        os.kill(held["process"], 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        pass
    return bool(held["started"] == _started(held["process"]))


def _started(process: int) -> str:
    """When a process began, in ticks since the machine's start; empty where that is not told."""
    try:
        return Path(f"/proc/{process}/stat").read_text("ascii").rpartition(")")[2].split()[19]
    except (OSError, IndexError):
        return ""
