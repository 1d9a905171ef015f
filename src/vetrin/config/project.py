"""vetrin.toml: reading what the user wrote, strictly."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any, Literal

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from ..cms import Definition, EncodedRule, load_definition
from ..errors import AddressError, DefinitionError, HostError, ProjectError
from ..rewrite import Address
from .build import BuildRule, read_build
from .host import Host, RelayHost, WebAccess
from .known_names import known_keys, nearest
from .merge import read_prefer, with_merge
from .selection import (
    Arrival,
    Keep,
    Leave,
    Route,
    defaults,
    merged,
    read_arrival,
    read_keep,
    read_leave,
    read_route,
)
from .store import StoreRule, read_store
from .user_defaults import user_defaults

FILE_NAME = "vetrin.toml"
STATE_FOLDER = ".vetrin"

Role = Literal["local", "staging", "production"]
Access = Literal["read-only", "read-write", "closed"]
ROLES: tuple[Role, ...] = ("local", "staging", "production")
ACCESSES: tuple[Access, ...] = ("read-only", "read-write", "closed")

_PREFIXED = re.compile(r"(\w+\.\w+)=(.+)$")
_NAME = re.compile(r"[a-z0-9][a-z0-9-]*$")
_FINGERPRINT = re.compile(r"(?:[0-9A-Fa-f]{2}:?){31}[0-9A-Fa-f]{2}$")
_RATE = re.compile(r"(\d+(?:\.\d+)?)\s*([kKmMgG]?)B?(?:/s)?$")
_ENVIRONMENT_KEYS = ("address", "also", "root", "host", "relay", "rate", "role", "access", "bare-host", "database",
                     "web", "leave", "keep", "arrival")  # fmt: skip
_TLS = ("verified", "unverified", "off")
_DATABASE_KEYS = (
    "database",
    "user",
    "host",
    "prefix",
    "charset",
    "file",
    "engine",
    "create-as",
    "tls",
    "tls-ca",
)


_DEEPEST = 40  # tables and lists in one another
_LONGEST = 100_000  # characters of a text: conditions in SQL may be long
_SHOWN = 120  # characters of where something stands


class Environment(Struct, frozen=True):
    """One copy of the site. ``root`` is absolute on this machine; on another one (``host``) it may be
    relative to the account's home, and through a relay to the site's folder. ``rate`` is a limit in bytes per
    second. ``database`` overrides single values of the site's own configuration (never the password)."""

    name: str
    address: Address
    root: Path
    also: tuple[Address, ...] = ()
    host: Host | RelayHost | None = None
    rate: int | None = None
    role: Role = "local"
    access: Access = "read-write"
    bare_host: bool = False
    database: Mapping[str, str] = {}
    web: WebAccess = msgspec.field(default_factory=WebAccess)
    leave: Leave = msgspec.field(default_factory=Leave)
    keep: Keep = msgspec.field(default_factory=Keep)
    arrival: Arrival = msgspec.field(default_factory=Arrival)

    @property
    def addresses(self) -> tuple[Address, ...]:
        return (self.address, *self.also)


class Project(Struct, frozen=True):
    """The folder with vetrin.toml and what is written there."""

    folder: Path
    name: str
    definition: Definition
    environments: Mapping[str, Environment]
    leave: Leave = msgspec.field(default_factory=Leave)
    keep: Keep = msgspec.field(default_factory=Keep)
    arrival: Arrival = msgspec.field(default_factory=Arrival)
    routes: Mapping[str, Route] = {}
    build: BuildRule = msgspec.field(default_factory=BuildRule)
    store: StoreRule = msgspec.field(default_factory=StoreRule)
    prefer: Mapping[str, str] = {}

    @property
    def state(self) -> Path:
        return self.folder / STATE_FOLDER

    def environment(self, name: str) -> Environment:
        """The environment of this name.

        Raises:
            ProjectError: there is none; names the nearest one.
        """
        if name in self.environments:
            return self.environments[name]
        raise ProjectError(
            f"no environment {name!r} in {FILE_NAME}" + nearest(name, list(self.environments))
        )

    def route(self, name: str) -> Route:
        """The route of this name.

        Raises:
            ProjectError: there is none; names the nearest one.
        """
        if name in self.routes:
            return self.routes[name]
        hint = nearest(name, list(self.routes)) or "; `vetrin pull … --save-as NAME` makes one"
        raise ProjectError(f"no route {name!r} in {FILE_NAME}{hint}")

    def leave_for(self, target: Environment, leave: Leave) -> Leave:
        """What a transfer to ``target`` leaves out, ``leave`` being its own choice."""
        return merged(merged(self.leave, target.leave), leave)

    def keep_for(self, target: Environment, keep: Keep) -> Keep:
        """What ``target`` keeps in a transfer, ``keep`` being its own choice."""
        return merged(merged(self.keep, target.keep), keep)

    def arrival_for(self, target: Environment, arrival: Arrival) -> Arrival:
        """How ``target`` is settled by a transfer, ``arrival`` being its own choice."""
        usual = merged(defaults(target.role), self.arrival)
        return merged(merged(usual, target.arrival), arrival)


