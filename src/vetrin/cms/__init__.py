"""What a content-management system looks like from outside; all knowledge is in definitions."""

from .configuration import (
    ConfigurationError,
    SiteConfiguration,
    configuration_file,
    read_configuration,
    read_version,
)
from .definition import (
    Definition,
    DefinitionError,
    EncodedRule,
    detect,
    find_root,
    load_definition,
    shipped,
)
from .ownership import owned

__all__ = [
    "ConfigurationError",
    "Definition",
    "DefinitionError",
    "EncodedRule",
    "SiteConfiguration",
    "configuration_file",
    "detect",
    "find_root",
    "load_definition",
    "owned",
    "read_configuration",
    "read_version",
    "shipped",
]
