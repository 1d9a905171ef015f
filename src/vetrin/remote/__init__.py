"""Environments on other machines, and the way there."""

from .base import Nobody, Prompter, RemoteHost
from .pool import Hosts

__all__ = ["Hosts", "Nobody", "Prompter", "RemoteHost"]
