"""Questions to a database that are known before their answers are needed.

A server behind a slow line answers ten of them together as soon as one: whoever knows what will be asked says so.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass

from .conditions import Where


@dataclass(frozen=True)
class Counting:
    """The question of ``ReadableDatabase.count``."""

    table: str
    where: Where | None = None


@dataclass(frozen=True)
class Selecting:
    """The question of ``ReadableDatabase.select``."""

    table: str
    columns: tuple[str, ...]
    where: Where | None = None
    order: Sequence[str] = ()
    descending: bool = False
    limit: int | None = None


@dataclass(frozen=True)
class Defining:
    """The question of ``ReadableDatabase.schema``."""

    table: str


Question = Counting | Selecting | Defining


class AskedOneByOne:
    """For databases whose answers cost no way there and back."""

    def looking(self) -> AbstractContextManager[None]:
        return nullcontext()

    def ahead(self, questions: Iterable[Question]) -> None:
        """Nothing: each is as quickly asked when it comes."""
