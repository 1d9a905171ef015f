"""Contents by their digest: ``objects/AB/DIGEST.zst``, each a zstandard frame (RFC 8878).

The digest is BLAKE2b of the content (RFC 7693; 256 bits, as ``b2sum -l 256`` makes it), so equal content is
stored once, whoever writes it, and a content is proved by its name whenever it is read. A content that differs
in a few places from one that is there is stored as a patch: what is replaced in it (``splices``), or a frame whose
dictionary is that other content, as ``zstd --patch-from`` makes and reads. Patches are small and many; those of one
table lie one behind the other in a content of their own.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any, TypeVar

import zstandard

from ..errors import DamagedObject, MissingPiece
from .backend import Backend
from .encryption import Cipher, NoCipher
from .proof import BY_DIGEST, Proof, fingerprint
from .splices import Splice, spliced, unpacked

LEVEL = (
    1  # by which the disk is quicker to fill than by more thorough ones, for a twentieth more of it
)
_PATCH = 3
LARGEST = 4 << 20  # bytes of one object; larger contents are kept in blocks
_BLOCKS = 4  # of one content that are fetched together
_TOGETHER = 64  # contents that are fetched together, of at most as many bytes
_BYTES = 16 << 20
Result = TypeVar("Result")
Item = TypeVar("Item")


class Contents:
    """The contents on a backend. Safe to be used from several threads."""

    def __init__(self, backend: Backend, cipher: Cipher | None = None) -> None:
        self._backend = backend
        self._cipher = cipher or NoCipher()
        self._tools = threading.local()
        self._known: set[str] = set()

    def place(self, digest: str) -> str:
        """The name on the backend."""
        name = self._cipher.name(digest)
        return f"objects/{name[:2]}/{name}{'.sealed' if self._cipher.sealed else '.zst'}"

    def has(self, digest: str) -> bool:
        if digest in self._known:
            return True
        if self._backend.has(self.place(digest)):
            self._known.add(digest)
            return True
        return False

    def keep(self, content: bytes | memoryview, digest: str = "") -> tuple[str, int]:
        """Store a content of at most ``LARGEST`` bytes; its digest, and how many bytes that added."""
        digest = digest or fingerprint(content)
        if self.has(digest):
            return digest, 0
        place = self.place(digest)
        written = self._cipher.close(place, self._compressor().compress(content))
        self._backend.write(place, written)
        self._known.add(digest)
        return digest, len(written)

    def bring(self, digests: Iterable[str]) -> None:
        """Have these at hand for what this thread reads next, fetched in one go from another machine; what was
        brought before is let go."""
        self._tools.held = self._fetched(digests)

    def read(self, digest: str, proof: Proof = BY_DIGEST) -> bytes:
        """Raises DamagedObject: it is not there, or not what it was."""
        return self._proved(digest, self._held(), proof)

    def blocks(self, digests: Sequence[str]) -> Iterator[bytes]:
        """Raises DamagedObject."""
        for at in range(0, len(digests), _BLOCKS):
            some = digests[at : at + _BLOCKS]
            held = self._held()
            missing = [digest for digest in some if self.place(digest) not in held]
            if len(missing) > 1:
                held = held | self._fetched(missing)
            for digest in some:
                yield self._proved(digest, held)

    def _held(self) -> dict[str, bytes]:
        """What is at hand for this thread, by its name on the backend."""
        found: dict[str, bytes] = getattr(self._tools, "held", {})
        return found

    def _fetched(self, digests: Iterable[str]) -> dict[str, bytes]:
        places = (
            list({self.place(digest): None for digest in digests})
            if self._backend.is_remote
            else []
        )
        return self._backend.fetch(places) if places else {}

    def _proved(self, digest: str, held: Mapping[str, bytes], proof: Proof = BY_DIGEST) -> bytes:
        content = self._unproved(digest, held)
        if not proof.fits(content, digest):
            raise DamagedObject(digest, "is damaged: it is not what it was")
        return content

    def _unproved(self, digest: str, held: Mapping[str, bytes]) -> bytes:
        place = self.place(digest)
        try:
            raw = held[place] if place in held else self._backend.read(place)
            return opened(self._decompressor(), self._cipher.open(place, raw), LARGEST)
        except MissingPiece as error:
            raise DamagedObject(digest, "is missing") from error
        except (ValueError, zstandard.ZstdError) as error:
            raise DamagedObject(digest, f"is damaged: {error}") from error

    def keep_blocks(self, blocks: Iterable[bytes | memoryview]) -> tuple[list[str], int]:
        """Store a content of any size in blocks of ``LARGEST`` bytes; their digests, and what it added."""
        digests, added = [], 0
        for block in in_blocks(blocks):
            digest, more = self.keep(block)
            digests.append(digest)
            added += more
        return digests, added

    def patch(self, content: bytes, base: bytes) -> bytes:
        """A frame that makes ``content`` of ``base``."""
        frame = zstandard.ZstdCompressor(
            compression_params=zstandard.ZstdCompressionParameters.from_level(
                _PATCH, window_log=_window(len(base) + len(content)), enable_ldm=False
            ),
            dict_data=_dictionary(base),
        ).compress(content)
        # What the library gives back holds on to as much room as the content has.
        return bytes(memoryview(frame))

    def patched(self, frame: bytes, base: bytes, digest: str, proof: Proof = BY_DIGEST) -> bytes:
        """The content that a patch makes of ``base``. Raises DamagedObject."""
        try:
            tool = zstandard.ZstdDecompressor(dict_data=_dictionary(base))
            content = opened(tool, frame, LARGEST)
        except zstandard.ZstdError as error:
            raise DamagedObject(digest, f"is damaged: {error}") from error
        if not proof.fits(content, digest):
            raise DamagedObject(digest, "is damaged: it is not what it was")
        return content

    def spliced(
        self, patch: bytes, base: str, digest: str, proof: Proof = BY_DIGEST
    ) -> tuple[bytes, list[Splice]]:
        """The content that splices make of another one, and these. Raises DamagedObject."""
        there = self._unproved(base, self._held())
        try:
            splices = unpacked(patch, len(there))
            content = spliced(there, splices)
            reason = "it is not what it was"
        except ValueError as error:
            content, reason = b"", str(error)
        # Where it is what it was, all is proved that was taken of the other one.
        if not proof.fits(content, digest):
            self._proved(base, self._held())
            raise DamagedObject(digest, f"is damaged: {reason}")
        return content, splices

    def set_aside(self, digest: str) -> None:
        """Take the name from a damaged content, so that the next who has the content stores it anew."""
        place = self.place(digest)
        if self._backend.has(place):
            self._backend.rename(place, f"damaged/{place.rsplit('/', 1)[1]}")
        self._known.discard(digest)
        self._held().pop(place, None)

    def forget(self) -> None:
        """What was there may be gone: look again."""
        self._known.clear()

    def _compressor(self) -> Any:
        found = getattr(self._tools, "compressor", None)
        if found is None:
            found = self._tools.compressor = zstandard.ZstdCompressor(level=LEVEL)
        return found

    def _decompressor(self) -> Any:
        found = getattr(self._tools, "decompressor", None)
        if found is None:
            found = self._tools.decompressor = zstandard.ZstdDecompressor()
        return found


class Hands:
    """Threads that compress and write while their caller reads on: a bounded number of jobs in flight."""

    def __init__(self, count: int = 2) -> None:
        self._pool = ThreadPoolExecutor(count, "store")
        self._room = threading.Semaphore(4 * count)

    def do(self, job: Callable[..., Result], *values: Any) -> Future[Result]:
        """Begin with a job; waits where too many are under way."""
        self._room.acquire()
        future = self._pool.submit(job, *values)
        future.add_done_callback(lambda _: self._room.release())
        return future

    def __enter__(self) -> Hands:
        return self

    def __exit__(self, *error: object) -> None:
        self._pool.shutdown(cancel_futures=True)


def opened(tool: zstandard.ZstdDecompressor, frame: bytes, most: int) -> bytes:
    """What one frame holds, and nothing behind it; a damaged one may say that it holds more than there is room.

    Raises:
        zstandard.ZstdError: it is damaged, or says that it holds more than ``most`` bytes.
    """
    if not 0 <= zstandard.frame_content_size(frame) <= most:
        raise zstandard.ZstdError("it has another size than it could have")
    content: bytes = tool.decompress(frame, allow_extra_data=False)
    return content


def together(items: Iterable[Item], size: Callable[[Item], int]) -> Iterator[list[Item]]:
    """The same items, in lists of what is worth fetching in one go."""
    some: list[Item] = []
    total = 0
    for item in items:
        if some and (len(some) == _TOGETHER or total + size(item) > _BYTES):
            yield some
            some, total = [], 0
        some.append(item)
        total += size(item)
    if some:
        yield some


def in_blocks(parts: Iterable[bytes | memoryview], length: int = LARGEST) -> Iterator[bytes]:
    """The same bytes in blocks of ``length``, the last one shorter; none for no bytes."""
    waiting: list[bytes] = []
    size = 0
    for part in parts:
        view = memoryview(part)
        while len(view):
            some = bytes(view[: length - size])
            waiting.append(some)
            size += len(some)
            view = view[len(some) :]
            if size == length:
                yield b"".join(waiting)
                waiting, size = [], 0
    if size:
        yield b"".join(waiting)


def _dictionary(base: bytes) -> zstandard.ZstdCompressionDict:
    return zstandard.ZstdCompressionDict(base, dict_type=zstandard.DICT_TYPE_RAWCONTENT)


def _window(size: int) -> int:
    return max(18, min(27, size.bit_length() + 1))
