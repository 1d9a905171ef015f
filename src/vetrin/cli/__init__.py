"""The command line. Only this room prints, asks and draws."""

from .main import main

__all__ = ["main"]
