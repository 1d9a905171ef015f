"""What the commands share that work with the store."""

from __future__ import annotations

import argparse

from ..config import STORE_VARIABLE, Project
from ..errors import StoreError
from ..jobs import Keeping, Plan
from ..store import Manifest, Store, open_store
from .console import Out, lead


def store_of(project: Project, out: Out, *, writing: bool = False, here: bool = False) -> Store:
    """The project's store, or with ``here`` the one on this machine; asks for its passphrase at a terminal.

    Raises:
        StoreError: it cannot be opened.
    """

    def ask(new: bool) -> str | None:
        if not out.at_terminal or out.json:
            raise StoreError(
                f"the store needs its passphrase, and nobody is there to be asked: set {STORE_VARIABLE}, "
                "or put it into the keyring (service vetrin, user store)"
            )
        return out.secret("Passphrase of the store", twice=new)

    return open_store(out.hosts, project, writing=writing, here=here, ask=ask)


def stores_of(project: Project, out: Out) -> list[Store]:
    """The project's store, and the one on this machine where that is another one that has baselines."""
    stores = [store_of(project, out)]
    if project.store.place and (project.state / "store" / "snapshots").is_dir():
        stores.append(store_of(project, out, here=True))
    return stores


def baselines_of(project: Project, out: Out, plan: Plan) -> Store | None:
    """The store for the baseline of a transfer: on this machine, as the copies are that it is of. None where
    it cannot be opened without asking."""
    if plan.kind not in ("pull", "push"):
        return None
    try:
        return open_store(out.hosts, project, writing=True, here=True)
    except StoreError as error:
        out.say(f"no baseline for a later merge is kept: {error}")
        return None


def add_plan(parser: argparse.ArgumentParser) -> None:
    """The options of every command that makes a plan and carries it out."""
    parser.add_argument(
        "--list", action="store_true", dest="every_file", help="name every file of the plan"
    )
    parser.add_argument(
        "--skip-backup", action="store_true",
        help="do not snapshot production first",
    )  # fmt: skip


def show_way_back(out: Out, keeping: Keeping | None) -> None:
    if keeping is not None:
        text = "a snapshot of what is replaced is taken and proved first"
        out.show(lead("Way back: ", "bold").append(text, style=""))


def described(manifest: Manifest) -> str:
    """“k3f9ap (before the redesign)”."""
    return f"{manifest.id} ({manifest.label})" if manifest.label else manifest.id
