"""The documents of --json, held to their schemas. In the tests nothing may be in one that its schema does not name."""

from __future__ import annotations

import json
from functools import cache
from importlib import resources
from typing import Any

from jsonschema import Draft202012Validator
from referencing import Registry, Resource

FOLDER = resources.files("vetrin") / "schemas"


@cache
def schemas() -> dict[str, dict[str, Any]]:
    """All schemas by the names of their files."""
    found = {}
    for item in sorted(FOLDER.iterdir(), key=lambda item: item.name):
        if item.name.endswith(".json"):
            found[item.name] = json.loads(item.read_text(encoding="utf-8"))
    return found


def _strict(schema: Any) -> Any:
    """The same schema, which permits no property that it does not name."""
    if isinstance(schema, list):
        return [_strict(item) for item in schema]
    if not isinstance(schema, dict):
        return schema
    found = {key: _strict(value) for key, value in schema.items()}
    if "properties" in schema and "additionalProperties" not in schema and "type" in schema:
        found["additionalProperties"] = False
    return found


@cache
def _validator(name: str) -> Draft202012Validator:
    strict = {name: _strict(schema) for name, schema in schemas().items()}
    registry = Registry().with_resources(
        [(name, Resource.from_contents(schema)) for name, schema in strict.items()]
    )
    return Draft202012Validator(strict[name], registry=registry)


def held(document: dict[str, Any]) -> dict[str, Any]:
    """The document, which is as its schema says."""
    kind = document["schema"].split("/")[1]
    errors = sorted(_validator(f"{kind}.json").iter_errors(document), key=str)
    assert not errors, "\n".join(
        f"{kind}: {'.'.join(map(str, error.absolute_path))}: {error.message[:300]}"
        for error in errors
    )
    return document


def held_event(line: str) -> dict[str, Any]:
    """A line of --events, which is as its schema says."""
    event = json.loads(line)
    errors = list(_validator("event.json").iter_errors(event))
    assert not errors, errors
    return dict(event)
