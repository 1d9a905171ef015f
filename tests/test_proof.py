"""Contents that are known again without their digest being made."""

from __future__ import annotations

from pathlib import Path

import pytest

from vetrin.database.page_prints import PagePrints
from vetrin.store.backend import FolderBackend
from vetrin.store.cloud import CloudBackend
from vetrin.store.encryption import NoCipher, cipher_of
from vetrin.store.open import proof_of
from vetrin.store.proof import BY_DIGEST, KnownProof, fingerprint

PAGE = b"09:40 Harrowmere, 10:05 Coppice Halt\n" * 3000
OTHER = PAGE.replace(b"10:05", b"10:50", 1)


@pytest.fixture
def hashed(monkeypatch: pytest.MonkeyPatch) -> list[bytes]:
    """The contents of which a digest is made."""
    found: list[bytes] = []

    def noted(content: bytes) -> str:
        found.append(content)
        return fingerprint(content)

    monkeypatch.setattr("vetrin.store.proof.fingerprint", noted)
    return found


def test_what_was_named_or_proved_once_is_known_again(tmp_path: Path, hashed: list[bytes]) -> None:
    path = tmp_path / "contents.sqlite"
    first = KnownProof(PagePrints(path))
    assert first.name(PAGE) == fingerprint(PAGE)
    assert first.fits(OTHER, fingerprint(OTHER))
    assert hashed == [PAGE, OTHER]
    first.keep()
    later = KnownProof(PagePrints(path))
    for proof in (first, later):
        proof.expect([fingerprint(PAGE), fingerprint(OTHER)])
        assert proof.fits(PAGE, fingerprint(PAGE))
        assert proof.fits(OTHER, fingerprint(OTHER))
    assert len(hashed) == 2


def test_only_the_digest_counts_where_it_looks_otherwise(hashed: list[bytes]) -> None:
    prints = PagePrints()
    proof = KnownProof(prints)
    digest = proof.name(PAGE)
    for content in (OTHER, PAGE[:-1], b""):
        assert not proof.fits(content, digest)
    assert hashed == [PAGE, OTHER, PAGE[:-1], b""]
    # What is remembered may be wrong, as its file may have been damaged.
    prints.learn(digest, prints.print_of(PAGE[1:]))
    assert proof.fits(PAGE, digest)
    assert len(hashed) == 5


def test_it_is_that_of_a_store_on_this_machine_that_is_not_sealed(tmp_path: Path) -> None:
    here = FolderBackend(tmp_path / "store")
    found = proof_of(tmp_path, here, NoCipher())
    found.name(PAGE)
    found.keep()
    assert KnownProof(PagePrints(tmp_path / "contents.sqlite")).fits(PAGE, fingerprint(PAGE))
    assert proof_of(tmp_path, here, cipher_of(here, "steam", wanted=True)) is BY_DIGEST
    assert proof_of(tmp_path, CloudBackend("memory://harrowmere"), NoCipher()) is BY_DIGEST
