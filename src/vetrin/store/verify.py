"""Proof that what is stored can be read: everything of a snapshot, read again."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field

from ..errors import DamagedObject, StoreError
from .manifest import Manifest, StoredFile, StoredTable
from .objects import LARGEST, Contents, together
from .snapshot_files import read_files
from .table_chunks import TableReader, read_pages


@dataclass(frozen=True)
class Damage:
    """What of a snapshot cannot be read any more: a table, a file, or with neither all of it."""

    snapshot: str
    reason: str
    table: str = ""
    path: str = ""
    digests: tuple[str, ...] = field(default=(), compare=False)


class Verifier:
    """Reads contents again, each of them once; ``proved`` are those that were, with what was found.

    DamagedObject contents lose their names, so that the next snapshot that has them stores them anew.
    """

    def __init__(
        self,
        contents: Contents,
        proved: dict[str, DamagedObject | None],
        tell: Callable[[str, int], None],
    ) -> None:
        self._contents = contents
        self._proved = proved
        self._tell = tell
        self._reader = TableReader(contents)

    def harms(self, manifest: Manifest) -> Iterator[Damage]:
        """What of a snapshot is damaged."""
        for table in manifest.data.tables if manifest.data else ():
            bad = list(self._table(table))
            if bad:
                yield _harm(manifest, bad, table=table.table.name)
        for digest in manifest.lists:
            try:
                files = read_files(self._contents, digest)
            except DamagedObject as error:
                self._set_aside(digest)
                reason = f"a list of files: {error}"
                yield Damage(manifest.id, reason, path="…", digests=(digest,))
                continue
            for path, bad in self._files(files).items():
                yield _harm(manifest, bad, path=path)

    def _table(self, table: StoredTable) -> Iterator[DamagedObject]:
        try:
            pages = read_pages(self._contents, table.pages)
        except DamagedObject as error:
            self._set_aside(error.digest)
            yield error
            return
        for some in together(pages, lambda page: page.size):
            new = [page for page in some if page.digest not in self._proved]
            self._contents.bring(digest for page in new for digest in page.needs)
            for page in some:
                yield from self._prove(page.digest, lambda page=page: self._reader.read(page))  # type: ignore[misc]

    def _files(self, files: Iterable[StoredFile]) -> dict[str, list[DamagedObject]]:
        """By path, what is damaged of some files."""
        found: dict[str, list[DamagedObject]] = {}
        blocks = ((file.entry, block) for file in files for block in file.blocks)
        for some in together(blocks, lambda one: min(one[0].size, LARGEST)):
            self._contents.bring(block for _, block in some if block not in self._proved)
            for entry, block in some:
                for error in self._prove(block, lambda block=block: self._contents.read(block)):  # type: ignore[misc]
                    found.setdefault(entry.path, []).append(error)
        return found

    def _prove(self, digest: str, read: Callable[[], bytes]) -> Iterator[DamagedObject]:
        """What is wrong with one content, if anything."""
        if digest not in self._proved:
            try:
                self._tell(digest, len(read()))
                self._proved[digest] = None
            except DamagedObject as error:
                self._proved[digest] = error
                self._set_aside(error.digest)
        known = self._proved[digest]
        if known is not None:
            yield known

    def _set_aside(self, digest: str) -> None:
        with contextlib.suppress(StoreError):
            self._contents.set_aside(digest)


def _harm(
    manifest: Manifest, bad: list[DamagedObject], *, table: str = "", path: str = ""
) -> Damage:
    return Damage(
        snapshot=manifest.id,
        reason=str(bad[0]),
        table=table,
        path=path,
        digests=tuple(error.digest for error in bad),
    )
