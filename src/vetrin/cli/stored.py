"""What the commands share that work with the store."""

from __future__ import annotations

import argparse
import getpass

from ..project import STORE_VARIABLE, Project
from ..store import Manifest, Store, StoreError, open_store
from ..sync import Keeping
from .console import Out, lead


def store_of(project: Project, out: Out, *, writing: bool = False) -> Store:
    """The project's store; asks for its passphrase at a terminal.

    Raises:
        StoreError: it can not be opened.
    """

    def ask() -> str | None:
        if not out.at_terminal or out.json:
            raise StoreError(
                f"the store needs its passphrase, and nobody is there to be asked: set {STORE_VARIABLE}, "
                "or put it into the keyring (service vetrin, user store)"
            )
        return getpass.getpass("Passphrase of the store: ")

    return open_store(project, writing=writing, ask=ask)


def keeping_for(project: Project, out: Out, *, production: bool, skip: bool) -> Keeping | None:
    """Where a run keeps what it replaces; None where it does not."""
    if not production or skip or not project.store.before:
        return None
    return Keeping(store_of(project, out, writing=True), list(project.environments.values()))


def add_skip(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--skip-backup", action="store_true",
        help="into production without a snapshot of what is there",
    )  # fmt: skip


def show_way_back(out: Out, keeping: Keeping | None) -> None:
    if keeping is not None:
        text = "a snapshot of what is replaced is taken and proved first"
        out.show(lead("Way back: ", "bold").append(text, style=""))


def described(manifest: Manifest) -> str:
    """“k3f9ap (before the redesign)”."""
    return f"{manifest.id} ({manifest.label})" if manifest.label else manifest.id
