"""A snapshot as a site, so that whatever can be done from an environment can be done from it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

from ..cms import Definition, SiteConfiguration
from ..config import Environment
from ..database import Facts
from ..files import DigestCache
from ..rewrite import Address
from ..site import Looked, ReadableSite
from .manifest import Manifest, StoredTable
from .snapshot_database import SnapshotDatabase
from .snapshot_files import SnapshotPath, SnapshotTree
from .store import Store


def manifest_of(site: ReadableSite, name: str, taken: str, purpose: str) -> Manifest:
    """A manifest with what a site says of itself, and nothing of its content yet. ``name`` is its ID."""
    environment = site.environment
    return Manifest(
        id=name,
        taken=taken,
        environment=environment.name,
        role=environment.role,
        cms=site.definition.name,
        parts=(),
        address=str(environment.address),
        also=tuple(map(str, environment.also)),
        roots=site.roots,
        purpose=purpose,
    )


def open_snapshot(
    store: Store,
    manifest: Manifest,
    definition: Definition,
    only: Sequence[str] = (),
) -> ReadableSite:
    """A snapshot as a site that can be read. ``only`` are the paths of its files that are to be seen; without any,
    all are.

    Raises:
        DamagedObject: a list of its files cannot be read.
    """
    environment = Environment(
        name=f"{manifest.environment} ({manifest.id})",
        address=Address.parse(manifest.address),
        also=tuple(Address.parse(text) for text in manifest.also),
        root=Path(manifest.roots[0]),
    )
    files = manifest.files
    tree = SnapshotTree(
        store.contents,
        store.files(manifest),
        files.passed if files else {},
        only,
        partly=manifest.purpose == "import",
    )
    data = manifest.data
    database = _database(store, manifest)
    configuration = SiteConfiguration(
        engine=database.engine,
        database=manifest.id,
        prefix=data.prefix if data else "",
        charset=data.charset if data else "",
        addresses=manifest.addresses,
        title=manifest.title,
    )
    looked = None if manifest.counts is None else Looked(manifest.counts, manifest.newest)
    place = SnapshotPath(tree, "", manifest.roots[0], manifest.roots[-1])
    return ReadableSite(
        environment=environment,
        definition=definition,
        configuration=configuration,
        database=database,
        files=tree,
        seen=DigestCache(),
        place=place,
        looked=looked,
        former_roots=tuple(manifest.roots[1:-1]),
    )


def _database(store: Store, manifest: Manifest) -> SnapshotDatabase:
    """The tables of a snapshot; none where it has no data."""
    data = manifest.data
    known = {"product": "", "version": "", "charset": "", "details": {}}
    name = f"snapshot {manifest.id}"
    facts = {
        **known, **(data.facts if data else {}), "engine": data.engine if data else "",
        "where": name, "identity": name, "bulk_load": None, "max_statement": None,
    }  # fmt: skip

    def stored(table: StoredTable) -> Iterator[bytes]:
        return (records for _, records in store.records(table))

    return SnapshotDatabase(
        facts=Facts(**facts),
        tables=data.tables if data else (),
        attachments=data.attachments if data else (),
        views=data.views if data else (),
        stored=stored,
    )
