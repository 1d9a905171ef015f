"""Small files that are written as a whole or not at all."""

from __future__ import annotations

import contextlib
import fcntl
import os
import re
import secrets
from pathlib import Path


def write_whole(path: Path, content: bytes, mode: int = 0o600) -> None:
    """Write a file beside its place and give it its name once it is safely on disk; what was there stays until then.
    Nobody but its owner can read it unless ``mode`` says so.

    What a process that was killed at this left there is removed: a lock tells it from what another one writes now.

    Raises:
        OSError: it cannot be written; what was there is as it was.
    """
    _remove_leftovers(path)
    beside, handle = _begun(path)
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(content)
            file.flush()
            os.fchmod(handle, mode)
            os.fsync(handle)
            beside.replace(path)
    except BaseException:
        beside.unlink(missing_ok=True)
        raise


def _begun(path: Path) -> tuple[Path, int]:
    """A file beside a place, open and locked."""
    while True:
        beside = path.with_name(f".{path.name}.{secrets.token_hex(4)}")
        handle = os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
        with contextlib.suppress(OSError):  # some file systems know no locks
            fcntl.flock(handle, fcntl.LOCK_EX)
        if os.fstat(handle).st_nlink:
            return beside, handle
        os.close(handle)  # another process took it for left before it was locked


def _remove_leftovers(path: Path) -> None:
    pattern = re.compile(rf"\.{re.escape(path.name)}\.[0-9a-f]{{8}}")
    with contextlib.suppress(OSError):
        for one in path.parent.iterdir():
            if pattern.fullmatch(one.name):
                with contextlib.suppress(OSError), one.open("rb") as file:
                    fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
                    one.unlink()
