"""What the user sees: results on stdout, everything else on stderr."""

from __future__ import annotations

import argparse
import getpass
import json
import re
import sys
from collections.abc import Sequence
from typing import Any

from rich.cells import cell_len
from rich.console import RenderableType
from rich.text import Text

from ..errors import Refused
from ..remote import Hosts
from .outlets import Screen, as_json, open_up, shown
from .parser import COLORS

_WIDTH_WITHOUT_TERMINAL = 100_000  # nothing is folded
# Brackets and colons in names and values are theirs, not ours to interpret.
_PLAIN: dict[str, Any] = {"highlight": False, "markup": False, "emoji": False}


class Out:
    """Where a command's output goes, and how the user is asked."""

    def __init__(
        self,
        *,
        json: bool = False,
        quiet: bool = False,
        verbose: bool = False,
        events: bool = False,
        yes: bool = False,
        color: str | None = "auto",
    ) -> None:
        self.json = json
        self._yes = yes
        self.quiet = quiet
        self.verbose = verbose
        self.events = events
        self._held: list[tuple[Screen, RenderableType]] = []  # what --quiet keeps back
        self.hosts = Hosts()  # that the command works with
        self.takes_over = False  # whether it goes on in the place of who holds an environment
        self.half_switched: list[str] = []  # environments that were found so, for the document
        open_up()
        color = color if color in COLORS else "auto"
        self._results = Screen(color=color, width=_width(sys.stdout), **_PLAIN)
        self.messages = Screen(color=color, stderr=True, width=_width(sys.stderr), **_PLAIN)

    @property
    def at_terminal(self) -> bool:
        return sys.stdin.isatty() and sys.stderr.isatty()

    @property
    def asking(self) -> bool:
        """Whether somebody is there, and wants, to be asked for what has a default or can be left out."""
        return self.at_terminal and not self.json and not self._yes

    def secret(self, question: str, *, twice: bool = False) -> str:
        """What a person types unseen; with ``twice``, as what could not be found out later is typed."""
        while True:
            found = getpass.getpass(shown(f"{question}: "))
            if not twice:
                return found
            if found and getpass.getpass("The same once more: ") == found:
                return found
            self.say("the two are not the same" if found else "it cannot be empty")

    def show(self, *results: RenderableType) -> None:
        """Print results for a person; silent with --json, and with --quiet unless something is wrong."""
        for item in results:
            self._tell(self._results, item)

    def _tell(self, screen: Screen, item: RenderableType) -> None:
        if self.json:
            return
        if self.quiet:
            self._held.append((screen, item))
        else:
            _print(screen, item)

    def release(self) -> None:
        """Print what --quiet kept back: something is wrong."""
        self.quiet = False
        for screen, item in self._held:
            _print(screen, item)
        self._held = []

    def document(self, kind: str, data: dict[str, Any]) -> None:
        """Print the one document of --json. ``schema`` names its shape and version."""
        if self.json:
            found = {"schema": f"vetrin/{kind}/1", **data}
            if self.half_switched:
                found["half_switched"] = self.half_switched
            print(as_json(json.dumps(found, indent=2, ensure_ascii=False)))

    def say(self, message: str, style: str = "") -> None:
        """A remark about what is going on."""
        if not self.quiet and not self.json:
            _print(self.messages, lead(message, style))

    def warn(self, message: str) -> None:
        self._tell(self.messages, lead("! ", "warning").append(message))

    def fail(self, status: int, message: str, remedy: str = "", code: str = "failed") -> int:
        """Print the one message of a failure (and the document of --json, where ``code`` says of what kind it is);
        returns ``status``."""
        self.release()
        self.document(
            "error", {"exit_code": int(status), "code": code, "error": message, "remedy": remedy}
        )
        _print(self.messages, lead("✗ ", "bad").append(message))
        if remedy:
            _print(self.messages, Text(f"  → {remedy}"))
        return status

    def asks(self, args: argparse.Namespace, *, target: str, production: bool = False) -> bool:
        """Whether a person has to be asked, and can be, before something is written.

        Raises:
            Refused: --confirm names another environment.
        """
        return not _agreed(args, target, production) and self.at_terminal and not self.json

    def confirm(
        self, question: str, args: argparse.Namespace, *, target: str, production: bool = False
    ) -> None:
        """Ask before something is written, unless --yes was given; for a production, --confirm with its name.

        Raises:
            Refused: the answer is no, or there is nobody to ask.
        """
        if _agreed(args, target, production):
            return
        if not self.at_terminal or self.json:
            wanted = f"--confirm {target}" if production else "--yes"
            raise Refused(f"{question} Nobody is there to confirm it", f"add {wanted}")
        if production:
            answer = self._ask(f"{question} Type {target} to go ahead: ")
            agreed = answer.strip() == target
        else:
            agreed = self.agrees(question)
        if not agreed:
            raise Refused("not confirmed; nothing has changed", "")

    def agrees_to(self, question: str) -> bool:
        """Whether somebody who is asked says yes, or just Enter."""
        return self.asking and self._ask(f"{question} [Y/n] ").strip().lower() in ("", "y", "yes")

    def agrees(self, question: str) -> bool:
        """Whether somebody at the terminal says yes."""
        return self._ask(f"{question} [y/N] ").strip().lower() in ("y", "yes")

    def ask(self, question: str, default: str = "") -> str:
        """Ask for a value; the default where nobody is asked, or where the answer is empty."""
        if not self.asking:
            return default
        prompt = f"{question} [{default}]: " if default else f"{question}: "
        return self._ask(prompt).strip() or default

    def choose(self, question: str, choices: Sequence[str]) -> str | None:
        """Let a person choose one of several by its number or its name; None without a terminal or an answer."""
        if not self.at_terminal or self.json:
            return None
        self.messages.print(Text(question))
        for number, choice in enumerate(choices, 1):
            self.messages.print(lead(f"  {number}  ", "bold").append(choice or "(none)"))
        while answer := self._ask("Which one? ").strip():
            if answer in choices:
                return answer
            if answer.isdigit() and 0 < int(answer) <= len(choices):
                return choices[int(answer) - 1]
        return None

    def _ask(self, prompt: str) -> str:
        self.release()  # what is asked of has to be seen
        self.messages.print(lead(prompt, "bold"), end="")
        try:
            return input()
        except EOFError:
            return ""


