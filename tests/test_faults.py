"""What goes wrong inside the switch and outside it, at every step, and the command after it.

By each way to a target: the program is killed, the line is cut (and comes back, or not), the database server dies
(before or after it carried a statement out), the disk is full, there or here. What stands there afterwards is what the exit code
says, and the next command, of any kind, finds its way from there. ``--every 1`` goes through all steps, each with one
of the commands, in turn (an hour or two for each way); ``--every 7`` has each followed by all; without it a part is tried.
"""

from __future__ import annotations

import json
import random
import signal
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import pytest

from conftest import own_server
from faults import Between, Packets, full_disk, is_statement
from systems import Mariadb
from ways import WAYS, Line, busy, line_by, settled

NEXT: dict[str, tuple[str, ...]] = {
    "the same": Line.PULL,
    "another": ("pull", "local", "--to", "staging", "--parts", "media", "--yes"),
    "resume": ("resume", "staging"),
    "undo": ("undo", "staging", "--yes"),
    "status": ("status", "--json"),
    "check": ("check", "staging"),
    "backup": ("backup", "staging"),
}
# Who connects anew does so at once, and gives up soon.
SOON = "from vetrin.jobs import reconnect\nreconnect.PAUSES = (0.2, 0.5)\n"
PATIENT = "from vetrin.jobs import reconnect\nreconnect.PAUSES = (0.5,) * 40\n"


@dataclass
class Place:
    """Two sites, and what stands between the program, the SSH server and the database server."""

    line: Line
    server: Mariadb
    statements: Packets
    wire: Between | None
    old: dict[str, Any]
    new: dict[str, Any]

    def inside(self) -> bool:
        return self.line.record.exists()

    def watches(self, inside: bool) -> bool:
        return self.inside() == inside


@pytest.fixture(scope="module")
def mortal() -> Iterator[Mariadb]:
    with own_server(Mariadb) as server:
        yield server


@pytest.fixture(scope="module", params=WAYS)
def place(request: pytest.FixtureRequest, mortal: Mariadb) -> Iterator[Place]:
    with line_by(request.param, mortal) as line:
        statements, wire = Packets(mortal.port), None
        line.staging_port = statements.port
        if line.ssh is not None:
            wire = Between(line.ssh.port)
            for name in ("config", "known_hosts"):
                path = line.ssh.home / ".ssh" / name
                path.write_text(path.read_text().replace(str(line.ssh.port), str(wire.port)))
        line.renew()
        old = line.state()
        line.vetrin(*line.PULL)
        yield Place(line, mortal, statements, wire, old, line.state())


# Each kind does its thing at a step of the switch, and says whether there was such a step; the exit code and what
# was said, None where the program did not live to say it.
Came = tuple[bool, int | None, str]


def killed(place: Place, at: int) -> Came:
    """Inside the switch, some time after it began."""
    process = place.line.start(*place.line.PULL)
    until = time.monotonic() + 60
    while not place.inside() and process.poll() is None and time.monotonic() < until:
        time.sleep(0.002)
    time.sleep((at - 1) * 0.04)
    there = process.poll() is None
    process.send_signal(signal.SIGKILL)
    process.communicate()
    return there, None, ""


def cut_and_killed(place: Place, at: int) -> Came:
    """The line is cut as the switch is to be handed over; whoever connects anew gets through, and is killed then."""
    wire, line = place.wire, place.line
    assert wire is not None
    happened = threading.Event()
    # It goes over in one piece, or in two.
    wire.arm(2 - at % 2, lambda piece: place.inside(), happened.set)
    process = line.start(*line.PULL, script=SOON)
    there = happened.wait(30)
    time.sleep(0.15 * at)
    there = there and process.poll() is None
    process.send_signal(signal.SIGKILL)
    process.communicate()
    wire.disarm()
    return there, None, ""


def killed_outside(place: Place, at: int) -> Came:
    process = place.line.start(*place.line.PULL)
    time.sleep(0.06 * at)
    there = process.poll() is None
    process.send_signal(signal.SIGKILL)
    process.communicate()
    return there, None, ""


