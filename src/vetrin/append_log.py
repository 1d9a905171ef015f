"""One durable log of lines: the journal of a run, what it has copied, what it keeps of its source.

The file is JSON, one object a line. The first line names what the log is and its version:
``{"log": "journal", "version": 2}``; files of older versions have no such line.

It is built to survive a killed process, a full disk and a loss of power: a line counts once its line feed is
there; what follows the last line feed was cut off, counts as not written, and is cut away before anything is
appended. An append that fails leaves nothing of its line behind. A new file is flushed with the folder that
it lies in, so that no log is lost with its name.
"""

from __future__ import annotations

import contextlib
import json
import os
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import Any, NamedTuple

from .errors import NewerLog


class Events(NamedTuple):
    """What a log holds. ``sound`` is False where a whole line of it could not be read: then something is
    missing, and later lines may build on it. ``version`` is 0 for a file without a first line of its own."""

    items: list[dict[str, Any]]
    sound: bool
    version: int


class AppendLog:
    """A log at ``path``; ``name`` and ``version`` are those of its first line."""

    def __init__(self, path: Path, name: str, version: int) -> None:
        self.path = path
        self._name = name
        self._version = version
        self._begun = False

    @property
    def there(self) -> bool:
        return self.path.exists()

    def read(self, outline: Callable[[bytes], dict[str, Any] | None] | None = None) -> Events:
        """All events, oldest first; nothing is changed. ``outline`` may tell of a line, without its line feed, what
        is to stand for it, so that a long one need not be read; of logs that have a version.

        Raises:
            NewerLog: its version is beyond this one's.
            OSError: it is there and cannot be read.
        """
        try:
            content = self.path.read_bytes()
        except FileNotFoundError:
            return Events([], True, self._version)
        lines = content.split(b"\n")[:-1]  # what follows the last line feed was cut off
        version, items, sound = 0, [], True
        for number, line in enumerate(lines):
            event = outline(line) if outline is not None and version else None
            if event is None:
                event = _object(line)
            if event is None:
                sound = False
                # Older versions went on behind a line that was cut off.
                event = _object(line[line.rfind(b'{"event"') :]) if version == 0 else None
            elif number == 0 and "log" in event:
                version = self._known(event)
                continue
            if event is not None:
                items.append(event)
        return Events(items, sound, version)

    def _known(self, head: Mapping[str, Any]) -> int:
        version = head.get("version")
        if head["log"] != self._name or not isinstance(version, int) or version > self._version:
            raise NewerLog(f"{self.path} was written by a newer Vetrin (version {version!r})")
        return version

    def append(self, event: Mapping[str, Any], *, durable: bool = True) -> None:
        """Add an event. When this returns it survives a killed process, and if ``durable`` a loss of power.

        Raises:
            OSError: it could not be written; nothing of it is left.
        """
        self.append_all([event], durable=durable)

    def append_all(self, events: Iterable[Mapping[str, Any]], *, durable: bool = True) -> None:
        """The same for several, at one go. A process that is killed meanwhile leaves the first of them.

        Raises:
            OSError: they could not be written; nothing of them is left.
        """
        lines = b"".join(json.dumps(event).encode() + b"\n" for event in events)
        if not lines:
            return
        handle = os.open(self.path, os.O_RDWR | os.O_CREAT | os.O_APPEND, 0o644)
        try:
            if not self._begun:
                self._begin(handle)
            _write_whole(handle, lines)
            if durable:
                os.fsync(handle)
        finally:
            os.close(handle)

    def _begin(self, handle: int) -> None:
        """Cut away a torn tail, or make the first line of a new file."""
        size = os.fstat(handle).st_size
        whole = _end_of_lines(handle, size)
        if whole < size:
            os.ftruncate(handle, whole)
        if whole == 0:
            head = {"log": self._name, "version": self._version}
            _write_whole(handle, json.dumps(head).encode() + b"\n")
            os.fsync(handle)
            flush_folder(self.path.parent)
            flush_folder(self.path.parent.parent)
        self._begun = True

    def begin(self) -> None:
        """Make the file where it is not there; it has no event yet."""
        handle = os.open(self.path, os.O_RDWR | os.O_CREAT | os.O_APPEND, 0o644)
        try:
            self._begin(handle)
        finally:
            os.close(handle)

    def remove(self) -> None:
        self.path.unlink(missing_ok=True)
        self._begun = False


def _object(line: bytes) -> dict[str, Any] | None:
    try:
        found = json.loads(line)
    except (ValueError, RecursionError):
        return None
    return found if isinstance(found, dict) else None


def _end_of_lines(handle: int, size: int) -> int:
    """Where the last whole line ends, in bytes from the beginning."""
    end = size
    while end > 0:
        start = max(0, end - 65536)
        place = os.pread(handle, end - start, start).rfind(b"\n")
        if place >= 0:
            return start + place + 1
        end = start
    return 0


def _write_whole(handle: int, line: bytes) -> None:
    """Write at the end, all of it or nothing."""
    before = os.fstat(handle).st_size
    try:
        done = 0
        while done < len(line):
            done += os.write(handle, line[done:])
    except BaseException:
        with contextlib.suppress(OSError):
            os.ftruncate(handle, before)
        raise


def flush_folder(folder: Path) -> None:
    """Make the names in a folder survive a loss of power, where the system can."""
    with contextlib.suppress(OSError):
        handle = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)
