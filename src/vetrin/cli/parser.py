"""The commands, the options that they share, and what is said of words that are none of them.

Nothing is imported before it is needed: help has to come at once.
"""

from __future__ import annotations

import argparse
import os
from collections.abc import Iterable, Sequence
from importlib import import_module
from types import ModuleType
from typing import Any, NamedTuple, NoReturn

from ..errors import ExitStatus, UsageError


class Command(NamedTuple):
    """One line of help, and which of the shared options the command has, by the first letters of ``_SHARED``."""

    summary: str
    shared: str = ""


# A command has an option only where it does something: it Asks, has a Dry run, Connects, Writes to an environment,
# or can find that another run does.
COMMANDS = {
    "init": Command("write vetrin.toml for a site, here or on a server", "A D C"),
    "add": Command("add an environment to vetrin.toml", "A D C"),
    "serve": Command("run a local copy at its address, with what this machine has", "D"),
    "status": Command("show all environments side by side", "C"),
    "survey": Command("show what an environment consists of, and what could be left out", "C"),
    "compare": Command("put two environments side by side and mark what differs", "C"),
    "changes": Command("show what changed in an environment since the last transfer", "C"),
    "reach": Command("prove that an environment's files, database and address can be got at", "C"),
    "relay": Command("make the file that stands in for SSH on a host without it", "A D C"),
    "pull": Command("bring an environment's data and media here", "A D C W L"),
    "push": Command("carry the local code, built and checked, up to an environment", "A D C W L"),
    "run": Command("carry out a transfer that is saved under a name", "A D C W L"),
    "check": Command("look at an environment as a visitor and say what is wrong", "C"),
    "rewrite": Command("change a domain, a scheme, a path or any text in place", "A D C W L"),
    "strays": Command("list references that lead to another environment", "C"),
    "heal": Command("mend serialised values whose lengths somebody broke", "A D C W L"),
    "resume": Command("go on with a transfer that was stopped", "D C L"),
    "backup": Command("take a snapshot of an environment", "D C"),
    "snapshots": Command("list, prove, thin out and remove snapshots", "A D C"),
    "export": Command("pack a site into an archive that anyone can open", "A D C"),
    "import": Command("bring in an archive or a dump that somebody else made", "A D C W L"),
    "restore": Command("put back what a snapshot holds", "A D C W L"),
    "undo": Command("put back what the last run on an environment replaced", "A D C W L"),
    "history": Command("list what was done, newest first"),
    "demo": Command("try everything on a made-up site, on this machine alone"),
    "completion": Command("print what makes a shell complete commands, options and names"),
}

_SHARED: dict[str, tuple[tuple[str, dict[str, Any]], ...]] = {
    "A": (("--yes", {"action": "store_true", "help": "go ahead without asking (not in production)"}),),
    "D": (("--dry-run", {"action": "store_true", "help": "show what would be done, and stop"}),),
    "C": (
        ("--rate", {"metavar": "RATE", "help": "at most this much over a connection, such as 2MB/s"}),
    ),
    "W": (
        ("--confirm", {"metavar": "NAME", "help": "go ahead in the production of this name"}),
    ),
    "L": (
        ("--take-over", {"action": "store_true",
                         "help": "go on in place of the run that holds the environment's lock, which is stopped"}),
    ),
}  # fmt: skip
_ABSENT = {"yes": False, "dry_run": False, "rate": None, "confirm": None, "take_over": False}

PROJECT_VARIABLE, COLOR_VARIABLE = "VETRIN_PROJECT", "VETRIN_COLOR"
COLORS = ("auto", "always", "never")

# Of every command, before its name or behind it.
_COMMON: tuple[tuple[str, dict[str, Any]], ...] = (
    ("--project", {"metavar": "DIR",
                   "help": f"the folder with vetrin.toml (found by itself; or {PROJECT_VARIABLE})"}),
    ("--json", {"action": "store_true", "help": "print one JSON document"}),
    ("--events", {"action": "store_true", "help": "write progress as JSON lines on standard error"}),
    ("--quiet", {"action": "store_true", "help": "print nothing, unless something is wrong"}),
    ("--verbose", {"action": "store_true", "help": "say more; errors with their origin"}),
    ("--color", {"metavar": "WHEN", "choices": COLORS,
                 "help": f"auto, always or never (auto; or {COLOR_VARIABLE})"}),
)  # fmt: skip
COMMON = tuple(option for option, _ in _COMMON)
COMMON_WITH_VALUE = tuple(option for option, settings in _COMMON if "metavar" in settings)

_EPILOG = """exit codes:
  0 done   1 failed, nothing changed   2 wrong usage or configuration
  3 stopped in between, resumable   4 a check found differences   5 refused by a guard

`vetrin help COMMAND` explains a command, with examples.
`vetrin demo` shows the whole way on sample data."""


class Parser(argparse.ArgumentParser):
    """A parser whose complaints are errors like all others, and which takes no abbreviated option."""

    def __init__(self, **settings: Any) -> None:
        super().__init__(
            **settings,
            allow_abbrev=False,
            formatter_class=argparse.RawDescriptionHelpFormatter,
        )

    def error(self, message: str) -> NoReturn:
        # argparse writes “argument --rate: expected one argument”.
        said = message.removeprefix("argument ")
        raise UsageError(f"{self.prog}: {said}", f"`{self.prog} --help` shows how it is written")

    def options(self) -> list[str]:
        """All options, as they are typed."""
        return [text for action in self._actions for text in action.option_strings]


