"""The hosts that tests connect to, and close when they are done with them."""

from __future__ import annotations

from vetrin.remote import Hosts

hosts = Hosts()
