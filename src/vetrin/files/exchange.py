"""What was staged takes the place of what stands there, by renames alone, and back.

Built to survive being killed at any point: what is new waits in ``.vetrin/TOKEN/new/PATH``, what is
replaced is parked in ``.vetrin/TOKEN/old/PATH``, and each step is one rename within the file system.
What lies in those two folders tells how far it came. Folders that come as a whole trade places with
what stands there in one step, so that there is no moment without one; then the old one lies for a
moment where the new one waited, and only its identity (device and inode, written down before the
first step in ``.vetrin/TOKEN/whole.json``) tells the two apart.
"""

from __future__ import annotations

import contextlib
import json
import os
import stat
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath

from .contract import Move
from .naming import swap_names

Identity = tuple[int, int]
_NOWHERE = "nowhere"


@dataclass
class Places:
    """Where things are during one exchange; ``at`` is the path that is being dealt with."""

    root: Path
    own: str
    token: str
    base: Callable[[str], str]
    at: str = ""
    identities: dict[str, Identity] = field(default_factory=dict)
    paths: frozenset[str] = frozenset()

    def of(self, path: str) -> tuple[Path, Path, Path]:
        """Where ``path`` is live, waiting and parked.

        A link that is itself exchanged leads from each of these places to somewhere else; what is
        behind it is none of ours, and the place is then one where nothing ever is.
        """
        self.at = path
        folder = self.root / self.base(path) / self.own / self.token
        above = [p.as_posix() for p in PurePosixPath(path).parents if p.as_posix() in self.paths]
        live, waiting, parked = (
            base / path if not any((base / p).is_symlink() for p in above) else folder / _NOWHERE
            for base in (self.root, folder / "new", folder / "old")
        )
        return live, waiting, parked


def remembered_identities(folder: Path) -> Path:
    return folder / "whole.json"


def exchange(places: Places, moves: Sequence[Move]) -> None:
    """Park what goes and bring what comes; once more does nothing."""
    places.paths = frozenset(move.path for move in moves)
    _remember(places, moves)
    for move in moves:
        live, waiting, parked = places.of(move.path)
        if live.name == _NOWHERE and live.parent.name == places.token:
            continue  # from before an interruption: what was behind the link is dealt with
        if move.whole:
            _bring_whole(move, live, waiting, parked, places.identities.get(move.path))
            continue
        if move.goes == "folder" and move.comes is None:
            if _is_folder(live):
                parked.mkdir(parents=True, exist_ok=True)
                parked.chmod(live.stat().st_mode & 0o7777)
                _remove_if_empty(live)
            continue
        # What stands there may be of the new kind already, from before an interruption.
        if move.goes and _there(live) and _is_folder(live) == (move.goes == "folder"):
            _park(live, parked)
        if move.comes == "folder" and not (move.goes and _is_folder(waiting)):
            if not _is_folder(live):
                _make(live, waiting)
        elif move.comes and _there(waiting) and not _there(live):
            _rename(waiting, live)


def put_back(places: Places, moves: Sequence[Move]) -> None:
    """Take an exchange back from wherever it came to; once more does nothing."""
    places.paths = frozenset(move.path for move in moves)
    places.identities = _recall(places)
    for move in reversed(moves):
        live, waiting, parked = places.of(move.path)
        if live.name == _NOWHERE and live.parent.name == places.token:
            continue
        if move.whole:
            _take_whole(live, waiting, parked, places.identities.get(move.path))
            continue
        if move.comes == "folder" and (move.goes is None or _there(waiting)):
            if move.goes is None or _there(parked):
                _remove_if_empty(live)
        elif (
            move.comes
            and _there(live)
            and not _there(waiting)
            and (move.goes is None or _there(parked))
        ):
            _rename(live, waiting)
        if move.goes == "folder" and move.comes is None:
            if not _is_folder(live):
                _make(live, parked)
        elif _there(parked) and not _there(live):
            _rename(parked, live)


def _bring_whole(move: Move, live: Path, waiting: Path, parked: Path, new: Identity | None) -> None:
    if move.comes is None:
        if _there(live) and not _there(parked):
            _rename(live, parked)
        return
    if _identity(live) != new:
        if not _there(live):
            _rename(waiting, live)
        elif move.goes is None:
            raise FileExistsError(17, "it came into being since the plan was made; run again")
        elif not swap_names(str(waiting), str(live)):
            _rename(live, parked)
            _rename(waiting, live)
    if _there(waiting) and not _there(parked):
        _rename(waiting, parked)


