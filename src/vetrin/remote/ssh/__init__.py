"""Environments on other machines, over SSH."""

from .auth import Nobody, Prompter
from .channel import Pipe, Socket
from .connection import Line, Lines, lines
from .helper_client import HelperMachine, Helpers, NoHelper
from .sftp import SftpMachine

__all__ = [
    "HelperMachine",
    "Helpers",
    "Line",
    "Lines",
    "NoHelper",
    "Nobody",
    "Pipe",
    "Prompter",
    "SftpMachine",
    "Socket",
    "lines",
]
