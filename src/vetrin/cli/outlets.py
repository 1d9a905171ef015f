"""The one place where text leaves the program.

Nothing in it moves a terminal's cursor or hides what stands there, whatever site, server or archive it came from. And
a stream that is closed, full, or of an encoding without our letters, ends no run and changes no exit code.
"""

from __future__ import annotations

import contextlib
import errno
import os
import re
import sys
from collections.abc import Iterable
from typing import Any

from rich.console import Console, ConsoleOptions, RenderableType
from rich.segment import Segment
from rich.theme import Theme

# Control characters but for the end of a line and the tabulator; what turns the direction of writing round or is no
# part of any text.
_UNSEEN = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ufeff\ud800-\udfff]"
)


def shown(text: str) -> str:
    """A text as it may go to a terminal: what would not be seen there is written out."""
    return _UNSEEN.sub(_written_out, text)


def _written_out(found: re.Match[str]) -> str:
    code = ord(found[0])
    if 0xDC80 <= code <= 0xDCFF:  # a byte of what is no text
        code -= 0xDC00
    return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}"


def as_json(text: str) -> str:
    """A JSON document that may go to a terminal as well; it says the same."""
    return _UNSEEN.sub(lambda found: f"\\u{ord(found[0]):04x}", text)


# Readable on light ground and on dark: four to six to one on white and on black.
_PALETTE = Theme(
    {
        "good": "bold color(28)",
        "bad": "bold color(160)",
        "warning": "bold color(130)",
        "name": "bold color(31)",
        "track": "color(244)",
        "done": "color(31)",
    }
)
# Of sixteen colours, only these two can be read on either ground.
_FEW_COLORS = Theme(
    {
        "good": "bold",
        "bad": "bold red",
        "warning": "bold magenta",
        "name": "bold",
        "track": "dim",
        "done": "bold",
    }
)


class Screen(Console):
    """A console to which no text brings control characters of its own; ``color`` is auto, always or never."""

    def __init__(self, *, color: str = "auto", **settings: Any) -> None:
        if color != "auto":
            # A terminal's own means are found out only where it is one.
            settings["color_system"] = "256" if color == "always" else None
            settings["no_color"] = color == "never"
        super().__init__(theme=_PALETTE, **settings)
        if self.color_system in ("standard", "windows"):
            self.push_theme(_FEW_COLORS)

    def render(
        self, renderable: RenderableType, options: ConsoleOptions | None = None
    ) -> Iterable[Segment]:
        for segment in super().render(renderable, options):
            if segment.control or not _UNSEEN.search(segment.text):
                yield segment
            else:
                yield Segment(shown(segment.text), segment.style)

    def on_broken_pipe(self) -> None:
        """Who reads it has gone; an ``Outlet`` has seen to that."""


class Outlet:
    """A stream of text that may be lost. ``lost`` is why, once it is; from then on nothing is said there."""

    def __init__(self, stream: Any) -> None:
        self._stream = stream
        self.lost: OSError | None = None
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")

    def write(self, text: str) -> int:
        if self.lost is None:
            try:
                self._stream.write(text)
            except OSError as error:
                self._lose(error)
        return len(text)

    def flush(self) -> None:
        if self.lost is None:
            try:
                self._stream.flush()
            except OSError as error:
                self._lose(error)

    def _lose(self, error: OSError) -> None:
        self.lost = error
        # What still waits in the stream would be tried once more at the end.
        with contextlib.suppress(OSError, ValueError):
            os.dup2(os.open(os.devnull, os.O_WRONLY), self._stream.fileno())

    @property
    def full(self) -> OSError | None:
        """Why it was lost, unless its reader went on purpose."""
        gone = self.lost is not None and self.lost.errno == errno.EPIPE
        return None if gone else self.lost

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


def open_up() -> None:
    """Give the process its three streams, whatever it was started with."""
    for number in range(3):
        try:
            os.fstat(number)
        except OSError:
            # Else the next file that is opened would get its number, and what is said to it.
            os.open(os.devnull, os.O_RDWR)
    if sys.stdin is None:
        sys.stdin = open(0, encoding="utf-8", closefd=False)  # noqa: SIM115
    for name, number in (("stdout", 1), ("stderr", 2)):
        stream = getattr(sys, name)
        if stream is None:
            stream = open(number, "w", encoding="utf-8", closefd=False)  # noqa: SIM115
        if not isinstance(stream, Outlet):
            setattr(sys, name, Outlet(stream))
