"""An embedded database on a host on which nothing of ours runs: a copy of its file is fetched and read here.

Writing to it is refused, for nobody could hold the database's locks.
"""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

from ..database.sqlite.database import LocalOpener
from ..errors import FilesError
from ..files import Machine, RemotePath, spot_there
from ..spot import Spot

_TRIES = 5


class CopyOpener(LocalOpener):
    """Fetches a copy of the file, with what its log holds, and opens that for reading."""

    unwritable = "nobody could hold the locks of its SQLite database there meanwhile"

    def __init__(self, machine: Machine, account: str, name: str) -> None:
        self._machine = machine
        self._account = account
        self._name = name
        self._folder: tempfile.TemporaryDirectory[str] | None = None

    def exists(self, path: str) -> bool:
        return RemotePath(self._machine, path).is_file()

    def identity(self, path: str) -> str:
        return f"{self._account}{self._machine.real(path)}"

    def spot(self, path: str) -> Spot | None:
        return spot_there(self._machine, self._name, path)

    def connect(self, path: str, mode: str, *, bulk: bool = False) -> Any:
        if self._folder is None:
            self._folder = tempfile.TemporaryDirectory(prefix="vetrin-")
            self._fetch(path, Path(self._folder.name))
        connection = super().connect(str(Path(self._folder.name, "copy.sqlite")), "rw")
        connection.execute("PRAGMA query_only = ON")  # what were written to a copy would be lost
        return connection

    def _fetch(self, path: str, folder: Path) -> None:
        names = [path, f"{path}-wal"]
        for _ in range(_TRIES):
            before = self._machine.look(names, follow=True)
            for name, seen, to in zip(
                names, before, ("copy.sqlite", "copy.sqlite-wal"), strict=True
            ):
                (folder / to).unlink(missing_ok=True)
                if seen is not None:
                    with (folder / to).open("wb") as file:
                        file.writelines(self._machine.read(name))
            if self._machine.look(names, follow=True) == before:
                return
        raise FilesError(f"{path}: it changes faster than it can be fetched")
