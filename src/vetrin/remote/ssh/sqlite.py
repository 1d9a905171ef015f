"""An embedded database on a host: its statements are run there, by the helper."""

from __future__ import annotations

import re
import sqlite3
import struct
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from ...database.row_codec import Text
from ...database.sqlite.database import CONNECTION_LOST
from ...errors import ConnectionFailed
from ...files import FileChange, Machine, RemotePath, spot_there
from ...spot import Spot
from ..helper_protocol import (
    BEGIN,
    BYTES,
    DATA,
    DONE,
    LOST,
    NO_ANSWER,
    SPAN,
    Content,
    ExchangeError,
    Frames,
    escaped,
    frame,
    record,
    records,
)
from .channel import Pipe
from .helper_client import Helpers

_CELL = struct.Struct(">cI")
_DIGEST = re.compile(rb"[0-9]+-[0-9]+")
_TOGETHER = 500  # questions that are under way at a time


class HelperOpener:
    """Opens databases through the helper."""

    unwritable = ""

    def __init__(self, helpers: Helpers, machine: Machine) -> None:
        self._helpers = helpers
        self._machine = machine

    def exists(self, path: str) -> bool:
        return RemotePath(self._machine, path).is_file()

    def identity(self, path: str) -> str:
        return f"{self._helpers.line.host}{self._machine.real(path)}"

    def spot(self, path: str) -> Spot | None:
        return spot_there(self._machine, self._helpers.line.host.name, path)

    def absolute(self, path: str) -> str:
        return path

    def connect(self, path: str, mode: str, *, bulk: bool = False) -> Any:
        if not self._helpers.hello.sqlite:
            raise sqlite3.OperationalError(
                f"{self._helpers.hello.form} there has no SQLite; install its module"
            )
        try:
            frames, pipe = self._helpers.session(bulk=bulk)
            said = frames.ask("sqlite", path=escaped(path), mode=mode)
        except (ConnectionFailed, ExchangeError) as error:
            raise sqlite3.OperationalError(str(error)) from error
        if "failed" in said:
            pipe.close()
            raise sqlite3.OperationalError(said["failed"])
        return RemoteConnection(frames, pipe, digests=self._helpers.hello.row_digests)

    def make_folder(self, path: str) -> None:
        self._machine.act([FileChange("folder", path.rpartition("/")[0])])


class RemoteConnection:
    """As much of ``sqlite3.Connection`` as is used, for a database on a host."""

    def __init__(self, frames: Frames, pipe: Pipe, *, digests: bool = False) -> None:
        """With ``digests``, the helper makes digests of rows."""
        self.makes_digests = digests
        self._frames = frames
        self._pipe = pipe
        self._answers = records(self._answer())
        self._open: RemoteCursor | None = None
        self.text_factory: Any = Text

    def execute(self, sql: str, values: Sequence[Any] = ()) -> RemoteCursor:
        return self._run(sql, [values] if values else [])

    def executemany(self, sql: str, rows: Iterable[Sequence[Any]]) -> RemoteCursor:
        listed = list(rows)
        return self._run(sql, listed) if listed else RemoteCursor(iter(()))

    def several(
        self, asked: Sequence[tuple[str, Sequence[Any]]]
    ) -> list[list[tuple[Any, ...]] | sqlite3.Error]:
        """The rows of some short questions, or what is said of one: all are sent before the first answer is read.

        Raises:
            sqlite3.OperationalError: the connection was lost.
        """
        return self._each([_statement(sql, [values] if values else []) for sql, values in asked])

    def digests(self, asked: Sequence[tuple[str, Sequence[Any]]]) -> list[str]:
        """The digests (``database/digests.py``) of the rows that some short questions give, which stay where they
        are.

        Raises:
            sqlite3.Error: one of them cannot be answered, or the connection was lost.
        """
        found = []
        for at in range(0, len(asked), _TOGETHER):
            parts = [
                [*_statement(sql, [values] if values else [])[:-1], record(SPAN), record(DONE)]
                for sql, values in asked[at : at + _TOGETHER]
            ]
            for answer in self._each(parts):
                if isinstance(answer, sqlite3.Error):
                    raise answer
                cells = [cell for row in answer for cell in row]
                told = cells[0] if len(cells) == 1 and isinstance(cells[0], bytes) else b""
                if not _DIGEST.fullmatch(told):
                    raise sqlite3.OperationalError(f"{CONNECTION_LOST}: {NO_ANSWER}")
                found.append(told.decode("ascii"))
        return found

    def _each(
        self, statements: Sequence[Sequence[bytes]]
    ) -> list[list[tuple[Any, ...]] | sqlite3.Error]:
        if self._open is not None:
            self._open.gather()
        self._send([part for parts in statements for part in parts])
        found: list[list[tuple[Any, ...]] | sqlite3.Error] = []
        for _ in statements:
            try:
                found.append(RemoteCursor(self._answers).fetchall())
            except sqlite3.OperationalError as error:
                if CONNECTION_LOST in str(error):
                    raise
                found.append(error)
        return found

    def close(self) -> None:
        self._pipe.close()

    def _run(self, sql: str, rows: Sequence[Sequence[Any]]) -> RemoteCursor:
        if self._open is not None:
            self._open.gather()  # one statement at a time goes through
        self._send(_statement(sql, rows))
        self._open = RemoteCursor(self._answers)
        if not sql.lstrip()[:6].upper().startswith(("SELECT", "PRAGMA")):
            self._open.gather()
        return self._open

    def _send(self, parts: Sequence[bytes]) -> None:
        try:
            self._pipe.sendall(frame(DATA, b"".join(parts)))
        except ConnectionFailed as error:
            raise sqlite3.OperationalError(str(error)) from error

    def _answer(self) -> Iterator[tuple[int, Content]]:
        try:
            yield from self._frames.answer()
        except (ExchangeError, ConnectionFailed) as error:
            raise sqlite3.OperationalError(f"{CONNECTION_LOST}: {error}") from error


