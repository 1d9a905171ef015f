"""Pages: some rows that lie together in the order of a table's key, by whose digests (``digests.py``) it is known
what changed."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from functools import partial

from msgspec import Struct
from msgspec.structs import replace

from .base import Table
from .batch import Batch
from .digests import UNTOLD, digest_of_records, digest_of_sums, joint_digest, sums_of_records
from .key_ranges import KeyRange
from .page_prints import ALIGNED, Packets, PagePrints
from .row_codec import RecordForm, current_records, records_of
from .rows_aside import LARGEST, Part, RowsAside

PAGE_ROWS = 512  # of small rows: fewer cost the server more, more make a change concern more rows
_PAGE_BYTES = 128 << 10  # or so many, of larger ones
_WHOLE = ("int", "integer", "bigint", "mediumint", "smallint", "tinyint")


class Page(Struct, frozen=True):
    """Some rows that were taken: up to which key, how many, their digest, and that of what they ``became``."""

    upto: tuple[int, ...]
    rows: int
    digest: str
    became: str = UNTOLD


def can_copy_in_ranges(table: Table) -> bool:
    """True for a table that can be taken stretch by stretch: its key is made of whole numbers."""
    types = {
        column.name: column.type.split("(")[0].split(" ")[0].lower() for column in table.columns
    }
    return (
        table.consistent
        and bool(table.key)
        and all(types.get(name) in _WHOLE for name in table.key)
    )


def digest_of_rows(batches: Iterable[Batch]) -> str:
    """The digest of all rows of some batches."""
    return joint_digest(digest_of_records(records_as_read(batch)) for batch in batches)


def records_as_read(batch: Batch) -> list[bytes]:
    """The records of a batch's rows, before any of them changes."""
    if batch.records is None:
        batch.records = records_of(batch)
    return batch.records


def digests_by_reading(
    rows: Callable[[KeyRange], Iterable[Batch]],
    ranges: Sequence[KeyRange],
    known: Sequence[str] = (),
    aside: RowsAside | None = None,
) -> list[str]:
    """What ``Reader.digests`` gives, where no server makes it; ``rows`` reads a range."""
    found = []
    for number, key_range in enumerate(ranges):
        parts, there, size = [], list[bytes](), 0
        for batch in rows(key_range):
            records = records_as_read(batch)
            size += batch.size
            if aside is not None and size <= LARGEST:
                there += records
            parts.append(digest_of_records(records))
        now = joint_digest(parts)
        found.append(now)
        if aside is not None and known and now != known[number] and size <= LARGEST:
            aside.put(number, [Part(key_range, (known[number], now), there)])
    return found


class _Looks:
    """Has it remembered what the pages of a table look like, or all together where it does not go by key."""

    def __init__(self, table: Table, form: RecordForm, prints: PagePrints | None) -> None:
        self.places = form.places if can_copy_in_ranges(table) else []
        self._form = form
        self._prints = prints
        self._whole: Packets | None = None
        if prints is not None and not self.places:
            self._whole = Packets(prints, form.width)

    def add(
        self,
        records: Sequence[bytes],
        sums: Sequence[int],
        pages: Sequence[tuple[int, str]],
        but: Collection[str] = (),
    ) -> None:
        """Take some more rows, and what each adds to a digest. Of each of their pages it is told how many it has, and
        its digest; of those ``but`` some, it is remembered what they look like. Raises ValueError or TypeError where
        a key is no whole number."""
        prints = self._prints
        if self._whole is not None:
            self._whole.add(records, sums)
        if prints is None or not self.places:
            return
        prints.know(digest for _, digest in pages)
        begin = 0
        for rows, digest in pages:
            end = begin + rows
            if digest not in but and prints.of(digest) is None:
                part = records[begin:end]
                key = partial(_key_of, self._form, part)
                prints.look_at(digest, part, self._form.width, sums[begin:end], key, self.places)
            begin = end

    def end(self) -> None:
        """These were all."""
        if self._whole is not None:
            self._whole.learn()
        if self._prints is not None:
            self._prints.keep()


