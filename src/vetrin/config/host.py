"""Where another machine is: the ``host`` of an environment, or its ``relay``."""

from __future__ import annotations

import re
from pathlib import Path
from typing import ClassVar

import msgspec
from msgspec import Struct

from ..errors import AddressError, HostError
from ..rewrite import Address

_SHAPE = re.compile(
    r"ssh://(?:(?P<user>[^@/:\s]+)@)?(?P<name>\[[0-9A-Fa-f:.%\w]+\]|[^@/:\s\[\]]+)(?::(?P<port>\d+))?/?$"
)


class Host(Struct, frozen=True):
    """A machine reached over SSH. ``name`` may be an alias of the user's SSH configuration, and what
    is empty or None here comes from there."""

    scheme: ClassVar[str] = "ssh"

    name: str
    user: str = ""
    port: int | None = None

    @classmethod
    def parse(cls, text: str) -> Host:
        """Read ``ssh://user@name:port``; user and port may be left out.

        Raises:
            HostError: it is something else.
        """
        match = _SHAPE.match(text)
        if match is None:
            if re.match(r"ssh://[^@/]*:[^@/]*@", text):
                raise HostError(
                    "a password does not belong into an address",
                    "leave it out: it is asked for, or comes from the keyring",
                )
            raise HostError(f"{text!r}: write ssh://user@name:port (user and port may be left out)")
        port = int(match["port"]) if match["port"] else None
        if port is not None and not 0 < port < 65536:
            raise HostError(f"{text!r}: there is no port {port}")
        return cls(match["name"].strip("[]"), match["user"] or "", port)

    def __str__(self) -> str:
        name = f"[{self.name}]" if ":" in self.name else self.name
        user = f"{self.user}@" if self.user else ""
        port = f":{self.port}" if self.port else ""
        return f"{self.scheme}://{user}{name}{port}"


class WebAccess(Struct, frozen=True):
    """What pages of a protected environment ask for: ``user`` for the web server (the password is never here), and a
    ``certificate`` of the authority that signed its own, or the ``fingerprint`` of the one certificate that it has
    (SHA-256, 64 hexadecimal digits)."""

    user: str = ""
    certificate: Path | None = None
    fingerprint: str = ""


class RelayHost(Struct, frozen=True):
    """A machine reached through the relay of an environment. ``environment`` is what its key is kept under, ``web``
    what the web server in front of it asks for."""

    scheme: ClassVar[str] = "relay"

    url: str
    environment: str
    web: WebAccess = msgspec.field(default_factory=WebAccess)

    @classmethod
    def parse(cls, text: str, environment: str, web: WebAccess) -> RelayHost:
        """Read the address of a relay's file.

        Raises:
            HostError: it is something else.
        """
        if "@" in text.partition("://")[2].partition("/")[0]:
            raise HostError(
                "a name and password do not belong into an address",
                "write the name as user in [environment.NAME.web]; the password comes from the keyring or a variable",
            )
        try:
            Address.parse(text)
        except AddressError as error:
            raise HostError(f"{text!r} is no address of a relay: {error}") from error
        if not text.partition("?")[0].endswith(".php") or "?" in text or "#" in text:
            raise HostError(
                f"{text!r} is no address of a relay",
                "write that of its file: https://NAME/vetrin-relay-….php",
            )
        return cls(text, environment, web)

    @property
    def name(self) -> str:
        """The name of the machine, as far as the address tells it."""
        return Address.parse(self.url).host

    def __str__(self) -> str:
        return f"{self.name}, through its relay"
