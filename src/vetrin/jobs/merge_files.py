"""Media files that a merge brings: those that the incoming side gained. Nothing of the target's is replaced.

Where the target has another file under the name of one that comes, that gets a name of its own, and the rows that
come name it so.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import PurePosixPath

from msgspec import Struct

from ..config import Environment
from ..database.batch import Cell
from ..database.row_codec import Text
from ..files import Buffer, Entry, Move, Patterns
from ..merge import Key
from ..merge.references import Column, Row
from ..rewrite import Mapping as Pairs
from ..rewrite import Rewriter, Tally
from ..rewrite.mapping import Pair
from ..site import ReadableSite, Site
from ..store import Store
from .events import FileMoved, Listener
from .generated_files import parents
from .merge_sides import Shared
from .plan import Choices
from .planner import compare_files


class ComingFiles(Struct, frozen=True):
    """The files that come, each with the path that it gets. ``differing`` are files that both have had, and that are
    not the same any more: they stay as they are."""

    entries: Sequence[tuple[Entry, str]] = ()
    differing: Sequence[str] = ()
    folders: Sequence[str] = ()

    @property
    def renamed(self) -> list[tuple[str, str]]:
        """The paths of files that get another name, as they were and as they will be."""
        return [(entry.path, path) for entry, path in self.entries if entry.path != path]

    @property
    def size(self) -> int:
        return sum(entry.size for entry, _ in self.entries)


def coming_files(
    incoming: ReadableSite,
    target: Site,
    store: Store,
    shared: Shared,
    others: Sequence[Environment] = (),
) -> ComingFiles:
    """The media files that the incoming side has and did not have when both were one.

    Raises:
        FilesError, StoreError: something could not be read.
    """
    folders = incoming.definition.parts.get("media", ())
    if not folders:
        return ComingFiles()
    found = compare_files(incoming, target, ("media",), others, Choices())
    if found is None:
        return ComingFiles()
    manifest = shared.since.manifest
    known = {entry.path for entry in store.listed(manifest)} if manifest.listed else set()
    own = set(shared.run.report.get("only_on_target") or ())
    # What one side had for itself already then is nothing that it gained.
    before = known | own
    new, clashing = (
        [entry for entry in entries if entry.kind == "file" and entry.path not in before]
        for entries in (found.new, found.changed)
    )
    if not known:
        clashing = []  # nothing tells whether they are two files or two editions of one
    taken = {entry.path for entry in found.there} | {entry.path for entry in new}
    entries = [(entry, entry.path) for entry in new]
    for entry in clashing:
        path = _free(entry.path, taken)
        taken.add(path)
        entries.append((entry, path))
    differing = [entry.path for entry in found.changed if entry.path in known]
    return ComingFiles(entries, differing, folders)


def _free(path: str, taken: set[str]) -> str:
    """The path with a number behind the name that nothing has yet."""
    one = PurePosixPath(path)
    number = 2
    while (found := str(one.with_name(f"{one.stem}-{number}{one.suffix}"))) in taken:
        number += 1
    return found


@dataclass
class FileNames:
    """Has the rows that come name files as these are called in the target. ``bare`` are the columns that name files
    without their folder, ``fixed`` those that stay as they are, as ``table.column``."""

    renamed: Sequence[tuple[str, str]]
    folders: Sequence[str]
    bare: Sequence[Column] = ()
    fixed: Sequence[str] = ()
    _rewriters: tuple[Rewriter, Rewriter] | None = field(default=None, repr=False)

    def through(
        self, table: str, names: Sequence[str], rows: Mapping[Key, Row], own: Mapping[Key, Row]
    ) -> dict[Key, Row]:
        """Rows with other names of files; ``own`` are the same rows as they are at their source."""
        if not self.renamed:
            return dict(rows)
        if self._rewriters is None:
            whole = [
                (_below(old, self.folders), _below(new, self.folders)) for old, new in self.renamed
            ]
            last = [(PurePosixPath(old).name, PurePosixPath(new).name) for old, new in self.renamed]
            self._rewriters = _literals(whole), _literals(last)
        paths, alone = self._rewriters
        found: dict[Key, Row] = {}
        for key, row in rows.items():
            cells: list[Cell] = []
            for name, cell in zip(names, row, strict=True):
                if isinstance(cell, bytes) and f"{table}.{name}" not in self.fixed:
                    value = paths.rewrite(cell, Tally())
                    if any(one.fits(table, name, names, own[key]) for one in self.bare):
                        value = alone.rewrite(value, Tally())
                    cell = Text(value) if isinstance(cell, Text) else value
                cells.append(cell)
            found[key] = cells
        return found


def _below(path: str, folders: Iterable[str]) -> str:
    """A path as it is written below the folder of its part."""
    return next((path[len(one) + 1 :] for one in folders if path.startswith(f"{one}/")), path)


def _literals(pairs: Sequence[tuple[str, str]]) -> Rewriter:
    return Rewriter(Pairs.of([Pair("literal", old.encode(), new.encode()) for old, new in pairs]))


def stage_files(
    coming: ComingFiles,
    incoming: ReadableSite,
    target: Site,
    mapping: Pairs,
    token: str,
    listener: Listener,
) -> list[Move]:
    """Lay the files ready beside the target; the moves that bring them in.

    Raises:
        FilesError: something could not be read or written; nothing live has changed.
    """
    if not coming.entries:
        return []
    goes = {entry.path: path for entry, path in coming.entries}
    texts = Patterns(incoming.definition.text_files)

    def items() -> Iterator[tuple[Entry, Iterable[Buffer]]]:
        entries = [entry for entry, _ in coming.entries]
        for entry, blocks in incoming.files.read_all(entries):
            there = entry._replace(path=goes[entry.path])
            if texts.matches_file(entry):
                made = Rewriter(mapping).rewrite(b"".join(map(bytes, blocks)), Tally())
                yield there._replace(size=len(made), digest=""), [made]
            else:
                yield there, blocks
            listener(FileMoved(entry.path, entry.size, 1))

    target.files.stage_all(token, items())
    paths = sorted(goes.values())
    return [*parents(target, paths), *(Move(path, None, "file") for path in paths)]
