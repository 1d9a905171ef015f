"""Environments on other machines, over SSH."""

from .auth import Nobody, Prompter
from .channel import LineBroken, LineError, Pipe, Socket
from .connection import Forbidden, Line, Lines, Refused, lines
from .helper_client import HelperMachine, Helpers, NoHelper
from .sftp import SftpMachine

__all__ = [
    "Forbidden",
    "HelperMachine",
    "Helpers",
    "Line",
    "LineBroken",
    "LineError",
    "Lines",
    "NoHelper",
    "Nobody",
    "Pipe",
    "Prompter",
    "Refused",
    "SftpMachine",
    "Socket",
    "lines",
]
