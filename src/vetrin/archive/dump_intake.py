"""Dumps on their way into a store: the tables of each of their databases, with what hangs on them."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field

from msgspec.structs import replace

from ..cms import Definition
from ..database import Attachment, Table
from ..database.mysql.charsets import Between
from ..database.mysql.dump.reader import Dump, DumpedTable, DumpReader
from ..database.mysql.sequences import taken_out, with_sequences
from ..database.row_codec import records_of
from ..database.sql_names import as_own
from ..store.manifest import StoredData, StoredTable
from ..store.objects import Contents, Hands
from ..store.table_chunks import TableWriter

_PATH = re.compile(rb"(?<![\w/:.~-])(/(?:[\w.@~ -]{1,80}/){0,8}[\w.@~-]{1,80})/$")
_LOOKED = 400  # places in one table that are looked at for the path of the site


@dataclass
class TakenDump:
    """What a dump held: the data of each database by its name, ``""`` for one that is not named. ``roots`` counts
    the absolute paths that its values speak of, ``added`` are the bytes that the store did not have."""

    name: str
    databases: dict[str, StoredData] = field(default_factory=dict)
    roots: Counter[str] = field(default_factory=Counter)
    events: list[str] = field(default_factory=list)
    added: int = 0


class DumpIntake:
    """Stores what dumps hold. ``conversions`` are those between character sets; ``tell`` is told of each table, and
    how many bytes of it came."""

    def __init__(
        self,
        contents: Contents,
        hands: Hands,
        definition: Definition,
        conversions: Between,
        tell: Callable[[str, int], None],
    ) -> None:
        self._contents = contents
        self._hands = hands
        self._conversions = conversions
        self._tell = tell
        media = definition.parts.get("media", ())
        self._folders = [folder.encode() for folder in media if folder != "."]

    def read(self, name: str, blocks: Iterable[bytes]) -> TakenDump:
        """Read a dump and store its tables, those of all its databases.

        Raises:
            DatabaseError: it cannot be understood.
        """
        taken = TakenDump(name)
        reader = DumpReader(blocks, self._conversions)
        writers: dict[tuple[str, str], _Rows] = {}
        for table, batch in reader.rows():
            rows = self._rows(writers, (table.database, table.name), table)
            rows.add(records_of(batch), batch.cells[:: batch.width])
            self._look_for_root(batch.cells, taken.roots, rows)
            self._tell(table.name, batch.size)
        dump = reader.dump
        stored: dict[str, list[StoredTable]] = {database: [] for database in dump.databases}
        drawing = list(dump.defaults)
        for key, table in dump.tables.items():
            # Before the definition is written down: what draws from a sequence is set once that is there.
            drawing += [(key[0], item) for item in taken_out(table.definition)]
            stored[key[0]].append(self._finished(self._rows(writers, key, table), taken))
        for database, tables in stored.items() if dump.tables else ():
            defaults = [item for where, item in drawing if where == database]
            taken.databases[database] = _data_of(dump, database, tables, defaults)
        taken.events = dump.events
        return taken

    def _rows(
        self, writers: dict[tuple[str, str], _Rows], key: tuple[str, str], table: DumpedTable
    ) -> _Rows:
        """Where the rows of a table go; a table that is made anew in the dump begins anew."""
        rows = writers.get(key)
        if rows is None or rows.table is not table:
            rows = writers[key] = _Rows(table, TableWriter(self._contents, self._hands))
        return rows

    def _finished(self, rows: _Rows, taken: TakenDump) -> StoredTable:
        writer = rows.writer
        lists = writer.finish_list()
        taken.added += writer.added
        definition = rows.table.definition
        table: Table = definition.table(writer.rows, writer.size, ordered=rows.ordered)
        if table.consistent != definition.consistent:
            table = replace(table, notes=("its rows are not in the order of its key",))
        return StoredTable(table, definition.sql(), lists)

    def _look_for_root(self, cells: Sequence[object], found: Counter[str], rows: _Rows) -> None:
        """Count absolute paths that stand before a folder of the CMS, in some places of each table."""
        if rows.looked > _LOOKED:
            return
        for cell in cells:
            if not isinstance(cell, bytes) or b"/" not in cell:
                continue
            for folder in self._folders:
                at = cell.find(b"/" + folder)
                while at >= 0 and rows.looked <= _LOOKED:
                    rows.looked += 1
                    match = _PATH.search(cell[max(0, at - 300) : at + 1])
                    if match:
                        found[match[1].decode("utf-8", "replace")] += 1
                    at = cell.find(b"/" + folder, at + 1)


def _data_of(
    dump: Dump, database: str, tables: Sequence[StoredTable], defaults: Sequence[Attachment]
) -> StoredData:
    """One database of a dump; what hangs on its tables calls them by their own names alone."""
    views = [name for where, name in dump.views if where == database]
    numbers = {key[1]: item for key, item in dump.sequences.items() if key[0] == database}
    constraints = [
        item
        for key, table in dump.tables.items()
        if key[0] == database
        for item in table.definition.constraints
    ]
    attachments: list[Attachment] = [
        *constraints,
        *(item for key, item in dump.triggers.items() if key[0] == database),
        *(item for key, item in dump.routines.items() if key[1] == database),
        *(dump.views[database, name] for name in views),
    ]
    known = {item.name for item in attachments} | {item.table.name for item in tables}
    own = [
        as_own(item, database or dump.of_database, known | set(numbers))
        for item in [*attachments, *defaults]
    ]
    return StoredData(
        engine="mysql",
        facts={
            "product": dump.product, "version": dump.version or "0", "charset": dump.charset,
            "details": {"lower-case table names": "0"},
        },
        prefix="",
        charset=dump.charset,
        tables=tuple(tables),
        attachments=tuple(with_sequences(own, numbers)),
        views=tuple(views),
        size=sum(item.table.size for item in tables),
    )  # fmt: skip


class _Rows:
    """What of a table has come, and whether it came in the order of its key."""

    def __init__(self, table: DumpedTable, writer: TableWriter) -> None:
        self.table = table
        self.writer = writer
        self.looked = 0
        names = [column.name for column in table.definition.columns]
        key = table.definition.key
        self._first = len(key) == 1 and names[:1] == list(key)
        self._last: int | None = None
        self.ordered = True

    def add(self, records: list[bytes], keys: Sequence[object]) -> None:
        self.writer.add(records)
        if not self.ordered or not self.table.definition.key:
            return
        if not self._first:
            return
        try:
            numbers = [int(key) for key in keys]  # type: ignore[call-overload]
        except (ValueError, TypeError):
            return
        before = [self._last if self._last is not None else numbers[0] - 1, *numbers[:-1]]
        self.ordered = all(a < b for a, b in zip(before, numbers, strict=True))
        self._last = numbers[-1]
