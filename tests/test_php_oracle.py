"""PHP is the oracle: its own recursive replacement against ours, byte for byte."""

from __future__ import annotations

import base64
import subprocess
from pathlib import Path

import pytest

from systems import program
from vetrin.rewrite import Address, Mapping, Rewriter, Tally
from vetrin.rewrite.php_serialized import walk

SCRIPT = Path(__file__).parent / "oracle" / "generate.php"
REWRITER = Rewriter(
    Mapping.build(
        addresses=[Address.parse("https://www.harrowmere.example")],
        address=Address.parse("http://127.0.0.1:8080"),
        roots=["/srv/www/harrowmere"],
        root="/home/ed/railway",
    )
)


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_values_of_all_types(seed: int) -> None:
    done = subprocess.run(
        [program("php"), str(SCRIPT), str(seed), "2000"], capture_output=True, text=True, check=True
    )
    cases = [tuple(map(base64.b64decode, line.split("\t"))) for line in done.stdout.splitlines()]
    assert len(cases) == 2000
    changed = 0
    for original, expected in cases:
        tally = Tally()
        result = REWRITER.rewrite(original, tally)
        assert result == expected, original
        assert tally.broken == 0
        assert walk(original).end == len(original)
        changed += result is not original
    assert changed > 700
