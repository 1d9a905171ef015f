"""Fuzzing the rewriting engine and the healer.

    python fuzz/rewrite.py [RUNS] [SEED]     mutates the committed corpus, RUNS times (20,000)

With atheris installed, ``python -m atheris fuzz/rewrite.py``-like coverage-guided runs can call
``one_input`` too. An input that breaks a guarantee is written to fuzz/corpus, to be kept there.
"""

from __future__ import annotations

import hashlib
import random
import sys
from pathlib import Path

from vetrin.rewrite import Address, Mapping, Rewriter, Tally
from vetrin.rewrite.heal import heal
from vetrin.rewrite.php_serialized import PhpError, looks_serialised, walk

CORPUS = Path(__file__).parent / "corpus"
OLD = Address.parse("https://www.harrowmere.example")
THERE = Mapping.build(
    addresses=[OLD], address=Address.parse("http://127.0.0.1:8080/railway"),
    roots=["/srv/www/harrowmere"], root="/home/ed/railway",
)  # fmt: skip
SAME = Mapping.build(
    addresses=[OLD], address=OLD, roots=["/srv/www/harrowmere"], root="/srv/www/harrowmere"
)
_TOKENS = [b'";', b"a:1:{", b"}", b's:30:"', b"https://www.harrowmere.example", b"\\/", b"%2F", b"\\", b'"',
           b"&#x2F;", b"//", b"@", b":443", b'{"a":"', b"i:0;", b"\0", b"\xff", b'href="/', b"/srv/www/harrowmere"]  # fmt: skip


def one_input(data: bytes) -> None:
    """Check the guarantees on one input.

    Raises:
        AssertionError: one of them does not hold.
    """
    tally = Tally()
    new = Rewriter(THERE).rewrite(data, tally)
    assert (new is data) == (tally.total == 0), "counted, but not changed, or the other way round"
    again = Tally()
    assert Rewriter(THERE).rewrite(data, again) == new and again == tally, "not the same twice"
    # What parsed before still parses, to the same end from behind.
    try:
        end = walk(data, len(data) - len(data.lstrip())).end
    except PhpError:
        pass
    else:
        if looks_serialised(data):
            assert len(new) - walk(new, len(new) - len(new.lstrip())).end == len(data) - end, (
                "a value was broken"
            )
    column = [data, None, b"", data[: len(data) // 2]]
    together, alone = Tally(), Tally()
    changed = Rewriter(THERE).rewrite_column(column, together)
    for index, value in enumerate(column):
        if value is not None:
            expected = Rewriter(THERE).rewrite(value, alone)
            assert changed.get(index, value) == expected, "a column differs from its values"
    # The address becomes itself, only its scheme may be written anew.
    same = Rewriter(SAME).rewrite(data, Tally())
    assert Rewriter(SAME).rewrite(same, Tally()) == same, "not stable"
    healed = heal(data)
    assert healed.state != "fine" or healed.value is data
    if healed.state == "healed" and looks_serialised(data):
        walk(healed.value, len(healed.value) - len(healed.value.lstrip()))


def mutate(chance: random.Random, data: bytes, pool: list[bytes]) -> bytes:
    for _ in range(chance.randrange(1, 5)):
        at = chance.randrange(len(data) + 1)
        kind = chance.randrange(5)
        if kind == 0:
            data = data[:at] + chance.choice(_TOKENS) + data[at:]
        elif kind == 1:
            data = data[:at] + data[at + chance.randrange(1, 9) :]
        elif kind == 2 and data:
            at = min(at, len(data) - 1)
            data = data[:at] + bytes([chance.randrange(256)]) + data[at + 1 :]
        elif kind == 3:
            other = chance.choice(pool)
            data = data[:at] + other[chance.randrange(len(other) + 1) :]
        else:
            data = b's:%d:"%b";' % (len(data), data)
    return data[:4000]


def run(runs: int, seed: int) -> int:
    """Mutate the corpus; how many inputs were tried."""
    chance = random.Random(seed)
    pool = [path.read_bytes() for path in sorted(CORPUS.iterdir())]
    for data in pool:
        one_input(data)
    for _ in range(runs):
        data = mutate(chance, chance.choice(pool), pool)
        try:
            one_input(data)
        except BaseException:
            (CORPUS / hashlib.sha1(data).hexdigest()[:16]).write_bytes(data)
            raise
    return len(pool) + runs


if __name__ == "__main__":
    numbers = [int(text) for text in sys.argv[1:]]
    print(run(*(numbers + [20_000, 1][len(numbers) :])), "inputs, no finding")
