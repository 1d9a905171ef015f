"""Which snapshots stay when a store is thinned, by rules, for each environment."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from datetime import datetime, timedelta

from msgspec import Struct

from ..config import Thinning
from .manifest import Manifest

_PERIODS: tuple[tuple[str, Callable[[datetime], object]], ...] = (
    ("daily", lambda moment: moment.date()),
    ("weekly", lambda moment: moment.isocalendar()[:2]),
    ("monthly", lambda moment: (moment.year, moment.month)),
)


class Verdict(Struct, frozen=True):
    """What becomes of a snapshot, and why."""

    manifest: Manifest
    stays: bool
    why: str


class Held(Struct, frozen=True):
    """What a store holds: the IDs of ``verified`` snapshots, those that are ``needed`` with why, its size in bytes
    as a ``whole``, and what each snapshot alone takes of it (``own``)."""

    verified: Collection[str]
    needed: Mapping[str, str]
    whole: int
    own: Mapping[str, int]


def judge(
    manifests: Sequence[Manifest], rules: Thinning, now: datetime, held: Held
) -> list[Verdict]:
    """What becomes of each of some snapshots, in their order.

    The newest verified one of an environment stays, or where none is verified its newest one; builds are counted for
    themselves.
    """
    newest_first = sorted(manifests, key=_moment)[::-1]
    stays: dict[str, str] = dict(held.needed)
    chosen: dict[str, str] = {}
    for kind in dict.fromkeys(map(_kind, manifests)):
        mine = [m for m in newest_first if _kind(m) == kind and m.purpose != "baseline"]
        for name, why in _last(mine, held.verified):
            stays.setdefault(name, why)
        for name, why in _rotated(mine, rules):
            chosen.setdefault(name, why)
    verdicts = {
        item.id: Verdict(item, True, stays[item.id])
        if item.id in stays
        else _by_rules(item, rules, now, chosen)
        for item in manifests
    }
    if rules.size is not None:
        oldest_first = [item for item in newest_first[::-1] if item.id not in stays]
        verdicts.update(_over(rules.size, oldest_first, verdicts, held))
    return [verdicts[item.id] for item in manifests]


def _last(mine: Sequence[Manifest], verified: Collection[str]) -> Iterator[tuple[str, str]]:
    """The one that stays whatever the rules say; ``mine`` are of one kind, newest first."""
    proved = [item for item in mine if item.id in verified]
    for item in (proved or mine)[:1]:
        yield item.id, "the last verified one" if proved else "the only kind there is"


def _rotated(mine: Sequence[Manifest], rules: Thinning) -> Iterator[tuple[str, str]]:
    """Those that a rule counts among the ones to keep, with why; ``mine`` are of one kind, newest first."""
    for item in mine[: rules.newest or 0]:
        yield item.id, "among the newest"
    for name, period in _PERIODS:
        newest = {
            period(_moment(item)): item for item in reversed(mine)
        }  # the last one in it is the newest
        latest = sorted(newest.values(), key=_moment)[::-1]
        for item in latest[: getattr(rules, name) or 0]:
            yield item.id, f"kept {name}"


def _by_rules(item: Manifest, rules: Thinning, now: datetime, chosen: Mapping[str, str]) -> Verdict:
    """What becomes of one that nothing else holds; ``chosen`` are those that a rule keeps."""
    rotating = any(v is not None for v in (rules.newest, rules.daily, rules.weekly, rules.monthly))
    if item.purpose == "baseline":
        return Verdict(item, False, "no longer a baseline")
    if rules.age is not None and now - _moment(item) > timedelta(days=rules.age):
        return Verdict(item, False, f"older than {rules.age} days")
    if rotating and item.id not in chosen:
        return Verdict(item, False, "no rule keeps it")
    return Verdict(item, True, chosen.get(item.id, "no rule ends it"))


def _over(
    size: int, oldest_first: Sequence[Manifest], verdicts: Mapping[str, Verdict], held: Held
) -> Iterator[tuple[str, Verdict]]:
    """The oldest of those that would stay, until the store is no larger than ``size`` bytes."""
    goes = sum(held.own.get(v.manifest.id, 0) for v in verdicts.values() if not v.stays)
    left = held.whole - goes
    for item in oldest_first:
        if left <= size:
            return
        if verdicts[item.id].stays:
            left -= held.own.get(item.id, 0)
            yield item.id, Verdict(item, False, "the store is larger than it may be")


def _kind(manifest: Manifest) -> tuple[str, bool]:
    """What the rules count together: an environment's builds apart from its other snapshots."""
    return manifest.environment, manifest.build is not None


def _moment(manifest: Manifest) -> datetime:
    return datetime.fromisoformat(manifest.taken).astimezone()
