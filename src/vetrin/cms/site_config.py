"""Reading a site's own configuration: where its database is and which addresses it fixes."""

from __future__ import annotations

import os
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from ..errors import ConfigurationError
from .definition import Definition
from .php_source import PhpFileError, PhpValues, read_values
from .python_source import read_settings
from .rules import ConfigurationRule, ValueAt
from .site_path import Place

ENGINES = ("mysql", "sqlite")


@dataclass(frozen=True)
class SiteConfiguration:
    """What a site's configuration says. ``host`` is as written there: name, port or socket.

    ``file`` is the file that was read, or None where everything was given by the project. ``secrets`` are the
    values that each copy has for itself, for as long as this process runs: they are never kept or shown.
    """

    engine: str
    database: str
    prefix: str = ""
    user: str = ""
    password: str = field(default="", repr=False)
    host: str = ""
    charset: str = ""
    addresses: tuple[str, ...] = ()
    title: str = ""
    file: Place | None = None
    secrets: Mapping[str, str] = field(default_factory=dict, repr=False, compare=False)

    @property
    def host_port_socket(self) -> tuple[str, int | None, str | None]:
        """``host`` taken apart: ``name``, ``name:3307``, ``[::1]:3307``, ``name:/run/x.sock``; None for the usual."""
        text = self.host or "localhost"
        if text.startswith("["):
            name, _, rest = text[1:].partition("]")
            return name, int(rest[1:]) if rest[1:].isdigit() else None, None
        if text.startswith("/"):
            return "localhost", None, text
        if text.count(":") > 1 and "/" not in text:
            return text, None, None
        name, _, rest = text.partition(":")
        if rest.isdigit():
            return name or "localhost", int(rest), None
        if rest.startswith("/"):
            return name or "localhost", None, rest
        return name, None, None


def configuration_file(root: Place, definition: Definition) -> Place | None:
    """The site's configuration file, where there is one."""
    for name in definition.configuration.files:
        first = next(iter(sorted(root.glob(name), key=str)), None) if "*" in name else None
        path = first or root / name
        # A file one level up belongs to this site only where no other site is there.
        if path.is_file() and not (name.startswith("../") and definition.is_site(root.parent)):
            return path
    return None


_OF_THE_CONNECTION = ("create-as", "tls", "tls-ca")


def read_configuration(
    root: Place,
    definition: Definition,
    given: Mapping[str, str] | None = None,
    environ: Mapping[str, str] | None = None,
) -> SiteConfiguration:
    """Read the configuration of the site at ``root``, without running it.

    ``given`` overrides single values (the project's ``database`` table).

    Raises:
        ConfigurationError: says which value is missing or uncertain and how to give it.
    """
    rule = definition.configuration
    found = {key: text for key, text in (given or {}).items() if key not in _OF_THE_CONNECTION}
    if "file" in found:
        found["database"] = found.pop("file")
        found.setdefault("engine", "sqlite")
    path = configuration_file(root, definition)
    if path is None and "database" not in found:
        raise ConfigurationError(_nothing_there(rule, root))
    addresses: tuple[str, ...] = ()
    secrets: dict[str, str] = {}
    if path is not None:
        values = _read(path, rule.reader, environ, rule.stop_at)
        secrets = {
            name: str(values.values[name])
            for name in rule.secrets
            if name not in values.uncertain and values.values.get(name) is not None
        }
        addresses = _addresses(rule, values)
        found = _completed(found, rule, values, path)
    if rule.engines and found.get("engine") in rule.engines:
        found["engine"] = rule.engines[found["engine"]]
    engine = found.get("engine", rule.engine)
    if engine not in ENGINES:
        raise ConfigurationError(
            f"{path or root}: {engine} is no database that Vetrin moves; "
            f"these are {', '.join(ENGINES)}"
        )
    database = found.get("database")
    if not database:
        raise ConfigurationError(f"{path or root}: it does not say which database the site uses")
    return SiteConfiguration(
        engine=engine,
        database=database,
        prefix=found.get("prefix", ""),
        user=found.get("user", ""),
        password=found.get("password", ""),
        host=found.get("host", ""),
        charset=found.get("charset", ""),
        addresses=addresses,
        title=found.get("title", ""),
        file=path,
        secrets=secrets,
    )


