"""Choosing the command and turning its outcome into an exit code.

Nothing is imported before it is needed: help has to come at once. A command's module has
``configure(parser)`` and ``run(args, out)``.
"""

from __future__ import annotations

import argparse
import sys
from importlib import import_module
from typing import NoReturn

from vetrin.errors import ExitStatus

COMMANDS = {
    "init": "write vetrin.toml for the site in this folder",
    "status": "show all environments side by side",
    "survey": "show what an environment consists of, and what could be left out",
    "compare": "put two environments side by side and mark what differs",
    "reach": "prove that an environment's files, database and address can be got at",
    "pull": "bring an environment's data and media here",
    "push": "carry the local code, built and checked, up to an environment",
    "run": "carry out a transfer that is saved under a name",
    "check": "look at an environment as a visitor and say what is wrong",
    "rewrite": "change a domain, a scheme, a path or any text in place",
    "strays": "list references that lead to another environment",
    "heal": "mend serialised values whose lengths somebody broke",
    "resume": "go on with a transfer that was stopped",
    "backup": "take a snapshot of an environment",
    "backups": "list, prove and thin out snapshots",
    "export": "pack a site into an archive that anyone can open",
    "import": "bring in an archive or a dump that somebody else made",
    "restore": "put back what a snapshot holds",
    "undo": "put back what the last run on an environment replaced",
    "history": "list what was done, newest first",
    "demo": "try everything on a made-up site, on this machine alone",
}

_EPILOG = """exit codes:
  0 done   1 failed, nothing changed   2 wrong usage or configuration
  3 stopped in between, resumable   4 a check found differences   5 refused by a guard

`vetrin COMMAND --help` explains a command, with examples.
`vetrin demo` shows the whole way on sample data."""


def build_parser(chosen: str | None) -> argparse.ArgumentParser:
    """The parser of the command line; only the chosen command's options are filled in."""
    parser = argparse.ArgumentParser(
        prog="vetrin",
        description="Keeps local, staging and production copies of a content-managed site in step.",
        epilog=_EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--version", action="store_true", help="print the version and end")
    commands = parser.add_subparsers(dest="command", metavar="COMMAND", title="commands")
    for name, summary in COMMANDS.items():
        command = commands.add_parser(
            name,
            help=summary,
            description=summary[0].upper() + summary[1:] + ".",
            formatter_class=argparse.RawDescriptionHelpFormatter,
        )
        if name == chosen:
            _module(name).configure(command)
            _common(command)
            if name in _WRITING:
                command.add_argument(
                    "--take-over", action="store_true",
                    help="go on in place of the run that holds the environment's lock, which is stopped",
                )  # fmt: skip
    return parser


def _module(name: str):  # type: ignore[no-untyped-def]
    # A word of the language cannot be the name of a module.
    return import_module(f"vetrin.cli.commands.{'import_' if name == 'import' else name}")


# What writes to an environment, and can be refused because another run does.
_WRITING = ("pull", "push", "run", "rewrite", "heal", "resume", "import", "restore", "undo")


def _common(parser: argparse.ArgumentParser) -> None:
    group = parser.add_argument_group("options of every command")
    group.add_argument(
        "--project", metavar="DIR", help="the folder with vetrin.toml (found by itself)"
    )
    group.add_argument(
        "--yes",
        nargs="?",
        const=True,
        metavar="NAME",
        help="go ahead without asking; writing to production wants its NAME",
    )
    group.add_argument("--dry-run", action="store_true", help="show what would be done, and stop")
    group.add_argument(
        "--rate", metavar="RATE", help="at most this much over a connection, such as 2MB/s"
    )
    group.add_argument("--json", action="store_true", help="print one JSON document")
    group.add_argument("--quiet", action="store_true", help="no progress and no remarks")
    group.add_argument("--verbose", action="store_true", help="say more; errors with their origin")


def main(arguments: list[str] | None = None) -> NoReturn:
    """Run the command line and leave with its exit code."""
    argv = sys.argv[1:] if arguments is None else arguments
    chosen = next((word for word in argv if not word.startswith("-")), None)
    parser = build_parser(chosen if chosen in COMMANDS else None)
    args = parser.parse_args(argv)
    if args.version:
        from importlib.metadata import version  # it takes long to load, and only this asks

        print(f"vetrin {version('vetrin')}")
        sys.exit(ExitStatus.DONE)
    if args.command is None:
        parser.print_help()
        sys.exit(ExitStatus.USAGE)
    # Help comes at once: what carries commands out is loaded with the first of them.
    from .outcome import carry_out

    args.words = argv
    sys.exit(carry_out(_module(args.command).run, args))


def carried_out(words: list[str], outer: argparse.Namespace) -> int:
    """Carry out another command line in place of the one that was given; its exit code."""
    # Help comes at once: what carries commands out is loaded with the first of them.
    from .outcome import carry_out

    args = build_parser(words[0]).parse_args(words)
    args.words = words
    args.rate = args.rate or outer.rate
    return carry_out(_module(args.command).run, args)
