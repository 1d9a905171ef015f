"""A definition that MariaDB and MySQL both load, for files that may go to either.

What only one of them knows stands in a comment that only that one reads, so that nothing is lost where the file
goes back to a server of the kind that it came from: ``/*M! … */`` is MariaDB's, and MariaDB passes over
``/*!50700 … */`` up to ``/*!99999 … */``. Sources: the servers' reference manuals, "Comment Syntax" and
"Comments".
"""

from __future__ import annotations

import re

from .ddl_text import INTRODUCER, ONLY_MYSQL, QUOTED, SchemaText
from .translate import MARIADB_OPTIONS, needs_brackets

_COLLATION = re.compile(r" (COLLATE[ =])(\w+_(?:uca1400|nopad|0900)_\w+|\w+_nopad_bin)\b")
_ODD_FORMAT = re.compile(r" ROW_FORMAT=PAGE\b")
_IDLE_CHECK = re.compile(
    r",\n  (CONSTRAINT `(?:[^`]|``)*` CHECK \([^\n]*\)) /\*!80016 NOT ENFORCED \*/"
)
_WHOLE_TEXTS = re.compile(r",\n  (UNIQUE KEY `(?:[^`]|``)*` \([^\n]*\) USING HASH)(?=,?\n)")


def portable(schema: str, product: str) -> str:
    """``schema``, as a server of ``product`` ("MariaDB" or "MySQL") prints it, for both."""
    text = SchemaText(schema)
    if product == "MariaDB":
        _from_mariadb(text)
    else:
        _from_mysql(text)
    return with_collations(text.sql)


def with_collations(sql: str) -> str:
    """A definition of anything, in which collations that one product lacks are written for each of the two."""
    text = SchemaText(sql)
    text.put(_COLLATION, _collation)
    return text.sql


def _from_mariadb(text: SchemaText) -> None:
    for pattern in (MARIADB_OPTIONS, _ODD_FORMAT, re.compile(r"\s+IGNORED\b")):
        text.put(pattern, lambda match: f" /*M! {match[0].strip()} */")
    text.put(re.compile(r"\bPERSISTENT\b"), "STORED")
    text.put_defaults(lambda kind, value: f"({value})" if needs_brackets(kind, value) else value)
    if not text.in_memory:
        text.sql = _WHOLE_TEXTS.sub(r"\n  /*M! , \1 */", text.sql)


def _from_mysql(text: SchemaText) -> None:
    text.put(re.compile(r"\b(STORED|VIRTUAL) (NOT NULL)\b"), r"\1 /*!50700 \2 */")
    text.put(re.compile(r"\bgeomcollection\b"), "geometrycollection")
    text.sql = text.sql.replace("/*!50100 WITH PARSER", "/*!50700 WITH PARSER")
    text.sql = _IDLE_CHECK.sub(r"\n  /*!80016 , \1 NOT ENFORCED */", text.sql)
    text.put_defaults(lambda _, value: INTRODUCER.sub("", value))
    masked = QUOTED.sub(lambda match: "x" * len(match[0]), text.sql)
    for found in reversed(list(re.finditer(r"DEFAULT \([^\n]*?\)(?=,?\n)", masked))):
        default = text.sql[found.start() : found.end()]
        if ONLY_MYSQL.search(default):
            text.sql = f"{text.sql[: found.start()]}/*!80013 {default} */{text.sql[found.end() :]}"


def _collation(match: re.Match[str]) -> str:
    word, name = match[1], match[2]
    charset, _, rest = name.partition("_")
    exact = rest.endswith(("_cs", "bin"))
    accents = "_as_" in rest
    if rest.startswith("uca1400") or "_uca1400_" in rest:
        if charset == "utf8mb4":
            other = f"utf8mb4_0900_{'as_cs' if exact else 'as_ci' if accents else 'ai_ci'}"
        else:
            other = f"{charset}_{'bin' if exact else 'unicode_520_ci'}"
        return f" /*M!101002 {word}{name} */ /*!80001 {word}{other} */"
    if "nopad" in rest:
        other = "utf8mb4_0900_bin" if name == "utf8mb4_nopad_bin" else name.replace("_nopad", "")
        return f" /*M!100202 {word}{name} */ /*!80017 {word}{other} */"
    if rest.endswith("bin"):
        return f" /*!80017 {word}{name} */ /*M!100202 {word}utf8mb4_nopad_bin */"
    other = f"utf8mb4_uca1400_{'as_cs' if exact else 'as_ci' if accents else 'ai_ci'}"
    return f" /*!80001 {word}{name} */ /*M!101002 {word}{other} */"
