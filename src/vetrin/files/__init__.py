"""Trees of files: scanning, comparing, safe writing."""

from .contract import BLOCK, Entry, FilesError, FileTree, Manifest, Move
from .difference import Difference, compare_trees
from .local import OWN_FOLDER, LocalTree

__all__ = [
    "BLOCK",
    "OWN_FOLDER",
    "Difference",
    "Entry",
    "FileTree",
    "FilesError",
    "LocalTree",
    "Manifest",
    "Move",
    "compare_trees",
]
