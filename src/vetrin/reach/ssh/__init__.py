"""Environments on other machines, over SSH."""

from .helper import HelperMachine, Helpers, NoHelper
from .line import Forbidden, Line, Lines, Refused, lines
from .pipe import LineBroken, LineError, Pipe, Socket
from .sftp import SftpMachine
from .trust import Asker, Nobody

__all__ = [
    "Asker",
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
    "Refused",
    "SftpMachine",
    "Socket",
    "lines",
]
