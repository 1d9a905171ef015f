"""The commented vetrin.toml that a new project begins with."""

from __future__ import annotations

import json
from dataclasses import dataclass

from ..cms import SiteConfiguration


@dataclass(frozen=True)
class Draft:
    """What is known when a project is set up; ``others`` are (name, address, root)."""

    site: str
    cms: str
    environment: str
    address: str
    root: str
    configuration: SiteConfiguration | None = None
    others: tuple[tuple[str, str, str], ...] = ()


def quoted(text: str) -> str:
    """A TOML basic string; its escapes are those of JSON but for DEL."""
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007F")


_EXAMPLE = """
# The live site. It starts read-only: pulls read it, nothing writes to it.
# [environment.production]
# address = "https://www.harrowmere.example"
# also = ["http://harrowmere.example"]    # further addresses that mean this environment
# host = "ssh://deploy@harrowmere.example"    # without it, the root is on this machine
# root = "/srv/www/harrowmere"
"""


_LATER = [
    "",
    "# What transfers leave out (`vetrin survey ENV` suggests), and what an environment keeps.",
    "# [leave]",
    '# rows = ["spam-comments"]',
    "# [environment.local.keep]",
    '# settings = ["active-plugins"]',
    "",
    "# What `vetrin push` does before it sends the local code anywhere.",
    "# [build]",
    '# commands = ["npm run build"]',
    '# checks = ["npm test"]',
]


def project_text(draft: Draft) -> str:
    """The text of vetrin.toml."""
    lines = [
        "# What Vetrin knows of this project. No password belongs into this file: Vetrin reads them",
        "# from the site's own configuration, the keyring or an environment variable.",
        "",
        "[site]",
        f"name = {quoted(draft.site)}",
        f"cms = {quoted(draft.cms)}",
        "",
        f"[environment.{draft.environment}]",
        f"address = {quoted(draft.address)}",
        f"root = {quoted(draft.root)}    # the folder of the site, relative to this file",
    ]
    found = draft.configuration
    if found is not None and found.file is not None:
        lines.append(f"# Its database, from {found.file.name}: {_described(found)}")
        lines.append("# What differs when Vetrin connects can be given in a table of its own:")
        lines.append(f"# [environment.{draft.environment}.database]")
        lines.append('# host = "127.0.0.1:3307"')
    for name, address, root in draft.others:
        lines += [
            "",
            f"[environment.{name}]",
            f"address = {quoted(address)}",
            f"root = {quoted(root)}",
            '# host = "ssh://user@name"    # the machine it is on, if it is not this one',
        ]
        if name == "production":
            lines.append('# access = "read-write"    # permits writing to it; it starts read-only')
    lines += _LATER
    text = "\n".join(lines) + "\n"
    return text if draft.others else text + _EXAMPLE


def _described(found: SiteConfiguration) -> str:
    parts = [found.database]
    if found.user:
        parts.append(f"user {found.user} at {found.host or 'localhost'}")
    if found.prefix:
        parts.append(f"prefix {found.prefix}")
    return ", ".join(part.replace("\n", " ") for part in parts)
