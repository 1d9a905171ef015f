"""The text of a CREATE TABLE statement, as ``SHOW CREATE TABLE`` prints it, while it is changed."""

from __future__ import annotations

import re
from collections.abc import Callable

QUOTED = re.compile(r"""('(?:[^'\\]|\\.|'')*'|`(?:[^`]|``)*`)""", re.DOTALL)
# What names a text's character set before it.
INTRODUCER = re.compile(r"\b_\w+(?='(?:[^'\\]|\\.|'')*')", re.DOTALL)
ONLY_MYSQL = re.compile(r"\b(uuid_to_bin|bin_to_uuid)\(")  # functions of defaults
_DEFAULT = re.compile(r"^  `x*` (\w+)[^\n]*?( DEFAULT )", re.MULTILINE)
_VALUE = re.compile(r"\w*'x*'|[-+\w.]*(?=\()|[-+\w.]+")


class SchemaText:
    """A schema on its way; patterns are put only on what is no literal, name or comment."""

    def __init__(self, sql: str) -> None:
        self.sql = sql
        self.notes: list[str] = []

    def put(self, pattern: re.Pattern[str], by: Callable[[re.Match[str]], str] | str) -> int:
        parts = QUOTED.split(self.sql)
        count = 0
        for at in range(0, len(parts), 2):
            parts[at], found = pattern.subn(by, parts[at])
            count += found
        self.sql = "".join(parts)
        return count

    @property
    def in_memory(self) -> bool:
        """True for a table of the engine whose indexes are by hash by themselves."""
        return bool(re.search(r"\bENGINE=(?:MEMORY|HEAP)\b", QUOTED.sub("", self.sql)))

    def note(self, text: str) -> None:
        if text not in self.notes:
            self.notes.append(text)

    def put_defaults(self, settle: Callable[[str, str], str | None]) -> None:
        """Put anew what columns have as their defaults, each by type and value; None takes it away."""
        masked = QUOTED.sub(lambda m: m[0][0] + "x" * (len(m[0]) - 2) + m[0][0], self.sql)
        for found in reversed(list(_DEFAULT.finditer(masked))):
            start = found.end()
            first = _VALUE.match(masked, start)
            end = first.end() if first else start
            depth = masked[end : end + 1].count("(")
            while depth and end < len(masked):
                end += 1
                depth += {"(": 1, ")": -1}.get(masked[end : end + 1], 0)
            end += masked[end : end + 1] == ")"
            value = settle(found[1].lower(), self.sql[start:end])
            if value is None:
                self.sql = self.sql[: found.start(2)] + self.sql[end:]
            else:
                self.sql = self.sql[:start] + value + self.sql[end:]
