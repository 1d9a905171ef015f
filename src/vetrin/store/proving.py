"""Proof that what is stored can be read: everything of a snapshot, read again."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

from .contents import Contents, Damaged, together
from .manifest import Manifest, StoredTable, files_of_list
from .pages import StoredPage, TableReader, read_list
from .shelf import StoreError


@dataclass(frozen=True)
class Harm:
    """What of a snapshot can not be read any more: a table, a file, or with neither all of it."""

    snapshot: str
    reason: str
    table: str = ""
    path: str = ""
    digests: tuple[str, ...] = field(default=(), compare=False)


class Prover:
    """Reads contents again, each of them once; ``proved`` are those that were, with what was found.

    Damaged contents lose their names, so that the next snapshot that has them stores them anew.
    """

    def __init__(
        self,
        contents: Contents,
        proved: dict[str, Damaged | None],
        tell: Callable[[str, int], None],
    ) -> None:
        self._contents = contents
        self._proved = proved
        self._tell = tell
        self._reader = TableReader(contents)

    def harms(self, manifest: Manifest) -> Iterator[Harm]:
        """What of a snapshot is damaged."""
        for table in manifest.data.tables if manifest.data else ():
            bad = list(self._table(table))
            if bad:
                yield _harm(manifest, bad, table=table.table.name)
        for digest in lists_of(manifest):
            for path, bad in self._files(digest):
                yield _harm(manifest, bad, path=path)

    def _table(self, table: StoredTable) -> Iterator[Damaged]:
        try:
            pages = pages_of(self._contents, table)
        except Damaged as error:
            self._set_aside(error.digest)
            yield error
            return
        for some in together(pages, size_of):
            new = [page for page in some if page.digest not in self._proved]
            self._contents.bring(digest for page in new for digest in page.needs)
            for page in some:
                yield from self._prove(page.digest, lambda page=page: self._reader.read(page))  # type: ignore[misc]

    def _files(self, digest: str) -> Iterator[tuple[str, list[Damaged]]]:
        """The damaged files of a list."""
        try:
            files = files_of_list(self._contents.read(digest))
        except (Damaged, ValueError) as error:
            self._set_aside(digest)
            yield "…", [Damaged(digest, f"(a list of files) can not be read: {error}")]
            return
        for some in together(files, lambda file: file.entry.size):
            blocks = [block for file in some for block in file.blocks]
            self._contents.bring(block for block in blocks if block not in self._proved)
            for file in some:
                bad = [
                    error
                    for block in file.blocks
                    for error in self._prove(block, lambda block=block: self._contents.read(block))  # type: ignore[misc]
                ]
                if bad:
                    yield file.entry.path, bad

    def _prove(self, digest: str, read: Callable[[], bytes]) -> Iterator[Damaged]:
        """What is wrong with one content, if anything."""
        if digest not in self._proved:
            try:
                self._tell(digest, len(read()))
                self._proved[digest] = None
            except Damaged as error:
                self._proved[digest] = error
                self._set_aside(error.digest)
        known = self._proved[digest]
        if known is not None:
            yield known

    def _set_aside(self, digest: str) -> None:
        with contextlib.suppress(StoreError):
            self._contents.set_aside(digest)


def pages_of(contents: Contents, table: StoredTable) -> list[StoredPage]:
    """Raises Damaged."""
    content = b"".join(contents.blocks(table.pages))
    try:
        return read_list(content)
    except ValueError as error:
        raise Damaged(table.pages[0], str(error)) from error


def size_of(page: StoredPage) -> int:
    """The bytes of a page's rows."""
    return page.size


def lists_of(manifest: Manifest) -> Iterator[str]:
    """The digests of all lists of files."""
    for files in (manifest.files, manifest.listed):
        if files is not None:
            yield from files.lists


def _harm(manifest: Manifest, bad: list[Damaged], *, table: str = "", path: str = "") -> Harm:
    return Harm(manifest.id, str(bad[0]), table, path, tuple(error.digest for error in bad))