class PageMaker:
    """Makes pages of all rows of a table, or of a range of its key, as they come. Those of a table that does not go
    by key have no key. ``prints`` remember what they look like, or all of them together; ``mixed``: the records
    hold other values than bytes."""

    def __init__(self, table: Table, prints: PagePrints | None = None, *, mixed: bool) -> None:
        self._form = RecordForm(table, mixed=mixed)
        self._looks = _Looks(table, self._form, prints)

    def of(self, records: Sequence[bytes], size: int) -> tuple[tuple[Page, ...], tuple[int, ...]]:
        """The pages of some more rows, and what each row adds to a digest; no pages where a key is no whole number.
        ``size`` is that of these rows in bytes."""
        sums = sums_of_records(records)
        with contextlib.suppress(ValueError, TypeError):  # some engines take texts for numbers
            pages = tuple(self._pages(records, size, sums))
            self._looks.add(records, sums, [(page.rows, page.digest) for page in pages])
            return pages, sums
        return (), sums

    def _pages(self, records: Sequence[bytes], size: int, sums: Sequence[int]) -> Iterator[Page]:
        rows = rows_of_a_page(len(records), size)
        for at in range(0, len(records), rows):
            some = sums[at : at + rows]
            upto = self._form.key(records[at + len(some) - 1]) if self._looks.places else ()
            yield Page(upto, len(some), digest_of_sums(some))

    def end(self) -> None:
        """These were all: what they look like is remembered."""
        self._looks.end()


def _key_of(form: RecordForm, records: Sequence[bytes], row: int) -> tuple[int, ...]:
    return form.key(records[row])


def with_pages(
    table: Table, batches: Iterable[Batch], prints: PagePrints | None = None
) -> Iterator[Batch]:
    """Pass batches on, each with the pages that its rows make (``PageMaker``); their cells may be changed
    thereafter."""
    maker: PageMaker | None = None
    for batch in batches:
        if maker is None:
            maker = PageMaker(table, prints, mixed=batch.mixed)
        batch.pages, batch.sums = maker.of(records_as_read(batch), batch.size)
        yield batch
    if maker is not None:
        maker.end()


def rows_of_a_page(count: int, size: int) -> int:
    """How many of so many rows, of ``size`` bytes together, make a page."""
    rows = max(1, min(PAGE_ROWS, _PAGE_BYTES * count // max(1, size)))
    return rows - rows % ALIGNED if rows > ALIGNED else rows


class PagesAfter:
    """Tells what the pages of a table become, whose rows get other values on their way. With ``prints``, those of the
    database that the rows go to, it is remembered what they will look like there; ``before`` are those of where they
    come from."""

    def __init__(
        self, table: Table, prints: PagePrints | None = None, before: PagePrints | None = None
    ) -> None:
        self._looks = _Looks(table, RecordForm(table, mixed=False), prints)
        self._looking = prints is not None
        # What is as it was is known by then, where both are remembered together.
        self._shared = before is not None and prints is not None and prints.shares(before)

    def of(self, batch: Batch) -> list[Page]:
        """The pages of a batch, each with the digest of its rows as they are now."""
        sums = self._sums(batch)
        pages, begin = [], 0
        for page in batch.pages:
            end = begin + page.rows
            became = digest_of_sums(sums[begin:end]) if batch.altered else page.digest
            pages.append(replace(page, became=became))
            begin = end
        if self._looking and pages and not batch.mixed:
            self._looks.add(
                current_records(batch),
                sums,
                [(page.rows, page.became) for page in pages],
                but={page.digest for page in pages} if self._shared else (),
            )
        return pages

    @staticmethod
    def _sums(batch: Batch) -> Sequence[int]:
        """What each row adds to a digest now."""
        if not batch.altered:
            return batch.sums
        sums, rows, records = [*batch.sums], sorted(batch.altered), current_records(batch)
        for row, now in zip(rows, sums_of_records([records[row] for row in rows]), strict=True):
            sums[row] = now
        return sums

    def end(self) -> None:
        """These were all: what they look like is remembered."""
        self._looks.end()


def spans(pages: Sequence[Page]) -> list[KeyRange]:
    """The range of each of some pages that follow one another from the table's beginning."""
    found, after = [], None
    for page in pages:
        found.append(KeyRange(after, page.upto))
        after = page.upto
    return found
