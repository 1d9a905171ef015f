"""What hangs on tables: foreign keys, triggers, views, stored routines.

Their names are unique in a database, so they are off before tables are exchanged and on again afterwards.
"""

from __future__ import annotations

import contextlib
import itertools
import re
from collections.abc import Callable, Collection, Iterable, Sequence
from typing import Any

from ...errors import DatabaseError
from ..base import HIDDEN, Attachment, Exchange, ForeignKey, clears_where
from ..sql_names import as_own
from . import sequences
from .columns import quote
from .connect import MODE, error_code
from .sequences import DRAWS

# What a view or a trigger needs is not there, a column, a table, a routine, another view, or its collations cannot
# be mixed any more.
LACKING = (1054, 1146, 1305, 1356, 1253, 1267, 1270, 1271)
_READ_ONLY = 1792
_GONE = (1091, 1146)  # a foreign key, its table
# Quoted as the mode wants it that a text was made under.
_DEFINER = re.compile(
    r"""\s+DEFINER\s*=\s*(?:`(?:[^`]|``)*`|"(?:[^"]|"")*")@(?:`(?:[^`]|``)*`|"(?:[^"]|"")*")""",
    re.IGNORECASE,
)
ROUTINE = re.compile(r"CREATE (?:AGGREGATE )?(PROCEDURE|FUNCTION) ")
FOREIGN_KEY = re.compile(r"^  (CONSTRAINT (`(?:[^`]|``)*`) FOREIGN KEY .*?),?$", re.MULTILINE)

Rows = Callable[..., list[Any]]
# A statement of a script: ``sql`` with the codes that it may fail with (``soft``), or ``views``.
Item = dict[str, Any]


VIEWS = "SELECT table_name FROM information_schema.views WHERE table_schema = DATABASE() ORDER BY table_name"
_ROUTINES = (
    "SELECT routine_type, routine_name, sql_mode, collation_connection FROM information_schema.routines"
    " WHERE routine_schema = DATABASE() AND routine_type IN ('PROCEDURE', 'FUNCTION')"
    " ORDER BY routine_name, routine_type"
)
_NAMES = (
    "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE()"
    " UNION SELECT routine_name FROM information_schema.routines WHERE routine_schema = DATABASE()"
)
_DRAWING = (
    "SELECT table_name, column_name, column_default FROM information_schema.columns"
    " WHERE table_schema = DATABASE() AND column_default RLIKE 'nextval\\\\(|lastval\\\\(|setval\\\\('"
    " ORDER BY table_name, ordinal_position"
)
_SEQUENCES = (
    "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE()"
    " AND table_type = 'SEQUENCE' ORDER BY table_name"
)
_REFERENCES = (
    "SELECT table_name, referenced_table_name FROM information_schema.referential_constraints"
    " WHERE constraint_schema = DATABASE()"
)
_TRIGGERS = (
    "SELECT trigger_name, event_object_table, action_timing, event_manipulation, action_statement,"
    " sql_mode, collation_connection FROM information_schema.triggers"
    " WHERE trigger_schema = DATABASE() ORDER BY event_object_table, action_order"
)
EVENTS = "SELECT event_name FROM information_schema.events WHERE event_schema = DATABASE() ORDER BY event_name"


def create_text(rows: Rows, table: str) -> str:
    """A table's definition as the server prints it."""
    return str(rows(table, showing(table))[0][1])


def showing(table: str) -> str:
    """The question for a table's definition."""
    return f"SHOW CREATE TABLE {quote(table)}"


