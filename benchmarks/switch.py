"""How long a target is neither old nor new, in milliseconds, by each way in which a process can be beside it.

    .venv/bin/python benchmarks/switch.py [RUNS]

Data: from the exchange of the tables to the last of what hangs on them, by the database server's own log. Code: how
long visitors are held off, of which WordPress's definition waits for PHP's cache of code. Aims: 100 ms for data; for
code what PHP's cache needs and half a second.
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import threading
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from systems import Mariadb, running
from ways import Line, line_by


class Watch:
    """Looks every millisecond whether visitors are held off."""

    def __init__(self, line: Line) -> None:
        self._path = line.root / ".maintenance"
        self.seconds = 0.0
        self._done = threading.Event()
        self._thread = threading.Thread(target=self._look)
        self._thread.start()

    def _look(self) -> None:
        begun = 0.0
        while not self._done.wait(0.001):
            if self._path.exists():
                begun = begun or time.monotonic()
            elif begun:
                self.seconds = time.monotonic() - begun
                return

    def end(self) -> None:
        self._done.set()
        self._thread.join()


def data_window(server: Mariadb) -> float:
    ((thread, begun),) = server.run(
        "SELECT thread_id, event_time FROM mysql.general_log WHERE argument LIKE 'RENAME TABLE%'"
        " ORDER BY event_time DESC LIMIT 1"
    )
    ((ended,),) = server.run(
        f"SELECT MAX(event_time) FROM mysql.general_log WHERE thread_id = {thread}"
        " AND command_type = 'Query'"
    )
    return float((ended - begun).total_seconds())


def main(runs: int) -> None:
    with running(Mariadb, Path(tempfile.mkdtemp(prefix="vt-", dir="/tmp"))) as server:
        server.run("SET GLOBAL log_output = 'TABLE'")
        for way in ("here", "python", "php"):
            with line_by(way, server) as line:
                text = (line.folder / "vetrin.toml").read_text()
                (line.folder / "vetrin.toml").write_text(
                    text.replace('"wordpress.toml"', '"wordpress"')
                )
                data, code = [], []
                for _ in range(runs):
                    server.run("SET GLOBAL general_log = OFF", "TRUNCATE mysql.general_log")
                    server.run("SET GLOBAL general_log = ON")
                    watch = Watch(line)
                    line.vetrin(*line.PULL)
                    watch.end()
                    data.append(data_window(server) * 1000)
                    code.append(watch.seconds * 1000)
                    line.vetrin("undo", "staging", "--yes")
            print(
                f"{way:8} data {statistics.median(data):6.0f} ms (at most {max(data):.0f}),"
                f" code {statistics.median(code):6.0f} ms (at most {max(code):.0f})"
            )


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 5)
