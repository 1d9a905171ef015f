"""Connecting to a MariaDB or MySQL server, by whatever leads there."""

from __future__ import annotations

import contextlib
import ssl
from collections.abc import Callable, Iterator
from typing import Any

import pymysql
from pymysql.constants import CR

from ...errors import DatabaseError, DatabaseUnreachable
from ..base import in_words
from .accounts import OFF, UNVERIFIED, VERIFIED, Credentials
from .wire import Wire

MODE = "NO_AUTO_VALUE_ON_ZERO,ALLOW_INVALID_DATES"
# Seconds for which a server may be silent: while somebody logs in, where it looks, scans tables, works on them.
LOGIN, LOOKS, SCANS, WORKS = 30.0, 600.0, 3600.0, 4 * 3600.0
_INSECURE = (3159, 1045)  # TLS is asked for by the server, or (among other things) by the account


@contextlib.contextmanager
def said(about: str) -> Iterator[None]:
    """Errors of the driver within become those of this room."""
    try:
        yield
    except pymysql.Error as error:
        code, *rest = error.args or (0,)
        if type(error) is pymysql.Error:
            code, rest = CR.CR_SERVER_LOST, ["the connection to the server was lost"]
        message = rest[0] if rest else str(error)
        raise DatabaseError(f"{about}: {in_words(code, message)} (error {code})") from error


def error_code(error: BaseException) -> int:
    """The server's number of an error that ``said`` told of; 0 where it is none."""
    cause = error.__cause__
    found = cause.args[0] if isinstance(cause, pymysql.Error) and cause.args else 0
    return found if isinstance(found, int) else 0


# The server has gone away, and its kin; those of DatabaseUnreachable besides: nothing answers.
_LOST = (
    CR.CR_SERVER_GONE_ERROR,
    CR.CR_SERVER_LOST,
    CR.CR_COMMANDS_OUT_OF_SYNC,
    CR.CR_SERVER_LOST_EXTENDED,
    1053,
    1927,
)
_NOBODY = (CR.CR_CONNECTION_ERROR, CR.CR_CONN_HOST_ERROR)


def was_lost(error: BaseException) -> bool:
    """True for an error that says that there is no connection to the server any more."""
    if isinstance(error, DatabaseUnreachable):
        return error.number in (*_NOBODY, *_LOST)
    if isinstance(error, pymysql.OperationalError):
        return bool(error.args) and error.args[0] in _LOST
    # An "Error" of no kind is what the driver says of a connection that it has given up before.
    return isinstance(error, pymysql.InterfaceError) or type(error) is pymysql.Error


_PROMPT = 30.0  # seconds in which a session is set up
_one_by_one: set[object] = set()  # servers that are asked one thing after the other
_NAMES = {"binary": "NAMES binary, ", "stored": "character_set_results = NULL, "}
# What connects to a server by other means than this machine's network, as ``engines.Transport.dial``.
Dial = Callable[..., Any]


def _remedy(code: int, credentials: Credentials, error: BaseException) -> str:
    if code == 1045:
        return "check user and password in the site's own configuration"
    if code == 1049:
        return f"create the database {credentials.name}, or correct its name"
    if code == 1044:
        return f"let {credentials.user} use the database {credentials.name}"
    if code == CR.CR_SSL_CONNECTION_ERROR or isinstance(
        getattr(error, "original_exception", None), ssl.SSLError
    ):
        return (
            "this server is on another machine, so it has to prove itself before it gets the account; under "
            "[environment.NAME.database], tls-ca names the file of the authority that signed its certificate, "
            'tls = "unverified" takes any certificate, tls = "off" goes without; or reach it over SSH (host = …)'
        )
    return f"check that the server runs and listens at {credentials.where}"