def _agreed(args: argparse.Namespace, target: str, production: bool) -> bool:
    """Raises Refused where --confirm names another environment."""
    if args.confirm not in (None, target):
        raise Refused(
            f"--confirm {args.confirm}: this run writes to {target}", f"say --confirm {target}"
        )
    return args.confirm == target or (args.yes and not production)


def _print(screen: Screen, item: RenderableType) -> None:
    """Lines are broken between words only: what is copied out of a terminal has to be whole."""
    if isinstance(item, str):
        item = Text(item)
    if isinstance(item, Text) and screen.is_terminal and not item.no_wrap:
        for line in _wrapped(item, screen.width):
            screen.print(line, overflow="ignore", no_wrap=True, crop=False)
    else:
        screen.print(item, crop=False)


def _wrapped(text: Text, width: int) -> list[Text]:
    """A text in lines that fit, but for those that are one word."""
    lines: list[Text] = []
    for line in text.split("\n", allow_blank=True):
        breaks: list[int] = []
        used = 0
        for word in re.finditer(r"\S+\s*", line.plain):
            if used and used + cell_len(word[0].rstrip()) > width:
                breaks.append(word.start())
                used = 0
            used += cell_len(word[0])
        lines += line.divide(breaks)
    return lines


def lead(text: str, style: str) -> Text:
    """A text that begins in a style which what is appended does not take over."""
    return Text().append(text, style=style)


def _width(stream: Any) -> int | None:
    return None if stream.isatty() else _WIDTH_WITHOUT_TERMINAL


def size(count: int) -> str:
    """Bytes for a person: 1000 B, 12.3 kB, 4.6 MB."""
    if count < 1000:
        return f"{count} B"
    value, units = count / 1000, ["kB", "MB", "GB", "TB"]
    while value >= 999.95 and len(units) > 1:
        value /= 1000
        del units[0]
    return f"{value:.1f} {units[0]}"


def number(count: int) -> str:
    """A count with thin groups: 12,345."""
    return f"{count:,}"


def plural(count: int, one: str, many: str | None = None) -> str:
    """“1 table”, “12 tables”."""
    return f"{number(count)} {one if count == 1 else many or one + 's'}"
