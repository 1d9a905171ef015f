"""Getting a copy on this machine ready to be filled: its database, the account for it, and its configuration."""

from __future__ import annotations

import dataclasses
import getpass
import re
import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

from msgspec import Struct

from ..atomic import write_whole
from ..cms import SiteConfiguration
from ..config import Environment
from ..database import Database
from ..database.engines import Wanted, engine_of
from ..rewrite import Mapping
from ..site import ReadableSite
from .generated_files import made_configuration

_LONGEST = 27  # characters; an account's name of 32 is taken by every server


@dataclass(frozen=True)
class Account:
    """A database on this machine and the account for it. ``maker`` is the account that may make both, where they are
    still to be made."""

    database: str
    user: str
    host: str = "localhost"
    password: str = field(default="", repr=False)
    maker: str = ""
    maker_password: str = field(default="", repr=False)


class Tried(Struct, frozen=True):
    """What an account found: how many ``tables`` there are, or that the database is ``missing`` and can be made."""

    tables: int
    missing: bool
    says: str


def own_account(name: str) -> Account:
    """A database and an account of its own for a copy, made by the account of whoever runs this."""
    plain = re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_")[:_LONGEST] or "site"
    # An account of the plain name may be there, and somebody else's.
    user = f"{plain}_{secrets.token_hex(2)}"
    return Account(plain, user, password=secrets.token_urlsafe(18), maker=getpass.getuser())


def try_account(account: Account, like: SiteConfiguration, root: Path) -> Tried:
    """Connect as it, or as its maker where it has one; ``like`` is the configuration of the source, and
    ``root`` the copy's folder.

    Raises:
        DatabaseUnreachable: no server answers, or it refuses the account.
    """
    if account.maker:
        account = dataclasses.replace(
            account, user=account.maker, password=account.maker_password, maker=""
        )
    with _opened(account, like, root) as database:
        facts = database.facts()
        tables = 0 if database.missing else len(database.tables())
        return Tried(tables, database.missing, f"{facts.product} {facts.version}, {facts.where}")


def make_database(account: Account, like: SiteConfiguration, root: Path) -> None:
    """Make the database, and with a maker the account, where they are missing.

    Raises:
        DatabaseUnreachable: they cannot be made.
    """
    with _opened(account, like, root) as database:
        if database.missing:
            database.create()


@contextmanager
def _opened(account: Account, like: SiteConfiguration, root: Path) -> Iterator[Database]:
    given = SiteConfiguration(like.engine, account.database, host=account.host)
    database = engine_of(like.engine).open(
        Wanted(
            name=account.database,
            root=root,
            remote=None,
            host_port_socket=given.host_port_socket,
            user=account.user,
            password=account.password,
            creator_password=lambda: account.maker_password,
            options={"create-as": account.maker} if account.maker else {},
            read_only=False,
            may_be_missing=True,
        )
    )
    try:
        yield database
    finally:
        database.close()


def write_configuration(source: ReadableSite, target: Environment, account: Account) -> Path | None:
    """Write the copy's own configuration, made from its source's, readable by its owner alone; None where the source
    has none.

    Raises:
        JobError: it cannot be made.
    """
    prefix = source.configuration.prefix
    values = {"database": account.database, "user": account.user, "password": account.password,
              "host": account.host, "prefix": prefix}  # fmt: skip
    addresses = [*source.environment.addresses, *(one for _, one in source.recorded_addresses())]
    mapping = Mapping.build(
        addresses=[one for one in dict.fromkeys(addresses) if one != target.address],
        address=target.address,
        roots=source.roots,
        root=str(target.root),
        bare_host=source.environment.bare_host,
    )
    placed = made_configuration(source, target.name, values, mapping)
    if placed is None or placed.content is None:
        return None
    path = target.root / placed.path
    path.parent.mkdir(parents=True, exist_ok=True)
    write_whole(path, placed.content, 0o600)
    return path
