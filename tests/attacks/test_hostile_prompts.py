"""A host that says things to the terminal while somebody logs in: banner, title, questions, the reason of its no."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import asyncssh
import pytest
from hostile_ssh import hostile_ssh

from systems import answer
from vetrin.demo.sample import Sample

# Clears the screen, gives the window a title, writes over the line before, turns text around.
HOSTILE = "\x1b[2J\x1b]0;owned\x07\rharmless\x1b[1A\u202ekey\x9b31m"


class Asking(asyncssh.SSHServer):
    def connection_made(self, connection: Any) -> None:
        self._connection = connection

    def begin_auth(self, username: str) -> bool:
        self._connection.send_auth_banner(f"Welcome {HOSTILE}\n")
        return True

    def kbdint_auth_supported(self) -> bool:
        return True

    def get_kbdint_challenge(self, username: str, lang: str, submethods: str) -> Any:
        return f"Railway {HOSTILE}", f"Now {HOSTILE}", "", [(f"Word of the day {HOSTILE}? ", False)]

    def validate_kbdint_response(self, username: str, responses: Any) -> bool:
        return False


@pytest.fixture
def host(tmp_path: Path) -> Iterator[str]:
    with hostile_ssh(tmp_path / "home", Asking, f"railway {HOSTILE}") as address:
        yield address


@pytest.mark.parametrize("known", [True, False])
def test_what_a_host_says_does_not_move_the_cursor(
    sample: Sample, host: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, known: bool
) -> None:
    monkeypatch.setenv("HOME", str(tmp_path / "home"))
    monkeypatch.setenv("NO_COLOR", "1")
    if not known:
        (tmp_path / "home/.ssh/known_hosts").write_text("")
    file = sample.folder / "vetrin.toml"
    file.write_text(
        file.read_text().replace('root = "production"', f'root = "/srv"\nhost = "{host}"')
    )
    code, said = answer(sample.folder, b"no\n" * 10, "pull", "--yes")
    assert code == 1, said
    if known:
        assert 1 <= said.count("Word of the day") <= 6
    for piece in ("\x1b[2J", "\x1b]0;", "\x1b[1A", "\u202e", "\x9b", "\x07"):
        assert piece not in said, repr(said)
