"""How an environment is got at; so far: on this machine."""

from .local import configuration_of, open_database, open_site
from .site import ReachError, Site

__all__ = ["ReachError", "Site", "configuration_of", "open_database", "open_site"]
