"""vetrin relay"""

from __future__ import annotations

import argparse
import contextlib
import getpass
import os
import socket
import time
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec.structs import replace

from ...atomic import write_whole
from ...config import (
    FILE_NAME,
    Environment,
    EnvironmentDraft,
    Project,
    RelayHost,
    environment_address,
    keep_relay_key,
    password_variable,
    relay_variable,
)
from ...config.edit import add_environment, set_relay
from ...config.secrets import upload_password
from ...errors import (
    AddressError,
    ExitStatus,
    FilesError,
    ProjectError,
    ReachError,
    Refused,
    UsageError,
)
from ..common import open_to_write, project_of
from ..console import Out, lead, size

if TYPE_CHECKING:
    from ...remote.relay.sealing import RelayKey

_DAYS, _MOST_DAYS = 30, 366


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Write the file that stands in for SSH on a host that has none. Upload it into the folder of the\n"
        "site; from then on the environment works like any other, until its last day. The key to it stays\n"
        "with you: in the keyring, or in a variable."
    )
    parser.add_argument(
        "environment", metavar="ENV", help="the environment; with --address, a new one"
    )
    parser.add_argument(
        "--address",
        metavar="URL",
        help="the address of a new environment; where vetrin.toml is, it is added",
    )
    parser.add_argument(
        "--allow",
        choices=("read", "write"),
        help="what it is for (as the environment's access says)",
    )
    parser.add_argument(
        "--days", metavar="DAYS", type=int, default=_DAYS,
        help=f"for how many days it answers ({_DAYS}; at most {_MOST_DAYS})",
    )  # fmt: skip
    parser.add_argument(
        "--only-from",
        metavar="ADDRESSES",
        help="answer to these addresses and ranges alone, with commas",
    )
    parser.add_argument(
        "--at",
        metavar="URL",
        help="the address of the folder that it is put into, if not that of the site",
    )
    parser.add_argument(
        "--site-folder",
        metavar="DIR",
        default=".",
        help="the site's folder, as seen from the file's (.)",
    )
    parser.add_argument(
        "--into", metavar="DIR", help="where to write the file (the project's folder)"
    )
    parser.add_argument(
        "--upload", metavar="PLACE", help="put it there: ftps://, ftp:// or sftp://user@host/folder"
    )
    parser.add_argument(
        "--remove", action="store_true", help="take the relay, and all that it left, off the host"
    )
    parser.epilog = """examples:
  vetrin relay production --address https://www.harrowmere.example
  vetrin relay production --allow write --days 7 --only-from 203.0.113.0/24
  vetrin relay production --upload ftps://harrowmere@ftp.harrowmere.example/htdocs
  vetrin relay production --remove"""


def run(args: argparse.Namespace, out: Out) -> int:
    if args.remove:
        project = project_of(args)
        return _remove(project, project.environment(args.environment), args, out)
    if not 0 < args.days <= _MOST_DAYS:
        raise UsageError(f"--days {args.days}: a relay answers for 1 to {_MOST_DAYS} days")
    beginning = _project(args)
    return _make(beginning, _environment(beginning, args), args, out)


def _project(args: argparse.Namespace) -> Project | None:
    """The project; None where there is none yet, as for the first file of all."""
    try:
        return project_of(args)
    except ProjectError:
        if args.address is None or Path(args.project or ".", FILE_NAME).exists():
            raise
        return None


def _environment(
    project: Project | None, args: argparse.Namespace
) -> Environment | EnvironmentDraft:
    """The environment that it is for; one that is still to be written down as a draft."""
    if project is not None and (args.address is None or args.environment in project.environments):
        found = project.environment(args.environment)
        if args.address is not None:
            raise UsageError(
                f"there is an environment {args.environment!r} in vetrin.toml already",
                "leave --address out, or correct its address there",
            )
        if found.host is not None and not isinstance(found.host, RelayHost):
            raise UsageError(f"{found.name} is reached over {found.host}; it needs no relay")
        if found.host is None and found.role == "local":
            raise UsageError(f"{found.name} is on this machine; it needs no relay")
        return found
    try:
        address = environment_address(args.address)
    except AddressError as error:
        raise UsageError(f"--address: {error}") from error
    return EnvironmentDraft(args.environment, str(address), ".")


