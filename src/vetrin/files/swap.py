"""What was staged takes the place of what stands there, by renames alone, and back.

Built to survive being killed at any point: what is new waits in ``.vetrin/TOKEN/new/PATH``, what is
replaced is parked in ``.vetrin/TOKEN/old/PATH``, and each step is one rename within the file system.
What lies in those two folders tells how far it came. Folders that come as a whole trade places with
what stands there in one step, so that there is no moment without one; then the old one lies for a
moment where the new one waited, and only its identity (device and inode, written down before the
first step in ``.vetrin/TOKEN/whole.json``) tells the two apart.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from ..errors import FilesError
from .base import Move
from .filesystem import FileSystem, Identity, PlannedFileSystem, Unforeseen
from .remote_machine import FileChange

_NOWHERE = "nowhere"


@dataclass
class Places:
    """Where things are during one exchange; ``at`` is the path that is being dealt with."""

    root: str
    own: str
    token: str
    base: Callable[[str], str]
    ground: FileSystem
    at: str = ""
    identities: dict[str, Identity] = field(default_factory=dict)
    paths: frozenset[str] = frozenset()

    def begin(self, moves: Sequence[Move]) -> None:
        """Get ready for some moves; what is there is looked at for all of them together."""
        self.paths = frozenset(move.path for move in moves)
        self.ground.foresee([place for move in moves for place in self._places(move.path)])

    def of(self, path: str) -> tuple[str, str, str]:
        """Where ``path`` is live, waiting and parked.

        A link that is itself exchanged leads from each of these places to somewhere else; what is
        behind it is none of ours, and the place is then one where nothing ever is.
        """
        self.at = path
        above = [path[:end] for end in _slashes(path) if path[:end] in self.paths]
        if not above:
            return self._places(path)
        link = self.ground.is_link
        live, waiting, parked = (
            place
            if not any(link(place.removesuffix(path) + p) for p in above)
            else f"{self._folder(path)}/{_NOWHERE}"
            for place in self._places(path)
        )
        return live, waiting, parked

    def is_nowhere(self, place: str) -> bool:
        return place.endswith(f"/{self.own}/{self.token}/{_NOWHERE}")

    def _places(self, path: str) -> tuple[str, str, str]:
        folder = self._folder(path)
        return f"{self.root}/{path}", f"{folder}/new/{path}", f"{folder}/old/{path}"

    def _folder(self, path: str) -> str:
        base = self.base(path)
        return f"{self.root}/{base}/{self.own}/{self.token}" if base else self.home

    @property
    def home(self) -> str:
        """The run's own folder, which also holds what it remembers."""
        return f"{self.root}/{self.own}/{self.token}"


def _slashes(path: str) -> list[int]:
    """Where the slashes of a path are, from the last one to the first."""
    return [at for at in range(len(path) - 1, 0, -1) if path[at] == "/"]


def remembered_identities(folder: str) -> str:
    return f"{folder}/whole.json"


def planned(
    places: Places, ground: PlannedFileSystem, moves: Sequence[Move]
) -> list[FileChange] | None:
    """What ``exchange`` would do, as acts; ``ground`` is that of ``places``. None where it cannot be foreseen.

    Raises:
        FilesError: something could not be looked at.
    """
    try:
        exchange(places, moves)
    except Unforeseen:
        return None
    except OSError as error:
        raise FilesError(f"{places.at or places.token}: {error.strerror or error}") from error
    return ground.acts


def exchange(places: Places, moves: Sequence[Move]) -> None:
    """Park what goes and bring what comes; once more does nothing."""
    places.begin(moves)
    ground = places.ground
    _remember(places, moves)
    for move in moves:
        live, waiting, parked = places.of(move.path)
        if places.is_nowhere(live):
            continue  # from before an interruption: what was behind the link is dealt with
        if move.whole:
            _bring_whole(places, move, live, waiting, parked)
            continue
        if move.goes == "folder" and move.comes is None:
            if ground.is_folder(live):
                ground.make(parked, live)
                ground.remove_if_empty(live)
            continue
        # What stands there may be of the new kind already, from before an interruption.
        if move.goes and ground.there(live) and ground.is_folder(live) == (move.goes == "folder"):
            _park(ground, live, parked)
        if move.comes == "folder" and not (move.goes and ground.is_folder(waiting)):
            if not ground.is_folder(live):
                ground.make(live, waiting)
        elif move.comes and ground.there(waiting) and not ground.there(live):
            ground.rename(waiting, live)
    ground.settle()


