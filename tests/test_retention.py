"""Which snapshots stay: what holds for any snapshots and any rules."""

from __future__ import annotations

from datetime import datetime, timedelta

from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from vetrin.cli.commands.snapshots import needed_baselines
from vetrin.config import Thinning
from vetrin.store import Held, Manifest, Verdict, judge

NOW = datetime.fromisoformat("2026-11-23T12:00:00+00:00")


def manifest(
    number: int, hours: float, environment: str, purpose: str, target: str = ""
) -> Manifest:
    taken = (NOW - timedelta(hours=hours)).isoformat(timespec="milliseconds")
    return Manifest(
        f"s{number:03d}", taken, environment, "production", "x", ("data",), "http://x.test", (), ("/x",),
        purpose=purpose, target=target,
    )  # fmt: skip


@st.composite
def stores(draw: st.DrawFn) -> tuple[list[Manifest], set[str], dict[str, int]]:
    """Snapshots, oldest first; which of them are verified; what each takes of the store alone."""
    hours = sorted(draw(st.lists(st.integers(0, 24 * 500), min_size=1, max_size=40)), reverse=True)
    known = []
    for number, hour in enumerate(hours):
        environment = draw(st.sampled_from(["production", "staging", "local"]))
        purpose = draw(st.sampled_from(["backup", "backup", "before", "import", "baseline"]))
        others = [name for name in ("production", "staging", "local") if name != environment]
        target = draw(st.sampled_from(others)) if purpose == "baseline" else ""
        known.append(manifest(number, hour, environment, purpose, target))
    verified = {item.id for item in known if draw(st.booleans())}
    own = {item.id: draw(st.integers(0, 50)) for item in known}
    return known, verified, own


counts = st.none() | st.integers(0, 6)
rules = st.builds(
    Thinning, newest=counts, daily=counts, weekly=counts, monthly=counts,
    age=st.none() | st.integers(1, 400), size=st.none() | st.integers(0, 1500),
)  # fmt: skip


def judged(
    store: tuple[list[Manifest], set[str], dict[str, int]], rules: Thinning
) -> tuple[list[Verdict], dict[str, str]]:
    known, verified, own = store
    needed = needed_baselines(known, ["production", "staging", "local"])
    return judge(known, rules, NOW, Held(verified, needed, sum(own.values()) + 100, own)), needed


@given(stores(), rules)
def test_what_must_stay_stays(
    store: tuple[list[Manifest], set[str], dict[str, int]], rules: Thinning
) -> None:
    known, verified, own = store
    verdicts, needed = judged(store, rules)
    assert [verdict.manifest for verdict in verdicts] == known
    assert all(verdict.why for verdict in verdicts)
    stays = {verdict.manifest.id for verdict in verdicts if verdict.stays}
    assert stays >= set(needed)
    for environment in ("production", "staging", "local"):
        mine = [m for m in known if m.environment == environment and m.purpose != "baseline"]
        proved = [item for item in mine if item.id in verified]
        for item in (proved or mine)[-1:]:
            assert item.id in stays
        young = [
            m for m in mine if rules.age is None or NOW - taken(m) <= timedelta(days=rules.age)
        ]
        if rules.size is None and rules.newest and young == mine:
            assert {item.id for item in mine[-rules.newest :]} <= stays
    # Where the store is still too large, nothing is left that could go.
    if rules.size is not None and 100 + sum(own[name] for name in stays) > rules.size:
        must = {
            v.manifest.id
            for v in verdicts
            if v.why in ("the last verified one", "the only kind there is")
        }
        assert stays <= must | set(needed)


def taken(item: Manifest) -> datetime:
    return datetime.fromisoformat(item.taken)


@given(stores(), rules)
def test_thinning_twice_is_thinning_once(
    store: tuple[list[Manifest], set[str], dict[str, int]], rules: Thinning
) -> None:
    _, verified, own = store
    verdicts, _ = judged(store, rules)
    left = [verdict.manifest for verdict in verdicts if verdict.stays]
    again, _ = judged(
        (left, verified & {m.id for m in left}, {m.id: own[m.id] for m in left}), rules
    )
    assert all(verdict.stays for verdict in again)


@given(stores(), rules, st.integers(0, 3))
def test_a_wider_rule_keeps_no_less(
    store: tuple[list[Manifest], set[str], dict[str, int]], rules: Thinning, more: int
) -> None:
    narrow = replace(rules, newest=rules.newest or 0, size=None)
    wide = replace(narrow, newest=(narrow.newest or 0) + more)
    kept = [{v.manifest.id for v in judged(store, one)[0] if v.stays} for one in (narrow, wide)]
    assert kept[0] <= kept[1]
