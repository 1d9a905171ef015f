"""The helpers of a host that is reached over SSH: each runs there for as long as the connection lasts.

It is Python or PHP, whichever the host has, started by the account's shell and fed with its own text; not
a file of it lies on the host. Each thread that works with it has a helper of its own.
"""

from __future__ import annotations

import json
import queue
import struct
import threading
import time
from collections.abc import Iterator, Sequence
from concurrent.futures import Future
from contextlib import contextmanager
from typing import Any

from ...errors import ConnectionFailed, ConnectionLost, PortClosed
from ...files import printable
from ..helper_machine import Hello
from ..helper_protocol import JSON, ExchangeError, Frames
from ..helper_scripts import PHP, PYTHON, source
from .channel import Pipe
from .connection import Line

FORMS = (
    # What starts it, how its text is named, and how it is told apart in messages.
    ("helper.py", f"exec python3 -I -c '{PYTHON}'", "Python 3"),
    ("helper.php", f"exec php -d display_errors=stderr -r '{PHP}'", "PHP"),
)
# Seconds in which a helper says hello, beyond the way there and back: where nobody knows yet whether one runs there,
# and of a host that is known to run them and may be busy. A line that is gone is told by itself.
_FIRST, _FURTHER = 45.0, 180.0
_PROBE = 1 << 16  # bytes that measure the line


class NoHelper(Exception):
    """The host runs no helper; the message says why."""


class Helpers:
    """The helpers of one host: as many as work goes on at a time.

    Raises:
        NoHelper: the account has no shell, or neither Python 3 nor PHP.
        ConnectionFailed: the host cannot be reached.
    """

    def __init__(self, line: Line, *, gentle: bool = False, forms: Sequence[str] = ()) -> None:
        self.line = line
        self._gentle = gentle
        self._idle: queue.SimpleQueue[_Helper] = queue.SimpleQueue()
        self._coming: Future[_Helper] | None = None  # on the connection that compresses
        reasons = []
        self._name = self.command = ""
        for name, command, title in FORMS:
            if forms and name not in forms:
                continue
            try:
                self._name, self.command = name, command
                first = _Helper(line=line, name=name, command=command, gentle=gentle, probe=_PROBE)
            except NoHelper as error:
                reasons.append(f"{title}: {error}")
                continue
            self.hello = first.hello
            self._idle.put(first)
            return
        raise NoHelper("; ".join(reasons))

    @contextmanager
    def one(self) -> Iterator[Frames]:
        """A helper for some requests; it is given back if they ended well."""
        helper = self._taken()
        try:
            yield helper.frames
        except ExchangeError as error:
            if helper.ended:
                raise ConnectionLost(
                    f"{self.line.account}: the helper ended{helper.complaint}"
                ) from error
            self._idle.put(helper)
            raise
        except BaseException:
            helper.pipe.close()
            raise
        else:
            self._idle.put(helper)

    def relay(self, *, bulk: bool = False, **where: Any) -> Pipe:
        """A connection from the host to a port or a socket there, through a helper of its own; ``bulk``: for many
        bytes.

        Raises:
            ConnectionFailed: nothing answers there.
        """
        # One that also tells prints has work of its own.
        gentle = self._gentle and "word" in where
        helper = self._another(gentle=gentle, packed=bulk and self.line.slow)
        try:
            helper.frames.ask("relay", **where)
        except ExchangeError as error:
            raise ConnectionFailed(f"{error.path}: {error}") from error
        return helper.pipe

    def session(self, *, bulk: bool = False) -> tuple[Frames, Pipe]:
        """A helper of one's own, for as long as one likes; ``bulk``: for many bytes."""
        helper = self._another(packed=bulk and self.line.slow)
        return helper.frames, helper.pipe

    def expect_bulk(self) -> None:
        """Have one for many bytes ready by the time it is needed, where that takes a connection of its own and nobody
        has to be asked."""
        if self._coming is None and self.line.slow and not self.line.asked:
            self._coming = Future()
            threading.Thread(target=self._come, args=(self._coming,), daemon=True).start()

    def _come(self, coming: Future[_Helper]) -> None:
        try:
            helper = self._made(gentle=self._gentle, packed=True)
        except Exception as error:  # whatever it is, it is met again where it matters
            if coming.set_running_or_notify_cancel():
                coming.set_exception(error)
            return
        if coming.set_running_or_notify_cancel():
            coming.set_result(helper)
        else:
            helper.pipe.close()

    @property
    def account(self) -> str:
        return self.line.account

    @property
    def slow(self) -> bool:
        return self.line.slow

    def close(self) -> None:
        while not self._idle.empty():
            self._idle.get().pipe.close()
        coming, self._coming = self._coming, None
        if coming is not None and not coming.cancel() and coming.exception() is None:
            coming.result().pipe.close()

    def _taken(self) -> _Helper:
        while not self._idle.empty():
            helper = self._idle.get()
            if not helper.ended:
                return helper
        return self._another(gentle=self._gentle)

    def _another(self, *, gentle: bool = False, packed: bool = False) -> _Helper:
        """One more."""
        coming = self._coming
        if packed and coming is not None and gentle == self._gentle:
            self._coming = None
            if coming.exception() is None and not coming.result().ended:
                return coming.result()
        return self._made(gentle=gentle, packed=packed)

    def _made(self, *, gentle: bool, packed: bool) -> _Helper:
        """One more. That the host runs such is known, so one that does not come is a line that broke."""
        try:
            return _Helper(
                line=self.line,
                name=self._name,
                command=self.command,
                gentle=gentle,
                probe=0,
                packed=packed,
            )
        except NoHelper as error:
            raise ConnectionLost(
                f"{self.line.account}: no further helper came up ({error})"
            ) from error


_NO_HELLO = (
    ExchangeError,
    LookupError,
    TypeError,
    ValueError,
    struct.error,
)  # what is no answer of ours


class _Helper:
    def __init__(
        self,
        line: Line,
        name: str,
        command: str,
        gentle: bool,
        probe: int,
        *,
        packed: bool = False,
    ) -> None:
        text = source(name)
        try:
            self.pipe = line.command(command, packed=packed)
        except PortClosed as error:
            raise NoHelper(str(error)) from error
        self.frames = Frames(self.pipe)
        self.pipe.settimeout((_FIRST if probe else _FURTHER) + 10 * line.latency)
        begun = time.perf_counter()
        try:
            self.pipe.sendall(b"%d\n%s" % (len(text), text))
            said: dict[str, Any] = {}
            for kind, content in self.frames.begin("hello", gentle=gentle, probe=probe):
                if kind == JSON:
                    said = json.loads(content)
                    begun = time.perf_counter()
                elif probe:
                    line.rate = len(content) / max(time.perf_counter() - begun, 0.0005)
            self.hello = Hello.of(said)
        except (
            ExchangeError,
            ConnectionLost,
            TimeoutError,
            LookupError,
            TypeError,
            ValueError,
            struct.error,
        ) as error:
            self.pipe.close()
            if isinstance(error, ConnectionLost) and not line.alive:
                raise
            raise NoHelper(self.complaint.lstrip(" :(").rstrip(")") or str(error)) from error
        self.pipe.settimeout(None)

    @property
    def ended(self) -> bool:
        return self.pipe.ended

    @property
    def complaint(self) -> str:
        lines = self.pipe.complaint.decode("utf-8", "replace").strip().splitlines()
        return f" ({printable(lines[-1][:200])})" if lines else ""
