"""One run at a time for each environment."""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import socket
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path

from ..files import own_folder
from .errors import Refused


@contextlib.contextmanager
def only_run(environment: str, root: Path) -> Iterator[None]:
    """Hold the environment's lock; the operating system lets it go when the process ends.

    Raises:
        Refused: another run holds it; says who, from where and since when.
    """
    with (own_folder(root) / "lock").open("a+", encoding="utf-8") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            file.seek(0)
            raise Refused(
                f"{environment} is being written to by {_holder(file.read())}",
                "wait until that run has ended",
            ) from None
        file.truncate(0)
        json.dump(
            {
                "process": os.getpid(),
                "host": socket.gethostname(),
                "user": os.environ.get("USER") or str(os.getuid()),
                "since": datetime.now().astimezone().isoformat(timespec="seconds"),
            },
            file,
        )
        file.flush()
        yield
        file.truncate(0)


def _holder(text: str) -> str:
    try:
        held = json.loads(text)
        return f"{held['user']} on {held['host']} (process {held['process']}) since {held['since']}"
    except (ValueError, KeyError, TypeError):
        return "another run"
