"""How long a transfer took and will take, and what of it went over a line to another machine."""

from __future__ import annotations

import time

from ..site import ReadableSite
from .journal import Journals, Run
from .last_copy import standing_copy
from .plan import Plan

_LAST = 5  # runs that count
_FIXED = 1.0  # seconds that a run takes however little it moves


class Stopwatch:
    """Times a run, and counts the bytes on the lines to its sides meanwhile."""

    def __init__(self, *sites: ReadableSite) -> None:
        self._hosts = [
            host for site in sites if (host := getattr(site, "remote_host", None)) is not None
        ]
        self._since = time.monotonic()
        self._before = self._counted()

    def _counted(self) -> int:
        # Both sides may be on one host.
        return sum(host.measured().moved for host in {id(one): one for one in self._hosts}.values())

    @property
    def seconds(self) -> float:
        return round(time.monotonic() - self._since, 1)

    @property
    def line_bytes(self) -> int | None:
        """Bytes over the line, both ways; None where there is none."""
        return max(self._counted() - self._before, 0) if self._hosts else None

    def record(self, run: Run, plan: Plan, *, repeat: bool) -> None:
        """Put it on record for later estimates; part of a run tells nothing. ``repeat``: only what differed from
        the copy before had to move."""
        if not run.resumed:
            run.write(
                "took",
                seconds=self.seconds,
                bytes=work_of(plan),
                line_bytes=self.line_bytes,
                repeat=repeat,
            )


def work_of(plan: Plan) -> int:
    """The bytes that a plan reads and moves."""
    return plan.table_bytes + (plan.files.size if plan.files is not None else 0)


def time_for(plan: Plan, journals: Journals) -> float | None:
    """Seconds that a transfer will take, by the rates of the last ones between the same two environments; None where
    there was none."""
    from statistics import median  # it takes long to load, and most commands plan nothing

    repeat = not plan.full and standing_copy(journals, plan.source.name, plan.target.name)
    alike: list[float] = []
    rates: list[float] = []
    for run in journals.of(plan.target.name):
        took = run.took
        if run.source == plan.source.name and took.get("seconds") and took.get("bytes"):
            rate = took["bytes"] / max(took["seconds"] - _FIXED, 0.1)
            rates.append(rate)
            if bool(took.get("repeat")) == bool(repeat):
                alike.append(rate)
    found = (alike or rates)[:_LAST]
    return _FIXED + work_of(plan) / median(found) if found else None
