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
    detect,
    find_root,
    is_shipped,
    load_definition,
    shipped,
)
from .ownership import owned
from .place import Place
from .rules import DefinitionError, EncodedRule, ExtensionRule, LinkRule, SignedRule
from .writing import (
    WritingError,
    configuration_text,
    php_literal,
    source_text,
    with_constants,
)

__all__ = [
    "ConfigurationError",
    "Definition",
    "DefinitionError",
    "EncodedRule",
    "ExtensionRule",
    "LinkRule",
    "Place",
    "SignedRule",
    "SiteConfiguration",
    "WritingError",
    "configuration_file",
    "configuration_text",
    "detect",
    "find_root",
    "is_shipped",
    "load_definition",
    "owned",
    "php_literal",
    "read_configuration",
    "read_version",
    "shipped",
    "source_text",
    "with_constants",
]
