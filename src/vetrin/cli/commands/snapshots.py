"""vetrin snapshots"""

from __future__ import annotations

import argparse
import contextlib
from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Any

from msgspec import Struct
from rich.text import Text

from ...config import Project, nearest
from ...errors import DamagedObject, ExitStatus, NoSnapshot, ProjectError
from ...jobs import Journals
from ...store import SHORT, Damage, Held, Manifest, Store, Verdict, judge, lease
from ..common import ago, journals_of, project_of
from ..console import Out, lead, number, plural, size
from ..grid import grid
from ..stored import described, stores_of
from .backup import harmed


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "List the snapshots in the store, all of them, or an environment's, or one by its ID or label;\n"
        "or prove, thin out or remove them. Size is what a snapshot holds; own size is what would be\n"
        "free without it: contents that several snapshots share belong to none of them alone."
    )
    parser.add_argument(
        "names", nargs="*", metavar="[ENV] [SNAPSHOT]",
        help="only this environment's; only this one, by its ID, its label, or newest",
    )  # fmt: skip
    what = parser.add_mutually_exclusive_group()
    what.add_argument(
        "--verify", action="store_true", help="read everything again and prove that it is whole"
    )
    what.add_argument(
        "--thin",
        action="store_true",
        help="remove those that the rules of [store.thin] do not keep",
    )
    what.add_argument("--remove", action="store_true", help="remove the named snapshot")
    parser.add_argument(
        "--all", action="store_true", help="list builds and baselines of transfers, too"
    )
    parser.epilog = """examples:
  vetrin snapshots
  vetrin snapshots --verify
  vetrin snapshots --thin --dry-run      what would go, and why
  vetrin snapshots production newest --verify
  vetrin snapshots k3f9ap --remove"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    stores = stores_of(project, out)
    asked = _asked(args.names, project, stores)
    if args.remove and asked.snapshot is None:
        raise ProjectError("--remove: name the snapshot, by its ID or its label")
    if args.thin and asked.snapshot is not None:
        raise ProjectError(
            "--thin goes by the rules of [store.thin]; --remove removes one snapshot"
        )
    if args.verify:
        return _verify(out, stores, asked)
    if args.thin:
        return _thin(args, out, stores[0], project, asked.environment)
    if args.remove:
        return _remove(args, out, stores, asked)
    return _list(args, out, stores, asked)


class _Asked(Struct, frozen=True):
    """Whose snapshots are meant, and which one of them; None for all."""

    environment: str | None = None
    snapshot: str | None = None

    def has(self, item: Manifest) -> bool:
        return self.environment in (None, item.environment)


def _asked(names: Sequence[str], project: Project, stores: Sequence[Store]) -> _Asked:
    """Raises ProjectError, NoSnapshot where a name is none that is known."""
    if len(names) > 2:
        raise ProjectError(
            "name an environment, a snapshot, or both: vetrin snapshots ENV SNAPSHOT"
        )
    # An environment that is no longer in vetrin.toml may have some.
    of_snapshots = {item.environment for store in stores for item in store.snapshots()}
    if names and names[0] in {*project.environments, *of_snapshots}:
        return _Asked(names[0], names[1] if len(names) == 2 else None)
    if len(names) == 2:
        project.environment(names[0])  # says that there is none, and which there are
    if names:
        known = sorted({*project.environments, *of_snapshots})
        try:
            _holding(stores, _Asked(None, names[0]))
        except NoSnapshot as error:
            raise ProjectError(
                f"{error}; nor is it an environment{nearest(names[0], known)}"
            ) from error
        return _Asked(None, names[0])
    return _Asked()


def _list(args: argparse.Namespace, out: Out, stores: Sequence[Store], asked: _Asked) -> int:
    harms: list[Damage] = []
    if asked.snapshot is None:
        chosen = stores[: None if args.all else 1]
    else:
        chosen = [_holding(stores, asked)[0]]
    found = [_Listed(args, store, harms, asked) for store in chosen]
    out.document(
        "snapshots",
        {
            "store": stores[0].where, "bytes": found[0].size, "sealed": stores[0].cipher.sealed,
            "snapshots": [line for listed in found for line in listed.as_json()],
            "damaged": [vars(harm) | {"digests": list(harm.digests)} for harm in harms],
        },
    )  # fmt: skip
    for listed in found:
        listed.show(out)
    return harmed(out, harms) if harms else ExitStatus.DONE


class _Listed:
    """What one store holds of what is to be listed."""

    def __init__(
        self, args: argparse.Namespace, store: Store, harms: list[Damage], asked: _Asked
    ) -> None:
        self._store = store
        self._known = store.snapshots(harms.append)
        self._own = store.own_sizes(self._known)
        if asked.snapshot is not None:
            self._shown = [store.get(asked.snapshot, asked.environment or "")]
        else:
            self._shown = [
                item
                for item in reversed(self._known)
                if asked.has(item) and (args.all or item.is_backup)
            ]
        self._verified = store.verified(self._shown)
        self.size = store.size()

    def as_json(self) -> list[dict[str, Any]]:
        return [
            _as_json(item, self._own, self._verified.get(item.id, ""))
            | {"store": self._store.where}
            for item in self._shown
        ]

    def show(self, out: Out) -> None:
        if not self._shown:
            out.show("There is no snapshot yet. `vetrin backup ENV` takes one.")
            return
        table = grid(
            "snapshot", "label", "environment", "taken", "parts", ">size", ">own", "verified"
        )
        own = self._own
        for item in self._shown:
            table.add_row(
                lead(item.id, "name"), _label(item), item.environment,
                ago(item.taken), _parts(item), size(item.size),
                size(own[item.id]) if item.id in own else "?", _when(self._verified.get(item.id, "")),
            )  # fmt: skip
        out.show(table)
        sealed = ", under a passphrase" if self._store.cipher.sealed else ""
        counts = [plural(sum(item.is_backup for item in self._known), "snapshot")]
        for purpose, what in (("build", ""), ("baseline", " of transfers")):
            if count := sum(item.purpose == purpose for item in self._known):
                counts.append(plural(count, purpose) + what)
        text = " and ".join(filter(None, (", ".join(counts[:-1]), counts[-1])))
        out.show(f"{text} in {self._store.where}: {size(self.size)}{sealed}")


def _label(item: Manifest) -> str:
    if item.purpose == "baseline":
        return f"baseline for {item.target}"
    if item.build is not None:
        return f"build {item.build.fingerprint[:SHORT]}"
    return item.label or ("import" if item.purpose == "import" else "")


def _as_json(item: Manifest, own: dict[str, int], verified: str) -> dict[str, Any]:
    return {
        "snapshot": item.id, "label": item.label or None, "environment": item.environment,
        "purpose": item.purpose, "target": item.target or None,
        "taken": item.taken, "parts": list(item.parts), "bytes": item.size,
        "own_bytes": own.get(item.id), "rows": item.rows,
        "files": item.files.count if item.files else 0, "verified": verified or None,
        "address": item.address, "build": item.build.fingerprint if item.build else None,
    }  # fmt: skip


def _parts(item: Manifest) -> str:
    found = []
    if item.data is not None:
        found.append(f"data ({number(item.rows)} rows)")
    files = [part for part in item.parts if part != "data"]
    if item.files is not None and files:
        found.append(f"{', '.join(files)} ({plural(item.files.count, 'file')})")
    if item.listed is not None:
        found.append(f"list of {plural(item.listed.count, 'file')}")
    return "\n".join(found)


def _when(moment: str) -> Text:
    return lead("no", "dim") if not moment else lead("✓ ", "good").append(ago(moment), style="")


def _verify(out: Out, stores: Sequence[Store], asked: _Asked) -> int:
    harms: list[Damage] = []
    if asked.snapshot is not None:
        store, item = _holding(stores, asked)
        chosen = [(store, [item])]
    else:
        chosen = [
            (store, [item for item in store.snapshots(harms.append) if asked.has(item)])
            for store in stores
        ]  # fmt: skip
    good = []
    for store, items in chosen:
        proved: dict[str, DamagedObject | None] = {}
        for item in items:
            out.say(f"reading {described(item)} of {item.environment} …")
            found = store.verify(item, proved)
            harms += found
            if not found:
                good.append(item)
    out.document(
        "verified",
        {
            "whole": [item.id for item in good],
            "damaged": [vars(harm) | {"digests": list(harm.digests)} for harm in harms],
        },
    )
    if good:
        out.show(lead("✓ ", "good").append(
            f"whole: {', '.join(described(item) for item in good)}", style=""
        ))  # fmt: skip
    return harmed(out, harms) if harms else ExitStatus.DONE


def _thin(
    args: argparse.Namespace, out: Out, store: Store, project: Project, environment: str | None
) -> int:
    rules = project.store.thin
    if not rules:
        raise ProjectError(
            "no rule says which snapshots stay; add [store.thin] with newest, daily, weekly, monthly, age "
            "or size"
        )
    with lease(store.backend, "thin"):
        known = store.snapshots(_stop)
        held = Held(
            store.verified(known).keys(),
            needed_baselines(known, list(project.environments))
            | needed_builds(known, project.environments, journals_of(project)),
            store.size(),
            store.own_sizes(known),
        )
        verdicts = judge(known, rules, datetime.now().astimezone(), held)
        if environment:
            verdicts = [
                verdict
                if verdict.stays or verdict.manifest.environment == environment
                else Verdict(verdict.manifest, True, f"not of {environment}")
                for verdict in verdicts
            ]
        going = [verdict.manifest for verdict in verdicts if not verdict.stays]
        _judged(out, verdicts)
        if args.dry_run:
            out.document("thinning", _verdicts(verdicts))
            out.say("dry run: nothing was removed")
            return ExitStatus.DONE
        if going:
            out.confirm(f"Remove {plural(len(going), 'snapshot')}?", args, target="store")
        for manifest in going:
            store.remove(manifest)
        _, freed = store.sweep()
    out.document("thinning", {**_verdicts(verdicts), "freed_bytes": freed})
    out.show(f"{plural(len(going), 'snapshot')} removed; {size(freed)} are free again")
    return ExitStatus.DONE


def _verdicts(verdicts: Sequence[Verdict]) -> dict[str, Any]:
    return {
        "snapshots": [
            {"snapshot": v.manifest.id, "environment": v.manifest.environment, "stays": v.stays, "why": v.why}
            for v in verdicts
        ]
    }  # fmt: skip


def _judged(out: Out, verdicts: Sequence[Verdict]) -> None:
    table = grid("snapshot", "label", "environment", "taken", "", "why")
    for verdict in reversed(verdicts):
        item = verdict.manifest
        table.add_row(
            lead(item.id, "name"), _label(item), item.environment, ago(item.taken),
            lead("stays", "") if verdict.stays else lead("goes", "warning"), verdict.why,
        )  # fmt: skip
    out.show(table)


def _holding(stores: Sequence[Store], asked: _Asked) -> tuple[Store, Manifest]:
    """The snapshot that is asked for, and the store that has it. Raises NoSnapshot."""
    name, environment = asked.snapshot or "newest", asked.environment or ""
    for store in stores[1:]:
        with contextlib.suppress(NoSnapshot):
            return store, store.get(name, environment)
    return stores[0], stores[0].get(name, environment)


def _remove(args: argparse.Namespace, out: Out, stores: Sequence[Store], asked: _Asked) -> int:
    store, item = _holding(stores, asked)
    with lease(store.backend, "thin"):
        item = store.get(item.id)
        if args.dry_run:
            out.say(f"dry run: {described(item)} of {item.environment} would be removed")
            return ExitStatus.DONE
        out.confirm(
            f"Remove snapshot {described(item)} of {item.environment}, taken {ago(item.taken)}?",
            args, target="store",
        )  # fmt: skip
        store.remove(item)
        _, freed = store.sweep()
    out.document("removed", {"snapshot": item.id, "freed_bytes": freed})
    out.show(f"Snapshot {described(item)} was removed; {size(freed)} are free again")
    return ExitStatus.DONE


def needed_baselines(known: Sequence[Manifest], environments: Sequence[str]) -> dict[str, str]:
    """The two newest baselines from each environment to each other one, with why they stay."""
    pairs: dict[tuple[str, str], list[Manifest]] = {}
    for item in known:
        if item.purpose == "baseline" and {item.environment, item.target} <= set(environments):
            pairs.setdefault((item.environment, item.target), []).append(item)
    needed = {}
    for (source, target), items in pairs.items():
        why = f"a merge of {source} and {target} needs it"
        for item in items[:-3:-1]:
            needed[item.id] = why
            why = f"{why}, once the last run is undone"
    return needed


def needed_builds(
    known: Sequence[Manifest], environments: Iterable[str], journals: Journals
) -> dict[str, str]:
    """The builds that the environments hold, and those that these replaced, with why they stay."""
    needed: dict[str, str] = {}
    for name in environments:
        on, *before = journals.builds_of(name) or [""]
        for item in known:
            if item.build is not None and item.build.fingerprint == on:
                needed[item.id] = f"it is on {name}"
            elif item.build is not None and item.build.fingerprint in before:
                needed.setdefault(item.id, f"{name} had it before")
    return needed


def _stop(harm: Damage) -> None:
    raise DamagedObject(harm.snapshot, f"(a manifest) cannot be read: {harm.reason}")
