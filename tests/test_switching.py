"""The switch: carried out to its end where the target is, whatever becomes of whoever began it.

On this machine and behind a real SSH server (helper in Python, in PHP, SFTP alone), with a real database: killed in
it, cut in it, failing in it; and whatever command comes next.
"""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from systems import DatabaseServer
from vetrin.remote.helper_protocol import JSON, frame
from vetrin.remote.helper_scripts import PHP, PYTHON, source
from ways import WAYS, Line, line_by


@pytest.fixture(scope="module", params=WAYS)
def line(request: pytest.FixtureRequest, database_server: DatabaseServer) -> Iterator[Line]:
    with line_by(request.param, database_server) as found:
        yield found


def back_to_the_old(line: Line, old: dict[str, Any]) -> None:
    if line.state() != old:
        line.vetrin("undo", "staging", "--yes")
    assert line.state() == old


def test_it_is_handed_over_and_undone(line: Line) -> None:
    """By every way the same comes; where a process can be there, it carries the switch out."""
    old = line.state()
    script = (
        "from vetrin.remote import executor as e\n"
        "real = e.Executor.carry_out\n"
        "def carry_out(self, go):\n"
        "    open('handed', 'a').write('x')\n"
        "    return real(self, go)\n"
        "e.Executor.carry_out = carry_out\n"
    )
    line.vetrin(*line.PULL, script=script)
    new = line.state()
    wanted = line.state("local")
    assert new["wp_only_here"] == wanted["wp_only_here"]
    assert {k for k in new if k.startswith("plugins")} >= {"plugins/booking-office/local.php"}
    assert len([item for item in new["hanging"] if "local" in item]) == 2
    assert new != old and not new["held"]
    line.vetrin("undo", "staging", "--yes", script=script)
    assert line.state() == old
    line.vetrin("undo", "staging", "--yes", script=script)
    assert line.state() == new
    back_to_the_old(line, old)
    handed = line.folder / "handed"
    assert (len(handed.read_text()) if handed.exists() else 0) == (0 if line.way == "sftp" else 3)
    handed.unlink(missing_ok=True)
    assert not list((line.root / ".vetrin").glob("*switched"))


FORMS = {
    "helper.py": [sys.executable, "-I", "-c", PYTHON],
    "helper.php": ["php", "-d", "display_errors=stderr", "-r", PHP],
}


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.parametrize("line_goes", ["closed", "silent"])
def test_what_was_not_handed_over_to_its_end_is_not_begun(
    form: str, line_goes: str, tmp_path: Path
) -> None:
    """The line goes in the middle of it, with a word or without: nothing is done, and no record stays."""
    text = re.sub(rb"SILENCE = \d+", b"SILENCE = 1", source(form))
    step = {"do": "put", "path": f"{tmp_path}/begun", "beside": f"{tmp_path}/beside", "text": "x"}
    record = tmp_path / "switch.json"
    with subprocess.Popen(FORMS[form], stdin=subprocess.PIPE, stdout=subprocess.PIPE) as helper:
        assert helper.stdin is not None and helper.stdout is not None
        helper.stdin.write(b"%d\n%s" % (len(text), text))
        asks = [
            {"do": "switch", "connect": None},
            {"path": str(record), "beside": f"{tmp_path}/r", "text": "{}"},
            {"done": f"{tmp_path}/done", "undone": f"{tmp_path}/undone", "steps": [step]},
        ]
        for ask in asks:
            helper.stdin.write(frame(JSON, json.dumps(ask).encode()))
        helper.stdin.flush()
        until = time.monotonic() + 20
        while not record.exists() and time.monotonic() < until:
            time.sleep(0.001)
        assert record.exists()
        if line_goes == "closed":
            helper.stdin.close()
        helper.wait(20)
    assert list(tmp_path.iterdir()) == []


