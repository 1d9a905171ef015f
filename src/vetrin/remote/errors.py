"""Why an environment cannot be reached."""

from __future__ import annotations


class ReachError(Exception):
    """Part of an environment cannot be got at. ``part`` is files, configuration or database."""

    def __init__(self, environment: str, part: str, message: str, remedy: str) -> None:
        super().__init__(f"{environment}: {message}")
        self.environment = environment
        self.part = part
        self.reason = message
        self.remedy = remedy
