"""Storing the contents of files while their environment is in use.

What an earlier snapshot of the environment has already is not stored again, and files whose size and time
are as they were then are not even read.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import Future
from datetime import datetime

import xxhash

from ..errors import FilesError
from ..files import Entry, SourceTree, changed_since
from .manifest import StoredFile
from .objects import Hands, in_blocks
from .proof import fingerprint
from .store import Store

_ROUNDS = 3  # times that a file is read anew
_FRESH = 2_000_000_000  # nanoseconds in which a second change may leave the same time
_WAITING = 64  # files that are read while those before them are stored


class FileKeeper:
    """Stores files of one environment. Once ``keep`` has returned: ``restless`` were written to whenever they
    were read (and may be stored as no edition of them was), ``vanished`` were removed meanwhile, ``unread`` may not
    be read; the latter two are not stored. ``added`` is how many bytes that took. Without ``write`` nothing is
    stored, and what it would be called is found out."""

    def __init__(
        self,
        store: Store,
        hands: Hands,
        tree: SourceTree,
        environment: str,
        tell: Callable[[Entry], None] = lambda entry: None,
        *,
        write: bool = True,
    ) -> None:
        self._store = store
        self._hands = hands
        self._tree = tree
        self._environment = environment
        self._tell = tell
        self._keep = store.contents.keep if write else _named
        self.restless: list[str] = []
        self.vanished: list[str] = []
        self.unread: list[str] = []
        self.added = 0

    def known(self, entries: Mapping[str, Entry]) -> dict[str, StoredFile]:
        """Files that are as an earlier snapshot has them, by their sizes and times."""
        known: dict[str, StoredFile] = {}
        wanted = {path for path, entry in entries.items() if entry.kind == "file"}
        for before in self._store.newest_files(self._environment):
            if not wanted:
                break
            border = datetime.fromisoformat(before.taken).timestamp() * 1e9
            border -= max(_FRESH, self._tree.grain)
            try:
                for file in self._store.files(before):
                    now = entries[file.entry.path] if file.entry.path in wanted else None
                    if (
                        now is not None
                        and file.entry.kind == "file"
                        and (now.size, now.modified) == (file.entry.size, file.entry.modified)
                        and now.modified < border
                        and all(map(self._store.contents.has, file.blocks))
                    ):
                        entry = now._replace(digest=file.entry.digest)
                        known[now.path] = StoredFile(entry, file.blocks)
                        wanted.discard(now.path)
            except FilesError:
                continue  # its list is damaged: the others are read
        return known

    def keep(
        self, entries: Iterable[Entry], known: Mapping[str, StoredFile] | None = None
    ) -> list[StoredFile]:
        """Store what is not ``known``; all of ``entries`` as they are stored.

        Raises:
            StoreError: it cannot be stored.
            FilesError: something cannot be read, for another reason than that it is gone or denied.
        """
        known = known or {}
        stored, waiting = [], []
        for entry in entries:
            if entry.kind == "file" and entry.path not in known:
                waiting.append(entry)
            else:
                stored.append(known.get(entry.path, StoredFile(entry)))
        again = 0
        while waiting:
            read = self._read_all(waiting)
            changed = {entry.path: entry for entry in changed_since(self._tree, waiting)}
            waiting = [entry for path, entry in changed.items() if path not in self.unread]
            again += 1
            if again > _ROUNDS:
                self.restless = sorted(changed)
                changed, waiting = {}, []
            stored += [file for file in read if file.entry.path not in changed]
        return stored

    def _read_all(self, entries: Sequence[Entry]) -> list[StoredFile]:
        """Store the contents of files; those that cannot be read are told apart by why."""
        stored: list[StoredFile] = []
        waiting: list[tuple[Entry, list[Future[tuple[str, int]]]]] = []
        for entry, blocks in self._tree.read_all(entries):
            try:
                waiting.append(self._read(entry, blocks))
            except FilesError as error:
                if isinstance(error.__cause__, FileNotFoundError):
                    self.vanished.append(entry.path)
                elif error.denied:
                    self.unread.append(entry.path)
                else:
                    raise
                continue
            self._tell(waiting[-1][0])
            while len(waiting) > _WAITING:
                stored.append(self._stored(*waiting.pop(0)))
        return stored + [self._stored(*item) for item in waiting]

    def _read(
        self, entry: Entry, blocks: Iterable[bytes | memoryview]
    ) -> tuple[Entry, list[Future[tuple[str, int]]]]:
        hasher = xxhash.xxh3_128()
        size = 0
        jobs = []
        for block in in_blocks(blocks):
            hasher.update(block)
            size += len(block)
            jobs.append(self._hands.do(self._keep, block))
        return entry._replace(size=size, digest=hasher.hexdigest()), jobs

    def _stored(self, entry: Entry, jobs: list[Future[tuple[str, int]]]) -> StoredFile:
        done = [job.result() for job in jobs]
        self.added += sum(added for _, added in done)
        return StoredFile(entry, tuple(digest for digest, _ in done))


def _named(content: bytes | memoryview) -> tuple[str, int]:
    return fingerprint(content), 0
