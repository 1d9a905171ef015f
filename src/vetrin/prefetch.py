"""Reading ahead: a thread fetches and rewrites while the caller writes."""

from __future__ import annotations

import contextlib
import queue
import sys
import threading
from collections.abc import Iterable, Iterator
from typing import TypeVar

Item = TypeVar("Item")
_END = object()
# Seconds after which a thread lets the other one in. Python's usual 5 ms would leave the server
# waiting for the writer at each block.
_SWITCH = 0.0005


@contextlib.contextmanager
def ahead(items: Iterable[Item], depth: int = 3) -> Iterator[Iterator[Item]]:
    """Iterate over ``items`` in a thread of its own, at most ``depth`` of them in flight.

    An error in ``items`` is raised where the caller reads on. Leaving the context stops the thread
    and waits for it, so that a connection is never used by two.
    """
    waiting: queue.Queue[object] = queue.Queue(depth)
    stop = threading.Event()

    def put(item: object) -> bool:
        while not stop.is_set():
            try:
                waiting.put(item, timeout=0.1)
            except queue.Full:
                continue
            return True
        return False

    def work() -> None:
        try:
            for item in items:
                if not put(item):
                    break
        except BaseException as error:
            put(error)
        finally:
            close = getattr(items, "close", None)
            if close is not None:
                close()
            put(_END)

    def taken() -> Iterator[Item]:
        while True:
            item = waiting.get()
            if item is _END:
                return
            if isinstance(item, BaseException):
                raise item
            yield item  # type: ignore[misc]

    thread = threading.Thread(target=work, name="reader", daemon=True)
    usual = sys.getswitchinterval()
    sys.setswitchinterval(_SWITCH)
    thread.start()
    try:
        yield taken()
    finally:
        sys.setswitchinterval(usual)
        stop.set()
        thread.join()
