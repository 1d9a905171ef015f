"""An SSH server of our own, in this process, that says and lists what it likes."""

from __future__ import annotations

import asyncio
import contextlib
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import asyncssh

from systems import free_port


@contextlib.contextmanager
def hostile_ssh(
    home: Path, server: type[asyncssh.SSHServer], comment: str = "", **options: Any
) -> Iterator[str]:
    """Its address, while the context lasts; the SSH configuration of a user whose home that is knows its key."""
    port, key = free_port(), asyncssh.generate_private_key("ssh-ed25519", comment=comment)
    (home / ".ssh").mkdir(parents=True, mode=0o700)
    kind, public = key.export_public_key().decode().split()[:2]
    (home / ".ssh/known_hosts").write_text(f"[127.0.0.1]:{port} {kind} {public}\n")
    loop, ready = asyncio.new_event_loop(), threading.Event()

    async def serve() -> None:
        await asyncssh.create_server(server, "127.0.0.1", port, server_host_keys=[key], **options)
        ready.set()

    def run() -> None:
        loop.run_until_complete(serve())
        loop.run_forever()

    thread = threading.Thread(target=run, daemon=True)
    thread.start()
    assert ready.wait(20)
    try:
        yield f"ssh://operator@127.0.0.1:{port}"
    finally:
        loop.call_soon_threadsafe(loop.stop)
        thread.join(20)
