"""Archives and dumps that somebody else made, as a stream of members.

Read by what is in a file, not by its name: ZIP (PKWARE's APPNOTE), tar (POSIX pax, GNU, old), each compressed or
not with gzip, bzip2, xz or zstandard, or an SQL dump. An entry that would leave the folder it is unpacked into and
an archive that becomes far more than it is are refused before anything is kept. Links are never followed; those
that lead out of the site are left out by whoever takes the members in.
"""

from __future__ import annotations

import bz2
import gzip
import lzma
import posixpath
import stat
import tarfile
import time
import zipfile
import zlib
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import IO, Any, Literal, cast

import zstandard
from msgspec import Struct

from ..errors import BadArchive, NeedsPassphrase
from ..files import Entry

Kind = Literal["zip", "tar", "sql"]
BLOCK = 1 << 18
_HEAD = 600
FREE = 1 << 30  # bytes that anything may become
FOLD = 300  # or so many times what it is
_MEMBERS = 2_000_000
_BETWEEN = (
    4 << 20
)  # bytes of an archive between the contents of two members: names, and what else is told of them
_LINK = 4096  # bytes of where a link leads
_MAGIC = ((b"\x1f\x8b", "gzip"), (b"BZh", "bzip2"), (b"\xfd7zXZ\0", "xz"), (b"\x28\xb5\x2f\xfd", "zstd"))  # fmt: skip


class Member(Struct, frozen=True):
    """A file, folder or link of an archive; ``blocks`` may be read once, before the next member."""

    entry: Entry
    blocks: Callable[[], Iterator[bytes]]


def most_of(packed: int) -> int:
    """How many bytes an archive of so many may become."""
    return max(FREE, packed * FOLD)


class Watch:
    """Counts what archives become, with all that is unpacked out of them in turn.

    Raises:
        BadArchive: it is far more than it should be.
    """

    def __init__(self, name: str, packed: int) -> None:
        self._name = name
        self._most = most_of(packed)
        self._bytes = self._members = 0

    def member(self) -> None:
        self._members += 1
        if self._members > _MEMBERS:
            raise BadArchive(f"{self._name} has more than {_MEMBERS:,} entries")

    def passing(self, blocks: Iterator[bytes]) -> Iterator[bytes]:
        for block in blocks:
            self.count(len(block))
            yield block

    def count(self, size: int) -> None:
        self._bytes += size
        if self._bytes > self._most:
            raise BadArchive(
                f"{self._name} becomes more than {self._most:,} bytes, {FOLD} times what it is: "
                "that is no ordinary archive"
            )


def kind_of(path: Path) -> tuple[Kind, str]:
    """What a file is, and how it is compressed (empty for not at all).

    Raises:
        BadArchive: it cannot be read.
    """
    with _said(path.name), path.open("rb") as file:
        head = file.read(_HEAD)
    if head.startswith((b"PK\x03\x04", b"PK\x05\x06")):
        return "zip", ""
    for magic, packing in _MAGIC:
        if head.startswith(magic):
            with _said(path.name), path.open("rb") as file:
                inside = _exactly(opened(file, packing), _HEAD)
            return ("tar" if _is_tar(inside) else "sql"), packing
    return ("tar" if _is_tar(head) else "sql"), ""


def _is_tar(head: bytes) -> bool:
    if head[257:262] == b"ustar":
        return True
    # An old tar has nothing but a sum to be known by.
    digits = head[148:156].strip(b" \0")
    if len(head) < 512 or not digits or not digits.isdigit():
        return False
    return int(digits, 8) == sum(head[:148]) + 8 * 32 + sum(head[156:512])


def opened(file: IO[bytes], packing: str) -> IO[bytes]:
    """A file as it was before it was compressed."""
    if packing == "gzip":
        return cast(IO[bytes], gzip.GzipFile(fileobj=file))
    if packing == "bzip2":
        return cast(IO[bytes], bz2.BZ2File(file))
    if packing == "xz":
        return cast(IO[bytes], lzma.LZMAFile(file))
    if packing == "zstd":
        reader = zstandard.ZstdDecompressor(max_window_size=1 << 27)
        return cast(IO[bytes], reader.stream_reader(file, read_across_frames=True))
    return file


