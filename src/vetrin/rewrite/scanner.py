"""Finding every place in a text where a pair of a mapping matches, in all forms.

The search looks for anchors (see ``anchors``) with ``bytes.find`` and reads the surroundings of each
hit: backwards for what stands before a host or a path, forwards for port, path and boundary. The
work for one hit is bounded, so a text costs linear time whatever it holds.
"""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Iterable, Iterator, Sequence
from itertools import accumulate
from operator import itemgetter
from typing import NamedTuple

from .address import DEFAULT_PORTS, Address
from .anchors import MOST, choose_anchors
from .forms import (
    BARE,
    BEFORE_HOST,
    COLON_BACK,
    JSON,
    LITERAL,
    PATH,
    PLAIN,
    PORT,
    RELATIVE,
    SCHEME_RELATIVE,
    SEPARATOR,
    SLASH,
    WINDOWS_SEPARATOR,
    begins_path,
    colon_like,
    ends_path,
    slash_form,
)
from .mapping import DiskPath, Mapping, Pair
from .relative_links import RelativeRule

_HOST_BYTES = b"abcdefghijklmnopqrstuvwxyz0123456789.-_"
_HOST_RUN = re.compile(rb"[a-z0-9._-]{0,260}")
_HOST_BYTE = frozenset(_HOST_BYTES)
_LONGEST_HOST = 260
_LONGEST_BEFORE = 60
_LONGEST_USER = 200
_ANY_AUTHORITY = re.compile(rb"/\\*/|2f%(?:25)?2f|2f\\+u002f|;&#(?:x0*2f|0*47);|@")
_CHUNK = 1 << 18
# What stands before nearly every host: these are compared, everything else is parsed.
_USUAL = {
    b"https://": (8, PLAIN, b"/"),
    b"http://": (7, PLAIN, b"/"),
    b"https:\\/\\/": (10, JSON, b"\\/"),
    b"http:\\/\\/": (9, JSON, b"\\/"),
}
# Behind a host these may go on with it, begin a port, or hide one: they are looked at closely.
_AMBIGUOUS = frozenset(bytes((byte,)) for byte in _HOST_BYTES + b":%\\&")
_HIDING = frozenset((b"\\", b"u", b""))
_FEW = 4
_START = itemgetter(0)
_SEPARATOR_ENDS = frozenset(b"/\\fFcC;")


class Match(NamedTuple):
    """One place to replace: ``data[start:end]`` becomes ``new``; ``pair`` is the pair's index."""

    start: int
    end: int
    pair: int
    form: str
    new: bytes


class _AddressRule(NamedTuple):
    """``whole`` is what replaces a match that is written in one of the ``_USUAL`` ways."""

    pair: int
    port: int | None
    segments: tuple[bytes, ...]
    scheme: bytes
    host: bytes
    unicode_host: bytes
    new_port: bytes
    new_segments: tuple[bytes, ...]
    whole: dict[bytes, bytes]


# Where the anchor lies in a host, the host and its length, the pair, and what replaces a match.
_Usual = tuple[int, bytes, int, int, dict[bytes, bytes]]