def dies(answered: bool, comes_back: bool, inside: bool = True) -> Callable[[Place, int], Came]:
    """The database server dies, before or after it has carried out a statement."""

    def fault(place: Place, at: int) -> Came:
        server = place.server

        def die() -> None:
            server.kill()
            if comes_back:
                server.start()

        place.statements.arm(
            at,
            lambda packet: is_statement(packet) and place.watches(inside),
            die,
            answered=answered,
        )
        try:
            code, said = place.line.vetrin(
                *place.line.PULL, code=None, script=PATIENT if comes_back else SOON
            )
        finally:
            came = place.statements.disarm()
            if server.process.poll() is not None:
                server.start()
        return came, code, said

    return fault


def cut(comes_back: bool, inside: bool = True) -> Callable[[Place, int], Came]:
    """The line is cut, and whoever connects anew gets through or does not."""

    def fault(place: Place, at: int) -> Came:
        wire = place.wire
        assert wire is not None

        def close() -> None:
            wire.closed = not comes_back

        wire.arm(at, lambda piece: place.watches(inside), close)
        try:
            code, said = place.line.vetrin(*place.line.PULL, code=None, script=SOON)
        finally:
            came = wire.disarm()
        return came, code, said

    return fault


def full(
    names: bool = False, inside: bool = True, here: bool = False
) -> Callable[[Place, int], Came]:
    """The disk there is full, or ``here`` that of the program."""

    def fault(place: Place, at: int) -> Came:
        line = place.line
        mark = line.root / "marked-full"
        script = full_disk(at, "" if here else line.way, str(mark), names=names, inside=inside)
        code, said = line.vetrin(*line.PULL, code=None, script=script)
        came = mark.exists()
        mark.unlink(missing_ok=True)
        return came, code, said

    return fault


KINDS: dict[str, Callable[[Place, int], Came]] = {
    "killed": killed,
    "server dies": dies(False, False),
    "server dies, answer lost": dies(True, False),
    "server restarts": dies(False, True),
    "server restarts, answer lost": dies(True, True),
    "line cut": cut(True),
    "line gone": cut(False),
    "line cut, then killed": cut_and_killed,
    "disk full": full(),
    "disk full, no renaming": full(names=True),
    "killed outside": killed_outside,
    "server dies outside": dies(False, False, inside=False),
    "server restarts outside": dies(True, True, inside=False),
    "line cut outside": cut(True, inside=False),
    "line gone outside": cut(False, inside=False),
    "disk full outside": full(inside=False),
    "own disk full": full(inside=False, here=True),
}
# Steps: more than any switch has, and how far apart those are that are tried of the many outside it.
_MOST, _APART = 400, 9


def of_way(way: str) -> list[str]:
    """Here there is no line, and one disk."""
    return [
        kind for kind in KINDS
        if way != "here" or not kind.startswith(("line", "disk full outside"))
    ]  # fmt: skip


def standing(place: Place) -> str:
    """``old``, ``new`` or ``half``, once nobody works there any more."""
    line = place.line
    if line.way != "sftp":
        until = time.monotonic() + 20
        while place.inside() and busy(line.record) and time.monotonic() < until:
            time.sleep(0.02)
    if place.inside():
        return "half"
    found = line.state()
    assert found in (place.old, place.new), {
        key: (place.old.get(key), value, place.new.get(key))
        for key, value in found.items()
        if value not in (place.old.get(key), place.new.get(key))
    }
    return "new" if found == place.new else "old"