class Hanging:
    """What hangs on the tables of ``database`` at ``where``; ``rows`` asks the server, ``ahead`` has it answer
    several questions at once; ``sequences`` says that it knows such.

    Raises DatabaseError wherever the server refuses.
    """

    def __init__(
        self,
        where: str,
        database: str,
        rows: Rows,
        ahead: Callable[[Iterable[str]], None],
        *,
        sequences: bool,
    ) -> None:
        self._where = where
        self._database = database
        self._rows = rows
        self._ahead = ahead
        self._sequences = sequences
        self._known: frozenset[str] = frozenset()

    def views(self) -> list[str]:
        return [str(row[0]) for row in self._rows(self._where, VIEWS)]

    def routines(self) -> list[Attachment]:
        self._look()
        found = []
        for kind, name, mode, collation in self._rows(self._where, _ROUTINES):
            text = ""
            # Where an account may not see it, some servers refuse, others show nothing.
            with contextlib.suppress(DatabaseError):
                text = self._rows(name, f"SHOW CREATE {kind} {quote(name)}")[0][2] or ""
            sql = _DEFINER.sub("", str(text), count=1)
            found.append(
                self._own(
                    Attachment(
                        kind="routine",
                        name=str(name),
                        table="",
                        sql=sql,
                        mode=_mode(mode),
                        collation=str(collation),
                    )
                )
            )
        return [*(self._lone_sequences() if self._sequences else ()), *found]

    def _own(self, item: Attachment) -> Attachment:
        return as_own(item, self._database, self._known)

    def _look(self) -> None:
        """Learn what can be spoken of in this database by now."""
        self._ahead((_NAMES, VIEWS, _ROUTINES, _REFERENCES, _TRIGGERS, EVENTS))
        if self._sequences:
            self._ahead((_SEQUENCES, _DRAWING))
        self._known = frozenset(str(row[0]) for row in self._rows(self._where, _NAMES))

    def of_defaults(self, tables: Iterable[str]) -> list[Attachment]:
        """Sequences that columns draw their defaults from, and those defaults. MariaDB has them."""
        wanted = set(tables)
        found: list[Attachment] = []
        drawn: dict[str, str] = {}
        for table, column, default in self._drawing():
            if table not in wanted or not DRAWS.search(str(default)):
                continue
            found.append(self._own(sequences.default(str(table), str(column), str(default))))
            for match in DRAWS.finditer(found[-1].sql):
                if match[1] is None:
                    drawn.setdefault(match[2].replace("``", "`"), str(table))
        return [*(self._sequence(name, table) for name, table in drawn.items()), *found]

    def _drawing(self) -> list[Any]:
        """Table, column and default of what may draw from a sequence."""
        return self._rows(self._where, _DRAWING)

    def _sequence(self, name: str, table: str) -> Attachment:
        text = str(self._rows(name, f"SHOW CREATE SEQUENCE {quote(name)}")[0][1])
        ((following,),) = self._rows(name, f"SELECT next_not_cached_value FROM {quote(name)}")
        return sequences.sequence(name, table, text, int(following))

    def _lone_sequences(self) -> list[Attachment]:
        """Those that no default draws from; what asks them for numbers is outside of the database."""
        names = [
            str(row[0])
            for row in self._rows(self._where, _SEQUENCES)
            if not str(row[0]).startswith(HIDDEN)
        ]
        if not names:
            return []
        drawn = {
            match[2].replace("``", "`")
            for *_, default in self._drawing()
            for match in DRAWS.finditer(str(default))
        }
        return [self._sequence(name, "") for name in names if name not in drawn]

    def of_tables(self, tables: Iterable[str], views: Iterable[str]) -> list[Attachment]:
        self._look()
        wanted = set(tables)
        found: list[Attachment] = []
        # Foreign keys of other tables that point at these follow a renamed table; they are
        # attachments too, so that after the swap they point at the live name again.
        holders = {
            str(row[0])
            for row in self._rows(self._where, _REFERENCES)
            if not str(row[0]).startswith(HIDDEN) and (row[0] in wanted or row[1] in wanted)
        }
        for table in sorted(holders):
            for match in FOREIGN_KEY.finditer(create_text(self._rows, table)):
                name = match[2][1:-1].replace("``", "`")
                found.append(self._own(Attachment("constraint", name, table, match[1])))
        for name, table, timing, event, action, mode, collation in self._rows(
            self._where, _TRIGGERS
        ):
            if table in wanted:
                sql = (
                    f"CREATE TRIGGER {quote(name)} {timing} {event} ON {quote(table)}"
                    f" FOR EACH ROW {action}"
                )
                found.append(
                    self._own(
                        Attachment(
                            kind="trigger",
                            name=name,
                            table=table,
                            sql=sql,
                            mode=_mode(mode),
                            collation=str(collation),
                        )
                    )
                )
        for view in views:
            try:
                _, text, _, collation = self._view(view)[:4]
            except DatabaseError as error:
                if error_code(error) not in LACKING:
                    raise
                # The server itself cannot make sense of it, and shows it to nobody.
                found.append(Attachment("view", view, view, "", lost=f"the server says of {error}"))
                continue
            # The account that made the view may be unknown where it arrives; who brings it owns it.
            sql = _DEFINER.sub("", str(text), count=1).replace("CREATE ", "CREATE OR REPLACE ", 1)
            found.append(
                self._own(
                    Attachment(
                        kind="view",
                        name=view,
                        table=view,
                        sql=sql,
                        mode="",
                        collation=str(collation),
                    )
                )
            )
        return [*self.of_defaults(wanted), *found] if self._sequences else found

    def _view(self, view: str) -> Any:
        asked = f"SHOW CREATE VIEW {quote(view)}"
        try:
            return self._rows(view, asked)[0]
        except DatabaseError as error:
            if error_code(error) != _READ_ONLY:
                raise
        # To show a view that calls a function which writes, a server wants to be able to write; it does not.
        self._rows(view, "SET SESSION TRANSACTION READ WRITE")
        try:
            return self._rows(view, asked)[0]
        finally:
            self._rows(view, "SET SESSION TRANSACTION READ ONLY")

    def foreign_keys(self) -> list[ForeignKey]:
        keys: dict[tuple[str, str], list[tuple[str, str, str, bool]]] = {}
        for table, name, column, parent, to, then, empty in self._rows(
            self._where,
            "SELECT u.table_name, u.constraint_name, u.column_name, u.referenced_table_name,"
            " u.referenced_column_name, r.delete_rule, c.is_nullable"
            " FROM information_schema.key_column_usage u"
            " JOIN information_schema.referential_constraints r"
            " ON r.constraint_schema = u.constraint_schema AND r.constraint_name = u.constraint_name"
            " AND r.table_name = u.table_name"
            " JOIN information_schema.columns c ON c.table_schema = u.table_schema"
            " AND c.table_name = u.table_name AND c.column_name = u.column_name"
            " WHERE u.constraint_schema = DATABASE() AND u.referenced_table_schema = DATABASE()"
            " ORDER BY u.table_name, u.constraint_name, u.ordinal_position",
        ):
            if not str(table).startswith(HIDDEN):
                keys.setdefault((str(table), str(name)), []).append(
                    (
                        str(column),
                        str(parent),
                        str(to),
                        clears_where(str(then), str(empty) == "YES"),
                    )
                )
        return [
            ForeignKey(
                name=name,
                table=table,
                columns=tuple(part[0] for part in parts),
                parent=parts[0][1],
                parent_columns=tuple(part[2] for part in parts),
                clears=all(part[3] for part in parts),
            )
            for (table, name), parts in keys.items()
        ]

    def constraints(self) -> set[tuple[str, str]]:
        """The foreign keys that are there, by table and name."""
        return {
            (str(row[0]), str(row[1]))
            for row in self._rows(
                self._where,
                "SELECT table_name, constraint_name FROM information_schema.referential_constraints"
                " WHERE constraint_schema = DATABASE()",
            )
        }


