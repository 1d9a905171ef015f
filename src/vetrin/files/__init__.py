"""Trees of files: scanning, comparing, safe writing."""

from .contract import (
    BLOCK,
    LINK_OUT,
    PIECE,
    Buffer,
    Entry,
    FilesError,
    FileTree,
    Kind,
    Manifest,
    Move,
    Room,
    SourceTree,
    Span,
    printable,
    some_of,
)
from .difference import Clash, Difference, Terms, Unit, compare_trees, selection, unit_of
from .local import OWN_FOLDER, LocalTree, own_folder
from .patterns import Patterns
from .remembered import Remembered

__all__ = [
    "BLOCK",
    "LINK_OUT",
    "OWN_FOLDER",
    "PIECE",
    "Buffer",
    "Clash",
    "Difference",
    "Entry",
    "FileTree",
    "FilesError",
    "Kind",
    "LocalTree",
    "Manifest",
    "Move",
    "Patterns",
    "Remembered",
    "Room",
    "SourceTree",
    "Span",
    "Terms",
    "Unit",
    "compare_trees",
    "own_folder",
    "printable",
    "selection",
    "some_of",
    "unit_of",
]
