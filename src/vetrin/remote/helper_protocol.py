"""The exchange between Vetrin and its helper on a host.

A request and its answer are each a sequence of frames: four bytes of length (big-endian), one of kind,
then the content. A request begins with a JSON frame ``{"do": NAME, …}`` and ends with an END frame; so
does an answer, unless it ends with an ERROR frame (JSON with ``message``, ``path``, ``missing``, ``denied``).
DATA and PACKED frames (the latter deflated, RFC 1950) carry a stream of records: one byte of kind, four of length
(big-endian), then the content. Nothing in a request depends on an earlier one, so it can travel by any
channel that carries bytes. In JSON, a path is text in which each byte that is no printable ASCII, and
``%``, is written as ``%XX``.
"""

from __future__ import annotations

import json
import os
import struct
import zlib
from collections.abc import Iterable, Iterator
from typing import Any, Protocol
from urllib.parse import quote_from_bytes, unquote_to_bytes

HEAD = struct.Struct(">IB")
RECORD = struct.Struct(">BI")
JSON, DATA, PACKED, END, ERROR = 1, 2, 3, 4, 5
BEGIN, BYTES, SPAN, DONE, LOST = 1, 2, 3, 4, 5  # kinds of records
FRAME = 1 << 18
_LONGEST = 1 << 27  # bytes of one frame: what is larger was never sent by a helper

Content = bytes | bytearray
_SAFE = "".join(chr(c) for c in range(0x20, 0x7F) if chr(c) != "%")
NO_ANSWER = "what answers is no helper"
# What taking an answer apart ends with that is of another form than a helper's.
MALFORMED = (
    AssertionError, AttributeError, IndexError, KeyError, RecursionError, TypeError, json.JSONDecodeError,
    struct.error, UnicodeDecodeError,
)  # fmt: skip
_TRIES = 8  # frames that go as they are after one that did not shrink


class Channel(Protocol):
    """What carries frames: anything that bytes go into and come out of."""

    def take_into(self, into: memoryview) -> int:
        """Fill some of ``into``; how many bytes. Waits for the first; 0 at the end."""

    def sendall(self, data: bytes) -> None:
        """Send all of it; returns when it is on its way."""


class ExchangeError(Exception):
    """The other side said that something went wrong, or said nothing that can be understood."""

    def __init__(
        self, message: str, path: str = "", missing: bool = False, denied: bool = False
    ) -> None:
        super().__init__(message)
        self.path = path
        self.missing = missing
        self.denied = denied


class BrokenOff(ExchangeError):
    """An answer ended before it was whole: who gave it is gone, or the way to it."""


def escaped(path: str) -> str:
    """A path as it travels in JSON."""
    if path.isascii() and path.isprintable() and "%" not in path:
        return path
    return quote_from_bytes(os.fsencode(path), safe=_SAFE)


def unescaped(text: str) -> str:
    return text if "%" not in text else os.fsdecode(unquote_to_bytes(text))


def frame(kind: int, content: bytes = b"") -> bytes:
    return HEAD.pack(len(content), kind) + content


def record(kind: int, content: bytes = b"") -> bytes:
    return RECORD.pack(kind, len(content)) + content


class Packing:
    """Deflates frames where that makes them smaller, and stops trying for a while where not."""

    def __init__(self, wanted: bool) -> None:
        self._wanted = wanted
        self._rest = 0

    def __call__(self, content: bytes) -> bytes:
        if self._wanted and len(content) > 512:
            if self._rest:
                self._rest -= 1
            else:
                packed = zlib.compress(content, 1)
                if len(packed) < 0.9 * len(content):
                    return frame(PACKED, packed)
                self._rest = _TRIES
        return frame(DATA, content)


