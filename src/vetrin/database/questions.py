"""Questions to a database that are known before their answers are needed.

A server behind a slow line answers ten of them together as soon as one: whoever knows what will be asked says so.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager, nullcontext
from typing import Any, Generic, TypeVar

from msgspec import Struct

from .conditions import Where


class Counting(Struct, frozen=True):
    """The question of ``ReadableDatabase.count``."""

    table: str
    where: Where | None = None


class Selecting(Struct, frozen=True):
    """The question of ``ReadableDatabase.select``."""

    table: str
    columns: tuple[str, ...]
    where: Where | None = None
    order: Sequence[str] = ()
    descending: bool = False
    limit: int | None = None


class Defining(Struct, frozen=True):
    """The question of ``ReadableDatabase.schema``."""

    table: str


Question = Counting | Selecting | Defining
Asked = TypeVar("Asked")


class Remembering(Generic[Asked]):
    """Asks nothing twice while it is looked at: ``_answers`` are those by what was asked, None at other times."""

    def __init__(self) -> None:
        self._answers: dict[Asked, list[Any]] | None = None

    @property
    def worth_remembering(self) -> bool:
        """True where an answer costs a way there and back."""
        return True

    @contextmanager
    def looking(self) -> Iterator[None]:
        """Remember answers while this context lasts."""
        outermost = self._answers is None and self.worth_remembering
        if outermost:
            self._answers = {}
        try:
            yield
        finally:
            if outermost:
                self._answers = None


class AskedOneByOne:
    """For databases whose answers cost no way there and back."""

    def looking(self) -> AbstractContextManager[None]:
        return nullcontext()

    def ahead(self, questions: Iterable[Question]) -> None:
        """Nothing: each is as quickly asked when it comes."""
