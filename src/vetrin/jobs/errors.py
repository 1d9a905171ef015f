"""Why a job did not come about. Each kind has its own exit code on the command line."""

from __future__ import annotations

import os

_LONGEST = 300  # characters of a name that are shown


def described(error: BaseException) -> str:
    """What an error says; one of the operating system by the file that it is about and the reason."""
    if isinstance(error, OSError) and error.filename is not None and error.strerror:
        name = error.filename if isinstance(error.filename, int) else os.fsdecode(error.filename)
        return f"{_shortened(str(name))}: {error.strerror}"
    return str(error) or type(error).__name__


def _shortened(name: str) -> str:
    return name if len(name) <= _LONGEST else f"{name[: _LONGEST // 2]}…{name[-_LONGEST // 2 :]}"


class JobError(Exception):
    """Something failed; the target is as it was before. ``remedy`` says what to do."""

    def __init__(self, message: str, remedy: str = "") -> None:
        super().__init__(message)
        self.remedy = remedy


class Refused(JobError):
    """A guard says no: access, a missing confirmation, another run, two sites that do not fit."""


class HalfDone(JobError):
    """A run ended in its switch, and could not be finished or taken back from here: its target is neither old
    nor new. Whatever writes there next puts it right first."""

    def __init__(self, reason: str, environment: str) -> None:
        super().__init__(
            f"stopped in the switch: {reason}",
            f"{environment} may be half old and half new; as soon as it can be reached, "
            f"`vetrin resume {environment}` finishes the switch, `vetrin undo {environment}` takes it back",
        )


class Overtaken(Refused):
    """Another run took over the lock of this one, which does nothing any more."""

    def __init__(self, environment: str, by: str) -> None:
        super().__init__(
            f"another run took over{f': {by}' if by else ''}; this one has ended without doing anything more",
            f"`vetrin history` and `vetrin status` say what stands in {environment}",
        )


class LeftBroken(JobError):
    """What was pushed is live, was found to be broken, and could not be undone."""


class Stopped(Exception):
    """A run ended in between; the target is as it was, and the run can be gone on with."""

    def __init__(self, reason: str, environment: str) -> None:
        super().__init__(f"stopped: {reason}")
        self.environment = environment
        self.remedy = (
            f"{environment} is as it was before; `vetrin resume {environment}` goes on where it ended, "
            f"`vetrin undo {environment}` gives it up"
        )
