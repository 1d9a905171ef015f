"""An open environment: its tables, files, extensions, what its configuration says, and its rows on their way."""

from .address_map import UNKNOWN, mapping_for
from .discovery import Discovered, Where, folder_at, look_at, sites_below
from .extensions import Extension, active_keys, extensions_of, missing_extensions
from .former_roots import keep_root
from .open import (
    configuration_of,
    is_empty,
    open_database,
    open_site,
    password_of,
    remote_host_of,
    root_of,
    seen_of,
)
from .payloads import Signed, rewrite_payloads, signed_between
from .prefix import Names, OneName, PrefixedValues
from .row_pipeline import Changed, RowPipeline, RowSelection, TableRows, ValueWork
from .row_rewriting import Encoded, Healing, Rewriting
from .runtime import runtime_of, version_numbers
from .scope import FileScope, file_scope, lies_loose, own_files, part_of_path, stays_with
from .site import Looked, ReadableSite, Site
from .summary import Newest, Summary, counts_of, newest_of, standing

__all__ = [
    "UNKNOWN",
    "Changed",
    "Discovered",
    "Encoded",
    "Extension",
    "FileScope",
    "Healing",
    "Looked",
    "Names",
    "Newest",
    "OneName",
    "PrefixedValues",
    "ReadableSite",
    "Rewriting",
    "RowPipeline",
    "RowSelection",
    "Signed",
    "Site",
    "Summary",
    "TableRows",
    "ValueWork",
    "Where",
    "active_keys",
    "configuration_of",
    "counts_of",
    "extensions_of",
    "file_scope",
    "folder_at",
    "is_empty",
    "keep_root",
    "lies_loose",
    "look_at",
    "mapping_for",
    "missing_extensions",
    "newest_of",
    "open_database",
    "open_site",
    "own_files",
    "part_of_path",
    "password_of",
    "remote_host_of",
    "rewrite_payloads",
    "root_of",
    "runtime_of",
    "seen_of",
    "signed_between",
    "sites_below",
    "standing",
    "stays_with",
    "version_numbers",
]
