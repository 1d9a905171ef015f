"""Running a local copy at its address, with what this machine has."""

from .local_server import LocalServer, command_line
from .needs import Need, Origin, needs_of

__all__ = ["LocalServer", "Need", "Origin", "command_line", "needs_of"]
