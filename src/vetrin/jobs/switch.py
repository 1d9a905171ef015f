"""What a run exchanges at the moment in which its target changes over, as a plain value.

The journal of the project holds it, and for as long as the target is neither old nor new a record beside the
target does, so that whoever looks there is told, from whichever machine, and can put it right.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, TypeVar

from msgspec import Struct
from msgspec.structs import asdict, replace

from ..database import Attachment, Exchange, Patch, Recount
from ..database.conditions import as_json, of_json
from ..files import Move

Item = TypeVar("Item", Exchange, Attachment, Move, Patch)


class Switch(Struct, frozen=True):
    """Tables, what hangs on them, files and rows that change over together.

    ``held`` is the path of the file that holds visitors off meanwhile, empty where there is none. ``recounts`` are
    made with the patches.
    """

    exchanges: tuple[Exchange, ...] = ()
    detach: tuple[Attachment, ...] = ()
    attach: tuple[Attachment, ...] = ()
    moves: tuple[Move, ...] = ()
    patches: tuple[Patch, ...] = ()
    held: str = ""
    recounts: tuple[Recount, ...] = ()

    @property
    def nothing(self) -> bool:
        return not (self.exchanges or self.moves or self.patches)

    def as_json(self) -> dict[str, Any]:
        """By name, so that a field more or less is no other meaning."""
        return {
            "exchanges": [asdict(item) for item in self.exchanges],
            "detach": [asdict(item) for item in self.detach],
            "attach": [asdict(item) for item in self.attach],
            "moves": [asdict(item) for item in self.moves],
            "patches": [asdict(item) for item in self.patches],
            "held": self.held,
            "recounts": [{**asdict(item), "where": as_json(item.where)} for item in self.recounts],
        }

    @classmethod
    def of_json(cls, data: Mapping[str, Any]) -> Switch:
        """Raises KeyError, TypeError or ValueError where it is none."""
        return cls(
            _items(Exchange, data["exchanges"]),
            _items(Attachment, data["detach"]),
            _items(Attachment, data["attach"]),
            _items(Move, data["moves"]),
            _items(Patch, data.get("patches") or ()),
            str(data.get("held") or ""),
            tuple(
                Recount(
                    **{
                        **item,
                        "where": of_json(item["where"]),
                        "keys": tuple(map(int, item["keys"])),
                    }
                )
                for item in data.get("recounts") or ()
            ),
        )


def _items(kind: type[Item], data: Any) -> tuple[Item, ...]:
    """Values as they were written; older journals hold their fields in order, without names."""
    known = kind.__struct_fields__
    found = []
    for item in data:
        named = item if isinstance(item, dict) else dict(zip(known, item, strict=False))
        found.append(kind(**{name: named[name] for name in known if name in named}))
    return tuple(found)


def own_again(found: Iterable[Attachment]) -> list[Attachment]:
    """What hangs on a target's own tables, to be put back as it is: what it may not do elsewhere it does here."""
    return [replace(item, lost="") if item.sql else item for item in found]
