"""How long help takes, against Python doing nothing: python benchmarks/start.py

Run it with the Python in whose environment Vetrin is installed.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import time
from pathlib import Path


def seconds(command: list[str], runs: int = 40) -> float:
    taken = []
    for _ in range(runs):
        start = time.perf_counter()
        subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
        taken.append(time.perf_counter() - start)
    return statistics.median(taken)


def main() -> None:
    nothing = seconds([sys.executable, "-c", "pass"])
    vetrin = seconds([str(Path(sys.executable).parent / "vetrin"), "--help"])
    print(
        f"vetrin --help {vetrin * 1000:.0f} ms, python -c pass {nothing * 1000:.0f} ms: "
        f"{vetrin / nothing:.2f} times (at most 4)"
    )


if __name__ == "__main__":
    main()
