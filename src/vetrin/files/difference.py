"""What has to move so that one tree holds what another one holds."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

from .contract import Entry, FileTree, Kind, Manifest, Move
from .patterns import Patterns


@dataclass(frozen=True)
class Difference:
    """Entries of the source that are new or changed on the target, and those only it has.

    ``replaced`` holds, by path, what a changed entry takes the place of; ``left`` and ``kept`` count
    what patterns left at the source and kept at the target, ``unused`` are patterns without effect.
    """

    new: tuple[Entry, ...]
    changed: tuple[Entry, ...]
    same: int
    only_there: tuple[Entry, ...]
    replaced: dict[str, Entry]
    left: int = 0
    kept: int = 0
    unused: tuple[str, ...] = ()

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


def compare_trees(
    source: FileTree,
    target: FileTree,
    folders: Sequence[str],
    *,
    skip: tuple[Collection[str], Collection[str]] = ((), ()),
    leave: Patterns | None = None,
    keep: Patterns | None = None,
) -> Difference:
    """Compare ``folders`` of both trees.

    Equal size and time count as equal; equal size with another time is settled by content.
    ``skip`` are paths that do not count at the source and at the target; entries of the source that
    fit ``leave`` stay there, those of the target that fit ``keep`` stay as they are.
    """
    theirs: Manifest = source.scan(folders, skip[0])
    ours: Manifest = target.scan(folders, skip[1])
    entries = list(theirs.values())
    left = [path for path, entry in theirs.items() if leave and leave.matches(entry)]
    kept = [path for path, entry in ours.items() if keep and keep.matches(entry)]
    for path in (*left, *kept, *(path for path in skip[1] if path in theirs)):
        theirs.pop(path, None)
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
    all_left = set(left)
    only = tuple(ours[path] for path in sorted(ours) if path not in theirs and path not in all_left)
    replaced = {entry.path: ours[entry.path] for entry in changed}
    return Difference(
        tuple(new),
        tuple(changed),
        same,
        only,
        replaced,
        len(left),
        len(kept),
        tuple([*leave.unused(entries)] if leave else ()),
    )


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
