"""Writing values as PHP's ``serialize`` does, for the demo's settings."""

from __future__ import annotations


def serialise(value: object) -> str:
    """The serialised text of None, bool, int, float, str, list or dict; lengths count bytes."""
    if value is None:
        return "N;"
    if isinstance(value, bool):
        return f"b:{int(value)};"
    if isinstance(value, int):
        return f"i:{value};"
    if isinstance(value, float):
        return f"d:{value!r};"
    if isinstance(value, str):
        return f's:{len(value.encode())}:"{value}";'
    if isinstance(value, dict):
        items = list(value.items())
    elif isinstance(value, list):
        items = list(enumerate(value))
    else:
        raise TypeError(f"{type(value).__name__} is nothing that PHP serialises")
    body = "".join(serialise(key) + serialise(item) for key, item in items)
    return f"a:{len(items)}:{{{body}}}"
