"""What has to move so that one tree holds what another one holds."""

from __future__ import annotations

import contextlib
import gc
import unicodedata
from collections import defaultdict
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence, Set
from dataclasses import dataclass, field
from fnmatch import fnmatchcase

import msgspec
from msgspec import Struct

from .base import BLOCK, UNREADABLE, Entry, Kind, Manifest, Move, SourceTree
from .digest_cache import DigestCache
from .digests import common_algorithm, digest_of
from .parallel_scan import scanning
from .patterns import Patterns

ARCHIVES = (".zip", ".tar", ".tar.gz", ".tgz", ".tar.bz2", ".tar.xz", ".tar.zst", ".7z", ".rar",
            ".sql", ".sql.gz", ".sql.bz2", ".sql.xz", ".sql.zst", ".sql.zip", ".dump")  # fmt: skip
# Of file managers, and Vetrin's own.
LITTER = (".DS_Store", "Thumbs.db", "desktop.ini", "vetrin.toml", ".vetrin.toml.new")
_SUSPICIOUS = (*ARCHIVES, *LITTER)
KEPT = "a folder with something in it that is kept"
BIG = 8 * BLOCK  # from this size on a changed file is sent by its changed pieces
LONGEST_TEXT = 16 * BLOCK  # longer files are never rewritten
_HEAVIEST_WHOLE = 1 << 30  # a folder with more to copy is exchanged file by file


class Clash(Exception):
    """Two names that are one on the target."""

    def __init__(self, one: str, other: str) -> None:
        super().__init__(f"{one} and {other} are one name there")
        self.one = one
        self.other = other


class Terms(Struct, frozen=True):
    """On what terms two trees are compared.

    ``skip`` are paths that do not count at the source and at the target. Entries of the source that
    fit ``leave`` stay there; those of the target that fit ``keep`` stay as they are. Folders that
    fit ``whole`` switch over with all that is in them. Archives count where ``loose`` is False for
    their path. ``withheld`` says why a path counts on neither side; nothing where it does. Files that
    fit ``texts`` are rewritten by ``rewrite``. ``mirror``: the target shall hold nothing else.
    """

    skip: tuple[Collection[str], Collection[str]] = ((), ())
    leave: Patterns | None = None
    keep: Patterns | None = None
    whole: Sequence[str] = ()
    loose: Callable[[str], bool] = lambda path: False
    withheld: Callable[[str], str] | None = None
    texts: Patterns | None = None
    rewrite: Callable[[bytes], bytes] = bytes
    mirror: bool = False
    theirs: DigestCache = msgspec.field(default_factory=DigestCache)
    ours: DigestCache = msgspec.field(default_factory=DigestCache)


class Unit(Struct, frozen=True):
    """A folder that switches over as a whole. ``copies`` are the entries of the target that it
    keeps; ``goes`` is what stands there, and without ``comes`` nothing takes its place."""

    path: str
    goes: Kind | None
    comes: bool
    copies: tuple[Entry, ...] = ()

    @property
    def move(self) -> Move:
        return Move(self.path, self.goes, "folder" if self.comes else None, True)


