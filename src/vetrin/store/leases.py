"""Several writers at once, and thinning: nobody removes what another one is about to rely on.

A writer leaves ``leases/write-TOKEN`` on the backend while it stores a snapshot, whoever thins leaves
``leases/thin-TOKEN``; each looks for the other kind after it has written its own, so one of them always
sees the other. Writers do not mind one another. A lease of a process that has ended does not count. Of one from
elsewhere that cannot be seen: each is written anew every so often, and one that nobody has written for a while was
left by somebody who is dead.
"""

from __future__ import annotations

import contextlib
import json
import secrets
import socket
import threading
from collections.abc import Iterator
from datetime import datetime
from typing import Any, Literal

from ..errors import StoreBusy, StoreError
from ..process import is_gone, this_process
from .backend import Backend

BEAT = 30.0  # seconds
DEAD = 600.0  # seconds without a beat
Kind = Literal["write", "thin"]


@contextlib.contextmanager
def lease(backend: Backend, kind: Kind) -> Iterator[None]:
    """Hold a lease while the context lasts.

    Raises:
        StoreBusy: a writer is at work (for ``thin``), or somebody who thins (for both kinds).
    """
    name = f"leases/{kind}-{secrets.token_hex(6)}"
    text = json.dumps(
        {
            "host": socket.gethostname(),
            "since": datetime.now().astimezone().isoformat(timespec="seconds"),
            **this_process(),
        }
    ).encode()
    backend.write(name, text)
    backend.settle()
    over = threading.Event()

    def beat() -> None:
        while not over.wait(BEAT):
            with contextlib.suppress(StoreError):
                backend.write(name, text)
                backend.settle()

    thread = threading.Thread(target=beat, name="lease", daemon=True)
    try:
        _alone(backend, name, kind)
        thread.start()
        yield
    finally:
        over.set()
        if thread.ident is not None:
            thread.join()
        with contextlib.suppress(StoreError):
            backend.remove(name)


def _alone(backend: Backend, mine: str, kind: Kind) -> None:
    ours = backend.age(mine) or 0.0  # by which the backend's clock differs from this machine's
    for name, _ in list(backend.names("leases")):
        theirs = name.rpartition("/")[2].partition("-")[0]
        if name == mine or (kind == "write" and theirs == "write"):
            continue
        age = backend.age(name)
        if age is None:
            continue
        if age - ours > DEAD:
            backend.remove(name)
            continue
        said: dict[str, Any] = {"host": "somebody", "since": "a while"}
        with contextlib.suppress(StoreError, ValueError, TypeError):
            said |= json.loads(backend.read(name))
        # Without its start, a process elsewhere may be taken for one of ours: machines can have one name.
        if said.get("started") and is_gone(said):
            backend.remove(name)
            continue
        doing = "thins" if theirs == "thin" else "writes to"
        since = str(said["since"]).replace("T", " ")[:16]
        raise StoreBusy(
            f"{said['host']} {doing} the store in {backend.where} since {since}; come again when that has ended"
        )
