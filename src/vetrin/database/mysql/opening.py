"""Opening a database on a MariaDB or MySQL server, as a site's configuration and its project describe it."""

from __future__ import annotations

import dataclasses

from ..engines import Transport, Wanted
from .accounts import VERIFIED, Credentials
from .database import MysqlDatabase

# What the name "localhost" means to the servers' own client library.
_SOCKETS = ("/run/mysqld/mysqld.sock", "/var/run/mysqld/mysqld.sock", "/tmp/mysql.sock")


def open_database(wanted: Wanted) -> MysqlDatabase:
    """Connect to it.

    Raises:
        DatabaseUnreachable: no server answers, or it refuses the account or the name.
    """
    host, port, socket = _way(wanted)
    credentials = Credentials(
        name=wanted.name, user=wanted.user, password=wanted.password, host=host, port=port, socket=socket,
        tls=wanted.options.get("tls", VERIFIED), ca=wanted.options.get("tls-ca"),
    )  # fmt: skip
    creator = None
    if wanted.may_be_missing and "create-as" in wanted.options:
        creator = dataclasses.replace(
            credentials, user=wanted.options["create-as"], password=wanted.creator_password()
        )
    return MysqlDatabase(
        credentials,
        read_only=wanted.read_only,
        may_be_missing=wanted.may_be_missing,
        creator=creator,
        dial=wanted.remote.dial if wanted.remote is not None else None,
        prints=wanted.prints if credentials.near and _tells_prints(wanted.remote) else None,
    )


def _tells_prints(remote: Transport | None) -> bool:
    return remote is None or remote.tells_prints


def _way(wanted: Wanted) -> tuple[str, int | None, str | None]:
    host, port, socket = wanted.host_port_socket
    if host != "localhost" or port is not None or socket is not None:
        return host, port, socket
    if wanted.remote is not None and wanted.remote.resolves_names:
        return host, None, None
    for usual in _SOCKETS:
        if (wanted.root / usual).is_socket():
            return host, None, usual
    return "127.0.0.1", None, None
