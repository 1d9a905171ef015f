"""Tables that only the incoming side of a merge has, as those of a plugin that was tried there, come as a whole."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from msgspec import Struct

from ..database import Batch, Exchange, Table, hidden_name, schemas_of
from ..merge import IdMaps, References
from ..site import ReadableSite, RowPipeline, Site, TableRows
from ..store import Manifest
from .events import Listener, TableDone, TableStarted
from .merge_sides import MergeSide, is_apart

_NUMBERS = 500_000  # of hidden tables that come as a whole, beyond those of rows


class NewTable(Struct, frozen=True):
    """A table of the incoming side, and its name in the target. ``rows`` is False for one that comes empty."""

    name: str
    table: Table
    target: str
    rows: bool = True


def new_tables(
    incoming: ReadableSite, target: Site, manifest: Manifest, kept: Iterable[str]
) -> list[NewTable]:
    """The tables that the incoming side gained since both were one, without those that it ``kept``."""
    data = manifest.data
    known = set() if data is None else {
        item.table.name.removeprefix(data.prefix) for item in data.tables
    }  # fmt: skip
    stay = list(kept)
    found: list[NewTable] = []
    for table in incoming.tables:
        name = table.name.removeprefix(incoming.prefix)
        if name in known or target.has_table(name):
            continue
        if any(incoming.named(table.name, pattern) for pattern in stay):
            continue
        found.append(NewTable(name, table, target.prefix + name, rows=not is_apart(incoming, name)))
    return found


def lay_out_tables(
    tables: Iterable[NewTable],
    incoming: ReadableSite,
    target: Site,
    pipeline: RowPipeline,
    maps: IdMaps,
    token: str,
    listener: Listener,
) -> list[Exchange]:
    """Fill hidden tables with their rows, as the target would have them; the exchanges that bring them in.

    Raises:
        DatabaseError: something could not be read or written; nothing live has changed.
    """
    exchanges: list[Exchange] = []
    references = References(incoming.definition, MergeSide(incoming))
    coming = list(tables)
    schemas = schemas_of(incoming.database, [item.table.name for item in coming])
    for number, item in enumerate(coming):
        listener(TableStarted(item.table.name, item.table.rows))
        hidden = hidden_name("arriving", token, _NUMBERS + number)
        schema = schemas[item.table.name]
        adapted = target.database.adapt(item.table, schema, incoming.database.facts())
        target.database.lay_out(hidden, item.table, adapted.sql)
        if item.rows:
            with incoming.database.reading() as reader:
                chosen = TableRows(item.table, incoming.rewritable(item.table))
                rows = pipeline.stream(reader, chosen)
                numbered = _renumbered(references, item, rows, maps)
                target.database.fill(hidden, item.table, numbered)
        target.database.finish(hidden, incoming.database, item.table)
        exchanges.append(Exchange(item.target, hidden, None))
        listener(TableDone(item.table.name, item.table.rows))
    return exchanges


def _renumbered(
    references: References, item: NewTable, batches: Iterable[Batch], maps: IdMaps
) -> Iterator[Batch]:
    """Rows that name others by the numbers that these have in the target."""
    names = [column.name for column in item.table.columns]
    for batch in batches:
        if not maps.nothing:
            batch.cells = [
                cell
                for row in batch.each()
                for cell in references.renumbered(item.name, names, row, row, maps)
            ]
            batch.records = None
        yield batch
