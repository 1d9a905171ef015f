"""Trees of files: scanning, comparing, safe writing."""

from .contract import BLOCK, Entry, FilesError, FileTree, Kind, Manifest, Move
from .difference import Difference, compare_trees
from .local import OWN_FOLDER, LocalTree, own_folder
from .patterns import Patterns

__all__ = [
    "BLOCK",
    "OWN_FOLDER",
    "Difference",
    "Entry",
    "FileTree",
    "FilesError",
    "Kind",
    "LocalTree",
    "Manifest",
    "Move",
    "Patterns",
    "compare_trees",
    "own_folder",
]
