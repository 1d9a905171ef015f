"""Opening the store of a project, wherever it is."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from ..config import Project, store_passphrase
from ..database.page_prints import PagePrints
from ..errors import StoreError
from ..files import own_folder
from ..remote import Hosts
from .backend import Backend, FolderBackend
from .encryption import Cipher, cipher_of
from .proof import BY_DIGEST, KnownProof, Proof
from .store import Store

FOLDER = "store"


def open_store(
    hosts: Hosts,
    project: Project,
    *,
    writing: bool = False,
    here: bool = False,
    ask: Callable[[bool], str | None] = lambda new: None,
) -> Store:
    """The store that [store] of vetrin.toml names, else (and with ``here``) the project's own.

    ``ask`` is for the passphrase, where there is one and neither the environment variable nor the keyring
    has it; it is told whether the store gets it now. With ``writing``, an empty store that is to have a
    passphrase gets it.

    Raises:
        WrongPassphrase: it does not open the store.
        StoreError, ReachError: the store cannot be got at, or has no passphrase although the project says so.
    """
    backend = backend_of(hosts, project, here=here)
    if writing and (here or not project.store.place):
        own_folder(project.folder)
    has_one = backend.has("seal.json")
    wanted = writing and project.store.passphrase
    passphrase = None
    expected = project.store.passphrase and not here
    if expected and not has_one and next(iter(backend.names("snapshots")), None) is not None:
        raise StoreError(
            f"{backend.where}: vetrin.toml says that this store has a passphrase, and it has none. Was the "
            "passphrase added to vetrin.toml later? Then move the store away, and the next command begins one "
            "that has it. Else somebody may have put another in its place"
        )
    if has_one or wanted:
        passphrase = store_passphrase() or ask(not has_one)
    cipher = cipher_of(backend, passphrase, wanted=wanted)
    return Store(backend, cipher, proof_of(project.state, backend, cipher))


def proof_of(state: Path, backend: Backend, cipher: Cipher) -> Proof:
    """The contents of a store on this machine are known again; which ones a sealed one has is told nowhere else."""
    if not backend.is_remote and not cipher.sealed:
        return KnownProof(PagePrints(state / "contents.sqlite"))
    return BY_DIGEST


def backend_of(hosts: Hosts, project: Project, *, here: bool = False) -> Backend:
    place = project.store.place
    if not place or here:
        return FolderBackend(project.state / FOLDER)
    if place.startswith("sftp://"):
        # What reaches hosts and clouds is loaded only for a store that lies there.
        from .remote import remote_backend

        return remote_backend(hosts, place)
    if "://" in place:
        # As above.
        from .cloud import CloudBackend

        return CloudBackend(place)
    return FolderBackend(project.folder / Path(place).expanduser())
