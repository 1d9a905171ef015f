"""A snapshot as a site, so that whatever can be done from an environment can be done from it."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from ..cms import Definition, SiteConfiguration
from ..database import Facts
from ..files import Remembered
from ..project import Environment
from ..reach import Looked, Site
from ..rewrite import Address
from .manifest import Manifest, StoredTable
from .snapshots import Store
from .stored_database import StoredDatabase
from .stored_files import StoredPlace, StoredTree


def open_snapshot(
    store: Store,
    manifest: Manifest,
    definition: Definition,
    only: Sequence[str] = (),
) -> Site:
    """A snapshot as a site that can be read. ``only`` are the paths of its files that are to be seen; without any,
    all are.

    Raises:
        Damaged: a list of its files can not be read.
    """
    environment = Environment(
        name=f"{manifest.environment} ({manifest.id})",
        address=Address.parse(manifest.address),
        also=tuple(Address.parse(text) for text in manifest.also),
        root=Path(manifest.roots[0]),
    )
    files = manifest.files
    tree = StoredTree(
        store.contents,
        store.files(manifest),
        files.passed if files else {},
        only,
        partly=manifest.purpose == "import",
    )
    data = manifest.data
    engine = data.engine if data else ""
    facts = dict(data.facts) if data else {}
    facts.update(
        engine=engine, where=f"snapshot {manifest.id}", identity=f"snapshot {manifest.id}",
        bulk_load=None, max_statement=None,
    )  # fmt: skip

    def stored(table: StoredTable):  # type: ignore[no-untyped-def]
        for _, records in store.records(table):
            yield records

    known = {"product": "", "version": "", "charset": "", "details": {}}
    database = StoredDatabase(
        Facts(**{**known, **facts}),
        data.tables if data else (),
        data.attachments if data else (),
        data.views if data else (),
        stored,
    )
    configuration = SiteConfiguration(
        engine=engine,
        database=manifest.id,
        prefix=data.prefix if data else "",
        charset=data.charset if data else "",
        addresses=manifest.addresses,
        title=manifest.title,
    )
    looked = None if manifest.counts is None else Looked(manifest.counts, manifest.newest)
    place = StoredPlace(tree, "", manifest.roots[0], manifest.roots[-1])
    return Site(
        environment,
        definition,
        configuration,
        database,
        tree,  # type: ignore[arg-type]
        Remembered(),
        place,
        looked=looked,
    )
