"""[store]: where snapshots are kept, whether under a passphrase, and which of them stay."""

from __future__ import annotations

import re
from collections.abc import Mapping

import msgspec
from msgspec import Struct
from msgspec.structs import asdict

from ..errors import ProjectError
from .known_names import known_keys

_SPAN = re.compile(r"(\d+)\s*(day|week|month|year)s?$")
_DAYS = {"day": 1, "week": 7, "month": 31, "year": 366}
_SIZE = re.compile(r"(\d+(?:\.\d+)?)\s*([kMGT]?)B$")
_UNITS = {"": 1, "k": 10**3, "M": 10**6, "G": 10**9, "T": 10**12}
_COUNTS = ("newest", "daily", "weekly", "monthly")


class Thinning(Struct, frozen=True):
    """``newest``: that many stay. ``daily``, ``weekly``, ``monthly``: the last one of each of so many of
    the latest days, weeks and months that have any. Without any of these four all stay, but for what
    ``age`` (days) and ``size`` (bytes of the whole store) forbid."""

    newest: int | None = None
    daily: int | None = None
    weekly: int | None = None
    monthly: int | None = None
    age: int | None = None
    size: int | None = None

    def __bool__(self) -> bool:
        return any(value is not None for value in asdict(self).values())


class StoreRule(Struct, frozen=True):
    """``place`` is a folder, or the address of one elsewhere; empty is the project's own. ``before``:
    what a push to production replaces is kept first."""

    place: str = ""
    passphrase: bool = False
    before: bool = True
    thin: Thinning = msgspec.field(default_factory=Thinning)


def read_store(data: object) -> StoreRule:
    """Raises ProjectError where it is not well formed."""
    if not isinstance(data, Mapping):
        raise ProjectError("[store]: write it as a table")
    known_keys(data, ("place", "passphrase", "before-push", "thin"), "[store]")
    place = data.get("place", "")
    if not isinstance(place, str):
        raise ProjectError(
            "[store] place: write a folder, or an address such as sftp://host/folder"
        )
    for key in ("passphrase", "before-push"):
        if not isinstance(data.get(key, True), bool):
            secret = (
                "; the passphrase itself does not belong into this file"
                if key == "passphrase"
                else ""
            )
            raise ProjectError(f"[store] {key}: write true or false{secret}")
    return StoreRule(
        place,
        data.get("passphrase", False),
        data.get("before-push", True),
        _thin(data.get("thin", {})),
    )


def _thin(data: object) -> Thinning:
    where = "[store.thin]"
    if not isinstance(data, Mapping):
        raise ProjectError(f"{where}: write it as a table")
    known_keys(data, (*_COUNTS, "age", "size"), where)
    found: dict[str, int] = {}
    for key in _COUNTS:
        value = data.get(key)
        if value is None:
            continue
        if not isinstance(value, int) or isinstance(value, bool) or value < 0:
            raise ProjectError(f"{where} {key}: write how many snapshots stay")
        found[key] = value
    if "age" in data:
        match = _SPAN.match(str(data["age"]))
        if match is None:
            raise ProjectError(
                f'{where} age: write a time such as "90 days", "8 weeks" or "1 year"'
            )
        found["age"] = int(match[1]) * _DAYS[match[2]]
    if "size" in data:
        amount = _SIZE.match(str(data["size"]))
        if amount is None:
            raise ProjectError(f'{where} size: write an amount such as "20 GB"')
        found["size"] = int(float(amount[1]) * _UNITS[amount[2]])
    return Thinning(**found)
