"""vetrin completion"""

from __future__ import annotations

import argparse

from ...errors import ExitStatus
from ..console import Out

SHELLS = ("bash", "zsh", "fish")


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Print what makes a shell complete Vetrin's commands and options, and a project's environments,\n"
        "routes, snapshots, tables and kinds of rows."
    )
    parser.add_argument("shell", choices=SHELLS, metavar="SHELL", help=", ".join(SHELLS))
    parser.epilog = """examples:
  vetrin completion bash > ~/.local/share/bash-completion/completions/vetrin
  vetrin completion zsh > ~/.zfunc/_vetrin        (with ~/.zfunc in fpath)
  vetrin completion fish > ~/.config/fish/completions/vetrin.fish"""


def run(args: argparse.Namespace, out: Out) -> int:
    # Loaded only here, and where a shell asks.
    from argcomplete.shell_integration import shellcode

    text = shellcode(["vetrin"], shell=args.shell)
    out.document("completion", {"shell": args.shell, "script": text})
    if not out.json:
        print(text)
    return ExitStatus.DONE
