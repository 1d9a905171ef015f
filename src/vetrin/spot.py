"""Where a file or a folder really lies, however it is reached."""

from __future__ import annotations

import socket
from pathlib import Path

from msgspec import Struct

# Linux makes it anew whenever its kernel starts; containers share it with the machine that they run on.
SINCE_START = "/proc/sys/kernel/random/boot_id"


class Spot(Struct, frozen=True):
    """``machine`` tells one from all others until it starts anew; ``path`` is without links; ``identity`` is device
    and inode, None where the way there does not tell them."""

    machine: str
    path: str
    identity: tuple[int, int] | None = None

    def is_same(self, other: Spot) -> bool:
        if self.machine != other.machine:
            return False
        if self.identity is not None and other.identity is not None:
            return self.identity == other.identity
        return self.path == other.path


def this_machine() -> str:
    """What tells this machine, since its last start, from others of the same name."""
    try:
        return Path(SINCE_START).read_text("ascii").strip()
    except OSError:
        return socket.gethostname()


def spot_here(path: str | Path) -> Spot | None:
    """Where something on this machine lies; None where there is nothing."""
    try:
        found = Path(path).stat()
        return Spot(this_machine(), str(Path(path).resolve()), (found.st_dev, found.st_ino))
    except OSError:
        return None
