"""Snapshots in a content-addressed store, and builds among them."""

from .backend import Backend, FolderBackend, Missing, StoreError
from .builds import SHORT, Build, Builds, BuildTree, NoBuild, fingerprint_of
from .encryption import NoCipher, PassphraseCipher, WrongPassphrase, cipher_of
from .file_keeper import FileKeeper
from .git import Commit, commit_of, commits_between
from .leases import Busy, lease
from .manifest import Manifest, StoredBuild, StoredData, StoredFile, StoredFiles, StoredTable
from .objects import Contents, Damaged, Hands, in_blocks
from .open import open_store
from .retention import Verdict, judge
from .snapshot_database import SnapshotDatabase
from .snapshot_files import SnapshotPath, SnapshotTree, keep_files
from .snapshot_site import manifest_of, open_snapshot
from .store import NoSnapshot, Store
from .table_chunks import Chunk, TableReader, TableWriter, written
from .verify import Damage

__all__ = [
    "SHORT",
    "Backend",
    "Build",
    "BuildTree",
    "Builds",
    "Busy",
    "Chunk",
    "Commit",
    "Contents",
    "Damage",
    "Damaged",
    "FileKeeper",
    "FolderBackend",
    "Hands",
    "Manifest",
    "Missing",
    "NoBuild",
    "NoCipher",
    "NoSnapshot",
    "PassphraseCipher",
    "SnapshotDatabase",
    "SnapshotPath",
    "SnapshotTree",
    "Store",
    "StoreError",
    "StoredBuild",
    "StoredData",
    "StoredFile",
    "StoredFiles",
    "StoredTable",
    "TableReader",
    "TableWriter",
    "Verdict",
    "WrongPassphrase",
    "cipher_of",
    "commit_of",
    "commits_between",
    "fingerprint_of",
    "in_blocks",
    "judge",
    "keep_files",
    "lease",
    "manifest_of",
    "open_snapshot",
    "open_store",
    "written",
]
