"""What is rewritten into what between two environments."""

from __future__ import annotations

from ..remark import Remark
from ..rewrite import Address, Mapping
from .site import ReadableSite

# Whose address an archive speaks that does not tell it.
UNKNOWN = Address.parse("http://unknown.invalid")


def mapping_for(
    source: ReadableSite,
    target: ReadableSite,
    notes: list[Remark],
    root: str = "",
    address: Address | None = None,
) -> Mapping:
    """All addresses and roots of the source, onto the target's; ``root`` is where the target was, if elsewhere, and
    ``address`` what it had then.

    Addresses that the source's own settings hold count as its own, even where the project does not
    list them, unless they belong to another environment.
    """
    addresses: list[Address] = [
        address
        for address in source.environment.addresses
        if address not in target.environment.addresses and address != UNKNOWN
    ]
    for where, recorded in source.recorded_addresses():
        if any(known.covers(recorded) for known in addresses):
            continue
        if any(known.covers(recorded) for known in target.environment.addresses):
            continue
        addresses.append(recorded)
        notes.append(
            Remark(
                "recorded-address",
                f"{source.environment.name} calls itself {recorded} (its {where}); "
                "that is rewritten as well",
            )
        )
    return Mapping.build(
        addresses=addresses,
        address=address or target.environment.address,
        roots=source.roots,
        root=root or str(target.root),
        bare_host=source.environment.bare_host,
    )
