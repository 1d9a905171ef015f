"""The store: snapshots, their contents, and what is known of them.

Built to survive a writer's end at any point: a snapshot exists from the moment that its manifest has its
name, and that is the last thing to be written, after everything that it needs is safely there. What a dead
writer leaves are contents that no snapshot needs; thinning removes them.
"""

from __future__ import annotations

import contextlib
import json
import secrets
from collections.abc import Callable, Iterable, Iterator
from datetime import datetime

import zstandard
from msgspec.structs import asdict

from ..errors import DamagedObject, MissingPiece, NoSnapshot, StoreError
from ..files import Entry
from .backend import Backend
from .encryption import Cipher, NoCipher
from .leases import lease
from .manifest import BadManifest, Manifest, StoredFile, StoredTable
from .objects import Contents, opened, together
from .proof import BY_DIGEST, Proof, fingerprint
from .snapshot_files import read_files
from .table_chunks import Chunk, TableReader, read_pages
from .verify import Damage, Verifier

_LARGEST = 256 << 20  # bytes of a manifest; one of ten thousand tables has a hundredth of it
_LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"
_ID = 6


class Store:
    """The snapshots on one backend. Everything raises StoreError."""

    def __init__(
        self, backend: Backend, cipher: Cipher | None = None, proof: Proof = BY_DIGEST
    ) -> None:
        """``proof`` is that of pages that are altered again and again."""
        self.backend = backend
        self.proof = proof
        self.cipher = cipher or NoCipher()
        self.contents = Contents(backend, self.cipher)
        self._read: dict[str, Manifest] = {}
        # By list of pages or files, what it names: most snapshots share most of them.
        self._needs: dict[tuple[str, ...], frozenset[str]] = {}

    @property
    def where(self) -> str:
        return self.backend.where

    # -- snapshots ------------------------------------------------------------------------------------

    def new_id(self) -> str:
        return "".join(secrets.choice(_LETTERS) for _ in range(_ID))

    def id_for(self, manifest: Manifest) -> str:
        """The ID of a snapshot that is known again by what it holds."""
        data, files = manifest.data, manifest.files
        told = json.dumps(
            [
                data.as_json() if data else None, asdict(files) if files else None, manifest.environment,
                manifest.label, manifest.address, manifest.also,
            ]
        )  # fmt: skip
        number = int(fingerprint(told.encode()), 16)
        return "".join(_LETTERS[number // len(_LETTERS) ** at % len(_LETTERS)] for at in range(_ID))

    @contextlib.contextmanager
    def writing(self) -> Iterator[None]:
        """Hold this while contents are stored that are to be relied on. What is not settled when it ends with an
        error is gone, so that a disk that was filled has its room again.

        Raises:
            StoreBusy: the store is being thinned.
        """
        with lease(self.backend, "write"):
            try:
                yield
            except BaseException:
                self.backend.give_up()
                self.contents.forget()
                raise

    def add(self, manifest: Manifest) -> None:
        """Let a snapshot exist; its contents are stored."""
        self.backend.settle()
        raw = zstandard.ZstdCompressor(level=9, write_checksum=True).compress(manifest.encode())
        self.backend.write(manifest.name, self.cipher.close(manifest.name, raw))
        self.backend.settle()
        self._read.pop(manifest.name, None)

    def names(self) -> list[str]:
        """The names of all manifests, oldest first."""
        return sorted(
            name for name, _ in self.backend.names("snapshots") if name.endswith(".json.zst")
        )

    def manifest(self, name: str, raw: bytes | None = None) -> Manifest:
        """``raw`` is what was fetched of it already. Raises DamagedObject where it cannot be read."""
        known = self._read.get(name)
        if known is not None:
            return known
        try:
            frame = self.cipher.open(name, self.backend.read(name) if raw is None else raw)
            found = Manifest.decode(opened(zstandard.ZstdDecompressor(), frame, _LARGEST))
        except (MissingPiece, BadManifest, ValueError, zstandard.ZstdError) as error:
            raise DamagedObject(name, f"(a manifest) cannot be read: {error}") from error
        self._read[name] = found
        return found

    def snapshots(self, harmed: Callable[[Damage], None] = lambda harm: None) -> list[Manifest]:
        """All snapshots that can be read, oldest first; ``harmed`` is told of others."""
        found = []
        for some in together(self.names(), lambda _: 0):
            raw = self.backend.fetch([name for name in some if name not in self._read])
            for name in some:
                try:
                    found.append(self.manifest(name, raw.get(name)))
                except DamagedObject as error:
                    harmed(Damage(_id_of(name), str(error.__cause__ or error)))
        return sorted(found, key=lambda manifest: datetime.fromisoformat(manifest.taken))

    def get(self, name: str, environment: str = "") -> Manifest:
        """The snapshot whose ID begins with ``name`` or whose label it is; ``newest`` is the last that was taken,
        of ``environment`` where one is named.

        Raises:
            NoSnapshot: there is none, or several.
            DamagedObject: it cannot be read.
        """
        for path in self.names():  # one that is damaged is named as such
            if _id_of(path) == name:
                return self.manifest(path)
        known = [item for item in self.snapshots() if item.is_backup]
        if name == "newest":
            fitting = [item for item in known if environment in ("", item.environment)][-1:]
        else:
            fitting = [item for item in known if item.label == name]
            fitting = fitting or [i for i in known if len(name) >= 3 and i.id.startswith(name)]
        if not fitting and name == "newest" and environment:
            raise NoSnapshot(
                f"there is no snapshot of {environment} in {self.where}; that of another environment is "
                "named by its ID (`vetrin snapshots` lists them)"
            )
        if not fitting:
            raise NoSnapshot(
                f"there is no snapshot {name!r} in {self.where}; `vetrin snapshots` lists them"
            )
        if len(fitting) > 1:
            ids = ", ".join(item.id for item in fitting)
            raise NoSnapshot(f"{name!r} could be {ids}; say which by its ID")
        return fitting[0]

    def newest_files(self, environment: str) -> list[Manifest]:
        """The newest snapshots of an environment that have files, newest first: a build, which has its code
        alone, and another one."""
        found: dict[bool, Manifest] = {}
        for item in reversed(self.snapshots()):
            if item.environment == environment and item.files is not None:
                found.setdefault(item.build is not None, item)
        return list(found.values())

    def newest_tables(self, environment: str) -> dict[str, StoredTable]:
        """By name, the tables of an environment as the newest snapshot has them that has each."""
        found: dict[str, StoredTable] = {}
        for item in self.snapshots():
            if item.environment == environment and item.data is not None:
                found |= {table.table.name: table for table in item.data.tables}
        return found

    def remove(self, manifest: Manifest) -> None:
        """Let a snapshot cease to exist; its contents stay until the store is swept."""
        self.backend.remove(manifest.name)
        self.backend.remove(_mark(manifest.id))
        self._read.pop(manifest.name, None)

    # -- contents of a snapshot -----------------------------------------------------------------------

    def pages(self, table: StoredTable) -> list[Chunk]:
        """Raises DamagedObject."""
        return read_pages(self.contents, table.pages)

    def pages_if_whole(self, table: StoredTable | None) -> list[Chunk]:
        """The pages of a table to go by where it is stored anew; none where they are not known."""
        try:
            return self.pages(table) if table is not None else []
        except StoreError:
            return []

    def records(self, table: StoredTable) -> Iterator[tuple[Chunk, bytes]]:
        """The pages of a table with their records. Raises DamagedObject."""
        yield from self.records_of_pages(self.pages(table))

    def records_of_pages(self, pages: Iterable[Chunk]) -> Iterator[tuple[Chunk, bytes]]:
        """The same of some pages. Raises DamagedObject."""
        reader = TableReader(self.contents)
        for some in together(pages, lambda page: page.size):
            self.contents.bring(digest for page in some for digest in page.needs)
            for page in some:
                yield page, reader.read(page)

    def files(self, manifest: Manifest) -> Iterator[StoredFile]:
        """Raises DamagedObject."""
        for digest in manifest.files.lists if manifest.files else ():
            yield from read_files(self.contents, digest)

    def listed(self, manifest: Manifest) -> Iterator[Entry]:
        """The files that were there, of which only the list is kept. Raises DamagedObject."""
        for digest in manifest.listed.lists if manifest.listed else ():
            for file in read_files(self.contents, digest):
                yield file.entry

    def needs(self, manifest: Manifest) -> set[str]:
        """The digests of all contents that a snapshot needs. Raises DamagedObject."""
        tables = manifest.data.tables if manifest.data else ()
        lists = [*(table.pages for table in tables), *((digest,) for digest in manifest.lists)]
        self.contents.bring(one[0] for one in lists if len(one) == 1 and one not in self._needs)
        found = {digest for one in lists for digest in one}
        for table in tables:
            if table.pages not in self._needs:
                needs = {digest for page in self.pages(table) for digest in page.needs}
                self._needs[table.pages] = frozenset(needs)
            found |= self._needs[table.pages]
        for digest in manifest.lists:
            if (digest,) not in self._needs:
                blocks = {
                    block for file in read_files(self.contents, digest) for block in file.blocks
                }
                self._needs[digest,] = frozenset(blocks)
            found |= self._needs[digest,]
        return found

    # -- proof ------------------------------------------------------------------------------------------

    def verified(self, manifests: Iterable[Manifest]) -> dict[str, str]:
        """By ID, when a snapshot was last read as a whole and found good; those where it was not are missing."""
        marks = {name for name, _ in self.backend.names("verified")}
        wanted = {_mark(item.id): item.id for item in manifests if _mark(item.id) in marks}
        fetched = self.backend.fetch(list(wanted))
        found = {}
        for name, snapshot in wanted.items():
            # One that could not be fetched just now must not count as missing: thinning goes by it.
            with contextlib.suppress(MissingPiece, ValueError, KeyError, TypeError):
                raw = fetched[name] if name in fetched else self.backend.read(name)
                raw = self.cipher.open(name, raw)
                found[snapshot] = str(json.loads(raw)["verified"])
        return found

    def verify(
        self,
        manifest: Manifest,
        proved: dict[str, DamagedObject | None] | None = None,
        tell: Callable[[str, int], None] = lambda what, size: None,
    ) -> list[Damage]:
        """Read everything of a snapshot again; what is damaged.

        One that is whole is marked as verified. DamagedObject contents lose their names, so that the next
        snapshot that has them stores them anew. ``proved`` spares contents that were looked at for
        another snapshot already.
        """
        harms = list(
            Verifier(self.contents, {} if proved is None else proved, tell).harms(manifest)
        )
        if harms:
            self.backend.remove(_mark(manifest.id))
        else:
            moment = datetime.now().astimezone().isoformat(timespec="seconds")
            mark = json.dumps({"verified": moment}).encode()
            self.backend.write(_mark(manifest.id), self.cipher.close(_mark(manifest.id), mark))
        self.backend.settle()
        return harms

    # -- clearing ---------------------------------------------------------------------------------------

    def own_sizes(self, manifests: Iterable[Manifest]) -> dict[str, int]:
        """By ID, the bytes on the backend that only this one of all snapshots needs."""
        sizes = dict(self.backend.names("objects"))
        count: dict[str, int] = {}
        needed: dict[str, set[str]] = {}
        for manifest in manifests:
            with contextlib.suppress(DamagedObject):
                needed[manifest.id] = {
                    self.contents.place(digest) for digest in self.needs(manifest)
                }
                for place in needed[manifest.id]:
                    count[place] = count.get(place, 0) + 1
        return {
            name: sum(sizes.get(place, 0) for place in places if count[place] == 1)
            for name, places in needed.items()
        }

    def sweep(self) -> tuple[int, int]:
        """Remove contents that no snapshot needs; how many, and their bytes. Needs the lease to thin.

        Raises:
            DamagedObject: a manifest or a list cannot be read: what that snapshot needs is not known, so
                nothing is removed.
        """
        needed: set[str] = set()
        for name in self.names():
            needed |= {self.contents.place(digest) for digest in self.needs(self.manifest(name))}
        gone = size = 0
        for name, length in list(self.backend.names("objects")):
            if name not in needed:
                self.backend.remove(name)
                gone, size = gone + 1, size + length
        for name, length in list(self.backend.names("damaged")):
            self.backend.remove(name)
            gone, size = gone + 1, size + length
        self.backend.sweep()
        self.contents.forget()
        return gone, size

    def size(self) -> int:
        """Bytes of the whole store on its backend."""
        return sum(
            size for folder in ("objects", "snapshots") for _, size in self.backend.names(folder)
        )


def _mark(snapshot: str) -> str:
    return f"verified/{snapshot}.json"


def _id_of(name: str) -> str:
    return name.rpartition("/")[2].removesuffix(".json.zst").rpartition("-")[2]
