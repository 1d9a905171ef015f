"""The committed corpus, and a short run of the fuzzer from it."""

from __future__ import annotations

import sys
from pathlib import Path

import pytest

sys.path.insert(0, str(Path(__file__).parent.parent / "fuzz"))

import rewrite as fuzz


@pytest.mark.parametrize("path", sorted(fuzz.CORPUS.iterdir()), ids=lambda path: path.name)
def test_corpus(path: Path) -> None:
    fuzz.one_input(path.read_bytes())


def test_a_short_run() -> None:
    assert fuzz.run(3000, 7) > 3000
