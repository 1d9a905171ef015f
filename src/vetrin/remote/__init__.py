"""Environments on other machines, and the way there."""

from .pool import RemoteHost, hosts

__all__ = ["ReachError", "RemoteHost", "hosts"]