def find_project(start: Path) -> Path:
    """The nearest folder at or above ``start`` that holds vetrin.toml.

    Raises:
        ProjectError: there is none.
    """
    folder = start.resolve()
    for candidate in (folder, *folder.parents):
        if (candidate / FILE_NAME).is_file():
            return candidate
    raise ProjectError(
        f"no {FILE_NAME} in {folder} or above it; "
        "run `vetrin init` in the site's folder, or name the project's folder with --project"
    )


def _must_be_sane(value: object, where: str, depth: int = 0) -> None:
    """Raises ProjectError for what no value here can be, whatever it is for."""
    if depth > _DEEPEST:
        raise ProjectError(f"{where}: it is nested too deeply")
    if isinstance(value, str) and ("\0" in value or len(value) > _LONGEST):
        what = "a NUL" if "\0" in value else f"more than {_LONGEST:,} characters"
        raise ProjectError(f"{where}: a text in it has {what}")
    if isinstance(value, Mapping):
        for key, inner in value.items():
            _must_be_sane(key, where, depth + 1)
            _must_be_sane(inner, f"{where}: {key}"[:_SHOWN], depth + 1)
    elif isinstance(value, list):
        for inner in value:
            _must_be_sane(inner, where, depth + 1)


def load_project(folder: Path) -> Project:
    """Read vetrin.toml in ``folder``.

    Raises:
        ProjectError: the file is missing, no TOML, or has an unknown key or a wrong value.
    """
    path = folder / FILE_NAME
    try:
        text = path.read_text(encoding="utf-8-sig")  # some editors begin a file with a mark
    except FileNotFoundError:
        raise ProjectError(f"no {FILE_NAME} in {folder}; run `vetrin init` there") from None
    except OSError as error:
        raise ProjectError(f"{path} cannot be read: {error.strerror}") from error
    except UnicodeDecodeError as error:
        raise ProjectError(f"{path}: {error}") from error
    return parse_project(text, folder)


def parse_project(text: str, folder: Path) -> Project:
    """The project that the text of a vetrin.toml in ``folder`` describes.

    Raises:
        ProjectError: it is no TOML, or has an unknown key or a wrong value.
    """
    path = folder / FILE_NAME
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise ProjectError(f"{path}: {error}") from error
    except RecursionError:
        raise ProjectError(f"{path}: it is nested too deeply") from None
    _must_be_sane(data, FILE_NAME)
    known_keys(
        data,
        (
            "site",
            "environment",
            "rewrite",
            "leave",
            "keep",
            "arrival",
            "route",
            "build",
            "store",
            "merge",
        ),
        FILE_NAME,
    )
    site = _part(data, "site", FILE_NAME)
    known_keys(site, ("name", "cms"), "[site]")
    name = _text(site, "name", "[site]", required=True)
    try:
        definition = load_definition(_text(site, "cms", "[site]", required=True), folder)
    except DefinitionError as error:
        raise ProjectError(f"[site] cms: {error}") from error
    definition = with_merge(_with_rewriting(definition, data), data.get("merge", {}))
    environments: dict[str, Environment] = {}
    for key, entry in _part(data, "environment", FILE_NAME).items():
        if not _NAME.match(key):
            raise ProjectError(
                f"[environment.{key}]: a name is made of lower-case letters, digits and dashes"
            )
        if not isinstance(entry, dict):
            raise ProjectError(f"environment.{key}: write it as a table [environment.{key}]")
        environments[key] = _environment(key, entry, folder)
    if not environments:
        raise ProjectError(f"{path}: it names no environment; add [environment.local]")
    _same_place(environments)
    routes = data.get("route", {})
    if not isinstance(routes, dict):
        raise ProjectError("route: write it as tables [route.NAME]")
    for key in routes:
        if not _NAME.match(key):
            raise ProjectError(
                f"[route.{key}]: a name is made of lower-case letters, digits and dashes"
            )
    return Project(
        folder=folder,
        name=name,
        definition=definition,
        environments=environments,
        leave=read_leave(data.get("leave", {}), "[leave]"),
        keep=read_keep(data.get("keep", {}), "[keep]"),
        arrival=read_arrival(data.get("arrival", {}), "[arrival]"),
        routes={key: read_route(key, entry, list(environments)) for key, entry in routes.items()},
        build=read_build(data.get("build", {})),
        store=_store(data.get("store", {}), name),
        prefer=read_prefer(data.get("merge", {}), environments),
    )


