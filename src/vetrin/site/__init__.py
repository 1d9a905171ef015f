"""An open environment: its tables, files, extensions, and what its configuration says."""

from .address_map import UNKNOWN, mapping_for
from .extensions import Extension, active_keys, extensions_of, missing_extensions
from .open import configuration_of, far_of, is_empty, open_database, open_site, password_of, root_of
from .payloads import Signed, rewrite_payloads, signed_between
from .prefix import Names, OneName, PrefixedValues
from .scope import FileScope, file_scope, lies_loose, own_files, part_of_path, stays_with
from .site import Looked, Site
from .summary import Newest, Summary, counts_of, newest_of, standing

__all__ = [
    "UNKNOWN",
    "Extension",
    "FileScope",
    "Looked",
    "Names",
    "Newest",
    "OneName",
    "PrefixedValues",
    "Signed",
    "Site",
    "Summary",
    "active_keys",
    "configuration_of",
    "counts_of",
    "extensions_of",
    "far_of",
    "file_scope",
    "is_empty",
    "lies_loose",
    "mapping_for",
    "missing_extensions",
    "newest_of",
    "open_database",
    "open_site",
    "own_files",
    "part_of_path",
    "password_of",
    "rewrite_payloads",
    "root_of",
    "signed_between",
    "standing",
    "stays_with",
]
