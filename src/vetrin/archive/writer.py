"""Writing archives that anyone can open: ZIP, tar.gz, tar.zst, in one file or in parts of a chosen size."""

from __future__ import annotations

import contextlib
import gzip
import hashlib
import io
import os
import tarfile
import time
import zipfile
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import IO, Any, Protocol, cast

import zstandard

from ..errors import StoreError, UsageError
from ..files import Entry
from ..private import private_file
from .openpgp import ENDING, sealing
from .reader import packing_of

_BLOCK = 1 << 18
_EARLIEST = 315619200  # 1980, before which ZIP knows no time
FORMS = (".zip", ".tar.gz", ".tgz", ".tar.zst")
MANIFEST = "packing-list.json"
SUMS = ".sha256"
FILES = "site"
SQL_FORMS = (".sql", ".sql.gz", ".sql.zst")


class Archive(Protocol):
    """An archive that is being written. What was added is in it in this order."""

    def add(self, entry: Entry, blocks: Iterable[bytes | memoryview]) -> str:
        """Add a file with its content, a folder or a link; the SHA-256 of a file."""

    def close(self) -> None:
        """Write what belongs at its end; what is not closed is no archive."""


class Parts(io.RawIOBase):
    """A file that is written in parts of at most ``most`` bytes: NAME.001, NAME.002, … or as one, NAME.

    Nothing has its name before ``finish``; ``clear`` leaves nothing.
    """

    def __init__(self, path: Path, most: int | None = None) -> None:
        self._path = path
        self._most = most
        self._files: list[Path] = []
        self._sums: list[str] = []
        self._file: IO[bytes] | None = None
        self._hasher = hashlib.sha256()
        self._size = self._total = 0
        self._cleared = False

    def writable(self) -> bool:
        return True

    def tell(self) -> int:
        return self._total

    def write(self, data: Any) -> int:
        view = memoryview(data).cast("B")
        if self._cleared:  # what a compressor still has to say when it is thrown away
            return len(view)
        done = 0
        while done < len(view):
            if self._file is None or (self._most is not None and self._size >= self._most):
                self._next()
            room = len(view) - done if self._most is None else self._most - self._size
            part = view[done : done + room]
            assert self._file is not None
            self._file.write(part)
            self._hasher.update(part)
            self._size += len(part)
            done += len(part)
        self._total += done
        return done

    def _next(self) -> None:
        self._end()
        beside = self._path.with_name(f".{self._path.name}.{len(self._files) + 1:03d}.new")
        self._file = private_file(beside)
        self._files.append(beside)
        self._hasher, self._size = hashlib.sha256(), 0

    def _end(self) -> None:
        if self._file is not None:
            self._file.close()
            self._file = None
            self._sums.append(self._hasher.hexdigest())

    def finish(self) -> list[Path]:
        """Give the parts their names; they, and the file with their digests where there are several."""
        self._end()
        sums = self._path.with_name(self._path.name + SUMS)
        parts = 0 if len(self._files) == 1 else len(self._files)
        names = [part_of(self._path, n) for n in range(1, parts + 1)] or [self._path]
        for beside, name in zip(self._files, names, strict=True):
            beside.replace(name)
        # Parts of an earlier archive of this name would be joined with these.
        while (old := part_of(self._path, parts + 1)).exists():
            old.unlink()
            parts += 1
        if len(names) == 1:
            sums.unlink(missing_ok=True)
            return names
        text = "".join(
            f"{digest}  {name.name}\n" for digest, name in zip(self._sums, names, strict=True)
        )
        sums.write_text(text, encoding="utf-8")
        return [*names, sums]

    def clear(self) -> None:
        self._cleared = True
        with contextlib.suppress(OSError):
            self._end()
        for beside in self._files:
            beside.unlink(missing_ok=True)


def part_of(path: Path, number: int) -> Path:
    """What a part of an archive is called."""
    return path.with_name(f"{path.name}.{number:03d}")


@contextlib.contextmanager
def archive_into(
    path: Path, most: int | None = None, password: str | None = None
) -> Iterator[tuple[Archive, Parts]]:
    """An archive of the form that the name of ``path`` asks for. Where the context ends with an error, nothing
    of it is left; else ``Parts.finish`` is to be called.

    Raises:
        StoreError: the form is unknown or cannot have a passphrase, or it cannot be written.
    """
    name = path.name.lower()
    if not name.removesuffix(ENDING).endswith(FORMS) or name.endswith(f".zip{ENDING}"):
        raise UsageError(f"{path.name}: an archive's name ends in one of {', '.join(FORMS)}")
    parts = Parts(path, most)
    try:
        if name.endswith(".zip"):
            archive: Archive = _Zip(parts, password)
            yield archive, parts
            archive.close()
        else:
            with _sealed(path, parts, password) as sink:
                archive = _Tar(sink, packing_of(name.removesuffix(ENDING)))
                yield archive, parts
                archive.close()
    except OSError as error:
        parts.clear()
        raise StoreError(f"{path}: {error.strerror or error}") from error
    except BaseException:
        parts.clear()
        raise


@contextlib.contextmanager
def _sealed(path: Path, parts: Parts, password: str | None) -> Iterator[IO[bytes]]:
    """Where a tar or an SQL file is written: with a passphrase it is sealed on its way."""
    ends = path.name.lower().endswith(ENDING)
    if bool(password) != ends:
        raise StoreError(
            f"{path.name}: with a passphrase its name ends in {ENDING}, or in .zip"
            if password
            else f"{path.name}: a {ENDING} has a passphrase, and none was given"
        )
    plain = cast(IO[bytes], parts)
    if not password:
        yield plain
        return
    with sealing(plain, password) as sink:
        yield sink