def packing_of(name: str) -> str:
    """How a file or a member is compressed, by its name; empty for not at all."""
    for ending, packing in (
        (".gz", "gzip"),
        (".tgz", "gzip"),
        (".bz2", "bzip2"),
        (".xz", "xz"),
        (".zst", "zstd"),
    ):
        if name.lower().endswith(ending):
            return packing
    return ""


def unpacked(blocks: Iterator[bytes], packing: str, name: str) -> Iterator[bytes]:
    """Blocks as they were before they were compressed. Raises BadArchive."""
    with _said(name):
        yield from _read(opened(cast(IO[bytes], _Stream(blocks)), packing))


def watching(paths: Sequence[Path]) -> Watch:
    """One watch over some files. Raises BadArchive where one of them cannot be read."""
    name = paths[0].name if len(paths) == 1 else f"what is in {paths[0].parent}"
    with _said(name):
        return Watch(name, sum(path.stat().st_size for path in paths))


def blocks_of(path: Path, packing: str, watch: Watch) -> Iterator[bytes]:
    """A file's content, decompressed. Raises BadArchive."""
    with _said(path.name), path.open("rb") as file:
        yield from watch.passing(_read(opened(file, packing)))


def members(
    path: Path, kind: Kind, packing: str, watch: Watch, password: str | None = None
) -> Iterator[Member]:
    """The members of an archive, in their order.

    Raises:
        BadArchive: it is damaged, or has entries that must not be unpacked.
    """
    if kind == "zip":
        yield from _zip(path, watch, password)
    else:
        with _said(path.name), path.open("rb") as file:
            yield from _tar(path.name, opened(file, packing), watch)


def _tar(name: str, file: IO[bytes], watch: Watch) -> Iterator[Member]:
    metered = _Metered(name, file)
    with tarfile.open(fileobj=cast(IO[bytes], metered), mode="r|", errorlevel=2) as archive:
        while (item := archive.next()) is not None:
            cast(Any, archive).members.clear()  # else it would hold on to all of them
            metered.most = archive.offset + _BETWEEN
            watch.member()
            if item.name in (".", "./", "/") or item.type in (tarfile.XGLTYPE,):
                continue
            inside = inner_path(item.name, name)
            modified = int(item.mtime * 1e9)
            if item.isdir():
                yield Member(Entry(inside, "folder", 0, modified, item.mode & 0o7777), _nothing)
            elif item.issym():
                yield Member(Entry(inside, "link", 0, modified, 0o777, item.linkname), _nothing)
            elif item.islnk():
                # A second name of a file that came before.
                target = inner_path(item.linkname, name)
                yield Member(
                    Entry(inside, "file", -1, modified, item.mode & 0o7777, target), _nothing
                )
            elif item.isfile():
                entry = Entry(inside, "file", item.size, modified, item.mode & 0o7777)
                yield Member(entry, lambda item=item: watch.passing(_of_tar(archive, item)))  # type: ignore[misc]
            else:
                raise BadArchive(f"{name}: {item.name!r} is a device or a pipe, which no site has")


def _of_tar(archive: tarfile.TarFile, item: tarfile.TarInfo) -> Iterator[bytes]:
    file = archive.extractfile(item)
    assert file is not None
    yield from _read(file)


def _zip(path: Path, watch: Watch, password: str | None) -> Iterator[Member]:
    with _said(path.name), _zip_file(path, password) as archive:
        for item in archive.infolist():
            watch.member()
            inside = inner_path(_name(item).replace("\\", "/"), path.name)
            if not inside:
                continue
            mode = item.external_attr >> 16
            try:
                modified = int(time.mktime((*item.date_time, 0, 0, -1)) * 1e9)
            except (ValueError, OverflowError):
                modified = 0
            if item.is_dir():
                yield Member(Entry(inside, "folder", 0, modified, mode & 0o7777 or 0o755), _nothing)
            elif stat.S_ISLNK(mode):
                with archive.open(item) as link:
                    leads = _exactly(link, _LINK + 1)
                if len(leads) > _LINK:
                    raise BadArchive(f"{path.name}: {inside!r} is a link that leads nowhere")
                target = leads.decode("utf-8", "surrogateescape")
                yield Member(Entry(inside, "link", 0, modified, 0o777, target), _nothing)
            else:
                entry = Entry(inside, "file", item.file_size, modified, mode & 0o7777 or 0o644)

                def blocks(item: zipfile.ZipInfo = item) -> Iterator[bytes]:
                    with _said(path.name), archive.open(item) as file:
                        yield from watch.passing(_read(file))

                yield Member(entry, blocks)


