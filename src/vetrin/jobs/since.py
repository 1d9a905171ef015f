"""What an environment is compared with to tell what changed in it: a transfer, or a snapshot."""

from __future__ import annotations

from contextlib import suppress

from msgspec import Struct

from ..config import Environment, Leave
from ..errors import AddressError, NothingToDo, Refused
from ..inspect.compare import Expected
from ..merge import CommonState
from ..rewrite import Address
from ..site import PrefixedValues, ReadableSite, Rewriting, RowPipeline, mapping_for
from ..store import Manifest, Store
from .baseline_notes import Notes
from .common_states import common_since
from .exclusions import left_kinds, work_out
from .expected import own_of
from .journal import TRANSFERS, Journals, Run
from .last_copy import read
from .plan import Choices
from .row_changes import Earlier, Left


class Since(Struct, frozen=True):
    """What an environment is compared with: a ``manifest`` in a store, of a ``run`` where that is a baseline, and in
    which ``role`` the environment took part in it. ``common`` is what merges made of it since, ``written``
    tells where the target of that run was, and at what address, when its rows were written."""

    manifest: Manifest
    role: str
    run: Run | None = None
    common: CommonState | None = None
    written: Run | None = None

    @property
    def other(self) -> str:
        if self.run is None:
            return ""
        return self.run.target if self.role == "source" else self.run.source


def last_since(store: Store, journals: Journals, environment: Environment) -> Since:
    """The last transfer that the environment's data is of, else the last that read it.

    Raises:
        NothingToDo: there is none whose baseline is kept.
    """
    manifests = {item.id: item for item in store.snapshots() if item.purpose == "baseline"}
    for run in journals.standing(environment.name):
        if "data" in run.parts or "media" in run.parts:
            if run.baseline in manifests:
                manifest = manifests[run.baseline]
                common = _common(journals, run, manifest)
                return Since(
                    manifest=manifest,
                    role="target",
                    run=run,
                    common=common,
                    written=last_written(journals, run),
                )
            break  # what it holds is of something that is not known any more
    for run in sorted(journals.runs(), key=lambda run: -run.number):
        if run.source == environment.name and run.baseline in manifests:
            manifest = manifests[run.baseline]
            return Since(manifest, "source", run, _common(journals, run, manifest))
    raise NothingToDo(
        f"no transfer from or to {environment.name} is known that its content could be compared with",
        "after the next pull there is one; `--since SNAPSHOT` compares with a snapshot of it",
    )


def last_written(journals: Journals, run: Run) -> Run:
    """Whose root and address the rows of a transfer's target name, as far as they are as it left them: its own, or
    those of a rewriting in place since."""
    for one in journals.standing(run.target, (*TRANSFERS, "rewrite")):
        if one.number >= run.number:
            return one
    return run


def _common(journals: Journals, run: Run, manifest: Manifest) -> CommonState | None:
    """What merges left in common since a transfer; None where that cannot be read, so that its own content counts."""
    try:
        return common_since(journals, run, manifest)
    except Refused:
        return None


def earlier_of(site: ReadableSite, stored: ReadableSite, store: Store, since: Since) -> Earlier:
    """The copy that an environment is compared with, as the environment would have its rows."""
    run = since.run
    last = read(run.folder) if run is not None else None
    pipeline = None
    if since.role == "target":
        written = since.written
        root, address = (written.path, _address(written)) if written else ("", None)
        mapping = mapping_for(stored, site, [], root, address)
        rewriting = Rewriting(mapping, encoded=stored.encoded)
        pipeline = RowPipeline(rewriting, PrefixedValues.between(stored, site))
    if last is None or run is None:
        return Earlier(stored, store, pipeline=pipeline)
    return Earlier(
        site=stored, store=store, tables=last.tables, pieces=Notes(run).read(), pipeline=pipeline
    )


def _address(run: Run) -> Address | None:
    """What a run says of its target's address; None where it says nothing that is one."""
    with suppress(AddressError):
        return Address.parse(run.address)
    return None


def left_of(site: ReadableSite, since: Since, choices: Choices) -> Left:
    """What does not travel, by the names that the tables have here."""
    if since.run is None:
        return Left()
    leave = choices.leave
    kinds = left_kinds(site.definition, leave, choices.arrival)
    chosen = Leave(rows=kinds, where=leave.where)
    found = work_out(site, chosen, {}, frozenset())
    return Left(found.leave, found.replacements)


def own_since(site: ReadableSite, stored: ReadableSite, since: Since, choices: Choices) -> Expected:
    """What of a target is its own: what it kept, and what arrival set."""
    return own_of(stored, site, choices) if since.role == "target" else Expected()
