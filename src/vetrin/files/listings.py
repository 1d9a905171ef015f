"""What scans of another machine's folders found, so that only what has changed there need be told.

A listing comes in parts, each of the folders whose paths have one checksum, with a digest that the machine makes of
it. Kept in ``.vetrin/listings.sqlite`` of the project, by environment and question. Nothing in it is needed: where it
is lost, the whole listing is told once more.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import zstandard

from ..remembered import UNKEPT, remembered
from .base import Entry, Manifest

_SCHEMA = """CREATE TABLE IF NOT EXISTS listings (
  question TEXT PRIMARY KEY, content BLOB NOT NULL, asked INTEGER NOT NULL);"""
_KEPT = 40  # questions
_SEPARATOR = "\0"
_KINDS = {"file", "folder", "link"}


@dataclass
class Listed:
    """One part: its digest, and what was found in it."""

    digest: str
    found: Manifest = field(default_factory=Manifest)


class Listings:
    """The listings of one environment. Without ``path``, none is kept."""

    def __init__(self, path: Path | None = None, environment: str = "") -> None:
        self._path = path
        self._environment = environment

    def known(self, question: object) -> dict[int, Listed]:
        """The parts that a scan gave when the same was asked last."""
        with contextlib.suppress(*UNKEPT, zstandard.ZstdError, *_NONE_OF_OURS):
            if self._path is not None and self._path.exists():
                with remembered(self._path, _SCHEMA) as file:
                    asked = "SELECT content FROM listings WHERE question = ?"
                    row = file.execute(asked, (self._name(question),)).fetchone()
                if row is not None:
                    data = json.loads(zstandard.decompress(row[0]))
                    return {int(part): _part(*item) for part, item in data.items()}
        return {}

    def keep(self, question: object, parts: Mapping[int, Listed]) -> None:
        """Remember them, where that can be."""
        if self._path is None:
            return
        data = json.dumps({part: _columns(listed) for part, listed in parts.items()})
        content = zstandard.compress(data.encode("ascii"), 1)
        with contextlib.suppress(*UNKEPT), remembered(self._path, _SCHEMA) as file:
            row = self._name(question), content, time.time_ns()
            file.execute("INSERT OR REPLACE INTO listings VALUES (?, ?, ?)", row)
            file.execute(
                "DELETE FROM listings WHERE question NOT IN"
                " (SELECT question FROM listings ORDER BY asked DESC LIMIT ?)",
                (_KEPT,),
            )

    def _name(self, question: object) -> str:
        text = repr((self._environment, question))
        return hashlib.sha256(text.encode("utf-8", "surrogateescape")).hexdigest()


_NONE_OF_OURS = (ValueError, TypeError, KeyError, AttributeError, RecursionError)


def _columns(listed: Listed) -> list[Any]:
    found = listed.found
    rows = list(zip(*found.values(), strict=True)) or [()] * len(Entry._fields)
    paths, kinds, sizes, times, modes, targets, _ = rows
    joined = _SEPARATOR.join(paths)
    return [listed.digest, len(paths), joined, kinds, sizes, times, modes, targets, found.passed]


def _part(
    digest: str,
    count: int,
    joined: str,
    kinds: list[Any],
    sizes: list[int],
    times: list[int],
    modes: list[int],
    targets: list[str],
    passed: dict[str, str],
) -> Listed:
    """Raises one of ``_NONE_OF_OURS`` where it is none. The paths are for ``admit`` to look at, as in any scan."""
    listed = Listed(digest)
    paths = joined.split(_SEPARATOR) if count else []
    for column, kind in ((targets, str), (sizes, int), (times, int), (modes, int)):
        if {*map(type, column)} - {kind}:
            raise ValueError("a listing of another form")
    if {*kinds} - _KINDS:
        raise ValueError("a listing of something else")
    if {len(column) for column in (paths, kinds, sizes, times, modes, targets)} != {count}:
        raise ValueError("a listing that is cut off")
    listed.found.enter(paths, kinds, sizes, times, modes, targets)
    listed.found.passed.update(passed)
    return listed
