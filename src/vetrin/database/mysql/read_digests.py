"""Digests of pages whose rows are read here, and mostly look as they did."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import closing
from typing import Protocol

from ..digests import NO_ROWS, UNTOLD, digest_of_sums, joint_digest, rows_in, sums_of_records
from ..key_ranges import KeyRange
from ..page_prints import ALIGNED, Packets, PagePrints
from ..rows_aside import LARGEST, Aside, Part, RowsAside
from ..strips import UNSEEN, Print, Strips
from .asked_pages import Ask, AskedPages, KnownPages
from .raw_rows import RawRows
from .side_by_side import Work
from .strip_by_strip import StripByStrip
from .wire import Wire

_HELD = 4 << 20  # bytes of a page that are looked at at once
_STRETCH = 1 << 20
_TOGETHER = 1 << 20  # bytes of pages that are asked for in one query
_PAGES = 16  # such pages
Groups = Sequence[Sequence[int]]  # of pages that are read together, by their numbers


class Elsewhere(Protocol):
    """Reads pages in a process of its own, once it pays."""

    def pays(self) -> None:
        """There is more to do with pages than to see that they are as they were."""

    def __call__(
        self,
        pages: KnownPages,
        prints: PagePrints,
        groups: Groups,
        queries: Sequence[str],
        aside: RowsAside | None,
    ) -> list[str] | None:
        """What ``PageReading.through`` finds in the answers to some queries, and puts ``aside``; None where it is to
        be done here.

        Raises:
            pymysql.Error: the server said so, or the connection broke.
        """


def read_digests(
    wire: Wire,
    pages: AskedPages,
    prints: PagePrints,
    ask: Ask,
    aside: RowsAside | None = None,
    elsewhere: Elsewhere | None = None,
) -> Work[list[str]]:
    """The digests of some pages, which may be read ``elsewhere``; the server is asked for those of large ones that
    changed. What is known of others that are not as they were is put ``aside``. Nothing else may be under way over
    the connection.
    """
    prints.know(pages.known)
    reading = PageReading(pages, prints, aside)
    groups = [*reading.groups()]
    ranges = pages.ranges
    queries = [
        pages.query(KeyRange(ranges[group[0]].after, ranges[group[-1]].upto)) for group in groups
    ]
    found = None
    if elsewhere is not None:
        found = elsewhere(pages, prints, groups, queries, aside)
    if found is None:
        with closing(wire.answers(queries)) as answers:
            found = reading.through(groups, answers)
        if elsewhere is not None and reading.others:
            elsewhere.pays()
    prints.keep()
    late = [number for number, digest in enumerate(found) if digest == UNTOLD]
    if late:
        told = yield from ask([ranges[number] for number in late])
        for number, digest in zip(late, told, strict=True):
            found[number] = digest
    return found


class PageReading:
    """Goes through the answers to queries that read some pages, each of them a group of neighbours.

    A page that changed is looked at strip by strip: where the rows in a strip are as many as they were, those behind
    it still look alike. Where that fails, the rows of the rest of the answer are sorted out by their keys.
    """

    def __init__(self, pages: KnownPages, prints: PagePrints, aside: Aside | None = None) -> None:
        self._pages = pages
        self._prints = prints
        self._aside = aside
        self._form = pages.form
        self._strips: Callable[[str], Strips] | None = None
        self.others = 0  # pages that do not look as they did, or of which that is not known
        self._found = [UNTOLD] * len(pages.ranges)

    def groups(self) -> Iterator[list[int]]:
        """The pages that are asked for together: their packets are numbered as if each came alone."""
        ranges, group = self._pages.ranges, list[int]()
        size = rows = 0
        like = False
        for number, claim in enumerate(self._pages.known):
            seen = self._seen(claim)
            known = seen is not None or self._prints.knows(claim)
            if group and not (
                self._pages.places
                and rows % ALIGNED == 0
                and len(group) < _PAGES
                and (known == like or not rows)
                and size + (seen.size if seen else 0) <= _TOGETHER
                and ranges[group[-1]].upto == ranges[number].after is not None
            ):
                yield group
                group, size, rows = [], 0, 0
            like = known
            group.append(number)
            size += seen.size if seen else 0
            rows += rows_in(claim)
        if group:
            yield group

    def _seen(self, claim: str) -> Print | None:
        return UNSEEN if claim == NO_ROWS else self._prints.of(claim)

    def through(self, groups: Groups, answers: Iterable[RawRows]) -> list[str]:
        """The digests of all pages, by the answers for groups of them; UNTOLD where the server has to be asked."""
        for group, rows in zip(groups, answers, strict=True):
            self._group(rows, group)
        return self._found

    def _group(self, rows: RawRows, numbers: Sequence[int]) -> None:
        """Find the digests of the pages of one answer."""
        for place, number in enumerate(numbers):
            claim = self._pages.known[number]
            seen = self._seen(claim)
            if seen is not None and seen.size > _HELD:  # it comes alone
                if stretches := self._prints.strips_of([claim], ())(claim):
                    self._found[number] = claim if self._are(rows, stretches) else UNTOLD
                else:
                    self._rest(rows, [number], begun=False)
                return
            if seen is not None and self._is(rows, *seen):
                rows.pass_by(seen.size)
                self._found[number] = claim
                continue
            self.others += 1
            if place and not self._is_beyond(rows, 0, numbers[place - 1]):
                self._rest(rows, numbers[place - 1 :], begun=True)
                return
            if not self._by_strips(rows, number):
                self._rest(rows, numbers[place:], begun=False)
                return
        if not rows.at_end():
            self._rest(rows, numbers[-1:], begun=True)

    def _is(self, rows: RawRows, size: int, tag: bytes) -> bool:
        come = rows.coming(size)
        return len(come) == size and (not size or self._prints.tag_of(come) == tag)

    def _is_beyond(self, rows: RawRows, begin: int, number: int) -> bool:
        """Whether all rows behind so many bytes are beyond a page."""
        if rows.ends(begin):
            return True
        upto = self._pages.ranges[number].upto
        _, records = rows.walk(begin, 1)
        return upto is not None and bool(records) and self._form.key(records[0]) > upto

    def _by_strips(self, rows: RawRows, number: int) -> bool:
        """Find the digest of a page by its strips; False where another number of rows is in one of them, or they are
        not known."""
        pages = self._pages
        claim = pages.known[number]
        if not pages.places:
            return False
        if self._strips is None:
            self._strips = self._prints.strips_of(pages.known, pages.places)
        strips = self._strips(claim)
        if not strips:
            return False
        page, tag_of = StripByStrip(pages, number, strips), self._prints.tag_of
        begin, come = 0, rows.coming(sum(strips.sizes))
        for at, (size, tag) in enumerate(zip(strips.sizes, strips.tags, strict=True)):
            end = begin + size
            if end > len(come):
                come = rows.coming(end)
            if size and end <= len(come) and tag_of(come[begin:end]) == tag:
                begin = end
                continue
            end, records = rows.walk(begin, strips.rows[at])
            if len(records) < strips.rows[at]:
                return False
            if not page.became(at, self._prints.print_of(rows.at_hand(begin, end)), records):
                return False
            begin, come = end, rows.coming(len(come))  # which may lie elsewhere by now
        if not self._is_beyond(rows, begin, number):
            return False
        whole = self._prints.print_of(rows.at_hand(0, begin))
        self._found[number] = page.end(self._prints, whole, self._aside)
        rows.pass_by(begin)
        return True

    def _rest(self, rows: RawRows, numbers: Sequence[int], *, begun: bool) -> None:
        """Find the digests of pages by all rows that are left of an answer; ``begun``: those of the first are more
        than it had."""
        claim = self._pages.known[numbers[0]]
        gathered = [
            _Gathered(
                self._prints, self._pages, claim if not at and begun and claim != NO_ROWS else ""
            )
            for at in range(len(numbers))
        ]
        at = 0
        for _, records in rows.stretches(_STRETCH):
            rest = records
            while rest:
                upto = self._pages.ranges[numbers[at]].upto
                stop = len(rest)
                if upto is not None and at + 1 < len(numbers):
                    stop = bisect_right(rest, upto, key=self._form.key)
                gathered[at].add(rest[:stop] if stop < len(rest) else rest)
                rest = rest[stop:]
                at += bool(rest)
        for number, one in zip(numbers, gathered, strict=True):
            digest = self._found[number] = one.end()
            claim = self._pages.known[number]
            if self._aside is not None and one.whole and digest != claim:
                part = Part(self._pages.ranges[number], (claim, digest), records=one.records)
                self._aside.put(number, [part])

    def _are(self, rows: RawRows, stretches: Strips) -> bool:
        """Whether the rows of an answer are those of some stretches, and no more."""
        for stretch in stretches:
            if not self._is(rows, *stretch.seen):
                return False
            rows.pass_by(stretch.seen.size)
        return rows.at_end()


class _Gathered:
    """The rows of a page as they come. ``more`` is the digest of those that came before; ``whole``: all are held."""

    def __init__(self, prints: PagePrints, pages: KnownPages, more: str) -> None:
        self._prints = prints
        self._form = pages.form
        self._places = pages.places
        self._parts = [more] if more else []
        self._packets: Packets | None = None
        self._size = 0
        self._sums: list[int] = []
        self.records: list[bytes] = []
        self.whole = self._learns = not more

    def add(self, records: list[bytes]) -> None:
        self._size += sum(map(len, records))
        if self._packets is None and self._size <= LARGEST:
            self.records += records
            self._sums += sums_of_records(records)
            return
        sums = sums_of_records(records)
        if self._packets is None:
            self._packets = Packets(self._prints, self._form.width)
            self._parts.append(digest_of_sums(self._sums))
            self._packets.add(self.records, self._sums)
            self.records, self._sums, self.whole = [], [], False
        self._packets.add(records, sums)
        self._parts.append(digest_of_sums(sums))

    def end(self) -> str:
        """The digest of all of them; what they look like is remembered."""
        digest = joint_digest([*self._parts, digest_of_sums(self._sums)])
        if self.whole and digest != NO_ROWS:
            records, key = self.records, self._form.key
            self._prints.look_at(
                digest,
                records,
                self._form.width,
                self._sums,
                lambda at: key(records[at]),
                self._places,
            )
        elif self._packets is not None and self._learns:
            self._packets.learn()
        return digest
