"""Trees of files: scanning, comparing, safe writing."""

from .base import (
    BLOCK,
    LINK_OUT,
    OWN_FOLDER,
    PIECE,
    UNREADABLE,
    VERSION_CONTROL,
    VERSION_CONTROLS,
    Buffer,
    Entry,
    FileTree,
    Kind,
    Manifest,
    Move,
    Room,
    SourceTree,
    Span,
    changed_since,
    folders_to_scan,
    if_readable,
    printable,
    pruning,
    selected,
    some_of,
    stays_inside,
)
from .diff import BIG, Clash, Difference, Terms, Unit, compare_trees, selection, unit_of
from .digest_cache import DigestCache
from .digests import common_algorithm, digest_of
from .local import LocalTree, own_folder
from .looked_machine import LookedMachine
from .path_gate import admit, entry_of, leads_inside, unfit
from .patterns import Patterns
from .private import private_file, private_folder
from .remote import RemoteTree
from .remote_machine import AskedEachTime, FileChange, FileStatus, Machine, Writing, spot_there
from .remote_path import RemotePath, Stat, looking_at
from .withheld import withheld

__all__ = [
    "BIG",
    "BLOCK",
    "LINK_OUT",
    "OWN_FOLDER",
    "PIECE",
    "UNREADABLE",
    "VERSION_CONTROL",
    "VERSION_CONTROLS",
    "AskedEachTime",
    "Buffer",
    "Clash",
    "Difference",
    "DigestCache",
    "Entry",
    "FileChange",
    "FileStatus",
    "FileTree",
    "Kind",
    "LocalTree",
    "LookedMachine",
    "Machine",
    "Manifest",
    "Move",
    "Patterns",
    "RemotePath",
    "RemoteTree",
    "Room",
    "SourceTree",
    "Span",
    "Stat",
    "Terms",
    "Unit",
    "Writing",
    "admit",
    "changed_since",
    "common_algorithm",
    "compare_trees",
    "digest_of",
    "entry_of",
    "folders_to_scan",
    "if_readable",
    "leads_inside",
    "looking_at",
    "own_folder",
    "printable",
    "private_file",
    "private_folder",
    "pruning",
    "selected",
    "selection",
    "some_of",
    "spot_there",
    "stays_inside",
    "unfit",
    "unit_of",
    "withheld",
]
