"""Running a command and saying, in one message and one exit code, how it ended."""

from __future__ import annotations

import argparse
import errno
import os
import sys
import traceback
from collections.abc import Callable
from pathlib import Path

from ..config import bytes_per_second, defaults_file, find_project, user_defaults
from ..errors import ExitStatus, NothingToDo, ProjectError, UsageError, VetrinError, described
from ..files import own_folder
from ..jobs import was_cut_off
from ..remote import Hosts
from .asking import Terminal
from .console import Out
from .outlets import Outlet
from .parser import COLOR_VARIABLE

_LOOKS = ("status", "survey", "compare", "reach", "check", "strays", "snapshots", "history")
_OF_THE_DISK = (errno.ENOSPC, errno.EDQUOT, errno.EROFS, errno.EACCES, errno.EPERM)
# A folder where a file is asked for, a file where a folder is, a name that no disk takes.
_OF_A_NAME = (errno.EISDIR, errno.ENOTDIR, errno.ENAMETOOLONG, errno.ELOOP, errno.EEXIST)


def carry_out(run: Callable[[argparse.Namespace, Out], int], args: argparse.Namespace) -> int:
    """Call ``run``; every error becomes a message and its exit code, never a traceback."""
    try:
        defaults = user_defaults()
    except ProjectError as error:
        return Out(json=args.json).fail(
            error.status, str(error), "correct or remove that file", error.code
        )
    args.color = args.color or os.environ.get(COLOR_VARIABLE) or defaults.color or None
    out = Out(
        json=args.json,
        quiet=args.quiet,
        verbose=args.verbose,
        events=args.events,
        yes=args.yes,
        color=args.color,
    )
    out.takes_over = getattr(args, "take_over", False)
    try:
        given = "--rate"
        rate = bytes_per_second(args.rate) if args.rate else None
        given = f"{defaults_file()} rate"
        usual = bytes_per_second(defaults.rate) if defaults.rate else None
    except ValueError as error:
        return out.fail(ExitStatus.USAGE, f"{given}: {error}", code=UsageError().code)
    out.hosts = Hosts(Terminal(out), rate=rate, usual_rate=usual)
    try:
        code = run(args, out)
        if code != ExitStatus.DONE:
            out.release()
        return _told(args, out, code)
    except NothingToDo as error:
        out.document("nothing", {"done": False, "why": str(error), "remedy": error.remedy})
        out.say(f"{error}\n  → {error.remedy}")
        return ExitStatus.DONE
    except VetrinError as error:
        if error.status is ExitStatus.FAILED:
            return _failed(out, error, error.remedy)
        return out.fail(error.status, str(error), error.remedy, error.code)
    except KeyboardInterrupt:
        return out.fail(
            ExitStatus.FAILED,
            "interrupted",
            "nothing has changed; run the command again",
            "interrupted",
        )
    except Exception as error:
        if isinstance(error, OSError) and error.errno in _OF_THE_DISK:
            return _failed(out, error, "free some room there, or see that the account may write")
        if isinstance(error, OSError) and error.errno in _OF_A_NAME and error.filename is not None:
            return out.fail(ExitStatus.USAGE, described(error), "name another one", "file")
        if was_cut_off(error):
            return _failed(out, error, "")
        where = _note(args)
        if out.verbose:
            traceback.print_exc()
        return out.fail(
            ExitStatus.FAILED,
            f"an error that Vetrin did not expect: {type(error).__name__}: {error}",
            f"its origin is in {where}" if where else "--verbose shows its origin",
            "unexpected",
        )
    finally:
        out.hosts.close()


def _told(args: argparse.Namespace, out: Out, code: int) -> int:
    """The exit code, where what there was to say could be said; where it could not, that of a look is another."""
    full = sys.stdout.full if isinstance(sys.stdout, Outlet) else None
    if full is None:
        return code
    failed = out.fail(
        ExitStatus.FAILED, f"the output could not be written: {full.strerror or full}"
    )
    return failed if args.command in _LOOKS and code == ExitStatus.DONE else code


def _failed(out: Out, error: Exception, remedy: str) -> int:
    if out.verbose:
        traceback.print_exc()
    if not remedy and was_cut_off(error):
        remedy = "a connection broke; see that the other side is there, then run the command again"
    code = (
        error.code
        if isinstance(error, VetrinError)
        else "connection"
        if was_cut_off(error)
        else "file"
    )
    return out.fail(ExitStatus.FAILED, described(error), remedy, code)


def _note(args: argparse.Namespace) -> str | None:
    """Write the traceback into the project's log file; its path."""
    try:
        path = own_folder(find_project(Path(args.project or "."))) / "errors.log"
        with path.open("a", encoding="utf-8") as file:
            file.write(traceback.format_exc() + "\n")
    except (ProjectError, OSError):
        return None
    return str(path)
