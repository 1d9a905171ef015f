"""What hangs on tables: foreign keys, triggers, views, stored routines.

Their names are unique in a database, so they are off before tables are exchanged and on again afterwards.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable, Iterable, Sequence
from typing import Any

import pymysql

from ..contract import HIDDEN, Attachment, DatabaseError, Exchange
from .columns import quote
from .connecting import MODE

_LACKING = (1054, 1146, 1305, 1356)
# Quoted as the mode wants it that a text was made under.
_DEFINER = re.compile(
    r"""\s+DEFINER\s*=\s*(?:`(?:[^`]|``)*`|"(?:[^"]|"")*")@(?:`(?:[^`]|``)*`|"(?:[^"]|"")*")""",
    re.IGNORECASE,
)
_ROUTINE = re.compile(r"CREATE (PROCEDURE|FUNCTION) ")
FOREIGN_KEY = re.compile(r"^  (CONSTRAINT (`(?:[^`]|``)*`) FOREIGN KEY .*?),?$", re.MULTILINE)

Rows = Callable[..., list[Any]]


def create_text(rows: Rows, table: str) -> str:
    """A table's definition as the server prints it."""
    return str(rows(table, f"SHOW CREATE TABLE {quote(table)}")[0][1])


class Hanging:
    """What hangs on the tables of the database at ``where``; ``rows`` asks the server, ``do`` has it do something.

    Raises DatabaseError wherever the server refuses.
    """

    def __init__(self, where: str, rows: Rows, do: Callable[[str, str], None]) -> None:
        self._where = where
        self._rows = rows
        self._do = do

    def views(self) -> list[str]:
        return [
            str(row[0])
            for row in self._rows(
                self._where,
                "SELECT table_name FROM information_schema.views"
                " WHERE table_schema = DATABASE() ORDER BY table_name",
            )
        ]

    def routines(self) -> list[Attachment]:
        found = []
        for kind, name, mode in self._rows(
            self._where,
            "SELECT routine_type, routine_name, sql_mode FROM information_schema.routines"
            " WHERE routine_schema = DATABASE() AND routine_type IN ('PROCEDURE', 'FUNCTION')"
            " ORDER BY routine_name, routine_type",
        ):
            text = ""
            # Where an account may not see it, some servers refuse, others show nothing.
            with contextlib.suppress(DatabaseError):
                text = self._rows(name, f"SHOW CREATE {kind} {quote(name)}")[0][2] or ""
            sql = _DEFINER.sub("", str(text), count=1)
            found.append(Attachment("routine", str(name), "", sql, str(mode)))
        return found

    def of_tables(self, tables: Iterable[str], views: Iterable[str]) -> list[Attachment]:
        wanted = set(tables)
        found: list[Attachment] = []
        # Foreign keys of other tables that point at these follow a renamed table; they are
        # attachments too, so that after the swap they point at the live name again.
        holders = {
            str(row[0])
            for row in self._rows(
                self._where,
                "SELECT table_name, referenced_table_name FROM information_schema.referential_constraints"
                " WHERE constraint_schema = DATABASE()",
            )
            if not str(row[0]).startswith(HIDDEN) and (row[0] in wanted or row[1] in wanted)
        }
        for table in sorted(holders):
            for match in FOREIGN_KEY.finditer(create_text(self._rows, table)):
                name = match[2][1:-1].replace("``", "`")
                found.append(Attachment("constraint", name, table, match[1]))
        for name, table, timing, event, action, mode in self._rows(
            self._where,
            "SELECT trigger_name, event_object_table, action_timing, event_manipulation,"
            " action_statement, sql_mode FROM information_schema.triggers"
            " WHERE trigger_schema = DATABASE() ORDER BY event_object_table, action_order",
        ):
            if table in wanted:
                sql = (
                    f"CREATE TRIGGER {quote(name)} {timing} {event} ON {quote(table)}"
                    f" FOR EACH ROW {action}"
                )
                found.append(Attachment("trigger", name, table, sql, str(mode)))
        for view in views:
            text = str(self._rows(view, f"SHOW CREATE VIEW {quote(view)}")[0][1])
            # The account that made the view may be unknown where it arrives; who brings it owns it.
            sql = _DEFINER.sub("", text, count=1).replace("CREATE ", "CREATE OR REPLACE ", 1)
            found.append(Attachment("view", view, view, sql))
        return found

    def _constraints(self) -> set[tuple[str, str]]:
        return {
            (str(row[0]), str(row[1]))
            for row in self._rows(
                self._where,
                "SELECT table_name, constraint_name FROM information_schema.referential_constraints"
                " WHERE constraint_schema = DATABASE()",
            )
        }

    def detach(self, exchanges: Sequence[Exchange], detach: Sequence[Attachment]) -> None:
        """Take off, from tables that were just exchanged, what hung on them; what is gone is passed over."""
        outgoing = {e.live: e.outgoing for e in exchanges}
        there = self._constraints()
        for item in detach:
            if item.kind in ("trigger", "view", "routine"):
                self._do(item.name, _dropping(item))
            elif item.kind == "constraint":
                table = outgoing.get(item.table, item.table)
                # InnoDB renames a constraint with its table where the name was made from it.
                for name in (item.name, item.name.replace(item.table, table or "", 1)):
                    if table is not None and (table, name) in there:
                        self._do(
                            table, f"ALTER TABLE {quote(table)} DROP FOREIGN KEY {quote(name)}"
                        )
                        there.discard((table, name))

    def attach(self, attach: Sequence[Attachment]) -> list[str]:
        """Hang on what is not there yet; remarks on views that can not be, as they lack something here."""
        there = self._constraints()
        # Routines first, for views may call them.
        for item in sorted(attach, key=lambda item: item.kind != "routine"):
            if item.kind == "constraint" and (item.table, item.name) not in there:
                self._do(item.table, f"ALTER TABLE {quote(item.table)} ADD {item.sql}")
            elif item.kind in ("trigger", "routine"):
                self._do(item.name, _dropping(item))
                self._do(item.name, f"SET sql_mode = '{item.mode}'")
                try:
                    self._do(item.name, item.sql)
                finally:
                    self._do(item.name, f"SET sql_mode = '{MODE}'")
        views = [item for item in attach if item.kind == "view"]
        # A view may need another one: go round as long as each round brings one in.
        while views:
            failed: dict[str, DatabaseError] = {}
            for item in views:
                try:
                    self._do(item.name, item.sql)
                except DatabaseError as error:
                    failed[item.name] = error
            if len(failed) == len(views):
                if not all(map(_lacks_something, failed.values())):
                    raise next(iter(failed.values()))
                return [f"the view {error}: it could not be made" for error in failed.values()]
            views = [item for item in views if item.name in failed]
        return []


def _lacks_something(error: DatabaseError) -> bool:
    """True where a view needs a table, column or routine that is not there."""
    cause = error.__cause__
    return isinstance(cause, pymysql.Error) and bool(cause.args) and cause.args[0] in _LACKING


def _word(item: Attachment) -> str:
    """What a trigger, view or routine is called in SQL."""
    routine = _ROUTINE.match(item.sql) if item.kind == "routine" else None
    return routine[1] if routine else item.kind.upper()


def named(item: Attachment) -> tuple[str, str]:
    """By what it is known: a procedure and a function may have one name."""
    return _word(item), item.name


def _dropping(item: Attachment) -> str:
    return f"DROP {_word(item)} IF EXISTS {quote(item.name)}"
