"""Who the host is, and who we are: host keys, passwords, passphrases.

What the user's SSH configuration, agent and known hosts settle is settled there; the rest is asked of an
``Prompter``, which the command line gives where there is a terminal.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

import asyncssh

from ...config.host import Host
from ...config.secrets import secret
from ..base import Prompter

_ROUNDS, _PROMPTS = 6, 4  # how often a host may ask in one log-in, and how many things at once


class Login(asyncssh.SSHClient):
    """One log-in. ``refused`` says afterwards why a host's key was not accepted."""

    def __init__(self, host: Host, asker: Prompter, known_hosts: Any, account: str) -> None:
        self._host = host
        self._asker = asker
        self._known_hosts = known_hosts
        self._account = account
        self._asked = 0
        self.refused = ""
        self.remedy = ""
        self._rounds = 0

    def validate_host_public_key(
        self, host: str, addr: str, port: int, key: asyncssh.SSHKey
    ) -> bool:
        """Called where the known hosts do not hold this key."""
        fingerprint = key.get_fingerprint()
        kind = key.get_algorithm()
        known = []
        with contextlib.suppress(OSError, ValueError):
            files = [str(path) for path in _files(self._known_hosts) if path.is_file()]
            known = list(asyncssh.read_known_hosts(files).match(host, addr, port)[0])
        if known:
            self.refused = f"the key of {_named(host, port)} is not the one that is known: it shows {fingerprint}"
            self.remedy = (
                "somebody may stand in between. If the host was set up anew, ask its owner for the "
                f"fingerprint, then remove the old key: ssh-keygen -R '{_named(host, port)}'"
            )
            return False
        if not self._asker.trusts(_named(host, port), kind, fingerprint):
            self.refused = f"the key of {_named(host, port)} is not known: {kind} {fingerprint}"
            self.remedy = (
                "compare the fingerprint with what the host's owner says, then run the command at a "
                "terminal and confirm it, or add the key to your known hosts"
            )
            return False
        _remember(self._known_hosts, _named(host, port), key)
        return True

    def password_auth_requested(self) -> str | None:
        """A password: from the keyring, then from the person, three times at most."""
        self._asked += 1
        if self._asked == 1 and (kept := secret(f"ssh {self._account}")):
            return kept
        return self._asker.secret(f"Password of {self._account}: ") if self._asked <= 3 else None

    def kbdint_auth_requested(self) -> str | None:
        return ""

    def kbdint_challenge_received(
        self, name: str, instructions: str, lang: str, prompts: Any
    ) -> list[str] | None:
        # What a host asks without an end is no log-in, and each answer would be one more secret.
        self._rounds += 1
        if self._rounds > _ROUNDS or len(prompts) > _PROMPTS:
            return None
        answers = []
        for prompt, shown in prompts:
            if "password" in prompt.lower() and not shown:
                answer = self.password_auth_requested()
            else:
                answer = self._asker.secret(f"{self._account}: {prompt}")
            if answer is None:
                return None
            answers.append(answer)
        return answers


def passphrase_of(asker: Prompter) -> Callable[[str], str | None]:
    """What a key file's passphrase is asked from: the keyring, then the person."""

    def ask(path: str) -> str | None:
        return secret(f"ssh key {path}") or asker.secret(f"Passphrase of the key {path}: ")

    return ask


def _files(known_hosts: Any) -> list[Path]:
    given = [f for f in known_hosts or () if isinstance(f, (str, bytes, Path))]
    return [Path(os.fsdecode(file)).expanduser() for file in given]


def _named(host: str, port: int) -> str:
    return host if port == 22 else f"[{host}]:{port}"


def _remember(known_hosts: Any, name: str, key: asyncssh.SSHKey) -> None:
    """Add a key to the user's known hosts, in the form that OpenSSH's programs read."""
    home = [path for path in _files(known_hosts) if path.is_relative_to(Path.home())]
    path = next(iter(home), Path.home() / ".ssh" / "known_hosts")
    path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
    line = f"{name} {key.export_public_key('openssh').decode().strip()}\n"
    with contextlib.suppress(OSError), path.open("a+", encoding="utf-8") as file:
        file.seek(0)
        if not file.read().endswith(("\n", "")):
            line = "\n" + line
        file.write(line)
