"""Builds: the code of an environment at one moment, kept so that exactly this can be sent again.

A build is a snapshot in the store, of files alone, that is known by its fingerprint: a BLAKE2b digest over all
paths with their kinds, whether they may be run, and the digests of the blocks of their contents (for a link,
where it leads). Two builds of one fingerprint are the same to the byte, whenever and wherever they were made,
and one whose files are not those of its fingerprint is not sent, whoever changed them in the store.
"""

from __future__ import annotations

import contextlib
import dataclasses
import os
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property
from hashlib import blake2b
from itertools import groupby
from typing import Any

from msgspec.structs import replace

from ..cms import read_version
from ..errors import DamagedObject, FilesError, NoBuild
from ..files import AskedFileByFile, Buffer, Entry, SourceTree, admit, folders_to_scan, some_of
from ..files import Manifest as Listing
from ..site import ReadableSite, Site
from .file_keeper import FileKeeper
from .git import Commit
from .manifest import Manifest, StoredBuild, StoredFile
from .objects import Hands
from .snapshot_files import SnapshotTree, keep_files
from .snapshot_site import manifest_of
from .store import Store

SHORT = 10


@dataclass(frozen=True)
class Build:
    """What was built (or, with ``found``, what an environment held before it got another one)."""

    fingerprint: str
    made: str
    environment: str
    parts: tuple[str, ...]
    commit: Commit | None = None
    found: bool = False
    stored: tuple[StoredFile, ...] = field(default=(), repr=False)

    @property
    def short(self) -> str:
        return self.fingerprint[:SHORT]

    @cached_property
    def entries(self) -> tuple[Entry, ...]:
        return tuple(file.entry for file in self.stored)

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


def fingerprint_of(files: Iterable[StoredFile]) -> str:
    """40 hexadecimal digits that stand for what the files hold; their times do not count."""
    hasher = blake2b(digest_size=20)
    for entry, blocks in sorted((file.entry, file.blocks) for file in files):
        runs = "x" if entry.kind == "file" and entry.mode & 0o100 else "-"
        for part in (entry.path, entry.kind, runs, entry.target or ",".join(blocks)):
            hasher.update(os.fsencode(part) + b"\0")
    return hasher.hexdigest()


class Builds:
    """The builds in a store, which is opened when it is first needed. Without ``write`` none is kept: what is
    made then can be compared, and read where it was made of."""

    def __init__(self, opened: Callable[[], Store], *, write: bool = True) -> None:
        self._opened = opened
        self._write = write

    @cached_property
    def store(self) -> Store:
        return self._opened()

    def open(self) -> None:
        """Open the store, if it is not open yet. Raises StoreError."""
        _ = self.store

    def keep(
        self,
        site: Site,
        entries: Iterable[Entry],
        parts: Sequence[str],
        *,
        commit: Commit | None = None,
        found: bool = False,
        passed: Mapping[str, str] | None = None,
        known: Mapping[str, StoredFile] | None = None,
    ) -> Build:
        """Store files of a site as a build. ``known`` are those that are stored; ``passed`` are paths that
        are no part of it, and why.

        Raises:
            FilesError: something cannot be read.
            StoreError: it cannot be stored.
        """
        store = self.store
        with store.writing() if self._write else contextlib.nullcontext():
            files, added = self._files(site, {entry.path: entry for entry in entries}, known or {})
            build = Build(
                fingerprint=fingerprint_of(files),
                made=datetime.now().astimezone().isoformat(timespec="milliseconds"),
                environment=site.environment.name,
                parts=tuple(parts),
                commit=commit,
                found=found,
                stored=tuple(files),
            )
            if not self._write:
                return build
            lists, more = keep_files(store.contents, files, passed)
            manifest = self._manifest(site, build)
            return self._add(replace(manifest, files=lists, added=added + more), build)

    def _files(
        self, site: ReadableSite, entries: Mapping[str, Entry], known: Mapping[str, StoredFile]
    ) -> tuple[list[StoredFile], int]:
        """Files as they are stored, in the order of their paths, and the bytes that it added."""
        store = self.store
        with Hands(store.backend.writers) as hands:
            keeper = FileKeeper(store, hands, site.files, site.environment.name, write=self._write)
            others = {path: entry for path, entry in entries.items() if path not in known}
            known = {**known, **keeper.known(others)}
            files = sorted(keeper.keep(entries.values(), known), key=lambda file: file.entry)
        for names, what in (
            (keeper.restless, "written to whenever it is read"),
            (keeper.vanished, "removed while it was to be read"),
            (keeper.unread, "cannot be read"),
        ):
            if names:
                raise FilesError(f"{some_of(sorted(names))}: {what}")
        site.seen.keep(f.entry for f in files if f.entry.kind == "file" and f.entry.path in others)
        return files, keeper.added

    def _manifest(self, site: Site, build: Build) -> Manifest:
        return replace(
            manifest_of(site, self.store.new_id(), build.made, "build"),
            parts=build.parts,
            cms_version=read_version(site.root, site.definition) or "",
            build=StoredBuild(build.fingerprint, build.commit, build.found),
        )

    def _add(self, manifest: Manifest, build: Build) -> Build:
        there = [item for item, its in self._all() if its.fingerprint == build.fingerprint]
        if there:
            old = there[-1]
            assert old.build is not None
            if build.found:  # where it was made says more than where it was found
                return self._read(old)
            commit = build.commit or old.build.commit
            build = dataclasses.replace(build, made=old.taken, commit=commit)
            what = StoredBuild(build.fingerprint, commit)
            manifest = replace(manifest, id=old.id, taken=old.taken, build=what)
        self.store.add(manifest)
        return build

    def _all(self) -> list[tuple[Manifest, StoredBuild]]:
        return [(item, item.build) for item in self.store.snapshots() if item.build is not None]

    def get(self, name: str) -> Build:
        """The build whose fingerprint begins with ``name``, or that was made of that commit.

        Raises:
            NoBuild: there is none, or several.
            DamagedObject: its files are not those that its fingerprint stands for, or cannot be read.
        """
        known = self._all()
        fitting = [item for item, build in known if build.fingerprint.startswith(name)]
        if not fitting and len(name) >= 6:
            fitting = [i for i, build in known if build.commit and build.commit.id.startswith(name)]
        if not fitting or len(name) < 4:
            raise NoBuild(
                f"no build {name!r} is kept; `vetrin history` lists those that were pushed"
            )
        if len(fitting) > 1:
            shorts = [item.build.fingerprint[:SHORT] for item in fitting if item.build]
            raise NoBuild(f"{name!r} could be {', '.join(shorts)}; say more of it")
        return self._read(fitting[0])

    def _read(self, manifest: Manifest) -> Build:
        assert manifest.build is not None
        build, files = manifest.build, tuple(self.store.files(manifest))
        if fingerprint_of(files) != build.fingerprint:
            raise DamagedObject(manifest.id, "(a build) is not what its fingerprint stands for")
        return Build(
            fingerprint=build.fingerprint,
            made=manifest.taken,
            environment=manifest.environment,
            parts=manifest.parts,
            commit=build.commit,
            found=build.found,
            stored=files,
        )

    def tree(self, build: Build, beside: SourceTree) -> BuildTree:
        """A build as a tree; what is no part of it is as in ``beside``."""
        held = SnapshotTree(self.store.contents, build.stored, {}) if self._write else beside
        return BuildTree(build, held, beside)


