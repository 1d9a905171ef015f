"""Identifiers as SQLite reads them."""

from __future__ import annotations


def quote(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'
