"""A host's files by SFTP alone, where it offers no shell, or none with Python 3 or PHP.

Many requests are under way at a time: how many follows the line's latency. What SFTP has no request for
(digests, copies within the host, removing a whole folder) is made of what it has.
"""

from __future__ import annotations

import asyncio
import contextlib
import errno
import os
import posixpath
import queue
import stat
from collections.abc import (
    Collection,
    Coroutine,
    Iterable,
    Iterator,
    Sequence,
)
from typing import Any, TypeVar

import asyncssh

from ...errors import ConnectionFailed, ConnectionLost, FilesError
from ...files import (
    AskedEachTime,
    Buffer,
    FileChange,
    FileStatus,
    Room,
    Span,
    Writing,
    head_of,
    printable,
    pruning,
)
from .connection import Line, awaited

Result = TypeVar("Result")

_BLOCK = 255 << 10  # what OpenSSH answers in one piece
_AHEAD = 16 << 20  # bytes of small files that wait to be taken
_LEAST, _MOST = 8, 192  # requests under way
_SECOND = 10**9
_MISSING = (asyncssh.SFTPNoSuchFile, asyncssh.SFTPNoSuchPath)
_KINDS = {stat.S_IFREG: "file", stat.S_IFDIR: "folder", stat.S_IFLNK: "link"}
_END = object()


