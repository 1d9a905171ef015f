"""Commands that a project brings along: they run on the user's machine, so the user is asked once.

What was agreed to is remembered outside of the project, by a digest of the project's folder and the command, so
that neither another project nor another text can take its place.
"""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Iterable
from pathlib import Path

from msgspec import Struct

from ..atomic import write_whole

VARIABLE = "VETRIN_PROJECT_COMMANDS"  # "run" where nobody is there to be asked, as in CI


class Foreign(Struct, frozen=True):
    """A command that a project would run: ``what`` says what for, ``folder`` where, as the project has it."""

    what: str
    line: str
    folder: str = "."


class Agreed:
    """What the user of this machine agreed to for one project."""

    def __init__(self, project: Path) -> None:
        state = os.environ.get("XDG_STATE_HOME") or ""
        base = Path(state) if Path(state).is_absolute() else Path.home() / ".local/state"
        self._path = base / "vetrin/commands.json"
        self._project = str(project.resolve())

    def lacks(self, commands: Iterable[Foreign]) -> list[Foreign]:
        """Those that nobody has agreed to yet."""
        if os.environ.get(VARIABLE) == "run":
            return []
        known = self._known()
        return [command for command in commands if self._digest(command) not in known]

    def add(self, commands: Iterable[Foreign]) -> None:
        """Remember that some may run.

        Raises:
            OSError: it cannot be kept.
        """
        known = self._known() | {self._digest(command) for command in commands}
        self._path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        write_whole(self._path, (json.dumps(sorted(known), indent=1) + "\n").encode())

    def _known(self) -> set[str]:
        try:
            said = json.loads(self._path.read_text(encoding="utf-8"))
        except (OSError, ValueError):
            return set()
        return {item for item in said if isinstance(item, str)} if isinstance(said, list) else set()

    def _digest(self, command: Foreign) -> str:
        parts = [self._project, command.what, command.line, command.folder]
        return hashlib.sha256(json.dumps(parts).encode()).hexdigest()
