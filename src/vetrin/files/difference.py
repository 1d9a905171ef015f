"""What has to move so that one tree holds what another one holds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from .contract import Entry, FileTree, Manifest


@dataclass(frozen=True)
class Difference:
    """Entries of the source that are new or changed on the target, and those only it has."""

    new: tuple[Entry, ...]
    changed: tuple[Entry, ...]
    same: int
    only_there: tuple[Entry, ...]

    @property
    def size(self) -> int:
        return sum(entry.size for entry in (*self.new, *self.changed))

    @property
    def files(self) -> int:
        return sum(entry.kind != "folder" for entry in (*self.new, *self.changed))


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
    return Difference(tuple(new), tuple(changed), same, only)


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
