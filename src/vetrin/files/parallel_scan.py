"""Scanning one tree while another one is scanned: the second in a process of its own.

Most of a transfer in which little has changed is asking for the size and time of each file, and
Python can ask for one at a time only. So one of the two trees is scanned by a fork of this process,
which touches nothing else. It first tells a hash over all that it found; where that is the hash of the
other tree, nothing more need be said. Otherwise it leaves its findings in an unnamed temporary file.
Where forking is not possible (other threads are running, or the system is none on which it is safe),
a thread scans it.
"""

from __future__ import annotations

import contextlib
import marshal
import os
import signal
import struct
import sys
import tempfile
import threading
from array import array
from collections.abc import Callable, Collection, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from itertools import repeat
from typing import Any

from ..process import processors
from .base import Entry, Manifest, SourceTree
from .local import LocalTree

_SUM = struct.Struct("qQQ")  # how many entries, and two ways of putting their hashes together


@contextlib.contextmanager
def scanning(
    tree: SourceTree, folders: Sequence[str], skip: Collection[str]
) -> Iterator[Callable[[Manifest], Manifest | None]]:
    """Begin to scan ``tree``; what is given takes the other tree's manifest and waits for this one's,
    or None where it is known to hold the same.

    Raises:
        FilesError: from the call, as ``tree.scan``.
    """
    if type(tree) is not LocalTree or not may_fork():
        # A far tree is scanned by its own machine, and while one waits for that there is time for this one.
        with ThreadPoolExecutor(1, "scan") as pool:
            found = pool.submit(tree.scan, folders, skip)
            yield lambda theirs: found.result()
        return
    out, into = os.pipe()
    with tempfile.TemporaryFile() as file, os.fdopen(out, "rb") as told:
        child = os.fork()
        if child == 0:
            _child(lambda: tree.scan(folders, skip), into, file.fileno())
        os.close(into)
        ended = False

        def later(theirs: Manifest) -> Manifest | None:
            nonlocal ended
            if told.read(_SUM.size) == _sum(theirs):
                return None
            os.waitpid(child, 0)
            ended = True
            file.seek(0)
            # What went wrong there is met again here, where it can be told.
            return _manifest(file.read()) or tree.scan(folders, skip)

        try:
            yield later
        finally:
            if not ended:
                os.kill(child, signal.SIGKILL)
                os.waitpid(child, 0)


def may_fork() -> bool:
    return sys.platform.startswith("linux") and threading.active_count() == 1 and processors() > 1


def _child(scan: Callable[[], Manifest], into: int, place: int) -> None:
    """Tell what a scan finds and end, without a trace in anything that is open."""
    code = 1
    try:
        found = scan()
        os.write(into, _sum(found))
        with open(place, "wb", closefd=False) as file:
            file.write(_packed(found))
        code = 0
    finally:
        os._exit(code)


def _sum(found: Manifest) -> bytes:
    """Equal for two manifests that hold the same, in whatever order; within one run only, for
    Python's hashes of texts differ between runs. A fork has its parent's."""
    hashes = list(map(hash, found.values()))
    passed = hash(frozenset(found.passed.items()))
    mixed = hash(frozenset(hashes))
    return _SUM.pack(len(found), (sum(hashes) + passed) % (1 << 64), mixed % (1 << 64))


def _packed(found: Manifest) -> bytes:
    """A manifest by columns, which cost a fraction of what its entries would one by one."""
    columns: list[tuple[Any, ...]] = list(zip(*found.values(), strict=True)) or [()] * 7
    paths, kinds, sizes, times, modes, targets, _ = columns
    return marshal.dumps(
        (
            "\0".join(paths),
            "".join(map(_LETTERS.__getitem__, kinds)),
            array("q", sizes).tobytes(),
            array("q", times).tobytes(),
            array("l", modes).tobytes(),
            {path: target for path, target in zip(paths, targets, strict=True) if target},
            found.passed,
        )
    )


_LINK = "k"
_KINDS = {"f": "file", "d": "folder", _LINK: "link"}
_LETTERS = {word: letter for letter, word in _KINDS.items()}


def _manifest(content: bytes) -> Manifest | None:
    """What a child wrote; None where it did not come to its end."""
    found = Manifest()
    try:
        joined, kinds, sizes, times, modes, links, passed = marshal.loads(content)
    except (EOFError, ValueError, TypeError):
        return None
    paths = joined.split("\0") if joined else []
    if len(kinds) != len(paths):
        return None
    columns = array("q", sizes), array("q", times), array("l", modes)
    found.enter(paths, map(_KINDS.get, kinds), *columns, repeat(""))
    for index, kind in enumerate(kinds if links else ""):
        if kind == _LINK:
            path = paths[index]
            found[path] = Entry(path, "link", target=links[path])
    found.passed.update(passed)
    return found
