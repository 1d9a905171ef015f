"""The file that is a relay: its text, made for one environment, with the owner's key in it as far as that checks
requests."""

from __future__ import annotations

import ipaddress
from collections.abc import Sequence
from datetime import UTC, datetime

from msgspec import Struct

from ...errors import UsageError
from ..helper_scripts import source
from .sealing import RelayKey

NAME = "vetrin-relay-{}.php"  # with the relay's id
_HEAD = """<?php
/*
 * A relay of Vetrin, for {site}: {environment}.
 *
 * What it is     With it, the one who holds its key keeps this site in step with copies of it, as over SSH: it reads
 *                the files in this folder and the database that the site uses{writes}.
 * Who made it    {maker}, {made}
 * It answers     until {until} UTC, to requests signed with that key{only}.
 *                Anybody else finds no page here.
 * To remove it   delete this file. Whoever has the key can have it delete itself, with what it remembers:
 *                {remove}
 *
 * It holds no password. What is in it checks requests and opens them; it can make none. All that passes is encrypted
 * from end to end. It runs no command and no code that it is sent, and leaves the site's folder alone outside of what
 * it is asked. Keep it as it is: a character in front of the first line would spoil every answer.
 */

"""


class RelayFile(Struct, frozen=True):
    """What a relay is made for. ``made`` and ``until`` are moments in seconds since 1970, ``only`` addresses or
    ranges that it answers to, ``root`` the site's folder as seen from its own (``""`` or ``/..``)."""

    site: str
    environment: str
    maker: str
    made: int
    until: int
    writes: bool
    only: tuple[str, ...] = ()
    root: str = ""

    def text(self, key: RelayKey) -> bytes:
        """The file."""
        head = _HEAD.format(
            site=_plain(self.site),
            environment=_plain(self.environment),
            writes=", and writes to both" if self.writes else "; it writes to neither",
            maker=_plain(self.maker),
            made=_moment(self.made),
            until=_moment(self.until),
            only=f" that come from {', '.join(self.only)}" if self.only else "",
            remove=f"vetrin relay {self.environment} --remove",
        )
        constants: dict[str, str] = {name: f"'{value}'" for name, value in key.constants().items()}
        constants |= {
            "V_MADE": str(self.made),
            "V_UNTIL": str(self.until),
            "V_WRITES": "true" if self.writes else "false",
            "V_ONLY": "[" + ", ".join(f"'{one}'" for one in self.only) + "]",
            "V_ROOT": f"'{self.root}'",
        }
        lines = "".join(f"const {name} = {value};\n" for name, value in constants.items())
        body = source("relay.php").removeprefix(b"<?php\n")
        return head.encode() + lines.encode() + b"\n" + body


def ranges(texts: Sequence[str]) -> tuple[str, ...]:
    """Addresses and ranges as a relay compares them (``203.0.113.7/32``).

    Raises:
        UsageError: one is none.
    """
    found = []
    for text in texts:
        try:
            found.append(str(ipaddress.ip_network(text.strip(), strict=False)))
        except ValueError as error:
            raise UsageError(
                f"{text!r} is no address and no range",
                "write addresses as 203.0.113.7 or ranges as 203.0.113.0/24, with commas between them",
            ) from error
    return tuple(found)


def _plain(text: str) -> str:
    """A text that ends no comment and begins no tag."""
    kept = "".join(c if c.isprintable() and c not in "*<>?" else " " for c in text)
    return " ".join(kept.split())[:80]


def _moment(seconds: int) -> str:
    return datetime.fromtimestamp(seconds, UTC).strftime("%Y-%m-%d %H:%M")