class RemoteCursor:
    """Rows as they come; what was not taken is gathered before the next statement."""

    def __init__(self, answers: Iterator[tuple[int, memoryview]]) -> None:
        self._answers = answers
        self._rows: list[tuple[Any, ...]] = []
        self._done = False
        self._closed = False
        self.rowcount = -1

    def __iter__(self) -> Iterator[tuple[Any, ...]]:
        while (row := self.fetchone()) is not None:
            yield row

    def fetchone(self) -> tuple[Any, ...] | None:
        if self._rows:
            return self._rows.pop(0)
        return None if self._done else self._next()

    def fetchall(self) -> list[tuple[Any, ...]]:
        return list(self)

    def gather(self) -> None:
        while not self._done:
            row = self._next()
            if row is not None and not self._closed:
                self._rows.append(row)

    def close(self) -> None:
        self._closed = True
        self._rows.clear()

    def _next(self) -> tuple[Any, ...] | None:
        for kind, content in self._answers:
            if kind == BYTES:
                return tuple(_values(bytes(content)))
            self._done = True
            if kind == LOST:
                raise sqlite3.OperationalError(bytes(content).decode("utf-8", "replace"))
            self.rowcount = int(bytes(content))
            return None
        self._done = True
        return None


def _statement(sql: str, rows: Sequence[Sequence[Any]]) -> list[bytes]:
    return [
        record(BEGIN, sql.encode()),
        *(record(BYTES, _cells(row)) for row in rows),
        record(DONE),
    ]


def _cells(row: Sequence[Any]) -> bytes:
    parts = []
    for value in row:
        if value is None:
            parts.append(_CELL.pack(b"N", 0))
            continue
        if isinstance(value, float):
            letter, content = b"F", struct.pack(">d", value)
        elif isinstance(value, int):
            letter, content = b"I", b"%d" % value
        elif isinstance(value, str):
            letter, content = b"T", value.encode()
        else:
            letter, content = b"B", bytes(value)
        parts.append(_CELL.pack(letter, len(content)) + content)
    return b"".join(parts)


def _values(content: bytes) -> Iterator[Any]:
    at = 0
    while at < len(content):
        letter, length = _CELL.unpack_from(content, at)
        at += _CELL.size
        part = content[at : at + length]
        at += length
        if letter == b"N":
            yield None
        elif letter == b"I":
            yield int(part)
        elif letter == b"F":
            yield struct.unpack(">d", part)[0]
        else:
            yield Text(part) if letter == b"T" else part
