"""[merge] of vetrin.toml: who wins where both sides changed something, and what a site's own tables refer to."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from typing import Any

from msgspec.structs import replace

from ..cms import Definition
from ..cms.rules import (
    DistinctRule,
    LinkRule,
    MergeRule,
    NaturalRule,
    NumberedRule,
    ReferenceRule,
    SetRule,
    VisitorsRule,
    read_rule,
)
from ..errors import DefinitionError, ProjectError
from .known_names import known_keys, nearest

_RULES: dict[str, tuple[str, type[Any]]] = {
    "link": ("links", LinkRule),
    "reference": ("references", ReferenceRule),
    "natural": ("naturals", NaturalRule),
    "set": ("sets", SetRule),
    "distinct": ("distinct", DistinctRule),
    "numbered": ("numbered", NumberedRule),
    "visitors": ("visitors", VisitorsRule),
}
_LISTS = ("own", "leave", "texts")


def read_prefer(data: object, environments: Collection[str]) -> Mapping[str, str]:
    """Which environment wins where, by what it is. Raises ProjectError."""
    part = _table(data).get("prefer", {})
    if not isinstance(part, dict) or not all(isinstance(name, str) for name in part.values()):
        raise ProjectError("[merge.prefer]: write names of environments, by what they win in")
    for what, name in part.items():
        if name not in environments:
            raise ProjectError(
                f"[merge.prefer] {what!r}: there is no environment {name!r}{nearest(name, [*environments])}"
            )
    return dict(part)


def with_merge(definition: Definition, data: object) -> Definition:
    """A definition with what [merge] of a project adds to it. Raises ProjectError."""
    part = _table(data)
    more: dict[str, Any] = {}
    try:
        for key, (field, rule) in _RULES.items():
            items = part.get(key, [])
            if not isinstance(items, list):
                raise ProjectError(f"[merge]: write [[merge.{key}]]")
            found = tuple(read_rule(rule, item, f"[[merge.{key}]]") for item in items)
            # What a project says comes first: it knows its own tables.
            more[field] = (*found, *getattr(definition, field))
    except DefinitionError as error:
        raise ProjectError(str(error)) from error
    lists: dict[str, Any] = {}
    for key in _LISTS:
        names = part.get(key, [])
        if not isinstance(names, list) or not all(isinstance(name, str) for name in names):
            raise ProjectError(f"[merge] {key}: write a list of names")
        lists[key] = (*getattr(definition.merge, key), *names)
    merged: MergeRule = replace(definition.merge, **lists)
    return replace(definition, merge=merged, **more)


def _table(data: object) -> dict[str, Any]:
    if not isinstance(data, dict):
        raise ProjectError("[merge]: write it as a table")
    known_keys(data, ("prefer", *_LISTS, *_RULES), "[merge]")
    return data