def _make(
    project: Project | None,
    environment: Environment | EnvironmentDraft,
    args: argparse.Namespace,
    out: Out,
) -> int:
    # Loaded only where a relay is made.
    from ...remote.relay.file import NAME, RelayFile, ranges

    key, kept = _key(environment.name)
    now = int(time.time())
    writes = args.allow == "write" or (
        args.allow is None
        and isinstance(environment, Environment)
        and environment.access == "read-write"
    )
    relay = RelayFile(
        site=project.name if project is not None else str(environment.address),
        environment=environment.name,
        maker=_maker(),
        made=now,
        until=now + args.days * 86_400,
        writes=writes,
        only=ranges(args.only_from.split(",")) if args.only_from else (),
        root=_folder(args.site_folder),
    )
    name, text = NAME.format(key.id.hex()), relay.text(key)
    url = f"{(args.at or str(environment.address)).rstrip('/')}/{name}"
    until = datetime.fromtimestamp(relay.until, UTC)
    document = {
        "environment": environment.name, "url": url, "writes": writes, "until": until.isoformat(),
        "only": list(relay.only), "key": kept, "uploaded": bool(args.upload), "removed": [],
    }  # fmt: skip
    folder = project.folder if project is not None else Path(args.project or ".").absolute()
    path = (Path(args.into) if args.into else folder) / name
    if args.dry_run:
        out.document("relay", {**document, "file": None})
        out.show(lead("a relay would be written to ", "").append(str(path), style="name"))
        return ExitStatus.DONE
    if args.upload:
        _upload(environment.name, args.upload, name, text, out)
        document["file"] = None
    else:
        try:
            write_whole(path, text, 0o600)
        except OSError as error:
            raise FilesError(f"{path} could not be written: {error.strerror}") from error
        document["file"] = str(path)
    try:
        _keep(environment.name, key, kept)
    except Refused:
        path.unlink(missing_ok=True)
        raise
    if project is not None and isinstance(environment, EnvironmentDraft):
        add_environment(project, replace(environment, relay=url))
    elif project is not None:
        set_relay(project, environment.name, url)
    out.document("relay", document)
    _tell(out, environment.name, document, len(text))
    following = f"vetrin reach {environment.name}" if project is not None else f"vetrin init {url}"
    if project is None and environment.name != "production":
        following += f" --as {environment.name}"
    out.show(lead("Next: ", "bold").append(following, style="name"))
    return ExitStatus.DONE


def _tell(out: Out, name: str, document: dict[str, object], length: int) -> None:
    what = "reads and writes" if document["writes"] else "reads"
    if document["file"] is None:
        lines = lead("✓ ", "good").append(f"the relay of {name} is there: {document['url']}\n")
    else:
        lines = lead("✓ ", "good").append(
            f"{document['file']} ({size(length)}) is the relay of {name}\n"
        )
        lines.append(
            "  upload it into the folder of the site, by its hosting panel or FTP, as it is;\n"
        )
        lines.append(f"  it is then expected at {document['url']}\n")
    lines.append(f"  it {what}, until {str(document['until'])[:10]}")
    if document["only"]:
        lines.append(f", for {', '.join(document['only'])}")  # type: ignore[arg-type]
    lines.append(
        f"\n  its key is in {document['key']}; whoever has it, and only who has it, can use the relay"
    )
    out.show(lines)


def _maker() -> str:
    try:
        return f"{getpass.getuser()} on {socket.gethostname()}"
    except (OSError, KeyError):
        return socket.gethostname()


