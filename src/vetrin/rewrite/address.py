"""Web addresses of environments, in the one spelling that everything else compares."""

from __future__ import annotations

import re

import idna
from msgspec import Struct

from ..errors import AddressError

DEFAULT_PORTS = {"http": 80, "https": 443}

_ADDRESS = re.compile(
    r"""(?P<scheme>https?)://
        (?:[^/@\s?#]*@)?
        (?P<host>\[[0-9a-f:.]+\]|[^/:\s?#\[\]@]+)
        (?::(?P<port>\d{1,5}))?
        (?P<path>/[^\s?#]*)?$""",
    re.IGNORECASE | re.VERBOSE,
)


class Address(Struct, frozen=True, order=True):
    """An http(s) address without a trailing slash: ``scheme://host[:port][/path]``.

    ``host`` is lower case and, for an internationalised name, in its ASCII spelling; ``port`` is
    None where it is the scheme's default; ``path`` is empty or begins with a slash.
    """

    scheme: str
    host: str
    port: int | None = None
    path: str = ""

    @classmethod
    def parse(cls, text: str) -> Address:
        """Read an address as a person writes it.

        Raises:
            AddressError: the text has no http(s) scheme, no host, a port out of range, or a
                query.
        """
        match = _ADDRESS.match(text.strip())
        if match is None:
            raise AddressError(f"{text!r} is not an address like https://www.harrowmere.example")
        scheme = match["scheme"].lower()
        port = int(match["port"]) if match["port"] else None
        if port is not None and not 0 < port < 65536:
            raise AddressError(f"{text!r} has a port out of range")
        if port == DEFAULT_PORTS[scheme]:
            port = None
        return cls(scheme, ascii_host(match["host"]), port, (match["path"] or "").rstrip("/"))

    @property
    def unicode_host(self) -> str:
        """The host as a person reads it; the same as ``host`` for a plain ASCII name."""
        if "xn--" not in self.host:
            return self.host
        try:
            return idna.decode(self.host)
        except idna.IDNAError:
            return self.host

    @property
    def authority(self) -> str:
        return self.host if self.port is None else f"{self.host}:{self.port}"

    def covers(self, other: Address) -> bool:
        """True if ``other`` is this address or lies under its path (schemes do not count)."""
        if (self.host, self.port) != (other.host, other.port):
            return False
        return (other.path + "/").startswith(self.path + "/")

    def __str__(self) -> str:
        return f"{self.scheme}://{self.authority}{self.path}"


def ascii_host(host: str) -> str:
    """Lower-case ``host``, an internationalised name turned into its ASCII spelling."""
    host = host.lower().rstrip(".")
    if host.isascii():
        return host
    try:
        return idna.encode(host, uts46=True).decode()
    except idna.IDNAError as error:
        raise AddressError(f"{host!r} is not a host name: {error}") from error
