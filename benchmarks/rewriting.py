"""The rewriting engine's speed as ratios: python benchmarks/rewriting.py

Against a plain search, a plain regular expression (neither of which does any of the work), and PHP's
own unserialize and serialize. Needs php.
"""

from __future__ import annotations

import json
import random
import re
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from systems import program
from vetrin.demo.serialise import serialise
from vetrin.rewrite import Address, Mapping, Rewriter, Tally

OLD = "https://www.harrowmere.example"
NEW = "http://harrowmere.test:8080"


def mapping(pairs: int = 2) -> Mapping:
    """One address and one path, and further addresses up to ``pairs``."""
    more = [
        Address.parse(f"https://branch-{number}.railway{number % 9}.test")
        for number in range(pairs - 2)
    ]
    return Mapping.build(
        addresses=[Address.parse(OLD), *more],
        address=Address.parse(NEW),
        roots=["/srv/www/harrowmere"],
        root="/home/ed/railway",
    )


def best(work: Callable[[], object], runs: int = 5) -> float:
    taken = []
    for _ in range(runs):
        start = time.perf_counter()
        work()
        taken.append(time.perf_counter() - start)
    return min(taken)


def words(chance: random.Random, count: int) -> str:
    letters = "abcdefghijklmnopqrstuvwxyz"
    known = ["".join(chance.choices(letters, k=chance.randrange(2, 11))) for _ in range(3000)]
    return " ".join(chance.choices(known, k=count))


def plain_text(megabytes: float) -> bytes:
    chance = random.Random(1)
    block = words(chance, 150_000).encode()
    block += b' <a href="https://other.test/x">other</a> ' * 200
    return (block * (int(megabytes * 1e6 / len(block)) + 1))[: int(megabytes * 1e6)]


def mix(megabytes: float) -> list[bytes]:
    """Values as a site has them, about a kilobyte each: 60 % no host, 30 % HTML, 7 % JSON, 3 % serialised."""
    chance = random.Random(2)
    texts = [words(chance, 150) for _ in range(200)]
    values: list[bytes] = []
    size = 0
    while size < megabytes * 1e6:
        text = chance.choice(texts)
        kind = chance.random()
        link = f"{OLD}/{text[:12].replace(' ', '-')}"
        if kind < 0.6:
            value = text
        elif kind < 0.9:
            value = f'<!-- block {{"id":7}} --><p>{text[:400]} <a href="{link}">x</a> {text[400:]}</p><img src="{link}.png">'
        elif kind < 0.97:
            value = json.dumps({"text": text, "url": link, "list": [1, 2, link]}).replace(
                "/", "\\/"
            )
        else:
            half = link if chance.random() < 0.5 else "none"
            value = serialise({"text": text, "url": half, "n": 5, "deep": {"a": [text[:20], half]}})
        values.append(value.encode())
        size += len(value)
    return values


def through(rewriter: Rewriter, values: list[bytes]) -> None:
    """As a transfer does it: a column of about a megabyte at a time."""
    tally = Tally()
    for at in range(0, len(values), 1000):
        rewriter.rewrite_column(values[at : at + 1000], tally)


def line(what: str, ratio: float, bound: str) -> None:
    print(f"{what}: {ratio:.2f} ({bound})", flush=True)


def main() -> None:
    rewriter = Rewriter(mapping())
    text = plain_text(50)
    host = b"www.harrowmere.example"
    search = best(lambda: text.find(host))
    ours = best(lambda: rewriter.rewrite(text, Tally()))
    line("text without a match, speed of bytes.find", search / ours, "at least 0.5")

    values = mix(50)
    joined = b"\n".join(values)
    pattern = re.compile(re.escape(OLD.encode()))
    plain = best(lambda: pattern.sub(NEW.encode(), joined), 3)
    ours = best(lambda: through(rewriter, values), 3)
    line("realistic mix, speed of one re.sub", plain / ours, "at least 0.25")

    sizes = {}
    for factor in (1, 10, 100):
        part = mix(factor * 0.5)
        sizes[factor] = best(lambda part=part: through(rewriter, part), 3) / sum(map(len, part))  # type: ignore[misc]
    line("time per byte at 10× the bytes", sizes[10] / sizes[1], "linear: about 1")
    line("time per byte at 100× the bytes", sizes[100] / sizes[1], "linear: about 1")

    two, many = Rewriter(mapping(2)), Rewriter(mapping(200))
    part = mix(20)
    few = best(lambda: through(two, part), 3)
    line("200 pairs against 2", best(lambda: through(many, part), 3) / few, "at most 1.5")

    items = [f"{OLD}/{n}" if n % 10 == 0 else f"stop {n}" for n in range(1_000_000)]
    array = serialise(items).encode()
    path = Path("/tmp") / "vetrin-benchmark.ser"
    path.write_bytes(array)
    php = float(
        subprocess.run(
            [program("php"), "-d", "memory_limit=2G", "-r",
             "$s=file_get_contents($argv[1]);$b=9e9;for($i=0;$i<5;$i++){$t=microtime(true);"
             "$x=serialize(unserialize($s));$b=min($b,microtime(true)-$t);}echo $b;", str(path)],
            capture_output=True, text=True, check=True,
        ).stdout
    )  # fmt: skip
    path.unlink()
    ours = best(lambda: rewriter.rewrite(array, Tally()), 3)
    print(f"  php {php * 1000:.0f} ms, here {ours * 1000:.0f} ms")
    line(
        "a million strings in an array, time of PHP's unserialize and serialize",
        ours / php,
        "at most 3",
    )


if __name__ == "__main__":
    main()
