"""Which snapshots stay when a store is thinned, by rules, for each environment."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from ..config import Thinning
from .manifest import Manifest

_PERIODS: tuple[tuple[str, Callable[[datetime], object]], ...] = (
    ("daily", lambda moment: moment.date()),
    ("weekly", lambda moment: moment.isocalendar()[:2]),
    ("monthly", lambda moment: (moment.year, moment.month)),
)


@dataclass(frozen=True)
class Verdict:
    """What becomes of a snapshot, and why."""

    manifest: Manifest
    stays: bool
    why: str


def judge(
    manifests: Sequence[Manifest],
    rules: Thinning,
    now: datetime,
    verified: Collection[str],
    needed: Mapping[str, str],
    whole: int,
    own: Mapping[str, int],
) -> list[Verdict]:
    """What becomes of each of some snapshots, oldest first.

    ``verified`` and ``needed`` hold IDs; the latter with why each is needed. The newest verified one of an
    environment stays, or where none is verified its newest one; builds are counted for themselves. ``whole`` is
    the size of the store and ``own`` what each snapshot alone takes of it.
    """
    stays: dict[str, str] = dict(needed)
    rotating = any(v is not None for v in (rules.newest, rules.daily, rules.weekly, rules.monthly))
    chosen: dict[str, str] = {}
    newest_first = sorted(manifests, key=_moment)[::-1]
    for environment, build in dict.fromkeys(map(_kind, manifests)):
        mine = [
            item
            for item in newest_first
            if _kind(item) == (environment, build) and item.purpose != "baseline"
        ]
        proved = [item for item in mine if item.id in verified]
        for item in (proved or mine)[:1]:
            stays.setdefault(
                item.id, "the last verified one" if proved else "the only kind there is"
            )
        for item in mine[: rules.newest or 0]:
            chosen.setdefault(item.id, "among the newest")
        for name, period in _PERIODS:
            seen: set[object] = set()
            for item in mine:
                key = period(_moment(item))
                if key not in seen and len(seen) < (getattr(rules, name) or 0):
                    seen.add(key)
                    chosen.setdefault(item.id, f"kept {name}")
    verdicts: dict[str, Verdict] = {}
    for item in manifests:
        old = rules.age is not None and now - _moment(item) > timedelta(days=rules.age)
        if item.id in stays:
            verdicts[item.id] = Verdict(item, True, stays[item.id])
        elif item.purpose == "baseline":
            verdicts[item.id] = Verdict(item, False, "no longer a baseline")
        elif old:
            verdicts[item.id] = Verdict(item, False, f"older than {rules.age} days")
        elif rotating and item.id not in chosen:
            verdicts[item.id] = Verdict(item, False, "no rule keeps it")
        else:
            verdicts[item.id] = Verdict(item, True, chosen.get(item.id, "no rule ends it"))
    if rules.size is not None:
        left = whole - sum(own.get(v.manifest.id, 0) for v in verdicts.values() if not v.stays)
        for item in sorted(manifests, key=_moment):
            if left <= rules.size:
                break
            if verdicts[item.id].stays and item.id not in stays:
                verdicts[item.id] = Verdict(item, False, "the store is larger than it may be")
                left -= own.get(item.id, 0)
    return [verdicts[item.id] for item in manifests]


def _kind(manifest: Manifest) -> tuple[str, bool]:
    """What the rules count together: an environment's builds apart from its other snapshots."""
    return manifest.environment, manifest.build is not None


def _moment(manifest: Manifest) -> datetime:
    return datetime.fromisoformat(manifest.taken).astimezone()