def put_back(places: Places, moves: Sequence[Move]) -> None:
    """Take an exchange back from wherever it came to; once more does nothing."""
    places.begin(moves)
    ground = places.ground
    there = ground.there
    places.identities = _recall(places)
    for move in reversed(moves):
        live, waiting, parked = places.of(move.path)
        if places.is_nowhere(live):
            continue
        if move.whole:
            _take_whole(places, move, live, waiting, parked)
            continue
        if move.comes == "folder" and (move.goes is None or there(waiting)):
            if move.goes is None or there(parked):
                ground.remove_if_empty(live)
        elif (
            move.comes
            and there(live)
            and not there(waiting)
            and (move.goes is None or there(parked))
        ):
            ground.rename(live, waiting)
        if move.goes == "folder" and move.comes is None:
            if not ground.is_folder(live):
                ground.make(live, parked)
        elif there(parked) and not there(live):
            ground.rename(parked, live)
    ground.settle()


def _bring_whole(places: Places, move: Move, live: str, waiting: str, parked: str) -> None:
    ground = places.ground
    there, rename = ground.there, ground.rename
    if move.comes is None:
        if there(live) and not there(parked):
            rename(live, parked)
        return
    if not ground.knows_identities:
        # Two renames, one directly after the other; what is parked and what waits tell the state.
        if move.goes is None and there(waiting) and there(live):
            raise FileExistsError(17, "it came into being since the plan was made; run again")
        if there(waiting) and there(live) and not there(parked):
            rename(live, parked)
        if there(waiting) and not there(live):
            rename(waiting, live)
        return
    if ground.identity(live) != places.identities.get(move.path):
        if not there(live):
            rename(waiting, live)
        elif move.goes is None:
            raise FileExistsError(17, "it came into being since the plan was made; run again")
        elif not ground.swap(waiting, live):
            rename(live, parked)
            rename(waiting, live)
    if there(waiting) and not there(parked):
        rename(waiting, parked)


def _take_whole(places: Places, move: Move, live: str, waiting: str, parked: str) -> None:
    ground = places.ground
    there, rename = ground.there, ground.rename
    if not ground.knows_identities:
        came = move.comes is not None and not there(waiting)
        if came and there(live) and (move.goes is None or there(parked)):
            rename(live, waiting)
        if there(parked) and not there(live):
            rename(parked, live)
        return
    new = places.identities.get(move.path)
    if new is None:  # nothing came, at most something went
        if there(parked) and not there(live):
            rename(parked, live)
        return
    if ground.identity(live) == new:
        if there(waiting):
            rename(waiting, parked)
        if not there(parked) or not ground.swap(parked, live):
            rename(live, waiting)
    if ground.identity(parked) == new:
        rename(parked, waiting)
    if there(parked) and not there(live):
        rename(parked, live)


def _remember(places: Places, moves: Sequence[Move]) -> None:
    """Record folder identities before the first swap."""
    if not places.ground.knows_identities:
        return
    places.identities = _recall(places)
    wanted = [move.path for move in moves if move.whole and move.comes]
    if not wanted or places.identities:
        return
    for path in wanted:
        found = places.ground.identity(places.of(path)[1])
        if found is None:
            raise FileNotFoundError(2, "what was staged for it is gone")
        places.identities[path] = found
    places.ground.write(
        remembered_identities(places.home), json.dumps(places.identities).encode("ascii")
    )


def _recall(places: Places) -> dict[str, Identity]:
    text = places.ground.read(remembered_identities(places.home))
    if text is None:
        return {}
    return {path: (int(d), int(i)) for path, (d, i) in json.loads(text).items()}


def _park(ground: FileSystem, live: str, parked: str) -> None:
    """Rename ``live`` to ``parked``; a folder of which parts are parked already joins them."""
    if ground.is_folder(live) and ground.is_folder(parked):
        for name in ground.children(live):
            _park(ground, f"{live}/{name}", f"{parked}/{name}")
        ground.remove_if_empty(live)
    elif not ground.there(parked):
        ground.rename(live, parked)
