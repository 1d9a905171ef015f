"""The file half of a run: everything that comes is staged beside the live tree.

Only what differs is read at the source: a file whose content the target has under another name is
copied there, a big one is sent by the pieces that changed, texts are rewritten on the way. Digests
are taken in passing and remembered for both sides.
"""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor, as_completed

import xxhash

from ..errors import FilesError
from ..files import (
    BIG,
    PIECE,
    Buffer,
    Difference,
    Entry,
    Move,
    Span,
    changed_since,
    common_algorithm,
    some_of,
)
from ..rewrite import Rewriter, Tally
from .events import FileMoved
from .generated_files import parents
from .journal import Run
from .plan import Plan
from .run_context import RunContext


def _whole(entry: Entry, begun: Mapping[str, Entry], grain: int) -> bool:
    """True if all of a file is staged already: its time is set when its last byte is there."""
    there = begun.get(entry.path)
    return (
        there is not None
        and there.kind == entry.kind == "file"
        and there.size == entry.size
        and there.modified // grain == entry.modified // grain
    )


_ROUNDS = 3  # times that a file is read anew
_WORTH = 200  # files that make another stream worth its while
_LARGE = 100_000  # bytes on average
_TELL = 4_000_000  # bytes of one file after which its progress is told


class FileCopier:
    """Stages the files of a plan."""

    def __init__(self, plan: Plan, context: RunContext, run: Run) -> None:
        self._going_on = run.resumed  # an earlier attempt may have staged some of it
        self._plan = plan
        self._source = context.source
        self._target = context.target
        self._token = run.token
        self._tell = context.listener
        self._source_entries: list[Entry] = []
        self._target_entries: list[Entry] = []
        self._telling = threading.Lock()
        self._stopped = False
        self._whole = tuple(
            f"{unit.path}/" for unit in (plan.files.units if plan.files is not None else ())
        )
        self.vanished: set[str] = set()
        self.unread: set[str] = set()
        self.restless: set[str] = set()
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
            begun = self._begun(difference)
            copies = [entry for unit in difference.units for entry in unit.copies]
            copies = [entry for entry in copies if not _whole(entry, begun, target.grain)]
            target.stage_copies(token, [(entry, entry.path) for entry in copies])
            others = [entry for entry in difference.coming if entry.kind != "file"]
            target.stage_others(token, others)
            for entry in others:
                self._target_entries.append(entry)
                self._tell(FileMoved(entry.path, 0, int(entry.kind == "link")))
            self._reuse(difference.reused)
            plain, read = [], []
            for entry in difference.coming:
                if entry.kind != "file" or entry.path in difference.reused:
                    continue
                read.append(entry)
                if _whole(entry, begun, target.grain) and entry.path not in difference.texts:
                    self._target_entries.append(entry)
                    self._tell(FileMoved(entry.path, entry.size, 1))
                elif entry.path in begun and self._can_go_on_with(begun[entry.path], entry):
                    with self._if_readable(entry):
                        self._go_on(entry, begun[entry.path])
                elif entry.path in difference.pieced:
                    with self._if_readable(entry):
                        self._send_pieces(entry, difference.replaced[entry.path].path)
                elif entry.path in difference.texts:
                    with self._if_readable(entry):
                        self._send_text(entry)
                else:
                    plain.append(entry)
            self._send(plain)
            self._come_to_rest(read, difference)
            self._keep_what_is_unread(difference)
            lost = {*self.vanished, *self.unread}
            moves += [move for move in difference.moves() if move.path not in lost]
        written = [item for item in self._plan.placed if item.content is not None]
        for item in written:
            target.stage(token, item.entry, [item.content or b""])
        moves += parents(self._target, [item.path for item in written])
        moves += [item.move for item in self._plan.placed]
        return [*moves, *self._plan.cached]

    def remember(self) -> None:
        """Keep the digests of what was moved, and that the target has it from here."""
        lost = {*self.vanished, *self.unread, *self.restless}
        theirs = {entry.path: entry for entry in self._source_entries if entry.path not in lost}
        ours = {entry.path: entry for entry in self._target_entries if entry.path not in lost}
        self._source.seen.keep(theirs.values())
        grain = self._target.files.grain
        there = [e._replace(modified=e.modified // grain * grain) for e in ours.values()]
        self._target.seen.keep(there, brought=True)

    def _send(self, entries: Sequence[Entry]) -> None:
        """Send files as they are, in as many streams as both sides serve."""
        source, target = self._source.files, self._target.files
        streams = min(source.streams, target.streams, max(1, len(entries) // _WORTH))
        if sum(entry.size for entry in entries) > _LARGE * len(entries):
            streams = 1  # what takes the time is the way, not the files

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

    def _come_to_rest(self, entries: Sequence[Entry], difference: Difference) -> None:
        """Send anew what was written to while it was read, for what came of it may be of two editions."""
        source, waiting = self._source.files, list(entries)
        for _ in range(_ROUNDS):
            waiting = [entry for entry in waiting if entry.path not in self.unread]
            waiting = changed_since(source, waiting)
            for entry in waiting:
                if entry.path in difference.texts:
                    with self._if_readable(entry):
                        self._send_text(entry)
            self._send([entry for entry in waiting if entry.path not in difference.texts])
            if not waiting:
                return
        self.restless |= {entry.path for entry in changed_since(source, waiting)}

    @contextlib.contextmanager
    def _if_readable(self, entry: Entry) -> Iterator[None]:
        """What the account may not read is left out, and told."""
        try:
            yield
        except FilesError as error:
            if not error.denied or isinstance(error.__cause__, FileNotFoundError):
                raise
            self.unread.add(entry.path)

    def _keep_what_is_unread(self, difference: Difference) -> None:
        """In a folder that comes as a whole, the target's own file stays in place of one that cannot be read."""
        inside = [path for path in self.unread if path.startswith(self._whole)]
        self._target.files.unstage(self._token, inside)
        own = [difference.replaced[path] for path in inside if path in difference.replaced]
        self._target.files.stage_copies(self._token, [(entry, entry.path) for entry in own])

    def remarks(self) -> list[str]:
        """What is to be said of the files beside their number."""
        source = self._plan.source.name
        told = (
            (f"removed from {source} since the plan was made, and left out", self.vanished),
            (f"not readable in {source} for the account, and left out", self.unread),
            (
                f"written to in {source} whenever they were read, so perhaps not whole",
                self.restless,
            ),
        )
        return [f"{what}: {some_of(sorted(paths))}" for what, paths in told if paths]

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
            if error.denied and not gone:
                self.unread.add(entry.path)
                return
            if not gone or entry.path.startswith(self._whole):
                raise
            # A live site goes on: what it removed since the plan was made does not come.
            self.vanished.add(entry.path)
            return
        self._arrived(entry.path, count - told, 1)
        # Should it have changed since the plan was made, its digest belongs to no known time.
        if count == entry.size:
            known = Entry(*entry[:6], hasher.hexdigest())
            self._source_entries.append(known)
            self._target_entries.append(known)

    def _arrived(self, path: str, size: int, files: int) -> None:
        with self._telling:
            self.sent += size
            self._tell(FileMoved(path, size, files))

    def _reuse(self, reused: Mapping[str, str]) -> None:
        """Copy at the target what it has under another name."""
        assert self._plan.files is not None
        entries = [entry for entry in self._plan.files.coming if entry.path in reused]
        self._target.files.stage_copies(self._token, [(e, reused[e.path]) for e in entries])
        for entry in entries:
            digest = self._source.seen.known(entry)
            if digest:
                self._target_entries.append(entry._replace(digest=digest))
            self._tell(FileMoved(entry.path, 0, 1))

    def _begun(self, difference: Difference) -> Mapping[str, Entry]:
        """What an earlier attempt has staged, without what belongs to this plan no more."""
        if not self._going_on:
            return {}
        found = self._target.files.staged(self._token)
        wanted = {entry.path for entry in difference.coming}
        wanted |= {entry.path for unit in difference.units for entry in unit.copies}
        strange = [p for p, entry in found.items() if p not in wanted and entry.kind != "folder"]
        self._target.files.unstage(self._token, strange)
        return {path: found[path] for path in found if path in wanted}

    def _can_go_on_with(self, part: Entry, entry: Entry) -> bool:
        """True for the beginning of a big file, where it can be told that it is one."""
        source, target = self._source.files, self._target.files
        if part.kind != "file" or not PIECE <= part.size <= entry.size or entry.size < BIG:
            return False
        # Written here one block after the other, it needs no digest to be the file's beginning.
        in_order = target.algorithms and not source.algorithms
        return bool(common_algorithm(source, target) or in_order)

    def _go_on(self, entry: Entry, part: Entry) -> None:
        """Send what is missing of a file of which the first part has arrived."""
        aside = self._target.files.set_aside(self._token, entry.path)
        if common_algorithm(self._source.files, self._target.files):
            self._send_pieces(entry, aside)
            return
        have = part.size // PIECE * PIECE

        def parts() -> Iterator[bytes | Span]:
            self._tell(FileMoved(entry.path, have, 0))
            yield Span(0, have)
            for block in self._source.files.read(entry.path, have):
                self._arrived(entry.path, len(block), 0)
                yield block
            self._tell(FileMoved(entry.path, 0, 1))

        self._target.files.stage_changes(self._token, entry, aside, parts())
        self._target_entries.append(entry)

    def _send_pieces(self, entry: Entry, path: str) -> None:
        target, source = self._target.files, self._source.files
        algorithm = common_algorithm(source, target)
        there: dict[str, int] = {}
        for index, digest in enumerate(target.pieces(path, algorithm)):
            there.setdefault(digest, index * PIECE)
        wanted = source.pieces(entry.path, algorithm)

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
        self._target_entries.append(entry)

    def _send_text(self, entry: Entry) -> None:
        content = b"".join(self._source.files.read(entry.path))
        made = Rewriter(self._plan.mapping).rewrite(content, self.rewritten)
        entry = entry._replace(size=len(made), digest=xxhash.xxh3_128_hexdigest(made))
        self._target.files.stage(self._token, entry, [made])
        self._target_entries.append(entry)
        self.sent += len(made)
        self._tell(FileMoved(entry.path, len(made), 1))