def _folder(text: str) -> str:
    """The site's folder as a relay is told of it: ``""``, ``/..``, ``/public``."""
    parts = [part for part in text.split("/") if part not in ("", ".")]
    if text.startswith("/") or any(
        not all(c.isalnum() or c in "._-" for c in part) for part in parts
    ):
        raise UsageError(
            f"--site-folder {text!r}: name it as seen from the file, such as .. or public",
            "letters, digits, dots, dashes and slashes may be in it",
        )
    return "".join(f"/{part}" for part in parts)


def _key(environment: str) -> tuple[RelayKey, str]:
    """The key of the new relay, and where it is kept."""
    from ...remote.relay.sealing import RelayKey  # loaded only where a relay is made

    variable = relay_variable(environment)
    given = os.environ.get(variable)
    if given is None:
        return RelayKey.new(), "the keyring"
    try:
        return RelayKey.parse(given), variable
    except ValueError as error:
        raise UsageError(
            f"{variable} holds no key: {error}",
            "32 random bytes in base64: openssl rand -base64 32",
        ) from None


def _keep(environment: str, key: RelayKey, where: str) -> None:
    if where == "the keyring" and not keep_relay_key(environment, key.text):
        variable = relay_variable(environment)
        raise Refused(
            "no keyring on this machine takes the key of the relay",
            f"set {variable} to a key of your own (openssl rand -base64 32 makes one), keep it, and come again",
        )


def _upload(environment: str, place: str, name: str, text: bytes, out: Out) -> None:
    from ...remote.relay.upload import Account, put  # loaded only where one is uploaded

    account = Account.parse(place)
    put(out.hosts, account, lambda: _password(environment, account.user, out), name, text)


def _password(environment: str, user: str, out: Out) -> str:
    """The password of the account that uploads."""
    found = upload_password(environment)
    if found is None and out.asking:
        found = out.secret(f"Password of {user or 'the account'}")
    if found is None:
        raise UsageError(
            f"the password of {user or 'the account'} is not known",
            f"it comes from {password_variable(environment, 'UPLOAD')} or the keyring "
            f"(service vetrin, user {environment}-upload)",
        )
    return found


def _remove(project: Project, environment: Environment, args: argparse.Namespace, out: Out) -> int:
    # Loaded only where a relay goes.
    from ...jobs.relay_removal import clear_away
    from ...remote.relay.host import RelayedHost, open_exchange
    from ...remote.relay.upload import Account, take_away

    if not isinstance(environment.host, RelayHost):
        raise UsageError(f"{environment.name} has no relay in vetrin.toml")
    url = environment.host.url
    document = {
        "environment": environment.name, "url": url, "writes": False, "until": None, "only": [], "key": "",
        "uploaded": False, "removed": [], "file": None,
    }  # fmt: skip
    if args.dry_run:
        out.document("relay", document)
        out.show(f"the relay at {url} would be removed, and all that Vetrin left on its host")
        return ExitStatus.DONE
    removed: list[str] = []
    if args.upload:
        account = Account.parse(args.upload)
        name = url.rpartition("/")[2]
        password = partial(_password, environment.name, account.user, out)
        if take_away(out.hosts, account, password, name):
            removed.append(name)
    else:
        host = None
        with contextlib.suppress(ReachError):  # one that has expired does nothing but go
            host = out.hosts.of(environment)
        document["writes"] = isinstance(host, RelayedHost) and host.found.writes
        if document["writes"] and environment.access == "read-write":
            with open_to_write(out, project, environment, data=False) as site:
                removed += clear_away(site)
        if not open_exchange(environment.host).leave():
            raise FilesError(
                f"{environment.host}: PHP may not delete the relay's file there",
                "delete it by the hosting panel or FTP; it answers until its last day",
            )
        removed.append(url.rpartition("/")[2])
    document["removed"] = removed
    out.document("relay", document)
    out.show(
        lead("✓ ", "good").append(
            f"the relay of {environment.name} is gone, and what was left on its host"
        )
    )
    return ExitStatus.DONE
