"""Builds: the code of an environment at one moment, kept so that exactly this can be sent again.

A build is a manifest in ``.vetrin/builds/FINGERPRINT.json`` and the contents of its files among the
objects. Its fingerprint is a BLAKE2b digest over all paths with their kinds, whether they may be run,
and the digests of their contents (for a link, where it leads): two builds of one fingerprint are the
same to the byte, whenever and wherever they were made.
"""

from __future__ import annotations

import hashlib
import json
import os
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import Any

from ..files import (
    PIECE,
    Buffer,
    Entry,
    FilesError,
    Manifest,
    Remembered,
    SourceTree,
    admit,
    changed_since,
    digest_of,
    entry_of,
    folders_to_scan,
    own_folder,
    some_of,
)
from .commits import Commit
from .objects import Objects

_VERSION = 1
_ROUNDS = 4  # times that a file is read
SHORT = 10


class NoBuild(Exception):
    """There is no such build, or more than one that could be meant."""


@dataclass(frozen=True)
class Build:
    """What was built (or, with ``found``, what an environment held before it got another one)."""

    fingerprint: str
    made: str
    environment: str
    parts: tuple[str, ...]
    commit: Commit | None = None
    found: bool = False
    entries: tuple[Entry, ...] = field(default=(), repr=False)

    @property
    def short(self) -> str:
        return self.fingerprint[:SHORT]

    @property
    def files(self) -> int:
        return sum(entry.kind != "folder" for entry in self.entries)

    @property
    def size(self) -> int:
        return sum(entry.size for entry in self.entries)

    def as_json(self) -> dict[str, Any]:
        return {
            "fingerprint": self.fingerprint,
            "made": self.made,
            "environment": self.environment,
            "parts": list(self.parts),
            "commit": self.commit.as_json() if self.commit else None,
            "found": self.found,
        }


def fingerprint_of(entries: Iterable[Entry]) -> str:
    """40 hexadecimal digits that stand for what the entries hold; their times do not count."""
    hasher = hashlib.blake2b(digest_size=20)
    for entry in sorted(entries):
        runs = "x" if entry.kind == "file" and entry.mode & 0o100 else "-"
        for part in (entry.path, entry.kind, runs, entry.digest or entry.target):
            hasher.update(os.fsencode(part) + b"\0")
    return hasher.hexdigest()


class Builds:
    """The builds of a project."""

    def __init__(self, state: Path) -> None:
        self._state = state
        self._folder = state / "builds"
        self.objects = Objects(state / "objects")

    def keep(
        self,
        tree: SourceTree,
        entries: Sequence[Entry],
        environment: str,
        parts: Sequence[str],
        *,
        commit: Commit | None = None,
        found: bool = False,
        remembered: Remembered | None = None,
        tell: Callable[[Entry], None] = lambda entry: None,
    ) -> Build:
        """Store the content of ``entries``, as far as it is not there yet.

        Raises:
            FilesError: something can not be read or written.
        """
        own_folder(self._state.parent)
        known = remembered or Remembered()
        digests: dict[str, str] = {}
        missing: list[Entry] = []
        for entry in entries:
            if entry.kind != "file":
                continue
            digest = known.known(entry)
            if digest and digest in self.objects:
                digests[entry.path] = digest
                tell(entry)
            else:
                missing.append(entry)
        listed = list(entries)
        for _ in range(_ROUNDS):
            if not missing:
                break
            with self.objects.batch() as batch:
                for entry, blocks in tree.read_all(missing):
                    digests[entry.path] = batch.keep(blocks)
                    tell(entry)
            # What was written to while it was read may be of two editions.
            missing = changed_since(tree, missing)
            now = {entry.path: entry for entry in missing}
            listed = [now.get(entry.path, entry) for entry in listed]
        if missing:
            raise FilesError(
                f"{some_of([entry.path for entry in missing])}: written to whenever it is read"
            )
        whole = tuple(sorted(e._replace(digest=digests.get(e.path, "")) for e in listed))
        known.keep(entry for entry in whole if entry.kind == "file")
        build = Build(
            fingerprint_of(whole),
            datetime.now().astimezone().isoformat(timespec="seconds"),
            environment,
            tuple(parts),
            commit,
            found,
            whole,
        )
        return self._write(build)

    def _write(self, build: Build) -> Build:
        self._folder.mkdir(parents=True, exist_ok=True)
        place = self._folder / f"{build.fingerprint}.json"
        if place.exists():
            there = self._read(place)
            if build.found:
                return there  # where it was made says more than where it was found
            build = replace(build, made=there.made, commit=build.commit or there.commit)
        beside = place.with_suffix(".new")
        with beside.open("w", encoding="utf-8") as file:
            json.dump(
                {
                    "version": _VERSION,
                    **build.as_json(),
                    "entries": [list(e) for e in build.entries],
                },
                file,
            )
            file.flush()
            os.fsync(file.fileno())
        beside.rename(place)
        return build

    def get(self, name: str) -> Build:
        """The build whose fingerprint begins with ``name``, or that was made of that commit.

        Raises:
            NoBuild: there is none, or several.
        """
        paths = sorted(self._folder.glob("*.json")) if self._folder.is_dir() else []
        fitting = [path for path in paths if path.stem.startswith(name)] if len(name) >= 4 else []
        if not fitting and len(name) >= 6:
            fitting = [
                path for path in paths if (self._read(path).commit or _NONE).id.startswith(name)
            ]
        if not fitting:
            raise NoBuild(
                f"no build {name!r} is kept; `vetrin history` lists those that were pushed"
            )
        if len(fitting) > 1:
            raise NoBuild(
                f"{name!r} could be {', '.join(path.stem[:SHORT] for path in fitting)}; say more of it"
            )
        return self._read(fitting[0])

    def _read(self, path: Path) -> Build:
        try:
            data = json.loads(path.read_text(encoding="utf-8"))
            commit = data["commit"]
            if commit is not None:
                commit.pop("clean")
                commit = Commit(**commit)
            return Build(
                data["fingerprint"],
                data["made"],
                data["environment"],
                tuple(data["parts"]),
                commit,
                data["found"],
                tuple(map(entry_of, data["entries"])),
            )
        except (OSError, ValueError, KeyError, TypeError) as error:
            raise NoBuild(f"{path} can not be read: {error}") from error

    def tree(self, build: Build, beside: SourceTree) -> BuildTree:
        """A build as a tree; what is no part of it is as in ``beside``."""
        return BuildTree(build, self.objects, beside)


