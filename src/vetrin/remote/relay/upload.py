"""Putting a relay's file where its web server finds it: by FTP, FTP over TLS, or SFTP. Nothing else goes this way."""

from __future__ import annotations

import ftplib
import io
import ssl
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from urllib.parse import unquote, urlsplit

from msgspec import Struct

from ...config import Host
from ...errors import ConnectionFailed, FilesError, UsageError
from ...files import FileChange, Machine, Writing
from ...files.remote_machine import NOW
from ..pool import Hosts

_SECONDS = 30.0
SCHEMES = ("ftp", "ftps", "sftp")


class Account(Struct, frozen=True):
    """Where files are put: ``ftps://user@host:port/folder``. ``ftps`` asks for TLS before the password goes over."""

    scheme: str
    name: str
    port: int | None
    user: str
    folder: str

    @classmethod
    def parse(cls, text: str) -> Account:
        """Read it. Raises UsageError for what is none, or has a password in it."""
        parts = urlsplit(text)
        if parts.password is not None:
            raise UsageError(
                "a password does not belong into an address",
                "leave it out: it is asked for, or comes from the keyring or a variable",
            )
        try:
            port = parts.port
        except ValueError:
            port = 0
        if parts.scheme not in SCHEMES or not parts.hostname or port == 0:
            raise UsageError(
                f"{text!r} is no place to upload to",
                "write ftps://user@host/folder (or ftp://, sftp://), with the folder of the site",
            )
        user = unquote(parts.username or "")
        return cls(parts.scheme, parts.hostname, port, user, unquote(parts.path).rstrip("/") or "/")

    def __str__(self) -> str:
        return f"{self.scheme}://{self.name}{self.folder}"


def put(
    hosts: Hosts, account: Account, password: Callable[[], str], name: str, content: bytes
) -> None:
    """Lay a file there; one of that name is replaced.

    Raises:
        ConnectionFailed: the server is not reached, or refuses the account.
        FilesError: it takes no file there.
    """
    if account.scheme == "sftp":
        machine = _machine(hosts, account)
        machine.write_many([(Writing(f"{account.folder}/{name}", 0o644, NOW), [content])])
        return
    with _ftp(account, password) as ftp:
        ftp.storbinary(f"STOR {name}", io.BytesIO(content))
        held = io.BytesIO()
        ftp.retrbinary(f"RETR {name}", held.write)
        if held.getvalue() != content:
            raise FilesError(f"{account}: what arrived as {name} is not what was sent")


def take_away(hosts: Hosts, account: Account, password: Callable[[], str], name: str) -> bool:
    """Delete a file there; False where it was not there. Raises as ``put``."""
    if account.scheme == "sftp":
        machine = _machine(hosts, account)
        path = f"{account.folder}/{name}"
        if machine.look([path])[0] is None:
            return False
        machine.act([FileChange("remove", path)])
        return True
    with _ftp(account, password) as ftp:
        if name not in ftp.nlst():
            return False
        ftp.delete(name)
        return True


@contextmanager
def _ftp(account: Account, password: Callable[[], str]) -> Iterator[ftplib.FTP]:
    """A session in the folder."""
    secure = account.scheme == "ftps"
    ftp = ftplib.FTP_TLS(context=ssl.create_default_context()) if secure else ftplib.FTP()
    ftp.timeout = _SECONDS
    try:
        try:
            ftp.connect(account.name, account.port or 21)
            ftp.login(account.user or "anonymous", password())
            if isinstance(ftp, ftplib.FTP_TLS):
                ftp.prot_p()
        except ssl.SSLError as error:
            raise ConnectionFailed(
                f"{account}: {error.reason or error}",
                "its certificate is not one that is known here; upload the file by other means",
            ) from error
        except ftplib.all_errors as error:
            raise ConnectionFailed(
                f"{account}: {error}", "check the name, the account and its password"
            ) from error
        try:
            ftp.cwd(account.folder)
            yield ftp
        except ftplib.all_errors as error:
            raise FilesError(
                f"{account}: {error}", "name the folder of the site as this account sees it"
            ) from error
    finally:
        ftp.close()


def _machine(hosts: Hosts, account: Account) -> Machine:
    return hosts.at(Host(account.name, account.user, account.port), "the upload").machine