_UTF_8 = 0x800  # of the general purpose flags: names are UTF-8 (APPNOTE.TXT, 4.4.4)


def _name(item: zipfile.ZipInfo) -> str:
    """A member's name. Where the archive does not say that it is UTF-8, it is what it was on the file system that
    it comes from, which on servers is UTF-8 or some bytes."""
    if item.flag_bits & _UTF_8 or item.filename.isascii():
        return item.filename
    return item.filename.encode("cp437").decode("utf-8", "surrogateescape")


def _zip_file(path: Path, password: str | None) -> zipfile.ZipFile:
    archive = zipfile.ZipFile(path)
    if not any(item.flag_bits & 1 for item in archive.infolist()):
        return archive
    archive.close()
    if not password:
        raise NeedsPassphrase(path.name)
    import pyzipper  # type: ignore[import-untyped]

    sealed = pyzipper.AESZipFile(path)
    sealed.setpassword(password.encode())
    return cast(zipfile.ZipFile, sealed)


def inner_path(path: str, archive: str) -> str:
    """The path of an entry below the folder that it is unpacked into.

    Raises:
        BadArchive: it leads out of that folder.
    """
    if "\0" in path or path.startswith("/") or path[1:2] == ":" or ".." in path.split("/"):
        raise BadArchive(f"{archive}: the entry {path!r} would be unpacked outside of its folder")
    clean = posixpath.normpath(path)
    return "" if clean == "." else clean


def _nothing() -> Iterator[bytes]:
    return iter(())


def _read(file: IO[bytes]) -> Iterator[bytes]:
    while block := file.read(BLOCK):
        yield block


def _exactly(file: IO[bytes], size: int) -> bytes:
    found = b""
    while len(found) < size and (block := file.read(size - len(found))):
        found += block
    return found


class _Metered:
    """A stream of which no more is read than ``most`` bytes: a header may say that it is of any length, and is
    read as a whole."""

    def __init__(self, name: str, file: IO[bytes]) -> None:
        self._name, self._file = name, file
        self._at = 0
        self.most = _BETWEEN

    def read(self, size: int) -> bytes:
        block = self._file.read(size)
        self._at += len(block)
        if self._at > self.most:
            raise BadArchive(f"{self._name} has a header of more than {_BETWEEN:,} bytes")
        return block


class _Stream:
    """Blocks as a file that can be read."""

    def __init__(self, blocks: Iterator[bytes]) -> None:
        self._blocks = blocks
        self._rest = b""

    def read(self, size: int = -1) -> bytes:
        while size < 0 or len(self._rest) < size:
            block = next(self._blocks, None)
            if block is None:
                break
            self._rest += block
        size = len(self._rest) if size < 0 else size
        found, self._rest = self._rest[:size], self._rest[size:]
        return found


@contextmanager
def _said(name: str) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise BadArchive(f"{name} cannot be read: {error.strerror or error}") from error
    except (EOFError, zlib.error, lzma.LZMAError, tarfile.TarError, zipfile.BadZipFile,
            zstandard.ZstdError, NotImplementedError) as error:  # fmt: skip
        raise BadArchive(f"{name} is damaged, or cut off: {error}") from error
    except RuntimeError as error:  # what is said of a wrong passphrase
        raise BadArchive(f"{name}: the passphrase is not the one that it was made with") from error
    except Exception as error:
        if type(error).__name__ == "BadZipFile":  # pyzipper has one of its own
            raise BadArchive(f"{name} is damaged, or cut off: {error}") from error
        raise
