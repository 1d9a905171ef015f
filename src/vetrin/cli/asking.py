"""What a connection asks of the person at the terminal."""

from __future__ import annotations

import getpass

from .console import Out
from .outlets import shown


class Terminal:
    """Asks there; says no to everything where there is none."""

    def __init__(self, out: Out) -> None:
        self._out = out

    def trusts(self, host: str, kind: str, fingerprint: str) -> bool:
        if not self._out.at_terminal or self._out.json:
            return False
        self._out.messages.print(
            f"The key of {host} is not known yet:\n  {kind}  {fingerprint}\n"
            "Its owner, or the host's control panel, can say whether this is the right fingerprint."
        )
        answer = self._out.ask("Type yes to trust it from now on")
        return answer.lower() == "yes"

    def secret(self, question: str) -> str | None:
        if not self._out.at_terminal or self._out.json:
            return None
        try:
            return getpass.getpass(shown(question))
        except (EOFError, KeyboardInterrupt):
            return None