def test_what_fails_in_the_switch_is_taken_back(line: Line) -> None:
    """A statement in the middle of it is refused: the target is all old, and says so."""
    old = line.state()
    script = (
        "from vetrin.database.mysql import database as d\n"
        "real = d.settling\n"
        "def settling(*values):\n"
        "    found = real(*values)\n"
        "    return [*found[:-1], {'sql': 'CREATE TRIGGER wp_bad BEFORE INSERT ON wp_nowhere FOR EACH ROW SET @a = 1'}, *found[-1:]] if found and not settling.once else found\n"
        "settling.once = False\n"
        "def first(*values):\n"
        "    found = settling(*values)\n"
        "    settling.once = True\n"
        "    return found\n"
        "d.settling = first\n"
    )
    _, said = line.vetrin(*line.PULL, code=1, script=script)
    assert "wp_nowhere" in said
    assert "is as it was before" in said
    assert line.state() == old
    assert line.runs()[0] == ("pull", "failed")
    assert not line.record.exists()
    assert not list((line.root / ".vetrin").glob("*switched"))
    line.vetrin(*line.PULL)
    line.vetrin("undo", "staging", "--yes")
    assert line.state() == old


def test_putting_back_that_is_stopped_in_between_is_put_back_again(line: Line) -> None:
    """Stopped when all had changed over, then right behind the exchange back: what hangs on the tables comes back
    as well."""
    old = line.state()
    script = (
        "import os\n"
        "from vetrin.site import Site\n"
        "from vetrin.database.mysql import database as d\n"
        "Site.runs_processes = False\n"
        "real = d.MysqlDatabase._do\n"
        "def do(self, about, sql):\n"
        "    real(self, about, sql)\n"
        "    if sql.startswith('LAST'): os.kill(os.getpid(), 9)\n"
        "d.MysqlDatabase._do = do\n"
    )
    line.vetrin(*line.PULL, code=-9, script=script.replace("LAST", "CREATE TRIGGER"))
    assert line.state() != old
    line.vetrin("undo", "staging", "--yes", code=-9, script=script.replace("LAST", "RENAME"))
    assert line.state() != old
    line.vetrin("undo", "staging", "--yes")
    assert line.state() == old and not line.record.exists()


def test_a_table_that_somebody_uses_for_long_leaves_the_target_as_it_was(line: Line) -> None:
    """As a host's own backup does: the exchange waits a while, and is then given up as a whole."""
    old = line.state()
    connection = line.server.root("switch_staging")
    with connection, connection.cursor() as cursor:
        cursor.execute("START TRANSACTION")
        cursor.execute("SELECT * FROM wp_posts")
        script = "from vetrin.database.mysql import database\ndatabase.PATIENT['sql'] = 'SET lock_wait_timeout = 1'\n"
        _, said = line.vetrin(*line.PULL, code=1, script=script)
    assert "stayed in use" in said and "is as it was before" in said
    assert line.state() == old and not line.record.exists()
    assert not list((line.root / ".vetrin").glob("*switched"))


def test_files_that_fail_in_the_switch_take_the_tables_back(line: Line) -> None:
    """Something stands where something is to come: an error of the files, after the tables."""
    old = line.state()
    script = (
        "from vetrin.jobs import switching as s\n"
        "import pathlib\n"
        "real = s._hand_over\n"
        f"place = pathlib.Path({str(line.root)!r}, 'wp-content/uploads/0/27.jpg')\n"
        "def hand_over(target, *values):\n"
        "    acts = target.files.planned_exchange\n"
        "    def planned(token, moves):\n"
        "        found = acts(token, moves)\n"
        "        place.mkdir()\n"
        "        (place / 'x').write_text('in the way')\n"
        "        return found\n"
        "    target.files.planned_exchange = planned\n"
        "    return real(target, *values)\n"
        "s._hand_over = hand_over\n"
    )
    if line.way == "sftp":
        return  # nothing is planned beforehand there
    try:
        _, said = line.vetrin(*line.PULL, code=1, script=script)
        assert "something is there" in said
    finally:
        shutil.rmtree(line.root / "wp-content/uploads/0/27.jpg")
    assert line.state() == old
