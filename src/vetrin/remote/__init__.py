"""Environments on other machines, and the way there."""

from .base import Nobody, Prompter, RemoteHost
from .pool import hosts

__all__ = ["Nobody", "Prompter", "RemoteHost", "hosts"]
