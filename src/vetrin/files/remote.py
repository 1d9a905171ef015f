"""The files below a folder of another machine."""

from __future__ import annotations

import contextlib
import json
import posixpath
import secrets
import threading
from collections.abc import Collection, Iterable, Iterator, Sequence

from ..errors import FilesError
from .base import (
    LINK_OUT,
    OWN_FOLDER,
    PIECE,
    SPECIAL,
    UNREADABLE,
    VERSION_CONTROL,
    VERSION_CONTROLS,
    Buffer,
    Entry,
    Manifest,
    Move,
    Room,
    Side,
    Span,
    folders_to_scan,
    stays_inside,
)
from .digests import digest_of
from .filesystem import PlannedFileSystem, RemoteFileSystem
from .listings import Listed, Listings
from .path_gate import admit, must_fit, unfit
from .remote_machine import NOW, FileChange, FileStatus, Machine, Writing
from .swap import Places, exchange, planned, put_back

_PLAIN_BITS = 0o777
_ELSEWHERE = "elsewhere"
_SHUT = (OWN_FOLDER, *sorted(VERSION_CONTROLS))
_GUARDS = ((".htaccess", b"Require all denied\n"), (".gitignore", b"*\n"))


class RemoteTree:
    """The files below ``root``, an absolute path on ``machine``.

    As a local tree, it keeps what is staged for a folder on another disk in a ``.vetrin`` of that
    disk's own. What a run does not exchange by one call there it does by renames one directly after
    the other.
    """

    def __init__(self, machine: Machine, root: str, listings: Listings | None = None) -> None:
        """``listings`` are what scans found before, where the machine can tell what has changed since."""
        self.machine = machine
        self._listings = listings
        self.root = root.rstrip("/") or "/"
        self.streams = machine.streams
        self.grain = machine.grain
        self.algorithms = machine.algorithms
        self._disks: dict[str, int | None] = {}
        self._bases: dict[str, str] = {}
        self._far: list[str] | None = None
        self._guarded: set[str] = set()
        self._modes: dict[str, int] = {}
        self._making = threading.Lock()
        self._folds: bool | None = None

    def scan(
        self, folders: Sequence[str], skip: Collection[str] = (), prune: Sequence[str] = ()
    ) -> Manifest:
        manifest = Manifest()
        names = folders_to_scan(folders, skip)
        apart = frozenset(skip) | frozenset(names)
        places = [self._place(name) for name in names]
        starts: list[str] = []
        seen = self.machine.look(places)
        links = [
            place
            for place, look in zip(places, seen, strict=True)
            if look is not None and look.kind == "link"
        ]
        behind = dict(zip(links, self.machine.look(links, follow=True), strict=True))
        for name, place, look in zip(names, places, seen, strict=True):
            if look is None:
                manifest.untold.add(name)
                continue
            led = behind.get(place, look)
            if led is not None and led.kind == "folder":
                if name:
                    manifest[name] = Entry(name, "folder", mode=led.mode)
                starts.append(place)
            else:
                self._enter(manifest, name, look)
        away = [self._place(path) for path in apart if path]
        within = (f"{self.root.rstrip('/')}/", prune)
        if starts and not self._in_parts(manifest, starts, away, within):
            for place, look in self.machine.scan(starts, away, _SHUT, within):
                self._found(manifest, place, look)
        for path, why in manifest.passed.items():
            if why == UNREADABLE:
                manifest.pop(path, None)
        return admit(manifest)

    def _in_parts(
        self,
        manifest: Manifest,
        starts: Sequence[str],
        away: Sequence[str],
        within: tuple[str, Sequence[str]],
    ) -> bool:
        """Enter what a scan finds, of which only the parts are told that have changed; False where that cannot be."""
        if self._listings is None:
            return False
        question = self.root, starts, sorted(away), within
        known = self._listings.known(question)
        digests = {part: listed.digest for part, listed in known.items()}
        told = self.machine.scan_parts(starts, away, _SHUT, within, digests)
        if told is None:
            return False
        parts = {part: Listed(digest) for part, digest in told.digests.items()}
        for part in told.same:
            parts[part].found = known[part].found
        for part, place, look in told.found:
            if part not in told.same:
                self._found(parts.setdefault(part, Listed("")).found, place, look)
        if told.digests != digests:
            self._listings.keep(question, parts)
        # Folders come before what is in them.
        manifest.update(sorted(item for part in parts.values() for item in part.found.items()))
        for listed in parts.values():
            manifest.passed.update(listed.found.passed)
        return True

    def _found(self, manifest: Manifest, place: str, look: FileStatus) -> None:
        """Enter what a scan found."""
        start = f"{self.root.rstrip('/')}/"
        if not place.startswith(start):
            return  # not below what was asked for
        path = place[len(start) :]
        name = path.rpartition("/")[2]
        if look.kind == "folder" and name == OWN_FOLDER:
            return
        if look.kind == "unread":
            manifest.passed[path] = UNREADABLE
        elif look.kind == "folder" and name in VERSION_CONTROLS:
            manifest.passed[path] = VERSION_CONTROL
        else:
            self._enter(manifest, path, look)

    @staticmethod
    def _enter(manifest: Manifest, path: str, look: FileStatus) -> None:
        if look.kind == "file":
            manifest[path] = Entry(path, "file", look.size, look.modified, look.mode)
        elif look.kind == "folder":
            manifest[path] = Entry(path, "folder", mode=look.mode)
        elif look.kind == "link":
            if stays_inside(path, look.target):
                manifest[path] = Entry(path, "link", target=look.target)
            else:
                manifest.passed[path] = LINK_OUT
        else:
            manifest.passed[path] = SPECIAL

    def look_again(self, paths: Sequence[str]) -> list[Entry | None]:
        found: list[Entry | None] = []
        for path, look in zip(paths, self.machine.look(list(map(self._place, paths))), strict=True):
            manifest = Manifest()
            if look is not None:
                self._enter(manifest, path, look)
            found.append(manifest.get(path))
        return found

    def children(self, folder: str) -> list[Entry]:
        name = "" if folder in ("", ".") else folder.strip("/")
        place = self._place(name)
        (found,) = self.machine.look([place], follow=True)
        if found is None or found.kind != "folder":
            return []
        return self._entered(name, self.machine.names(place))

    def children_of(self, folders: Sequence[str]) -> list[list[Entry]]:
        names = ["" if folder in ("", ".") else folder.strip("/") for folder in folders]
        found = self.machine.names_of([self._place(name) for name in names]) if names else []
        return [self._entered(name, one) for name, one in zip(names, found, strict=True)]

    def heads(self, paths: Sequence[str], size: int) -> list[bytes]:
        return self.machine.heads([self._place(path) for path in paths], size) if paths else []

    def _entered(self, name: str, found: Sequence[tuple[str, FileStatus]]) -> list[Entry]:
        """What lies directly in a folder, as entries."""
        manifest = Manifest()
        for item, look in found:
            if "/" not in item and not unfit(item):
                self._enter(manifest, f"{name}/{item}" if name else item, look)
        return sorted(manifest.values(), key=lambda entry: entry.path)

    def exists(self, path: str) -> bool:
        return self.machine.look([self._place(path)])[0] is not None

    @property
    def folds_names(self) -> bool:
        if self._folds is None:
            (there,) = self.machine.look([self.root])
            names = [name for name, _ in self.machine.names(self.root)] if there else []
            cased = next((name for name in names if name.swapcase() != name), None)
            place = f"{self.root}/{cased}" if cased else self.root
            folder, _, name = place.rpartition("/")
            other = f"{folder}/{name.swapcase()}"
            self._folds = (
                other != place
                and all(self.machine.look([place, other]))
                and not (cased and name.swapcase() in names)
            )
        return self._folds

    def digest(self, path: str) -> str:
        if "xxh128" in self.algorithms:
            (found,) = self.machine.digests([self._place(path)], "xxh128")
            if found is not None:
                return found
        return digest_of(self.read(path))

    def digests(self, paths: Sequence[str], algorithm: str) -> list[str | None]:
        return self.machine.digests([self._place(path) for path in paths], algorithm)

    def pieces(self, path: str, algorithm: str = "xxh128") -> list[str]:
        if algorithm in self.algorithms:
            return self.machine.pieces(self._place(path), PIECE, algorithm)
        raise FilesError(f"{path}: no digests of its pieces are made there")

    def read(self, path: str, start: int = 0, size: int | None = None) -> Iterator[bytes]:
        return self.machine.read(self._place(path), start, size)

    def read_all(self, entries: Iterable[Entry]) -> Iterator[tuple[Entry, Iterator[Buffer]]]:
        listed = list(entries)
        files = [(self._place(e.path), e.size) for e in listed if e.kind == "file"]
        contents = self.machine.read_many(files)
        for entry in listed:
            yield entry, next(contents) if entry.kind == "file" else iter(())
        for _ in contents:
            pass

    def room(self, folder: str) -> Room:
        return self.machine.room(self._place(folder))

    # Staging

    def stage(self, token: str, entry: Entry, blocks: Iterable[Buffer] = ()) -> None:
        if entry.kind == "file":
            self.stage_all(token, [(entry, blocks)])
        else:
            self.stage_others(token, [entry])

    def staged(self, token: str) -> Manifest:
        manifest = Manifest()
        for base in ("", *self._elsewhere()):
            own = self._place(f"{base}/{OWN_FOLDER}" if base else OWN_FOLDER)
            start = f"{own}/{token}/new"
            if self.machine.look([start])[0] is None:
                continue
            for place, look in self.machine.scan([start], (), ()):
                self._enter(manifest, place[len(start) + 1 :], look)
        return manifest

    def unstage(self, token: str, paths: Sequence[str]) -> None:
        places = [self._waiting(token, path) for path in paths]
        self.machine.act([FileChange("remove", place, soft=True) for place in places])

    def set_aside(self, token: str, path: str) -> str:
        place = self._waiting(token, path)
        aside = place.replace(f"/{token}/new/", f"/{token}/part/", 1)
        acts = [FileChange("folder", aside.rpartition("/")[0]), FileChange("replace", place, aside)]
        self.machine.act(acts)
        return aside[len(self.root) :].lstrip("/")

    def stage_others(self, token: str, entries: Sequence[Entry]) -> None:
        """Stage links and folders, many in one exchange."""
        acts: list[FileChange] = []
        made: set[str] = set()
        for entry in entries:
            place = self._waiting(token, entry.path)
            if entry.kind == "folder":
                self._modes[place] = entry.mode & _PLAIN_BITS
                acts.append(FileChange("folder", place))
                continue
            folder = place.rpartition("/")[0]
            if folder not in made:
                made.add(folder)
                acts.append(FileChange("folder", folder))
            acts.append(FileChange("remove", place, soft=True))
            acts.append(FileChange("link", place, entry.target))
        self.machine.act(acts)

    def stage_all(self, token: str, items: Iterable[tuple[Entry, Iterable[Buffer]]]) -> None:
        self.machine.write_many((self._writing(token, entry), blocks) for entry, blocks in items)

    def stage_copy(self, token: str, entry: Entry, path: str) -> None:
        if entry.kind != "file":
            self.stage(token, entry)
            return
        self.stage_changes(token, entry, path, [Span(0, entry.size)])

    def stage_copies(self, token: str, copies: Sequence[tuple[Entry, str]]) -> None:
        """``stage_copy`` of many, in one exchange."""
        self.stage_others(token, [entry for entry, _ in copies if entry.kind != "file"])
        self.machine.write_many(
            (self._writing(token, entry, path), [Span(0, entry.size)])
            for entry, path in copies
            if entry.kind == "file"
        )

    def stage_changes(
        self, token: str, entry: Entry, path: str, parts: Iterable[bytes | Span]
    ) -> None:
        self.machine.write_many([(self._writing(token, entry, path), parts)])

    def _writing(self, token: str, entry: Entry, base: str = "") -> Writing:
        return Writing(
            self._waiting(token, entry.path), entry.mode & _PLAIN_BITS, entry.modified,
            self._place(base) if base else "",
        )  # fmt: skip

    def flush(self, token: str) -> None:
        # Inner folders first: one that may not be written to would keep them from it.
        modes = sorted(self._modes.items(), key=lambda item: -len(item[0]))
        self.machine.act([FileChange("mode", place, mode=mode, soft=True) for place, mode in modes])
        self._modes.clear()
        self.machine.flush(self.root)

    def _waiting(self, token: str, path: str) -> str:
        must_fit(path)
        with self._making:
            base = self._base(path)
            self._guard(base)
        above = f"{self.root}/{base}" if base else self.root
        return f"{above}/{OWN_FOLDER}/{token}/new/{path}"

    # Exchanging

    def exchange(self, token: str, moves: Sequence[Move]) -> None:
        with self._places(token, moves) as places:
            exchange(places, moves)

    def planned_exchange(self, token: str, moves: Sequence[Move]) -> list[FileChange] | None:
        self._look_at_disks([move.path for move in moves])
        ground = PlannedFileSystem(self.machine, swaps=False)
        places = Places(root=self.root, own=OWN_FOLDER, token=token, base=self._base, ground=ground)
        return planned(places, ground, moves)

    def absolute(self, path: str) -> str:
        return self._place(path)

    def busy(self, path: str) -> bool:
        return self.machine.busy(self._place(path))

    def put_back(self, token: str, moves: Sequence[Move]) -> None:
        with self._places(token, moves) as places:
            put_back(places, moves)

    @contextlib.contextmanager
    def _places(self, token: str, moves: Sequence[Move]) -> Iterator[Places]:
        self._look_at_disks([move.path for move in moves])
        places = Places(
            root=self.root,
            own=OWN_FOLDER,
            token=token,
            base=self._base,
            ground=RemoteFileSystem(self.machine, self.root),
        )
        try:
            yield places
        except OSError as error:
            raise FilesError(f"{places.at or token}: {error.strerror or error}") from error

    def hand_over(self, token: str, side: Side, to: str, to_side: Side) -> None:
        for base in ("", *self._elsewhere()):
            own = self._place(f"{base}/{OWN_FOLDER}" if base else OWN_FOLDER)
            ours, theirs = f"{own}/{token}/{side}", f"{own}/{to}/{to_side}"
            here, there = self.machine.look([ours, theirs])
            if here is not None and there is None:
                self.machine.act(
                    [FileChange("folder", f"{own}/{to}"), FileChange("rename", ours, theirs)]
                )

    def discard(self, token: str) -> None:
        for base in ("", *self._elsewhere()):
            self.machine.remove(
                self._place(f"{base}/{OWN_FOLDER}/{token}" if base else f"{OWN_FOLDER}/{token}")
            )

    def put(self, path: str, content: bytes) -> None:
        self._guard("")
        beside = self._place(f"{OWN_FOLDER}/put-{secrets.token_hex(4)}")
        place = self._place(path)
        self._write(beside, content)
        self.machine.act(
            [FileChange("folder", place.rpartition("/")[0]), FileChange("replace", beside, place)]
        )

    def claim(self, path: str, content: bytes) -> bool:
        self._guard("")
        place = self._place(path)
        # With its content from the first moment: a file that is not full yet would tell nobody whose it is.
        beside = self._place(f"{OWN_FOLDER}/put-{secrets.token_hex(4)}")
        self._write(beside, content)
        try:
            self.machine.act([FileChange("claim", place, beside, mode=0o644)])
        except FilesError:
            if self.machine.look([place])[0] is None:
                raise
            return False
        finally:
            with contextlib.suppress(FilesError):
                self.machine.act([FileChange("remove", beside, soft=True)])
        return True

    def take_away(self, path: str, content: bytes) -> bool:
        place, aside = self._place(path), self._place(f"{OWN_FOLDER}/away-{secrets.token_hex(4)}")
        try:
            if b"".join(self.machine.read(place, 0, len(content) + 1)) != content:
                return False
            self.machine.act([FileChange("rename", place, aside)])
        except FilesError:
            there, moved = self.machine.look([place, aside])
            if moved is None and there is None:
                return False
            if moved is None:
                raise  # otherwise the answer alone was lost
        try:
            if b"".join(self.machine.read(aside, 0, len(content) + 1)) == content:
                return True
            # It became another one in between, which gets its name back.
            self.machine.act([FileChange("claim", place, aside, mode=0o644, soft=True)])
            return False
        finally:
            self.machine.act([FileChange("remove", aside, soft=True)])

    def age(self, path: str) -> float | None:
        clock = self._place(f"{OWN_FOLDER}/clock")
        self.machine.act(
            [
                FileChange("remove", clock, soft=True),
                FileChange("claim", clock, mode=0o644, soft=True),
            ]
        )
        now, found = self.machine.look([clock, self._place(path)])
        if found is None or now is None:
            return None
        return (now.modified - found.modified) / 1e9

    def remove(self, path: str) -> None:
        if self.exists(path):
            self.machine.act([FileChange("remove", self._place(path))])

    def _write(self, place: str, content: bytes, mode: int = 0o644) -> None:
        self.machine.write_many([(Writing(place, mode, NOW), [content])])

    def _place(self, path: str) -> str:
        if path in ("", "."):
            return self.root
        return f"{self.root}/{path}" if self.root != "/" else f"/{path}"

    def _guard(self, base: str) -> None:
        """Vetrin's own folder: nothing in it is for visitors, nor for version control."""
        if base in self._guarded:
            return
        own = self._place(f"{base}/{OWN_FOLDER}" if base else OWN_FOLDER)
        names = [f"{own}/{name}" for name, _ in _GUARDS]
        found = self.machine.look([own, *names])
        if found[0] is None:
            self.machine.act(
                [FileChange("folder", own), FileChange("mode", own, mode=0o700, soft=True)]
            )
        for place, look, (_, text) in zip(names, found[1:], _GUARDS, strict=True):
            if look is None:
                self._write(place, text)
        self._guarded.add(base)

    def _base(self, path: str) -> str:
        """The folder on whose disk ``path`` lies: the root, or one below it."""
        folder = path.rpartition("/")[0]
        if folder in self._bases:
            return self._bases[folder]
        self._look_at_disks([path])
        return self._bases.get(folder, "")

    def _look_at_disks(self, paths: Sequence[str]) -> None:
        folders = {path.rpartition("/")[0] for path in paths} - self._bases.keys()
        if not folders:
            return
        wanted = sorted({"", *(p for folder in folders for p in _prefixes(folder))})
        seen = self.machine.look([self._place(path) for path in wanted], follow=True)
        disks = {
            path: look.identity[0] if look is not None and look.identity else None
            for path, look in zip(wanted, seen, strict=True)
        }
        for folder in folders:
            found, device = "", disks[""]
            for place in _prefixes(folder):
                here = disks[place]
                if here is None:
                    break
                if here != device:
                    found, device = place, here
            self._bases[folder] = found
            if found and found not in self._elsewhere():
                self._guard(found)
                self._guard("")
                self._far = [*self._elsewhere(), found]
                text = "".join(json.dumps(one) + "\n" for one in self._far)
                self._write(self._place(f"{OWN_FOLDER}/{_ELSEWHERE}"), text.encode())

    def _elsewhere(self) -> list[str]:
        if self._far is None:
            place = self._place(f"{OWN_FOLDER}/{_ELSEWHERE}")
            self._far = []
            if self.machine.look([place])[0] is not None:
                text = b"".join(self.machine.read(place)).decode("utf-8")
                self._far = [str(json.loads(line)) for line in text.splitlines()]
        return self._far


def _prefixes(folder: str) -> Iterator[str]:
    parts = folder.split("/") if folder else []
    for end in range(1, len(parts) + 1):
        yield posixpath.join(*parts[:end])