def _nothing_there(rule: ConfigurationRule, root: Place) -> str:
    """What to say where nothing tells which database a site uses."""
    names = " or ".join(name for name in rule.files if not name.startswith("../"))
    if names:
        return (
            f"there is no {names} in {root}; is this the root of the site? "
            "Its database can also be given under [environment.NAME.database]"
        )
    return (
        f"nothing says which database belongs to {root}; give it under [environment.NAME.database]"
    )


def _names(wanted: str | Sequence[str]) -> Sequence[str]:
    return [wanted] if isinstance(wanted, str) else wanted


def _addresses(rule: ConfigurationRule, values: PhpValues) -> tuple[str, ...]:
    """The addresses that a configuration fixes for certain."""
    names = _names(rule.values.get("addresses", ()))
    texts = [values.values.get(name) for name in names if name not in values.uncertain]
    return tuple(text for text in texts if isinstance(text, str))


def _completed(
    found: Mapping[str, str], rule: ConfigurationRule, values: PhpValues, path: Place
) -> dict[str, str]:
    """What was given, and all else from the file.

    Raises:
        ConfigurationError: a value that was not given is uncertain, or missing here.
    """
    completed = dict(found)
    for key, wanted in rule.values.items():
        if key == "addresses":
            continue
        for name in _names(wanted):
            if key in completed:
                break
            if name in values.uncertain:
                raise ConfigurationError(
                    f"{path}: {name} has different values in different branches; "
                    f"give it as {key} under [environment.NAME.database]"
                )
            if name in values.missing:
                raise ConfigurationError(
                    f"{path}: {name} comes from the environment variable "
                    f"{values.missing[name]}, which is not set here; set it, or give {key} under "
                    "[environment.NAME.database]"
                )
            value = values.values.get(name)
            if value is not None:
                completed[key] = str(value)
    return completed


def read_version(root: Place, definition: Definition) -> str | None:
    """The CMS's version, from the file that the definition names; None where it is not told."""
    rule: ValueAt | None = definition.version
    if rule is None or not (root / rule.file).is_file():
        return None
    try:
        value = _read(root / rule.file, rule.reader, None, ()).values.get(rule.value)
    except ConfigurationError:
        return None
    return None if value is None else str(value)


def value_in(root: Place, file: str, name: str) -> str | None:
    """The value of a variable or constant of a PHP file below ``root``, read without running it; None where it is not
    told."""
    if not (root / file).is_file():
        return None
    try:
        value = _read(root / file, "php", None, ()).values.get(name)
    except ConfigurationError:
        return None
    return None if value is None else str(value)


def _read(
    path: Place, reader: str, environ: Mapping[str, str] | None, stop_at: tuple[str, ...]
) -> PhpValues:
    try:
        if reader == "php":
            return read_values(path, os.environ if environ is None else environ, stop_at=stop_at)
        if reader == "toml":
            values = PhpValues()
            _flatten(tomllib.loads(path.read_text(encoding="utf-8")), "", values)
            return values
        if reader == "python":
            return read_settings(path, os.environ if environ is None else environ)
    except PhpFileError as error:
        raise ConfigurationError(f"{path}: {error}") from error
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise ConfigurationError(f"{path}: {error}") from error
    except (RecursionError, MemoryError) as error:
        raise ConfigurationError(f"{path}: nested deeper than any configuration is") from error
    except OSError as error:
        raise ConfigurationError(f"{path} cannot be read: {error.strerror}") from error
    raise ConfigurationError(f"{path}: there is no reader {reader!r}")


def _flatten(data: Mapping[str, object], prefix: str, values: PhpValues) -> None:
    for key, value in data.items():
        if isinstance(value, dict):
            _flatten(value, f"{prefix}{key}.", values)
        elif isinstance(value, (str, int, float, bool)):
            values.values[prefix + key] = value
