"""Streams of rows over one MySQL-protocol connection, as bytes, without conversions.

PyMySQL logs in, sends commands and reads answers; the two streams that carry all the bytes are
read and written here, because a conversion per value costs more than the rest of a transfer. This
leans on PyMySQL's ``_execute_command``, ``_read_packet`` and ``_rfile``, which the dependency's
version range and the engine's tests hold still. Packet layout: the protocol's documentation,
"Text Resultset Row" and "LOCAL INFILE Request".
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

import pymysql
from pymysql.connections import Connection
from pymysql.constants import COMMAND
from pymysql.protocol import OKPacketWrapper

from ..contract import Cell

_READ_BUFFER = 1 << 18
_WHOLE = 0xFFFFFF


class Wire(Connection):  # type: ignore[type-arg]
    """A connection whose result rows and bulk loads are streams of bytes."""

    def connect(self, sock: Any = None) -> None:
        super().connect(sock)
        self._rfile: Any = self._sock.makefile("rb", _READ_BUFFER)

    def stream(self, sql: str, batch_bytes: int) -> Iterator[tuple[list[Cell], int]]:
        """Run a query; yield its rows as flat lists of cells with their size in bytes.

        The connection can do nothing else until the stream has been read to its end; closing it
        earlier closes the connection.

        Raises:
            pymysql.Error: the server said so, or the connection broke.
        """
        self._execute_command(COMMAND.COM_QUERY, sql.encode())  # type: ignore[attr-defined]
        first = self._read_packet()  # type: ignore[attr-defined]
        for _ in range(first.read_length_encoded_integer() + 1):
            self._read_packet()  # type: ignore[attr-defined]
        done = False
        try:
            yield from self._rows(batch_bytes)
            done = True
        finally:
            if not done:
                self._force_close()  # type: ignore[attr-defined]

    def _rows(self, batch_bytes: int) -> Iterator[tuple[list[Cell], int]]:
        read = self._rfile.read
        cells: list[Cell] = []
        append = cells.append
        total = 0
        while True:
            header = read(4)
            size = int.from_bytes(header[:3], "little")
            body = read(size)
            if len(header) < 4 or len(body) < size:
                raise pymysql.OperationalError(2013, "Lost connection to the server during a query")
            if size == _WHOLE:
                body, size = self._continued(body)
            lead = body[0]
            if lead >= 0xFE:
                if lead == 0xFE and size < 9:
                    self._next_seq_id = (header[3] + 1) % 256
                    if cells:
                        yield cells, total
                    return
                if lead == 0xFF:
                    pymysql.err.raise_mysql_exception(body)
            total += size
            at = 0
            while at < size:
                length = body[at]
                if length < 251:
                    at += 1
                    end = at + length
                elif length == 251:
                    append(None)
                    at += 1
                    continue
                else:
                    width = 2 if length == 252 else 3 if length == 253 else 8
                    end = at + 1 + width
                    at, end = end, end + int.from_bytes(body[at + 1 : end], "little")
                append(body[at:end])
                at = end
            if total >= batch_bytes:
                yield cells, total
                cells = []
                append = cells.append
                total = 0

    def _continued(self, body: bytes) -> tuple[bytes, int]:
        parts = [body]
        while len(parts[-1]) == _WHOLE:
            size = int.from_bytes(self._rfile.read(4)[:3], "little")
            parts.append(self._rfile.read(size))
        whole = b"".join(parts)
        return whole, len(whole)

    def load(self, sql: str, blocks: Iterable[bytes]) -> tuple[int, int]:
        """Run ``LOAD DATA LOCAL`` and feed it ``blocks``; (rows stored, warnings).

        If ``blocks`` fails, the connection is cut so that the server throws the load away.

        Raises:
            pymysql.Error: the server refuses local loads, or said something else.
        """
        self._execute_command(COMMAND.COM_QUERY, sql.encode())  # type: ignore[attr-defined]
        first = self._read_packet()  # type: ignore[attr-defined]
        if not first.is_load_local_packet():
            raise pymysql.OperationalError(1148, "the server did not ask for the data")
        try:
            for block in blocks:
                for at in range(0, len(block), _WHOLE - 1):
                    self.write_packet(block[at : at + _WHOLE - 1])  # type: ignore[attr-defined]
        except BaseException:
            self._force_close()  # type: ignore[attr-defined]
            raise
        self.write_packet(b"")  # type: ignore[attr-defined]
        answer = OKPacketWrapper(self._read_packet())  # type: ignore[attr-defined]
        return answer.affected_rows, answer.warning_count