class Difference(Struct, frozen=True):
    """Entries of the source that are new or changed on the target, and those only it has.

    ``gone`` are removed there, ``only_there`` stay. ``replaced`` holds, by path, what a changed entry
    takes the place of. ``reused`` says where the target has an entry's content already; ``pieced``
    are big files of which only changed pieces are sent, ``texts`` those rewritten on the way (their
    size is the one they will have). ``left`` and ``kept`` count what stays behind and stays as it
    is; ``archives`` and ``passed`` (path and reason) are left by themselves; ``blocked`` are paths of the
    target (and what is there) at which nothing can come; ``altered`` were brought once and
    changed there since. ``listed`` are all entries of the source that count, changed or not, ``there`` all of the
    target.
    """

    new: tuple[Entry, ...] = ()
    changed: tuple[Entry, ...] = ()
    same: int = 0
    gone: tuple[Entry, ...] = ()
    only_there: tuple[Entry, ...] = ()
    replaced: Mapping[str, Entry] = {}
    reused: Mapping[str, str] = {}
    pieced: frozenset[str] = frozenset()
    texts: frozenset[str] = frozenset()
    units: tuple[Unit, ...] = ()
    left: int = 0
    kept: int = 0
    unused: tuple[str, ...] = ()
    archives: tuple[Entry, ...] = ()
    passed: tuple[tuple[str, str], ...] = ()
    blocked: tuple[tuple[str, str], ...] = ()
    altered: int = 0
    listed: tuple[Entry, ...] = ()
    there: tuple[Entry, ...] = ()

    @property
    def coming(self) -> tuple[Entry, ...]:
        return (*self.new, *self.changed)

    @property
    def size(self) -> int:
        """Bytes to send, of big changed files all that they hold."""
        return sum(entry.size for entry in self.coming if entry.path not in self.reused)

    @property
    def files(self) -> int:
        return sum(entry.kind != "folder" for entry in self.coming)

    @property
    def nothing(self) -> bool:
        return not (self.new or self.changed or self.gone)

    def moves(self) -> list[Move]:
        """The exchange: folders before what comes into them, then what goes, folders last."""
        whole = {unit.path for unit in self.units}
        inside = tuple(path + "/" for path in whole)

        def loose(entry: Entry) -> bool:
            return entry.path not in whole and not entry.path.startswith(inside)

        moves = [unit.move for unit in self.units if unit.comes]
        for entry in filter(loose, self.coming):
            old = self.replaced.get(entry.path)
            if old is not None and old.kind == entry.kind == "folder":
                continue
            moves.append(Move(entry.path, _kind(old) if old else None, _kind(entry)))
        moves.sort(key=lambda move: move.path.count("/"))
        moves += [unit.move for unit in self.units if not unit.comes]
        gone = [entry for entry in self.gone if loose(entry)]
        moves += [Move(entry.path, "file", None) for entry in gone if entry.kind != "folder"]
        folders = [entry.path for entry in gone if entry.kind == "folder"]
        folders.sort(key=lambda path: -path.count("/"))
        return [*moves, *(Move(path, "folder", None) for path in folders)]


class _Aside(Struct, frozen=True):
    """What is not compared: archives and ``withheld`` (path and reason) that do not come, ``left`` paths of the
    source, paths of the target that are ``kept`` (of which ``chosen`` by the terms), and ``blocked`` ones."""

    archives: list[Entry]
    withheld: list[tuple[str, str]]
    left: Collection[str]
    kept: list[str]
    chosen: int
    blocked: set[str]


@dataclass
class _Compared:
    """What became of the entries of the source; ``matched`` are the paths of the target that have a counterpart."""

    new: list[Entry] = field(default_factory=list)
    changed: list[Entry] = field(default_factory=list)
    replaced: dict[str, Entry] = field(default_factory=dict)
    same: int = 0
    matched: set[str] = field(default_factory=set)


def _kind(entry: Entry) -> Kind:
    return "folder" if entry.kind == "folder" else "file"


def compare_trees(
    source: SourceTree, target: SourceTree, folders: Sequence[str], terms: Terms | None = None
) -> Difference:
    """Compare ``folders`` of both trees.

    Equal size and time count as equal, unless the source brings digests along and the target's is
    known to differ; equal size with another time is settled by content.

    Raises:
        Clash: two names of the source are one on the target.
        FilesError: something could not be read.
    """
    with _uncollected():
        return _Comparison(source, target, folders, terms or Terms()).difference()


@contextlib.contextmanager
def _uncollected() -> Iterator[None]:
    """Without the search for cycles: thousands of entries make none, and it looks at all of them."""
    on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if on:
            gc.enable()


def selection(
    source: SourceTree, folders: Sequence[str], terms: Terms
) -> tuple[list[Entry], dict[str, str]]:
    """The entries of one tree that would be taken along, and those left by themselves with the reason."""
    return _Comparison(source, None, folders, terms).selected()


