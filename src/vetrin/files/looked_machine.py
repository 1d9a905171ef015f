"""Another machine's files, of which nothing need be asked twice while they are looked at."""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import Any, cast

from .remote_machine import FileStatus, Machine, ScannedParts


class LookedMachine:
    """Implements ``Machine`` over another one. In ``looking``, what it said of paths, folders and trees counts until
    something is written."""

    def __init__(self, machine: Machine) -> None:
        self._machine = machine
        self._known: dict[object, Any] | None = None

    @contextlib.contextmanager
    def looking(self) -> Iterator[None]:
        outermost = self._known is None
        if outermost:
            self._known = {}
        try:
            yield
        finally:
            if outermost:
                self._known = None

    def look(self, paths: Sequence[str], *, follow: bool = False) -> list[FileStatus | None]:
        known = self._known
        if known is None or not paths:
            return self._machine.look(paths, follow=follow) if paths else []
        for path in paths if follow else ():
            there = known.get((path, False))
            if (path, False) in known and (there is None or there.kind != "link"):
                known[path, True] = there
        unknown = [path for path in dict.fromkeys(paths) if (path, follow) not in known]
        if unknown:
            found = self._machine.look(unknown, follow=follow)
            for path, status in zip(unknown, found, strict=True):
                known[path, follow] = status
        return [known[path, follow] for path in paths]

    def scan(
        self,
        folders: Sequence[str],
        skip: Collection[str],
        shut: Collection[str],
        prune: tuple[str, Sequence[str]] = ("", ()),
    ) -> Iterator[tuple[str, FileStatus]]:
        if not folders:
            return
        known = self._known
        if known is None:
            yield from self._machine.scan(folders, skip, shut, prune)
            return
        asked = ("scan", *folders), *map(frozenset, (skip, shut)), prune[0], *prune[1]
        if asked not in known:
            known[asked] = [*self._machine.scan(folders, skip, shut, prune)]
        yield from known[asked]

    def scan_parts(
        self,
        folders: Sequence[str],
        skip: Collection[str],
        shut: Collection[str],
        prune: tuple[str, Sequence[str]],
        known: Mapping[int, str],
    ) -> ScannedParts | None:
        seen = self._known
        if seen is None or not folders:
            return self._machine.scan_parts(folders, skip, shut, prune, known)
        asked = (
            *("parts", *folders), *map(frozenset, (skip, shut)), prune[0], *prune[1],
            frozenset(known.items()),
        )  # fmt: skip
        if asked not in seen:
            seen[asked] = self._machine.scan_parts(folders, skip, shut, prune, known)
        return cast(ScannedParts | None, seen[asked])

    def names(self, folder: str) -> list[tuple[str, FileStatus]]:
        return cast(list[tuple[str, FileStatus]], self._once(self._machine.names, folder))

    def names_of(self, folders: Sequence[str]) -> list[list[tuple[str, FileStatus]]]:
        known = self._known
        if known is None or not folders:
            return self._machine.names_of(folders) if folders else []
        unknown = [folder for folder in dict.fromkeys(folders) if ("names", folder) not in known]
        if unknown:
            for folder, found in zip(unknown, self._machine.names_of(unknown), strict=True):
                known["names", folder] = found
        return [known["names", folder] for folder in folders]

    def real(self, path: str) -> str:
        return cast(str, self._once(self._machine.real, path))

    def _once(self, ask: Any, path: str) -> Any:
        known = self._known
        if known is None:
            return ask(path)
        asked = ask.__name__, path
        if asked not in known:
            known[asked] = ask(path)
        return known[asked]

    def __getattr__(self, name: str) -> Any:
        if name in ("write_many", "act", "remove") and self._known is not None:
            self._known.clear()
        return getattr(self._machine, name)
