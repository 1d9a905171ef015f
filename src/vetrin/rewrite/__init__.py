"""Rewriting addresses, paths and literals in bytes: the heart of the tool, pure and on its own."""

from .address import Address
from .mapping import DiskPath, Mapping, Pair, parse_literal, parse_pair
from .rewriter import Rewriter, Tally
from .scanner import Match, Scanner

__all__ = [
    "Address",
    "DiskPath",
    "Mapping",
    "Match",
    "Pair",
    "Rewriter",
    "Scanner",
    "Tally",
    "parse_literal",
    "parse_pair",
]
