"""Contents by their digest: ``.vetrin/objects/ABC/DIGEST.zst``, each one a zstandard frame
that any program for these opens.

Objects are written beside their place, flushed together and renamed, so that one that is there is
whole; it is checked against its name whenever it is read. Equal content is stored once, whoever writes it.
"""

from __future__ import annotations

import contextlib
import secrets
from collections.abc import Iterable, Iterator
from pathlib import Path

import xxhash
import zstandard

from ..files import BLOCK, Buffer, FilesError
from ..files.naming import flush_file_system

_LEVEL = 3


class Batch:
    """Contents that are being stored."""

    def __init__(self, objects: Objects, folder: Path) -> None:
        self._objects = objects
        self._folder = folder
        self._writer = zstandard.ZstdCompressor(level=_LEVEL)
        self._token = secrets.token_hex(4)
        self._written: dict[str, Path] = {}

    def keep(self, blocks: Iterable[Buffer]) -> str:
        """Store a content; its digest."""
        hasher = xxhash.xxh3_128()
        beside = self._folder / f".new-{self._token}-{len(self._written)}"
        with beside.open("wb") as file:
            squeeze = self._writer.compressobj()
            for block in blocks:
                hasher.update(block)
                file.write(squeeze.compress(block))
            file.write(squeeze.flush())
        digest = hasher.hexdigest()
        if digest in self._written or digest in self._objects:
            beside.unlink()
        else:
            self._written[digest] = beside
        return digest

    def finish(self) -> None:
        if self._written:
            flush_file_system(str(self._folder))
        for digest, beside in self._written.items():
            place = self._objects.path(digest)
            place.parent.mkdir(exist_ok=True)
            beside.rename(place)

    def clear(self) -> None:
        for beside in self._folder.glob(f".new-{self._token}-*"):
            beside.unlink()


class Objects:
    """The objects below one folder. Digests are XXH3-128, 32 hexadecimal digits."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def path(self, digest: str) -> Path:
        return self._folder / digest[:3] / f"{digest}.zst"

    def __contains__(self, digest: str) -> bool:
        return self.path(digest).exists()

    @contextlib.contextmanager
    def batch(self) -> Iterator[Batch]:
        """Store many contents: they get their names at the end, all of them safely on disk.

        Raises:
            FilesError: something can not be written.
        """
        batch = Batch(self, self._folder)
        try:
            self._folder.mkdir(parents=True, exist_ok=True)
            yield batch
            batch.finish()
        except OSError as error:
            raise FilesError(f"{self._folder}: {error.strerror or error}") from error
        finally:
            batch.clear()

    def read(self, digest: str) -> Iterator[bytes]:
        """A content in blocks.

        Raises:
            FilesError: it is missing, or not what its name says.
        """
        hasher = xxhash.xxh3_128()
        try:
            with (
                self.path(digest).open("rb") as file,
                zstandard.ZstdDecompressor().stream_reader(file) as stream,
            ):
                while block := stream.read(BLOCK):
                    hasher.update(block)
                    yield block
        except (OSError, zstandard.ZstdError) as error:
            raise FilesError(f"the stored content {digest} can not be read: {error}") from error
        if hasher.hexdigest() != digest:
            raise FilesError(f"the stored content {digest} is damaged")
