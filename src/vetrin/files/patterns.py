"""Patterns for files, in the syntax of ``.gitignore``."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

import pathspec

from .base import Entry


class Patterns:
    """A list of patterns; later ones win, ``!`` takes back, a folder's pattern covers all in it.

    Raises:
        ValueError: a pattern is not well formed; the message names it.
    """

    def __init__(self, lines: Sequence[str]) -> None:
        self._lines = tuple(lines)
        for line in lines:
            try:
                pathspec.GitIgnoreSpec.from_lines([line])
            except ValueError as error:
                raise ValueError(f"{line!r} is no pattern: {error}") from error
        self._spec = pathspec.GitIgnoreSpec.from_lines(lines)
        # What names must end with to fit any of the patterns; empty where that is not known.
        endings = {re.split(r"[*?\]/\\]", line.strip())[-1] for line in lines}
        self.endings = () if "" in endings else tuple(endings)

    def __bool__(self) -> bool:
        return bool(self._lines)

    @property
    def prune(self) -> tuple[str, ...]:
        """Regular expressions for folders of which everything fits, to be matched from the beginning of a path
        with a slash behind it; none where a pattern takes something back."""
        known = [pattern for pattern in self._spec.patterns if pattern.include is not None]
        if not all(pattern.include for pattern in known):
            return ()
        regexes = [getattr(pattern, "regex", None) for pattern in known]
        return tuple(regex.pattern for regex in regexes if isinstance(regex, re.Pattern))

    def matches(self, entry: Entry) -> bool:
        path = entry.path + "/" if entry.kind == "folder" else entry.path
        return self._spec.match_file(path)

    def matches_file(self, entry: Entry) -> bool:
        """As ``matches``, by the file's own name: a pattern does not cover what is in a folder."""
        if self.endings and not entry.path.endswith(self.endings):
            return False
        return entry.kind == "file" and self.matches(entry)

    def asks_for(self, entry: Entry) -> bool:
        """True where a pattern with ``!`` says that an entry is to come."""
        return self._spec.check_file(entry.path).include is False

    def unused(self, entries: Iterable[Entry]) -> list[str]:
        """The patterns that match none of ``entries``."""
        paths = [entry.path + "/" if entry.kind == "folder" else entry.path for entry in entries]
        unused = []
        for line in self._lines:
            if line.startswith(("#", "!")) or not line.strip():
                continue
            spec = pathspec.GitIgnoreSpec.from_lines([line])
            if not any(spec.match_file(path) for path in paths):
                unused.append(line)
        return unused
