"""A process beside this one, for work in Python: of that only one thread of a process can do something at a time.

It holds nothing that is needed: it is told something, and says what it makes of that. It sees no signal for us, and
ends when we do.

What is said between the two: a length (64 bits, little-endian) and so many bytes of ``marshal``, either way.
"""

from __future__ import annotations

import contextlib
import marshal
import struct
import subprocess
import sys
from collections.abc import Callable, Sequence
from typing import IO, Any

import msgspec

from .base import Table

WORTH = 16 << 20  # bytes of a table; with fewer, starting a process takes longer
LOST = (
    OSError,
    EOFError,
    ValueError,
    TypeError,
)  # what ``ask`` raises where there is none any more
_LENGTH = struct.Struct("<Q")
_FORM = 2  # of marshal: in later ones each value is looked up among those before
_PROGRAM = (
    "import marshal, sys; sys.path[:] = marshal.load(sys.stdin.buffer);"
    "from {module} import work; work(sys.stdin.buffer, sys.stdout.buffer)"
)
_PIPE = 1 << 20  # bytes on their way, where the system lets us say so


class SideProcess:
    """Runs the function ``work`` of a module, which mostly is ``answer_all``. It gets the open files ``keeps``, under
    the numbers that they have here."""

    def __init__(self, module: str, keeps: Sequence[int] = ()) -> None:
        """Raises OSError."""
        quiet = ["-B"] if sys.dont_write_bytecode else []
        self._process = subprocess.Popen(
            [sys.executable, "-I", *quiet, "-c", _PROGRAM.format(module=module)],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            start_new_session=True,  # so that no signal for us reaches it
            pipesize=_PIPE,
            pass_fds=tuple(keeps),
        )
        assert self._process.stdin is not None and self._process.stdout is not None
        self._to, self._from = self._process.stdin, self._process.stdout
        try:
            self._to.write(marshal.dumps(sys.path))
        except OSError:
            self.end()
            raise

    @property
    def pid(self) -> int:
        return self._process.pid

    def ask(self, *question: Any) -> Any:
        """What it says to something, one question at a time. Raises one of LOST."""
        say(self._to, question)
        return self.hear()

    def hear(self) -> Any:
        """What it says besides, to the same question. Raises one of LOST."""
        return _heard(self._from)

    def kill(self) -> None:
        """Have it end, so that nobody waits for what it would say."""
        self._process.kill()

    def end(self) -> None:
        """Have it end, and wait for that."""
        for stream in (self._to, self._from):
            with contextlib.suppress(OSError):
                stream.close()
        self._process.kill()
        self._process.wait()


def answer_all(questions: IO[bytes], answers: IO[bytes], answer: Callable[..., Any]) -> None:
    """What such a process does, until nobody asks any more."""
    with contextlib.suppress(EOFError, BrokenPipeError):
        while True:
            say(answers, answer(*_heard(questions)))


def plain(table: Table) -> Any:
    """A table as ``marshal`` takes it."""
    return msgspec.to_builtins(table)


def table_of(words: Any) -> Table:
    """The table again."""
    return msgspec.convert(words, Table)


def say(stream: IO[bytes], words: Any) -> None:
    """Say something. Raises OSError."""
    content = marshal.dumps(words, _FORM)
    stream.write(_LENGTH.pack(len(content)))
    stream.write(content)
    stream.flush()


def _heard(stream: IO[bytes]) -> Any:
    (length,) = _LENGTH.unpack(_all(stream, _LENGTH.size))
    return marshal.loads(_all(stream, length))


def _all(stream: IO[bytes], size: int) -> bytes:
    content = stream.read(size)
    if len(content) < size:
        raise EOFError
    return content
