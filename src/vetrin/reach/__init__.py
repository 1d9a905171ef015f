"""How an environment is got at; so far: on this machine."""

from .extensions import Extension, active_keys, extensions_of, missing_extensions
from .local import configuration_of, is_empty, open_database, open_site, password_of
from .mapping import mapping_for
from .names import Keyed, Names, OneName
from .parts import FileScope, file_scope, lies_loose, own_files, part_of_path
from .payloads import rewrite_payloads
from .site import ReachError, Site

__all__ = [
    "Extension",
    "FileScope",
    "Keyed",
    "Names",
    "OneName",
    "ReachError",
    "Site",
    "active_keys",
    "configuration_of",
    "extensions_of",
    "file_scope",
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
]
