"""Snapshots in a content-addressed store, and builds among them."""

from .backend import Backend, FolderBackend
from .builds import SHORT, Build, Builds, BuildTree, fingerprint_of
from .encryption import NoCipher, PassphraseCipher, cipher_of
from .file_keeper import FileKeeper
from .git import Commit, commit_of, commits_between
from .leases import lease
from .manifest import Manifest, StoredBuild, StoredData, StoredFile, StoredFiles, StoredTable
from .objects import Contents, Hands, in_blocks
from .open import open_store
from .proof import BY_DIGEST, Proof
from .retention import Held, Verdict, judge
from .snapshot_database import SnapshotDatabase
from .snapshot_files import SnapshotPath, SnapshotTree, keep_files
from .snapshot_site import manifest_of, open_snapshot
from .splices import Splice, spliced
from .store import Store
from .table_chunks import LARGEST_PAGE, Chunk, OpenedPage, TableReader, TableWriter, written
from .verify import Damage

__all__ = [
    "BY_DIGEST",
    "LARGEST_PAGE",
    "SHORT",
    "Backend",
    "Build",
    "BuildTree",
    "Builds",
    "Chunk",
    "Commit",
    "Contents",
    "Damage",
    "FileKeeper",
    "FolderBackend",
    "Hands",
    "Held",
    "Manifest",
    "NoCipher",
    "OpenedPage",
    "PassphraseCipher",
    "Proof",
    "SnapshotDatabase",
    "SnapshotPath",
    "SnapshotTree",
    "Splice",
    "Store",
    "StoredBuild",
    "StoredData",
    "StoredFile",
    "StoredFiles",
    "StoredTable",
    "TableReader",
    "TableWriter",
    "Verdict",
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
    "spliced",
    "written",
]
