"""Whether an environment may be written to: by what its files and its database are, not by its name.

A configuration file that was copied along with a site still names the database of the site that it came from.
So before anything is written, where files and database of the target really are is compared with where those of
each environment are to which nothing may be written.

What was seen of such an environment is kept for a day in ``.vetrin/whereabouts.json``. It is looked at anew
where that is older, where it is on the same host as the target, and whenever the target would be refused.
"""

from __future__ import annotations

import hashlib
import json
import time
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import Any

from msgspec import Struct, to_builtins

from ..atomic import write_whole
from ..cms import SiteConfiguration
from ..config import Environment, Project
from ..database import Database
from ..errors import DatabaseError, FilesError, ProjectError, Protected, ReachError
from ..private import private_folder
from ..remark import Remark
from ..spot import Spot

_FRESH = 24 * 3600.0  # seconds for which it is believed where an environment was
_PATIENCE = 3600.0  # seconds until one that could not be reached is tried again
_FILE = "whereabouts.json"


class Whereabouts(Struct, frozen=True):
    """Where an environment is. ``server`` tells a database that a server has from others, ``store`` one that is a
    file; ``folded`` says that its server does not tell letter cases apart."""

    root: Spot | None = None
    store: Spot | None = None
    server: str = ""
    prefix: str = ""
    folded: bool = False

    def shares_files(self, other: Whereabouts) -> bool:
        return self.root is not None and other.root is not None and self.root.is_same(other.root)

    def shares_tables(self, other: Whereabouts) -> bool:
        """True if the tables are the same, as far as it can be told from afar."""
        ours, theirs = (self.server, self.prefix), (other.server, other.prefix)
        if self.folded or other.folded:
            ours, theirs = _folded(ours), _folded(theirs)
        if self.server:
            return ours == theirs
        stores = self.store is not None and other.store is not None
        return stores and self.store.is_same(other.store) and self.prefix == other.prefix  # type: ignore[union-attr, arg-type]


@dataclass
class Found:
    """An environment that was looked at: where it is, and its database where a server has it."""

    where: Whereabouts
    database: Database | None = None

    def has_tables_of(self, other: Found) -> bool:
        if not self.where.shares_tables(other.where):
            return False
        one, two = self.database, other.database
        return one is None or two is None or one.is_same(two)


Looker = Callable[[Environment], AbstractContextManager[Found]]


def prefix_of(environment: Environment, found: SiteConfiguration, like: SiteConfiguration) -> str:
    """The prefix that an environment without a configuration file will have."""
    mine = found.file is not None or "prefix" in environment.database
    return found.prefix if mine else like.prefix


def must_be_its_own(
    project: Project,
    target: Environment,
    found: Found,
    look: Looker,
    source: Environment | None = None,
) -> tuple[Remark, ...]:
    """What could not be made sure of.

    Raises:
        Protected: the target is, as a whole or in part, an environment that permits no writing, or the source.
    """
    unsure: list[Remark] = []
    known = _Known(project)
    for other in project.environments.values():
        mine = other.access == "read-write" and (source is None or other.name != source.name)
        if mine or other.name == target.name:
            continue
        if other.access == "closed" and other.host is not None:
            continue
        try:
            _compare(target, other, found, look, known)
        except (ReachError, DatabaseError, FilesError, ProjectError, OSError) as error:
            if isinstance(error, Protected):
                raise
            known.failed(other)
            unsure.append(
                Remark(
                    "not-sure-of-others",
                    f"{other.name} could not be looked at ({error}), "
                    f"so it is not sure that {target.name} shares nothing with it",
                )
            )
    return tuple(unsure)


def _compare(
    target: Environment, other: Environment, found: Found, look: Looker, known: _Known
) -> None:
    near = other.host is None or (
        target.host is not None and other.host.name.lower() == target.host.name.lower()
    )
    before = known.of(other, _FRESH)
    if (
        before is not None
        and not near
        and not before.shares_files(found.where)
        and not before.shares_tables(found.where)
    ):
        return
    if not near and before is None and known.in_vain(other):
        before = known.of(other)
        if before is None:
            raise ReachError(other.name, "host", "it could not be reached a while ago", "")
        _refuse(target, other, found, Found(before))
        return
    try:
        with look(other) as now:
            known.keep(other, now.where)
            _refuse(target, other, found, now)
    except (ReachError, DatabaseError, FilesError):
        before = known.of(other)
        if before is not None:
            _refuse(target, other, found, Found(before))
        raise


def _refuse(target: Environment, other: Environment, mine: Found, theirs: Found) -> None:
    name, why = target.name, "from which the data come"
    if other.access != "read-write":
        why = f"which is {other.access}: nothing may be written there"
    if mine.where.shares_files(theirs.where):
        raise Protected(
            name,
            "files",
            f"its root is that of {other.name}, {why}",
            f"correct root in [environment.{name}]",
        )
    if mine.has_tables_of(theirs):
        raise Protected(
            name,
            "database",
            f"its tables are those of {other.name}, {why}",
            f"correct the database in the configuration of {name}, or name its own in "
            f"[environment.{name}.database]",
        )


class _Known:
    """What is remembered of where environments are. A file that cannot be read counts as none."""

    def __init__(self, project: Project) -> None:
        self._path = project.state / _FILE
        self._all: dict[str, Any] = {}
        try:
            said = json.loads(self._path.read_bytes())
            self._all = said if isinstance(said, dict) else {}
        except (OSError, ValueError):
            pass

    def of(self, environment: Environment, younger: float = float("inf")) -> Whereabouts | None:
        kept = self._kept(environment)
        try:
            if "where" not in kept or time.time() - kept["at"] > younger:
                return None
            where = dict(kept["where"])
            for spot in ("root", "store"):
                if where[spot] is not None:
                    where[spot] = _spot(where[spot])
            return Whereabouts(**where)
        except (KeyError, TypeError, ValueError):
            return None

    def in_vain(self, environment: Environment) -> bool:
        """True if it was lately tried to reach it, without success."""
        failed = self._kept(environment).get("failed", 0)
        return isinstance(failed, (int, float)) and time.time() - failed < _PATIENCE

    def keep(self, environment: Environment, where: Whereabouts) -> None:
        kept = {"asked": _asked(environment), "at": time.time(), "where": to_builtins(where)}
        self._write(environment.name, kept)

    def failed(self, environment: Environment) -> None:
        kept = {**self._kept(environment), "asked": _asked(environment), "failed": time.time()}
        self._write(environment.name, kept)

    def _kept(self, environment: Environment) -> Mapping[str, Any]:
        kept = self._all.get(environment.name)
        same = isinstance(kept, dict) and kept.get("asked") == _asked(environment)
        return kept if same else {}  # type: ignore[return-value]

    def _write(self, name: str, kept: Mapping[str, Any]) -> None:
        self._all[name] = kept
        private_folder(self._path.parent)
        # Several runs may look at once; what is kept only spares a look.
        write_whole(self._path, json.dumps(self._all, indent=1).encode())


def _spot(kept: Mapping[str, Any]) -> Spot:
    identity = kept["identity"]
    return Spot(kept["machine"], kept["path"], None if identity is None else tuple(identity))


def _asked(environment: Environment) -> str:
    """What the project says of where an environment is, as a digest."""
    told = [str(environment.host), str(environment.root), sorted(environment.database.items())]
    return hashlib.sha256(json.dumps(told).encode()).hexdigest()


def _folded(texts: tuple[str, str]) -> tuple[str, str]:
    one, two = texts
    return one.lower(), two.lower()
