"""How an environment is got at: on this machine, or over SSH."""

from .extensions import Extension, active_keys, extensions_of, missing_extensions
from .far import Far, hosts
from .guard import Protected
from .mapping import UNKNOWN, mapping_for
from .names import Keyed, Names, OneName
from .opening import (
    configuration_of,
    far_of,
    is_empty,
    open_database,
    open_site,
    password_of,
    root_of,
)
from .parts import FileScope, file_scope, lies_loose, own_files, part_of_path, stays_with
from .payloads import Signed, rewrite_payloads, signed_between
from .site import Looked, ReachError, Site

__all__ = [
    "UNKNOWN",
    "Extension",
    "Far",
    "FileScope",
    "Keyed",
    "Looked",
    "Names",
    "OneName",
    "Protected",
    "ReachError",
    "Signed",
    "Site",
    "active_keys",
    "configuration_of",
    "extensions_of",
    "far_of",
    "file_scope",
    "hosts",
    "is_empty",
    "lies_loose",
    "mapping_for",
    "missing_extensions",
    "open_database",
    "open_site",
    "own_files",
    "part_of_path",
    "password_of",
    "rewrite_payloads",
    "root_of",
    "signed_between",
    "stays_with",
]
