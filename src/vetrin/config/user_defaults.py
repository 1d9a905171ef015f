"""What a user wants in all projects: ``vetrin/defaults.toml`` in the folder for configuration (XDG Base Directory
Specification)."""

from __future__ import annotations

import os
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from msgspec import Struct

from ..errors import ProjectError
from .known_names import known_keys


class UserDefaults(Struct, frozen=True):
    """``rate`` and ``color`` are as on the command line; ``stores`` is a folder in which each project's store has a
    folder of its own; ``database`` is of copies on this machine: ``host``, ``user``, ``create-as``."""

    color: str = ""
    rate: str = ""
    stores: Path | None = None
    database: Mapping[str, str] = {}


def defaults_file() -> Path:
    """Where the file is, or would be."""
    folder = os.environ.get("XDG_CONFIG_HOME", "")
    # By the specification, a path that is relative does not count.
    base = Path(folder) if folder.startswith("/") else Path("~/.config").expanduser()
    return base / "vetrin" / "defaults.toml"


def user_defaults() -> UserDefaults:
    """The defaults of whoever runs this; without a file, none.

    Raises:
        ProjectError: it has an unknown key or a wrong value, or cannot be read.
    """
    path = defaults_file()
    if not os.access(path.parent, os.X_OK):
        return UserDefaults()  # none, or the home of somebody else
    try:
        data = tomllib.loads(path.read_text(encoding="utf-8-sig"))
    except (FileNotFoundError, NotADirectoryError):
        return UserDefaults()
    except OSError as error:
        raise ProjectError(f"{path} cannot be read: {error.strerror}") from error
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, RecursionError) as error:
        raise ProjectError(f"{path}: {error}") from error
    known_keys(data, ("color", "rate", "stores", "database"), str(path))
    database = data.get("database", {})
    if not isinstance(database, dict):
        raise ProjectError(f"{path} database: write a table")
    known_keys(database, ("host", "user", "create-as"), f"{path} [database]")
    for where, table in ((path, data), (f"{path} [database]", database)):
        for key, value in table.items():
            if key != "database" and not isinstance(value, str):
                raise ProjectError(f"{where} {key}: write a text in quotes")
    stores = _text(data, "stores")
    return UserDefaults(
        _text(data, "color"),
        _text(data, "rate"),
        Path(stores).expanduser() if stores else None,
        database,
    )


def _text(data: Mapping[str, Any], key: str) -> str:
    return str(data.get(key, ""))