class _PathRule:
    """One path on disk, matched around the segment in which its anchor lies."""

    def __init__(self, pair: int, old: DiskPath, new: DiskPath, key: int) -> None:
        self.pair = pair
        self.key = old.segments[key].encode()
        self._posix = not new.drive
        self._new = new
        separator = WINDOWS_SEPARATOR if old.drive else SEPARATOR
        before = [re.escape(part.encode()) for part in old.segments[:key]]
        drive = re.escape(old.drive.encode())
        head = drive + rb"(?P<s>" + separator + rb")"
        self._before = re.compile(
            head + b"".join(part + rb"(?P=s)" for part in before) + rb"$", re.DOTALL
        )
        self._reach = len(str(old)) * 6 + 80
        self._after = [part.encode() for part in old.segments[key + 1 :]]

    def match(self, data: bytes, position: int) -> Match | None:
        """Match with the key segment standing at ``position`` in ``data``."""
        if position < 1 or data[position - 1] not in _SEPARATOR_ENDS:
            return None
        if not data.startswith(self.key, position):
            return None
        lowest = max(0, position - self._reach)
        head = self._before.search(data, lowest, position)
        if head is None:
            return None
        start, separator = head.start(), head["s"]
        end = position + len(self.key)
        for part in self._after:
            if not data.startswith(separator + part, end):
                return None
            end += len(separator) + len(part)
        if not (begins_path(data, start) and ends_path(data, end)):
            return None
        form = PATH if separator in (b"/", b"\\") else f"{PATH}-{slash_form(separator)}"
        return Match(start=start, end=end, pair=self.pair, form=form, new=self._written(separator))

    def _written(self, separator: bytes) -> bytes:
        if self._posix and separator.strip(b"\\") == b"":
            separator = b"/"
        elif self._posix and separator[-2:].lower() == b"5c":
            separator = separator[:-2] + b"2F"
        parts = [part.encode() for part in self._new.segments]
        return self._new.drive.encode() + separator + separator.join(parts)