_NONE = Commit("", "")


class BuildTree:
    """The files of a build, and, in folders that it has no part in, those of another tree."""

    streams = 2
    grain = 1
    algorithms: tuple[str, ...] = ("xxh128", "sha256")

    def __init__(self, build: Build, objects: Objects, beside: SourceTree) -> None:
        self.build = build
        self._objects = objects
        self._beside = beside
        self._entries = {entry.path: entry for entry in build.entries}

    def scan(
        self, folders: Sequence[str], skip: Collection[str] = (), prune: Sequence[str] = ()
    ) -> Manifest:
        """The build's own entries; folders that it has nothing in are looked for beside it."""
        found = Manifest()
        names = folders_to_scan(folders, skip)
        shut = tuple(f"{path}/" for path in skip)
        others = []
        for name in names:
            inside = [
                entry
                for path, entry in self._entries.items()
                if not name or path == name or path.startswith(f"{name}/")
            ]
            if not inside and name:
                others.append(name)
            for entry in inside:
                if entry.path not in skip and not entry.path.startswith(shut):
                    found[entry.path] = entry
        if others:
            theirs = self._beside.scan(others, skip, prune)
            found.update(theirs)
            found.passed.update(theirs.passed)
            found.untold |= theirs.untold
        return admit(found)

    def look_again(self, paths: Sequence[str]) -> list[Entry | None]:
        others = [path for path in paths if path not in self._entries]
        beside = dict(zip(others, self._beside.look_again(others), strict=True)) if others else {}
        return [self._entries.get(path) or beside.get(path) for path in paths]

    def children(self, folder: str) -> list[Entry]:
        return self._beside.children(folder)

    def exists(self, path: str) -> bool:
        return path in self._entries or self._beside.exists(path)

    def digest(self, path: str) -> str:
        entry = self._entries.get(path)
        return entry.digest if entry else self._beside.digest(path)

    def digests(self, paths: Sequence[str], algorithm: str) -> list[str | None]:
        if algorithm == "xxh128":
            return [self.digest(path) for path in paths]
        return [digest_of(self.read(path), algorithm) for path in paths]

    def pieces(self, path: str, algorithm: str = "xxh128") -> list[str]:
        if path not in self._entries:
            return self._beside.pieces(path, algorithm)
        content = b"".join(self.read(path))
        return [
            digest_of([content[start : start + PIECE]], algorithm)
            for start in range(0, len(content), PIECE)
        ]

    def read(self, path: str, start: int = 0, size: int | None = None) -> Iterator[bytes]:
        entry = self._entries.get(path)
        if entry is None:
            yield from self._beside.read(path, start, size)
        elif not start and size is None:
            yield from self._objects.read(entry.digest)
        else:
            content = b"".join(self._objects.read(entry.digest))
            yield content[start : None if size is None else start + size]

    def read_all(self, entries: Iterable[Entry]) -> Iterator[tuple[Entry, Iterator[Buffer]]]:
        for entry in entries:
            yield entry, self.read(entry.path) if entry.kind == "file" else iter(())
