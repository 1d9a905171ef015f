"""vetrin demo"""

from __future__ import annotations

import argparse
import contextlib
import os
import shutil
import subprocess
import sys
import tempfile
import threading
from pathlib import Path

from rich.panel import Panel

from ...config import VARIABLE
from ...demo.sample import Sample, lay_out, servers
from ...demo.walk import Step, steps
from ...errors import DemoError, ExitStatus
from ..console import Out, lead


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Make a sample site, the Harrowmere Light Railway, in three environments with servers of\n"
        "their own on this machine, and walk through the job with the very commands you would type."
    )
    parser.add_argument("--into", metavar="DIR", help="make it in this folder and leave it there")
    parser.add_argument("--serve", action="store_true", help="keep the servers up until Ctrl-C")
    parser.add_argument(
        "--scale", type=int, default=1, metavar="N", help="N times as many rows (1)"
    )
    parser.epilog = """examples:
  vetrin demo
  vetrin demo --into railway --serve"""


def run(args: argparse.Namespace, out: Out) -> int:
    if args.scale < 1:
        return out.fail(ExitStatus.USAGE, "--scale: give a whole number from 1 up")
    folder = Path(args.into) if args.into else Path(tempfile.mkdtemp(prefix="vetrin-demo-"))
    try:
        sample = lay_out(folder, args.scale)
        with servers(sample):
            failed = _walk(sample, out)
            if failed is None:
                _ending(sample, out, args)
                if args.serve:
                    with contextlib.suppress(KeyboardInterrupt):
                        threading.Event().wait()
    except DemoError as error:
        return out.fail(ExitStatus.FAILED, str(error))
    finally:
        if not args.into:
            shutil.rmtree(folder, ignore_errors=True)
    out.document("demo", {"folder": str(folder), "good": failed is None, "failed_step": failed})
    return ExitStatus.DONE if failed is None else ExitStatus.FAILED


def _walk(sample: Sample, out: Out) -> str | None:
    """Do all steps; the command of the first one that does not do what it says."""
    out.show(
        lead(f"The sample project is in {sample.folder}: ", "bold").append(
            ", ".join(f"{name} at {sample.address(name)}" for name in sample.ports), style=""
        )
    )
    walk = steps(sample)
    for number, step in enumerate(walk, 1):
        if out.at_terminal and not out.json and number > 1:
            out.messages.print(lead("\nEnter goes on, q ends: ", "dim"), end="")
            if input().strip().lower() == "q":
                return None
        if not _do(sample, step, number, len(walk), out):
            command = "vetrin " + " ".join(step.command)
            out.fail(ExitStatus.FAILED, f"step {number} did not do what it says: {command}")
            return command
    return None


def _do(sample: Sample, step: Step, number: int, count: int, out: Out) -> bool:
    out.show("")
    step.before()
    out.show(Panel(step.tells, title=f"{number} of {count}", title_align="left", expand=False))
    command = " ".join(step.command)
    out.show(lead(f"$ vetrin {command}", "bold"))
    sys.stdout.flush()
    # The commands of its sample project are Vetrin's own.
    environment = {**os.environ, "PYTHONSAFEPATH": "1", VARIABLE: "run"}
    done = subprocess.run(
        [sys.executable, "-m", "vetrin", *step.command],
        cwd=sample.folder,
        env=environment,
        stdout=subprocess.DEVNULL if out.json else None,
        stderr=subprocess.DEVNULL if out.json else None,
    )
    return done.returncode == step.code and step.holds()


def _ending(sample: Sample, out: Out, args: argparse.Namespace) -> None:
    if args.into:
        text = (
            f"cd {args.into}, then try:\n"
            "  vetrin pull production --to staging --dry-run\n"
            "  vetrin status --json\n"
            "  vetrin check production"
        )
        if not args.serve:
            text += "\n`check` needs the servers: `vetrin demo --into DIR --serve` keeps them up."
    else:
        text = (
            "`vetrin demo --into railway --serve` leaves the project there to play with.\n"
            "For a site of your own: `vetrin init` in its folder."
        )
    out.show("")
    out.show(Panel(text, title="What to try next", title_align="left", expand=False))
    if args.serve:
        out.say("the servers are up; Ctrl-C ends them")
        out.say(", ".join(f"{name} {sample.address(name)}" for name in sample.ports))
