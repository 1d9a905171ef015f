"""The version of the language that a CMS runs in, wherever the site is."""

from __future__ import annotations

import subprocess
from itertools import takewhile

from ..files import printable
from .site import ReadableSite, Site

_LONGEST = 20  # seconds that the command may take


def runtime_of(site: ReadableSite) -> str | None:
    """The language and its version, such as "PHP 8.2.20", as the definition's command says on the site's machine.

    None where it cannot be told, and for what is in use nowhere.
    """
    rule = site.definition.runtime
    if rule is None or not isinstance(site, Site):
        return None
    if site.remote_host is not None:
        said = site.remote_host.version_of(rule.command)
    else:
        try:
            done = subprocess.run(rule.command, capture_output=True, text=True, timeout=_LONGEST)
        except (OSError, subprocess.SubprocessError):
            return None
        said = done.stdout if done.returncode == 0 else ""
    first = printable((said or "").strip().partition("\n")[0])
    # What tells no version is a greeting of the host's shell, or worse.
    return f"{rule.title} {first}" if version_numbers(first) else None


def version_numbers(text: str) -> tuple[int, ...]:
    """What versions are compared by: (8, 2, 20) of "8.2.20-2+deb12" and of "PHP 8.2.20"."""
    found = []
    for part in text.rpartition(" ")[2].split("-")[0].split("."):
        digits = "".join(takewhile(str.isdecimal, part))
        if not digits:
            break
        found.append(int(digits))
    return tuple(found)
