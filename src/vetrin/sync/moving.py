"""The file half of a run: everything that comes is staged beside the live tree.

Only what differs is read at the source: a file whose content the target has under another name is
copied there, a big one is sent by the pieces that changed, texts are rewritten on the way. Digests
are taken in passing and remembered for both sides.
"""

from __future__ import annotations

import threading
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor, as_completed

import xxhash

from ..files import PIECE, Buffer, Entry, FilesError, Move, Span, some_of
from ..reach import Site
from ..rewrite import Rewriter, Tally
from .events import FileMoved, Listener
from .placing import parents
from .plan import Plan

_WORTH = 200  # files that make another stream worth its while
_TELL = 4_000_000  # bytes of one file after which its progress is told


class Mover:
    """Stages the files of a plan."""

    def __init__(
        self, plan: Plan, source: Site, target: Site, token: str, listener: Listener
    ) -> None:
        self._plan = plan
        self._source = source
        self._target = target
        self._token = token
        self._tell = listener
        self._theirs: list[Entry] = []
        self._ours: list[Entry] = []
        self._telling = threading.Lock()
        self._stopped = False
        self._whole = tuple(
            f"{unit.path}/" for unit in (plan.files.units if plan.files is not None else ())
        )
        self.vanished: set[str] = set()
        self.sent = 0
        self.rewritten = Tally()

    def stage(self) -> list[Move]:
        """Make everything ready; the moves that bring it in.

        Raises:
            FilesError: something could not be read or written; nothing live has changed.
        """
        difference, target, token = self._plan.files, self._target.files, self._token
        moves: list[Move] = []
        if difference is not None:
            for unit in difference.units:
                for entry in unit.copies:
                    target.stage_copy(token, entry, entry.path)
            plain = []
            for entry in difference.coming:
                if entry.kind != "file":
                    target.stage(token, entry)
                    self._ours.append(entry)
                    self._tell(FileMoved(entry.path, 0, int(entry.kind == "link")))
                elif entry.path in difference.reused:
                    self._reuse(entry, difference.reused[entry.path])
                elif entry.path in difference.pieced:
                    self._send_pieces(entry, difference.replaced[entry.path].path)
                elif entry.path in difference.texts:
                    self._send_text(entry)
                else:
                    plain.append(entry)
            self._send(plain)
            moves += [move for move in difference.moves() if move.path not in self.vanished]
        written = [item for item in self._plan.placed if item.content is not None]
        for item in written:
            target.stage(token, item.entry, [item.content or b""])
        moves += parents(self._target, [item.path for item in written])
        moves += [item.move for item in self._plan.placed]
        return [*moves, *self._plan.cached]

    def remember(self) -> None:
        """Keep the digests of what was moved, and that the target has it from here."""
        self._source.seen.keep(self._theirs)
        self._target.seen.keep(self._ours, brought=True)

    def _send(self, entries: Sequence[Entry]) -> None:
        """Send files as they are, in as many streams as both sides serve."""
        source, target = self._source.files, self._target.files
        streams = min(source.streams, target.streams, max(1, len(entries) // _WORTH))

        def stream(number: int) -> None:
            items = source.read_all(entries[number::streams])
            target.stage_all(self._token, self._passing(items))

        if streams == 1:
            stream(0)
            return
        with ThreadPoolExecutor(streams) as pool:
            running = [pool.submit(stream, number) for number in range(streams)]
            try:
                for one in as_completed(running):
                    one.result()
            except BaseException:
                self._stopped = True  # the others end with the file that they are at
                raise

    def remarks(self) -> list[str]:
        """What is to be said of the files beside their number."""
        if not self.vanished:
            return []
        where = f"removed from {self._plan.source.name} since the plan was made, and left out"
        return [f"{where}: {some_of(sorted(self.vanished))}"]

    def _passing(
        self, items: Iterable[tuple[Entry, Iterator[Buffer]]]
    ) -> Iterator[tuple[Entry, Iterator[Buffer]]]:
        for entry, blocks in items:
            if self._stopped:
                return
            yield entry, self._counted(entry, blocks)

    def _counted(self, entry: Entry, blocks: Iterator[Buffer]) -> Iterator[Buffer]:
        hasher = xxhash.xxh3_128()
        count = told = 0
        try:
            for block in blocks:
                hasher.update(block)
                yield block
                count += len(block)
                if count - told >= _TELL:
                    self._arrived(entry.path, count - told, 0)
                    told = count
        except FilesError as error:
            gone = isinstance(error.__cause__, FileNotFoundError)
            if not gone or entry.path.startswith(self._whole):
                raise
            # A live site goes on: what it removed since the plan was made does not come.
            self.vanished.add(entry.path)
            return
        self._arrived(entry.path, count - told, 1)
        # Should it have changed since the plan was made, its digest belongs to no known time.
        if count == entry.size:
            known = Entry(*entry[:6], hasher.hexdigest())
            self._theirs.append(known)
            self._ours.append(known)

    def _arrived(self, path: str, size: int, files: int) -> None:
        with self._telling:
            self.sent += size
            self._tell(FileMoved(path, size, files))

    def _reuse(self, entry: Entry, path: str) -> None:
        self._target.files.stage_copy(self._token, entry, path)
        digest = self._source.seen.known(entry)
        if digest:
            self._ours.append(entry._replace(digest=digest))
        self._tell(FileMoved(entry.path, 0, 1))

    def _send_pieces(self, entry: Entry, path: str) -> None:
        target, source = self._target.files, self._source.files
        there: dict[str, int] = {}
        for index, digest in enumerate(target.pieces(path)):
            there.setdefault(digest, index * PIECE)
        wanted = source.pieces(entry.path)

        def parts() -> Iterator[bytes | Span]:
            for index, digest in enumerate(wanted):
                start = index * PIECE
                size = min(PIECE, entry.size - start)
                if digest in there:
                    yield Span(there[digest], size)
                else:
                    for block in source.read(entry.path, start, size):
                        self.sent += len(block)
                        yield block
                self._tell(FileMoved(entry.path, size, int(index + 1 == len(wanted))))

        target.stage_changes(self._token, entry, path, parts())

    def _send_text(self, entry: Entry) -> None:
        content = b"".join(self._source.files.read(entry.path))
        made = Rewriter(self._plan.mapping).rewrite(content, self.rewritten)
        entry = entry._replace(size=len(made), digest=xxhash.xxh3_128_hexdigest(made))
        self._target.files.stage(self._token, entry, [made])
        self._ours.append(entry)
        self.sent += len(made)
        self._tell(FileMoved(entry.path, len(made), 1))