def _take_whole(live: Path, waiting: Path, parked: Path, new: Identity | None) -> None:
    if new is None:  # nothing came, at most something went
        if _there(parked) and not _there(live):
            _rename(parked, live)
        return
    if _identity(live) == new:
        if _there(waiting):
            _rename(waiting, parked)
        if not _there(parked) or not swap_names(str(parked), str(live)):
            _rename(live, waiting)
    if _identity(parked) == new:
        _rename(parked, waiting)
    if _there(parked) and not _there(live):
        _rename(parked, live)


def _remember(places: Places, moves: Sequence[Move]) -> None:
    """Write down who is who before the first of several folders trades places."""
    places.identities = _recall(places)
    wanted = [move.path for move in moves if move.whole and move.comes]
    if not wanted or places.identities:
        return
    for path in wanted:
        found = _identity(places.of(path)[1])
        if found is None:
            raise FileNotFoundError(2, "what was staged for it is gone")
        places.identities[path] = found
    folder = places.root / places.own / places.token
    folder.mkdir(parents=True, exist_ok=True)
    beside = folder / "whole.new"
    with beside.open("w", encoding="utf-8") as file:
        json.dump(places.identities, file)
        file.flush()
        os.fsync(file.fileno())
    beside.rename(remembered_identities(folder))


def _recall(places: Places) -> dict[str, Identity]:
    with contextlib.suppress(FileNotFoundError):
        folder = places.root / places.own / places.token
        text = remembered_identities(folder).read_text(encoding="utf-8")
        return {path: (int(d), int(i)) for path, (d, i) in json.loads(text).items()}
    return {}


def _identity(path: Path) -> Identity | None:
    try:
        about = path.lstat()
    except OSError:  # not there, or below a link that leads nowhere
        return None
    return about.st_dev, about.st_ino


def _rename(one: Path, other: Path) -> None:
    try:
        other.parent.mkdir(parents=True, exist_ok=True)
        one.rename(other)
    except PermissionError:
        # Folders that may not be written to: their owner may do so for a moment.
        with _open_up(one.parent, *other.parents):
            other.parent.mkdir(parents=True, exist_ok=True)
            mode = stat.S_IMODE(one.lstat().st_mode)
            if _is_folder(one):
                one.chmod(mode | stat.S_IRWXU)
            one.rename(other)
            if _is_folder(other):
                other.chmod(mode)


def _make(folder: Path, like: Path) -> None:
    """Make a folder with the mode of another one, where that one is there."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except PermissionError:
        with _open_up(*folder.parents):
            folder.mkdir(parents=True, exist_ok=True)
    if _is_folder(like):
        folder.chmod(like.stat().st_mode & 0o7777)


@contextlib.contextmanager
def _open_up(*folders: Path) -> Iterator[None]:
    """Let the owner write into these folders while the context lasts, as far as they are there."""
    shut = {}
    for folder in folders:
        if folder.is_dir() and not os.access(folder, os.W_OK | os.X_OK):
            mode = stat.S_IMODE(folder.stat().st_mode)
            try:
                folder.chmod(mode | stat.S_IRWXU)
            except PermissionError:
                continue  # if it matters, the step itself says so
            shut[folder] = mode
    try:
        yield
    finally:
        for folder, mode in shut.items():
            if folder.is_dir():
                folder.chmod(mode)


def _there(path: Path) -> bool:
    return os.path.lexists(path)


def _is_folder(path: Path) -> bool:
    return path.is_dir() and not path.is_symlink()


def _park(live: Path, parked: Path) -> None:
    """Rename ``live`` to ``parked``; a folder of which parts are parked already joins them."""
    if _is_folder(live) and parked.is_dir():
        for child in list(live.iterdir()):
            _park(child, parked / child.name)
        _remove_if_empty(live)
    elif not _there(parked):
        _rename(live, parked)


def _remove_if_empty(folder: Path) -> None:
    with contextlib.suppress(OSError):  # somebody put something in: it stays
        try:
            folder.rmdir()
        except PermissionError:
            with _open_up(folder.parent):
                folder.rmdir()
