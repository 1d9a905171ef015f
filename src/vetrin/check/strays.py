"""References that lead from one environment to another."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ..project import Environment
from ..rewrite import Address, DiskPath, Mapping, Pair, Scanner

_NOWHERE = Address("http", "nowhere.invalid")
_SNIPPET = 40


@dataclass(frozen=True)
class Stray:
    """A reference to ``environment`` in the form it has there, with its surroundings."""

    environment: str
    form: str
    text: str
    snippet: str


class StrayScanner:
    """Finds references to the other environments of a project.

    What belongs to ``own`` does not count, even where its address or folder lies inside another's.
    """

    def __init__(
        self, own: Environment, others: Sequence[Environment], *, paths: bool = True
    ) -> None:
        pairs: list[Pair] = []
        self._owners: list[str] = []
        for environment in others:
            for address in environment.addresses:
                if address not in own.addresses:
                    pairs.append(Pair("address", address, _NOWHERE))
                    self._owners.append(environment.name)
            if paths:
                root = DiskPath.parse(str(environment.root))
                pairs.append(Pair("path", root, DiskPath("", ("nowhere",))))
                self._owners.append(environment.name)
        for address in own.addresses:
            pairs.append(Pair("address", address, address))
        if paths:
            root = DiskPath.parse(str(own.root))
            pairs.append(Pair("path", root, root))
        self.mapping = Mapping(tuple(pairs))
        self._scanner = Scanner(self.mapping)

    def may_find(self, data: bytes) -> bool:
        """False only where ``find`` would find nothing; a scan at memory speed."""
        return self._scanner.may_match(data)

    def find(self, data: bytes) -> list[Stray]:
        """All references in ``data``, in their order."""
        if not self._scanner.may_match(data):
            return []
        found = []
        for match in self._scanner.find(data):
            if match.pair >= len(self._owners):
                continue
            start, end = max(0, match.start - _SNIPPET), match.end + _SNIPPET
            snippet = data[start:end].decode("utf-8", "replace")
            found.append(
                Stray(
                    self._owners[match.pair],
                    match.form,
                    data[match.start : match.end].decode("utf-8", "replace"),
                    " ".join(snippet.split()),
                )
            )
        return found