def settling(
    exchanges: Sequence[Exchange],
    detach: Sequence[Attachment],
    attach: Sequence[Attachment],
    there: Collection[tuple[str, str]] = (),
) -> list[Item]:
    """The statements that follow an exchange of tables: what hung on the outgoing ones goes, what is to hang on
    the incoming ones comes, but for foreign keys that are ``there``."""
    # A view that comes again is replaced in one statement and never missing; a routine nearly so.
    again = {named(item) for item in attach if item.kind in ("view", "routine")}
    outgoing = {e.live: e.outgoing for e in exchanges}
    attach = [item for item in attach if not item.lost]
    found: list[Item] = []
    for item in detach:
        if item.kind in ("trigger", "view", "routine") and named(item) not in again:
            found.append({"sql": _dropping(item)})
        table = outgoing.get(item.table, item.table)
        if item.kind == "constraint" and table is not None:
            # InnoDB renames a constraint with its table where the name was made from it.
            for name in dict.fromkeys((item.name, item.name.replace(item.table, table, 1))):
                sql = f"ALTER TABLE {quote(table)} DROP FOREIGN KEY {quote(name)}"
                found.append({"sql": sql, "soft": [*_GONE]})
    order = ("sequence", "default", "routine")
    for item in sorted(attach, key=lambda item: _place(item, order)):
        what = f"the {_word(item).lower()} {item.name}"
        if item.kind == "constraint" and (item.table, item.name) not in there:
            found.append({"sql": f"ALTER TABLE {quote(item.table)} ADD {item.sql}"})
        elif item.kind == "sequence":
            restart = f"ALTER SEQUENCE {quote(item.name)} RESTART {int(item.mode)}"
            found += [{"sql": item.sql}, {"sql": restart}]
        elif item.kind == "default":
            found.append({"sql": item.sql})
        elif item.kind in ("trigger", "routine"):
            found += [
                {"sql": _dropping(item)},
                *_context(item),
                # One that was broken where it comes from is no reason to do without all the others.
                {"sql": item.sql, "soft": [*LACKING], "remark": what},
                *_OWN_CONTEXT,
            ]
    views = in_order(item for item in attach if item.kind == "view")
    for collation, group in itertools.groupby(views, lambda view: view.collation):
        some = [[f"the view {view.name}", view.sql] for view in group]
        if collation:
            found.append({"sql": f"SET collation_connection = '{collation}'"})
        found.append({"views": some, "soft": [*LACKING]})
    return [*found, *_OWN_CONTEXT] if views else found


