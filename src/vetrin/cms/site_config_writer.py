"""Making a configuration file for a copy out of the one of its source.

The source's text stays as it is but for the values that differ: each place where one is set gets
the new value as a plain literal. What was written is read back before anybody else sees it.
"""

from __future__ import annotations

import secrets
import string
from collections.abc import Mapping
from typing import Any

from ..errors import ConfigurationWriteError
from .definition import Definition
from .php_source import PhpFileError, Token, read_text, tokens
from .site_path import Place

_SECRET_LENGTH = 64
# Letters, digits and marks that need no escape in any language's quotes.
_SECRET_LETTERS = string.ascii_letters + string.digits + "!#%&()*+,-./:;<=>?@[]^_{|}~"


def new_secret() -> str:
    """64 random characters, as much as a CMS asks for."""
    return "".join(secrets.choice(_SECRET_LETTERS) for _ in range(_SECRET_LENGTH))


def configuration_text(text: str, definition: Definition, values: Mapping[str, str]) -> str:
    """The text of a configuration file with other ``values``, by their names in the definition.

    Values that the definition names and ``values`` lacks stay; each of its secrets is made anew.

    Raises:
        ConfigurationWriteError: the file is of a kind that cannot be written, or cannot be read.
    """
    rule = definition.configuration
    wanted: dict[str, str] = {}
    for key, value in values.items():
        name = rule.values.get(key)
        if isinstance(name, str):
            wanted[name] = value
    if rule.reader == "php":
        return _php(text, wanted, {name: new_secret() for name in rule.secrets})
    if rule.reader == "toml":
        return _toml(text, {**wanted, **{name: new_secret() for name in rule.secrets}})
    raise ConfigurationWriteError(
        f"a configuration file in {rule.reader} has to be written by hand"
    )


def with_constants(text: str, definition: Definition, values: Mapping[str, str]) -> str:
    """The text of a configuration file with other values for these constants, by their own names.

    Raises:
        ConfigurationWriteError: the file is of a kind that cannot be written, or cannot be read.
    """
    if definition.configuration.reader == "php":
        return _php(text, values, {})
    if definition.configuration.reader == "toml":
        return _toml(text, values)
    raise ConfigurationWriteError("a configuration file of this kind has to be corrected by hand")


def php_literal(text: str) -> str:
    """A text as a single-quoted PHP string."""
    return "'" + text.replace("\\", "\\\\").replace("'", "\\'") + "'"


def _php(text: str, wanted: Mapping[str, str], fresh: Mapping[str, str]) -> str:
    try:
        found = tokens(text)
    except PhpFileError as error:
        raise ConfigurationWriteError(str(error)) from error
    places: list[tuple[int, int, str]] = []
    seen: set[str] = set()
    values = {**fresh, **wanted}
    for at in range(len(found)):
        name, begin = _setting(found, at)
        if name in values and begin is not None:
            end = _end(found, begin)
            places.append((found[begin].start, found[end - 1].end, values[name]))
            seen.add(name)
    for start, end, value in reversed(places):
        text = text[:start] + php_literal(value) + text[end:]
    missing = [name for name in wanted if name not in seen]
    if missing:
        lines = "".join(
            f"{name} = {php_literal(wanted[name])};\n" if name.startswith("$")
            else f"define( '{name}', {php_literal(wanted[name])} );\n"
            for name in missing
        )  # fmt: skip
        first = found[0].start if found else len(text)
        text = text[:first] + lines + text[first:]
    return text


def _setting(found: list[Token], at: int) -> tuple[str, int | None]:
    """The name that is set at a token, and the token at which its value begins."""
    token = found[at]

    def text(ahead: int) -> str:
        return found[at + ahead].text if at + ahead < len(found) else ""

    if token.kind == "word":
        word = token.text.lower().lstrip("\\")
        if word == "define" and text(1) == "(" and text(3) == ",":
            return text(2)[1:-1], at + 4
        if word == "const" and text(2) == "=":
            return text(1), at + 3
    if token.kind == "variable" and text(1) == "=" and found[at - 1].text not in ("->", "::"):
        return token.text, at + 2
    return "", None


def _end(found: list[Token], begin: int) -> int:
    """The token behind the expression that begins at ``begin``."""
    depth = 0
    for at in range(begin, len(found)):
        text = found[at].text
        if depth == 0 and text in (",", ";", ")"):
            return at
        depth += (text in ("(", "[", "{")) - (text in (")", "]", "}"))
    return len(found)


def _toml(text: str, wanted: Mapping[str, str]) -> str:
    # These take long to load, and few sites have such a configuration.
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    try:
        document = tomlkit.parse(text)
    except TOMLKitError as error:
        raise ConfigurationWriteError(str(error)) from error
    for name, value in wanted.items():
        table: Any = document
        *path, last = name.split(".")
        for key in path:
            table = table.setdefault(key, tomlkit.table())
        table[last] = value
    return tomlkit.dumps(document)


def source_text(path: Place) -> str:
    """A configuration file's text as it stands.

    Raises:
        ConfigurationWriteError: it cannot be read.
    """
    try:
        return read_text(path)
    except OSError as error:
        raise ConfigurationWriteError(f"{path} cannot be read: {error.strerror}") from error
