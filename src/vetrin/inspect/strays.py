"""References that lead from one environment to another."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from msgspec import Struct
from msgspec.structs import asdict

from ..config import Environment
from ..database import WantedRows, row_key
from ..errors import MappingError
from ..rewrite import Address, DiskPath, Mapping, Pair, Rewriter, Scanner, Tally
from ..rewrite.heal import heal
from ..site import ReadableSite

_NOWHERE = Address("http", "nowhere.invalid")
_SNIPPET = 40


class Stray(Struct, frozen=True):
    """A reference to ``environment`` in the form it has there, with its surroundings.

    ``target`` is the address or root of that environment which it leads to.
    """

    environment: str
    target: str
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
            root = _root(environment) if paths else None
            if root is not None:
                pairs.append(Pair("path", root, DiskPath("", ("nowhere",))))
                self._owners.append(environment.name)
        for address in own.addresses:
            pairs.append(Pair("address", address, address))
        root = _root(own) if paths else None
        if root is not None:
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
                    environment=self._owners[match.pair],
                    target=self.mapping.pairs[match.pair].old_text,
                    form=match.form,
                    text=data[match.start : match.end].decode("utf-8", "replace"),
                    snippet=" ".join(snippet.split()),
                )
            )
        return found


class Mender:
    """Tells what would mend a value that leads to other environments, if anything would.

    Some values are left as they are on purpose: one with a payload of its own form, one that somebody broke.
    """

    def __init__(self, own: Environment, others: Sequence[Environment]) -> None:
        self._strays = StrayScanner(own, others)
        roots = [str(root) for other in others if (root := _root(other)) is not None]
        own_root = _root(own)
        addresses = [a for other in others for a in other.addresses if a not in own.addresses]
        self._rewriter = Rewriter(
            Mapping.build(
                addresses=dict.fromkeys(addresses),
                address=own.address,
                roots=dict.fromkeys(roots) if own_root is not None else (),
                root=str(own_root) if own_root is not None and roots else None,
            )
        )

    def mends(self, value: bytes) -> Literal["rewrite", "heal", ""]:
        """``rewrite`` where that would leave nothing that leads elsewhere, ``heal`` where it would once the value
        is healed, else nothing."""
        if not self._strays.find(self._rewriter.rewrite(value, Tally())):
            return "rewrite"
        healed = heal(value)
        if healed.state == "healed" and not self._strays.find(
            self._rewriter.rewrite(healed.value, Tally())
        ):
            return "heal"
        return ""


def _root(environment: Environment) -> DiskPath | None:
    """Its folder; None where that is not known: an archive does not tell it, an account's home is not asked."""
    try:
        return DiskPath.parse(str(environment.root))
    except MappingError:
        return None


class Placed(Struct, frozen=True):
    """A stray and where it stands: ``table.column`` with its row's key, or a file."""

    where: str
    key: str
    stray: Stray


@dataclass
class Finding:
    """All strays of an environment, counted, and the first of them in full.

    ``candidates`` are addresses of nobody in the project that media of the site are linked under;
    ``mendable`` counts the values that ``rewrite`` or ``heal`` would mend, and under "" those that nothing would.
    """

    counts: Counter[tuple[str, str, str]] = field(default_factory=Counter)
    shown: list[Placed] = field(default_factory=list)
    candidates: Counter[str] = field(default_factory=Counter)
    addresses: list[str] = field(default_factory=list)
    roots: list[str] = field(default_factory=list)
    mendable: Counter[str] = field(default_factory=Counter)

    def __bool__(self) -> bool:
        return bool(self.counts or self.candidates)

    def as_json(self) -> dict[str, Any]:
        return {
            "strays": self.counts.total(),
            "counts": [
                {"where": where, "environment": environment, "form": form, "count": count}
                for (where, environment, form), count in self.counts.most_common()
            ],
            "shown": [
                {"where": item.where, "key": item.key, **asdict(item.stray)} for item in self.shown
            ],
            "candidates": dict(self.candidates),
            "values_that_a_rewrite_mends": self.mendable["rewrite"],
            "values_to_heal_first": self.mendable["heal"],
            "values_left_as_they_are": self.mendable[""],
        }


