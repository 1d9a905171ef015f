"""Choosing the command and turning its outcome into an exit code.

Nothing is imported before it is needed: help has to come at once. A command's module has
``configure(parser)`` and ``run(args, out)``.
"""

from __future__ import annotations

import argparse
import gc
import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext
from typing import NoReturn

from ..errors import UsageError
from .parser import module_of, parsed

_MADE = 20_000  # objects after which those are looked for that only hold one another: rows make many, and none such


def main(arguments: list[str] | None = None) -> NoReturn:
    """Run the command line and leave with its exit code."""
    if sys.platform == "win32":
        sys.exit(
            "Vetrin runs on Linux and macOS; on Windows, use it in WSL (wsl --install), "
            "where your files are below /mnt/c."
        )
    if "_ARGCOMPLETE" in os.environ:  # set by what `vetrin completion` prints
        # Loaded only where a shell asks.
        from .completing import complete

        complete()
    words = sys.argv[1:] if arguments is None else arguments
    try:
        args = parsed(words)
    except UsageError as error:
        sys.exit(_not_understood(words, error))
    if args.command is None:
        print(args.printed, end="")
        sys.exit(args.status)
    with _lasting() if arguments is None else nullcontext():
        # Help comes at once: what carries commands out is loaded with the first of them.
        from .outcome import carry_out

        run = module_of(args.command).run
    sys.exit(carry_out(run, args))


@contextmanager
def _lasting() -> Iterator[None]:
    """What is made meanwhile is there until the program ends: nobody looks for what can be thrown away of it."""
    gc.disable()
    try:
        yield
    finally:
        gc.freeze()
        gc.set_threshold(_MADE)
        gc.enable()


def carried_out(words: list[str], outer: argparse.Namespace) -> int:
    """Carry out another command line in place of the one that was given; its exit code."""
    # As above.
    from .outcome import carry_out

    args = parsed(words)
    args.rate = args.rate or outer.rate
    return carry_out(module_of(args.command).run, args)


def _not_understood(words: list[str], error: UsageError) -> int:
    # As above.
    from .console import Out

    return Out(json="--json" in words).fail(error.status, str(error), error.remedy, error.code)
