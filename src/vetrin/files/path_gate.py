"""The gate for paths that come from outside: a host's listing, a store, an archive, a build.

A tree of a site has files below its root and nowhere else. What passes here is written below a root, so nothing does
that would end elsewhere, in what is Vetrin's own, or in what version control runs.
"""

from __future__ import annotations

import re
import unicodedata
from collections import deque
from collections.abc import Mapping, Sequence
from typing import Any

from ..errors import FilesError
from .base import LINK_OUT, OWN_FOLDER, VERSION_CONTROL, Entry, Manifest, printable

NO_PATH = "no path of a site's file"
OWN = "Vetrin's own"
BELOW_NO_FOLDER = "below something that is no folder"
_MOST_LINKS = 400  # ten times what the system follows; what takes more goes round in a circle

# What needs no closer look: nearly all there is.
_plain = re.compile(r"[^./\0][^/\0]*(?:/[^./\0][^/\0]*)*\Z").match
_drive = re.compile(r"[A-Za-z]:[\\/]").match
_relay = re.compile(r"(?:^|/)vetrin-relay-[0-9a-f]{16}\.php", re.IGNORECASE).search
_HOOKED = frozenset({".git", ".hg", ".svn", ".bzr"})


def unfit(path: str) -> str:
    """Why a path cannot be that of something below a site's root, empty where it can."""
    usual = path.isascii()
    if not (usual and "-relay-" not in path.lower()) and _relay(path):
        return OWN
    if usual and _plain(path) and "CVS" not in path and path[1:2] != ":":
        return ""
    if _drive(path) or "\\.." in path or "..\\" in path:
        return NO_PATH
    for part in path.split("/"):
        if part in ("", ".", "..") or "\0" in part:
            return NO_PATH
        name = _as_some_disks_take_it(part)
        if name == OWN_FOLDER:
            return OWN
        if name in _HOOKED or part == "CVS":
            return VERSION_CONTROL
    return ""


def _as_some_disks_take_it(name: str) -> str:
    """A name without what some file systems pass over: capitals, letters that are not seen, an end of dots."""
    if not name.isascii():
        name = "".join(
            letter
            for letter in unicodedata.normalize("NFKC", name)
            if unicodedata.category(letter) != "Cf"
        )
    return name.casefold().rstrip(". ")


def must_fit(path: str) -> None:
    """Raises FilesError for a path that is not to be written to."""
    why = unfit(path)
    if why:
        raise FilesError(f"{printable(path)}: {why}; nothing is written there")


def entry_of(data: Sequence[Any]) -> Entry:
    """An entry as somebody wrote it down.

    Raises:
        ValueError: it is none, or its path is none.
    """
    path, kind, size, modified, mode, target, digest = data
    texts, numbers = (path, target, digest), (size, modified, mode)
    if not all(type(one) is str for one in texts) or not all(type(one) is int for one in numbers):
        raise ValueError("an entry of files is of another form")
    if kind not in ("file", "folder", "link") or unfit(path) == NO_PATH:
        raise ValueError(f"{printable(path)}: {NO_PATH}")
    return Entry(path, kind, size, modified, mode, target, digest)


def leads_inside(path: str, target: str, links: Mapping[str, str]) -> bool:
    """True if a link at ``path`` leads to something below the root, or nowhere, be it by way of other ``links`` of
    its tree."""
    if not target:
        return False
    above: list[str] = path.split("/")[:-1]
    ahead = deque([target])
    passed = 0
    while ahead:
        text = ahead.popleft()
        if text.startswith("/") or "\0" in text or _drive(text):
            return False
        part, _, rest = text.partition("/")
        if rest.strip("/"):
            ahead.appendleft(rest.lstrip("/"))
        if part in ("", "."):
            continue
        if part == "..":
            if not above:
                return False
            above.pop()
            continue
        here = "/".join([*above, part])
        onward = links.get(here)
        if onward is None:
            above.append(part)
            continue
        passed += 1
        if passed > _MOST_LINKS:
            return True  # it leads nowhere
        ahead.appendleft(onward)
    return not above or not unfit("/".join(above))


def admit(manifest: Manifest) -> Manifest:
    """Take out of a manifest what must not be written below a root, and tell of it as passed by; the manifest."""
    links = {path: entry.target for path, entry in manifest.items() if entry.kind == "link"}
    bad: dict[str, str] = {}
    for path, entry in manifest.items():
        why = unfit(path)
        if not why and "/" in path:
            above = manifest.get(path.rpartition("/")[0])
            if above is not None and above.kind != "folder":
                why = BELOW_NO_FOLDER
        if not why and entry.kind == "link" and not leads_inside(path, entry.target, links):
            why = LINK_OUT
        if why:
            bad[path] = why
    if bad:
        for path in [path for path in manifest if path in bad or _below_any(path, bad)]:
            del manifest[path]
        manifest.passed.update(bad)
    return manifest


def _below_any(path: str, some: Mapping[str, str]) -> bool:
    while path := path.rpartition("/")[0]:
        if path in some:
            return True
    return False
