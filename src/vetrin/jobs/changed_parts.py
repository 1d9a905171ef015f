"""The parts in which pages differ, with their rows."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from msgspec.structs import replace

from ..database import KeyRanges, Part, Reader, WantedRows, joint_ranges
from .baseline_edits import between

RANGES = 64  # stretches that one question asks for


def with_records(
    reader: Reader,
    wanted: WantedRows,
    parts: Mapping[int, Sequence[Part]],
    key: Callable[[bytes], tuple[int, ...]],
) -> dict[int, list[Part]]:
    """Parts of some pages, by the page's number and in the order of the key, with the rows of those that lack them
    read as ``wanted`` of the table. ``key`` tells the key of a record. Raises DatabaseError."""
    lacking = [part.key_range for some in parts.values() for part in some if part.records is None]
    records: list[bytes] = []
    for at in range(0, len(lacking), RANGES):
        ranges = lacking[at : at + RANGES]
        some = replace(wanted, key_range=KeyRanges(tuple(joint_ranges(ranges, len(ranges)))))
        records += [record for stretch in some.records_by(reader) for record in stretch]
    return {
        number: [
            part
            if part.records is not None
            else part._replace(records=records[between(records, part.key_range, key)])
            for part in some
        ]
        for number, some in parts.items()
    }
