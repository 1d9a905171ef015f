"""What a content-management system looks like from outside; all knowledge is in definitions."""

from .definition import (
    Definition,
    detect,
    is_shipped,
    load_definition,
    shipped,
)
from .rules import (
    EncodedRule,
    ExtensionRule,
    LinkRule,
    MergeRule,
    NaturalRule,
    ReferenceRule,
    SetRule,
    SignedRule,
)
from .site_config import (
    SiteConfiguration,
    configuration_file,
    read_configuration,
    read_version,
    value_in,
)
from .site_config_writer import configuration_text, php_literal, source_text, with_constants
from .site_path import Place
from .table_ownership import owned

__all__ = [
    "Definition",
    "EncodedRule",
    "ExtensionRule",
    "LinkRule",
    "MergeRule",
    "NaturalRule",
    "Place",
    "ReferenceRule",
    "SetRule",
    "SignedRule",
    "SiteConfiguration",
    "configuration_file",
    "configuration_text",
    "detect",
    "is_shipped",
    "load_definition",
    "owned",
    "php_literal",
    "read_configuration",
    "read_version",
    "shipped",
    "source_text",
    "value_in",
    "with_constants",
]