def happens(place: Place, kind: str, at: int, following: str) -> bool:
    """One fault, what stands there then, and one command after it; False where the switch has no such step."""
    line, what = place.line, f"{place.line.way}, {kind} at {at}, then {following}"
    line.renew()
    came, code, said = KINDS[kind](place, at)
    if not came:
        assert code in (0, None), (what, said)
        return False
    stands = standing(place)
    # What fails while it looks has not begun anything that it could say something of.
    begun = bool(line.runs())
    if code == 0:
        assert stands == "new", (what, said)
    elif code == 1:
        assert stands == "old" and ("as it was before" in said) == begun, (what, said)
    elif code is not None:
        # It could not see what came of it, and says so.
        assert code == 3, (what, code, said)
        assert ("half old and half new" in said) or stands == "old", (what, stands, said)
    if line.way != "sftp" and kind in ("killed", "line cut", "line gone", "line cut, then killed"):
        assert stands != "half", (what, said)
    if kind.startswith(("line cut", "server restarts")) and code is not None and begun:
        assert code == 0, (what, code, said)

    half = stands == "half"
    code, said = line.vetrin(*NEXT[following], code=None)
    what = f"{what}: {stands}, {code}, {said}"
    if following == "status":
        told = json.loads(said[: said.rindex("}") + 1]).get("half_switched", [])
        assert code == 0 and (told == ["staging"]) == half, what
    elif following == "check":
        assert ("half old and half new" in said) == half, what
    elif following == "backup":
        assert code == (5 if half else 0), what
    elif following == "resume":
        assert code == (0 if half else 5) or stands == "old", what
        if code == 0:
            assert settled(line, place.old, place.new, 5) == "new", what
    else:
        # What failed and was taken back is nothing that could be undone.
        assert code == 0 or (following, stands, code) == ("undo", "old", 5), what
        if following == "the same":
            assert settled(line, place.old, place.new, 5) == "new", what
        if following == "undo":
            assert settled(line, place.old, place.new, 5) == "old", what
    # Whatever stands there, the same command makes it what it is to be, and nothing is left over.
    line.vetrin(*line.PULL)
    assert line.state() == place.new, what
    assert not place.inside(), what
    left = {path.name.partition("-")[2] for path in (line.root / ".vetrin").iterdir()}
    assert not left & {"switched", "unswitched", "record", "held"}, what
    return True


# What a usual run tries by each way.
SOME = {
    "here": ("killed", "server dies", "server restarts, answer lost", "disk full", "server restarts outside",
             "own disk full"),
    "python": ("killed", "server dies", "server restarts, answer lost", "line cut", "line gone", "disk full",
               "line cut, then killed", "line gone outside", "killed outside"),
    "php": ("killed", "server dies, answer lost", "line cut, then killed", "disk full, no renaming", "line cut outside"),
    "sftp": ("killed", "server restarts", "line cut", "line gone", "disk full", "server dies outside",
             "disk full outside"),
}  # fmt: skip


def tried(way: str) -> list[tuple[str, int, str]]:
    """A part of it for a usual run: each at a step and with a command of its own."""
    chance = random.Random(f"Harrowmere {way}")
    commands = [*NEXT, *NEXT, *NEXT]
    chance.shuffle(commands)
    # A line carries a switch that is handed over in one or two pieces.
    short = ("line cut", "line gone") if way != "sftp" else ()
    most = {kind: 2 if kind in short else 12 for kind in KINDS}
    most |= {kind: 90 for kind in KINDS if kind.endswith("outside") and kind != "killed outside"}
    return [(kind, chance.randint(1, most[kind]), commands.pop()) for kind in SOME[way]]


def all_steps(place: Place, kind: str, commands: int) -> int:
    """Go through the steps, each followed by so many of the commands, in turn; how many steps there were."""
    apart = _APART if kind.endswith("outside") or kind == "own disk full" else 1
    names = list(NEXT)
    for number, at in enumerate(range(1, _MOST * apart, apart)):
        following = [names[(number + more) % len(names)] for more in range(commands)]
        if not all(happens(place, kind, at, one) for one in following):
            return number
    return _MOST


def test_whatever_goes_wrong_in_the_switch(place: Place, every: int) -> None:
    way = place.line.way
    if not every:
        for kind, at, following in tried(way):
            while not happens(place, kind, at, following):
                at //= 2
                assert at, f"{kind} has no step by {way}"
        return
    for kind in of_way(way):
        steps = all_steps(place, kind, every)
        assert steps, (kind, way)
        print(f"{way}, {kind}: {steps} steps", flush=True)
