"""Connecting to a MariaDB or MySQL server, by whatever leads there."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from typing import Any

import pymysql

from ..contract import DatabaseError, DatabaseUnreachable, in_words
from .accounts import NEAR, Credentials
from .wire import Wire

MODE = "NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES"
_INSECURE = (3159, 1045)  # TLS is asked for by the server, or (among other things) by the account


@contextlib.contextmanager
def said(about: str) -> Iterator[None]:
    """Errors of the driver within become those of this room."""
    try:
        yield
    except pymysql.Error as error:
        code, *rest = error.args or (0,)
        message = rest[0] if rest else str(error)
        raise DatabaseError(f"{about}: {in_words(code, message)} (error {code})") from error


def error_code(error: BaseException) -> int:
    """The server's number of an error that ``said`` told of; 0 where it is none."""
    cause = error.__cause__
    found = cause.args[0] if isinstance(cause, pymysql.Error) and cause.args else 0
    return found if isinstance(found, int) else 0


# What connects to a server by other means than this machine's network: name, port, socket.
Dial = Callable[[str, int, str | None], Any]


def _remedy(code: int, credentials: Credentials) -> str:
    if code == 1045:
        return "check user and password in the site's own configuration"
    if code == 1049:
        return f"create the database {credentials.name}, or correct its name"
    if code == 1044:
        return f"let {credentials.user} use the database {credentials.name}"
    return f"check that the server runs and listens at {credentials.where}"


def _dialled(c: Credentials, charset: str, dial: Dial | None) -> Wire:
    """A connection, with TLS where the server knows it and the way to it is more than this machine.

    On one machine, and behind an SSH connection to it, TLS would protect nothing and cost much; but
    where a server or an account insists on it, it gets it.
    """
    near = c.socket is not None or c.host in NEAR
    for tls in (False, True) if near else (True,):
        wire = Wire(
            host=c.host,
            port=c.port or 3306,
            unix_socket=c.socket,
            user=c.user,
            password=c.password,
            database=c.name or None,
            # PyMySQL knows no "binary": it would decode names and messages with it.
            charset="latin1" if charset == "binary" else "utf8mb4",
            connect_timeout=10,
            autocommit=True,
            local_infile=True,
            defer_connect=True,
            ssl_disabled=not tls,
        )
        try:
            wire.connect(dial(c.host, c.port or 3306, c.socket) if dial else None)
            return wire
        except pymysql.Error as error:
            code = error.args[0] if error.args else 0
            if tls or code not in _INSECURE or not wire.offers_tls:
                raise
    raise AssertionError("the last way was tried")


def connect(
    credentials: Credentials, charset: str, *, read_only: bool = False, dial: Dial | None = None
) -> Wire:
    """A connection in the session that all work is done in. ``charset`` is one of utf8mb4; ``"binary"``, in which
    nothing is converted; ``"stored"``: questions are text, answers are bytes as they are stored.

    Raises:
        DatabaseUnreachable: no server there, or it refuses the account or the name.
    """
    c = credentials
    try:
        wire = _dialled(c, charset, dial)
        with wire.cursor() as cursor:
            if charset == "binary":
                cursor.execute("SET NAMES binary")
            elif charset == "stored":
                cursor.execute("SET character_set_results = NULL")
            cursor.execute("SET time_zone = '+00:00', foreign_key_checks = 0")
            cursor.execute(f"SET sql_mode = '{MODE}'")
            if read_only:
                cursor.execute("SET SESSION TRANSACTION READ ONLY")
            cursor.execute("SET wait_timeout = 28800, net_write_timeout = 3600")
    except pymysql.Error as error:
        code, *rest = error.args or (0,)
        raise DatabaseUnreachable(
            f"{c.where}: {rest[0] if rest else error}",
            _remedy(int(code or 0), c),
            int(code or 0),
        ) from error
    return wire