_CANDIDATES_FROM = 3
_LARGEST_TEXT = 8_000_000
_TEXT_FILES = (
    ".php", ".html", ".htm", ".css", ".js", ".json", ".xml", ".svg", ".txt", ".toml", ".yml", ".yaml",
    ".ini", ".conf", ".htaccess", ".env", ".md",
)  # fmt: skip


def find_strays(
    site: ReadableSite, others: Sequence[Environment], *, files: bool = False, limit: int = 20
) -> Finding:
    """Look through an environment's data, and its text files if asked.

    Raises:
        DatabaseError, FilesError: something could not be read.
    """
    finder = _Finder(site, others, limit)
    finder.data()
    if files:
        finder.files()
    return finder.finish()


class _Finder:
    def __init__(self, site: ReadableSite, others: Sequence[Environment], limit: int) -> None:
        self._site = site
        self._limit = limit
        self._scanner = StrayScanner(site.environment, others)
        self._mender = Mender(site.environment, others)
        self._found = Finding()
        self._targets: set[str] = set()
        self._others = others
        media = [re.escape(folder.encode()) for folder in site.definition.parts.get("media", ())]
        folders = b"|".join(folder.replace(b"/", rb"\\*/") for folder in media) or rb"(?!)"
        # An address in front of a path into the site's own media, plain or JSON-escaped.
        self._media = re.compile(
            rb"(https?):\\*/\\*/([a-z0-9.-]+(?::\d+)?)((?:\\*/[a-z0-9._-]+){0,3}?)\\*/(?:"
            + folders
            + rb")\\*/",
            re.IGNORECASE,
        )
        self._links: Counter[str] = Counter()

    def data(self) -> None:
        with self._site.database.reading() as reader:
            reader.expect([WantedRows(table) for table in self._site.tables])
            for table in self._site.tables:
                for batch in reader.rows(table):
                    for index in self._site.rewritable(table):
                        where = f"{table.name}.{table.columns[index].name}"
                        for row, value in enumerate(batch.texts(index)):
                            if value:
                                self._look(value, where, lambda: row_key(table, batch, row))  # noqa: B023

    def files(self) -> None:
        for path, entry in self._site.files.scan([""]).items():
            name = path.lower()
            if entry.kind == "file" and name.endswith(_TEXT_FILES) and entry.size <= _LARGEST_TEXT:
                data = b"".join(self._site.files.read(path))
                self._look(data, path, lambda: "")

    def _look(self, value: bytes, where: str, key: Callable[[], str]) -> None:
        strays = self._scanner.find(value)
        by = self._mender.mends(value) if strays else ""
        if strays:
            self._found.mendable[by] += 1
        for stray in strays:
            self._found.counts[where, stray.environment, stray.form] += 1
            if by:
                self._targets.add(stray.target)
            if len(self._found.shown) < self._limit:
                self._found.shown.append(Placed(where, key(), stray))
        if b"//" in value or b"/\\/" in value:
            for match in self._media.finditer(value):
                folder = match[3].replace(b"\\", b"").decode()
                self._links[f"{match[1].decode()}://{match[2].decode()}{folder}".lower()] += 1

    def finish(self) -> Finding:
        found = self._found
        known = [*self._site.environment.addresses]
        for environment in self._others:
            known += environment.addresses
            found.addresses += [
                str(address) for address in environment.addresses if str(address) in self._targets
            ]
            if str(environment.root) in self._targets:
                found.roots.append(str(environment.root))
        for text, count in self._links.items():
            address = Address.parse(text)
            if count >= _CANDIDATES_FROM and not any(one.covers(address) for one in known):
                found.candidates[text] = count
        for where, recorded in self._site.recorded_addresses():
            if where != "configuration" and not any(one.covers(recorded) for one in known):
                found.candidates[str(recorded)] += 1
        return found