def _store(data: object, name: str) -> StoreRule:
    """Where the store is: as the project says, else as the user's own defaults say."""
    found = read_store(data)
    stores = user_defaults().stores
    if found.place or stores is None:
        return found
    folder = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-") or "site"
    return replace(found, place=str(stores / folder))


def _with_rewriting(definition: Definition, data: dict[str, Any]) -> Definition:
    """The definition with what [rewrite] of this project adds to it."""
    part = data.get("rewrite", {})
    if not isinstance(part, dict):
        raise ProjectError("[rewrite]: write it as a table")
    known_keys(part, ("fixed", "encoded", "prefixed", "files"), "[rewrite]")
    for key in part:
        if not isinstance(part[key], list) or not all(isinstance(one, str) for one in part[key]):
            what = "patterns" if key == "files" else "columns"
            raise ProjectError(f"[rewrite] {key}: write a list of {what}")
    try:
        encoded = tuple(EncodedRule.parse(item) for item in part.get("encoded", ()))
    except DefinitionError as error:
        raise ProjectError(f"[rewrite] encoded: {error}") from error
    prefixed = {key: tuple(names) for key, names in definition.prefixed.items()}
    for item in part.get("prefixed", ()):
        match = _PREFIXED.match(item)
        if match is None:
            raise ProjectError(f"[rewrite] prefixed: {item!r}: write table.column=name")
        prefixed[match[1]] = (*prefixed.get(match[1], ()), match[2])
    return replace(
        definition,
        prefixed=prefixed,
        fixed=(*definition.fixed, *part.get("fixed", ())),
        text_files=(*definition.text_files, *part.get("files", ())),
        encoded=(*definition.encoded, *encoded),
    )


def _environment(name: str, entry: dict[str, Any], folder: Path) -> Environment:
    where = f"[environment.{name}]"
    if "password" in entry:
        raise _secret(f"{where} password", name, name, password_variable(name))
    known_keys(entry, _ENVIRONMENT_KEYS, where)
    web = web_access(name, entry.get("web", {}), folder)
    host = _host(entry, where, name, web)
    also = entry.get("also", [])
    if not isinstance(also, list):
        raise ProjectError(f"{where} also: write a list of addresses")
    try:
        address = environment_address(_text(entry, "address", where, required=True))
        more = tuple(environment_address(str(item)) for item in also)
    except AddressError as error:
        raise ProjectError(f"{where} address: {error}") from error
    role = _text(entry, "role", where) or (name if name in ROLES else "local")
    if role not in ROLES:
        raise ProjectError(f"{where} role: {role!r} is none of {', '.join(ROLES)}")
    access = _text(entry, "access", where) or (
        "read-only" if role == "production" else "read-write"
    )
    if access not in ACCESSES:
        raise ProjectError(f"{where} access: {access!r} is none of {', '.join(ACCESSES)}")
    bare = entry.get("bare-host", False)
    if not isinstance(bare, bool):
        raise ProjectError(f"{where} bare-host: write true or false")
    database = entry.get("database", {})
    if not isinstance(database, dict):
        raise ProjectError(f"{where} database: write a table")
    if "password" in database:
        raise _secret(
            f"[environment.{name}.database] password", name, name, password_variable(name)
        )
    known_keys(database, _DATABASE_KEYS, f"[environment.{name}.database]")
    if database.get("tls", _TLS[0]) not in _TLS:
        raise ProjectError(f"[environment.{name}.database] tls: write one of {', '.join(_TLS)}")
    if "tls-ca" in database:
        path = folder.absolute() / Path(str(database["tls-ca"])).expanduser()
        database = {**database, "tls-ca": path}
    through_relay = isinstance(host, RelayHost)
    text = _text(entry, "root", where, required=not through_relay) or "."
    if "://" in text:
        scheme, _, rest = text.partition("://")
        name, _, folder_there = rest.partition("/")
        raise ProjectError(
            f'{where} root: {text!r} is an address; write host = "{scheme}://{name}" and root = "/{folder_there}"'
        )
    given = Path(text)
    # On another machine it is that one's affair what it is relative to.
    root = given if host else folder.absolute() / given.expanduser()
    return Environment(
        name=name,
        address=address,
        root=root,
        host=host,
        rate=_rate(entry, where),
        also=more,
        role=role,
        access=access,
        bare_host=bare,
        database={key: str(value) for key, value in database.items()},
        web=web,
        leave=read_leave(entry.get("leave", {}), f"[environment.{name}.leave]"),
        keep=read_keep(entry.get("keep", {}), f"[environment.{name}.keep]"),
        arrival=read_arrival(entry.get("arrival", {}), f"[environment.{name}.arrival]"),
    )


