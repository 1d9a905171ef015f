"""The commented vetrin.toml that a new project begins with, and the table of a further environment."""

from __future__ import annotations

import json
from collections.abc import Mapping

from msgspec import Struct

from .project import ROLES


class EnvironmentDraft(Struct, frozen=True):
    """What is known of an environment when it is written down; ``root`` is as it is to stand there. ``database``
    overrides what the site's configuration says, ``web`` is what its web server asks for, ``remark`` said of it."""

    name: str
    address: str
    root: str
    host: str = ""
    relay: str = ""
    role: str = ""
    also: tuple[str, ...] = ()
    database: Mapping[str, str] = {}
    web: Mapping[str, str] = {}
    remark: str = ""


class Draft(Struct, frozen=True):
    """What is known when a project is set up."""

    site: str
    cms: str
    environments: tuple[EnvironmentDraft, ...]


def quoted(text: str) -> str:
    """A TOML basic string; its escapes are those of JSON but for DEL."""
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007F")


_EXAMPLE = """
# The live site: `vetrin add production ssh://deploy@harrowmere.example/srv/www/harrowmere` writes its
# table. It starts read-only: pulls read it, nothing writes to it.
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
    ]
    for environment in draft.environments:
        lines += ["", *environment_lines(environment)]
    text = "\n".join([*lines, *_LATER]) + "\n"
    return text if len(draft.environments) > 1 else text + _EXAMPLE


def environment_lines(draft: EnvironmentDraft) -> list[str]:
    """The table of an environment; one with a relay needs no root, where that is the folder that the relay serves."""
    lines = [f"[environment.{draft.name}]", f"address = {quoted(draft.address)}"]
    if draft.also:
        also = ", ".join(map(quoted, draft.also))
        lines.append(f"also = [{also}]    # further addresses that mean this environment")
    if draft.host:
        lines.append(f"host = {quoted(draft.host)}")
    relative = (
        ""
        if draft.host or draft.root.startswith("/")
        else "    # the folder of the site, relative to this file"
    )
    if draft.relay:
        lines.append(f"relay = {quoted(draft.relay)}")
    if not draft.relay or draft.root not in ("", "."):
        lines.append(f"root = {quoted(draft.root)}{relative}")
    role = draft.role or (draft.name if draft.name in ROLES else "local")
    if role != draft.name:
        lines.append(f"role = {quoted(role)}")
    if role == "production":
        lines.append('# access = "read-write"    # permits writing to it; it starts read-only')
    if draft.remark:
        lines.append(f"# {' '.join(draft.remark.split())}")
    for table, values in (("database", draft.database), ("web", draft.web)):
        if values:
            lines += ["", f"[environment.{draft.name}.{table}]"]
            lines += [f"{key} = {quoted(value)}" for key, value in values.items()]
    return lines
