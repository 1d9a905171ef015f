"""Trees of files: scanning, comparing, safe writing."""

from .contract import (
    BLOCK,
    LINK_OUT,
    OWN_FOLDER,
    PIECE,
    VERSION_CONTROL,
    VERSION_CONTROLS,
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
    folders_to_scan,
    printable,
    selected,
    some_of,
    stays_inside,
)
from .difference import BIG, Clash, Difference, Terms, Unit, compare_trees, selection, unit_of
from .digests import common_algorithm, digest_of
from .local import LocalTree, own_folder
from .machine import Act, Look, Machine, Writing
from .patterns import Patterns
from .place import FarPlace, Stat
from .remembered import Remembered
from .remote import RemoteTree

__all__ = [
    "BIG",
    "BLOCK",
    "LINK_OUT",
    "OWN_FOLDER",
    "PIECE",
    "VERSION_CONTROL",
    "VERSION_CONTROLS",
    "Act",
    "Buffer",
    "Clash",
    "Difference",
    "Entry",
    "FarPlace",
    "FileTree",
    "FilesError",
    "Kind",
    "LocalTree",
    "Look",
    "Machine",
    "Manifest",
    "Move",
    "Patterns",
    "Remembered",
    "RemoteTree",
    "Room",
    "SourceTree",
    "Span",
    "Stat",
    "Terms",
    "Unit",
    "Writing",
    "common_algorithm",
    "compare_trees",
    "digest_of",
    "folders_to_scan",
    "own_folder",
    "printable",
    "selected",
    "selection",
    "some_of",
    "stays_inside",
    "unit_of",
]