class _Comparison:
    def __init__(
        self,
        source: SourceTree,
        target: SourceTree | None,
        folders: Sequence[str],
        terms: Terms,
    ) -> None:
        self._source = source
        self._tree = target
        self._terms = terms
        self._target_listing = Manifest()
        self._same = False
        if target is None:
            self._source_listing = source.scan(folders, terms.skip[0], self._prune)
        else:
            with scanning(target, folders, terms.skip[1]) as ours:
                self._source_listing = source.scan(folders, terms.skip[0], self._prune)
                found = ours(self._source_listing)
            self._same = found is None
            self._target_listing = self._source_listing.copy() if found is None else found
        self._grain = max(source.grain, target.grain if target is not None else 1)
        self._algorithm = common_algorithm(source, target) if target is not None else ""
        self._contents: dict[tuple[bool, str], str] = {}  # digests, of ours or theirs, by path
        self._texts: set[str] = set()
        self._text_digests: dict[str, str] = {}
        self._reused: dict[str, str] = {}
        self._along: set[str] = set()  # what goes with its folder

    @property
    def _prune(self) -> tuple[str, ...]:
        """What need not be looked into at the source. What cannot be read there and is left is not worth a word."""
        return self._terms.leave.prune if self._terms.leave else ()

    @property
    def _target(self) -> SourceTree:
        assert self._tree is not None
        return self._tree

    def selected(self) -> tuple[list[Entry], dict[str, str]]:
        passed = {
            **self._source_listing.passed,
            **{entry.path: "archive" for entry in self._archives()},
        }
        passed |= dict(self._withheld())
        self._take_out_left()
        return sorted(self._source_listing.values()), passed

    def difference(self) -> Difference:
        alike = self._alike()
        if alike is not None:
            return alike
        theirs, ours, terms = self._source_listing, self._target_listing, self._terms
        every = list(theirs.values()) if terms.leave else []
        there = tuple(ours.values())
        aside = self._set_aside()
        found = self._compared(aside)
        only = self._only_ours(found.matched)
        staying = set(aside.kept)
        untold = {entry.path for entry in only if not theirs.tells_of(entry.path)}
        going = [entry for entry in only if entry.path not in staying]
        gone, altered = self._gone(going, untold, staying)
        self._find_moved(found.new, [*only, *found.replaced.values()])
        gone_paths = {entry.path for entry in gone}
        only_there = tuple(e for e in going if e.path not in gone_paths)
        stay = [ours[path] for path in aside.kept if path in ours]
        coming = [*found.new, *found.changed]
        units = self._units(coming, gone, found.replaced, [*only_there, *stay])
        return Difference(
            new=tuple(found.new),
            changed=tuple(found.changed),
            same=found.same,
            gone=tuple(gone),
            only_there=only_there,
            replaced=found.replaced,
            reused=self._reused,
            pieced=self._pieced(found),
            texts=frozenset(entry.path for entry in coming if entry.path in self._texts),
            units=tuple(units),
            left=len(aside.left),
            kept=aside.chosen,
            unused=tuple(terms.leave.unused(every)) if terms.leave else (),
            archives=tuple(aside.archives),
            passed=tuple(sorted([*theirs.passed.items(), *aside.withheld])),
            blocked=tuple((path, ours.passed.get(path, KEPT)) for path in sorted(aside.blocked)),
            altered=altered,
            listed=tuple(theirs.values()),
            there=there,
        )

    def _set_aside(self) -> _Aside:
        """Take out what does not come, and find what stays as it is."""
        ours, keep = self._target_listing, self._terms.keep
        archives, withheld, left = self._archives(), self._withheld(), self._take_out_left()
        kept = [path for path, entry in ours.items() if keep and keep.matches(entry)]
        for path in kept:
            self._source_listing.pop(path, None)
        own = [path for path, entry in ours.items() if self._is_withheld(entry)]
        blocked = self._take_out_blocked()
        return _Aside(
            archives=archives,
            withheld=withheld,
            left=left,
            kept=[*kept, *own],
            chosen=len(kept),
            blocked=blocked,
        )

    def _compared(self, aside: _Aside) -> _Compared:
        """Put each entry of the source beside that of the target which it would take the place of."""
        theirs, ours, texts = self._source_listing, self._target_listing, self._terms.texts
        folded = self._folded()
        found = _Compared(matched=set(aside.left))

        def counterpart(path: str) -> Entry | None:
            return ours.get(path) or (folded.get(_fold(path)) if folded else None)

        def is_text(entry: Entry) -> bool:
            return texts is not None and texts.matches_file(entry)

        self._learn_contents(
            (entry, other)
            for path, entry in theirs.items()
            if (other := counterpart(path)) is not None
            and entry.kind == other.kind == "file"
            and entry.size == other.size
            and not self._same_time(entry, other)
            and not is_text(entry)
        )
        for path, entry in theirs.items():
            other = counterpart(path)
            if entry == other and not is_text(entry):
                found.same += 1
                continue
            wanted = self._as_it_comes(entry, other)
            if other is None:
                found.new.append(wanted)
            elif self._differs(entry, wanted, other):
                found.changed.append(wanted)
                found.replaced[path] = other
            else:
                found.same += 1
                found.matched.add(other.path)
        found.new.sort()
        found.changed.sort()
        found.matched |= {entry.path for entry in found.replaced.values()}
        found.matched |= self._with_their_folders(
            found.changed, found.replaced, set(aside.kept), aside.blocked
        )
        return found

    def _only_ours(self, matched: Set[str]) -> list[Entry]:
        """What only the target has, and is not left out of the transfer."""
        leave = self._terms.leave
        return sorted(
            entry
            for path, entry in self._target_listing.items()
            if path not in self._source_listing
            and path not in matched
            and not (leave and leave.matches(entry))
        )

    def _pieced(self, found: _Compared) -> frozenset[str]:
        """Big files of which only the pieces that changed are sent."""
        if not self._algorithm:
            return frozenset()
        return frozenset(
            entry.path
            for entry in found.changed
            if entry.kind == "file"
            and entry.path not in self._reused
            and entry.path not in self._texts
            and min(entry.size, found.replaced[entry.path].size) >= BIG
        )

    def _alike(self) -> Difference | None:
        """The difference of two trees that look the same, which most do: there is none."""
        theirs, terms = self._source_listing, self._terms
        if terms.leave or terms.keep or not (self._same or theirs == self._target_listing):
            return None
        texts = terms.texts
        endings = (*_SUSPICIOUS, *(texts.endings or ("",))) if texts else _SUSPICIOUS
        suspicious = [path for path in theirs if path.endswith(endings)]
        if texts and any(texts.matches_file(theirs[path]) for path in suspicious):
            return None
        if self._target.folds_names:
            return None
        archives = [theirs[path] for path in suspicious if self._is_archive(theirs[path])]
        withheld = self._withheld()
        by_themselves = {entry.path for entry in archives} | set(filter(_is_litter, suspicious))
        by_themselves |= {path for path, _ in withheld}
        listed = tuple([entry for path, entry in theirs.items() if path not in by_themselves])
        return Difference(
            same=len(listed),
            archives=tuple(archives),
            passed=tuple(sorted([*theirs.passed.items(), *withheld])),
            listed=listed,
            there=tuple(theirs.values()),
        )

    def _is_archive(self, entry: Entry) -> bool:
        return (
            entry.kind == "file" and entry.path.endswith(ARCHIVES) and self._terms.loose(entry.path)
        )

    def _archives(self) -> list[Entry]:
        """Take out archives and dumps that lie beside the code, and what file managers leave."""
        leave = self._terms.leave
        taken: list[list[Entry]] = []
        for manifest in (
            self._source_listing,
            self._target_listing,
        ):  # nor does the target's own go
            found = [
                manifest[path]
                for path in [path for path in manifest if path.endswith(_SUSPICIOUS)]
                if _is_litter(path) or self._is_archive(manifest[path])
            ]
            found = [entry for entry in found if not (leave and leave.asks_for(entry))]
            for entry in found:
                del manifest[entry.path]
            taken.append(found)
        return [entry for entry in taken[0] if not _is_litter(entry.path)]

    def _withheld(self) -> list[tuple[str, str]]:
        """Take out what does not leave its environment; the source's, with why. What is in such folders goes with
        them."""
        terms = self._terms
        if terms.withheld is None:
            return []
        found = [
            (path, terms.withheld(path))
            for path, entry in self._source_listing.items()
            if self._is_withheld(entry)
        ]
        for path, _ in found:
            del self._source_listing[path]
        return found

    def _is_withheld(self, entry: Entry) -> bool:
        terms = self._terms
        if terms.withheld is None or not terms.withheld(entry.path):
            return False
        return not (terms.leave and terms.leave.asks_for(entry))

    def _take_out_left(self) -> list[str]:
        leave = self._terms.leave
        if not leave:
            return []
        left = [path for path, entry in self._source_listing.items() if leave.matches(entry)]
        for path in left:
            del self._source_listing[path]
        for path, reason in list(self._source_listing.passed.items()):
            if reason == UNREADABLE and leave.matches(Entry(path, "folder")):
                del self._source_listing.passed[path]
        return left

    def _take_out_blocked(self) -> set[str]:
        """What lies where the target has a link out of its root, or version control's folder."""
        passed = self._target_listing.passed
        shut = {*passed, *self._terms.skip[1]}
        inside = tuple(path + "/" for path in shut)
        found = set()
        for path in [
            path for path in self._source_listing if path in shut or path.startswith(inside)
        ]:
            del self._source_listing[path]
            found |= {p for p in passed if path == p or path.startswith(p + "/")}
        return found

    def _with_their_folders(
        self,
        changed: list[Entry],
        replaced: dict[str, Entry],
        kept: set[str],
        blocked: set[str],
    ) -> set[str]:
        """What goes because its folder gives way to a file or link, unless it is to be kept."""
        leave = self._terms.leave
        found: set[str] = set()
        for entry in list(changed):
            old = replaced[entry.path]
            if old.kind != "folder" or entry.kind == "folder":
                continue
            inside = [path for path in self._target_listing if path.startswith(old.path + "/")]
            stays = any(
                path in kept or (leave and leave.matches(self._target_listing[path]))
                for path in inside
            ) or any(path.startswith(old.path + "/") for path in self._target_listing.passed)
            if stays:
                changed.remove(entry)
                del replaced[entry.path]
                blocked.add(entry.path)
            else:
                self._along.update(inside)
            found.update(inside)
        return found

    def _folded(self) -> dict[str, Entry]:
        """The target's entries by the name that its file system compares; empty where it is exact.

        Raises:
            Clash: two names of the source would be one.
        """
        if not self._target.folds_names:
            return {}
        seen: dict[str, str] = {}
        for path in self._source_listing:
            other = seen.setdefault(_fold(path), path)
            if other != path:
                raise Clash(other, path)
        return {_fold(path): entry for path, entry in self._target_listing.items()}

    def _as_it_comes(self, entry: Entry, other: Entry | None) -> Entry:
        """An entry of the source with the size that it will have when it was rewritten."""
        texts = self._terms.texts
        if not texts or entry.kind != "file" or entry.size > LONGEST_TEXT:
            return entry
        if not texts.matches_file(entry):
            return entry
        content = self._terms.rewrite(b"".join(self._source.read(entry.path)))
        self._texts.add(entry.path)
        digest = digest_of([content])
        named = self._algorithm or "xxh128"
        self._text_digests[entry.path] = digest_of([content], named)
        return entry._replace(size=len(content), digest=digest)

    def _differs(self, entry: Entry, wanted: Entry, other: Entry) -> bool:
        if entry.kind != other.kind:
            return True
        if entry.kind == "folder":
            return False
        if entry.kind == "link":
            return entry.target != other.target
        runs = (entry.mode ^ other.mode) & 0o100
        if wanted.size != other.size:
            return True
        terms = self._terms
        if entry.path in self._texts:
            there = (
                self._content(other, True)
                if self._algorithm
                else terms.ours.digest(self._target, other)
            )
            differs = self._text_digests[entry.path] != there
        elif self._same_time(entry, other):
            known = entry.digest or terms.theirs.known(entry), terms.ours.known(other)
            differs = all(known) and known[0] != known[1]
        else:
            differs = self._contents_differ(entry, other)
        if runs and not differs:
            self._reused[entry.path] = other.path
        return bool(runs) or differs

    def _same_time(self, entry: Entry, other: Entry) -> bool:
        return entry.modified // self._grain == other.modified // self._grain

    def _contents_differ(self, entry: Entry, other: Entry) -> bool:
        """What is known is believed; where nothing can be known without sending it, it counts as
        different."""
        known = entry.digest or self._terms.theirs.known(entry), self._terms.ours.known(other)
        if all(known):
            return known[0] != known[1]
        if not self._algorithm:
            return True
        return self._content(entry, False) != self._content(other, True)

    def _content(self, entry: Entry, ours: bool) -> str:
        """A digest of a file by the algorithm of both sides."""
        found = self._contents.get((ours, entry.path))
        if found is None:
            self._learn(ours, [entry])
            found = self._contents[ours, entry.path]
        return found

    def _learn_contents(self, pairs: Iterable[tuple[Entry, Entry]]) -> None:
        """Learn the digests of files that will be compared, all of a side in one exchange."""
        if not self._algorithm:
            return
        terms = self._terms
        unknown = [
            (entry, other)
            for entry, other in pairs
            if not ((entry.digest or terms.theirs.known(entry)) and terms.ours.known(other))
        ]
        self._learn(False, [entry for entry, _ in unknown])
        self._learn(True, [other for _, other in unknown])

    def _learn(self, ours: bool, entries: Sequence[Entry]) -> None:
        name = self._algorithm
        memory = self._terms.ours if ours else self._terms.theirs
        tree: SourceTree = self._target if ours else self._source
        wanted = []
        for entry in entries:
            digest = entry.digest if name == "xxh128" else ""
            digest = digest or memory.known(entry, name)
            if digest:
                self._contents[ours, entry.path] = digest
            elif (ours, entry.path) not in self._contents:
                wanted.append(entry)
        if not wanted:
            return
        made = []
        for entry, found in zip(wanted, tree.digests([e.path for e in wanted], name), strict=True):
            if found is None:
                found = digest_of(tree.read(entry.path), name)  # says why it cannot be read
            self._contents[ours, entry.path] = found
            made.append(entry._replace(digest=found))
        memory.keep(made, algorithm=name)

    def _gone(
        self, going: Sequence[Entry], untold: Collection[str], staying: Collection[str]
    ) -> tuple[list[Entry], int]:
        """What is removed: what a transfer brought and nobody changed since, or, to mirror, all. What the source
        does not tell of (``untold``) stays, and so do folders with something in them that is ``staying``."""
        ours, mirror = self._terms.ours, self._terms.mirror
        gone = [e for e in going if e.path not in untold and (mirror or ours.brought(e))]
        paths = {entry.path for entry in gone}
        altered = sum(
            entry.kind != "folder" and entry.path not in paths and ours.ever_brought(entry.path)
            for entry in going
            if not mirror and entry.path not in untold
        )
        # A folder goes only if nothing stays in it.
        stay = {
            folder for entry in going if entry.path not in paths for folder in _above(entry.path)
        }
        stay |= {folder for path in staying for folder in _above(path)}
        return [entry for entry in gone if entry.path not in stay], altered

    def _find_moved(self, new: Sequence[Entry], there: Sequence[Entry]) -> None:
        """New files whose content the target has under another name."""
        by_size: dict[int, list[Entry]] = defaultdict(list)
        for entry in there:
            if entry.kind == "file" and entry.size:
                by_size[entry.size].append(entry)
        if not self._algorithm:
            return
        likely = [
            entry
            for entry in new
            if entry.kind == "file" and entry.size in by_size and entry.path not in self._texts
        ]
        self._learn(False, likely)
        self._learn(True, [other for entry in likely for other in by_size[entry.size]])
        for entry in likely:
            for there_already in by_size[entry.size]:
                if self._content(entry, False) == self._content(there_already, True):
                    self._reused[entry.path] = there_already.path
                    break

    def _units(
        self,
        coming: Sequence[Entry],
        gone: Sequence[Entry],
        replaced: Mapping[str, Entry],
        staying: Sequence[Entry],
    ) -> Iterator[Unit]:
        """The folders that switch over as a whole because something in them differs."""
        if not self._terms.whole:
            return
        folders = {
            entry.path if entry.kind == "folder" else entry.path.rpartition("/")[0]
            for entry in (*coming, *gone)
        }
        found = {unit_of(folder, self._terms.whole) for folder in folders}
        touched = sorted(found - {""})
        taken = {entry.path for entry in (*coming, *gone, *replaced.values())} | self._along
        for unit in touched:
            theirs, ours = self._source_listing.get(unit), self._target_listing.get(unit)
            if theirs is not None and theirs.kind != "folder":
                continue
            if ours is None and theirs is None:
                continue
            inside = unit + "/"
            foreign = (*self._target_listing.passed, *self._terms.skip[1])
            if any(path == unit or path.startswith(inside) for path in foreign):
                continue  # something of the target's own lies in it that we do not carry over
            stay = [entry for entry in staying if entry.path.startswith(inside)]
            goes: Kind | None = _kind(ours) if ours is not None else None
            if theirs is None:
                if not stay:
                    yield Unit(unit, goes, False)
                continue
            copies = [
                entry
                for path, entry in self._target_listing.items()
                if (path == unit or path.startswith(inside)) and path not in taken
            ]
            if sum(entry.size for entry in copies) <= _HEAVIEST_WHOLE:
                yield Unit(unit, goes, True, tuple(copies))


def unit_of(path: str, whole: Sequence[str]) -> str:
    """The folder, at or above ``path``, that fits one of the patterns; empty where none does."""
    parts = path.split("/")
    for pattern in whole:
        wanted = pattern.split("/")
        if len(parts) >= len(wanted) and all(map(fnmatchcase, parts, wanted)):
            return "/".join(parts[: len(wanted)])
    return ""


def _is_litter(path: str) -> bool:
    return path.rpartition("/")[2] in LITTER


def _above(path: str) -> Iterator[str]:
    while path := path.rpartition("/")[0]:
        yield path


def _fold(path: str) -> str:
    return unicodedata.normalize("NFC", path).casefold()
