"""One run at a time for each environment, wherever the runs come from.

The lock is a file in Vetrin's own folder of the environment, made so that only one can make it. It says
who holds it, from where and since when, and is never written again; a second file beside it is a sign of life,
written anew every few seconds. A run on this machine that is dead is told by its process, which only those can see
that share its space of process numbers (a container has its own). One from elsewhere is told by its silence, and
taken for dead by a person alone, who takes over.

A lock goes by its content: nobody removes one that is not the very lock that was looked at, and a run whose lock
somebody took over does not get to its switch.
"""

from __future__ import annotations

import contextlib
import getpass
import json
import re
import secrets
import socket
import threading
from collections.abc import Iterator
from datetime import datetime
from typing import Any

from msgspec import Struct

from ..errors import FilesError, Overtaken, Refused
from ..files import OWN_FOLDER, FileTree, if_readable
from ..process import is_gone, is_near, this_process
from ..site import Site

_PATH = f"{OWN_FOLDER}/lock"
_ALIVE = f"{OWN_FOLDER}/alive-"  # and the token of a lock
BEAT = 15.0  # seconds between two signs of life
_LONGEST = 4096  # bytes of a lock
_TOKEN = re.compile("[0-9a-f]{16}")
SILENT = 90.0  # seconds without one after which a run counts as dead


class Holder(Struct, frozen=True):
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
            return is_gone(json.loads(self.text))
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
    if site.lock:
        yield
        return
    tree = site.files
    # Where a connection broke as this run took its lock or let go of it, nobody knows whether it lies there.
    text = site.unsure_lock or json.dumps(_myself(secrets.token_hex(8))).encode()
    token = json.loads(text)["token"]
    site.unsure_lock = text
    taken_over = False
    while not tree.claim(_PATH, text):
        holder = holder_of(tree)
        if holder is None:
            continue  # it was let go this moment
        if holder.text == text:
            break
        if not (holder.ours and holder.dead) and not (site.takes_over and not taken_over):
            site.unsure_lock = b""
            raise Refused(*_refusal(site.environment.name, holder))
        taken_over = True
        _break(tree, holder)
    stop = threading.Event()
    beating = threading.Thread(target=_beat, args=(site, token, stop), name="lock", daemon=True)
    beating.start()
    site.lock = text
    try:
        yield
    finally:
        site.lock = b""
        stop.set()
        beating.join()
        # Where the connection is lost, the lock stays for this run to find again, or tells of a dead one.
        with contextlib.suppress(FilesError):
            site.files.take_away(_PATH, text)
            site.unsure_lock = b""
            site.files.remove(_ALIVE + token)


def _refusal(name: str, holder: Holder) -> tuple[str, str]:
    if holder.dead:
        return (
            f"{name} is locked by {holder}, of whom nothing was heard for {holder.silent / 60:.0f} minutes",
            "if that run is dead, --take-over goes on in its place",
        )
    return (
        f"{name} is being written to by {holder}; its last sign of life is {holder.silent:.0f} seconds old",
        "wait until that run has ended; --take-over stops it and goes on in its place",
    )


def must_hold(site: Site) -> None:
    """Raises Overtaken where another run took over the lock that this one holds."""
    if not site.lock:
        return
    found = holder_of(site.files)
    if found is None or found.text != site.lock:
        raise Overtaken(site.environment.name, str(found) if found is not None else "")


def holder_of(tree: FileTree) -> Holder | None:
    """Who holds the lock of the environment whose files these are; None where nobody does."""
    silent = tree.age(_PATH)
    if silent is None:
        return None
    text: bytes | None = None
    with if_readable():
        text = b"".join(tree.read(_PATH, 0, _LONGEST))
    if text is None:
        return None
    try:
        held = json.loads(text)
        token = held.get("token", "")
        if _TOKEN.fullmatch(token) and (beat := tree.age(_ALIVE + token)) is not None:
            silent = min(silent, beat)
        ours = is_near(held)
        user, host, process, since = held["user"], held["host"], held["process"], held["since"]
        started = held.get("started", "")
        if not all(isinstance(one, str) for one in (user, host, since, started)):
            raise TypeError
        return Holder(
            user=user,
            host=host,
            process=int(process),
            since=since,
            silent=silent,
            ours=ours,
            text=text,
        )
    except (ValueError, KeyError, TypeError, AttributeError):
        # It is being written this moment, or by somebody else's hand.
        return Holder(
            user="another run",
            host="an unknown machine",
            process=0,
            since="a moment ago",
            silent=silent,
            ours=False,
            text=text,
        )


def _break(tree: FileTree, holder: Holder) -> None:
    """Take that very lock away; another one that came meanwhile stays."""
    tree.take_away(_PATH, holder.text)
    with contextlib.suppress(ValueError, AttributeError, FilesError):
        token = json.loads(holder.text).get("token", "")
        if isinstance(token, str) and _TOKEN.fullmatch(token):
            tree.remove(_ALIVE + token)


def _beat(site: Site, token: str, stop: threading.Event) -> None:
    while not stop.wait(BEAT):
        # Over another connection, once it was made anew.
        with contextlib.suppress(FilesError):
            site.files.put(_ALIVE + token, b"")


def _myself(token: str) -> dict[str, Any]:
    return {
        "user": getpass.getuser(),
        "host": socket.gethostname(),
        **this_process(),
        "since": datetime.now().astimezone().isoformat(timespec="seconds"),
        "token": token,
    }
