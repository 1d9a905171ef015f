"""Folders and files that are their owner's alone from the first byte, whoever else uses the machine."""

from __future__ import annotations

import contextlib
import os
import stat
from pathlib import Path
from typing import BinaryIO

_OTHERS = 0o077


def private_folder(path: Path) -> None:
    """Make a folder, and those above it that are missing; one that others can look into is shut to them.

    Raises:
        OSError: it cannot be made.
    """
    missing = []
    folder = path
    while not folder.is_dir():
        missing.append(folder)
        folder = folder.parent
    for folder in reversed(missing):
        with contextlib.suppress(FileExistsError):
            folder.mkdir(mode=0o700)
    about = path.stat()
    if about.st_mode & _OTHERS and about.st_uid == os.geteuid():
        path.chmod(stat.S_IMODE(about.st_mode) & ~_OTHERS)


def private_file(path: Path) -> BinaryIO:
    """A new file to write to; what lay there is replaced, a link is not followed.

    Raises:
        OSError: it cannot be made.
    """
    how = os.O_WRONLY | os.O_CREAT | os.O_EXCL
    try:
        number = os.open(path, how, 0o600)
    except FileExistsError:
        path.unlink(missing_ok=True)
        number = os.open(path, how, 0o600)
    return os.fdopen(number, "wb")
