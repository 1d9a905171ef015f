"""What has to move so that one tree holds what another one holds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from .contract import Entry, FileTree, Kind, Manifest, Move


@dataclass(frozen=True)
class Difference:
    """Entries of the source that are new or changed on the target, and those only it has.

    ``replaced`` holds, by path, what a changed entry takes the place of.
    """

    new: tuple[Entry, ...]
    changed: tuple[Entry, ...]
    same: int
    only_there: tuple[Entry, ...]
    replaced: dict[str, Entry]

    @property
    def size(self) -> int:
        return sum(entry.size for entry in (*self.new, *self.changed))

    @property
    def files(self) -> int:
        return sum(entry.kind != "folder" for entry in (*self.new, *self.changed))

    def moves(self) -> list[Move]:
        """The exchange that brings everything in, folders before what lies in them."""
        entries = sorted((*self.new, *self.changed), key=lambda entry: entry.path.count("/"))
        return [
            Move(
                entry.path,
                _kind(self.replaced[entry.path]) if entry.path in self.replaced else None,
                _kind(entry),
            )
            for entry in entries
        ]


def _kind(entry: Entry) -> Kind:
    return "folder" if entry.kind == "folder" else "file"


def compare_trees(source: FileTree, target: FileTree, folders: Sequence[str]) -> Difference:
    """Compare ``folders`` of both trees.

    Equal size and time count as equal; equal size with another time is settled by content.
    """
    theirs: Manifest = source.scan(folders)
    ours: Manifest = target.scan(folders)
    new: list[Entry] = []
    changed: list[Entry] = []
    same = 0
    for path in sorted(theirs):
        entry, other = theirs[path], ours.get(path)
        if other is None:
            new.append(entry)
        elif _differs(source, target, entry, other):
            changed.append(entry)
        else:
            same += 1
    only = tuple(ours[path] for path in sorted(ours) if path not in theirs)
    replaced = {entry.path: ours[entry.path] for entry in changed}
    return Difference(tuple(new), tuple(changed), same, only, replaced)


def _differs(source: FileTree, target: FileTree, entry: Entry, other: Entry) -> bool:
    if entry.kind != other.kind:
        return True
    if entry.kind == "folder":
        return False
    if entry.kind == "link":
        return entry.target != other.target
    if entry.size != other.size:
        return True
    if entry.modified == other.modified:
        return False
    return source.digest(entry.path) != target.digest(other.path)
