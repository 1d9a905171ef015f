"""What one rewrite replaces by what: pairs of addresses, of paths on disk, and of literals."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from typing import Literal

from msgspec import Struct

from ..errors import AddressError, MappingError
from .address import Address

_HOST_ALONE = re.compile(r"(?:[a-z0-9-]+\.)+[a-z][a-z0-9-]+(?::\d+)?$", re.IGNORECASE)
_DRIVE = re.compile(r"[A-Za-z]:[\\/]")


class DiskPath(Struct, frozen=True):
    """An absolute path on disk, split at its separators; ``drive`` is ``"C:"`` or empty."""

    drive: str
    segments: tuple[str, ...]

    @classmethod
    def parse(cls, text: str) -> DiskPath:
        """Read ``/srv/www/site`` or ``C:\\sites\\x``; raises MappingError where it is relative."""
        if _DRIVE.match(text):
            drive, rest = text[:2], text[2:]
            segments = tuple(part for part in re.split(r"[\\/]+", rest) if part)
        elif text.startswith("/"):
            drive, segments = "", tuple(part for part in text.split("/") if part)
        else:
            raise MappingError(f"{text!r} is not an absolute path")
        if not segments:
            raise MappingError(f"{text!r} is the root of a disk and would match everywhere")
        return cls(drive, segments)

    def __str__(self) -> str:
        separator = "\\" if self.drive else "/"
        return self.drive + separator + separator.join(self.segments)


class Pair(Struct, frozen=True):
    """One replacement. ``old`` and ``new`` are of the type that ``kind`` names."""

    kind: Literal["address", "path", "literal", "relative"]
    old: Address | DiskPath | bytes
    new: Address | DiskPath | bytes

    @property
    def old_text(self) -> str:
        return _link(self.old) if self.kind == "relative" else _text(self.old)

    @property
    def new_text(self) -> str:
        return _link(self.new) if self.kind == "relative" else _text(self.new)


def parse_pair(text: str) -> Pair:
    """Read ``OLD=NEW`` as a person writes it: two addresses, two paths on disk, or two texts.

    Raises:
        MappingError: there is no ``=``, or the two sides are of different kinds, or OLD is a bare
            host name, which would also be replaced inside e-mail addresses.
    """
    at = _split(text)
    if at < 0:
        raise MappingError(f"{text!r}: write OLD=NEW")
    old, new = text[:at], text[at + 1 :]
    for kind, parse in (("address", Address.parse), ("path", DiskPath.parse)):
        sides = [_read(parse, side) for side in (old, new)]
        if all(side is not None for side in sides):
            return Pair(kind, sides[0], sides[1])  # type: ignore[arg-type]
        if sides[0] is not None:
            raise MappingError(f"{text!r}: {old} is of the kind {kind}, {new or 'nothing'} is not")
    if _HOST_ALONE.match(old):
        raise MappingError(
            f"{text!r}: write the address with its scheme, as in https://{old}=https://{new}; "
            "a text that is to be replaced everywhere, e-mail addresses too, goes behind --literal"
        )
    return parse_literal(text)


def parse_literal(text: str) -> Pair:
    """Read ``OLD=NEW`` as two texts, replaced wherever OLD stands; raises MappingError."""
    at = _split(text)
    if at < 1:
        raise MappingError(f"{text!r}: write OLD=NEW")
    return Pair("literal", text[:at].encode(), text[at + 1 :].encode())


def _split(text: str) -> int:
    """Where the ``=`` between the two sides stands: the one before an address or a path, if any."""
    for mark in ("=http://", "=https://", "=/"):
        if mark in text[1:]:
            return text.index(mark, 1)
    return text.find("=")


def _read(parse: Callable[[str], Address | DiskPath], side: str) -> Address | DiskPath | None:
    try:
        return parse(side)
    except (AddressError, MappingError):
        return None


def _text(side: Address | DiskPath | bytes) -> str:
    return side.decode("utf-8", "replace") if isinstance(side, bytes) else str(side)


def _link(path: Address | DiskPath | bytes) -> str:
    return f'href="{_text(path)}/…"'


class Mapping(Struct, frozen=True):
    """All pairs of one rewrite, applied in one pass, longest match first.

    ``bare_host``: also replace the host name where it stands without a scheme.
    """

    pairs: tuple[Pair, ...]
    bare_host: bool = False

    @classmethod
    def of(cls, pairs: Iterable[Pair]) -> Mapping:
        """A mapping of single pairs; raises MappingError where two contradict each other."""
        known: dict[object, Pair] = {}
        for pair in pairs:
            if pair.kind == "literal" and (not pair.old or b"\0" in pair.old):  # type: ignore[operator]
                raise MappingError("an empty text, or one with a NUL byte, cannot be replaced")
            old = pair.old
            key = (old.host, old.port, old.path) if isinstance(old, Address) else old
            if known.setdefault(key, pair).new != pair.new:
                raise MappingError(
                    f"{pair.old_text!r} would become both {known[key].new_text!r} "
                    f"and {pair.new_text!r}"
                )
        return cls(tuple(known.values()))

    @classmethod
    def build(
        cls,
        *,
        addresses: Iterable[Address] = (),
        address: Address | None = None,
        roots: Iterable[str] = (),
        root: str | None = None,
        relative: bool = True,
        literals: Sequence[tuple[bytes, bytes]] = (),
        bare_host: bool = False,
    ) -> Mapping:
        """Make the mapping from a source's ``addresses`` and ``roots`` to the target's.

        An address matches with http and https both, so two that differ in their scheme alone are
        one pair. Where the target lies inside the source, what already leads there is protected.

        With ``relative``, links that begin at the host's root follow from the folder of the first
        address to the target's.

        Raises:
            MappingError: a root is relative, a literal is empty, or two pairs replace the same.
        """
        addresses = list(addresses)
        found = _Pairs()
        if address is not None:
            found.add_addresses(addresses, address)
        if root is not None:
            found.add_roots(map(DiskPath.parse, roots), DiskPath.parse(root))
        first = next(iter(addresses), None)
        if relative and first is not None and address is not None and first.path != address.path:
            pair = Pair("relative", first.path.encode(), address.path.encode())
            found.add(("relative", first.path), pair)
        for old, new in literals:
            if not old:
                raise MappingError("an empty text cannot be replaced")
            if b"\0" in old:
                raise MappingError("a text with a NUL byte cannot be replaced")
            found.add(old, Pair("literal", old, new))
        return cls(tuple(found.pairs.values()), bare_host)


class _Pairs:
    """Pairs that are collected, each by what it matches."""

    def __init__(self) -> None:
        self.pairs: dict[object, Pair] = {}

    def add(self, key: object, pair: Pair) -> None:
        """Raises MappingError where the same becomes something else already."""
        known = self.pairs.setdefault(key, pair)
        if known.new != pair.new:
            raise MappingError(
                f"{pair.old_text!r} would become both {known.new_text!r} and {pair.new_text!r}"
            )

    def add_addresses(self, addresses: Iterable[Address], address: Address) -> None:
        for old in addresses:
            self.add((old.host, old.port, old.path), Pair("address", old, address))
            if old.covers(address) and old.path != address.path:
                # The target lives in a folder of the source: what leads there stays.
                key = (address.host, address.port, address.path)
                self.add(key, Pair("address", address, address))

    def add_roots(self, roots: Iterable[DiskPath], root: DiskPath) -> None:
        for old in roots:
            if old == root:
                continue
            self.add(old, Pair("path", old, root))
            if root.segments[: len(old.segments)] == old.segments:
                self.add(root, Pair("path", root, root))