@contextlib.contextmanager
def text_into(
    path: Path, most: int | None = None, password: str | None = None
) -> Iterator[tuple[IO[bytes], Parts]]:
    """An SQL file, compressed as its name asks for; otherwise as ``archive_into``."""
    name = path.name.lower().removesuffix(ENDING)
    if not name.endswith(SQL_FORMS):
        raise UsageError(f"{path.name}: an SQL file's name ends in one of {', '.join(SQL_FORMS)}")
    parts = Parts(path, most)
    try:
        with _sealed(path, parts, password) as sink, _packed(sink, packing_of(name)) as file:
            yield file, parts
    except OSError as error:
        parts.clear()
        raise StoreError(f"{path}: {error.strerror or error}") from error
    except BaseException:
        parts.clear()
        raise


@contextlib.contextmanager
def _packed(plain: IO[bytes], packing: str) -> Iterator[IO[bytes]]:
    if not packing:
        yield plain
        return
    file = _squeeze(plain, packing)
    yield file
    file.close()


def _squeeze(file: IO[bytes], packing: str) -> IO[bytes]:
    if packing == "gzip":
        return cast(IO[bytes], gzip.GzipFile(filename="", fileobj=file, mode="wb", compresslevel=6))
    writer = zstandard.ZstdCompressor(level=6, write_checksum=True)
    return cast(IO[bytes], writer.stream_writer(file, closefd=False))


class _Zip:
    def __init__(self, parts: Parts, password: str | None) -> None:
        file = cast(IO[bytes], parts)
        if password:
            import pyzipper  # type: ignore[import-untyped]

            sealed = pyzipper.AESZipFile(
                file, "w", compression=pyzipper.ZIP_DEFLATED, encryption=pyzipper.WZ_AES
            )
            sealed.setpassword(password.encode())
            self._zip = cast(zipfile.ZipFile, sealed)
            self._info: Any = pyzipper.zipfile_aes.AESZipInfo
        else:
            self._zip = zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED)
            self._info = zipfile.ZipInfo
        self._info = _named(self._info)

    def add(self, entry: Entry, blocks: Iterable[bytes | memoryview]) -> str:
        name = entry.path + ("/" if entry.kind == "folder" else "")
        moment = time.localtime(max(_EARLIEST, entry.modified / 1e9))[:6]
        item = self._info(name, moment)
        kinds = {"file": 0o100000, "folder": 0o040000, "link": 0o120000}
        item.external_attr = (kinds[entry.kind] | entry.mode) << 16
        if entry.kind == "folder":
            item.external_attr |= 0x10
            item.compress_type = zipfile.ZIP_STORED
        else:
            item.compress_type = zipfile.ZIP_DEFLATED
        hasher = hashlib.sha256()
        content: Iterable[bytes | memoryview] = blocks
        if entry.kind == "link":
            content = [entry.target.encode("utf-8", "surrogateescape")]
        if entry.kind == "folder":
            self._zip.writestr(item, b"")
            return ""
        with self._zip.open(item, "w", force_zip64=True) as file:
            for block in content:
                hasher.update(block)
                file.write(block)
        return hasher.hexdigest()

    def close(self) -> None:
        self._zip.close()


def _named(kind: Any) -> Any:
    """A ZipInfo whose name may be any bytes: what is no text goes in as it is, without the flag for UTF-8."""

    class Named(kind):  # type: ignore[misc]
        def _encodeFilenameFlags(self) -> tuple[bytes, int]:  # noqa: N802
            try:
                found = super()._encodeFilenameFlags()
            except UnicodeEncodeError:
                return os.fsencode(self.filename), self.flag_bits & ~0x800
            return cast(tuple[bytes, int], found)

    return Named


class _Tar:
    def __init__(self, sink: IO[bytes], packing: str) -> None:
        self._packed = _squeeze(sink, packing)
        self._tar = tarfile.open(fileobj=self._packed, mode="w|", format=tarfile.PAX_FORMAT)  # noqa: SIM115

    def add(self, entry: Entry, blocks: Iterable[bytes | memoryview]) -> str:
        item = tarfile.TarInfo(entry.path)
        item.mode = entry.mode
        item.mtime = entry.modified / 1e9
        if entry.kind != "file":
            item.type = tarfile.DIRTYPE if entry.kind == "folder" else tarfile.SYMTYPE
            item.linkname = entry.target
            self._tar.addfile(item)
            return ""
        hasher = hashlib.sha256()
        item.size = entry.size
        self._tar.addfile(item, cast(IO[bytes], _Reading(blocks, entry, hasher)))
        return hasher.hexdigest()

    def close(self) -> None:
        self._tar.close()
        self._packed.close()


class _Reading:
    """Blocks as a file of exactly the size that was announced; a file that changed meanwhile is cut or padded
    with nothing."""

    def __init__(self, blocks: Iterable[bytes | memoryview], entry: Entry, hasher: Any) -> None:
        self._blocks = iter(blocks)
        self._rest = b""
        self._left = entry.size
        self._hasher = hasher

    def read(self, size: int = -1) -> bytes:
        size = self._left if size < 0 else min(size, self._left)
        while len(self._rest) < size:
            block = next(self._blocks, None)
            if block is None:
                self._rest += bytes(size - len(self._rest))
                break
            self._rest += block
        found, self._rest = self._rest[:size], self._rest[size:]
        self._left -= len(found)
        self._hasher.update(found)
        return found
