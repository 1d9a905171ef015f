"""What `init` and `add` share: finding a site, and asking for what only the user knows."""

from __future__ import annotations

import argparse
import contextlib
import dataclasses
import getpass
import os
import re
import socket
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import cast

from ..cms import Definition, Place, configuration_file, load_definition, read_configuration
from ..config import (
    Environment,
    EnvironmentDraft,
    RelayHost,
    database_password,
    environment_address,
    password_variable,
    user_defaults,
    web_access,
)
from ..errors import (
    AddressError,
    ConfigurationError,
    DatabaseUnreachable,
    DefinitionError,
    JobError,
    Refused,
    UsageError,
)
from ..jobs import Account, Tried, make_database, own_account, try_account, write_configuration
from ..remote import Hosts
from ..rewrite import Address
from ..site import Discovered, ReadableSite, Where, folder_at, look_at, sites_below
from .console import Out, lead, number, plural, size

_FIRST_PORT = 8080
_TRIES = 3


def add_account(parser: argparse.ArgumentParser) -> None:
    """The options that say which database a copy on this machine has."""
    group = parser.add_argument_group("the database of a copy that is still to be filled")
    group.add_argument("--database", metavar="NAME", help="its name")
    group.add_argument("--database-user", metavar="NAME", help="its account; the password is asked for, or taken "
                       "from the keyring or VETRIN_<ENVIRONMENT>_DATABASE_PASSWORD")  # fmt: skip
    group.add_argument("--database-host", metavar="HOST",
                       help="its server: a name, name:port, or name:/path/of/socket (localhost)")  # fmt: skip
    group.add_argument(
        "--create-as",
        metavar="NAME",
        help="the account that makes database and account, such as root",
    )


def add_web(parser: argparse.ArgumentParser) -> None:
    """The options that say what the web server in front of a site on a host asks for."""
    group = parser.add_argument_group("a protected site on a host")
    group.add_argument("--web-user", metavar="NAME", help="the name that its web server asks for; the password "
                       "comes from the keyring or VETRIN_<ENVIRONMENT>_WEB_PASSWORD")  # fmt: skip
    group.add_argument("--certificate", metavar="FILE",
                       help="the certificate of the authority of yours that signed the site's own")  # fmt: skip
    group.add_argument("--fingerprint", metavar="SHA256",
                       help="that of the site's one certificate, where nobody known signed it")  # fmt: skip


def web_of(args: argparse.Namespace, folder: Path) -> dict[str, str]:
    """What the options say of a web server, as it stands in the vetrin.toml of ``folder``.

    Raises:
        UsageError: there is no such certificate.
    """
    certificate = args.certificate
    if certificate:
        file = Path(certificate).expanduser().absolute()
        if not file.is_file():
            raise UsageError(f"--certificate: there is no file {file}")
        certificate = str(file.relative_to(folder) if file.is_relative_to(folder) else file)
    given = {
        "user": args.web_user,
        "certificate": certificate,
        "fingerprint": args.fingerprint,
    }
    return {key: value for key, value in given.items() if value}


def where_of(text: str, name: str, web: Mapping[str, str], folder: Path) -> Where:
    """The place that is named on the command line, with what its web server asks for.

    Raises:
        HostError: an address that is not understood.
        ProjectError: what is said of the web server makes no sense.
        UsageError: it is said of a folder of this machine.
    """
    where = Where.parse(text, name, web_access(name, dict(web), folder))
    if web and where.host is None:
        raise UsageError(
            "--web-user, --certificate and --fingerprint are for a site on a host",
            f"write them into [environment.{name}.web] of vetrin.toml",
        )
    return where


def found_at(where: Where, name: str, cms: str | None, out: Out) -> Discovered | None:
    """The site at a place, looked at; None where there is none. A person chooses among several.

    Raises:
        ReachError: the host cannot be reached.
        UsageError: there is no such folder, the definition is unknown, or several sites are there and nobody chooses.
    """
    folders = folder_at(out.hosts, where, name)
    if where.folder and not any(folder.is_dir() for folder in folders):
        raise UsageError(
            f"there is no folder {where.folder}" + (f" on {where.host}" if where.host else "")
        )
    if cms is not None:
        return look_at(out.hosts, where, folders[0], named_definition(cms, Path.cwd()), name)
    found: dict[str, tuple[Place, Definition]] = {}
    for folder in folders:
        out.say(f"looking for a site in {folder} …")
        for root, definition in sites_below(folder):
            found.setdefault(str(root), (root, definition))
            if str(root) == str(folder):
                break  # what is named is meant
        if found and where.folder:
            break
    if not found:
        return None
    chosen = next(iter(found))
    if len(found) > 1:
        answer = out.choose("There are several sites:", list(found))
        if answer is None:
            raise UsageError(
                f"there are several sites: {', '.join(found)}", "name the folder of one of them"
            )
        chosen = answer
    root, definition = found[chosen]
    return look_at(out.hosts, where, root, definition, name)


