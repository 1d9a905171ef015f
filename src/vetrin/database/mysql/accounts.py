"""Accounts: how to log in, and what makes a database and its account where they are missing."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field

from .columns import quote

_GRANT = re.compile(r"GRANT (.*?) ON (\*\.\*|`(?:[^`]|``)*`\.\*|\S+\.\*) TO ")
_CREATES = re.compile(r"\b(?:ALL PRIVILEGES|CREATE)(?:,|$| *$)")
_MAKES_ROUTINES = re.compile(
    r"\bALL PRIVILEGES\b|^(?=.*(?<!SHOW )\bCREATE ROUTINE\b).*\bALTER ROUTINE\b"
)
NEAR = {"localhost": "127.0.0.1", "127.0.0.1": "127.0.0.1", "::1": "::1"}


VERIFIED, UNVERIFIED, OFF = "verified", "unverified", "off"


@dataclass(frozen=True)
class Credentials:
    """How to log in; the password never shows in ``repr``.

    ``tls``: what a server has to show that is neither on this machine nor reached over SSH, ``verified`` (a
    certificate for its name, from an authority of the system's, or of ``ca``, a file), ``unverified`` or ``off``.
    """

    name: str
    user: str
    password: str = field(default="", repr=False)
    host: str = "localhost"
    port: int | None = None
    socket: str | None = None
    tls: str = VERIFIED
    ca: str | None = None

    @property
    def near(self) -> bool:
        """True where the way to the server is no longer than its own machine."""
        return self.socket is not None or self.host in NEAR

    @property
    def where(self) -> str:
        return self.socket or f"{self.host}:{self.port or 3306}"


def creating_statements(credentials: Credentials, password: str) -> list[str]:
    """The statements that make the database, its account, and that one's rights, in this order."""
    name = credentials.name
    host = "localhost" if credentials.socket else NEAR.get(credentials.host, "%")
    account = f"{_literal(credentials.user)}@{_literal(host)}"
    return [
        f"CREATE DATABASE IF NOT EXISTS {quote(name)} CHARACTER SET utf8mb4",
        f"CREATE USER IF NOT EXISTS {account} IDENTIFIED BY {_literal(password)}",
        f"GRANT ALL PRIVILEGES ON {quote(_as_pattern(name))}.* TO {account}",
    ]


def told(credentials: Credentials) -> str:
    """The same for a person, a line each, without the real password."""
    statements = creating_statements(credentials, "the password")
    return "\n".join(f"  {statement};" for statement in statements)


def may_create(grants: Iterable[str], name: str) -> bool:
    """True if an account with these grants (lines of ``SHOW GRANTS``) may make a database."""
    return _granted(_CREATES, grants, name)


def may_make_routines(grants: Iterable[str], name: str) -> bool:
    """True if it may make stored routines in a database, and replace them."""
    return _granted(_MAKES_ROUTINES, grants, name)


def _granted(wanted: re.Pattern[str], grants: Iterable[str], name: str) -> bool:
    for rights, place in _GRANT.findall(" ".join(grants)):
        if not wanted.search(rights):
            continue
        if place == "*.*":
            return True
        pattern = place.removesuffix(".*").strip("`").replace("``", "`")
        if _fits(pattern, name):
            return True
    return False


def _literal(text: str) -> str:
    return "'" + text.replace("\\", "\\\\").replace("'", "''") + "'"


def _as_pattern(name: str) -> str:
    """A database's name as GRANT takes it: ``_`` and ``%`` would stand for any characters."""
    return name.replace("_", "\\_").replace("%", "\\%")


def _fits(pattern: str, name: str) -> bool:
    """True if a database name fits a GRANT's pattern: ``%`` and ``_`` unless escaped."""
    parts = re.findall(r"\\.|.", pattern, re.DOTALL)
    wild = {"%": ".*", "_": "."}
    return re.fullmatch("".join(wild.get(p) or re.escape(p[-1]) for p in parts), name) is not None