class Frames:
    """Requests over one channel, one after the other."""

    def __init__(self, channel: Channel) -> None:
        self._channel = channel

    def ask(self, do: str, **values: Any) -> dict[str, Any]:
        """A request whose answer is one JSON frame.

        Raises:
            ExchangeError: the helper could not do it.
        """
        return _said(self.begin(do, **values))

    def begin(self, do: str, **values: Any) -> Iterator[tuple[int, Content]]:
        """A request without data; the frames of its answer, PACKED ones unpacked to DATA."""
        head = json.dumps({"do": do, **values}).encode()
        self._channel.sendall(frame(JSON, head) + frame(END))
        return self.answer()

    def send(
        self, do: str, records: Iterable[bytes], packing: Packing, **values: Any
    ) -> dict[str, Any]:
        """A request with a stream of records; the answer's JSON."""
        return _said(self.begin_with(do, records, packing, **values))

    def begin_with(
        self, do: str, records: Iterable[bytes], packing: Packing, **values: Any
    ) -> Iterator[tuple[int, Content]]:
        """A request with a stream of records; the frames of its answer."""
        send = self._channel.sendall
        send(frame(JSON, json.dumps({"do": do, **values}).encode()))
        waiting: list[bytes] = []
        size = 0
        for part in records:
            waiting.append(part)
            size += len(part)
            if size >= FRAME:
                # A large record is cut: the other end may have little memory.
                whole = b"".join(waiting)
                end = size - size % FRAME
                for at in range(0, end, FRAME):
                    send(packing(whole[at : at + FRAME]))
                waiting = [whole[end:]]
                size -= end
        if size:
            send(packing(b"".join(waiting)))
        send(frame(END))
        return self.answer()

    def said(self) -> dict[str, Any]:
        """The JSON of an answer."""
        return _said(self.answer())

    def answer(self) -> Iterator[tuple[int, Content]]:
        """The frames up to END, PACKED ones unpacked to DATA.

        Raises:
            ExchangeError: in place of an ERROR frame; BrokenOff where it ends before its time.
        """
        while True:
            length, kind = HEAD.unpack(self.exactly(HEAD.size))
            if kind > ERROR or length > _LONGEST:  # a log-in message, or another program's answer
                raise ExchangeError(NO_ANSWER)
            content = self.exactly(length)
            if kind == END:
                return
            if kind == ERROR:
                raise _error(content)
            if kind == PACKED:
                yield DATA, _unpacked(content)
            else:
                yield kind, content

    def exactly(self, size: int) -> bytearray:
        """The next ``size`` bytes of the channel, and not one more."""
        return exactly(self._channel, size, "the helper ended in the middle of its answer")


def exactly(channel: Channel, size: int, ended: str) -> bytearray:
    """The next ``size`` bytes of a channel.

    Raises:
        BrokenOff: ``ended`` is what is said of it.
    """
    found = bytearray(size)
    rest = memoryview(found)
    while rest:
        count = channel.take_into(rest)
        if not count:
            raise BrokenOff(ended)
        rest = rest[count:]
    return found


def _unpacked(content: Content) -> bytes:
    """What a frame holds, which is no more than an unpacked one could."""
    tool = zlib.decompressobj()
    try:
        found = tool.decompress(content, _LONGEST)
    except zlib.error as error:
        raise ExchangeError(NO_ANSWER) from error
    if not tool.eof or tool.unused_data:
        raise ExchangeError(NO_ANSWER)
    return found


def _error(content: Content) -> ExchangeError:
    try:
        said = json.loads(content)
        return ExchangeError(
            str(said["message"]), unescaped(str(said.get("path", ""))), bool(said.get("missing")),
            bool(said.get("denied")),
        )  # fmt: skip
    except MALFORMED:
        return ExchangeError(NO_ANSWER)


def _said(answer: Iterable[tuple[int, Content]]) -> dict[str, Any]:
    """The JSON of an answer."""
    found: dict[str, Any] = {}
    for kind, content in answer:
        if kind == JSON:
            try:
                found = json.loads(content)
            except (ValueError, RecursionError) as error:
                raise ExchangeError(NO_ANSWER) from error
    if not isinstance(found, dict):
        raise ExchangeError(NO_ANSWER)
    return found


def records(frames: Iterable[tuple[int, Content]]) -> Iterator[tuple[int, memoryview]]:
    """The records in a stream of frames: kind and content, which is not copied."""
    rest = b""
    for kind, content in frames:
        if kind != DATA:
            continue
        if rest:
            content = rest + content
        view = memoryview(content)
        at, end = 0, len(content)
        while at + RECORD.size <= end:
            what, length = RECORD.unpack_from(content, at)
            stop = at + RECORD.size + length
            if stop > end:
                break
            yield what, view[at + RECORD.size : stop]
            at = stop
        rest = bytes(view[at:])