def named_definition(name: str, folder: Path) -> Definition:
    try:
        return load_definition(name, folder)
    except DefinitionError as error:
        raise UsageError(f"--cms: {error}") from error


def tell(out: Out, found: Discovered, where: Where) -> None:
    """What was found, in two lines."""
    there = f" on {where.host}" if where.host else ""
    version = found.summary.cms_version if found.summary else None
    line = lead("✓ ", "good").append(
        f"{found.definition.title} {version or ''}".strip(), style="bold"
    )
    line.append(f" in {found.root}{there}")
    if found.title:
        line.append(f": {found.title}")
    out.show(line)
    if found.summary is not None:
        held = found.summary
        out.show(
            f"  {found.addresses[0] if found.addresses else 'no address'} · {plural(held.tables, 'table')}, "
            f"{size(held.database_size)} · {number(held.media_files)} media files, {size(held.media_size)} · "
            f"{held.database_version}"
        )
    if found.problem:
        out.warn(f"its database was not looked at: {found.problem}")


def address_of(given: str | None, out: Out, question: str, known: list[str]) -> str:
    """An address that was given, or asked for with the first of those ``known`` as the default.

    Raises:
        UsageError: there is none, or it is none.
    """
    while True:
        text = given or out.ask(question, known[0] if known else "")
        if not text:
            raise UsageError("its web address is told nowhere", "give it with --address")
        try:
            return str(checked(text))
        except AddressError as error:
            if given or not out.asking:
                raise UsageError(f"--address: {error}") from error
            out.warn(str(error))


def checked(text: str) -> Address:
    """An address as it may stand in vetrin.toml. Raises AddressError."""
    return environment_address(text if "://" in text else f"http://{text}")


def local_address(found: Discovered) -> str:
    """A good address for a copy on this machine: a name that needs no entry in the hosts file, a free port."""
    port = _FIRST_PORT
    while _taken(port) and port < _FIRST_PORT + 100:
        port += 1
    return f"http://{_label(found)}.localhost:{port}"


def _label(found: Discovered) -> str:
    """What tells a site from others in one word: “harrowmere” of www.harrowmere.example, or of its title."""
    name = found.addresses[0].host if found.addresses else ""
    if not name.replace(".", "").isdigit() and ":" not in name:
        label = next((label for label in name.split(".") if label != "www"), "")
        if label:
            return label
    words = re.findall(r"[a-z0-9]+", (found.title or "").lower())
    return words[0] if words else "site"


def _taken(port: int) -> bool:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return True
    return False