def _mode(kept: object) -> str:
    """The SQL mode of a stored text as a session takes it: the server keeps some under names of long ago."""
    words = (_OLD_MODES.get(word, word) for word in str(kept).split(","))
    return ",".join(word for word in words if word)


_OLD_MODES = {"INVALID_DATES": "ALLOW_INVALID_DATES", "NOT_USED": "", "NOT_USED_9": ""}


def in_order(views: Iterable[Attachment]) -> list[Attachment]:
    """Views, each one behind those that it reads from; their SQL tells by names."""
    waiting = {item.name: item for item in views}
    found: list[Attachment] = []

    def bring(item: Attachment) -> None:
        del waiting[item.name]
        for other in list(waiting.values()):
            if other.name in waiting and quote(other.name) in item.sql:
                bring(other)
        found.append(item)

    while waiting:
        bring(next(iter(waiting.values())))
    return found


# Texts come in utf8mb4, whatever their literals are made of.
_OWN_CONTEXT: tuple[Item, ...] = (
    {"sql": f"SET sql_mode = '{MODE}'"},
    {"sql": "SET NAMES utf8mb4"},
)


def _context(item: Attachment) -> list[Item]:
    """What a session has to be like for a text to mean what it meant where it was made."""
    found: list[Item] = [{"sql": f"SET sql_mode = '{item.mode}'"}]
    if item.collation:
        found.append({"sql": f"SET collation_connection = '{item.collation}'"})
    return found


def _place(item: Attachment, order: Sequence[str]) -> int:
    """Sequences first, then what draws from them; routines before what may call them."""
    return order.index(item.kind) if item.kind in order else len(order)


def _word(item: Attachment) -> str:
    """What a trigger, view or routine is called in SQL."""
    routine = ROUTINE.match(item.sql) if item.kind == "routine" else None
    return routine[1] if routine else item.kind.upper()


def named(item: Attachment) -> tuple[str, str]:
    """By what it is known: a procedure and a function may have one name."""
    return _word(item), item.name


def _dropping(item: Attachment) -> str:
    return f"DROP {_word(item)} IF EXISTS {quote(item.name)}"