def module_of(name: str) -> ModuleType:
    """The module of a command: ``configure(parser)`` and ``run(args, out)``."""
    # A word of the language cannot be the name of a module.
    return import_module(f"vetrin.cli.commands.{'import_' if name == 'import' else name}")


def build_parser(chosen: Iterable[str] = COMMANDS) -> Parser:
    """The parser of the command line, with the options of the chosen commands filled in."""
    parser = Parser(
        prog="vetrin",
        description="Keeps local, staging and production copies of a content-managed site in step.",
        epilog=_EPILOG,
    )
    parser.add_argument("-V", "--version", action="store_true", help="print the version and end")
    _add_common(parser.add_argument_group("options of every command"))
    parser.set_defaults(**_ABSENT, command=None)
    commands = parser.add_subparsers(
        dest="command", metavar="COMMAND", title="commands", parser_class=Parser
    )
    for name, (summary, shared) in COMMANDS.items():
        command = commands.add_parser(
            name, help=summary, description=summary[0].upper() + summary[1:] + "."
        )
        if name in chosen:
            module_of(name).configure(command)
            group = command.add_argument_group("options of every command")
            own = command.add_argument_group("options of many commands") if shared else group
            for letter in shared.split():
                for option, settings in _SHARED[letter]:
                    own.add_argument(option, **settings, default=argparse.SUPPRESS)
            _add_common(group, default=argparse.SUPPRESS)
    return parser


def _add_common(group: argparse._ArgumentGroup, **more: Any) -> None:
    for option, settings in _COMMON:
        group.add_argument(option, **settings, **more)


def parsed(words: Sequence[str]) -> argparse.Namespace:
    """What a command line means. ``args.command`` is None where only help or the version is asked for; what there is
    to be printed then is ``args.printed``.

    Raises:
        UsageError: a word is unknown, or one is missing; the message names the nearest known one.
    """
    at = command_at(words)
    name = words[at] if at is not None else None
    if name == "help":
        return _help(words[at + 1 :] if at is not None else ())
    if name is not None:
        _must_be_command(name)
    parser = build_parser((name,) if name else ())
    command = command_parser(parser, name) if name else None
    _must_be_options(words[: at if at is not None else len(words)], parser, command)
    if command is not None and at is not None:
        _must_be_options(words[at + 1 :], command, None)
    args, unused = parser.parse_known_args(words)
    if unused:
        (command or parser).error(f"{unused[0]!r} is a word too many")
    args.words = list(words)
    if args.version or name is None:
        args.command = None
        args.printed = _version() if args.version else parser.format_help()
        args.status = ExitStatus.DONE if args.version else ExitStatus.USAGE
        return args
    args.project = args.project or os.environ.get(PROJECT_VARIABLE) or None
    return args


def _must_be_command(name: str) -> None:
    if name not in COMMANDS:
        # Loaded only where something is wrong.
        from ..config.known_names import similar

        raise UsageError(
            f"there is no command {name!r}{similar(name, [*COMMANDS, 'help'])}",
            "`vetrin help` lists the commands",
        )


def command_at(words: Sequence[str]) -> int | None:
    """Where the command's name stands among the words."""
    skip = False
    for at, word in enumerate(words):
        if skip:
            skip = False
        elif word in COMMON_WITH_VALUE:
            skip = True
        elif not word.startswith("-"):
            return at
    return None


def command_parser(parser: Parser, name: str) -> Parser:
    found: Parser
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            found = action.choices[name]
    return found


def _must_be_options(words: Sequence[str], parser: Parser, command: Parser | None) -> None:
    """Raises UsageError for an option that the parser does not have; ``command`` may have it behind its name."""
    for word in words:
        if word == "--":
            return
        option = word.partition("=")[0]
        known = parser.options()
        if not word.startswith("-") or word == "-" or option in known or " " in option:
            continue
        if command is not None and option in command.options():
            raise UsageError(
                f"{parser.prog}: {option} stands before the command",
                f"put it behind {command.prog}",
            )
        raise UsageError(
            f"{parser.prog}: there is no option {option}{_nearest(option, known)}",
            f"`{parser.prog} --help` lists the options",
        )


def _nearest(option: str, known: Sequence[str]) -> str:
    """The end of a remark about an option: the nearest known one, by what is behind the dashes."""
    # As above.
    from ..config.known_names import similar

    names = {name.lstrip("-"): name for name in known}
    found = similar(option.lstrip("-"), list(names))
    return found.replace("did you mean ", "did you mean --") if found else ""


def _help(words: Sequence[str]) -> argparse.Namespace:
    """The help that `vetrin help …` asks for."""
    name = next((word for word in words if not word.startswith("-")), "help")
    if name == "help":
        text = build_parser(()).format_help()
    else:
        _must_be_command(name)
        text = command_parser(build_parser((name,)), name).format_help()
    return argparse.Namespace(command=None, printed=text, status=ExitStatus.DONE)


def _version() -> str:
    # It takes long to load, and only this asks.
    from importlib.metadata import version

    return f"vetrin {version('vetrin')}\n"
