"""Snapshots in a content-addressed store, and the builds of a project."""

from .builds import Build, Builds, BuildTree, NoBuild, fingerprint_of
from .commits import Commit, commit_of, commits_between
from .contents import Contents, Damaged, Hands, in_blocks
from .leases import Busy, lease
from .manifest import Manifest, StoredData, StoredFile, StoredFiles, StoredTable
from .objects import Objects
from .opening import open_store
from .pages import StoredPage, TableReader, TableWriter, written
from .proving import Harm
from .seal import NoSeal, PassphraseSeal, WrongPassphrase, seal_of
from .shelf import FolderShelf, Missing, Shelf, StoreError
from .snapshots import NoSnapshot, Store
from .stored_database import StoredDatabase
from .stored_files import StoredPlace, StoredTree, keep_files
from .stored_site import open_snapshot
from .thinning import Verdict, judge

__all__ = [
    "Build",
    "BuildTree",
    "Builds",
    "Busy",
    "Commit",
    "Contents",
    "Damaged",
    "FolderShelf",
    "Hands",
    "Harm",
    "Manifest",
    "Missing",
    "NoBuild",
    "NoSeal",
    "NoSnapshot",
    "Objects",
    "PassphraseSeal",
    "Shelf",
    "Store",
    "StoreError",
    "StoredData",
    "StoredDatabase",
    "StoredFile",
    "StoredFiles",
    "StoredPage",
    "StoredPlace",
    "StoredTable",
    "StoredTree",
    "TableReader",
    "TableWriter",
    "Verdict",
    "WrongPassphrase",
    "commit_of",
    "commits_between",
    "fingerprint_of",
    "in_blocks",
    "judge",
    "keep_files",
    "lease",
    "open_snapshot",
    "open_store",
    "seal_of",
    "written",
]
