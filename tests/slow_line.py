"""A line that is slow: 40 ms there and back and 50 Mbit/s, in front of a server on this machine.

The kernel here has no queue that delays packets, so the line is a process in between: each block waits its 20 ms and
its turn.
"""

from __future__ import annotations

import asyncio
import contextlib
import multiprocessing
import time
from collections import deque
from typing import Any

import systems

DELAY, RATE = 0.020, 50e6 / 8  # seconds one way; bytes per second


class SlowLine:
    """Forwards one port to another, each way with a delay and at a rate.

    ``ways`` counts ways there and back: how often one side spoke after it had heard from the other. What it says
    ``together`` seconds or less after the last of these counts as one with it: it had not waited for an answer.
    """

    def __init__(self, to: int, delay: float = DELAY, together: float = 0) -> None:
        context = multiprocessing.get_context("fork")
        self.port = systems.free_port()
        self._ways: Any = context.Value("i", 0)
        self._process = context.Process(
            target=lambda: asyncio.run(_serve(self.port, to, self._ways, delay, together)),
            daemon=True,
        )
        self._process.start()
        time.sleep(0.5)

    @property
    def ways(self) -> int:
        return int(self._ways.value)

    def stop(self) -> None:
        self._process.kill()


async def _serve(port: int, to: int, ways: Any, delay: float, together: float) -> None:
    busy = {"up": 0.0, "down": 0.0}  # until when each way of the whole line is taken
    counted = 0.0
    heard = False  # from the server, since something was last said to it

    async def one_way(way: str, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        waiting: deque[tuple[float, bytes]] = deque()
        change = asyncio.Event()

        async def deliver() -> None:
            while True:
                while not waiting:
                    change.clear()
                    await change.wait()
                due, block = waiting.popleft()
                await asyncio.sleep(max(0.0, due - time.monotonic()))
                if not block:
                    with contextlib.suppress(OSError):
                        writer.write_eof()
                    return
                writer.write(block)

        task = asyncio.ensure_future(deliver())
        with contextlib.suppress(ConnectionError):
            while True:
                block = await reader.read(8192)
                now = time.monotonic()
                count(way, block)
                busy[way] = max(busy[way], now) + len(block) / RATE
                waiting.append((busy[way] + delay, block))
                change.set()
                if not block:
                    break
                # What is on the line and what may wait before it: as a router's buffer.
                if busy[way] - now > 0.1:
                    await asyncio.sleep(busy[way] - now - 0.1)
        await task

    def count(way: str, block: bytes) -> None:
        nonlocal heard, counted
        if block:
            if way == "up" and heard and time.monotonic() - counted > together:
                ways.value += 1
                counted = time.monotonic()
            heard = way == "down"

    async def both(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        there, back = await asyncio.open_connection("127.0.0.1", to)
        await asyncio.gather(one_way("up", reader, back), one_way("down", there, writer))

    server = await asyncio.start_server(both, "127.0.0.1", port)
    await server.serve_forever()
