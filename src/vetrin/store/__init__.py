"""Snapshots in a content-addressed store, and builds among them."""

from .builds import SHORT, Build, Builds, BuildTree, NoBuild, fingerprint_of
from .commits import Commit, commit_of, commits_between
from .contents import Contents, Damaged, Hands, in_blocks
from .file_keeper import FileKeeper
from .leases import Busy, lease
from .manifest import Manifest, StoredBuild, StoredData, StoredFile, StoredFiles, StoredTable
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
    "SHORT",
    "Build",
    "BuildTree",
    "Builds",
    "Busy",
    "Commit",
    "Contents",
    "Damaged",
    "FileKeeper",
    "FolderShelf",
    "Hands",
    "Harm",
    "Manifest",
    "Missing",
    "NoBuild",
    "NoSeal",
    "NoSnapshot",
    "PassphraseSeal",
    "Shelf",
    "Store",
    "StoreError",
    "StoredBuild",
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