class BuildTree(AskedFileByFile):
    """The files of a build, which are read from ``held``, and, in folders that it has no part in, those of
    another tree.

    What lies in a folder of the build is the build's alone: what was added beside it since is not seen.
    """

    streams = 2
    grain = 1
    algorithms: tuple[str, ...] = ("xxh128", "sha256")
    folds_names = False

    def __init__(self, build: Build, held: SourceTree, beside: SourceTree) -> None:
        self.build = build
        self._held = held
        self._beside = beside
        self._entries = {entry.path: entry for entry in build.entries}

    def scan(
        self, folders: Sequence[str], skip: Collection[str] = (), prune: Sequence[str] = ()
    ) -> Listing:
        """The build's own entries; folders that it has nothing in are looked for beside it."""
        found = Listing()
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
        others = [path for path in paths if not self._has(path)]
        beside = dict(zip(others, self._beside.look_again(others), strict=True)) if others else {}
        return [self._entries.get(path) or beside.get(path) for path in paths]

    def children(self, folder: str) -> list[Entry]:
        held = self._held.children(folder)
        if self._has(folder):
            return held
        others = [entry for entry in self._beside.children(folder) if not self._has(entry.path)]
        return sorted({entry.path: entry for entry in (*others, *held)}.values())

    def exists(self, path: str) -> bool:
        return self._of(path).exists(path)

    def digest(self, path: str) -> str:
        return self._of(path).digest(path)

    def digests(self, paths: Sequence[str], algorithm: str) -> list[str | None]:
        return [self._of(path).digests([path], algorithm)[0] for path in paths]

    def pieces(self, path: str, algorithm: str = "xxh128") -> list[str]:
        return self._of(path).pieces(path, algorithm)

    def read(self, path: str, start: int = 0, size: int | None = None) -> Iterator[bytes]:
        return self._of(path).read(path, start, size)

    def read_all(self, entries: Iterable[Entry]) -> Iterator[tuple[Entry, Iterator[Buffer]]]:
        for inside, some in groupby(entries, key=lambda entry: self._has(entry.path)):
            yield from (self._held if inside else self._beside).read_all(some)

    def _of(self, path: str) -> SourceTree:
        return self._held if self._has(path) else self._beside

    def _has(self, path: str) -> bool:
        """True for what the build has a say in: its entries, and all that could lie in its folders."""
        while path and path not in self._entries:
            path = path.rpartition("/")[0]
        return bool(path)
