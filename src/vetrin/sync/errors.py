"""Why a job did not come about. Each kind has its own exit code on the command line."""

from __future__ import annotations


class JobError(Exception):
    """Something failed; the target is as it was before. ``remedy`` says what to do."""

    def __init__(self, message: str, remedy: str = "") -> None:
        super().__init__(message)
        self.remedy = remedy


class Refused(JobError):
    """A guard says no: access, a missing confirmation, another run, two sites that do not fit."""