class Scanner:
    """Finds all matches of a mapping. Immutable; safe to share between threads."""

    def __init__(self, mapping: Mapping) -> None:
        self._bare = mapping.bare_host
        self._hosts: dict[bytes, list[_AddressRule]] = {}
        self._odd_hosts: dict[bytes, list[_AddressRule]] = {}
        paths: list[tuple[int, Pair, int]] = []
        literals: list[tuple[int, bytes, bytes]] = []
        self._relative: list[tuple[int, RelativeRule]] = []
        roots = [str(p.old).encode() for p in mapping.pairs if isinstance(p.old, DiskPath)]
        needles: list[bytes] = []
        for index, pair in enumerate(mapping.pairs):
            if isinstance(pair.old, Address) and isinstance(pair.new, Address):
                self._add_address(index, pair.old, pair.new)
            elif isinstance(pair.old, DiskPath):
                key = max(range(len(pair.old.segments)), key=lambda i: len(pair.old.segments[i]))  # type: ignore[union-attr]
                paths.append((index, pair, key))
                needles.append(pair.old.segments[key].encode().lower())
            elif pair.kind == "relative":
                assert isinstance(pair.old, bytes) and isinstance(pair.new, bytes)
                relative = RelativeRule(pair.old, pair.new, roots)
                self._relative.append((index, relative))
                needles += [relative.needle] if relative.needle else []
            elif isinstance(pair.old, bytes) and isinstance(pair.new, bytes):
                literals.append((index, pair.old, pair.new))
                needles.append(pair.old.lower())
        host_needles = [*self._hosts, *self._odd_hosts]
        chosen = choose_anchors([*needles, *host_needles])
        self._any_authority = len({chosen[host] for host in host_needles}) > MOST
        if self._any_authority:
            chosen = choose_anchors([*needles, *self._odd_hosts])
        for rules in (*self._hosts.values(), *self._odd_hosts.values()):
            rules.sort(key=lambda rule: -len(rule.segments))
        self._host_anchors: dict[bytes, list[_Usual]] = {}
        for host, rules in self._hosts.items():
            if host in chosen:
                usual = self._host_anchors.setdefault(chosen[host], [])
                longest = rules[0]
                if longest.port is None and not longest.segments:
                    offset = host.find(chosen[host])
                    usual.append((offset, host, len(host), longest.pair, longest.whole))
        for usual in self._host_anchors.values():
            if len(usual) > _FEW:
                usual.clear()
        self._odd_at: dict[bytes, list[tuple[int, bytes]]] = {}
        for host in self._odd_hosts:
            self._odd_at.setdefault(chosen[host], []).append((host.find(chosen[host]), host))
        self._paths: dict[bytes, list[tuple[int, _PathRule]]] = {}
        for index, pair, key in paths:
            assert isinstance(pair.old, DiskPath) and isinstance(pair.new, DiskPath)
            needle = pair.old.segments[key].encode().lower()
            rule = _PathRule(index, pair.old, pair.new, key)
            anchor = chosen[needle]
            self._paths.setdefault(anchor, []).append((needle.find(anchor), rule))
        self._literals: dict[bytes, list[tuple[int, int, bytes, bytes]]] = {}
        for index, old, new in literals:
            anchor = chosen[old.lower()]
            entry = (old.lower().find(anchor), index, old, new)
            self._literals.setdefault(anchor, []).append(entry)
        self.anchors: tuple[bytes, ...] = tuple(sorted(set(chosen.values()), key=len, reverse=True))

    def _add_address(self, index: int, old: Address, new: Address) -> None:
        rest = b"" if new.port is None else b":%d" % new.port
        segments = tuple(part.encode() for part in new.path.split("/")[1:])
        rule = _AddressRule(
            pair=index,
            port=old.port,
            segments=tuple(part.encode() for part in old.path.split("/")[1:]),
            scheme=new.scheme.encode(),
            host=new.host.encode(),
            unicode_host=new.unicode_host.encode(),
            new_port=rest[1:],
            new_segments=segments,
            whole={
                slash: new.scheme.encode() + b":" + slash * 2 + new.host.encode() + rest
                + b"".join(slash + segment for segment in segments)
                for _, _, slash in _USUAL.values()
            },
        )  # fmt: skip
        host = old.host.encode()
        if host.startswith(b"["):
            self._odd_hosts.setdefault(host, []).append(rule)
            return
        self._hosts.setdefault(host, []).append(rule)
        if old.unicode_host != old.host:
            for spelled in _spellings(old.unicode_host):
                self._odd_hosts.setdefault(spelled, []).append(rule)

    def may_match(self, data: bytes) -> bool:
        """False only where nothing can match; a scan at memory speed, in bounded memory."""
        if len(data) <= _CHUNK:
            return self._may_match(data.lower())
        overlap = max((len(anchor) for anchor in self.anchors), default=1)
        return any(
            self._may_match(data[at : at + _CHUNK + overlap].lower())
            for at in range(0, len(data), _CHUNK)
        )

    def _may_match(self, low: bytes) -> bool:
        return (
            any(anchor in low for anchor in self.anchors)
            or (self._any_authority and _ANY_AUTHORITY.search(low) is not None)
            or any(not rule.needle and b"/" in low for _, rule in self._relative)
        )

    def likely(self, texts: Sequence[bytes]) -> Sequence[int]:
        """The numbers of the texts in which something may match; of all others it is certain that nothing does."""
        relative = any(not rule.needle for _, rule in self._relative)
        if self._any_authority or relative:
            return range(len(texts))
        low = b"".join(texts).lower()
        ends = list(accumulate(map(len, texts)))
        found: set[int] = set()
        for anchor in self.anchors:
            at = low.find(anchor)
            while at >= 0:
                number = bisect_right(ends, at)
                found.add(number)
                at = low.find(anchor, ends[number])
        return sorted(found)

    def find(self, data: bytes) -> list[Match]:
        """All matches in ``data``, leftmost first and longest at each place, none overlapping."""
        found = list(self._candidates(data, data.lower()))
        found.sort(key=_START)
        kept: list[Match] = []
        start = end = -1
        for match in found:
            if match[0] >= end:
                kept.append(match)
            elif match[0] == start and match[1] > end:
                kept[-1] = match
            else:
                continue
            start, end = match[0], match[1]
        # A pair may protect a text by replacing it with itself.
        return [match for match in kept if data[match[0] : match[1]] != match[4]]

    def _candidates(self, data: bytes, low: bytes) -> Iterator[Match]:
        if self._any_authority:
            for hit in _ANY_AUTHORITY.finditer(low):
                match = self._host_around(data, low, hit.end(), hit.end())
                if match is not None:
                    yield match
        for index, relative in self._relative:
            for start, end, new in relative.matches(data):
                yield Match(start=start, end=end, pair=index, form=RELATIVE, new=new)
        for anchor in self.anchors:
            hosts = self._host_anchors.get(anchor)
            odd = self._odd_at.get(anchor, ())
            paths = self._paths.get(anchor, ())
            literals = self._literals.get(anchor, ())
            position = low.find(anchor)
            while position >= 0:
                if hosts is not None:
                    match = self._usual_at(data, low, position, hosts) or self._host_around(
                        data, low, position, position + len(anchor)
                    )
                    if match is not None:
                        yield match
                        if not (odd or literals):
                            # No path can begin inside an address.
                            position = low.find(anchor, match.end)
                            continue
                for offset, host in odd:
                    start = position - offset
                    if start >= 0 and low.startswith(host, start):
                        match = self._odd_host_at(data, low, start, host)
                        if match is not None:
                            yield match
                for offset, rule in paths:
                    match = rule.match(data, position - offset) if position >= offset else None
                    if match is not None:
                        yield match
                for offset, index, old, new in literals:
                    start = position - offset
                    if start >= 0 and data.startswith(old, start):
                        yield Match(
                            start=start, end=start + len(old), pair=index, form=LITERAL, new=new
                        )
                position = low.find(anchor, position + 1)

    def _usual_at(
        self, data: bytes, low: bytes, position: int, usual: list[_Usual]
    ) -> Match | None:
        """The match at an anchor's hit where it is written in the most usual way."""
        for offset, host, length, pair, whole in usual:
            begin = position - offset
            if begin < 10 or not low.startswith(host, begin):
                continue
            end = begin + length
            following = low[end : end + 1]
            # A backslash only begins another escape, unless it is that of a colon.
            if following in _AMBIGUOUS and (
                following != b"\\" or low[end + 1 : end + 2] in _HIDING
            ):
                return None
            before = data[begin - 10 : begin]
            written = _USUAL.get(before[2:]) or _USUAL.get(before[3:]) or _USUAL.get(before)
            if written is None:
                written = _USUAL.get(before[1:])
            if written is not None:
                length, form, slash = written
                return Match(start=begin - length, end=end, pair=pair, form=form, new=whole[slash])
            return None
        return None

    def _host_around(self, data: bytes, low: bytes, start: int, end: int) -> Match | None:
        """The match whose host holds ``low[start:end]``, if there is one."""
        head = low[max(0, start - _LONGEST_HOST) : start]
        begin = start - (len(head) - len(head.rstrip(_HOST_BYTES)))
        run = _HOST_RUN.match(low, end)
        finish = run.end() if run is not None else end
        host = low[begin:finish].rstrip(b".-_")
        rules = self._hosts.get(host)
        if rules is None:
            skip = _escape_length(low, begin)
            if not skip or begin + skip > start:
                return None
            begin += skip
            host = host[skip:]
            rules = self._hosts.get(host)
            if rules is None:
                return None
        return self._address(data, low, begin, begin + len(host), rules, odd=False)

    def _odd_host_at(self, data: bytes, low: bytes, start: int, host: bytes) -> Match | None:
        end = start + len(host)
        if host[-1] in _HOST_BYTE and end < len(low):
            run = _HOST_RUN.match(low, end)
            if run is not None and run.group().rstrip(b".-_"):
                return None
        return self._address(
            data, low, start, end, self._odd_hosts[host], odd=not host.startswith(b"[")
        )

    def _address(
        self, data: bytes, low: bytes, begin: int, end: int, rules: list[_AddressRule], *, odd: bool
    ) -> Match | None:
        before = low[max(0, begin - _LONGEST_BEFORE) : begin]
        if before[-1:] == b"@" or before[-3:] in (b"%40", b"540"):
            before = low[max(0, begin - _LONGEST_USER) : begin]
        back = before[::-1]
        prefix = BEFORE_HOST.match(back)
        if prefix is None:
            if not self._bare:
                return None
            return self._bare_host(data, low, begin, end, rules, odd=odd)
        slash_length = len(prefix["s"])
        slashes_end = begin - len(prefix["user"] or b"")
        slash = data[slashes_end - slash_length : slashes_end]
        slashes_start = slashes_end - 2 * slash_length
        scheme = prefix["h"]
        if scheme is None:
            rest = back[prefix.end() :]
            if COLON_BACK.match(rest) or rest.startswith(prefix["s"]):
                return None
            colon = colon_like(slash)
            start = slashes_start
            form = SCHEME_RELATIVE if slash == b"/" else slash_form(slash)
        else:
            colon_start = slashes_start - len(prefix["c"])
            colon = data[colon_start:slashes_start]
            start = colon_start - len(scheme)
            form = slash_form(slash)
        tail = self._tail(data, low, end, rules, scheme and scheme[::-1], slash)
        if tail is None:
            return None
        rule, finish = tail
        new = bytearray()
        if scheme is not None:
            old_scheme = data[start:colon_start]
            new += old_scheme if old_scheme.lower() == rule.scheme else rule.scheme
            new += colon
        new += data[slashes_start:begin]
        new += rule.unicode_host if odd else rule.host
        if rule.new_port:
            new += colon + rule.new_port
        for segment in rule.new_segments:
            new += slash + segment
        return Match(start=start, end=finish, pair=rule.pair, form=form, new=bytes(new))

    def _bare_host(
        self, data: bytes, low: bytes, begin: int, end: int, rules: list[_AddressRule], *, odd: bool
    ) -> Match | None:
        if low[begin - 1 : begin] == b"@" or low[max(0, begin - 3) : begin] in (b"%40", b"64;"):
            return None
        tail = self._tail(data, low, end, rules, None, b"/")
        if tail is None or low[end : end + 1] == b"@":
            return None
        rule, finish = tail
        new = bytearray(rule.unicode_host if odd else rule.host)
        if rule.new_port:
            new += b":" + rule.new_port
        for segment in rule.new_segments:
            new += b"/" + segment
        return Match(start=begin, end=finish, pair=rule.pair, form=BARE, new=bytes(new))

    @staticmethod
    def _tail(
        data: bytes,
        low: bytes,
        end: int,
        rules: list[_AddressRule],
        scheme: bytes | None,
        slash: bytes,
    ) -> tuple[_AddressRule, int] | None:
        """Read port and path behind a host; the rule that fits, and where its match ends."""
        port: int | None = None
        written = PORT.match(low, end)
        if written is not None:
            if len(written[1]) > 5 or written[2]:
                return None  # no port, and so no address
            port, end = int(written[1]), written.end()
            schemes = (scheme.decode(),) if scheme else ("http", "https")
            if any(DEFAULT_PORTS[name] == port for name in schemes):
                port = None
        for rule in rules:
            if rule.port != port:
                continue
            position = end
            for segment in rule.segments:
                separator = SLASH.match(data, position)
                if (
                    separator is None
                    or separator.group().lower() != slash.lower()
                    or not data.startswith(segment, separator.end())
                ):
                    break
                position = separator.end() + len(segment)
            else:
                if not rule.segments or ends_path(data, position):
                    return rule, position
        return None


def _spellings(host: str) -> Iterable[bytes]:
    """The ways an internationalised host is written out, lower-cased as the scanner sees them."""
    for text in {host.lower(), host.upper()}:
        raw = text.encode()
        yield raw.lower()
        yield "".join(c if c.isascii() else f"\\u{ord(c):04x}" for c in text).lower().encode()
        yield (
            "".join(
                c if c.isascii() else "".join(f"%{byte:02x}" for byte in c.encode()) for c in text
            )
            .lower()
            .encode()
        )


def _escape_length(low: bytes, begin: int) -> int:
    """How many leading bytes of what looks like a host belong to an escape that ends there."""
    if begin == 0:
        return 0
    before = low[begin - 1]
    if before == 0x25:
        if low.startswith((b"252f", b"2540"), begin):
            return 4
        return 2 if low.startswith((b"2f", b"40", b"20", b"22", b"27", b"3d", b"0a"), begin) else 0
    if before == 0x5C:
        slashes = len(low[:begin][-64:]) - len(low[max(0, begin - 64) : begin].rstrip(b"\\"))
        if low.startswith(b"u00", begin):
            return 5
        if slashes % 2 and low[begin] in b"nrtbf":
            return 1
    return 0


__all__ = ["Match", "Scanner"]
