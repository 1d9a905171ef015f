"""Where another machine is: the ``host`` of an environment."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import ClassVar

from ..errors import HostError

_SHAPE = re.compile(
    r"ssh://(?:(?P<user>[^@/:\s]+)@)?(?P<name>\[[0-9A-Fa-f:.%\w]+\]|[^@/:\s\[\]]+)(?::(?P<port>\d+))?/?$"
)


@dataclass(frozen=True)
class Host:
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