def web_access(name: str, data: object, folder: Path) -> WebAccess:
    """The table ``[environment.NAME.web]``; a certificate's path counts from the project's ``folder``.

    Raises:
        ProjectError: it is not well-formed.
    """
    where = f"[environment.{name}.web]"
    if not isinstance(data, dict):
        raise ProjectError(f"{where}: write a table")
    if "password" in data:
        raise _secret(f"{where} password", name, f"{name}-web", password_variable(name, "WEB"))
    known_keys(data, ("user", "certificate", "fingerprint"), where)
    certificate = _text(data, "certificate", where)
    fingerprint = _text(data, "fingerprint", where)
    if fingerprint and not _FINGERPRINT.match(fingerprint):
        raise ProjectError(
            f"{where} fingerprint: write the SHA-256 of the certificate, 64 hexadecimal digits"
        )
    return WebAccess(
        _text(data, "user", where),
        folder.absolute() / Path(certificate).expanduser() if certificate else None,
        fingerprint.replace(":", "").lower(),
    )


def _secret(where: str, name: str, user: str, variable: str) -> ProjectError:
    """The error for a password in vetrin.toml."""
    own = "the site's own configuration, " if user == name else ""
    return ProjectError(
        f"{where}: a secret does not belong into this file",
        f"put it into {own}the keyring (service vetrin, user {user}) or {variable}",
    )


def environment_address(text: str) -> Address:
    """The address of an environment, as a person writes it.

    Raises:
        AddressError: it is none, or has a name and password in it.
    """
    if "@" in text.partition("://")[2].partition("/")[0]:
        raise AddressError(
            "a name and password do not belong into an address; write the name as user in [environment.NAME.web], "
            "the password comes from the keyring or a variable"
        )
    return Address.parse(text)


def _where(environment: Environment) -> tuple[str, str]:
    if environment.host is not None:
        return str(environment.host), str(environment.root)
    return "", str(environment.root.resolve())


def _host(entry: dict[str, Any], where: str, name: str, web: WebAccess) -> Host | RelayHost | None:
    text, relay = _text(entry, "host", where), _text(entry, "relay", where)
    if text and relay:
        raise ProjectError(f"{where}: write host or relay; both lead to one machine")
    try:
        if relay:
            return RelayHost.parse(relay, name, web)
        return Host.parse(text) if text else None
    except HostError as error:
        raise ProjectError(
            f"{where} {'relay' if relay else 'host'}: {error}", error.remedy
        ) from error


def _rate(entry: dict[str, Any], where: str) -> int | None:
    text = _text(entry, "rate", where)
    try:
        return bytes_per_second(text) if text else None
    except ValueError as error:
        raise ProjectError(f"{where} rate: {error}") from error


def bytes_per_second(text: str) -> int:
    """A rate as ``2 MB/s`` or ``500 kB/s``.

    Raises:
        ValueError: it is something else.
    """
    match = _RATE.match(text.strip())
    if match is None or not float(match[1]):
        raise ValueError(f'{text!r}: write a rate such as "2 MB/s" or "500 kB/s"')
    return int(float(match[1]) * {"": 1, "k": 10**3, "m": 10**6, "g": 10**9}[match[2].lower()])


def _same_place(environments: Mapping[str, Environment]) -> None:
    seen: dict[object, str] = {}
    for environment in environments.values():
        for key, what in (
            ((environment.address.authority, environment.address.path), "address"),
            (_where(environment), "root"),
        ):
            if key in seen:
                raise ProjectError(
                    f"[environment.{environment.name}] has the same {what} as "
                    f"[environment.{seen[key]}]; two environments cannot be one place"
                )
            seen[key] = environment.name


def password_variable(environment: str, of: str = "DATABASE") -> str:
    """The environment variable that may hold a password of an environment: of its DATABASE, of the account that may
    CREATE one, or of its WEB pages."""
    return f"VETRIN_{environment.upper().replace('-', '_')}_{of}_PASSWORD"


def _part(data: Mapping[str, Any], key: str, where: str) -> dict[str, Any]:
    part = data.get(key)
    if not isinstance(part, dict):
        raise ProjectError(f"{where}: the table [{key}] is missing")
    return part


def _text(data: Mapping[str, Any], key: str, where: str, *, required: bool = False) -> str:
    value = data.get(key, "")
    if not isinstance(value, str):
        raise ProjectError(f"{where} {key}: write a text in quotes")
    if required and not value:
        raise ProjectError(f"{where}: {key} is missing")
    return value