class SftpMachine(AskedEachTime):
    """The files of a host by SFTP, version 3 and up."""

    grain = _SECOND
    algorithms: tuple[str, ...] = ()
    streams = 1

    def __init__(self, line: Line) -> None:
        self._line = line
        self._client = line.sftp()
        # Enough to fill the line while answers are on their way, and no more.
        self._under_way = max(_LEAST, min(_MOST, int(line.latency / 0.0002)))

    def look(self, paths: Sequence[str], *, follow: bool = False) -> list[FileStatus | None]:
        return self._run(self._all([self._look(path, follow) for path in paths]), paths)

    async def _look(self, path: str, follow: bool) -> FileStatus | None:
        name = os.fsencode(path)
        try:
            about = await (self._client.stat(name) if follow else self._client.lstat(name))
        except (*_MISSING, asyncssh.SFTPFailure, asyncssh.SFTPPermissionDenied) as error:
            if isinstance(error, asyncssh.SFTPFailure) and "directory" not in str(error).lower():
                raise
            return None
        return await self._seen(name, about)

    async def _seen(self, name: bytes, about: asyncssh.SFTPAttrs) -> FileStatus:
        mode = about.permissions or 0
        kind: Any = _KINDS.get(stat.S_IFMT(mode), "other")
        target = ""
        if kind == "link":
            target = os.fsdecode(await self._client.readlink(name))
        return FileStatus(
            kind, about.size or 0, int(about.mtime or 0) * _SECOND, stat.S_IMODE(mode), target
        )

    def scan_parts(self, *asked: object) -> None:
        return None

    def scan(
        self,
        folders: Sequence[str],
        skip: Collection[str],
        shut: Collection[str],
        prune: tuple[str, Sequence[str]] = ("", ()),
    ) -> Iterator[tuple[str, FileStatus]]:
        waiting = list(folders)
        left_out, not_entered = frozenset(skip), frozenset(shut)
        start, pruned = len(prune[0]), pruning(prune[1])
        while waiting:
            some, waiting = waiting[: self._under_way], waiting[self._under_way :]
            listed = self._run(self._all([self._if_readable(folder) for folder in some]), some)
            for folder, items in zip(some, listed, strict=True):
                if items is None:
                    yield folder, FileStatus("unread")
                for name, look in items or ():
                    path = f"{folder}/{name}" if folder != "/" else f"/{name}"
                    if path in left_out:
                        continue
                    shut_off = pruned is not None and pruned(f"{path[start:]}/")
                    if look.kind == "folder" and name not in not_entered and not shut_off:
                        waiting.append(path)
                    yield path, look

    def names(self, folder: str) -> list[tuple[str, FileStatus]]:
        return self._run(self._names(folder), [folder])

    def names_of(self, folders: Sequence[str]) -> list[list[tuple[str, FileStatus]]]:
        found = self._run(self._all([self._if_readable(folder) for folder in folders]), folders)
        return [names or [] for names in found]

    def heads(self, paths: Sequence[str], size: int) -> list[bytes]:
        return [head_of(self.read(path, 0, size)) for path in paths]

    async def _if_readable(self, folder: str) -> list[tuple[str, FileStatus]] | None:
        try:
            return await self._names(folder)
        except asyncssh.SFTPPermissionDenied:
            return None

    async def _names(self, folder: str) -> list[tuple[str, FileStatus]]:
        found = []
        name = os.fsencode(folder)
        with contextlib.suppress(*_MISSING):
            async for item in self._client.scandir(name):
                raw = (
                    item.filename
                    if isinstance(item.filename, bytes)
                    else os.fsencode(item.filename)
                )
                if raw in (b".", b".."):
                    continue
                with contextlib.suppress(*_MISSING):
                    look = await self._seen(name + b"/" + raw, item.attrs)
                    found.append((os.fsdecode(raw), look))
        return found

    def read(self, path: str, start: int = 0, size: int | None = None) -> Iterator[bytes]:
        yield from self._piece(path, start, size)

    def _piece(self, path: str, start: int, size: int | None) -> Iterator[bytes]:
        """One file, the next blocks of it asked for before the last one is taken."""
        file: asyncssh.SFTPClientFile = self._run(
            awaited(self._client.open(os.fsencode(path), "rb", block_size=-1)), [path]
        )
        try:
            ahead = max(4, min(64, self._under_way // 3))
            blocks: list[Any] = []
            at, left = start, size
            loop = self._line.loop
            ended = False
            while True:
                while not ended and len(blocks) < ahead and (left is None or left > 0):
                    wanted = _BLOCK if left is None else min(_BLOCK, left)
                    future = asyncio.run_coroutine_threadsafe(file.read(wanted, at), loop)
                    blocks.append((future, wanted))
                    at += wanted
                    left = left if left is None else left - wanted
                if not blocks:
                    return
                future, wanted = blocks.pop(0)
                block = self._waited(future, path)
                ended = ended or len(block) < wanted
                if not block:
                    continue
                self._line.pace.spend(len(block))
                yield bytes(block)
        finally:
            for future, _ in blocks:
                future.cancel()
            with contextlib.suppress(FilesError):
                self._run(file.close(), [path])

    def read_many(self, files: Sequence[tuple[str, int]]) -> Iterator[Iterator[Buffer]]:
        """Small files are fetched many at a time, big ones in blocks."""
        small = [(path, size) for path, size in files if size < _BLOCK]
        arrived: dict[str, Any] = {}
        fetching = self._fetching(small)
        try:
            for path, size in files:
                if size >= _BLOCK:
                    yield self._piece(path, 0, None)
                    continue
                while path not in arrived:
                    name, content = next(fetching)
                    arrived[name] = content
                yield self._one(path, size, arrived.pop(path))
        finally:
            fetching.close()

    def _one(self, path: str, size: int, content: Any) -> Iterator[bytes]:
        if isinstance(content, BaseException):
            raise self._told(content, path)
        self._line.pace.spend(len(content))
        yield content
        if len(content) > size:  # it has grown since it was looked at
            yield from self._piece(path, len(content), None)

    def _fetching(self, files: Sequence[tuple[str, int]]) -> Any:
        """Contents as they arrive; as many on their way as the line is long."""
        done: queue.SimpleQueue[tuple[str, Any]] = queue.SimpleQueue()
        waiting = iter(files)
        loop = self._line.loop
        room = max(1, _AHEAD // (_BLOCK // 4))

        async def worker() -> None:
            for path, size in waiting:
                content: Any
                try:
                    content = await self._small(os.fsencode(path), size)
                except (OSError, asyncssh.Error) as error:
                    content = error
                done.put((path, content))
                while done.qsize() > room:
                    await asyncio.sleep(0.002)

        async def all_of_them() -> None:
            await asyncio.gather(*(worker() for _ in range(self._under_way)))

        work = asyncio.run_coroutine_threadsafe(all_of_them(), loop) if files else None
        try:
            for _ in files:
                yield done.get()
        finally:
            if work is not None:
                work.cancel()

    async def _small(self, name: bytes, size: int) -> bytes:
        handler = self._client
        file = await handler.open(name, "rb", block_size=-1)
        try:
            content: Any = await file.read(size + 1, 0)
            return bytes(content)
        finally:
            await file.close()

    def write_many(self, files: Iterable[tuple[Writing, Iterable[Buffer | Span]]]) -> None:
        made: set[str] = set()
        small: list[tuple[Writing, bytes]] = []
        size = 0
        for writing, parts in files:
            content: list[bytes] = []
            have = 0
            rest = iter(parts)
            for part in rest:
                block = (
                    b"".join(self._span(writing, part)) if isinstance(part, Span) else bytes(part)
                )
                content.append(block)
                have += len(block)
                if have > _BLOCK:
                    break
            else:
                small.append((writing, b"".join(content)))
                size += have
                if size > _AHEAD or len(small) >= 4 * self._under_way:
                    self._put_all(small, made)
                    small, size = [], 0
                continue
            self._folders([writing.path], made)
            self._big(writing, content, rest)
        self._put_all(small, made)

    def _span(self, writing: Writing, span: Span) -> Iterator[bytes]:
        return self._piece(writing.base, span.start, span.size)

    def _put_all(self, files: Sequence[tuple[Writing, bytes]], made: set[str]) -> None:
        self._folders([writing.path for writing, _ in files], made)
        self._line.pace.spend(sum(len(content) for _, content in files))
        self._run(
            self._all([self._put(writing, content) for writing, content in files]),
            [writing.path for writing, _ in files],
        )

    async def _put(self, writing: Writing, content: bytes) -> None:
        name = os.fsencode(writing.path)
        attrs = asyncssh.SFTPAttrs(permissions=0o600)
        file = await self._client.open(name, "wb", attrs, block_size=-1)
        try:
            if content:
                await file.write(content, 0)
            await file.setstat(_dressed(writing))
        finally:
            await file.close()

    def _big(self, writing: Writing, begun: Sequence[bytes], rest: Iterable[Buffer | Span]) -> None:
        """A file in blocks, a number of them on their way at a time."""
        path = writing.path
        attrs = asyncssh.SFTPAttrs(permissions=0o600)
        file: asyncssh.SFTPClientFile = self._run(
            awaited(self._client.open(os.fsencode(path), "wb", attrs, block_size=-1)), [path]
        )
        loop, at = self._line.loop, 0
        going: list[Any] = []

        def blocks() -> Iterator[bytes]:
            yield from begun
            for part in rest:
                if isinstance(part, Span):
                    yield from self._span(writing, part)
                else:
                    yield bytes(part)

        try:
            for block in blocks():
                self._line.pace.spend(len(block))
                going.append(asyncio.run_coroutine_threadsafe(file.write(block, at), loop))
                at += len(block)
                if len(going) > max(4, min(32, self._under_way // 3)):
                    self._waited(going.pop(0), path)
            for future in going:
                self._waited(future, path)
            self._run(file.setstat(_dressed(writing)), [path])
        finally:
            with contextlib.suppress(FilesError):
                self._run(file.close(), [path])

    def _folders(self, paths: Sequence[str], made: set[str]) -> None:
        """Make the folders above some paths, each level together."""
        wanted = {path.rpartition("/")[0] for path in paths} - made
        missing = [
            folder
            for folder, found in zip(sorted(wanted), self.look(sorted(wanted)), strict=True)
            if found is None
        ]
        made |= wanted
        self.act([FileChange("folder", folder) for folder in missing])

    def act(self, acts: Sequence[FileChange], root: str = "") -> None:
        """The requests go out one after the other; the server works them off in that order. Whose a link is on the
        way to a path, it does not tell."""
        for at in range(0, len(acts), self._under_way):
            some = acts[at : at + self._under_way]
            self._run(self._acts(some), [act.path for act in some])

    async def _acts(self, acts: Sequence[FileChange]) -> None:
        # An act waits for the one before it only where it needs what that one makes.
        results = []
        for act in acts:
            task = asyncio.ensure_future(self._do(act))
            results.append(task)
            if act.do == "folder":
                await asyncio.wait([task])
                if task.exception() is not None:
                    break
            else:
                await asyncio.sleep(0)
        for act, result in zip(
            acts, await asyncio.gather(*results, return_exceptions=True), strict=False
        ):
            if isinstance(result, BaseException) and not act.soft:
                raise _Named(act.path) from result

    async def _do(self, act: FileChange) -> None:
        client, path = self._client, os.fsencode(act.path)
        if act.do == "rename":
            await client.rename(path, os.fsencode(act.to))
        elif act.do == "replace":
            await client.posix_rename(path, os.fsencode(act.to))
        elif act.do == "folder":
            await self._folder(path)
        elif act.do == "link":
            await client.symlink(os.fsencode(act.to), path)
        elif act.do == "remove":
            await client.remove(path)
        elif act.do == "remove-folder":
            await client.rmdir(path)
        elif act.do == "mode":
            await client.chmod(path, act.mode)
        elif act.do == "claim" and act.to:
            await self._claim(path, os.fsencode(act.to), act.mode)
        elif act.do == "claim":
            attrs = asyncssh.SFTPAttrs(permissions=act.mode)
            await (await client.open(path, "xb", attrs)).close()

    async def _claim(self, path: bytes, other: bytes, mode: int) -> None:
        """Give what lies at ``other`` a second name, which must not be there; a copy where that cannot be."""
        client = self._client
        try:
            await client.link(other, path)
        except asyncssh.SFTPError:
            # OpenSSH says no more of a name that is there than of a disk without second names.
            async with client.open(other, "rb") as file:
                content = await file.read()
            attrs = asyncssh.SFTPAttrs(permissions=mode)
            made = await client.open(path, "xb", attrs)
            try:
                await made.write(content)
            except asyncssh.SFTPError:
                await client.remove(path)
                raise
            finally:
                await made.close()

    async def _folder(self, path: bytes) -> None:
        try:
            await self._client.mkdir(path)
        except _MISSING:
            above = path.rpartition(b"/")[0]
            if not above:
                raise
            await self._folder(above)
            await self._folder(path)
        except (asyncssh.SFTPFailure, asyncssh.SFTPFileAlreadyExists):
            if not await self._client.isdir(path):
                raise

    def digests(self, paths: Sequence[str], algorithm: str) -> list[str | None]:
        raise FilesError("by SFTP alone no digests are made")

    def pieces(self, path: str, piece: int, algorithm: str) -> list[str]:
        raise FilesError("by SFTP alone no digests are made")

    def flush(self, folder: str) -> None:
        return  # there is no request for a whole file system; the server writes as it sees fit

    def busy(self, path: str) -> bool:
        return False  # no process of ours can be there

    def room(self, folder: str) -> Room:
        place = folder
        while True:
            try:
                about = self._line.run(self._client.statvfs(os.fsencode(place)))
                return Room(f"{about.fsid}", about.bavail * about.frsize)
            except _MISSING:
                if place in ("/", ""):
                    raise FilesError(f"{folder}: there is no such folder") from None
                place = place.rpartition("/")[0] or "/"
            except asyncssh.SFTPError:
                return Room("", -1)
            except ConnectionFailed as error:
                raise FilesError(str(error)) from error

    def remove(self, path: str) -> None:
        (found,) = self.look([path])
        if found is None:
            return
        if found.kind != "folder":
            self.act([FileChange("remove", path)])
            return
        below = list(self.scan([path], (), ()))
        folders = [path, *(place for place, look in below if look.kind == "folder")]
        modes = [
            FileChange("mode", place, mode=0o700, soft=True)
            for place, look in below
            if look.kind == "folder" and look.mode & 0o700 != 0o700
        ]
        if modes:
            self.act(modes)
            below = list(self.scan([path], (), ()))
            folders = [path, *(place for place, look in below if look.kind == "folder")]
        self.act([FileChange("remove", place) for place, look in below if look.kind != "folder"])
        self.act(
            [FileChange("remove-folder", place) for place in sorted(folders, key=len, reverse=True)]
        )

    def real(self, path: str) -> str:
        return os.fsdecode(self._run(self._client.realpath(os.fsencode(path)), [path]))

    async def _all(self, works: Sequence[Coroutine[Any, Any, Result]]) -> list[Result]:
        """All of them, a bounded number at a time, in their order."""
        limit = asyncio.Semaphore(self._under_way)

        async def one(work: Coroutine[Any, Any, Result]) -> Result:
            async with limit:
                return await work

        return list(await asyncio.gather(*map(one, works)))

    def _run(self, work: Coroutine[Any, Any, Result], paths: Sequence[str]) -> Result:
        try:
            return self._line.run(work)
        except (OSError, asyncssh.Error, ConnectionFailed, _Named) as error:
            told = self._told(error, posixpath.commonpath(paths) if paths else "")
            raise told from told.__cause__

    def _waited(self, future: Any, path: str) -> Any:
        try:
            return future.result()
        except (OSError, asyncssh.Error) as error:
            told = self._told(error, path)
            raise told from told.__cause__

    def _told(self, error: BaseException, path: str) -> FilesError:
        """What to raise; its cause says by its kind whether a file is missing or the line broke."""
        if isinstance(error, _Named):
            path, error = error.path, error.__cause__ or error
        lost = (asyncssh.SFTPConnectionLost, asyncssh.SFTPNoConnection, asyncssh.ConnectionLost)
        if isinstance(error, lost) or not self._line.alive:
            broken = ConnectionLost(f"{self._line.account}: the connection was lost")
            found = FilesError(str(broken))
            found.lost = True
            found.__cause__ = broken
            return found
        reason = getattr(error, "reason", "") or str(error) or type(error).__name__
        found = FilesError(f"{printable(path)}: {reason}" if path else reason)
        found.denied = isinstance(error, asyncssh.SFTPPermissionDenied)
        found.__cause__ = (
            FileNotFoundError(errno.ENOENT, reason) if isinstance(error, _MISSING) else error
        )
        return found


class _Named(Exception):
    """An act that failed, with its path."""

    def __init__(self, path: str) -> None:
        super().__init__(path)
        self.path = path


def _dressed(writing: Writing) -> asyncssh.SFTPAttrs:
    if writing.modified < 0:
        return asyncssh.SFTPAttrs(permissions=writing.mode)
    seconds = writing.modified // _SECOND
    return asyncssh.SFTPAttrs(permissions=writing.mode, atime=seconds, mtime=seconds)