class CopyDatabase:
    """Finds an account for a copy on this machine, by options, by what this user may do, or by asking."""

    def __init__(
        self, args: argparse.Namespace, out: Out, name: str, found: Discovered, root: Path
    ) -> None:
        assert found.configuration is not None
        self._args = args
        self._out = out
        self._name = name
        self._like = found.configuration
        self._definition = found.definition
        self._root = root
        self._default = args.database or _label(found)
        usual = user_defaults().database
        self._host = args.database_host or usual.get("host", "localhost")
        self._user = args.database_user or usual.get("user", "")
        self._maker = args.create_as or usual.get("create-as", "")

    def likely(self) -> Account:
        """What the account is called, where none could be tried."""
        own = own_account(self._default)
        return dataclasses.replace(own, user=self._user or own.user, host=self._host, maker="")

    def left(self) -> Account | None:
        """The account of a configuration that lies in the copy's root already, where an earlier run ended before it
        made the database; None where there is nothing to make."""
        try:
            held = read_configuration(self._root, self._definition)
        except ConfigurationError:
            return None
        for option, wanted, there in (
            ("--database", self._args.database, held.database),
            ("--database-user", self._args.database_user, held.user),
        ):
            if wanted and wanted != there:
                self._out.warn(
                    f"{option} {wanted} is not used: {held.file} names {there}; move that file away to begin anew"
                )
        account = Account(held.database, held.user, held.host or "localhost", held.password)
        with contextlib.suppress(DatabaseUnreachable):
            if not try_account(account, self._like, self._root).missing:
                return None
        maker = self._maker or getpass.getuser()
        password = self._secret(maker, "CREATE") if self._maker else ""
        account = dataclasses.replace(account, maker=maker, maker_password=password)
        try:
            tried = try_account(account, self._like, self._root)
        except DatabaseUnreachable as error:
            self._out.warn(f"the database of the configuration in {self._root}: {error}")
            return None
        return account if self._wanted(account, tried) else None

    def find(self) -> Account | None:
        """An account that was tried; None where none works and nobody is there to give another one."""
        args = self._args
        if self._user:
            return self._given()
        own = dataclasses.replace(own_account(self._default), host=self._host)
        if args.database:
            own = dataclasses.replace(own, database=args.database)
        if self._maker:
            own = dataclasses.replace(
                own,
                maker=self._maker,
                maker_password=self._secret(self._maker, "CREATE"),
            )
        return self._own(own, sure=bool(args.create_as)) or self._asked()

    def _secret(self, user: str, kind: str = "DATABASE") -> str:
        """A password, from the environment variable or the keyring, or typed."""
        variable = password_variable(self._name, kind)
        if variable in os.environ:
            return os.environ[variable]
        kept = database_password(self._name) if kind == "DATABASE" else None
        if kept is not None:
            return kept
        return self._out.secret(f"Password of {user} (empty for none)") if self._out.asking else ""

    def _given(self) -> Account:
        """The account of the options. Raises DatabaseUnreachable where it does not work."""
        account = Account(
            database=self._default,
            user=self._user,
            host=self._host,
            password=self._secret(self._user),
            maker=self._maker,
            maker_password=self._secret(self._maker, "CREATE") if self._maker else "",
        )
        self._tried(account)
        return account

    def _own(self, own: Account, *, sure: bool) -> Account | None:
        """A database and an account of its own, where whoever runs this may make them and wants it."""
        for attempt in range(1, 100):
            account = own if attempt == 1 else dataclasses.replace(own, database=f"{own.database}_{attempt}",
                                                      user=f"{own.user[:28]}_{attempt}")  # fmt: skip
            try:
                tried = try_account(account, self._like, self._root)
            except DatabaseUnreachable:
                if sure:
                    raise
                return None
            if tried.missing:
                break
            if self._args.database:
                raise Refused(
                    f"there is a database {account.database} already, with {plural(tried.tables, 'table')}",
                    "name its account with --database-user, or another database with --database",
                )
        return account if self._wanted(account, tried, sure=sure) else None

    def _wanted(self, account: Account, tried: Tried, *, sure: bool = False) -> bool:
        """True if a database and its account may be made."""
        question = f"Make the database {account.database} and an account of that name for it here?"
        if not (self._args.yes or sure or self._out.agrees_to(question)):
            return False
        self._out.show(lead("✓ ", "good").append(f"database: {tried.says}"))
        return True

    def _asked(self) -> Account | None:
        out = self._out
        for _ in range(_TRIES if out.asking else 0):
            user = out.ask("Its database account on this machine (empty to do that later)")
            if not user:
                return None
            account = Account(
                out.ask("Its database", self._default),
                user,
                self._host,
                self._secret(user),
            )
            try:
                self._tried(account)
            except DatabaseUnreachable as error:
                out.warn(str(error))
                if error.remedy:
                    out.say(f"  → {error.remedy}")
                continue
            return account
        return None

    def _tried(self, account: Account) -> None:
        tried = try_account(account, self._like, self._root)
        there = "is still to be made" if tried.missing else f"has {plural(tried.tables, 'table')}"
        self._out.show(
            lead("✓ ", "good").append(f"database: {tried.says}; {account.database} {there}")
        )
        if tried.tables:
            self._out.warn(
                f"a pull replaces what the database {account.database} holds (it can be undone)"
            )

    def make(self, source: ReadableSite, target: Environment, account: Account) -> Path | None:
        """Write the copy's configuration, and make what is missing; None where it has to be written by hand.

        A password that was made up is on record before the account has it: a run that ends between the two is gone on
        with by the next one. Where it cannot be put on record, the account is left to who knows a password for it.
        """
        path = configuration_file(target.root, source.definition)
        if path is None:
            try:
                path = write_configuration(source, target, account)
            except JobError as error:
                self._out.warn(str(error))
        if path is not None or not account.maker:
            make_database(account, self._like, self._root)
        return cast(Path | None, path)


def draft_of(
    hosts: Hosts,
    name: str,
    address: str,
    found: Discovered,
    where: Where,
    *,
    folder: Path,
    also: Sequence[str] = (),
) -> EnvironmentDraft:
    """How an environment that was found is written down in the vetrin.toml of ``folder``."""
    remark = ""
    held = found.configuration
    if held is not None and held.file is not None:
        parts = [held.database]
        if held.user:
            parts.append(f"user {held.user} at {held.host or 'localhost'}")
        if held.prefix:
            parts.append(f"prefix {held.prefix}")
        remark = f"Its database, from {held.file.name}: {', '.join(parts)}"
    relay = where.host if isinstance(where.host, RelayHost) else None
    root = str(found.root) if where.host else os.path.relpath(str(found.root), folder)
    if relay is not None and root == str(folder_at(hosts, where, name)[0]):
        root = "."
    if not where.host and root.startswith("../.."):
        root = str(found.root)
    return EnvironmentDraft(
        name,
        address,
        root,
        host=str(where.host or "") if relay is None else "",
        relay=relay.url if relay is not None else "",
        also=tuple(also),
        remark=remark,
    )
