"""Small files that are written as a whole or not at all."""

from __future__ import annotations

import os
import secrets
from pathlib import Path


def write_whole(path: Path, content: bytes, mode: int = 0o600) -> None:
    """Write a file beside its place and give it its name once it is safely on disk; what was there stays until then.
    Nobody but its owner can read it unless ``mode`` says so.

    Raises:
        OSError: it cannot be written; what was there is as it was.
    """
    beside = path.with_name(f".{path.name}.{secrets.token_hex(4)}")
    handle = os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
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