def _securely(c: Credentials, dial: Dial | None) -> list[dict[str, Any]]:
    """How a connection may be secured, as options of the driver, in the order in which they are tried.

    On one machine, and behind an SSH connection to it, TLS would protect nothing and cost much; but where a server
    or an account insists on it, it gets it. What lies behind the machine that SSH leads to is spoken to as the site
    itself does there. Any other server gets to know an account only once it has shown who it is.
    """
    plain: dict[str, Any] = {"ssl_disabled": True, "in_clear": dial is not None or c.near}
    where_offered: dict[str, Any] = {"in_clear": True}
    if c.near:
        return [plain, where_offered]
    if dial is not None:
        return [where_offered]
    if c.tls == OFF:
        return [plain]
    try:
        context = ssl.create_default_context(cafile=c.ca)
    except OSError as error:
        raise DatabaseUnreachable(
            f"{c.ca}: {error.strerror or error}",
            "tls-ca names a file with certificates in PEM form",
        ) from error
    # What servers make for themselves is not made to the letter; Python 3.13 would ask for that.
    context.verify_flags &= ~ssl.VERIFY_X509_STRICT
    if c.tls == UNVERIFIED:
        context.check_hostname = False
        context.verify_mode = ssl.CERT_NONE
    return [{"ssl": context, "in_clear": c.tls == VERIFIED}]


def _dialled(
    c: Credentials,
    charset: str,
    dial: Dial | None,
    over: Any,
    *,
    fills: bool,
    bulk: bool,
    prints: bool,
    silence: float,
) -> Wire:
    ways = _securely(c, dial)
    if over is not None:
        del ways[1:]  # there is but one connection
    for number, way in enumerate(ways, 1):
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
            read_timeout=LOGIN,
            write_timeout=WORKS,
            autocommit=True,
            defer_connect=True,
            fills=fills,
            **way,
        )
        try:
            way_there = (c.host, c.port or 3306, c.socket)
            if over is None and dial is not None:
                wire.connect(dial(*way_there, bulk=bulk, prints=prints))
            else:
                wire.connect(over)
        except pymysql.Error as error:
            code = error.args[0] if error.args else 0
            if number == len(ways) or code not in _INSECURE or not wire.offers_tls:
                raise
        else:
            wire.silence(silence)
            return wire
    raise AssertionError("the last way was tried")


def connect(
    credentials: Credentials,
    charset: str,
    *,
    read_only: bool = False,
    dial: Dial | None = None,
    over: Any = None,
    fills: bool = False,
    bulk: bool = False,
    view: bool = False,
    prints: bool = False,
    silence: float = LOOKS,
) -> Wire:
    """A connection in the session that all work is done in. ``charset`` is one of utf8mb4; ``"binary"``, in which
    nothing is converted; ``"stored"``: questions are text, answers are bytes as they are stored. ``over`` is a
    connection to the server that is there already, and cannot be made anew. ``fills``: by it rows are loaded;
    ``bulk``: many of them will come or go; ``view``: it sees one moment; ``prints``: it tells prints of rows, where
    a way there does. ``silence`` is for how many seconds the server may say nothing.

    Raises:
        DatabaseUnreachable: no server there, or it refuses the account or the name.
    """
    c = credentials
    try:
        statements = [
            f"SET {_NAMES.get(charset, '')}time_zone = '+00:00', foreign_key_checks = 0, sql_mode = '{MODE}'",
            "SET wait_timeout = 28800, net_write_timeout = 3600",
        ]
        if read_only:
            statements.append("SET SESSION TRANSACTION READ ONLY")
        if view:
            statements.append("SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ")
            statements.append("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
        server = c.host, c.port, c.socket, dial
        while True:
            wire = _dialled(
                c, charset, dial, over, fills=fills, bulk=bulk, prints=prints, silence=_PROMPT
            )
            wire.one_by_one = server in _one_by_one
            try:
                answers = wire.several(statements)
                break
            except pymysql.Error as error:
                # What stands between, or a server of a kind of its own, may throw away what comes early.
                if wire.one_by_one or not was_lost(error):
                    raise
                _one_by_one.add(server)
                if over is not None:
                    raise
        wire.silence(silence)
        for answer in answers:
            if isinstance(answer, pymysql.Error):
                raise answer
    except pymysql.Error as error:
        code, *rest = error.args or (0,)
        number = code if isinstance(code, int) else CR.CR_MALFORMED_PACKET
        raise DatabaseUnreachable(
            f"{c.where}: {rest[0] if rest else error}", _remedy(number, c, error), number
        ) from error
    return wire
